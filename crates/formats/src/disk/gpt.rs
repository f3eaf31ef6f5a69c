//! The GUID partition table (UEFI specification, 5.3): a header and an array of entries, each with a CRC-32, and a copy
//! of both at the end of the drive.
//!
//! Numbers are little-endian. Layout: docs/formats/partitions.md.

use super::{Partition, add_partition};
use crate::raw::{read_at, split};
use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::{Error, Result};
use zerocopy::IntoBytes;

const ID: &str = "gpt";
const MAGIC: &[u8; 8] = b"EFI PART";
/// Entries of a table, and bytes of one.
const MOST_ENTRIES: u32 = 1024;
const MOST_ENTRY: u32 = 4096;

mod raw {
    use crate::raw::layouts;
    use zerocopy::byteorder::{LE, U16, U32, U64};

    layouts! {
        /// The header.
        Header: 92 {
            magic: [u8; 8],
            revision: U32<LE>,
            len: U32<LE>,
            sum: U32<LE>,
            reserved: U32<LE>,
            own: U64<LE>,
            other: U64<LE>,
            first_usable: U64<LE>,
            last_usable: U64<LE>,
            drive: [u8; 16],
            entries: U64<LE>,
            count: U32<LE>,
            entry_len: U32<LE>,
            entries_sum: U32<LE>,
        }

        /// An identifier, with its first three fields as numbers.
        Guid: 16 {
            first: U32<LE>,
            second: U16<LE>,
            third: U16<LE>,
            rest: [u8; 8],
        }

        /// An entry; longer ones have nothing more that is defined.
        Entry: 128 {
            kind: Guid,
            own: Guid,
            first: U64<LE>,
            last: U64<LE>,
            flags: U64<LE>,
            label: [U16<LE>; 36],
        }
    }
}

/// The format.
pub struct Gpt;

/// A table whose checksums hold, or what is wrong with it.
struct Table {
    sector_len: u64,
    entry_len: usize,
    entries: Vec<u8>,
    faults: Vec<String>,
}

impl Format for Gpt {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "drive with a GPT partition table"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Drive)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img"]
    }

    fn reads(&self) -> &'static str {
        "both copies of the table with their checksums; sectors of 512 and 4096 bytes"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(first_header(source)?.or(last_header(source)?).map(|_| 94))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        opened.extent.unit = Some(512);
        let first = first_header(source.as_ref())?.map(|(at, len)| table(source.as_ref(), at, len)).transpose()?;
        let last = last_header(source.as_ref())?.map(|(at, len)| table(source.as_ref(), at, len)).transpose()?;
        let told = [("table at the beginning", &first), ("copy of the table at the end", &last)];
        for (name, table) in told {
            let missing = vec!["it is not there".to_owned()];
            let faults = table.as_ref().map_or(&missing, |t| &t.faults);
            opened.proof.settled.push(Settled::of(name, faults, "the other copy is used as long as that is sound"));
        }
        let sound = |table: &Option<Table>| table.as_ref().is_some_and(|t| t.faults.is_empty());
        let table = match (first, last) {
            (first, Some(last)) if !sound(&first) && last.faults.is_empty() => {
                opened.damage("the partition table at the beginning is damaged; the copy at the end is used");
                last
            }
            (Some(first), _) => first,
            (None, Some(last)) => last,
            (None, None) => return Err(Error::malformed(ID, "no table has its signature", 512)),
        };
        for (index, bytes) in table.entries.chunks_exact(table.entry_len).enumerate() {
            let at = (index * table.entry_len) as u64;
            let (entry, _) = split::<raw::Entry>(ID, "an entry of the table", bytes, at)?;
            if entry.kind.as_bytes() == [0; 16] {
                continue;
            }
            let (first, last) = (entry.first.get(), entry.last.get());
            let units: Vec<u16> = entry.label.iter().map(|unit| unit.get()).take_while(|unit| *unit != 0).collect();
            let label = String::from_utf16_lossy(&units);
            let label = if label.is_empty() { String::new() } else { format!(" \"{label}\"") };
            let len =
                last.checked_sub(first).and_then(|n| n.checked_add(1)).and_then(|n| n.checked_mul(table.sector_len));
            let (Some(len), Some(start)) = (len, first.checked_mul(table.sector_len)) else {
                opened.damage(format!("partition {} goes from sector {first} to {last}, which cannot be", index + 1));
                continue;
            };
            let kind = format!("{}{label}", kind_name(&entry.kind));
            add_partition(
                &mut opened,
                &Partition { name: (index + 1).to_string(), kind, start, len },
                &source,
                opener,
            )?;
        }
        opened.holds.tree.get_or_insert_default();
        Ok(opened)
    }
}

/// A header at the beginning: where, and bytes of a sector.
fn first_header(source: &dyn Source) -> Result<Option<(u64, u64)>> {
    for len in [512, 4096] {
        if source.len() >= len * 2 && &read_array::<8>(source, len)? == MAGIC {
            return Ok(Some((len, len)));
        }
    }
    Ok(None)
}

/// A header in the last sector.
fn last_header(source: &dyn Source) -> Result<Option<(u64, u64)>> {
    for len in [512, 4096] {
        let at = source.len().saturating_sub(len) / len * len;
        if source.len() < len * 4 {
            continue;
        }
        match read_array::<8>(source, at) {
            Ok(magic) if &magic == MAGIC => return Ok(Some((at, len))),
            // The end of an image that was cut short may not be readable.
            Err(e) if e.blame() != Blame::Source => return Err(e),
            _ => {}
        }
    }
    Ok(None)
}

/// Reads the table that the header at `at` describes.
fn table(source: &dyn Source, at: u64, sector_len: u64) -> Result<Table> {
    let header: raw::Header = read_at(source, at)?;
    let (own, count, entry_len) = (header.own.get(), header.count.get(), header.entry_len.get());
    let mut faults = Vec::new();
    let summed = raw::Header { sum: 0.into(), ..header };
    if header.len.get() as usize != size_of_val(&header) || crc32fast::hash(summed.as_bytes()) != header.sum.get() {
        faults.push(format!("the CRC-32 of its header does not hold (byte {at:#x})"));
    }
    if own.checked_mul(sector_len) != Some(at) {
        faults.push(format!("its header says that it stands in sector {own}"));
    }
    if count > MOST_ENTRIES || !(128..=MOST_ENTRY).contains(&entry_len) {
        return Err(Error::malformed(ID, format!("{count} entries of {entry_len} bytes"), at + 80));
    }
    let place = header.entries.get().saturating_mul(sector_len);
    let entries = match read_vec(source, place, u64::from(count) * u64::from(entry_len), "a partition table", u64::MAX)
    {
        Ok(entries) => entries,
        Err(e) if e.blame() == Blame::Source => {
            faults.push(format!("its entries (byte {place:#x}) lie past the end of the drive"));
            Vec::new()
        }
        Err(e) => return Err(e),
    };
    if crc32fast::hash(&entries) != header.entries_sum.get() && faults.is_empty() {
        faults.push(format!("the CRC-32 of its entries does not hold (byte {place:#x})"));
    }
    Ok(Table { sector_len, entry_len: entry_len as usize, entries, faults })
}

/// What the type of a partition stands for.
fn kind_name(guid: &raw::Guid) -> String {
    match (guid.first.get(), guid.second.get(), guid.third.get()) {
        (0xc12a_7328, 0xf81f, 0x11d2) => "EFI system partition".into(),
        (0xebd0_a0a2, 0xb9e5, 0x4433) => "basic data".into(),
        (0x0fc6_3daf, 0x8483, 0x4772) => "file system of Linux".into(),
        (0x0657_fd6d, 0xa4ab, 0x43c4) => "swap".into(),
        (0x2168_6148, 0x6449, 0x6e6f) => "BIOS boot partition".into(),
        (a, b, c) => format!("type {a:08x}-{b:04x}-{c:04x}"),
    }
}
