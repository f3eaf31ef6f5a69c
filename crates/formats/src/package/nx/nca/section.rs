//! A section of a content: how it is laid out, encrypted and hashed.

use super::ID;
use super::header::Placed;
use super::levels::Levels;
use crate::package::nx::bktr::{self, Moves, Place};
use crate::package::nx::raw::SectionHead;
use decanter_core::source::Source;
use decanter_core::{Error, Result};
use std::ops::Range;

/// How the files of a section are laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layout {
    /// A RomFS.
    Rom,
    /// A PFS0.
    Files,
    /// Nothing that is known.
    Other(u8),
}

/// How a section is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cipher {
    /// It is not.
    None,
    /// AES-128-XTS.
    Xts,
    /// AES-128-CTR.
    Ctr,
    /// AES-128-CTR with counters from a table.
    CtrTable,
    /// Nothing that is known.
    Other(u8),
}

impl Cipher {
    /// Whether a key is needed to read it.
    pub fn needs_key(self) -> bool {
        self != Self::None
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::None => "plain",
            Self::Xts => "XTS",
            Self::Ctr | Self::CtrTable => "CTR",
            Self::Other(_) => "unknown cipher",
        }
    }
}

/// What an update's section says of the one below it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Patch {
    /// The table of moved stretches.
    pub moved: Place,
    /// The table of counters.
    pub counters: Place,
}

impl Patch {
    /// Where the update's own bytes end and the tables begin.
    pub fn data_len(&self) -> u64 {
        self.moved.range.start.min(self.counters.range.start)
    }

    /// Which stretches come from where; `section` is the update's, decrypted.
    ///
    /// # Errors
    /// As [`Moves::read`].
    pub fn moves(&self, section: &dyn Source) -> Result<Moves> {
        Moves::read(section, &self.moved, self.data_len())
    }
}

/// A section.
#[derive(Clone)]
pub struct Section {
    /// Its number.
    pub index: usize,
    /// Where it is, in bytes of the content.
    pub range: Range<u64>,
    /// How its files are laid out.
    pub layout: Layout,
    /// How it is encrypted.
    pub cipher: Cipher,
    /// Its hashes; for an update they are over the patched section.
    pub levels: Option<Levels>,
    /// Its tables, if it is one of an update.
    pub patch: Option<Patch>,
    /// Why its files are not read, though everything else of it is known.
    pub oddity: Option<String>,
    /// Whether its header has the hash that the content's header has for it.
    pub head_holds: bool,
    /// The first eight bytes of the counter.
    pub counter: [u8; 8],
}

impl Section {
    /// Reads the header of a section. What it is known by but cannot be read is an oddity.
    pub(super) fn of(placed: &Placed) -> Self {
        let Placed { index, range, head, holds } = placed;
        let mut own = Self {
            index: *index,
            range: range.clone(),
            layout: match head.kind {
                0 => Layout::Rom,
                1 => Layout::Files,
                other => Layout::Other(other),
            },
            cipher: match head.cipher {
                1 => Cipher::None,
                2 => Cipher::Xts,
                3 | 5 => Cipher::Ctr,
                4 | 6 => Cipher::CtrTable,
                other => Cipher::Other(other),
            },
            levels: None,
            patch: None,
            oddity: None,
            head_holds: *holds,
            counter: counter(head.secure.get(), head.generation.get()),
        };
        if let Err(e) = own.look(head) {
            own.oddity = Some(match e {
                Error::Malformed { what, offset, .. } => {
                    format!("section {index}, whose header is wrong ({what}, at {offset:#x} of it),")
                }
                Error::Unsupported { what, .. } => what.into_owned(),
                e => e.to_string(),
            });
        }
        own
    }

    fn look(&mut self, head: &SectionHead) -> Result<()> {
        let room = self.range.end - self.range.start;
        if head.version.get() != 2 {
            return Err(Error::malformed(ID, format!("version {}", head.version.get()), 0));
        }
        if head.cipher == 5 || head.cipher == 6 {
            return Err(Error::unsupported(ID, "a section whose hashes stand in the clear between encrypted bytes"));
        }
        if let Cipher::Other(number) = self.cipher {
            return Err(Error::unsupported(ID, format!("a section under cipher {number}")));
        }
        if head.sparse.generation.get() != 0 {
            return Err(Error::unsupported(ID, "a sparse section, of which parts are stored elsewhere,"));
        }
        if head.packed.len.get() != 0 {
            return Err(Error::unsupported(ID, "a compressed section"));
        }
        let patch = &head.patch;
        if patch.moved_len.get() != 0 || self.cipher == Cipher::CtrTable {
            let (at, len) = (patch.moved_at.get(), patch.moved_len.get());
            let moved = Place::of(at, len, &patch.moved, room, 0x100)?;
            let (at, len) = (patch.counters_at.get(), patch.counters_len.get());
            let counters = Place::of(at, len, &patch.counters, room, 0x120)?;
            self.patch = Some(Patch { moved, counters });
        }
        // The levels of an update are over the patched section, whose length its table has.
        let room = if self.patch.is_some() { i64::MAX as u64 } else { room };
        self.levels = Levels::of(head, room)?;
        Ok(())
    }

    /// The counter at byte `at` of the content, with another generation than the section's.
    pub(super) fn counter_at(&self, generation: Option<u32>, at: u64) -> u128 {
        let mut upper = self.counter;
        if let Some(generation) = generation {
            upper[4..].copy_from_slice(&generation.to_be_bytes());
        }
        u128::from(u64::from_be_bytes(upper)) << 64 | u128::from(at >> 4)
    }
}

/// Secure value and generation, both big-endian, as the counter begins.
fn counter(secure: u32, generation: u32) -> [u8; 8] {
    (u64::from(secure) << 32 | u64::from(generation)).to_be_bytes()
}

/// Where each counter of an update's section holds: ranges of the content, and the counter's first value at their beginning.
///
/// # Errors
/// As [`bktr::counters`].
pub(super) fn counters(section: &Section, patch: &Patch, clear: &dyn Source) -> Result<Vec<(Range<u64>, u32)>> {
    let (entries, _) = bktr::counters(clear, &patch.counters)?;
    let end = patch.data_len();
    let place = |(index, (at, generation)): (usize, &(u64, u32))| {
        let to = entries.get(index + 1).map_or(end, |next| next.0).min(end);
        (section.range.start + (*at).min(to)..section.range.start + to, *generation)
    };
    Ok(entries.iter().enumerate().map(place).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out by hand: secure value 0x01020304, generation 5, byte 0x4000 of the content.
    #[test]
    fn the_counter() {
        let section = Section {
            index: 0,
            range: 0..0,
            layout: Layout::Rom,
            cipher: Cipher::Ctr,
            levels: None,
            patch: None,
            oddity: None,
            head_holds: true,
            counter: counter(0x0102_0304, 5),
        };
        assert_eq!(section.counter_at(None, 0x4000), 0x0102_0304_0000_0005_0000_0000_0000_0400);
        assert_eq!(section.counter_at(Some(9), 0x4010), 0x0102_0304_0000_0009_0000_0000_0000_0401);
    }
}
