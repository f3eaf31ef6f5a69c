//! The folders of an image.

use super::header::Header;
use super::inode::{Inode, PACKED};
use super::raw;
use super::stored::{Map, Stored, Volume};
use crate::package::ps4::pfsc;
use crate::walk::{Folder, Walk, Walked};
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tree::{Content, File, Kind, Node, below};
use decanter_core::{Error, Result};
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::{FromBytes, IntoBytes};

/// Kinds of entries.
pub(super) const FILE: u32 = 2;
pub(super) const FOLDER: u32 = 3;
pub(super) const ITSELF: u32 = 4;
pub(super) const PARENT: u32 = 5;
/// What stands at the very top.
pub(super) const ROOT: &str = "uroot";
pub(super) const PATHS: &str = "flat_path_table";
pub(super) const SHARED: &str = "collision_resolver";
/// What the inodes are called where something is wrong with them.
const TABLE: &str = "the table of inodes";
/// Bytes of a name.
pub(super) const MOST_NAME: u32 = 255;
/// Bytes of a folder's list of names.
const MOST_LIST: u64 = 64 << 20;

/// An entry of a folder as it is stored.
pub(super) fn entry(inode: u32, kind: u32, name: &str) -> Vec<u8> {
    let len = (size_of::<raw::Entry>() + name.len() + 1).next_multiple_of(8);
    let own = raw::Entry {
        inode: inode.into(),
        kind: kind.into(),
        name_len: (name.len() as u32).into(),
        len: (len as u32).into(),
    };
    let mut bytes = [own.as_bytes(), name.as_bytes()].concat();
    bytes.resize(len, 0);
    bytes
}

/// The inodes of an image, read block by block.
pub(super) struct Inodes {
    header: Header,
    table: SourceRef,
    kept: Mutex<Option<(u64, Arc<Vec<u8>>)>>,
}

impl Inodes {
    pub(super) fn new(header: &Header, volume: &Arc<Volume>) -> Self {
        let mut inode = header.table.clone();
        inode.blocks = header.inode_blocks;
        let len = header.inode_blocks * header.block;
        // Whoever has no codes has the table right behind the header, whatever the inode in it says.
        let is_told = volume.mac.is_some() && inode.pointers[0].block == 1;
        let map = match is_told {
            true => Map::new(volume, &inode, TABLE),
            false => Map::run(volume, 1, TABLE),
        };
        Self { header: header.clone(), table: Arc::new(Stored::new(Arc::new(map), len)), kept: Mutex::default() }
    }

    /// Inode `number`.
    ///
    /// # Errors
    /// [`Error::Unreadable`] for one that there is not; what reading fails with.
    pub(super) fn get(&self, number: u64) -> Result<Inode> {
        if number >= self.header.inodes {
            return Err(Error::Unreadable {
                why: format!("it is inode {number}, and there are {}", self.header.inodes),
            });
        }
        let (shape, each) = (self.header.shape(), self.header.inodes_in_block());
        let (block, within) = (number / each, (number % each) as usize * shape.len());
        let at = self.header.block * (1 + block) + within as u64;
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, bytes)) = kept.as_ref().filter(|(own, _)| *own == block) {
            return Inode::parse(&bytes[within..], shape, at);
        }
        let bytes =
            read_vec(self.table.as_ref(), block * self.header.block, self.header.block, "inodes", self.header.block)?;
        let inode = Inode::parse(&bytes[within..], shape, at);
        *kept = Some((block, Arc::new(bytes)));
        inode
    }
}

/// A file or folder that a list names.
pub(super) struct Named {
    pub(super) inode: u32,
    pub(super) kind: u32,
    pub(super) name: String,
}

/// The entries in a folder's list, and what is wrong with it.
pub(super) fn entries(list: &[u8], block: usize) -> (Vec<Named>, Option<String>) {
    let (mut found, mut at) = (Vec::new(), 0);
    while let Ok((own, rest)) = raw::Entry::ref_from_prefix(&list[at..]) {
        let (name_len, len) = (own.name_len.get(), own.len.get() as usize);
        let left = block - at % block;
        if len == 0 {
            // The rest of the block has no more entries.
            at += left;
            if at >= list.len() {
                break;
            }
            continue;
        }
        let least = size_of::<raw::Entry>() + name_len as usize;
        if name_len == 0 || name_len > MOST_NAME || len < least || len > left {
            let what = format!("the entry at {at:#x} has {len} bytes and a name of {name_len}");
            return (found, Some(what));
        }
        let name = String::from_utf8_lossy(&rest[..name_len as usize]).into_owned();
        found.push(Named { inode: own.inode.get(), kind: own.kind.get(), name });
        at += len;
        if at >= list.len() {
            break;
        }
    }
    (found, None)
}

/// The content of an inode, as its blocks have it.
///
/// # Errors
/// [`Error::Unreadable`] where it cannot be in the image.
pub(super) fn content(volume: &Arc<Volume>, inode: &Inode, name: &str) -> Result<File> {
    let len = inode.stored_len(volume.block);
    let wanted = len.div_ceil(volume.block);
    if inode.blocks < wanted {
        let why = format!("{name} has {len} bytes and {} blocks, which is too few", inode.blocks);
        return Err(Error::Unreadable { why });
    }
    if !volume.shape.is_signed && inode.is_run() {
        if len == 0 {
            return File::from_spans(&volume.image, Vec::new());
        }
        let first = inode.pointers[0].block;
        let place = || first.checked_mul(volume.block).filter(|at| first > 0 && at.checked_add(len).is_some());
        let at = place().ok_or_else(|| Error::Unreadable { why: format!("{name} begins at block {first:#x}") })?;
        return File::from_spans(&volume.image, vec![at..at + len]);
    }
    // Every block of it has to be in the image, so no list can be longer.
    if wanted > volume.blocks() {
        let missing = len.saturating_sub(volume.blocks() * volume.block);
        return Ok(File { len, spans: Vec::new(), content: Content::Cut { missing } });
    }
    Ok(File::of(Arc::new(Stored::new(Arc::new(Map::new(volume, inode, name)), len))))
}

/// A file as it is read: unpacked where it is packed.
fn file(volume: &Arc<Volume>, inode: &Inode, name: &str) -> Result<File> {
    let own = content(volume, inode, name)?;
    if inode.flags & PACKED == 0 {
        return Ok(own);
    }
    let source = own.source()?.clone();
    match pfsc::is_packed(source.as_ref())? {
        true => Ok(File::of(pfsc::unpacked(source)?)),
        false => Ok(own),
    }
}

/// What the way through an image came to.
pub(super) struct Found {
    pub(super) walked: Walked<u32>,
    /// The table of paths.
    pub(super) paths: Option<Inode>,
    /// The inode of each node, in their order.
    pub(super) inodes: Vec<u32>,
}

/// Goes through all folders.
///
/// # Errors
/// When there is no root folder; limits; what something else than the image is to blame for.
pub(super) fn walk(header: &Header, volume: &Arc<Volume>, inodes: &Inodes, opener: &Opener<'_>) -> Result<Found> {
    let top = inodes.get(header.root)?;
    let list = list(volume, &top, "the root")?;
    let (top, fault) = entries(&list, header.block as usize);
    let find = |name: &str| top.iter().find(|e| e.name == name);
    let missing = || {
        let why = fault.clone().unwrap_or_else(|| "it is not named at the top".into());
        Error::malformed(super::ID, format!("there is no folder {ROOT}: {why}"), header.root)
    };
    let root = find(ROOT).ok_or_else(missing)?.inode;
    let paths = find(PATHS).map(|e| inodes.get(e.inode.into())).transpose()?;
    let mut walk: Walk<'_, u32, u32> = Walk::new(opener, root, root);
    let mut numbers = Vec::new();
    while let Some(folder) = walk.next()? {
        let read = inodes.get(folder.place.into()).and_then(|inode| {
            walk.spend(inode.len)?;
            self::list(volume, &inode, folder.shown())
        });
        let Some(list) = walk.keep(read, || folder.shown().to_owned())? else { continue };
        let (named, fault) = entries(&list, header.block as usize);
        if let Some(fault) = fault {
            walk.note(format!("{}: {fault}; what stands behind it is lost", folder.shown()));
        }
        for named in named {
            add(&mut walk, &folder, &named, volume, inodes, &mut numbers)?;
        }
    }
    Ok(Found { walked: walk.finish(), paths, inodes: numbers })
}

fn add(
    walk: &mut Walk<'_, u32, u32>,
    folder: &Folder<u32>,
    named: &Named,
    volume: &Arc<Volume>,
    inodes: &Inodes,
    numbers: &mut Vec<u32>,
) -> Result<()> {
    let path = below(&folder.path, &named.name);
    let wrong = |what: &str| format!("{path}: {what}");
    match named.kind {
        ITSELF | PARENT => return Ok(()),
        FOLDER => {
            walk.add(Node::new(path.clone(), Kind::Folder, None))?;
            if walk.enter(folder, path.clone(), named.inode, named.inode).is_some() {
                walk.note(wrong("it leads back to a folder that was met before"));
            }
        }
        FILE => {
            let inode = inodes.get(named.inode.into());
            let modified = inode.as_ref().ok().map(|i| i.times as i64).filter(|t| *t > 0);
            let found = inode.and_then(|inode| match inode.is_folder() {
                true => Err(Error::Unreadable { why: "its inode is that of a folder".into() }),
                false => file(volume, &inode, &path),
            });
            let file = match found {
                Ok(file) => file,
                Err(e) if e.blame() == Blame::Source => File::broken(0, e.to_string()),
                Err(e) => return Err(e),
            };
            walk.add(Node::new(path, Kind::File(file), modified))?;
        }
        kind => {
            walk.note(wrong(&format!("an entry of kind {kind} is not known")));
            return Ok(());
        }
    }
    numbers.push(named.inode);
    Ok(())
}

/// The list of names of a folder.
fn list(volume: &Arc<Volume>, inode: &Inode, name: &str) -> Result<Vec<u8>> {
    if !inode.is_folder() {
        return Err(Error::Unreadable { why: format!("{name} is no folder") });
    }
    let content = content(volume, inode, name)?;
    let source = content.source()?;
    read_vec(source.as_ref(), 0, source.len(), "a list of names", MOST_LIST)
}

/// The bytes of the table of paths.
///
/// # Errors
/// What reading fails with.
pub(super) fn table(volume: &Arc<Volume>, inode: &Inode) -> Result<Vec<u8>> {
    let content = content(volume, inode, PATHS)?;
    let source = content.source()?;
    read_vec(source.as_ref(), 0, source.len(), "the table of paths", MOST_LIST)
}
