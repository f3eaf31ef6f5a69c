//! The partition table of PCs: four entries in the first sector, and a chain of further tables in an extended partition.
//!
//! Numbers are little-endian, in sectors of 512 bytes. Layout: docs/formats/partitions.md.

use super::BOOT_MARK;
use super::{Partition, add_partition, is_boot_sector};
use crate::raw::read_at;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use std::collections::HashSet;

const ID: &str = "mbr";
/// Bytes of a sector.
const SECTOR: u64 = 512;
/// Where the four entries begin.
const ENTRIES: usize = std::mem::offset_of!(raw::Sector, entries);
/// Partitions in an extended one.
const MOST_LOGICAL: usize = 128;
/// The type that stands for a table of the newer kind.
const PROTECTIVE: u8 = 0xee;

mod raw {
    use crate::raw::layouts;
    use zerocopy::byteorder::{LE, U32};

    layouts! {
        /// One of four entries.
        Entry: 16 {
            status: u8,
            first: [u8; 3],
            kind: u8,
            last: [u8; 3],
            start: U32<LE>,
            sectors: U32<LE>,
        }

        /// A sector with a table.
        Sector: 512 {
            code: [u8; 446],
            entries: [Entry; 4],
            mark: [u8; 2],
        }
    }
}

/// The format.
pub struct Mbr;

/// An entry.
#[derive(Debug, Clone, Copy)]
struct Entry {
    status: u8,
    kind: u8,
    start: u64,
    sectors: u64,
}

impl Entry {
    fn all(sector: &raw::Sector) -> [Self; 4] {
        std::array::from_fn(|i| {
            let own = &sector.entries[i];
            Self {
                status: own.status,
                kind: own.kind,
                start: own.start.get().into(),
                sectors: own.sectors.get().into(),
            }
        })
    }

    fn is_used(&self) -> bool {
        self.kind != 0 && self.sectors != 0
    }

    fn is_extended(&self) -> bool {
        matches!(self.kind, 0x05 | 0x0f | 0x85)
    }
}

/// What the type of a partition stands for, as far as its makers agree.
fn kind_name(kind: u8) -> String {
    let name = match kind {
        0x01 => "FAT12",
        0x04 | 0x06 | 0x0e => "FAT16",
        0x07 => "NTFS or exFAT",
        0x0b | 0x0c => "FAT32",
        0x82 => "swap",
        0x83 => "ext",
        PROTECTIVE => "GPT",
        _ => return format!("type {kind:#04x}"),
    };
    format!("type {kind:#04x} ({name})")
}

impl Format for Mbr {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "drive with an MBR partition table"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Drive)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img", "hdd"]
    }

    fn reads(&self) -> &'static str {
        "primary, extended and logical partitions"
    }

    fn marks(&self) -> &'static [Mark] {
        &[BOOT_MARK]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if !is_boot_sector(source)? {
            return Ok(None);
        }
        let entries = Entry::all(&read_at(source, 0)?);
        let is_one = entries.iter().all(|e| e.status & 0x7f == 0 && (!e.is_used() || e.start > 0))
            && entries.iter().any(Entry::is_used);
        Ok(is_one.then_some(60))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let entries = Entry::all(&read_at(source.as_ref(), 0)?);
        let mut opened = Opened::new(ID, self.name());
        opened.extent.unit = Some(512);
        if entries.iter().any(|e| e.kind == PROTECTIVE) {
            opened.damage("it should have a GPT partition table, but that is damaged at its beginning and at its end");
        }
        for (index, entry) in entries.iter().enumerate().filter(|(_, e)| e.is_used() && !e.is_extended()) {
            let active = if entry.status == 0x80 { ", active" } else { "" };
            let partition = Partition {
                name: (index + 1).to_string(),
                kind: format!("{}{active}", kind_name(entry.kind)),
                start: entry.start * SECTOR,
                len: entry.sectors * SECTOR,
            };
            add_partition(&mut opened, &partition, &source, opener)?;
        }
        for entry in entries.iter().filter(|e| e.is_used() && e.is_extended()) {
            logical(&mut opened, *entry, &source, opener)?;
        }
        if opened.holds.tree.is_none() {
            return Err(Error::malformed(ID, "the table names no partition", ENTRIES as u64));
        }
        overlaps(&mut opened);
        Ok(opened)
    }
}

/// The partitions in an extended one: tables that each name one and the next table.
fn logical(opened: &mut Opened, extended: Entry, source: &SourceRef, opener: &Opener<'_>) -> Result<()> {
    let (mut at, mut seen) = (extended.start, HashSet::new());
    for number in 5.. {
        let here = at * SECTOR;
        if here + SECTOR > source.len() {
            opened
                .damage(format!("the table of partition {number} (at byte {here:#x}) lies past the end of the drive"));
            break;
        }
        if !seen.insert(at) || seen.len() > MOST_LOGICAL {
            opened
                .damage(format!("the tables of the extended partition go in a circle (byte {here:#x}): not followed"));
            break;
        }
        let sector: raw::Sector = read_at(source.as_ref(), here)?;
        if sector.mark != [0x55, 0xaa] {
            opened.damage(format!("the table of partition {number} (at byte {here:#x}) is damaged: the next are lost"));
            break;
        }
        let entries = Entry::all(&sector);
        if let Some(own) = entries.iter().find(|e| e.is_used() && !e.is_extended()) {
            let partition = Partition {
                name: number.to_string(),
                kind: kind_name(own.kind),
                start: (at + own.start) * SECTOR,
                len: own.sectors * SECTOR,
            };
            add_partition(opened, &partition, source, opener)?;
        }
        match entries.iter().find(|e| e.is_used() && e.is_extended()) {
            Some(next) => at = extended.start + next.start,
            None => break,
        }
    }
    Ok(())
}

/// Says which partitions lie in each other.
fn overlaps(opened: &mut Opened) {
    let mut spans: Vec<(std::ops::Range<u64>, String)> = opened
        .holds
        .tree
        .iter()
        .flat_map(|t| t.files())
        .filter_map(|(n, f)| Some((f.spans.first()?.clone(), n.path.clone())))
        .collect();
    spans.sort_by_key(|(range, _)| range.start);
    for pair in spans.windows(2) {
        if pair[1].0.start < pair[0].0.end {
            opened.damage(format!("partitions {} and {} overlap", pair[0].1, pair[1].1));
        }
    }
}
