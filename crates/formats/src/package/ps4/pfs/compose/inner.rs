//! A plain image with files: every file begins at a block, and its blocks follow each other.

use super::{BLOCK, Heading, List, Table, filled, header};
use crate::package::ps4::pfs::ID;
use crate::package::ps4::pfs::inode::{self, FILE, FOLDER, INTERNAL, Inode, READ_ONLY, READABLE, Shape};
use crate::package::ps4::pfs::paths::{self, Target, folded};
use crate::package::ps4::pfs::walk::{self, ITSELF, MOST_NAME, PARENT, PATHS, ROOT, SHARED};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{File, Kind, Node};
use decanter_core::view::{Concat, Fill};
use decanter_core::{Error, Result};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// How its inodes are laid out.
const SHAPE: Shape = Shape { is_signed: false, is_wide: false };
/// Inodes that stand before those of files: the top, the table of paths.
const BEFORE: u32 = 2;

/// Folders and files in the order of the image, each with the names in it.
struct Order<'a> {
    /// By their paths without case: the path, and the inode.
    folders: BTreeMap<String, (&'a str, u32)>,
    files: BTreeMap<String, (&'a str, &'a File, u32)>,
    first: u32,
}

fn unsupported(what: String) -> Error {
    Error::unsupported(ID, what)
}

impl<'a> Order<'a> {
    fn of(nodes: &[&'a Node]) -> Result<Self> {
        let mut own = Self { folders: BTreeMap::new(), files: BTreeMap::new(), first: BEFORE };
        for Node { path, kind, .. } in nodes.iter().copied() {
            if let Some(name) =
                path.split('/').find(|n| n.is_empty() || n.len() > MOST_NAME as usize || *n == "." || *n == "..")
            {
                return Err(unsupported(format!("the name \"{name}\" in {path}")));
            }
            let clash = match kind {
                Kind::Folder => own.folders.insert(folded(path), (path, 0)).map(|(other, _)| other),
                Kind::File(file) => own.files.insert(folded(path), (path, file, 0)).map(|(other, ..)| other),
                Kind::Link(_) => return Err(unsupported(format!("the link {path}"))),
            };
            if let Some(other) = clash.filter(|other| other != path) {
                return Err(unsupported(format!("{other} beside {path}: for the console they are one, and that")));
            }
        }
        for path in own.files.keys().chain(own.folders.keys()) {
            let above = path.rsplit_once('/').map(|(above, _)| above);
            if above.is_some_and(|above| !own.folders.contains_key(above)) {
                return Err(unsupported(format!("{path} in a folder that is not there")));
            }
        }
        if let Some(path) = own.files.keys().find(|path| own.folders.contains_key(*path)) {
            return Err(unsupported(format!("{path} as a file and a folder")));
        }
        let both = own.folders.values().map(|(path, _)| *path).chain(own.files.values().map(|(path, ..)| *path));
        if has_shared_hashes(both) {
            own.first += 1;
        }
        let numbers = own.first + 1..;
        let folders = own.folders.values_mut().map(|(_, number)| number);
        folders.chain(own.files.values_mut().map(|(.., number)| number)).zip(numbers).for_each(|(own, n)| *own = n);
        Ok(own)
    }

    /// The table of paths, and the resolver of collisions.
    fn paths(&self) -> (Vec<u8>, Vec<u8>) {
        let folders = self.folders.values().map(|(path, inode)| (*path, Target { inode: *inode, is_folder: true }));
        let files = self.files.values().map(|(path, _, inode)| (*path, Target { inode: *inode, is_folder: false }));
        paths::compose(folders.chain(files))
    }

    /// The lists of names, by the folder's path without case; the root's is empty.
    fn lists(&self) -> HashMap<&str, List> {
        let mut lists: HashMap<&str, List> = HashMap::new();
        let above = |path: &'_ str| path.rfind('/').map_or(0, |at| at);
        let root = self.first;
        let number = |folder: &str| self.folders.get(folder).map_or(root, |(_, inode)| *inode);
        for folder in std::iter::once("").chain(self.folders.keys().map(String::as_str)) {
            let list = lists.entry(folder).or_default();
            list.add(number(folder), ITSELF, ".");
            list.add(number(&folder[..above(folder)]), PARENT, "..");
        }
        for (folded, (path, inode)) in &self.folders {
            let list = lists.entry(&folded[..above(folded)]).or_default();
            list.add(*inode, walk::FOLDER, name(path));
        }
        for (folded, (path, _, inode)) in &self.files {
            let list = lists.entry(&folded[..above(folded)]).or_default();
            list.add(*inode, walk::FILE, name(path));
        }
        lists
    }
}

fn name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

fn has_shared_hashes<'a>(paths: impl Iterator<Item = &'a str>) -> bool {
    let mut hashes: Vec<u32> = paths.map(paths::hash).collect();
    hashes.sort_unstable();
    hashes.windows(2).any(|w| w[0] == w[1])
}

/// What is in an image, in the order of its blocks.
struct Layout {
    /// The inodes as they are stored: there may be as many of them as files.
    inodes: Table,
    next: u64,
}

impl Layout {
    fn add(&mut self, mode: u16, flags: u32, links: u16, len: u64) {
        let blocks = len.div_ceil(BLOCK);
        let pointers = if blocks == 0 { Default::default() } else { inode::run(self.next, blocks) };
        let mode = mode | READABLE;
        self.inodes.add(&Inode { mode, links, flags, len, len_again: len, blocks, times: 0, pointers }, SHAPE);
        self.next += blocks;
    }
}

/// A plain image with these files.
///
/// # Errors
/// [`Error::Unsupported`] for names that have no place in it; for files that cannot be read.
pub fn plain(nodes: &[&Node]) -> Result<SourceRef> {
    let order = Order::of(nodes)?;
    let count = order.first as usize + 1 + order.folders.len() + order.files.len();
    let inode_blocks = (count as u64).div_ceil(BLOCK / SHAPE.len() as u64);
    let mut layout = Layout { inodes: Table::with_room(count as u64, SHAPE), next: 1 + inode_blocks };
    let mut front: Vec<Vec<u8>> = Vec::new();
    let (table_of_paths, shared) = order.paths();
    let mut top = List::default();
    top.add(1, walk::FILE, PATHS);
    if !shared.is_empty() {
        top.add(2, walk::FILE, SHARED);
    }
    top.add(order.first, walk::FOLDER, ROOT);
    let top = filled(top.0);
    layout.add(FOLDER, INTERNAL | READ_ONLY, 1, top.len() as u64);
    layout.add(FILE, INTERNAL | READ_ONLY, 1, table_of_paths.len() as u64);
    front.extend([top, filled(table_of_paths)]);
    if !shared.is_empty() {
        layout.add(FILE, INTERNAL | READ_ONLY, 1, shared.len() as u64);
        front.push(filled(shared));
    }
    let mut lists = order.lists();
    for folder in std::iter::once("").chain(order.folders.keys().map(String::as_str)) {
        let list = filled(lists.remove(folder).unwrap_or_default().0);
        layout.add(FOLDER, READ_ONLY, if folder.is_empty() { 3 } else { 2 }, list.len() as u64);
        front.push(list);
    }
    let mut parts: Vec<SourceRef> = Vec::with_capacity(2 * order.files.len() + 1);
    for (path, file, _) in order.files.values() {
        let source = file.source()?;
        if source.len() != file.len {
            return Err(Error::Unreadable { why: format!("{path} has another length than its folder says") });
        }
        layout.add(FILE, READ_ONLY, 1, file.len);
        if file.len > 0 {
            parts.push(source.clone());
        }
        let rest = file.len.next_multiple_of(BLOCK) - file.len;
        if rest > 0 {
            parts.push(Arc::new(Fill { byte: 0, len: rest }));
        }
    }
    let mut pointers = inode::run(1, 1);
    (0..inode_blocks.min(inode::DIRECT as u64)).for_each(|n| pointers[n as usize].block = 1 + n);
    let own = Inode {
        mode: 0,
        links: 0,
        flags: 0,
        len: inode_blocks * BLOCK,
        len_again: inode_blocks * BLOCK,
        blocks: inode_blocks,
        times: 0,
        pointers,
    };
    let heading = Heading { mode: 0, inodes: count as u64, blocks: layout.next, table: &own, seed: None };
    let front = [header(&heading), layout.inodes.finish()].into_iter().chain(front);
    let front = front.map(|bytes| Arc::new(Bytes(bytes)) as SourceRef);
    parts.splice(0..0, front);
    Ok(Arc::new(Concat::new(parts)?))
}

#[cfg(test)]
mod tests {
    use super::super::reread;
    use super::*;

    fn file(path: &str, bytes: Vec<u8>) -> Node {
        Node::new(path.into(), Kind::File(File::of(Arc::new(Bytes(bytes)))), None)
    }

    fn bytes(nodes: &[Node]) -> Vec<u8> {
        let source = plain(&nodes.iter().collect::<Vec<_>>()).unwrap();
        let mut all = vec![0; source.len() as usize];
        source.read_at(0, &mut all).unwrap();
        all
    }

    /// One file in one folder, all places worked out by hand: header, inodes, top, paths, root, folder, file.
    #[test]
    fn fixed_places() {
        let nodes = [Node::new("Sea".into(), Kind::Folder, None), file("Sea/a.bin", vec![7; 70_000])];
        let all = bytes(&nodes);
        assert_eq!(all.len(), 8 << 16);
        let header = reread(&all).unwrap();
        assert_eq!((header.inodes, header.blocks, header.inode_blocks, header.block), (5, 8, 1, 0x1_0000));
        assert_eq!(&all[0x1c..0x1e], &[8, 0], "the mode of a plain image");
        // Inode 4 is that of the file: mode 0o100555, one link, read-only, 70,000 bytes in 2 blocks from block 6 on.
        let inode = &all[0x1_0000 + 4 * 0xa8..][..0xa8];
        assert_eq!(&inode[..0x18], b"\x6d\x81\x01\0\x10\0\0\0\x70\x11\x01\0\0\0\0\0\x70\x11\x01\0\0\0\0\0");
        assert_eq!(&inode[0x60..0x70], b"\x02\0\0\0\x06\0\0\0\xff\xff\xff\xff\0\0\0\0");
        assert_eq!((all[6 << 16], all[(6 << 16) + 69_999], all[(6 << 16) + 70_000]), (7, 7, 0));
        // The top names the table of paths and the root folder.
        let top = b"\x01\0\0\0\x02\0\0\0\x0f\0\0\0\x20\0\0\0flat_path_table\0\x02\0\0\0\x03\0\0\0\x05\0\0\0\x18\0\0\0uroot\0\0\0";
        assert_eq!(&all[2 << 16..][..top.len()], top);
        // Folder 3 is in root 2.
        let list = b"\x03\0\0\0\x04\0\0\0\x01\0\0\0\x18\0\0\0.\0\0\0\0\0\0\0\x02\0\0\0\x05\0\0\0\x02\0\0\0\x18\0\0\0..\0\0\0\0\0\0\x04\0\0\0\x02\0\0\0\x05\0\0\0\x18\0\0\0a.bin\0\0\0";
        assert_eq!(&all[5 << 16..][..list.len()], list);
    }

    #[test]
    fn what_has_no_place_is_told() {
        let told = |nodes: Vec<Node>| plain(&nodes.iter().collect::<Vec<_>>()).err().unwrap().to_string();
        assert!(told(vec![file("a.bin", vec![1]), file("A.bin", vec![2])]).contains("for the console they are one"));
        assert!(told(vec![file("sea/a.bin", vec![1])]).contains("in a folder that is not there"));
        assert!(told(vec![file(&"n".repeat(256), vec![1])]).contains("the name"));
        assert!(told(vec![Node::new("l".into(), Kind::Link("x".into()), None)]).contains("the link l"));
    }
}
