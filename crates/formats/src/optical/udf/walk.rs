//! The folders, from the file set's root on (ECMA-167, 4/14.1 and 14.4).

use super::descriptor::{Address, Allocation, check, split, tag, text};
use super::entry::{self, Entry, FOLDER, LINK};
use super::partition::Maps;
use super::raw::{FileIdentifier, FileSet};
use super::{ID, icb};
use crate::walk::{Folder, Walk, Walked};
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::source::read_vec;
use decanter_core::tree::{File, Kind, Node, below};
use decanter_core::{Error, Result};

/// Bytes of one folder.
const MOST_FOLDER: u64 = 64 << 20;
/// Characteristics of a file identifier (ECMA-167, 4/14.4.3).
const DELETED: u8 = 4;
pub(super) const PARENT: u8 = 8;

struct Way<'a> {
    maps: &'a Maps,
    walk: Walk<'a, Entry, Address>,
}

/// All files and folders of the file set at `set`.
pub(super) fn walk(maps: &Maps, set: Allocation, opener: &Opener<'_>) -> Result<Walked<Address>> {
    let (bytes, offset) = maps.bytes(set.at, maps.block, "the file set descriptor", maps.block)?;
    if check(&bytes, offset)? != tag::FILE_SET {
        return Err(Error::malformed(ID, "no file set descriptor where one belongs", offset));
    }
    let (at, len) = icb(split::<FileSet>("the file set descriptor", &bytes, offset)?.0.root.get());
    let mut way = Way { maps, walk: Walk::new(opener, entry::read(maps, at, len)?, at) };
    // A terminator follows the descriptor.
    way.walk.structure.push(offset..offset + 2 * maps.block);
    while let Some(folder) = way.walk.next()? {
        way.folder(&folder)?;
    }
    Ok(way.walk.finish().sorted())
}

impl Way<'_> {
    fn folder(&mut self, folder: &Folder<Entry>) -> Result<()> {
        let (entry, block) = (&folder.place, self.maps.block);
        self.walk.structure.extend(entry.structure.iter().cloned());
        self.walk.spend(entry.len)?;
        let read = entry.file(self.maps).and_then(|file| {
            let bytes = read_vec(file.source()?.as_ref(), 0, file.len, "a folder", MOST_FOLDER)?;
            Ok((file.spans, bytes))
        });
        let Some((spans, bytes)) = self.walk.keep(read, || folder.shown().to_owned())? else { return Ok(()) };
        self.walk.structure.extend(spans.iter().map(|s| s.start..s.end.next_multiple_of(block)));
        let begin = spans.first().map_or(0, |s| s.start);
        let mut rest = bytes.as_slice();
        while rest.len() >= size_of::<FileIdentifier>() {
            let offset = begin + (bytes.len() - rest.len()) as u64;
            let Some((name, child, len)) = self.identifier(folder, rest, offset)? else { break };
            // The last one may lack its padding.
            rest = &rest[len.min(rest.len())..];
            if let Some(name) = name {
                self.child(folder, below(&folder.path, &name), child)?;
            }
        }
        if rest.len() < size_of::<FileIdentifier>() && rest.iter().any(|b| *b != 0) {
            self.walk.note(format!("{} ends in the middle of an entry", folder.shown()));
        }
        Ok(())
    }

    /// The identifier that `bytes` begin with: its name unless it is deleted or the parent's, where it leads, and its length.
    fn identifier(
        &mut self,
        folder: &Folder<Entry>,
        bytes: &[u8],
        offset: u64,
    ) -> Result<Option<(Option<String>, Allocation, usize)>> {
        let (raw, rest) = split::<FileIdentifier>("a file identifier", bytes, offset)?;
        let (own_len, name_len) = (usize::from(raw.own_len.get()), usize::from(raw.name_len));
        let Some(name) = rest.get(own_len..own_len + name_len) else {
            self.walk.note(format!("an entry of {} is cut short at offset {offset:#x}", folder.shown()));
            return Ok(None);
        };
        let exact = size_of::<FileIdentifier>() + own_len + name_len;
        let len = exact.next_multiple_of(4);
        // The CRC may cover the padding too.
        let whole = bytes.get(..len).unwrap_or(&bytes[..exact]);
        if !matches!(check(whole, offset), Ok(tag::FILE_IDENTIFIER)) {
            let lost = "the rest of the folder is not known";
            self.walk.note(format!("an entry of {} is damaged at offset {offset:#x}; {lost}", folder.shown()));
            return Ok(None);
        }
        let is_named = raw.characteristics & (DELETED | PARENT) == 0;
        Ok(Some((is_named.then(|| text(name).replace('/', "_")), raw.entry.get(), len)))
    }

    fn child(&mut self, folder: &Folder<Entry>, path: String, at: Allocation) -> Result<()> {
        let (place, len) = icb(at);
        let entry = match entry::read(self.maps, place, len) {
            Ok(entry) => entry,
            Err(e) if e.blame() == Blame::Source => {
                return self.walk.add(Node::new(path, Kind::File(File::broken(0, e.to_string())), None));
            }
            Err(e) => return Err(e),
        };
        let modified = entry.modified;
        let kind = match entry.file_type {
            FOLDER => {
                if self.walk.enter(folder, path.clone(), entry, place).is_some() {
                    let text = format!("{path} leads back to a folder around it, or too deep; it is not followed");
                    self.walk.note(text);
                }
                Kind::Folder
            }
            LINK => {
                let target = self.target(&entry);
                let Some(target) = self.walk.keep(target, || format!("the link {path}"))? else { return Ok(()) };
                Kind::Link(target)
            }
            _ => {
                self.walk.structure.extend(entry.structure.iter().cloned());
                Kind::File(entry.file(self.maps).unwrap_or_else(|e| File::broken(entry.len, e.to_string())))
            }
        };
        self.walk.add(Node::new(path, kind, modified))
    }

    /// The target of a symbolic link (ECMA-167, 4/14.16).
    fn target(&self, entry: &Entry) -> Result<String> {
        let file = entry.file(self.maps)?;
        let bytes = read_vec(file.source()?.as_ref(), 0, file.len, "a link", 1 << 16)?;
        let (mut parts, mut at) = (Vec::new(), 0);
        while at + 4 <= bytes.len() {
            let len = usize::from(bytes[at + 1]);
            let name = bytes.get(at + 4..at + 4 + len).unwrap_or_default();
            match bytes[at] {
                1 | 2 => parts = vec![String::new()],
                3 => parts.push("..".into()),
                4 => parts.push(".".into()),
                5 => parts.push(text(name)),
                _ => {}
            }
            at += 4 + len;
        }
        Ok(parts.join("/"))
    }
}
