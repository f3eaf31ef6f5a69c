//! UDF file systems, revisions 1.02 to 2.60 (ECMA-167, 3rd edition; OSTA UDF).
//!
//! All numbers are little-endian. Layout, checks and limits: docs/formats/udf.md.

pub(crate) mod compose;
mod descriptor;
mod entry;
mod partition;
mod raw;
mod virtual_table;
mod walk;

use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::{Error, Notice, Result, SECTOR};
use descriptor::{Allocation, check, dstring, split, tag};
use partition::{Map, Maps, Physical};

const ID: &str = "udf";
/// Byte offset of the volume recognition sequence (ECMA-167, 2/8.3).
const RECOGNITION: u64 = 0x8000;
/// How far its structures stand from each other: 2,048 bytes, or the sector, where that is longer (2/9.1, 2/8.4).
const RECOGNITION_STEPS: [u64; 2] = [SECTOR, 4096];
/// Structures of the sequence that are looked at.
const MOST_STRUCTURES: u64 = 32;
/// Sector of the first anchor (ECMA-167, 3/8.4.2.1).
const ANCHOR: u64 = 256;
/// Sector sizes that are tried: discs, disks, large-block disks.
const SECTOR_SIZES: [u64; 4] = [SECTOR, 512, 1024, 4096];
/// Sectors of a volume descriptor sequence that are read.
const MOST_DESCRIPTORS: u64 = 256;

/// The format.
pub struct Udf;

impl Format for Udf {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "UDF disc image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Disc)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["udf", "iso"]
    }

    fn reads(&self) -> &'static str {
        "revisions 1.02 to 2.60, bridge discs, metadata, sparable and virtual partitions, strategies 4 and 4096"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if !has_recognition(source)? {
            return Ok(None);
        }
        Ok(anchor(source)?.map(|_| 55))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let Some((sector, at)) = anchor(source.as_ref())? else {
            return Err(Error::malformed(ID, "there is no anchor volume descriptor", ANCHOR * SECTOR));
        };
        let mut opened = Opened::new(ID, self.name());
        let volume = read_sequence(&source, sector, at, &mut opened.told.notices)?;
        let (lvd, raw_maps) = split::<raw::Logical>("the logical volume", &volume.logical, volume.logical_at)?;
        let mut maps =
            Maps::read(&source, volume.block, raw_maps, (lvd.maps.get(), volume.logical_at), &volume.partitions)?;
        if maps.maps.iter().any(|map| matches!(map, Map::Sparable(_, _, None))) {
            opened.damage("no sparing table is whole: what was moved because of a defect is read from where it was");
        }
        find_metadata(&mut maps, &mut opened.told.notices)?;
        let written = virtual_table::find(&mut maps, &mut opened.told.notices)?;
        opened.fact("volume", dstring(&lvd.id));
        let revision = u16::from_le_bytes([lvd.domain.suffix[0], lvd.domain.suffix[1]]);
        let shown = if revision == 0 { String::new() } else { format!("{:x}.{:02x}", revision >> 8, revision & 255) };
        opened.fact("revision", shown);
        let kinds: Vec<&str> = maps.maps.iter().filter_map(kind_of).collect();
        opened.fact("partitions", kinds.join(", "));
        let end = volume.partitions.iter().map(|p| (u64::from(p.start) + u64::from(p.blocks)) * volume.block).max();
        // A disc that is written once has a partition as long as itself; a dump ends with what was written.
        opened.extent.promised_len = written.or(end);
        let walked = walk::walk(&maps, lvd.file_set.get(), opener)?;
        opened.told.notices.extend(walked.notices);
        opened.extent.structure = walked.structure;
        opened.extent.structure.push(0..(ANCHOR + 1) * sector);
        let last = (source.len() / sector).saturating_sub(1) * sector;
        if last > 0 && check(&read_array::<512>(source.as_ref(), last)?, last).is_ok_and(|id| id == tag::ANCHOR) {
            opened.extent.structure.push(last..last + sector);
        }
        opened.extent.structure.extend(volume.structure);
        opened.holds.tree = Some(walked.tree);
        Ok(opened)
    }
}

fn kind_of(map: &Map) -> Option<&str> {
    match map {
        Map::Plain(_) => None,
        Map::Sparable(..) => Some("sparable"),
        Map::Metadata { .. } => Some("metadata"),
        Map::Virtual { .. } => Some("virtual"),
        Map::Unknown(name) => Some(name),
    }
}

/// Whether the recognition sequence announces ECMA-167 (NSR02 or NSR03).
fn has_recognition(source: &dyn Source) -> Result<bool> {
    // Each structure begins a sector, where those are longer.
    for step in RECOGNITION_STEPS {
        for index in 0..MOST_STRUCTURES {
            let at = RECOGNITION + index * step;
            if at + SECTOR > source.len() {
                break;
            }
            match &read_array::<5>(source, at + 1)? {
                b"NSR02" | b"NSR03" => return Ok(true),
                b"CD001" | b"BEA01" | b"BOOT2" | b"CDW02" => {}
                _ => break,
            }
        }
    }
    Ok(false)
}

/// The sector size and the byte offset of the first anchor that holds: in sector 256, the last, or 256 before it.
fn anchor(source: &dyn Source) -> Result<Option<(u64, u64)>> {
    for sector in SECTOR_SIZES {
        let count = source.len() / sector;
        for place in [ANCHOR, count.saturating_sub(1), count.saturating_sub(1 + ANCHOR), 512] {
            let at = place * sector;
            if place < 16 || at + 512 > source.len() {
                continue;
            }
            let bytes: [u8; 512] = read_array(source, at)?;
            let (tag, _) = split::<raw::Tag>("an anchor", &bytes, at)?;
            if tag.location.get() == place as u32 && check(&bytes, at).is_ok_and(|id| id == tag::ANCHOR) {
                return Ok(Some((sector, at)));
            }
        }
    }
    Ok(None)
}

/// What the volume descriptor sequence says.
struct Volume {
    block: u64,
    logical: Vec<u8>,
    logical_at: u64,
    partitions: Vec<Physical>,
    structure: Vec<std::ops::Range<u64>>,
}

/// Reads the main sequence, or the reserve where that is damaged (ECMA-167, 3/8.4.2).
fn read_sequence(source: &SourceRef, sector: u64, anchor: u64, notices: &mut Vec<Notice>) -> Result<Volume> {
    let bytes: [u8; 512] = read_array(source.as_ref(), anchor)?;
    let (raw, _) = split::<raw::Anchor>("the anchor", &bytes, anchor)?;
    let extents = [raw.main, raw.reserve];
    let mut first = None;
    for (index, extent) in extents.into_iter().enumerate() {
        match sequence(source, sector, extent.sector.get().into(), extent.len.get().into()) {
            Ok(mut volume) => {
                if index > 0 {
                    notices.push(Notice::damage("the main volume descriptors are damaged: the reserve is used"));
                }
                let range = |e: raw::Extent| {
                    let start = u64::from(e.sector.get()) * sector;
                    start..start + u64::from(e.len.get())
                };
                volume.structure.extend(extents.map(range));
                return Ok(volume);
            }
            Err(e) if e.blame() != Blame::Source => return Err(e),
            Err(e) => first = first.or(Some(e)),
        }
    }
    Err(first.unwrap_or_else(|| Error::malformed(ID, "there are no volume descriptors", anchor)))
}

fn sequence(source: &SourceRef, sector: u64, start: u64, len: u64) -> Result<Volume> {
    // Each with its sequence number: of several, the last counts.
    let mut logical: Option<(u32, Vec<u8>, u64)> = None;
    let mut partitions: Vec<(u32, Physical)> = Vec::new();
    let (mut at, mut end) = (start, start + len.div_ceil(sector));
    for _ in 0..MOST_DESCRIPTORS {
        if at >= end {
            break;
        }
        let offset = at * sector;
        // A descriptor takes one sector; only the map table of a logical volume may take more.
        let bytes = read_vec(source.as_ref(), offset, sector, "a volume descriptor", 1 << 16)?;
        at += 1;
        let id = match check(&bytes, offset) {
            Ok(id) => id,
            Err(_) if bytes[..2] == [0, 0] => break,
            Err(e) => return Err(e),
        };
        match id {
            tag::PARTITION => {
                let (raw, _) = split::<raw::Partition>("a partition descriptor", &bytes, offset)?;
                let (number, sequence) = (raw.number.get(), raw.sequence.get());
                let physical = Physical { number, start: raw.start.get(), blocks: raw.blocks.get() };
                match partitions.iter_mut().find(|(_, p)| p.number == number) {
                    Some(old) if sequence >= old.0 => *old = (sequence, physical),
                    Some(_) => {}
                    None => partitions.push((sequence, physical)),
                }
            }
            tag::LOGICAL_VOLUME => {
                let (raw, _) = split::<raw::Logical>("a logical volume descriptor", &bytes, offset)?;
                let sequence = raw.sequence.get();
                if logical.as_ref().is_none_or(|(latest, ..)| sequence >= *latest) {
                    logical = Some((sequence, bytes.clone(), offset));
                }
            }
            tag::POINTER => {
                let (raw, _) = split::<raw::Pointer>("a volume descriptor pointer", &bytes, offset)?;
                at = raw.next.sector.get().into();
                end = at + u64::from(raw.next.len.get()).div_ceil(sector);
            }
            tag::TERMINATING => break,
            // The volume itself, free space, what implementations say: nothing here leads to files.
            _ => {}
        }
    }
    let Some((_, logical, logical_at)) = logical else {
        return Err(Error::malformed(ID, "there is no logical volume descriptor", start * sector));
    };
    let (raw, _) = split::<raw::Logical>("the logical volume descriptor", &logical, logical_at)?;
    let block = u64::from(raw.block.get());
    if !SECTOR_SIZES.contains(&block) {
        return Err(Error::malformed(ID, format!("a logical block of {block} bytes"), logical_at + 212));
    }
    if partitions.is_empty() {
        return Err(Error::malformed(ID, "there is no partition descriptor", start * sector));
    }
    // Partition descriptors count in sectors, which UDF makes the same as blocks (2.60, 2.2.4.2).
    let partitions = partitions.into_iter().map(|(_, p)| p).collect();
    Ok(Volume { block, logical, logical_at, partitions, structure: Vec::new() })
}

/// Finds the metadata files, or their mirrors (UDF 2.60, 2.2.13).
fn find_metadata(maps: &mut Maps, notices: &mut Vec<Notice>) -> Result<()> {
    for index in 0..maps.maps.len() {
        let Map::Metadata { on, file, mirror, .. } = &maps.maps[index] else { continue };
        let (on, file, mirror) = (*on, *file, *mirror);
        let read = |block: u32| entry::read(maps, descriptor::Address { block, partition: on }, maps.block);
        let found = match read(file) {
            Ok(found) => found,
            Err(e) if e.blame() != Blame::Source => return Err(e),
            Err(e) => {
                notices.push(Notice::damage(format!("the metadata file cannot be used ({e}): its mirror is")));
                read(mirror)?
            }
        };
        let extents = found.block_extents(maps);
        maps.set_metadata(index, extents);
    }
    Ok(())
}

/// An ICB as a pair of block and length.
fn icb(allocation: Allocation) -> (descriptor::Address, u64) {
    (allocation.at, allocation.len.into())
}
