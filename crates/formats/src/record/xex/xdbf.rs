//! The resource of a program with its names and pictures. Numbers are big-endian.

use crate::num::{be16, be32, be64};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::sync::Arc;

const HEAD: u64 = 24;
const ENTRY: u64 = 18;
/// Bytes of an entry of the list of free places.
const FREE: u64 = 8;
const MOST_ENTRIES: u64 = 65_536;
/// A table of texts of a program has a few KiB.
const MOST_TEXTS: u64 = 1 << 20;
/// What entries are: pictures, texts.
const PICTURES: u16 = 2;
const TEXTS: u16 = 3;
/// Number of the title, as a picture and as a text.
const TITLE: u64 = 0x8000;

/// Names of the title by language (counted from 1 as consoles do), and its picture.
#[derive(Default)]
pub struct Shown {
    /// The names.
    pub names: Vec<(usize, String)>,
    /// The picture: PNG.
    pub picture: Option<SourceRef>,
}

/// Reads the title's names and picture.
///
/// # Errors
/// [`Error::Malformed`] for what is no such resource, and what reading fails with.
pub fn read(resource: &SourceRef) -> Result<Shown> {
    let head = read_vec(resource.as_ref(), 0, HEAD, "a resource", HEAD)?;
    if &head[..4] != b"XDBF" {
        return Err(Error::malformed("xex", "a resource that does not begin with XDBF", 0));
    }
    let (room, count, free) = (u64::from(be32(&head, 8)), u64::from(be32(&head, 12)), u64::from(be32(&head, 16)));
    let data_at = HEAD + room * ENTRY + free * FREE;
    let list =
        read_vec(resource.as_ref(), HEAD, count.min(room) * ENTRY, "entries of a resource", MOST_ENTRIES * ENTRY)?;
    let mut shown = Shown::default();
    for entry in list.chunks_exact(ENTRY as usize) {
        let (kind, id) = (be16(entry, 0), be64(entry, 2));
        let (at, len) = (data_at + u64::from(be32(entry, 10)), u64::from(be32(entry, 14)));
        match (kind, id) {
            (PICTURES, TITLE) => shown.picture = Some(Arc::new(Slice::new(resource.clone(), at, len)?)),
            (TEXTS, 1..=12) => {
                let texts = read_vec(resource.as_ref(), at, len, "texts of a program", MOST_TEXTS)?;
                shown.names.extend(text(&texts, TITLE as u16).map(|name| (id as usize, name)));
            }
            _ => {}
        }
    }
    shown.names.sort();
    Ok(shown)
}

/// A text out of a table: `XSTR`, version, bytes, number of texts; each with its number and length.
fn text(table: &[u8], wanted: u16) -> Option<String> {
    let mut rest = table.strip_prefix(b"XSTR")?.get(10..)?;
    while let Some((head, behind)) = rest.split_at_checked(4) {
        let (id, len) = (be16(head, 0), usize::from(be16(head, 2)));
        let (own, next) = behind.split_at_checked(len)?;
        if id == wanted {
            return Some(String::from_utf8_lossy(own).trim_end_matches('\0').trim().to_owned());
        }
        rest = next;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    /// By hand: room for two entries, a picture of three bytes and a table of texts with one text.
    #[test]
    fn a_resource_by_hand() {
        let mut raw = b"XDBF\0\x01\0\0".to_vec();
        raw.extend([2u32, 2, 1, 0].iter().flat_map(|n| n.to_be_bytes()));
        raw.extend([0, 2, 0, 0, 0, 0, 0, 0, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 3]);
        let texts = b"XSTR\0\0\0\x01\0\0\0\x0b\0\x01\x80\0\0\x07Rowing!";
        raw.extend([0, 3, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 3, 0, 0, 0, texts.len() as u8]);
        raw.extend([0; 8]);
        raw.extend(b"PNG");
        raw.extend(texts);
        let shown = read(&(Arc::new(Bytes(raw.clone())) as SourceRef)).unwrap();
        assert_eq!(shown.names, [(1, "Rowing!".to_owned())]);
        let picture = shown.picture.unwrap();
        assert_eq!(read_vec(picture.as_ref(), 0, 3, "x", 3).unwrap(), b"PNG");
        raw.truncate(70);
        assert!(read(&(Arc::new(Bytes(raw)) as SourceRef)).is_err());
    }

    proptest::proptest! {
        #[test]
        fn nonsense_is_an_error_or_nothing(mut bytes in proptest::collection::vec(proptest::num::u8::ANY, 24..300)) {
            bytes[..4].copy_from_slice(b"XDBF");
            let _ = read(&(Arc::new(Bytes(bytes)) as SourceRef));
        }
    }
}
