//! The path tables, by which systems find a folder without walking: held against the folders that the walk has met.

use super::Volumes;
use super::raw::Descriptor;
use crate::num::{be16, be32, le16, le32};
use decanter_core::error::Blame;
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};
use std::collections::HashSet;

/// Bytes of a table: 65,535 folders with the longest names.
const MOST: u64 = 32 << 20;
/// The fixed part of a record (9.4).
const HEAD: usize = 8;

/// A folder as a table has it: its first block, the number of its parent, its name.
#[derive(PartialEq, Eq)]
struct Row {
    block: u32,
    parent: u16,
    name: Vec<u8>,
}

/// What is wrong with the tables of one tree, whose folders begin at the bytes in `folders`.
///
/// # Errors
/// What reading fails with, if the source is not to blame for it.
pub(super) fn faults(
    source: &dyn Source,
    volumes: &Volumes,
    descriptor: &Descriptor,
    folders: &HashSet<u64>,
) -> Result<Vec<String>> {
    let len = u64::from(descriptor.path_table_size.get().0);
    let places =
        [(u64::from(descriptor.path_table_le.get()), false), (u64::from(descriptor.path_table_be.get()), true)];
    let (mut faults, mut tables) = (Vec::new(), Vec::new());
    // A table at block 0 is none: some writers leave one of the two out.
    for (block, is_big) in places.into_iter().filter(|(block, _)| *block > 0) {
        let order = if is_big { "big" } else { "little" };
        let at = block.saturating_mul(volumes.block);
        let read = read_vec(source, at, len, "a path table", MOST);
        let rows = match read {
            Ok(bytes) => rows(&bytes, is_big),
            Err(e) if e.blame() == Blame::Source => {
                faults.push(format!("the path table in {order}-endian order cannot be read: {e}"));
                continue;
            }
            // What is encrypted and has no key is told elsewhere.
            Err(Error::Key(_)) => return Ok(Vec::new()),
            Err(e) => return Err(e),
        };
        let Some(rows) = rows else {
            faults.push(format!("the path table in {order}-endian order at offset {at:#x} is damaged"));
            continue;
        };
        let stray = rows.iter().find(|r| !folders.contains(&(u64::from(r.block) * volumes.block)));
        if let Some(row) = stray {
            let name = String::from_utf8_lossy(&row.name).replace(char::is_control, "");
            faults.push(format!(
                "the path table in {order}-endian order leads to block {} for the folder {name:?}, which begins elsewhere",
                row.block
            ));
        }
        tables.push(rows);
    }
    if let [first, second] = &tables[..]
        && first != second
    {
        faults.push("the path tables of the two byte orders say different things".into());
    }
    Ok(faults)
}

/// The records of a table, if they fill it exactly.
fn rows(bytes: &[u8], is_big: bool) -> Option<Vec<Row>> {
    let (mut rows, mut at) = (Vec::new(), 0);
    while at < bytes.len() {
        let name_len = usize::from(bytes[at]);
        let name = bytes.get(at + HEAD..at + HEAD + name_len)?.to_vec();
        let (block, parent) = match is_big {
            true => (be32(bytes, at + 2), be16(bytes, at + 6)),
            false => (le32(bytes, at + 2), le16(bytes, at + 6)),
        };
        if name_len == 0 || usize::from(parent) > rows.len() + 1 {
            return None;
        }
        rows.push(Row { block, parent, name });
        at += HEAD + name_len.next_multiple_of(2);
    }
    (at == bytes.len() && !rows.is_empty()).then_some(rows)
}

#[cfg(test)]
mod tests {
    use super::rows;

    #[test]
    fn a_table_by_hand() {
        // The root at block 18, and "LANES" in it at block 19.
        let little = b"\x01\0\x12\0\0\0\x01\0\0\0\x05\0\x13\0\0\0\x01\0LANES\0";
        let big = b"\x01\0\0\0\0\x12\0\x01\0\0\x05\0\0\0\0\x13\0\x01LANES\0";
        let (a, b) = (rows(little, false).unwrap(), rows(big, true).unwrap());
        assert!(a == b);
        assert_eq!((a[1].block, a[1].parent, a[1].name.as_slice()), (19, 1, &b"LANES"[..]));
        assert!(rows(&little[..little.len() - 2], false).is_none(), "a record that is cut");
        assert!(rows(&[0; 20], false).is_none(), "no names");
        assert!(rows(b"", false).is_none());
        // A parent that comes later.
        let mut later = little.to_vec();
        later[6] = 3;
        assert!(rows(&later, false).is_none());
    }
}
