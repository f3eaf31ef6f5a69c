//! Is it encrypted, and is the key right? Answered by the files themselves: many begin with bytes that their
//! names let expect.

use decanter_core::format::{State, looks_random};
use decanter_core::source::{Source, SourceRef};
use decanter_core::tree::{Node, Tree};
use decanter_core::{Error, Result, SECTOR};
use std::ops::Range;

/// Files that are looked at.
const MOST_PROBES: usize = 16;
/// Sectors of files without known first bytes that are looked at.
const MOST_SAMPLES: usize = 24;

/// File names (a whole name, or an extension with its dot, in capitals) and the bytes that such files begin with.
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
}

/// The files to look at, those at the front of the disc first: in a compressed source they are cheapest.
fn probes<'a>(tree: &'a Tree, encrypted: &[Range<u64>], len: u64) -> Vec<Probe<'a>> {
    let probe = |(node, file): (&'a Node, &decanter_core::tree::File)| {
        let offset = file.spans.first()?.start;
        let within = encrypted.iter().any(|r| r.contains(&offset)) && offset + SECTOR <= len;
        let magic = expected(node.name())?;
        (within && file.len >= magic.len() as u64).then_some(Probe { path: &node.path, offset, magic })
    };
    let mut probes: Vec<_> = tree.files().filter_map(probe).collect();
    probes.sort_by_key(|p| p.offset);
    probes.dedup_by_key(|p| p.offset);
    probes.truncate(MOST_PROBES);
    probes
}

fn expected(name: &str) -> Option<&'static [u8]> {
    let name = name.to_ascii_uppercase();
    let fits = |known: &str| if known.starts_with('.') { name.ends_with(known) } else { name == known };
    MAGICS.iter().find(|(known, _)| fits(known)).map(|(_, magic)| *magic)
}

/// Holds the files' first bytes, as `view` shows them, against what they should be.
pub(super) fn look(view: &dyn Source, tree: &Tree, encrypted: &[Range<u64>]) -> Result<Finding> {
    let mut finding = Finding { right: Vec::new(), looked: 0 };
    for probe in probes(tree, encrypted, view.len()) {
        let mut head = [0; 16];
        view.read_at(probe.offset, &mut head)?;
        finding.looked += 1;
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
    if finding.looked > 0 {
        let text = format!("none of {} known files begins as it does when decrypted", finding.looked);
        return Ok((State::Encrypted, text));
    }
    let (even, sampled) = sample(image.as_ref(), tree, encrypted)?;
    Ok(match (even, sampled) {
        (_, 0) => (State::Unclear, "there is no data in the encrypted regions to tell it by".into()),
        (even, all) if even == all => (State::Encrypted, format!("{all} sampled sectors all look like noise")),
        (even, all) => (State::Decrypted, format!("{} of {all} sampled sectors are no noise", all - even)),
    })
}

/// Sectors of files in the encrypted regions that look like noise, and sectors looked at.
fn sample(image: &dyn Source, tree: &Tree, encrypted: &[Range<u64>]) -> Result<(usize, usize)> {
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
    let (mut even, mut sampled) = (0, 0);
    for start in starts.into_iter().step_by(step) {
        let mut sector = [0; SECTOR as usize];
        image.read_at(start, &mut sector)?;
        sampled += 1;
        even += usize::from(looks_random(&sector));
    }
    Ok((even, sampled))
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

/// Tries the key behind `view`.
pub(super) fn try_key(view: &SourceRef, tree: &Tree, encrypted: &[Range<u64>]) -> Result<Verdict> {
    let finding = match look(view.as_ref(), tree, encrypted) {
        Err(Error::PastEnd { .. }) => return Ok(Verdict::Unproven),
        other => other?,
    };
    if let Some(path) = finding.right.first() {
        return Ok(Verdict::Right(path.clone()));
    }
    if finding.looked > 0 {
        return Ok(Verdict::Wrong);
    }
    let (even, sampled) = sample(view.as_ref(), tree, encrypted)?;
    Ok(match (even, sampled) {
        (_, 0) => Verdict::Unproven,
        (even, all) if even < all => {
            Verdict::Right(format!("{} of {all} sampled sectors that are no longer noise", all - even))
        }
        _ => Verdict::Unproven,
    })
}
