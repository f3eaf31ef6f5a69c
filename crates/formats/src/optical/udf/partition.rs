//! From a block of a logical partition to bytes of the image: partition maps (ECMA-167, 3/10.7; UDF 2.60, 2.2.8 ff.).

use super::ID;
use super::descriptor::{Address, check as check_tag, split};
use super::raw::{Metadata, NamedMap, PlainMap, Sparable, Spared, SparingTable};
use decanter_core::error::Blame;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::ops::Range;
use zerocopy::FromBytes;
use zerocopy::byteorder::{LE, U32};

/// Partition maps of a volume; discs have one or two.
const MOST_MAPS: u32 = 16;
/// Bytes of a sparing table.
const MOST_TABLE: u64 = 1 << 20;
/// What the table of a virtual partition says of a block that was given back.
const UNUSED: u32 = u32::MAX;
/// Extents of a metadata file.
const MOST_EXTENTS: usize = 1 << 16;

/// A partition as its descriptor gives it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Physical {
    pub(super) number: u16,
    /// First block, counted in blocks of the image.
    pub(super) start: u32,
    pub(super) blocks: u32,
}

/// What a partition reference stands for.
#[derive(Debug, Clone)]
pub(super) enum Map {
    /// Blocks follow each other.
    Plain(Physical),
    /// Some packets of blocks stand elsewhere: packet length, and where those packets are.
    Sparable(Physical, u32, Option<HashMap<u32, u32>>),
    /// Blocks of the metadata file, which stands in another map: its number, the file's entry and its mirror's.
    Metadata { on: u16, file: u32, mirror: u32, extents: Vec<(u32, u32)> },
    /// Blocks of another map, by a table that says where each stands; empty until that was read.
    Virtual { on: u16, table: Vec<u32> },
    /// A kind that is not read.
    Unknown(String),
}

/// All partitions of a volume.
pub(super) struct Maps {
    pub(super) source: SourceRef,
    /// Bytes of a block.
    pub(super) block: u64,
    pub(super) maps: Vec<Map>,
}

impl Maps {
    /// Reads the maps that follow a logical volume descriptor, so many of them; its byte offset is for errors.
    pub(super) fn read(
        source: &SourceRef,
        block: u64,
        bytes: &[u8],
        (count, offset): (u32, u64),
        partitions: &[Physical],
    ) -> Result<Self> {
        if count > MOST_MAPS {
            return Err(Error::Limit { what: "partition maps", asked: count.into(), limit: MOST_MAPS.into() });
        }
        let mut maps = Vec::new();
        let (mut rest, mut at) = (bytes, offset + size_of::<super::raw::Logical>() as u64);
        for _ in 0..count {
            let len = rest.get(1).map_or(0, |&l| usize::from(l));
            let (own, more) = rest
                .split_at_checked(len)
                .filter(|_| len > 0)
                .ok_or_else(|| Error::malformed(ID, "a partition map is cut short", at))?;
            maps.push(map(source.as_ref(), block, own, at, partitions, &maps)?);
            (rest, at) = (more, at + len as u64);
        }
        Ok(Self { source: source.clone(), block, maps })
    }

    /// The byte ranges of the `len` bytes from a block on.
    pub(super) fn ranges(&self, at: Address, len: u64) -> Result<Vec<Range<u64>>> {
        let unsupported = |what: &str| Err(Error::unsupported(ID, format!("a {what}")));
        match self.maps.get(usize::from(at.partition)) {
            None => Err(Error::malformed(ID, format!("partition reference {} is none of the volume", at.partition), 0)),
            Some(Map::Unknown(name)) => unsupported(name),
            Some(Map::Plain(p)) => {
                check(p, at, len.div_ceil(self.block))?;
                let start = (u64::from(p.start) + u64::from(at.block)) * self.block;
                Ok(vec![start..start + len])
            }
            Some(Map::Sparable(p, packet, moved)) => {
                check(p, at, len.div_ceil(self.block))?;
                let mut ranges = Vec::new();
                let (mut block, mut left) = (at.block, len);
                while left > 0 {
                    let (number, into) = (block / packet, block % packet);
                    let here = (u64::from(packet - into) * self.block).min(left);
                    let base = moved
                        .as_ref()
                        .and_then(|m| m.get(&(number * packet)))
                        .map_or(p.start + number * packet, |&m| m);
                    let start = (u64::from(base) + u64::from(into)) * self.block;
                    push(&mut ranges, start..start + here);
                    left -= here;
                    block += packet - into;
                }
                Ok(ranges)
            }
            Some(Map::Virtual { on, table }) => {
                let mut ranges = Vec::new();
                let (mut block, mut left) = (at.block, len);
                while left > 0 {
                    let here = self.block.min(left);
                    let place = table.get(block as usize).filter(|place| **place != UNUSED);
                    let place = *place.ok_or_else(|| {
                        Error::malformed(ID, format!("block {block} is none that the virtual partition has"), 0)
                    })?;
                    let below = Address { block: place, partition: *on };
                    self.ranges(below, here)?.into_iter().for_each(|r| push(&mut ranges, r));
                    left -= here;
                    block = block.saturating_add(1);
                }
                Ok(ranges)
            }
            Some(Map::Metadata { on, extents, .. }) => {
                let mut ranges = Vec::new();
                let (mut block, mut left) = (at.block, len);
                for &(start, blocks) in extents {
                    if left == 0 {
                        break;
                    }
                    if block >= blocks {
                        block -= blocks;
                        continue;
                    }
                    let here = (u64::from(blocks - block) * self.block).min(left);
                    let below = Address { block: start + block, partition: *on };
                    self.ranges(below, here)?.into_iter().for_each(|r| push(&mut ranges, r));
                    left -= here;
                    block = 0;
                }
                if left > 0 {
                    return Err(Error::malformed(
                        ID,
                        format!("block {} lies past the end of the metadata file", at.block),
                        0,
                    ));
                }
                Ok(ranges)
            }
        }
    }

    /// The bytes from a block on, at most `limit` of them.
    pub(super) fn bytes(&self, at: Address, len: u64, what: &'static str, limit: u64) -> Result<(Vec<u8>, u64)> {
        let ranges = self.ranges(at, len)?;
        let offset = ranges.first().map_or(0, |r| r.start);
        let mut bytes = Vec::new();
        for range in ranges {
            let left = limit.saturating_sub(bytes.len() as u64);
            bytes.extend(read_vec(self.source.as_ref(), range.start, range.end - range.start, what, left)?);
        }
        Ok((bytes, offset))
    }

    /// Says where the blocks of a virtual partition stand, once its table was read.
    pub(super) fn set_virtual(&mut self, index: usize, found: Vec<u32>) {
        if let Some(Map::Virtual { table, .. }) = self.maps.get_mut(index) {
            *table = found;
        }
    }

    /// Says where a metadata file stands, once its entry was read.
    pub(super) fn set_metadata(&mut self, index: usize, found: Vec<(u32, u32)>) {
        if let Some(Map::Metadata { extents, .. }) = self.maps.get_mut(index) {
            *extents = found;
            extents.truncate(MOST_EXTENTS);
        }
    }
}

/// Adds a range, joined to the last one where they touch.
fn push(ranges: &mut Vec<Range<u64>>, range: Range<u64>) {
    match ranges.last_mut() {
        Some(last) if last.end == range.start => last.end = range.end,
        _ => ranges.push(range),
    }
}

fn check(p: &Physical, at: Address, blocks: u64) -> Result<()> {
    if u64::from(at.block) + blocks > u64::from(p.blocks) {
        let text = format!("block {} lies past the end of partition {} ({} blocks)", at.block, p.number, p.blocks);
        return Err(Error::malformed(ID, text, 0));
    }
    Ok(())
}

/// The map whose bytes `own` at byte `at` are; `before` it stand others.
fn map(source: &dyn Source, block: u64, own: &[u8], at: u64, partitions: &[Physical], before: &[Map]) -> Result<Map> {
    let physical = |number: u16| {
        let found = partitions.iter().find(|p| p.number == number).copied();
        found.ok_or_else(|| Error::malformed(ID, format!("partition {number} has no descriptor"), at))
    };
    match own[0] {
        1 => Ok(Map::Plain(physical(split::<PlainMap>("a partition map", own, at)?.0.number.get())?)),
        2 => {
            let (head, rest) = split::<NamedMap>("a partition map", own, at)?;
            let number = head.number.get();
            let name = String::from_utf8_lossy(&head.id.id);
            match name.trim_end_matches('\0') {
                "*UDF Sparable Partition" => {
                    let (sparable, tables) = split::<Sparable>("a partition map", rest, at)?;
                    let moved = spared(source, block, sparable, tables)?;
                    Ok(Map::Sparable(physical(number)?, u32::from(sparable.packet.get()).max(1), moved))
                }
                "*UDF Metadata Partition" => {
                    let (raw, _) = split::<Metadata>("a partition map", rest, at)?;
                    let is_below = |m: &Map| matches!(m, Map::Plain(p) | Map::Sparable(p, ..) if p.number == number);
                    let Some(on) = before.iter().position(is_below) else {
                        return Err(Error::malformed(ID, "the metadata partition stands on none", at));
                    };
                    let (file, mirror) = (raw.file.get(), raw.mirror.get());
                    Ok(Map::Metadata { on: on as u16, file, mirror, extents: Vec::new() })
                }
                "*UDF Virtual Partition" => {
                    let is_below = |m: &Map| matches!(m, Map::Plain(p) if p.number == number);
                    let Some(on) = before.iter().position(is_below) else {
                        return Err(Error::malformed(ID, "the virtual partition stands on none", at));
                    };
                    Ok(Map::Virtual { on: on as u16, table: Vec::new() })
                }
                other => Ok(Map::Unknown(other.trim_start_matches("*UDF ").to_lowercase())),
            }
        }
        _ => Err(Error::malformed(ID, "a partition map of an unknown type", at)),
    }
}

/// The packets that a sparable partition keeps elsewhere (UDF 2.60, 2.2.11): the first table that is whole counts; `None`
/// if there is none.
fn spared(source: &dyn Source, block: u64, map: &Sparable, places: &[u8]) -> Result<Option<HashMap<u32, u32>>> {
    let len = u64::from(map.table_len.get());
    if len > MOST_TABLE {
        return Err(Error::Limit { what: "bytes of a sparing table", asked: len, limit: MOST_TABLE });
    }
    for place in places.chunks_exact(4).take(map.tables.min(4).into()) {
        let at = u64::from(U32::<LE>::read_from_bytes(place).map_or(0, U32::get)) * block;
        let bytes = match read_vec(source, at, len, "a sparing table", MOST_TABLE) {
            Ok(bytes) => bytes,
            Err(e) if e.blame() == Blame::Source => continue,
            Err(e) => return Err(e),
        };
        let Ok((head, rest)) = SparingTable::ref_from_prefix(&bytes) else { continue };
        if check_tag(&bytes, at).is_err() || !head.id.id.starts_with(b"*UDF Sparing Table") {
            continue;
        }
        let entries = rest.chunks_exact(size_of::<Spared>()).take(head.entries.get().into());
        let entries = entries.filter_map(|e| Spared::read_from_bytes(e).ok()).map(|e| (e.from.get(), e.to.get()));
        // From 0xfffffff0 on, an entry is free or its packet is defective.
        return Ok(Some(entries.filter(|(from, _)| *from < 0xffff_fff0).collect()));
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn maps(maps: Vec<Map>) -> Maps {
        Maps { source: Arc::new(Bytes(Vec::new())), block: 2048, maps }
    }

    const PHYSICAL: Physical = Physical { number: 0, start: 100, blocks: 64 };

    #[test]
    fn packets_that_were_moved_are_read_where_they_are() {
        // Packets of four blocks; the one from block 8 on stands in block 900 of the image.
        let maps = maps(vec![Map::Sparable(PHYSICAL, 4, Some(HashMap::from([(8, 900)])))]);
        let at = |block| Address { block, partition: 0 };
        assert_eq!(maps.ranges(at(0), 2048).unwrap(), [100 * 2048..101 * 2048]);
        let around = maps.ranges(at(6), 8 * 2048).unwrap();
        assert_eq!(around, [106 * 2048..108 * 2048, 900 * 2048..904 * 2048, 112 * 2048..114 * 2048]);
        assert!(maps.ranges(at(60), 5 * 2048).is_err(), "past the end of the partition");
        assert!(maps.ranges(Address { block: 0, partition: 1 }, 1).is_err(), "no such partition");
    }

    #[test]
    fn the_metadata_file_may_stand_in_pieces() {
        let extents = vec![(10, 2), (40, 3)];
        let maps = maps(vec![Map::Plain(PHYSICAL), Map::Metadata { on: 0, file: 0, mirror: 0, extents }]);
        let at = |block| Address { block, partition: 1 };
        assert_eq!(maps.ranges(at(1), 2 * 2048).unwrap(), [111 * 2048..112 * 2048, 140 * 2048..141 * 2048]);
        assert_eq!(maps.ranges(at(4), 100).unwrap(), [142 * 2048..142 * 2048 + 100]);
        assert!(maps.ranges(at(4), 2049).is_err(), "past the end of the metadata file");
    }

    fn read(bytes: &[u8], count: u32, image: Vec<u8>) -> Result<Maps> {
        let source: SourceRef = Arc::new(Bytes(image));
        Maps::read(&source, 2048, bytes, (count, 0), &[PHYSICAL])
    }

    /// A map of type 2 (3/10.7.3): its name, the partition that it is on, what its kind adds.
    fn named(name: &[u8], more: &[u8]) -> Vec<u8> {
        let mut map = vec![2, 64, 0, 0, 0];
        map.extend(name);
        map.resize(36, 0);
        map.extend([1, 0, 0, 0]);
        map.extend(more);
        map.resize(64, 0);
        map
    }

    #[test]
    fn maps_are_read_by_their_types() {
        let plain = [1, 6, 1, 0, 0, 0];
        let metadata = named(b"*UDF Metadata Partition", &[7, 0, 0, 0, 9, 0, 0, 0]);
        let maps = read(&[&plain[..], &metadata].concat(), 2, Vec::new()).unwrap().maps;
        assert!(matches!(&maps[0], Map::Plain(p) if p.start == 100));
        assert!(matches!(&maps[1], Map::Metadata { on: 0, file: 7, mirror: 9, .. }));
        let once = read(&[&plain[..], &named(b"*UDF Virtual Partition", &[])].concat(), 2, Vec::new()).unwrap().maps;
        assert!(matches!(&once[1], Map::Virtual { on: 0, .. }));
        let unknown = read(&named(b"*UDF Tidal Partition", &[]), 1, Vec::new()).unwrap().maps;
        assert!(matches!(&unknown[0], Map::Unknown(name) if name == "tidal partition"));
    }

    #[test]
    fn a_sparing_table_says_which_packets_stand_elsewhere() {
        // Packets of 32 blocks, one table of 80 bytes in block 1: packet 32 stands in block 500, another entry is free.
        let map = named(b"*UDF Sparable Partition", &[32, 0, 1, 0, 80, 0, 0, 0, 1, 0, 0, 0]);
        let mut image = vec![0; 2 * 2048];
        image[2048 + 17..2048 + 17 + 18].copy_from_slice(b"*UDF Sparing Table");
        image[2048 + 48] = 2;
        let entries = [32u32, 500, 0xffff_ffff, 532].map(u32::to_le_bytes).concat();
        image[2048 + 56..2048 + 72].copy_from_slice(&entries);
        let moved = |image: &[u8]| {
            let maps = read(&map, 1, image.to_vec()).unwrap().maps;
            let Map::Sparable(_, 32, moved) = &maps[0] else { panic!("{:?}", maps[0]) };
            moved.clone()
        };
        assert_eq!(moved(&image), Some(HashMap::from([(32, 500)])));
        // A table whose tag does not fit, and one that is past the end, are none.
        image[2048 + 4] = 9;
        assert_eq!((moved(&image), moved(&image[..2048])), (None, None));
    }

    #[test]
    fn maps_that_cannot_be_are_errors_with_their_place() {
        let told = |bytes: &[u8], count: u32| read(bytes, count, Vec::new()).err().unwrap().to_string();
        assert!(told(&[1, 6, 1, 0, 0], 1).contains("cut short at offset 0x1b8"));
        assert!(told(&[1, 0, 1, 0, 0, 0], 1).contains("cut short"));
        assert!(told(&[3, 6, 1, 0, 0, 0], 1).contains("unknown type"));
        assert!(told(&[1, 6, 1, 0, 5, 0], 1).contains("partition 5 has no descriptor"));
        assert!(told(&named(b"*UDF Metadata Partition", &[]), 1).contains("stands on none"));
        assert!(matches!(read(&[], 17, Vec::new()), Err(Error::Limit { .. })));
    }

    proptest! {
        #[test]
        fn ranges_are_as_long_as_asked_or_an_error(block in 0u32..80, len in 0u64..200_000, packet in 1u32..40) {
            let maps = maps(vec![Map::Sparable(PHYSICAL, packet, Some(HashMap::from([(packet, 500)])))]);
            if let Ok(ranges) = maps.ranges(Address { block, partition: 0 }, len) {
                prop_assert_eq!(ranges.iter().map(|r| r.end - r.start).sum::<u64>(), len);
                prop_assert!(u64::from(block) + len.div_ceil(2048) <= 64);
            }
        }
    }
}
