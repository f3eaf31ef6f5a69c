//! The items of a package: table, names and ranges, each checked against the data area.

use super::raw::Entry;
use decanter_core::error::KeyTrouble;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tell::grouped;
use decanter_core::tree::{Content, File, Kind, Node};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;
use zerocopy::FromBytes;

/// Bytes of an entry in the table.
pub const ENTRY: u64 = 0x20;
/// The most items.
pub const MOST: u64 = 1 << 18;
/// Bytes from the beginning of the data area that table and names may take.
const MOST_NAMES: u64 = 64 << 20;
/// The longest name.
const MOST_NAME: u32 = 4096;

/// Kinds of items, in the lowest byte of their flags.
pub const PROGRAM: u32 = 1;
/// An NPD-wrapped file.
pub const EDAT: u32 = 2;
/// Any other file.
pub const FILE: u32 = 3;
/// A folder.
pub const FOLDER: u32 = 4;
/// An NPD-wrapped file without a licence.
pub const SDAT: u32 = 9;
/// A folder, too.
const OTHER_FOLDER: u32 = 0x12;
/// The item is under the PSP key.
const PSP: u32 = 0x1000_0000;
/// The item replaces what is there.
pub const REPLACES: u32 = 0x8000_0000;

/// An item.
#[derive(Debug, Clone)]
pub struct Item {
    /// Its name: a path with `/`.
    pub name: String,
    /// Its bytes, from the data area.
    pub range: Range<u64>,
    /// As they stand.
    pub flags: u32,
    /// What is wrong with it.
    pub fault: Option<String>,
    /// Whether its name is no text: under a wrong key none is.
    pub is_garbled: bool,
}

impl Item {
    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        matches!(self.flags & 0xff, FOLDER | OTHER_FOLDER)
    }

    /// Whether name and bytes are under the PSP key.
    pub fn is_psp(&self) -> bool {
        self.flags & PSP != 0
    }
}

/// The data area through one key stream.
#[derive(Clone)]
pub struct View {
    /// Its bytes; reading them fails where the key is missing.
    pub source: SourceRef,
    /// Which key that is.
    pub trouble: Option<KeyTrouble>,
}

/// The data area through its key streams.
pub struct Area {
    /// Items without the PSP flag.
    pub own: View,
    /// Items with it.
    pub psp: View,
}

impl Area {
    /// The bytes for an item.
    pub fn of(&self, item: &Item) -> &View {
        if item.is_psp() { &self.psp } else { &self.own }
    }
}

/// The items as the table has them: with their ranges, but without names.
///
/// # Errors
/// [`Error::Malformed`] when the table does not fit into the data area, and what reading fails with.
pub(super) fn table(area: &SourceRef, count: u64, data_len: u64) -> Result<Vec<Entry>> {
    if count > MOST {
        return Err(Error::Limit { what: "the items of a package", asked: count, limit: MOST });
    }
    if count * ENTRY > data_len {
        return Err(Error::malformed(
            super::ID,
            format!("{} items, for whose table the data area has no room", grouped(count)),
            0x14,
        ));
    }
    let bytes = read_vec(area.as_ref(), 0, count * ENTRY, "the table of items", MOST * ENTRY)?;
    let (entries, _) = <[Entry]>::ref_from_prefix_with_elems(&bytes, count as usize)
        .map_err(|_| Error::malformed(super::ID, "the table of items is cut short", 0x14))?;
    Ok(entries.to_vec())
}

/// Whether the ranges of an entry lie inside the data area and off the table: with a wrong key, none of them would.
pub(super) fn is_plausible(entry: &Entry, count: u64, data_len: u64) -> bool {
    let name_end = u64::from(entry.name_at.get()) + u64::from(entry.name_len.get());
    let end = entry.data_at.get().checked_add(entry.data_len.get());
    u64::from(entry.name_at.get()) >= count * ENTRY && name_end <= data_len && end.is_some_and(|end| end <= data_len)
}

/// The items with their names; what is wrong with one of them stands in it.
///
/// # Errors
/// What reading fails with.
pub(super) fn read(entries: &[Entry], area: &Area, data_len: u64) -> Result<Vec<Item>> {
    let table_end = entries.len() as u64 * ENTRY;
    let mut items = Vec::with_capacity(entries.len());
    // Names that lie over each other would be more in memory than there is in the file.
    let mut room = data_len.min(MOST_NAMES);
    for (index, entry) in entries.iter().enumerate() {
        let (start, len) = (entry.data_at.get(), entry.data_len.get());
        let end = start.checked_add(len).filter(|&end| end <= data_len);
        let mut item = Item {
            name: format!("item {index}"),
            range: start.min(data_len)..end.unwrap_or(start.min(data_len)),
            flags: entry.flags.get(),
            fault: None,
            is_garbled: false,
        };
        let named = match room.checked_sub(entry.name_len.get().into()) {
            Some(left) => {
                room = left;
                name(entry, &item, area, table_end, data_len)?
            }
            None => Err("its name is one too many: all names together are longer than what they stand in".into()),
        };
        match named {
            Ok(Some(name)) => item.name = name,
            Ok(None) => {
                item.is_garbled = true;
                item.fault = Some(format!("its name, at {:#x}, is no text", entry.name_at.get()));
            }
            Err(fault) => item.fault = Some(fault),
        }
        if end.is_none() {
            let what = format!(
                "bytes {} to {} lie outside the data area, which has {}",
                grouped(start),
                grouped(start.saturating_add(len)),
                grouped(data_len)
            );
            item.fault.get_or_insert(what);
        }
        items.push(item);
    }
    overlaps(&mut items, table_end);
    twice(&mut items);
    Ok(items)
}

/// The name of an item, `None` if it is no text; or what is wrong with its place.
fn name(
    entry: &Entry,
    item: &Item,
    area: &Area,
    table_end: u64,
    data_len: u64,
) -> Result<std::result::Result<Option<String>, String>> {
    let (at, len) = (u64::from(entry.name_at.get()), entry.name_len.get());
    if at + u64::from(len) > data_len.min(MOST_NAMES) {
        return Ok(Err(format!("its name, at {at:#x}, lies outside the names")));
    }
    if at < table_end {
        return Ok(Err(format!("its name, at {at:#x}, lies in the table of items")));
    }
    if len == 0 || len > MOST_NAME {
        return Ok(Err(format!("a name of {len} bytes")));
    }
    let view = area.of(item);
    if at + u64::from(len) > view.source.len() {
        return Ok(Err("its name lies behind the end of the file".into()));
    }
    if view.trouble.is_some() {
        return Ok(Ok(Some(item.name.clone())));
    }
    let bytes = read_vec(view.source.as_ref(), at, len.into(), "the name of an item", MOST_NAME.into())?;
    let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
    match std::str::from_utf8(&bytes[..end]) {
        Ok(name) if !name.is_empty() && !name.chars().any(char::is_control) => Ok(Ok(Some(name.to_owned()))),
        _ => Ok(Ok(None)),
    }
}

/// Marks items whose bytes are those of the table, or of another item too.
fn overlaps(items: &mut [Item], table_end: u64) {
    let mut order: Vec<usize> = (0..items.len()).filter(|&i| !items[i].range.is_empty()).collect();
    order.sort_by_key(|&i| (items[i].range.start, i));
    let (mut end, mut last) = (table_end, None::<usize>);
    for index in order {
        if items[index].range.start < end {
            let other = last.map_or("the table of items".to_owned(), |l| format!("those of {}", items[l].name));
            let at = items[index].range.start;
            items[index].fault.get_or_insert(format!("its bytes, from {at:#x} on, overlap {other}"));
        }
        if items[index].range.end > end {
            (end, last) = (items[index].range.end, Some(index));
        }
    }
}

/// Marks items whose name another one has already.
fn twice(items: &mut [Item]) {
    let mut names = HashSet::new();
    for item in items.iter_mut().filter(|i| i.fault.is_none()) {
        if !names.insert(item.name.clone()) {
            item.fault = Some("another item has the same name".into());
        }
    }
}

/// The items as files and folders; those that something is wrong with cannot be read.
///
/// # Errors
/// What making views fails with.
pub(super) fn nodes(items: &[Item], area: &Area) -> Result<Vec<Node>> {
    let mut nodes = Vec::with_capacity(items.len());
    for item in items {
        let len = item.range.end - item.range.start;
        let kind = match &item.fault {
            Some(fault) => Kind::File(File::broken(len, fault.clone())),
            None if item.is_folder() => Kind::Folder,
            None => {
                let view = area.of(item);
                let content = match item.range.end.checked_sub(view.source.len()) {
                    Some(missing) if missing > 0 && len > 0 => Content::Cut { missing: missing.min(len) },
                    _ => {
                        let start = item.range.start.min(view.source.len() - len);
                        let slice: SourceRef = Arc::new(Slice::new(view.source.clone(), start, len)?);
                        if view.trouble.is_some() { Content::Locked(slice) } else { Content::Whole(slice) }
                    }
                };
                Kind::File(File { len, spans: Vec::new(), content })
            }
        };
        nodes.push(Node::new(item.name.trim_end_matches('/').to_owned(), kind, None));
    }
    Ok(nodes)
}
