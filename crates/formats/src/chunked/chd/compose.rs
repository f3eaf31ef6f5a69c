//! New images of version 5: every hunk by the codec that makes it shortest, what repeats only once, the map at the end.

use super::cd;
use super::codec::{Codec, HunkPacker, UNIT};
use super::header::{Entry, LEN_5, MAGIC, overall, write_metadata};
use super::map::{self, Crc16, kind};
use decanter_core::blueprint::{Blueprint, PackWorker, Packer, Weeder};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::SourceRef;
use decanter_core::track::Track;
use decanter_core::view::{Concat, Fill};
use decanter_core::{Error, Result, SECTOR};
use std::collections::HashMap;
use std::sync::Arc;
use xxhash_rust::xxh3::xxh3_128;

/// Effort of zstd.
pub const LEVEL: i32 = 12;
/// Bytes that one thread packs at a time.
const BATCH: usize = 1 << 20;
/// Hunks of a new image before they are made larger: the map stays small enough to be held.
const MOST_HUNKS: u64 = 2 << 20;
/// Different hunks that are remembered.
const MOST_KNOWN: usize = 1 << 19;
/// Words that a packer tells of a hunk: its word of the map, its CRC-16, what it is filled with, and the words of its name.
const MARK: usize = 3 + NAME;
/// Words of a hunk's name: a SHA-1, or a shorter hash that is only a hint.
const NAME: usize = 5;
/// What stands for hunks that are not filled with one value.
const MIXED: u32 = u32::MAX;

/// What kind of medium the image is of.
pub enum Medium<'a> {
    /// A hard disk, with sectors of 512 bytes.
    HardDisk(SourceRef),
    /// A DVD.
    Dvd(SourceRef),
    /// A CD.
    Cd(&'a [Track]),
}

/// How it is made.
pub struct Wish {
    /// Codecs to choose from, at most four.
    pub codecs: Vec<Codec>,
    /// Effort of zstd, 1 to 22.
    pub level: i32,
    /// Bytes of a hunk, if not what is usual.
    pub hunk_len: Option<u32>,
    /// Overall SHA-1 and bytes of the image that this becomes a difference to.
    pub parent: Option<([u8; 20], SourceRef)>,
}

/// A new image; also the bytes that it holds.
///
/// # Errors
/// [`Error::Usage`] for hunks that are no whole sectors, [`Error::Unsupported`] for sectors that have no name there.
pub fn compose(medium: &Medium<'_>, wish: Wish) -> Result<(Blueprint, SourceRef)> {
    let (body, unit_len, usual, entries) = match medium {
        Medium::HardDisk(source) => {
            let over = source.len().next_multiple_of(512) - source.len();
            let fill: SourceRef = Arc::new(Fill { byte: 0, len: over });
            let body: SourceRef =
                if over > 0 { Arc::new(Concat::new(vec![source.clone(), fill])?) } else { source.clone() };
            let (cylinders, heads, own) = geometry(body.len() / 512);
            let entry = Entry::text(b"GDDD", &format!("CYLS:{cylinders},HEADS:{heads},SECS:{own},BPS:512"));
            (body, 512, 4096, vec![entry])
        }
        Medium::Dvd(source) => (source.clone(), SECTOR as u32, 4096, vec![Entry::text(b"DVD ", "")]),
        Medium::Cd(tracks) => {
            let (body, entries) = cd::compose(tracks)?;
            (body, UNIT as u32, 8 * UNIT as u32, entries)
        }
    };
    let len = body.len();
    let mut hunk_len = wish.hunk_len.unwrap_or(usual);
    while wish.hunk_len.is_none() && len.div_ceil(hunk_len.into()) > MOST_HUNKS {
        hunk_len *= 2;
    }
    if hunk_len == 0 || !hunk_len.is_multiple_of(unit_len) || hunk_len > super::header::MOST_HUNK {
        return Err(Error::Usage(format!("hunks of {hunk_len} bytes are not made of whole units of {unit_len}")));
    }
    let count = len.div_ceil(hunk_len.into());
    if count >= u64::from(kind::MASK) {
        return Err(Error::Usage(format!("{count} hunks are too many: make them larger with --hunk")));
    }
    let metadata = write_metadata(&entries, LEN_5);
    let lead_len = LEN_5 + metadata.len() as u64;
    let parent_sha1 = wish.parent.as_ref().map_or([0; 20], |(sha1, _)| *sha1);
    let tags: Vec<u8> = (0..4).flat_map(|i| wish.codecs.get(i).map_or([0; 4], |c| c.tag().0)).collect();

    let mut blueprint = Blueprint::new();
    let lead = blueprint.late(lead_len);
    let packer = ChdPacker { wish, hunk_len, unit_len, body: body.clone() };
    let packed = blueprint.packed(body.clone(), Arc::new(packer));
    blueprint.measure(packed, Algorithm::Sha1);
    let tail = blueprint.tail(map::most_len(count));
    blueprint.compute(
        lead,
        &[packed],
        Arc::new(move |known| {
            let raw = known.digest(packed, Algorithm::Sha1)?;
            let map_at = lead_len + map::stored(known.marks(packed), hunk_len);
            let mut bytes = MAGIC.to_vec();
            bytes.extend((LEN_5 as u32).to_be_bytes());
            bytes.extend(5u32.to_be_bytes());
            bytes.extend(&tags);
            bytes.extend(len.to_be_bytes());
            bytes.extend(map_at.to_be_bytes());
            bytes.extend(LEN_5.to_be_bytes());
            bytes.extend(hunk_len.to_be_bytes());
            bytes.extend(unit_len.to_be_bytes());
            bytes.extend(raw);
            bytes.extend(overall(raw, &entries));
            bytes.extend(parent_sha1);
            bytes.extend(&metadata);
            Ok(bytes)
        }),
    )?;
    blueprint.compute(
        tail,
        &[packed],
        Arc::new(move |known| Ok(map::write(known.marks(packed), lead_len, hunk_len, unit_len))),
    )?;
    Ok((blueprint, body))
}

/// Cylinders, heads and sectors of a track that a drive can have: what its registers hold.
const MOST_CYLINDERS: u64 = 65_535;
const MOST_HEADS: u64 = 16;
const MOST_SECTORS: u64 = 255;

/// Cylinders, heads and sectors of a track that multiply to so many sectors, as far as a drive can have them; else those
/// that drives tell that are only addressed by sector numbers.
pub fn geometry(sectors: u64) -> (u64, u64, u64) {
    let usual = [(16, 63), (16, 32), (8, 32), (4, 32), (2, 32), (1, 32), (1, 16)];
    let others = || (1..=MOST_SECTORS).rev().flat_map(|own| (1..=MOST_HEADS).rev().map(move |heads| (heads, own)));
    let fits = |(heads, own): &(u64, u64)| {
        let track = heads * own;
        sectors.is_multiple_of(track) && (1..=MOST_CYLINDERS).contains(&(sectors / track))
    };
    match usual.into_iter().find(fits).or_else(|| others().find(fits)) {
        Some((heads, own)) => (sectors / (heads * own), heads, own),
        None => (16_383, 16, 63),
    }
}

struct ChdPacker {
    wish: Wish,
    hunk_len: u32,
    unit_len: u32,
    body: SourceRef,
}

/// What a hunk is known again by. Where it can be read once more, a fast hash says which ones may be the same, and their
/// bytes are compared; of what is unpacked from its beginning for that, the SHA-1 says it.
#[derive(Debug, Clone, Copy)]
enum Naming {
    Compared,
    BySha1,
}

impl Naming {
    fn of(body: &SourceRef) -> Self {
        if body.prefers_sequential() { Self::BySha1 } else { Self::Compared }
    }

    fn name(self, hunk: &[u8]) -> [u32; NAME] {
        let mut name = [0; NAME];
        let bytes = match self {
            Self::Compared => xxh3_128(hunk).to_be_bytes().to_vec(),
            Self::BySha1 => of_bytes(Algorithm::Sha1, hunk).bytes,
        };
        for (word, bytes) in name.iter_mut().zip(bytes.as_chunks::<4>().0) {
            *word = u32::from_be_bytes(*bytes);
        }
        name
    }
}

impl Packer for ChdPacker {
    fn batch_len(&self) -> usize {
        let hunk = self.hunk_len as usize;
        hunk * (BATCH / hunk).max(1)
    }

    fn worker(&self) -> Result<Box<dyn PackWorker>> {
        let packer = HunkPacker::new(&self.wish.codecs, self.wish.level)
            .map_err(|e| Error::Usage(format!("zstd cannot be set up: {e}")))?;
        let naming = Naming::of(&self.body);
        Ok(Box::new(Worker { packer, hunk_len: self.hunk_len as usize, last: None, last_crc: None, naming }))
    }

    fn weeder(&self) -> Option<Box<dyn Weeder>> {
        Some(Box::new(Once {
            known: HashMap::new(),
            hunk_len: self.hunk_len,
            unit_len: self.unit_len,
            parent: self.wish.parent.as_ref().map(|(_, source)| source.clone()),
            body: self.body.clone(),
            naming: Naming::of(&self.body),
            flat: HashMap::new(),
            next: 0,
        }))
    }
}

struct Worker {
    packer: HunkPacker,
    hunk_len: usize,
    /// The last hunk of one value: disks are full of them.
    last: Option<(Vec<u8>, u32, Vec<u8>)>,
    last_crc: Option<u16>,
    naming: Naming,
}

impl PackWorker for Worker {
    fn pack(&mut self, _at: u64, raw: &[u8], packed: &mut Vec<u8>, marks: &mut Vec<u32>) -> Result<()> {
        let mut filled;
        for hunk in raw.chunks(self.hunk_len) {
            let hunk = if hunk.len() < self.hunk_len {
                filled = hunk.to_vec();
                filled.resize(self.hunk_len, 0);
                &filled[..]
            } else {
                hunk
            };
            let is_flat = hunk.iter().all(|b| *b == hunk[0]);
            let mut crc = None;
            if let Some((_, word, bytes)) = self.last.as_ref().filter(|(last, ..)| is_flat && last[..] == *hunk) {
                marks.push(*word);
                packed.extend(bytes);
                crc = self.last_crc;
            } else {
                let (word, bytes) = match self.packer.pack(hunk) {
                    Some((codec, bytes)) => ((codec as u32) << kind::SHIFT | bytes.len() as u32, bytes),
                    None => (kind::STORED << kind::SHIFT, hunk),
                };
                marks.push(word);
                packed.extend(bytes);
                if is_flat {
                    self.last = Some((hunk.to_vec(), word, bytes.to_vec()));
                }
            }
            let crc = crc.unwrap_or_else(|| Crc16::of(hunk));
            if is_flat {
                self.last_crc = Some(crc);
            }
            marks.push(crc.into());
            marks.push(if is_flat { hunk[0].into() } else { MIXED });
            marks.extend(if is_flat { [0; NAME] } else { self.naming.name(hunk) });
        }
        Ok(())
    }
}

/// Keeps of equal hunks the first, and of those that the parent has at the same place none.
struct Once {
    /// The first hunk of every name.
    known: HashMap<[u32; NAME], u32>,
    /// The first hunk that is filled with a value.
    flat: HashMap<u32, u32>,
    body: SourceRef,
    naming: Naming,
    hunk_len: u32,
    unit_len: u32,
    parent: Option<SourceRef>,
    next: u32,
}

impl Once {
    /// A hunk of `source`, as long as all are: what is not there is zeros.
    fn read(&self, source: &SourceRef, number: u32) -> Result<Vec<u8>> {
        let at = u64::from(number) * u64::from(self.hunk_len);
        let mut bytes = vec![0; self.hunk_len as usize];
        let here = u64::from(self.hunk_len).min(source.len().saturating_sub(at)) as usize;
        source.read_at(at.min(source.len()), &mut bytes[..here])?;
        Ok(bytes)
    }

    /// The earlier hunk that this one is the same as.
    fn earlier(&self, fill: u32, name: &[u32; NAME]) -> Result<Option<u32>> {
        if fill != MIXED {
            return Ok(self.flat.get(&fill).copied());
        }
        let Some(first) = self.known.get(name).copied() else { return Ok(None) };
        let is_same = match self.naming {
            Naming::BySha1 => true,
            Naming::Compared => self.read(&self.body, first)? == self.read(&self.body, self.next)?,
        };
        Ok(is_same.then_some(first))
    }

    /// Whether the parent has this hunk at the same place.
    fn is_in_parent(&self, fill: u32, name: &[u32; NAME]) -> Result<bool> {
        let Some(parent) = &self.parent else { return Ok(false) };
        let theirs = self.read(parent, self.next)?;
        Ok(match (fill, self.naming) {
            (MIXED, Naming::BySha1) => self.naming.name(&theirs) == *name,
            (MIXED, Naming::Compared) => {
                self.naming.name(&theirs) == *name && theirs == self.read(&self.body, self.next)?
            }
            (value, _) => theirs.iter().all(|byte| u32::from(*byte) == value),
        })
    }
}

impl Weeder for Once {
    fn weed(&mut self, packed: &mut Vec<u8>, marks: &mut Vec<u32>) -> Result<()> {
        let mut kept_marks = Vec::with_capacity(marks.len() / MARK * 2);
        let (mut from, mut to) = (0, 0);
        for mark in marks.as_chunks::<MARK>().0 {
            let [word, crc, fill, name @ ..] = *mark;
            let len = match word >> kind::SHIFT {
                kind::STORED => self.hunk_len as usize,
                _ => (word & kind::MASK) as usize,
            };
            if let Some(first) = self.earlier(fill, &name)? {
                kept_marks.extend([kind::SAME << kind::SHIFT | first, 0]);
            } else if let Ok(unit) = u32::try_from(u64::from(self.next) * u64::from(self.hunk_len / self.unit_len))
                // What stands further behind in the parent than a mark can say is written once more.
                && unit <= kind::MASK
                && self.is_in_parent(fill, &name)?
            {
                kept_marks.extend([kind::PARENT << kind::SHIFT | unit, 0]);
            } else {
                if from != to {
                    packed.copy_within(from..from + len, to);
                }
                to += len;
                kept_marks.extend([word, crc]);
                if fill != MIXED {
                    self.flat.insert(fill, self.next);
                } else if self.known.len() < MOST_KNOWN {
                    self.known.entry(name).or_insert(self.next);
                }
            }
            from += len;
            self.next += 1;
        }
        packed.truncate(to);
        *marks = kept_marks;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn geometries_are_those_of_drives() {
        assert_eq!(geometry(16 * 63 * 100), (100, 16, 63));
        assert_eq!(geometry(977 * 5 * 17), (977, 1, 85));
        // 8 GiB: more than usual tracks reach with the cylinders there are.
        let (cylinders, heads, own) = geometry((8 << 30) / 512);
        assert_eq!(cylinders * heads * own, (8 << 30) / 512);
        assert!(cylinders <= MOST_CYLINDERS && heads <= MOST_HEADS && own <= MOST_SECTORS);
        // A prime number of sectors that is more than a drive has cylinders.
        assert_eq!(geometry(1_000_003), (16_383, 16, 63));
    }
}
