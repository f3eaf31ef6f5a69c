//! The file allocation table: for each file where it begins and ends.

use super::{HEADER, NINTENDO_DS, range};
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};
use std::ops::Range;
use zerocopy::byteorder::{LE, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

/// The most that the table may have: 61,440 files.
const MOST: u64 = 0xf000 * size_of::<Entry>() as u64;
/// Where the header names it.
const AT: usize = 0x48;

/// A file's place in the ROM, in bytes.
#[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct Entry {
    start: U32<LE>,
    end: U32<LE>,
}
const _: () = assert!(size_of::<Entry>() == 8);

/// The places of all files, by their numbers.
///
/// # Errors
/// What reading fails with, [`Error::Malformed`] for a file that ends before it begins.
pub(super) fn places(source: &dyn Source, header: &[u8; HEADER]) -> Result<Vec<Range<u64>>> {
    let Range { start, end } = range(header, AT);
    let bytes = read_vec(source, start, end - start, "the file allocation table", MOST)?;
    let entries = bytes.chunks_exact(size_of::<Entry>()).filter_map(|raw| Entry::read_from_bytes(raw).ok());
    let place = |(index, entry): (usize, Entry)| {
        let place = u64::from(entry.start.get())..u64::from(entry.end.get());
        if place.end < place.start {
            let at = start + (index * size_of::<Entry>()) as u64;
            return Err(Error::malformed(NINTENDO_DS.id, "a file that ends before it begins", at));
        }
        Ok(place)
    };
    entries.enumerate().map(place).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    #[test]
    fn a_table_worked_out_by_hand() {
        let rom = |table: &[u8]| {
            let mut bytes = vec![0; 0x400];
            bytes[0x48..0x50].copy_from_slice(&[0, 3, 0, 0, table.len() as u8, 0, 0, 0]);
            bytes[0x300..0x300 + table.len()].copy_from_slice(table);
            let header = *bytes.first_chunk().unwrap();
            places(&Bytes(bytes), &header)
        };
        let two = [0, 2, 0, 0, 0x10, 2, 0, 0, 0x10, 2, 0, 0, 0x10, 2, 0, 0];
        assert_eq!(rom(&two).unwrap(), [0x200..0x210, 0x210..0x210]);
        let turned = rom(&[0, 2, 0, 0, 0x10, 2, 0, 0, 0x11, 2, 0, 0, 0x10, 2, 0, 0]).err().unwrap().to_string();
        assert!(turned.contains("0x308"), "{turned}");
        assert!(rom(&[]).unwrap().is_empty());
    }
}
