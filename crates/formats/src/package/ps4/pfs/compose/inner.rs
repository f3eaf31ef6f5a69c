//! A plain image with files: every file begins at a block, and its blocks follow each other.

use super::lazy::{Files, Inodes, Outline};
use super::{BLOCK, Heading, List, filled, header};
use crate::package::ps4::pfs::ID;
use crate::package::ps4::pfs::inode::{self, FILE, FOLDER, INTERNAL, Inode, READ_ONLY, Shape};
use crate::package::ps4::pfs::paths::{self, Target, folded};
use crate::package::ps4::pfs::walk::{self, ITSELF, MOST_NAME, PARENT, PATHS, ROOT, SHARED};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{File, Kind, Node};
use decanter_core::view::Concat;
use decanter_core::{Error, Result};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// How its inodes are laid out.
const SHAPE: Shape = Shape { is_signed: false, is_wide: false };
/// Inodes that stand before those of files: the top, the table of paths.
const BEFORE: u32 = 2;

/// Folders and files in the order of the image, each with its inode.
struct Order<'a> {
    /// By their paths without case.
    folders: BTreeMap<String, (&'a str, u32)>,
    /// In the order of their paths without case.
    files: Vec<(&'a str, &'a File)>,
    /// The root's inode: folders follow it, then files.
    root: u32,
}

/// The letters of a path without case, one by one: there may be very many paths.
fn letters(path: &str) -> impl Iterator<Item = u8> {
    path.bytes().map(|b| b.to_ascii_uppercase())
}

fn unsupported(what: String) -> Error {
    Error::unsupported(ID, what)
}

impl<'a> Order<'a> {
    fn of(nodes: &[&'a Node]) -> Result<Self> {
        let mut own = Self { folders: BTreeMap::new(), files: Vec::new(), root: BEFORE };
        for Node { path, kind, .. } in nodes.iter().copied() {
            let is_no_name = |n: &&str| n.is_empty() || n.len() > MOST_NAME as usize || *n == "." || *n == "..";
            if let Some(name) = path.split('/').find(is_no_name) {
                return Err(unsupported(format!("the name \"{name}\" in {path}")));
            }
            match kind {
                Kind::Folder => {
                    let other = own.folders.insert(folded(path), (path, 0));
                    if let Some((other, _)) = other.filter(|(other, _)| other != path) {
                        return Err(alike(other, path));
                    }
                }
                Kind::File(file) => own.files.push((path, file)),
                Kind::Link(_) => return Err(unsupported(format!("the link {path}"))),
            }
        }
        own.files.sort_unstable_by(|(a, _), (b, _)| letters(a).cmp(letters(b)));
        if let Some(pair) = own.files.windows(2).find(|w| letters(w[0].0).eq(letters(w[1].0))) {
            return Err(alike(pair[0].0, pair[1].0));
        }
        own.check()?;
        let both = own.folders.values().map(|(path, _)| *path).chain(own.files.iter().map(|(path, _)| *path));
        if has_shared_hashes(both) {
            own.root += 1;
        }
        let first = own.root + 1;
        own.folders.values_mut().zip(first..).for_each(|((_, inode), number)| *inode = number);
        Ok(own)
    }

    /// Fails for files in folders that are not there, and for files that are folders.
    fn check(&self) -> Result<()> {
        let folders = self.folders.values().map(|(path, _)| *path);
        for path in self.files.iter().map(|(path, _)| *path).chain(folders) {
            let above = path.rsplit_once('/').map(|(above, _)| above);
            if above.is_some_and(|above| !self.folders.contains_key(&folded(above))) {
                return Err(unsupported(format!("{path} in a folder that is not there")));
            }
        }
        match self.files.iter().find(|(path, _)| self.folders.contains_key(&folded(path))) {
            Some((path, _)) => Err(unsupported(format!("{path} as a file and a folder"))),
            None => Ok(()),
        }
    }

    /// The files with their inodes.
    fn numbered(&self) -> impl Iterator<Item = (&'a str, u32)> {
        let first = self.root + 1 + self.folders.len() as u32;
        self.files.iter().map(|(path, _)| *path).zip(first..)
    }

    /// The table of paths, and the resolver of collisions.
    fn paths(&self) -> (Vec<u8>, Vec<u8>) {
        let folders = self.folders.values().map(|(path, inode)| (*path, Target { inode: *inode, is_folder: true }));
        let files = self.numbered().map(|(path, inode)| (path, Target { inode, is_folder: false }));
        paths::compose(folders.chain(files))
    }

    /// The lists of names, by the folder's path without case; the root's is empty.
    fn lists(&self) -> HashMap<String, List> {
        let mut lists: HashMap<String, List> = HashMap::new();
        let above = |path: &str| folded(path.rsplit_once('/').map_or("", |(above, _)| above));
        let number = |folder: &str| self.folders.get(folder).map_or(self.root, |(_, inode)| *inode);
        for folder in std::iter::once("").chain(self.folders.keys().map(String::as_str)) {
            let list = lists.entry(folder.to_owned()).or_default();
            list.add(number(folder), ITSELF, ".");
            list.add(number(&above(folder)), PARENT, "..");
        }
        let folders = self.folders.values().map(|(path, inode)| (*path, *inode, walk::FOLDER));
        let files = self.numbered().map(|(path, inode)| (path, inode, walk::FILE));
        for (path, inode, kind) in folders.chain(files) {
            lists.entry(above(path)).or_default().add(inode, kind, name(path));
        }
        lists
    }
}

/// Two paths that the console does not tell apart.
fn alike(one: &str, other: &str) -> Error {
    unsupported(format!("{one} beside {other}: for the console they are one, and that"))
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
    inodes: Vec<Outline>,
    next: u64,
}

impl Layout {
    fn add(&mut self, mode: u16, flags: u32, links: u16, len: u64) {
        self.inodes.push(Outline { mode, links, flags, len, first: self.next });
        self.next += len.div_ceil(BLOCK);
    }
}

/// A plain image with these files.
///
/// # Errors
/// [`Error::Unsupported`] for names that have no place in it; for files that cannot be read.
pub fn plain(nodes: &[&Node]) -> Result<SourceRef> {
    let order = Order::of(nodes)?;
    let count = order.root as usize + 1 + order.folders.len() + order.files.len();
    let inode_blocks = (count as u64).div_ceil(BLOCK / SHAPE.len() as u64);
    let mut layout = Layout { inodes: Vec::with_capacity(count), next: 1 + inode_blocks };
    let mut front: Vec<Vec<u8>> = Vec::new();
    let (table_of_paths, shared) = order.paths();
    let mut top = List::default();
    top.add(1, walk::FILE, PATHS);
    if !shared.is_empty() {
        top.add(2, walk::FILE, SHARED);
    }
    top.add(order.root, walk::FOLDER, ROOT);
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
    let mut files = Files::default();
    for (path, file) in &order.files {
        let source = file.source()?;
        if source.len() != file.len {
            return Err(Error::Unreadable { why: format!("{path} has another length than its folder says") });
        }
        layout.add(FILE, READ_ONLY, 1, file.len);
        files.add(source.clone());
    }
    let mut pointers = inode::run(1, 1);
    (0..inode_blocks.min(inode::DIRECT as u64)).for_each(|n| pointers[n as usize].block = 1 + n);
    let len = inode_blocks * BLOCK;
    let own = Inode { mode: 0, links: 0, flags: 0, len, len_again: len, blocks: inode_blocks, times: 0, pointers };
    let heading = Heading { mode: 0, inodes: count as u64, blocks: layout.next, table: &own, seed: None };
    let mut parts: Vec<SourceRef> = vec![Arc::new(Bytes(header(&heading)))];
    parts.push(Arc::new(Inodes { all: layout.inodes, shape: SHAPE }));
    parts.extend(front.into_iter().map(|bytes| Arc::new(Bytes(bytes)) as SourceRef));
    parts.push(Arc::new(files));
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
