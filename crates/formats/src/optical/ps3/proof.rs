//! Is it encrypted, and is the key right? Answered by the files themselves: many begin with bytes that their
//! names let expect.

use decanter_core::format::looks_random;
use decanter_core::protection::State;
use decanter_core::source::{Source, SourceRef};
use decanter_core::tree::{Node, Tree};
use decanter_core::{Error, Result, SECTOR};
use std::ops::Range;

/// Files that are looked at.
const MOST_PROBES: usize = 16;
/// Files that are looked at in a compressed source, where each of them may mean to inflate all that stands before it.
const MOST_SLOW_PROBES: usize = 4;
/// Sectors of files without known first bytes that are looked at.
const MOST_SAMPLES: usize = 24;

/// So many of the magics below are sure; the others are only likely.
const SURE: usize = 8;

/// File names (a whole name, or an extension with its dot, in capitals) and the bytes that such files begin with,
/// those first that hardly ever begin otherwise.
const MAGICS: [(&str, &[u8]); 23] = [
    ("EBOOT.BIN", b"SCE\0"),
    (".SELF", b"SCE\0"),
    (".SPRX", b"SCE\0"),
    ("LIC.DAT", b"PS3LICDA"),
    ("PS3_DISC.SFB", b".SFB"),
    (".SFO", b"\0PSF"),
    (".TRP", &[0xdc, 0xa2, 0x4d, 0x00]),
    (".PNG", b"\x89PNG\r\n\x1a\n"),
    (".EDAT", b"NPD\0"),
    (".SDAT", b"NPD\0"),
    (".PAM", b"PAMF"),
    (".AT3", b"RIFF"),
    (".WAV", b"RIFF"),
    (".XML", b"<?xml"),
    (".JPG", b"\xff\xd8\xff\xe0"),
    (".DDS", b"DDS "),
    (".OGG", b"OggS"),
    (".ZIP", b"PK\x03\x04"),
    (".BIK", b"BIKi"),
    (".MSF", b"MSF"),
    (".ELF", b"\x7fELF"),
    (".PUP", b"SCEUF\0\0\0"),
    (".TTF", &[0, 1, 0, 0]),
];

/// A file in an encrypted region whose first bytes are known.
struct Probe<'a> {
    /// 0 for a sure magic, more for likely ones.
    rank: usize,
    path: &'a str,
    offset: u64,
    magic: &'static [u8],
}

/// What the files say about one way of reading the image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Finding {
    /// Files whose first bytes are as expected.
    pub(super) right: Vec<String>,
    /// Files looked at.
    pub(super) looked: usize,
    /// How many of those have a sure magic.
    sure: usize,
}

/// The files to look at: the surest first, and of those the ones at the front of the disc, which are cheapest in a
/// compressed source.
fn probes<'a>(view: &dyn Source, tree: &'a Tree, encrypted: &[Range<u64>]) -> Vec<Probe<'a>> {
    let len = view.len();
    let probe = |(node, file): (&'a Node, &decanter_core::tree::File)| {
        let offset = file.spans.first()?.start;
        let within = encrypted.iter().any(|r| r.contains(&offset)) && offset + SECTOR <= len;
        let (rank, magic) = expected(node.name())?;
        (within && file.len >= magic.len() as u64).then_some(Probe {
            rank: rank / SURE,
            path: &node.path,
            offset,
            magic,
        })
    };
    let mut probes: Vec<_> = tree.files().filter_map(probe).collect();
    probes.sort_by_key(|p| (p.rank, p.offset));
    probes.dedup_by_key(|p| p.offset);
    probes.truncate(if view.prefers_sequential() { MOST_SLOW_PROBES } else { MOST_PROBES });
    probes
}

fn expected(name: &str) -> Option<(usize, &'static [u8])> {
    let name = name.to_ascii_uppercase();
    let fits = |known: &str| if known.starts_with('.') { name.ends_with(known) } else { name == known };
    MAGICS.iter().enumerate().find(|(_, (known, _))| fits(known)).map(|(rank, (_, magic))| (rank, *magic))
}

/// Holds the files' first bytes, as `view` shows them, against what they should be.
pub(super) fn look(view: &dyn Source, tree: &Tree, encrypted: &[Range<u64>]) -> Result<Finding> {
    let mut finding = Finding { right: Vec::new(), looked: 0, sure: 0 };
    for probe in probes(view, tree, encrypted) {
        let mut head = [0; 16];
        view.read_at(probe.offset, &mut head)?;
        finding.looked += 1;
        finding.sure += usize::from(probe.rank == 0);
        if head.starts_with(probe.magic) {
            finding.right.push(probe.path.to_owned());
            // Four bytes are right by chance once in 4,294,967,296 keys; two such files settle it.
            if finding.right.len() == 2 {
                break;
            }
        }
    }
    Ok(finding)
}

/// Whether the encrypted regions of `image`, as it stands, hold ciphertext, and what shows it.
pub(super) fn state(image: &SourceRef, tree: &Tree, encrypted: &[Range<u64>]) -> Result<(State, String)> {
    if encrypted.is_empty() {
        return Ok((State::Decrypted, "the region table has no encrypted region".into()));
    }
    let finding = look(image.as_ref(), tree, encrypted)?;
    if let Some(path) = finding.right.first() {
        return Ok((State::Decrypted, format!("{path} begins as such files do")));
    }
    let told = |looked| format!("none of {looked} known files begins as it does when decrypted");
    if finding.sure > 0 {
        return Ok((State::Encrypted, told(finding.looked)));
    }
    // A name may mislead; what the bytes look like as a whole does not, if there is enough of it. Sectors of equal bytes
    // say nothing: a reader may have filled them in.
    let sectors = sample(image.as_ref(), tree, encrypted)?;
    let all = sectors.len();
    let open = sectors.iter().filter(|(_, s)| !looks_random(s) && s.iter().any(|b| *b != s[0])).count();
    let needed = if finding.looked > 0 { all / 2 + 1 } else { 1 };
    Ok(if all > 0 && open >= needed {
        (State::Decrypted, format!("{open} of {all} sampled sectors are no noise"))
    } else if finding.looked > 0 {
        (State::Encrypted, told(finding.looked))
    } else if all > 0 {
        (State::Encrypted, format!("{all} sampled sectors look like noise or are blank"))
    } else {
        (State::Unclear, "there is no data in the encrypted regions to tell it by".into())
    })
}

/// First sectors of files in the encrypted regions, with their offsets, spread over the disc.
fn sample(image: &dyn Source, tree: &Tree, encrypted: &[Range<u64>]) -> Result<Vec<(u64, Vec<u8>)>> {
    let mut starts: Vec<u64> = tree
        .files()
        .flat_map(|(_, f)| &f.spans)
        .filter(|s| s.end - s.start >= SECTOR && encrypted.iter().any(|r| r.contains(&s.start)))
        .map(|s| s.start)
        .filter(|s| s + SECTOR <= image.len())
        .collect();
    starts.sort_unstable();
    starts.dedup();
    let step = starts.len().div_ceil(MOST_SAMPLES).max(1);
    let read = |start: u64| {
        let mut sector = vec![0; SECTOR as usize];
        image.read_at(start, &mut sector)?;
        Ok((start, sector))
    };
    starts.into_iter().step_by(step).map(read).collect()
}

/// What a candidate key makes of the image.
pub(super) enum Verdict {
    /// It is right, and the file that shows it.
    Right(String),
    /// It is wrong.
    Wrong,
    /// There is nothing to tell it by.
    Unproven,
}

/// Tries the key behind `view`, which decrypts `image`.
pub(super) fn try_key(image: &SourceRef, view: &SourceRef, tree: &Tree, encrypted: &[Range<u64>]) -> Result<Verdict> {
    let finding = match look(view.as_ref(), tree, encrypted) {
        Err(Error::PastEnd { .. }) => return Ok(Verdict::Unproven),
        other => other?,
    };
    if let Some(path) = finding.right.first() {
        return Ok(Verdict::Right(path.clone()));
    }
    // Only the right key turns noise into something else.
    let (mut noise, mut opened) = (0, 0);
    for (start, _) in sample(image.as_ref(), tree, encrypted)?.iter().filter(|(_, s)| looks_random(s)) {
        let mut clear = [0; SECTOR as usize];
        view.read_at(*start, &mut clear)?;
        noise += 1;
        opened += usize::from(!looks_random(&clear));
    }
    Ok(if opened > 0 {
        Verdict::Right(format!("{opened} of {noise} sampled sectors that are no longer noise"))
    } else if finding.looked > 0 {
        Verdict::Wrong
    } else {
        Verdict::Unproven
    })
}
