//! The folders, from the file set's root on (ECMA-167, 4/14.1 and 14.4).

use super::descriptor::{Address, Allocation, Fields, check, long_ad, tag, text};
use super::entry::{self, Entry, FOLDER, LINK};
use super::partition::Maps;
use super::{ID, icb};
use decanter_core::format::Opener;
use decanter_core::source::read_vec;
use decanter_core::tree::{Content, File, Kind, Node, Tree, below, check_room};
use decanter_core::watch::{self, Notice};
use decanter_core::{Error, Result};
use std::collections::HashSet;
use std::ops::Range;

/// Files and folders in one volume.
const MOST_NODES: usize = 1 << 20;
/// Bytes of one folder, and of all of them.
const MOST_FOLDER: u64 = 64 << 20;
const MOST_FOLDERS: u64 = 256 << 20;
/// Folders in folders.
const MOST_DEPTH: usize = 128;
/// Notices that are told one by one.
const MOST_NOTICES: usize = 20;
/// Characteristics of a file identifier (ECMA-167, 4/14.4.3).
const DELETED: u8 = 4;
const PARENT: u8 = 8;

pub(super) struct Walked {
    pub(super) tree: Tree,
    pub(super) structure: Vec<Range<u64>>,
}

struct Walk<'a> {
    maps: &'a Maps,
    nodes: Vec<Node>,
    structure: Vec<Range<u64>>,
    seen: HashSet<Address>,
    folder_bytes: u64,
    notices: &'a mut Vec<Notice>,
    troubles: usize,
}

/// All files and folders of the file set at `set`.
pub(super) fn walk(maps: &Maps, set: Allocation, notices: &mut Vec<Notice>, opener: &Opener<'_>) -> Result<Walked> {
    let (bytes, offset) = maps.bytes(set.at, maps.block, "the file set descriptor", maps.block)?;
    if check(&bytes, offset)? != tag::FILE_SET {
        return Err(Error::malformed(ID, "no file set descriptor where one belongs", offset));
    }
    let root = long_ad(Fields(&bytes), 400);
    // A terminator follows the descriptor.
    let structure = vec![offset..offset + 2 * maps.block];
    let mut walk =
        Walk { maps, nodes: Vec::new(), structure, seen: HashSet::new(), folder_bytes: 0, notices, troubles: 0 };
    let (at, len) = icb(root);
    walk.seen.insert(at);
    let mut todo = vec![(String::new(), entry::read(maps, at, len)?, 0)];
    while let Some((path, entry, depth)) = todo.pop() {
        watch::check(opener.watch())?;
        walk.folder(&path, &entry, depth, &mut todo)?;
    }
    if walk.troubles > MOST_NOTICES {
        walk.notices.push(Notice::damage(format!("and {} more of this kind", walk.troubles - MOST_NOTICES)));
    }
    let mut tree = Tree { nodes: walk.nodes };
    tree.nodes.sort_by(|a, b| a.path.split('/').cmp(b.path.split('/')));
    Ok(Walked { tree, structure: walk.structure })
}

impl Walk<'_> {
    fn note(&mut self, text: String) {
        self.troubles += 1;
        if self.troubles <= MOST_NOTICES {
            self.notices.push(Notice::damage(text));
        }
    }

    fn folder(
        &mut self,
        path: &str,
        entry: &Entry,
        depth: usize,
        todo: &mut Vec<(String, Entry, usize)>,
    ) -> Result<()> {
        let shown = if path.is_empty() { "the root folder" } else { path };
        self.structure.extend(entry.structure.iter().cloned());
        self.folder_bytes += entry.len;
        if entry.len > MOST_FOLDER || self.folder_bytes > MOST_FOLDERS {
            return Err(Error::Limit { what: "directories", asked: self.folder_bytes, limit: MOST_FOLDERS });
        }
        let file = match entry.file(self.maps) {
            Ok(file) => file,
            Err(e) => {
                self.note(format!("{shown} cannot be read: {e}"));
                return Ok(());
            }
        };
        let bytes = match file.source().and_then(|s| read_vec(s.as_ref(), 0, file.len, "a folder", MOST_FOLDER)) {
            Ok(bytes) => bytes,
            Err(e @ (Error::Io { .. } | Error::Cancelled | Error::Key(_))) => return Err(e),
            Err(e) => {
                self.note(format!("{shown} cannot be read: {e}"));
                return Ok(());
            }
        };
        self.structure.extend(file.spans.iter().map(|s| s.start..s.end.next_multiple_of(self.maps.block)));
        let mut at = 0;
        while at + 38 <= bytes.len() {
            let offset = file.spans.first().map_or(0, |s| s.start) + at as u64;
            let f = Fields(&bytes[at..]);
            let (name_len, use_len) = (usize::from(bytes[at + 19]), usize::from(f.u16(36)));
            let len = (38 + use_len + name_len).next_multiple_of(4);
            let Some(raw) = bytes.get(at..at + 38 + use_len + name_len) else {
                self.note(format!("an entry of {shown} is cut short at offset {offset:#x}"));
                break;
            };
            // The CRC may cover the padding too.
            let padded = bytes.get(at..at + len).unwrap_or(raw);
            at += len;
            match check(padded, offset) {
                Ok(tag::FILE_IDENTIFIER) => {}
                _ => {
                    self.note(format!(
                        "an entry of {shown} is damaged at offset {offset:#x}; the rest of the folder is not known"
                    ));
                    break;
                }
            }
            if raw[18] & (DELETED | PARENT) != 0 {
                continue;
            }
            check_room(self.nodes.len(), MOST_NODES)?;
            let name = text(&raw[38 + use_len..]).replace('/', "_");
            let path = below(path, &name);
            self.child(path, long_ad(f, 20), depth, todo)?;
        }
        Ok(())
    }

    fn child(
        &mut self,
        path: String,
        at: Allocation,
        depth: usize,
        todo: &mut Vec<(String, Entry, usize)>,
    ) -> Result<()> {
        let (place, len) = icb(at);
        let entry = match entry::read(self.maps, place, len) {
            Ok(entry) => entry,
            Err(e @ (Error::Io { .. } | Error::Cancelled | Error::Key(_))) => return Err(e),
            Err(e) => {
                let file = File { len: 0, spans: Vec::new(), content: Content::Broken(e.to_string()) };
                self.nodes.push(Node::new(path, Kind::File(file), None));
                return Ok(());
            }
        };
        let modified = entry.modified;
        let kind = match entry.file_type {
            FOLDER => {
                if !self.seen.insert(place) || depth >= MOST_DEPTH {
                    self.note(format!("{path} leads back to a folder around it, or too deep; it is not followed"));
                } else {
                    todo.push((path.clone(), entry, depth + 1));
                }
                Kind::Folder
            }
            LINK => Kind::Link(self.target(&entry).unwrap_or_default()),
            _ => {
                self.structure.extend(entry.structure.iter().cloned());
                let broken =
                    |e: Error| File { len: entry.len, spans: Vec::new(), content: Content::Broken(e.to_string()) };
                Kind::File(entry.file(self.maps).unwrap_or_else(broken))
            }
        };
        self.nodes.push(Node::new(path, kind, modified));
        Ok(())
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
