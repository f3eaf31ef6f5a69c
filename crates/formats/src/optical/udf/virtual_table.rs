//! The table of a virtual partition (UDF 2.60, 2.2.10; UDF 1.50, 2.2.10): on discs that are written once, what is changed is written
//! anew, and the table says where each block stands now. Its entry is the last thing that was written.

use super::ID;
use super::descriptor::Address;
use super::entry::{self, Entry};
use super::partition::{Map, Maps};
use decanter_core::error::Blame;
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Notice, Result};
use zerocopy::FromBytes;
use zerocopy::byteorder::{LE, U16, U32};

/// Blocks before the end of the image in which the entry is looked for: drives leave some behind what was written.
const MOST_BACK: u64 = 512;
/// Bytes behind what was written that are passed over: an image may be as long as the disc that was only begun.
const MOST_EMPTY: u64 = 16 << 30;
/// Bytes that are read at once to find the end of what was written.
const PIECE: u64 = 4 << 20;
/// Bytes of a table: a disc of 50 GB has fewer blocks.
const MOST_TABLE: u64 = 128 << 20;
/// File types of the table: since revision 2.00 one of its own, before none.
const OWN: u8 = 248;
const NONE: u8 = 0;
/// Bytes behind the table before revision 2.00: what it is, and where the one before stands.
const TRAILER: usize = 36;
const NAME: &[u8] = b"*UDF Virtual Alloc Tbl";
/// Bytes of the head since revision 2.00, at least.
const HEAD: usize = 152;

/// Finds the tables of all virtual partitions, and the end of the last one: nothing was written behind it. `None` without virtual
/// partitions.
///
/// # Errors
/// When there is none, or what reading fails with.
pub(super) fn find(maps: &mut Maps, notices: &mut Vec<Notice>) -> Result<Option<u64>> {
    let mut end = None;
    for index in 0..maps.maps.len() {
        let Map::Virtual { on, .. } = maps.maps[index] else { continue };
        let Some(Map::Plain(physical)) = maps.maps.get(usize::from(on)) else { continue };
        let start = u64::from(physical.start);
        let last = written(maps.source.as_ref())?.div_ceil(maps.block).min(maps.source.len() / maps.block);
        let mut found = None;
        let (from, to) = (last.saturating_sub(MOST_BACK).max(start), last);
        for block in (from..to).rev() {
            let Ok(within) = u32::try_from(block - start) else { continue };
            let read = entry::read(maps, Address { block: within, partition: on }, maps.block);
            let table = match read {
                Ok(entry) => table(maps, &entry),
                Err(e) if e.blame() != Blame::Source => return Err(e),
                Err(_) => continue,
            };
            match table {
                Ok(Some(table)) => {
                    found = Some((block, table));
                    break;
                }
                Err(e) if e.blame() != Blame::Source => return Err(e),
                // An entry of something else, or one that cannot be read: one that was written before it may be whole.
                Ok(None) | Err(_) => {}
            }
        }
        let Some((block, table)) = found else {
            let what = "the table of its virtual partition is not at the end of what was written: the disc is cut, or was not closed";
            return Err(Error::malformed(ID, what, last.saturating_sub(1) * maps.block));
        };
        if block + 1 < last {
            notices.push(Notice::new(format!(
                "something follows behind the table of the virtual partition (block {block})"
            )));
        }
        maps.set_virtual(index, table);
        end = end.max(Some((block + 1) * maps.block));
    }
    Ok(end)
}

/// Where what was written ends: what follows are zeros.
fn written(source: &dyn Source) -> Result<u64> {
    let mut end = source.len();
    while end > source.len().saturating_sub(MOST_EMPTY) {
        let len = end.min(PIECE);
        let piece = read_vec(source, end - len, len, "the end of a disc", PIECE)?;
        if let Some(last) = piece.iter().rposition(|byte| *byte != 0) {
            return Ok(end - len + last as u64 + 1);
        }
        end -= len;
    }
    Ok(end)
}

/// The table in an entry; `None` if it is none.
fn table(maps: &Maps, entry: &Entry) -> Result<Option<Vec<u32>>> {
    if !matches!(entry.file_type, OWN | NONE) {
        return Ok(None);
    }
    let file = entry.file(maps)?;
    let source = file.source()?;
    let bytes = read_vec(source.as_ref(), 0, source.len(), "the table of a virtual partition", MOST_TABLE)?;
    let entries = match entry.file_type {
        OWN => {
            let head =
                bytes.get(..2).and_then(|two| U16::<LE>::read_from_bytes(two).ok()).map(|n| usize::from(n.get()));
            head.filter(|head| *head >= HEAD).and_then(|head| bytes.get(head..))
        }
        _ => bytes.len().checked_sub(TRAILER).and_then(|len| {
            // A regid has a byte of flags before its name.
            bytes[len + 1..].starts_with(NAME).then_some(&bytes[..len])
        }),
    };
    Ok(entries.map(|entries| {
        let words = entries.chunks_exact(4).filter_map(|word| U32::<LE>::read_from_bytes(word).ok());
        words.map(U32::get).collect()
    }))
}
