//! Directory records (9.1) and the folders that they make.

use super::layout::{Layout, Side};
use super::names::{Names, key, ucs2};
use crate::optical::both::{Both16, Both32};
use crate::optical::iso9660::raw::{FLAG_FOLDER, FLAG_MORE_EXTENTS, RECORD_LEN, Record};
use decanter_core::SECTOR;
use zerocopy::{FromZeros, IntoBytes};

/// The largest extent: the longest multiple of a sector that 32 bits can hold (9.1.4).
const MOST_EXTENT: u64 = 0xffff_f800;

/// A date of a directory record (9.1.5); zeros for "not given".
fn date7(seconds: Option<i64>) -> [u8; 7] {
    let Some(seconds) = seconds else { return [0; 7] };
    let ((year, month, day), (h, m, s)) = crate::time::date(seconds);
    [(year - 1900).clamp(0, 255) as u8, month, day, h, m, s, 0]
}

/// One record; `sector` and `len` in bytes are those of its extent.
pub(super) fn record(identifier: &[u8], sector: u64, len: u64, modified: Option<i64>, flags: u8) -> Vec<u8> {
    let length = (RECORD_LEN + identifier.len()).next_multiple_of(2);
    let mut raw = Record::new_zeroed();
    raw.length = length as u8;
    raw.extent = Both32::new(sector as u32);
    raw.data_length = Both32::new(len as u32);
    raw.date = date7(modified);
    raw.flags = flags;
    raw.volume = Both16::new(1);
    raw.identifier_length = identifier.len() as u8;
    let mut bytes = raw.as_bytes().to_vec();
    bytes.extend(identifier);
    bytes.resize(length, 0);
    bytes
}

/// One record for each extent of a file of `len` bytes.
fn file_records(identifier: &[u8], mut sector: u64, len: u64, modified: Option<i64>) -> Vec<Vec<u8>> {
    let mut records = Vec::new();
    let mut left = len;
    loop {
        let here = left.min(MOST_EXTENT);
        left -= here;
        let flags = if left > 0 { FLAG_MORE_EXTENTS } else { 0 };
        records.push(record(identifier, sector, here, modified, flags));
        if left == 0 {
            return records;
        }
        sector += here / SECTOR;
    }
}

/// The extent of a folder: itself, its parent, then all others sorted by identifier (9.3), none crossing the end of a
/// sector.
pub(super) fn folder(layout: &Layout, side: &Side, index: usize) -> Vec<u8> {
    let of = |f: usize, identifier: &[u8]| {
        record(identifier, side.places[f], side.lens[f], layout.tree.folders[f].named.modified, FLAG_FOLDER)
    };
    let own = &layout.tree.folders[index];
    let mut records = Vec::new();
    for &child in &own.folders {
        let identifier = layout.folder_identifier(child, side.names);
        records.push((key(&identifier, side.names), vec![of(child, &identifier)]));
    }
    for &file in &own.files {
        let item = &layout.tree.files[file];
        let identifier = match side.names {
            Names::Plain => layout.plain_files[file].as_bytes().to_vec(),
            Names::Joliet => ucs2(&format!("{};1", item.named.name)),
        };
        let extents = file_records(&identifier, layout.sectors[file], item.source.len(), item.named.modified);
        records.push((key(&identifier, side.names), extents));
    }
    records.sort();
    let mut bytes = [of(index, &[0]), of(own.named.parent, &[1])].concat();
    for record in records.into_iter().flat_map(|(_, r)| r) {
        let left = SECTOR as usize - bytes.len() % SECTOR as usize;
        if record.len() > left {
            bytes.resize(bytes.len() + left, 0);
        }
        bytes.extend(record);
    }
    bytes.resize(bytes.len().next_multiple_of(SECTOR as usize), 0);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Counted by hand along table 9.1: the lengths, both orders, the date, the flags, the volume, the name and its pad.
    #[test]
    fn a_record_has_these_bytes() {
        let modified = crate::time::seconds((1998, 3, 14), (9, 26, 53));
        let bytes = record(b"KELP.DAT;1", 0x1234, 0x0001_e240, Some(modified), 0);
        let want = [
            &[44, 0][..],
            &[0x34, 0x12, 0, 0, 0, 0, 0x12, 0x34],
            &[0x40, 0xe2, 1, 0, 0, 1, 0xe2, 0x40],
            &[98, 3, 14, 9, 26, 53, 0],
            &[0, 0, 0],
            &[1, 0, 0, 1],
            &[10],
            b"KELP.DAT;1",
            &[0],
        ];
        assert_eq!(bytes, want.concat());
        let root = record(&[0], 23, 2048, None, FLAG_FOLDER);
        assert_eq!((root.len(), root[0], root[25], root[32], root[33]), (34, 34, 2, 1, 0));
        assert_eq!(root[18..25], [0; 7], "no date is given");
    }

    #[test]
    fn a_long_file_has_one_record_for_each_extent() {
        let word = |record: &[u8], at: usize| crate::num::le32(record, at);
        let all = file_records(b"A.;1", 100, 0xffff_f800 + 5, None);
        assert_eq!(all.len(), 2);
        assert_eq!((word(&all[0], 2), word(&all[0], 10), all[0][25]), (100, 0xffff_f800, 0x80));
        assert_eq!((word(&all[1], 2), word(&all[1], 10), all[1][25]), (100 + 0x1f_ffff, 5, 0));
        assert_eq!(file_records(b"A.;1", 100, 0, None).len(), 1, "an empty file has a record too");
    }
}
