//! The hashes over a section: each level hashes the blocks of the next one, the last of which holds the files.

use super::ID;
use crate::package::nx::raw::{DeepHashes, FlatHashes, SectionHead};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;
use zerocopy::FromBytes;

/// The largest stretch that the master hash is over.
const MOST_FIRST: u64 = 16 << 20;

/// One level.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Level {
    /// Where it is, in bytes of the section.
    pub range: Range<u64>,
    /// Bytes of a block that has a hash one level up.
    pub block: u64,
}

/// All levels, the one that the master hash is over first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Levels {
    /// SHA-256 of the first level.
    pub master: [u8; 32],
    /// The levels; the last one holds the files.
    pub levels: Vec<Level>,
    /// Whether the last block of a level is filled up with zeros before it is hashed.
    pub is_filled_up: bool,
}

impl Levels {
    /// What the header of a section says; `None` where nothing is hashed. `room` is the section's length.
    ///
    /// # Errors
    /// [`Error::Malformed`] for levels that lie outside or have too few hashes, [`Error::Unsupported`] for kinds of hashes
    /// that are not known. Offsets are in the header of the section.
    pub(in crate::package::nx) fn of(head: &SectionHead, room: u64) -> Result<Option<Self>> {
        let own = match head.hash {
            1 => return Ok(None),
            2 => Self::flat(&head.hash_data)?,
            3 => Self::deep(&head.hash_data)?,
            4..=6 => return Err(Error::unsupported(ID, "a section with hashes of SHA-3")),
            other => return Err(Error::unsupported(ID, format!("a section with hashes of kind {other}"))),
        };
        own.check(room)?;
        Ok(Some(own))
    }

    fn flat(data: &[u8; 0xf8]) -> Result<Self> {
        let (head, _) = FlatHashes::read_from_prefix(data).map_err(|_| Error::malformed(ID, "hashes cut short", 8))?;
        let count = head.layers.get() as usize;
        if !(2..=5).contains(&count) {
            return Err(Error::malformed(ID, format!("{count} levels of hashes"), 0x2c));
        }
        let block = u64::from(head.block.get());
        let region = |index: usize| {
            let (offset, len) = (head.regions[index].offset.get(), head.regions[index].len.get());
            let block = if index == 0 { len.max(1) } else { block };
            Ok(Level { range: range(offset, len, 0x30 + index as u64 * 0x10)?, block })
        };
        let levels = (0..count).map(region).collect::<Result<_>>()?;
        Ok(Self { master: head.master, levels, is_filled_up: false })
    }

    fn deep(data: &[u8; 0xf8]) -> Result<Self> {
        let (head, _) = DeepHashes::read_from_prefix(data).map_err(|_| Error::malformed(ID, "hashes cut short", 8))?;
        if head.magic != *b"IVFC" || head.version.get() != 0x2_0000 {
            return Err(Error::malformed(ID, "no IVFC mark of version 0x20000", 8));
        }
        let count = head.levels.get() as usize;
        if !(2..=7).contains(&count) || head.master_len.get() != 32 {
            return Err(Error::malformed(ID, format!("{count} levels of hashes"), 0x14));
        }
        let level = |index: usize| {
            let (raw, at) = (&head.level[index], 0x18 + index as u64 * 0x18);
            match raw.log.get() {
                log @ 5..=24 => Ok(Level { range: range(raw.offset.get(), raw.len.get(), at)?, block: 1 << log }),
                log => Err(Error::malformed(ID, format!("level {} has blocks of 2^{log} bytes", index + 1), at + 0x10)),
            }
        };
        let levels = (0..count - 1).map(level).collect::<Result<_>>()?;
        Ok(Self { master: head.master, levels, is_filled_up: true })
    }

    /// Fails unless all levels lie in the section and each has a hash for every block of the next one.
    fn check(&self, room: u64) -> Result<()> {
        let bad = |what: String| Err(Error::malformed(ID, what, 8));
        for (index, level) in self.levels.iter().enumerate() {
            let name = index + 1;
            if level.range.end > room {
                return bad(format!(
                    "level {name} of the hashes ends at {:#x}, the section at {room:#x}",
                    level.range.end
                ));
            }
            if level.block == 0 {
                return bad(format!("level {name} of the hashes has blocks of no bytes"));
            }
            let len = level.range.end - level.range.start;
            let needed = len.div_ceil(level.block).saturating_mul(32);
            let above = match index.checked_sub(1) {
                None => 32,
                Some(above) => self.levels[above].range.end - self.levels[above].range.start,
            };
            if needed > above {
                return bad(format!("level {name} needs {needed} bytes of hashes, there are {above}"));
            }
        }
        if self.first().end - self.first().start > MOST_FIRST {
            return bad("the first level of the hashes is too long".into());
        }
        Ok(())
    }

    /// The level that the master hash is over.
    pub fn first(&self) -> &Range<u64> {
        &self.levels[0].range
    }

    /// Where the files are.
    pub fn data(&self) -> &Range<u64> {
        &self.levels[self.levels.len() - 1].range
    }

    /// The digests of each level's blocks, in the order of the levels, out of the section.
    ///
    /// # Errors
    /// When the section ends before them.
    pub fn digests(&self, section: &SourceRef) -> Result<Vec<SourceRef>> {
        let mut all: Vec<SourceRef> = vec![Arc::new(Bytes(self.master.to_vec()))];
        for level in &self.levels[..self.levels.len() - 1] {
            let (start, len) = (level.range.start, level.range.end - level.range.start);
            all.push(Arc::new(Slice::new(section.clone(), start, len)?));
        }
        Ok(all)
    }

    /// Whether a block of the files has its hash, both read from `section`; `None` for one that is not there as a whole.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn block_holds(&self, section: &SourceRef, number: u64) -> Result<Option<bool>> {
        let [.., above, Level { range, block }] = self.levels.as_slice() else { return Ok(None) };
        let (start, hash_at) = (range.start + number * block, above.range.start + number * 32);
        if start >= range.end || hash_at + 32 > above.range.end {
            return Ok(None);
        }
        let len = (*block).min(range.end - start);
        let mut bytes = decanter_core::source::read_vec(section.as_ref(), start, len, "a hashed block", MOST_FIRST)?;
        if self.is_filled_up {
            bytes.resize(*block as usize, 0);
        }
        let stored: [u8; 32] = decanter_core::source::read_array(section.as_ref(), hash_at)?;
        Ok(Some(super::super::sha256(&bytes) == stored))
    }

    /// Whether the master hash holds in `section`; `None` where that ends before.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn master_holds(&self, section: &SourceRef) -> Result<Option<bool>> {
        let Level { range, block } = &self.levels[0];
        if range.end > section.len() {
            return Ok(None);
        }
        let mut bytes = decanter_core::source::read_vec(
            section.as_ref(),
            range.start,
            range.end - range.start,
            "hashes",
            MOST_FIRST,
        )?;
        if self.is_filled_up {
            bytes.resize(bytes.len().next_multiple_of(*block as usize).max(*block as usize), 0);
        }
        Ok(Some(super::super::sha256(&bytes) == self.master))
    }
}

fn range(offset: u64, len: u64, at: u64) -> Result<Range<u64>> {
    let end = offset.checked_add(len).filter(|end| *end <= i64::MAX as u64);
    end.map(|end| offset..end).ok_or_else(|| Error::malformed(ID, "a level of an impossible length", at))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::package::nx::sha256;
    use zerocopy::FromZeros;

    fn head(hash: u8, data: &[u8]) -> SectionHead {
        let mut head = SectionHead::new_zeroed();
        head.hash = hash;
        head.hash_data[..data.len()].copy_from_slice(data);
        head
    }

    /// Two blocks of 0x20 and one of 8 behind their hashes; the section is put together by hand.
    fn flat() -> (Vec<u8>, Vec<u8>) {
        let files: Vec<u8> = (0..0x48).collect();
        let hashes = [sha256(&files[..0x20]), sha256(&files[0x20..0x40]), sha256(&files[0x40..])].concat();
        let mut data = sha256(&hashes).to_vec();
        data.extend([0x20, 0, 0, 0, 2, 0, 0, 0]);
        for word in [0u64, 0x60, 0x80, 0x48] {
            data.extend(word.to_le_bytes());
        }
        let mut section = hashes;
        section.resize(0x80, 0);
        section.extend(files);
        (section, data)
    }

    #[test]
    fn one_level_hashes_the_last_block_as_it_is() {
        let (section, data) = flat();
        let own = Levels::of(&head(2, &data), section.len() as u64).unwrap().unwrap();
        assert_eq!((own.levels.len(), own.data().clone(), own.is_filled_up), (2, 0x80..0xc8, false));
        let source: SourceRef = Arc::new(Bytes(section.clone()));
        assert_eq!(own.master_holds(&source).unwrap(), Some(true));
        let mut torn = section.clone();
        torn[0x5f] ^= 1;
        assert_eq!(own.master_holds(&(Arc::new(Bytes(torn)) as SourceRef)).unwrap(), Some(false));
        let short: SourceRef = Arc::new(Bytes(section[..0x50].to_vec()));
        assert_eq!(own.master_holds(&short).unwrap(), None);
    }

    #[test]
    fn levels_fill_the_last_block_up() {
        let mut data = b"IVFC\0\0\x02\0\x20\0\0\0\x03\0\0\0".to_vec();
        for (offset, len) in [(0u64, 0x20u64), (0x40, 0x21)] {
            data.extend(offset.to_le_bytes());
            data.extend(len.to_le_bytes());
            data.extend([6, 0, 0, 0, 0, 0, 0, 0]);
        }
        data.resize(0xc0, 0);
        let files = vec![7u8; 0x21];
        let filled = [files.clone(), vec![0; 0x1f]].concat();
        let hashes = sha256(&filled).to_vec();
        let first = [hashes.clone(), vec![0; 0x20]].concat();
        data.extend(sha256(&first));
        let section = [first, files].concat();
        let own = Levels::of(&head(3, &data), section.len() as u64).unwrap().unwrap();
        let source: SourceRef = Arc::new(Bytes(section));
        assert_eq!((own.master_holds(&source).unwrap(), own.is_filled_up), (Some(true), true));
        let digests = own.digests(&source).unwrap();
        let mut stored = vec![0; 32];
        digests[1].read_at(0, &mut stored).unwrap();
        assert_eq!(stored, hashes);
    }

    #[test]
    fn levels_that_cannot_be_right_say_why() {
        let (section, data) = flat();
        let told = |at: usize, byte: u8| {
            let mut other = data.clone();
            other[at] = byte;
            match Levels::of(&head(2, &other), section.len() as u64) {
                Ok(_) => "read".to_owned(),
                Err(e) => e.to_string(),
            }
        };
        assert!(told(0x20, 0).contains("blocks of no bytes"));
        assert!(told(0x20, 0x10).contains("needs 160 bytes of hashes, there are 96"));
        assert!(told(0x24, 1).contains("1 levels of hashes at offset 0x2c"));
        assert!(told(0x40, 0xff).contains("ends at"));
        assert!(told(0x3f, 0xff).contains("impossible length"));
        assert!(matches!(Levels::of(&head(5, &data), 0xc8), Err(Error::Unsupported { .. })));
        assert_eq!(Levels::of(&head(1, &data), 0xc8).unwrap(), None);
    }
}
