//! New volumes: every block in its place, files in one piece, the same bytes for the same files.

mod free;
mod room;
mod run;

use super::RESERVED;
use super::block::{self, BLOCK, TABLE, at, counted, put, put_moment, seal, slot, to_latin};
use crate::arranged::{Arranged, Member, Named};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tell;
use decanter_core::tree::Tree;
use decanter_core::{Error, Result};
use free::Free;
pub use room::{least_blocks, needed_blocks};
use run::Run;
use std::collections::BTreeMap;
use std::sync::Arc;

const ID: &str = "adf";

/// The file system of a new volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FileSystem {
    /// The fast one; else the old one.
    pub is_fast: bool,
    /// Whether names are compared by all letters of ISO 8859-1.
    pub is_international: bool,
}

/// What a new volume is like.
pub struct Volume<'a> {
    /// Its name.
    pub name: &'a str,
    /// Its file system.
    pub file_system: FileSystem,
    /// Its blocks of 512 bytes.
    pub blocks: u64,
}

/// A new volume with everything of `tree`, whose folders stand before what is in them.
///
/// # Errors
/// [`Error::Usage`] when it does not fit, with the numbers; [`Error::Unsupported`] for names that the volume cannot hold.
pub fn compose(tree: &Tree, volume: &Volume<'_>) -> Result<Blueprint> {
    let needed = needed_blocks(tree, volume.file_system);
    let room = volume.blocks.saturating_sub(room::own_blocks(volume.blocks));
    if needed > room {
        let told = |blocks: u64| format!("{} blocks ({})", tell::grouped(blocks), tell::size(blocks * BLOCK as u64));
        let told = format!("{} needed, the volume has room for {}", told(needed), told(room));
        return Err(Error::Usage(told));
    }
    let arranged = Arranged::of(tree)?;
    check_names(&arranged)?;
    let mut builder = Builder::new(volume)?;
    for &member in &arranged.members {
        builder.member(&arranged, member)?;
    }
    builder.finish(arranged.members.iter().filter_map(|m| arranged.named(*m).modified).max())
}

/// Fails for links, and for names that differ in case alone.
fn check_names(tree: &Arranged) -> Result<()> {
    if let Some(link) = tree.links.first() {
        return Err(Error::unsupported(ID, format!("the link \"{link}\"")));
    }
    let mut met = BTreeMap::new();
    for &member in &tree.members {
        let path = &tree.named(member).path;
        if let Some(other) = met.insert(path.to_lowercase(), path) {
            let what = format!("\"{path}\" beside \"{other}\": the volume does not tell names apart by case");
            return Err(Error::unsupported(ID, what));
        }
    }
    Ok(())
}

struct Builder<'a> {
    volume: &'a Volume<'a>,
    free: Free,
    /// Header and list blocks.
    blocks: BTreeMap<u64, Box<[u8; BLOCK]>>,
    /// The header of each folder, the root first.
    folders: Vec<u64>,
    runs: Vec<Run>,
}

impl<'a> Builder<'a> {
    fn new(volume: &'a Volume<'a>) -> Result<Self> {
        let free = Free::new(volume.blocks);
        let mut header = Box::new([0; BLOCK]);
        put(&mut header[..], at::TYPE, block::HEADER);
        put(&mut header[..], at::TABLE_LEN, TABLE as u32);
        put(&mut header[..], at::MAP_FLAG, u32::MAX);
        put(&mut header[..], at::KIND, block::ROOT as u32);
        put_name(&mut header, volume.name)?;
        let root = free.root();
        let mut blocks = BTreeMap::from_iter(free.name_pages(&mut header[..]));
        blocks.insert(root, header);
        Ok(Self { volume, free, blocks, folders: vec![root], runs: Vec::new() })
    }

    fn member(&mut self, tree: &Arranged, member: Member) -> Result<()> {
        let named = tree.named(member);
        let parent = self.folders[named.parent];
        let number = self.free.next()?;
        let mut header = header(named, number, parent)?;
        match member {
            Member::Folder(_) => {
                put(&mut header[..], at::KIND, block::FOLDER as u32);
                self.folders.push(number);
            }
            Member::File(file) => {
                put(&mut header[..], at::KIND, block::FILE as u32);
                self.content(&mut header, number, &tree.files[file].source)?;
            }
        }
        let slot = slot(counted(&header[..], at::NAME, block::MOST_NAME), self.volume.file_system.is_international);
        self.blocks.insert(number, header);
        self.link(parent, number, slot)
    }

    /// Puts an entry into the table of its folder, behind those of the same slot.
    fn link(&mut self, folder: u64, number: u64, slot: usize) -> Result<()> {
        let (mut holder, mut place) = (folder, at::TABLE + slot * 4);
        loop {
            let block = self.blocks.get_mut(&holder).ok_or_else(|| Error::Usage("a folder is gone".into()))?;
            let next = u64::from(crate::num::be32(&block[..], place));
            if next == 0 {
                put(&mut block[..], place, number as u32);
                return Ok(());
            }
            (holder, place) = (next, at::NEXT);
        }
    }

    /// Gives a file its blocks: the lists first, then the data in one piece, as far as the map in the middle allows.
    fn content(&mut self, header: &mut [u8; BLOCK], number: u64, source: &SourceRef) -> Result<()> {
        let len = u32::try_from(source.len())
            .map_err(|_| Error::unsupported(ID, format!("a file of {} bytes", source.len())))?;
        put(header, at::LEN, len);
        let count = source.len().div_ceil(room::data_len(self.volume.file_system));
        let mut take = |count: u64| (0..count).map(|_| self.free.next()).collect::<Result<Vec<u64>>>();
        let (lists, data) = (take(room::lists(count))?, take(count)?);
        put(header, at::FIRST_DATA, data.first().copied().unwrap_or(0) as u32);
        put(header, at::EXTENSION, lists.first().copied().unwrap_or(0) as u32);
        let mut chunks = data.chunks(TABLE);
        list_blocks(header, chunks.next().unwrap_or_default());
        for (index, (&own, chunk)) in lists.iter().zip(chunks).enumerate() {
            let mut list = Box::new([0; BLOCK]);
            put(&mut list[..], at::TYPE, block::LIST);
            put(&mut list[..], at::OWN, own as u32);
            put(&mut list[..], at::PARENT, number as u32);
            put(&mut list[..], at::EXTENSION, lists.get(index + 1).copied().unwrap_or(0) as u32);
            put(&mut list[..], at::KIND, block::FILE as u32);
            list_blocks(&mut list[..], chunk);
            self.blocks.insert(own, list);
        }
        let mut index = 0;
        for run in data.chunk_by(|a, b| a + 1 == *b) {
            let count = run.len() as u64;
            let next = data.get(index + run.len()).copied().unwrap_or(0);
            let source = source.clone();
            self.runs.push(Run { first: run[0], source, header: number, index: index as u64, count, next });
            index += run.len();
        }
        Ok(())
    }

    fn finish(mut self, latest: Option<i64>) -> Result<Blueprint> {
        let root = self.free.root();
        if let Some(root) = self.blocks.get_mut(&root) {
            for place in [at::DATE, at::DISK_DATE, at::BIRTH] {
                put_moment(&mut root[..], place, latest.unwrap_or(0).max(0));
            }
        }
        // Blocks that name pages of the map are nothing but numbers; all others carry a checksum.
        let numbers = self.free.map_blocks();
        for (number, block) in &mut self.blocks {
            if !numbers.contains(number) {
                seal(&mut block[..], at::CHECKSUM);
            }
        }
        let FileSystem { is_fast, is_international } = self.volume.file_system;
        let mut boot = vec![0; RESERVED as usize * BLOCK];
        boot[..4].copy_from_slice(&[b'D', b'O', b'S', u8::from(is_fast) | u8::from(is_international) << 1]);
        let mut parts: BTreeMap<u64, SourceRef> = BTreeMap::from([(0, Arc::new(Bytes(boot)) as SourceRef)]);
        for (number, block) in self.blocks.into_iter().chain(self.free.map()) {
            parts.insert(number, Arc::new(Bytes(block.to_vec())));
        }
        for run in self.runs {
            parts.insert(run.first, run.bytes(is_fast)?);
        }
        Ok(in_place(parts, self.volume.blocks * BLOCK as u64))
    }
}

/// Parts at their blocks, with zeros between them, `len` bytes in all.
fn in_place(parts: BTreeMap<u64, SourceRef>, len: u64) -> Blueprint {
    let mut blueprint = Blueprint::new();
    let mut end = 0;
    for (number, part) in parts {
        let start = number * BLOCK as u64;
        if start > end {
            blueprint.fill(0, start - end);
        }
        end = start + part.len();
        blueprint.source(part);
    }
    blueprint.fill(0, len - end);
    blueprint
}

/// The header of a file or folder, but for what it is.
fn header(named: &Named, number: u64, parent: u64) -> Result<Box<[u8; BLOCK]>> {
    let mut header = Box::new([0; BLOCK]);
    put(&mut header[..], at::TYPE, block::HEADER);
    put(&mut header[..], at::OWN, number as u32);
    put(&mut header[..], at::PARENT, parent as u32);
    put_name(&mut header, &named.name)?;
    if let Some(modified) = named.modified {
        put_moment(&mut header[..], at::DATE, modified);
    }
    if let Some(about) = &named.about {
        put(&mut header[..], at::PROTECTION, about.protection.unwrap_or(0));
        let len = about.comment.len().min(block::MOST_COMMENT);
        header[at::COMMENT] = len as u8;
        header[at::COMMENT + 1..at::COMMENT + 1 + len].copy_from_slice(&about.comment[..len]);
    }
    Ok(header)
}

fn put_name(header: &mut [u8; BLOCK], name: &str) -> Result<()> {
    let bytes = to_latin(name).filter(|b| !b.is_empty() && b.len() <= block::MOST_NAME && !b.contains(&b':'));
    let bytes = bytes.ok_or_else(|| {
        let most = block::MOST_NAME;
        Error::unsupported(ID, format!("the name \"{name}\" (at most {most} letters of western Europe, no colon)"))
    })?;
    header[at::NAME] = bytes.len() as u8;
    header[at::NAME + 1..at::NAME + 1 + bytes.len()].copy_from_slice(&bytes);
    Ok(())
}

/// Lists data blocks in a header or list, from the end of its table backwards.
fn list_blocks(own: &mut [u8], blocks: &[u64]) {
    put(own, at::COUNT, blocks.len() as u32);
    blocks.iter().enumerate().for_each(|(i, b)| put(own, at::TABLE + (TABLE - 1 - i) * 4, *b as u32));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::num::be32;
    use crate::time;
    use decanter_core::tree::{About, File, Kind, Node};

    fn volume(is_fast: bool, blocks: u64) -> Volume<'static> {
        Volume { name: "Marsh", file_system: FileSystem { is_fast, is_international: false }, blocks }
    }

    fn file(path: &str, len: usize) -> Node {
        Node::new(path.into(), Kind::File(File::of(Arc::new(Bytes(vec![b'k'; len])))), None)
    }

    fn written(nodes: Vec<Node>, volume: &Volume<'_>) -> Vec<u8> {
        let source = compose(&Tree { nodes }, volume).unwrap().as_source().unwrap();
        let mut bytes = vec![0; source.len() as usize];
        source.read_at(0, &mut bytes).unwrap();
        bytes
    }

    /// A disk with one file, counted by hand.
    #[test]
    fn one_file_on_a_floppy_has_these_bytes() {
        let modified = time::seconds((1990, 5, 4), (3, 2, 1));
        let about = About { protection: Some(0x10), comment: b"tide".to_vec(), ..About::default() };
        let node = Node { modified: Some(modified), ..file("s", 600) }.about(about);
        let image = written(vec![node], &volume(true, 1760));
        assert_eq!((image.len(), &image[..4]), (901_120, &b"DOS\x01"[..]));
        let word = |block: usize, at: usize| be32(&image, block * BLOCK + at);
        // The root in the middle names the page behind it; "s" is slot 24.
        assert_eq!(
            [word(880, 0), word(880, 12), word(880, 312), word(880, 316), word(880, 508)],
            [2, 72, u32::MAX, 881, 1]
        );
        assert_eq!(&image[880 * BLOCK + 432..][..6], b"\x05Marsh");
        assert_eq!((0..72).filter(|i| word(880, 24 + i * 4) != 0).collect::<Vec<_>>(), [24]);
        assert_eq!(word(880, 24 + 24 * 4), 2);
        // Days since 1978, minutes, fiftieths of a second.
        assert_eq!([word(880, 420), word(880, 424), word(880, 428)], [4506, 182, 50]);
        // Its header in block 2: two data blocks, the first listed last.
        let header = [word(2, 0), word(2, 4), word(2, 8), word(2, 16), word(2, 320), word(2, 324)];
        assert_eq!(header, [2, 2, 2, 3, 0x10, 600]);
        assert_eq!([word(2, 24 + 71 * 4), word(2, 24 + 70 * 4), word(2, 24 + 69 * 4)], [3, 4, 0]);
        assert_eq!((word(2, 500), word(2, 508) as i32), (880, -3));
        assert_eq!((&image[2 * BLOCK + 328..][..5], &image[2 * BLOCK + 432..][..2]), (&b"\x04tide"[..], &b"\x01s"[..]));
        assert!(image[3 * BLOCK..3 * BLOCK + 600].iter().all(|b| *b == b'k'));
        for number in [2, 880] {
            assert_eq!(block::sum(&image[number * BLOCK..(number + 1) * BLOCK]), 0, "block {number}");
        }
    }

    #[test]
    fn names_of_one_slot_are_chained() {
        let same: Vec<String> = (b'a'..=b'z')
            .flat_map(|a| (b'a'..=b'z').map(move |b| format!("{}{}", a as char, b as char)))
            .filter(|n| slot(n.as_bytes(), false) == 25)
            .take(3)
            .collect();
        let image = written(same.iter().map(|n| file(n, 0)).collect(), &volume(true, 1760));
        let word = |block: u32, at: usize| be32(&image, block as usize * BLOCK + at);
        let first = word(880, 24 + 25 * 4);
        let (second, third) = (word(first, at::NEXT), word(word(first, at::NEXT), at::NEXT));
        assert_eq!([first, second, third, word(third, at::NEXT)], [2, 3, 4, 0]);
    }

    #[test]
    fn a_long_file_is_listed_in_several_blocks_and_goes_around_the_root() {
        let image = written(vec![file("long", 210 * 488)], &volume(false, 410));
        let word = |block: usize, at: usize| be32(&image, block * BLOCK + at);
        // Header 2, lists 3 and 4, data from 5 on; the root 205 and its page 206 stand in the way.
        assert_eq!([word(2, at::COUNT), word(2, at::FIRST_DATA), word(2, at::EXTENSION)], [72, 5, 3]);
        assert_eq!([word(3, 0), word(3, at::COUNT), word(3, at::EXTENSION), word(3, at::PARENT)], [16, 72, 4, 2]);
        assert_eq!([word(4, at::COUNT), word(4, at::EXTENSION)], [66, 0]);
        // Its 56th and 57th block, counted from the end of the table: 204 and 207.
        assert_eq!([word(4, 24 + (71 - 55) * 4), word(4, 24 + (71 - 56) * 4)], [204, 207]);
        assert_eq!([word(204, 16), word(207, 8)], [207, 201], "each data block names the next and counts itself");
    }

    #[test]
    fn what_it_cannot_hold_is_refused() {
        let why = |nodes: Vec<Node>| compose(&Tree { nodes }, &volume(true, 40)).err().unwrap().to_string();
        assert!(why(vec![file("a:b", 1)]).contains("no colon"));
        assert!(why(vec![file(&"n".repeat(31), 1)]).contains("at most 30"));
        assert!(why(vec![file("Sea", 1), file("sEA", 1)]).contains("by case"));
        assert!(why(vec![file("large", 40 * 512)]).contains("room for"));
        assert!(why(vec![Node::new("l".into(), Kind::Link("a".into()), None)]).contains("link"));
    }
}
