//! Tables of an update's section: which stretches of the patched section come from the base and which from the update, and
//! which counter holds from where on. Layout: docs/formats/bktr.md.

use super::raw::{BucketHead, CounterEntry, MovedEntry, TableHead};
use crate::raw::{Layout, split};
use decanter_core::source::{Source, SourceRef, check_range, read_vec};
use decanter_core::{Error, Result};
use std::ops::Range;

const ID: &str = "bktr";
/// Bytes of a node and of a bucket.
pub const NODE: u64 = 0x4000;
/// Bytes before the entries of one.
const HEAD: u64 = 0x10;
/// Offsets that a node has room for.
const OFFSETS: u64 = (NODE - HEAD) / 8;
/// The longest table that is read.
const MOST_TABLE: u64 = 64 << 20;

/// A table as the header of a section places it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Where it is, in bytes of the section as stored.
    pub range: Range<u64>,
    /// How many entries it has.
    pub count: u32,
}

impl Place {
    /// Checks what a header says.
    ///
    /// # Errors
    /// [`Error::Malformed`], with the offset in the header of the section.
    pub(super) fn of(at: u64, len: u64, head: &TableHead, room: u64, field: u64) -> Result<Self> {
        let bad = |what: String| Err(Error::malformed(ID, what, field));
        if head.magic != *b"BKTR" || head.version.get() > 1 {
            return bad("no BKTR mark of version 0 or 1".into());
        }
        match at.checked_add(len) {
            Some(end) if end <= room => Ok(Self { range: at..end, count: head.count.get() }),
            _ => bad(format!("a table of {len} bytes at {at:#x}, behind the end of the section")),
        }
    }
}

/// Nodes of the second level that a table with so many buckets has.
fn second_nodes(buckets: u64) -> u64 {
    if buckets <= OFFSETS {
        return 0;
    }
    let nodes = buckets.div_ceil(OFFSETS);
    (buckets - (OFFSETS - (nodes - 1))).div_ceil(OFFSETS)
}

/// Every entry of a table, in order, each with its offset in the section; and where the last one ends. `key` is what
/// entries are sorted by.
fn read<T: Layout + Copy>(
    section: &dyn Source,
    place: &Place,
    what: &'static str,
    key: fn(&T) -> u64,
) -> Result<(Vec<T>, u64)> {
    let bad = |text: String, at: u64| Error::malformed(ID, format!("{what}: {text}"), at);
    let per = (NODE - HEAD) / size_of::<T>() as u64;
    let count = u64::from(place.count);
    let buckets = count.div_ceil(per);
    let first = (1 + second_nodes(buckets)) * NODE;
    let len = place.range.end - place.range.start;
    if count == 0 || first + buckets * NODE > len {
        let need = first + buckets * NODE;
        return Err(bad(format!("{count} entries need {need} bytes, the table has {len}"), place.range.start));
    }
    let table = read_vec(section, place.range.start, first + buckets * NODE, "a table of an update", MOST_TABLE)?;
    let (root, _) = split::<BucketHead>(ID, what, &table, place.range.start)?;
    let (root_count, end) = (u64::from(root.count.get()), root.end.get());
    if second_nodes(buckets) == 0 && root_count != buckets {
        return Err(bad(format!("{root_count} buckets instead of {buckets}"), place.range.start + 4));
    }
    let mut entries: Vec<T> = Vec::with_capacity(count as usize);
    for bucket in 0..buckets {
        let at = first + bucket * NODE;
        let place_at = place.range.start + at;
        let (head, mut rest) = split::<BucketHead>(ID, what, &table[at as usize..(at + NODE) as usize], place_at)?;
        let wanted = per.min(count - bucket * per);
        if u64::from(head.index.get()) != bucket || u64::from(head.count.get()) != wanted {
            let told = format!("bucket {bucket} says it is {} with {} entries", head.index.get(), head.count.get());
            return Err(bad(told, place_at));
        }
        for index in 0..wanted {
            let entry_at = place_at + HEAD + index * size_of::<T>() as u64;
            let (entry, more) = split::<T>(ID, what, rest, entry_at)?;
            let before = entries.last().map(key);
            if before.map_or(key(entry) != 0, |before| before >= key(entry)) || key(entry) >= end {
                let told = format!("an entry at {:#x} that does not follow after the one before", key(entry));
                return Err(bad(told, entry_at));
            }
            entries.push(*entry);
            rest = more;
        }
        let next = (bucket + 1 < buckets).then(|| head.end.get());
        if next.is_none() && head.end.get() != end {
            return Err(bad(
                format!("the last bucket ends at {:#x}, the table at {end:#x}", head.end.get()),
                place_at + 8,
            ));
        }
    }
    Ok((entries, end))
}

/// A stretch of a patched section.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moved {
    /// Where it begins there.
    pub virtual_at: u64,
    /// Where it begins in what it is taken from.
    pub physical_at: u64,
    /// Whether that is the update; else it is the base.
    pub is_of_update: bool,
}

/// Where the stretches of a patched section are taken from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Moves {
    /// The stretches, in order and without gaps.
    pub entries: Vec<Moved>,
    /// Length of the patched section.
    pub len: u64,
}

impl Moves {
    /// Reads the table out of an update's section, whose own bytes end at `own_len`.
    ///
    /// # Errors
    /// [`Error::Malformed`] for entries out of order or outside.
    pub fn read(section: &dyn Source, place: &Place, own_len: u64) -> Result<Self> {
        let (raw, len) = read::<MovedEntry>(section, place, "the table of moved stretches", |e| e.virtual_at.get())?;
        let mut entries = Vec::with_capacity(raw.len());
        for (index, entry) in raw.iter().enumerate() {
            let (virtual_at, physical_at, storage) =
                (entry.virtual_at.get(), entry.physical_at.get(), entry.storage.get());
            let bytes = raw.get(index + 1).map_or(len, |next| next.virtual_at.get()) - virtual_at;
            let end = physical_at.checked_add(bytes);
            if storage > 1 || end.is_none() || (storage == 1 && end > Some(own_len)) {
                let what = format!(
                    "the stretch at {virtual_at:#x} is taken from {physical_at:#x} of storage {storage}, where nothing is"
                );
                return Err(Error::malformed(ID, what, place.range.start));
            }
            entries.push(Moved { virtual_at, physical_at, is_of_update: storage == 1 });
        }
        Ok(Self { entries, len })
    }

    /// The stretch at `offset`: where it is taken from, and how many bytes from there on.
    fn at(&self, offset: u64) -> (u64, bool, u64) {
        let index = self.entries.partition_point(|e| e.virtual_at <= offset).saturating_sub(1);
        let entry = &self.entries[index];
        let end = self.entries.get(index + 1).map_or(self.len, |next| next.virtual_at);
        (entry.physical_at + (offset - entry.virtual_at), entry.is_of_update, end - offset)
    }

    /// The stretches of the patched section that come from the base, in order.
    pub fn of_base(&self) -> impl Iterator<Item = Range<u64>> + '_ {
        self.entries.iter().enumerate().filter(|(_, e)| !e.is_of_update).map(|(index, entry)| {
            entry.virtual_at..self.entries.get(index + 1).map_or(self.len, |next| next.virtual_at)
        })
    }

    /// How many bytes the base must have.
    pub fn base_len(&self) -> u64 {
        let ends = self.entries.iter().enumerate().filter(|(_, e)| !e.is_of_update).map(|(index, entry)| {
            let end = self.entries.get(index + 1).map_or(self.len, |next| next.virtual_at);
            entry.physical_at + (end - entry.virtual_at)
        });
        ends.max().unwrap_or(0)
    }
}

/// A patched section: stretches of the base's and of the update's.
pub struct Patched {
    base: SourceRef,
    update: SourceRef,
    moves: Moves,
}

impl Patched {
    /// The section `update` over the section `base`, both decrypted.
    ///
    /// # Errors
    /// [`Error::PastEnd`] when the base has less than is taken from it: it is another one.
    pub fn new(base: SourceRef, update: SourceRef, moves: Moves) -> Result<Self> {
        check_range(base.len(), 0, moves.base_len())?;
        Ok(Self { base, update, moves })
    }
}

impl Source for Patched {
    fn len(&self) -> u64 {
        self.moves.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        while !buf.is_empty() {
            let (from, is_of_update, bytes) = self.moves.at(offset);
            let here = usize::try_from(bytes).unwrap_or(usize::MAX).min(buf.len());
            let (now, later) = buf.split_at_mut(here);
            let source = if is_of_update { &self.update } else { &self.base };
            source.read_at(from, now)?;
            offset += here as u64;
            buf = later;
        }
        Ok(())
    }
}

/// From which offset of an update's section on which generation of the counter holds, in order.
///
/// # Errors
/// [`Error::Malformed`] for entries out of order.
pub fn counters(section: &dyn Source, place: &Place) -> Result<(Vec<(u64, u32)>, u64)> {
    let (raw, end) = read::<CounterEntry>(section, place, "the table of counters", |e| e.at.get())?;
    Ok((raw.iter().map(|e| (e.at.get(), e.generation.get())).collect(), end))
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    /// A table of moved stretches, written field by field from the layout.
    fn table(entries: &[(u64, u64, u32)], end: u64) -> Vec<u8> {
        let mut node = vec![0; NODE as usize];
        node[4] = 1;
        node[8..16].copy_from_slice(&end.to_le_bytes());
        let mut bucket = vec![0; NODE as usize];
        bucket[4..8].copy_from_slice(&(entries.len() as u32).to_le_bytes());
        bucket[8..16].copy_from_slice(&end.to_le_bytes());
        for (index, (virtual_at, physical_at, storage)) in entries.iter().enumerate() {
            let at = 0x10 + index * 0x14;
            bucket[at..at + 8].copy_from_slice(&virtual_at.to_le_bytes());
            bucket[at + 8..at + 16].copy_from_slice(&physical_at.to_le_bytes());
            bucket[at + 16..at + 20].copy_from_slice(&storage.to_le_bytes());
        }
        [node, bucket].concat()
    }

    fn moves(bytes: Vec<u8>, count: u32) -> Result<Moves> {
        let place = Place { range: 0..bytes.len() as u64, count };
        Moves::read(&Bytes(bytes), &place, 100)
    }

    #[test]
    fn stretches_are_found_where_they_are() {
        let own = moves(table(&[(0, 50, 0), (10, 7, 1), (30, 0, 0)], 45), 3).unwrap();
        assert_eq!((own.len, own.base_len()), (45, 60));
        let base: SourceRef = Arc::new(Bytes((0..60).collect()));
        let update: SourceRef = Arc::new(Bytes((100..200).collect()));
        assert!(Patched::new(Arc::new(Bytes(vec![0; 59])), update.clone(), own.clone()).is_err());
        let view = Patched::new(base, update, own).unwrap();
        let mut whole = vec![0; 45];
        view.read_at(0, &mut whole).unwrap();
        let want: Vec<u8> = (50..60).chain(107..127).chain(0..15).collect();
        assert_eq!(whole, want);
        for (from, to) in [(0, 1), (9, 11), (29, 31), (44, 45), (5, 40)] {
            let mut part = vec![0; to - from];
            view.read_at(from as u64, &mut part).unwrap();
            assert_eq!(part, want[from..to]);
        }
    }

    #[test]
    fn tables_out_of_order_are_refused() {
        let told = |entries: &[(u64, u64, u32)], end| {
            moves(table(entries, end), entries.len() as u32).unwrap_err().to_string()
        };
        assert!(
            told(&[(0, 0, 0), (20, 0, 0), (10, 0, 0)], 45)
                .contains("does not follow after the one before at offset 0x4038")
        );
        assert!(told(&[(5, 0, 0)], 45).contains("does not follow"), "there is a gap at the beginning");
        assert!(told(&[(0, 0, 0), (45, 0, 0)], 45).contains("does not follow"));
        assert!(told(&[(0, 90, 1)], 45).contains("where nothing is"));
        assert!(told(&[(0, u64::MAX, 0)], 45).contains("where nothing is"));
        assert!(told(&[(0, 0, 2)], 45).contains("storage 2"));
        assert!(moves(table(&[(0, 0, 0)], 45), 0).is_err() && moves(table(&[(0, 0, 0)], 45), 2).is_err());
        assert!(moves(vec![0; 100], 1).is_err());
    }

    /// Counted by hand: 2,046 offsets a node; with one more bucket the first node lists one node of the second level.
    #[test]
    fn second_levels() {
        assert_eq!([1, 2046, 2047, 4091, 4092].map(second_nodes), [0, 0, 1, 1, 2]);
    }

    proptest! {
        #[test]
        fn any_table_is_refused_or_read(noise in proptest::collection::vec((0usize..0x8000, any::<u8>()), 0..8), count in 0u32..5) {
            let mut bytes = table(&[(0, 0, 0), (10, 7, 1), (30, 0, 0)], 45);
            noise.iter().for_each(|(at, byte)| bytes[*at] = *byte);
            if let Ok(own) = moves(bytes, count) {
                prop_assert!(own.entries.windows(2).all(|w| w[0].virtual_at < w[1].virtual_at));
            }
        }
    }
}
