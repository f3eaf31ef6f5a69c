//! New volumes: every block in its place, files in one piece, the same bytes for the same files.

use super::RESERVED;
use super::block::{self, BLOCK, LEAD, MAP_PAGES, OLD_DATA, PER_MAP, TABLE, at, put, put_moment, seal, slot, to_latin};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::tree::{Kind, Tree};
use decanter_core::{Error, Result};
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

/// A data run: the blocks from `first` on hold `source` from its data block `index` on.
struct Run {
    first: u64,
    source: SourceRef,
    header: u64,
    index: u64,
    count: u64,
    /// The block after the last of the run, if the file goes on.
    next: u64,
}

/// Blocks that a tree takes on such a volume, without what the volume takes itself.
pub fn needed_blocks(tree: &Tree, file_system: FileSystem) -> u64 {
    let per = if file_system.is_fast { BLOCK } else { OLD_DATA } as u64;
    let of = |len: u64| {
        let data = len.div_ceil(per);
        1 + data + data.div_ceil(TABLE as u64).saturating_sub(1)
    };
    tree.nodes.iter().map(|n| n.file().map_or(1, |f| of(f.len))).sum()
}

/// Blocks that a volume of so many needs for itself.
fn own_blocks(blocks: u64) -> u64 {
    let pages = blocks.saturating_sub(RESERVED).div_ceil(PER_MAP);
    let extensions = pages.saturating_sub(MAP_PAGES as u64).div_ceil(127);
    RESERVED + 1 + pages + extensions
}

/// The smallest number of blocks that has room for `needed` of them.
pub fn least_blocks(needed: u64) -> u64 {
    let mut blocks = needed + 16;
    while blocks - own_blocks(blocks) < needed {
        blocks += 8;
    }
    blocks
}

/// A new volume with everything of `tree`, whose folders stand before what is in them.
///
/// # Errors
/// [`Error::Usage`] when it does not fit, with the numbers; [`Error::Unsupported`] for names that the volume cannot hold.
pub fn compose(tree: &Tree, volume: &Volume<'_>) -> Result<Blueprint> {
    let needed = needed_blocks(tree, volume.file_system);
    let room = volume.blocks.saturating_sub(own_blocks(volume.blocks));
    if needed > room {
        let (n, r) = (needed * BLOCK as u64, room * BLOCK as u64);
        return Err(Error::Usage(format!(
            "{needed} blocks ({n} bytes) are needed, the volume has room for {room} ({r} bytes)"
        )));
    }
    let mut builder = Builder::new(volume)?;
    for node in &tree.nodes {
        builder.node(node)?;
    }
    builder.finish()
}

struct Builder<'a> {
    volume: &'a Volume<'a>,
    root: u64,
    /// Header, list and map blocks.
    blocks: BTreeMap<u64, Box<[u8; BLOCK]>>,
    /// Folders by their paths in lower case.
    folders: BTreeMap<String, u64>,
    /// All paths by what they are in lower case.
    names: BTreeMap<String, String>,
    runs: Vec<Run>,
    taken: Vec<bool>,
    next: u64,
    latest: i64,
}

impl<'a> Builder<'a> {
    fn new(volume: &'a Volume<'a>) -> Result<Self> {
        let root = (volume.blocks - 1 + RESERVED) / 2;
        let mut builder = Self {
            volume,
            root,
            blocks: BTreeMap::new(),
            folders: BTreeMap::from([(String::new(), root)]),
            names: BTreeMap::new(),
            runs: Vec::new(),
            taken: vec![false; volume.blocks as usize],
            next: RESERVED,
            latest: 0,
        };
        let mut header = Box::new([0; BLOCK]);
        put(&mut header[..], at::TYPE, block::HEADER);
        put(&mut header[..], at::TABLE_LEN, TABLE as u32);
        put(&mut header[..], at::MAP_FLAG, u32::MAX);
        put(&mut header[..], at::KIND, block::ROOT as u32);
        builder.name(&mut header, volume.name)?;
        builder.taken[..RESERVED as usize].fill(true);
        builder.take(root);
        // The pages of the map follow the root block.
        let pages = (volume.blocks - RESERVED).div_ceil(PER_MAP);
        let places: Vec<u64> = (0..pages).map(|i| root + 1 + i).collect();
        places.iter().for_each(|p| builder.take(*p));
        for (index, place) in places.iter().take(MAP_PAGES).enumerate() {
            put(&mut header[..], at::MAPS + index * 4, *place as u32);
        }
        let more = places.get(MAP_PAGES..).unwrap_or_default().chunks(127);
        let count = more.len();
        for (extension, (index, chunk)) in (root + 1 + pages..).zip(more.enumerate()) {
            builder.take(extension);
            if index == 0 {
                put(&mut header[..], at::MAP_EXTENSION, extension as u32);
            }
            let mut own = Box::new([0; BLOCK]);
            chunk.iter().enumerate().for_each(|(i, place)| put(&mut own[..], i * 4, *place as u32));
            put(&mut own[..], 508, if index + 1 < count { extension as u32 + 1 } else { 0 });
            builder.blocks.insert(extension, own);
        }
        builder.blocks.insert(root, header);
        Ok(builder)
    }

    fn take(&mut self, block: u64) {
        if let Some(taken) = self.taken.get_mut(block as usize) {
            *taken = true;
        }
    }

    /// The next free block.
    fn free(&mut self) -> Result<u64> {
        while self.taken.get(self.next as usize) == Some(&true) {
            self.next += 1;
        }
        if self.next >= self.volume.blocks {
            return Err(Error::Usage("the volume is full".into()));
        }
        self.take(self.next);
        Ok(self.next)
    }

    fn name(&self, header: &mut [u8; BLOCK], name: &str) -> Result<()> {
        let bytes = to_latin(name).filter(|b| !b.is_empty() && b.len() <= block::MOST_NAME && !b.contains(&b':'));
        let bytes = bytes.ok_or_else(|| {
            Error::unsupported(
                ID,
                format!("the name \"{name}\" (at most {} letters of western Europe, no colon)", block::MOST_NAME),
            )
        })?;
        header[at::NAME] = bytes.len() as u8;
        header[at::NAME + 1..at::NAME + 1 + bytes.len()].copy_from_slice(&bytes);
        Ok(())
    }

    fn node(&mut self, node: &decanter_core::Node) -> Result<()> {
        if let Some(other) = self.names.insert(node.path.to_lowercase(), node.path.clone()) {
            let what = format!("\"{}\" beside \"{other}\": the volume does not tell names apart by case", node.path);
            return Err(Error::unsupported(ID, what));
        }
        let (parent, name) = node.path.rsplit_once('/').unwrap_or(("", &node.path));
        let parent_block = self.folders.get(&parent.to_lowercase()).copied();
        let parent_block =
            parent_block.ok_or_else(|| Error::Usage(format!("the folder of \"{}\" is not there", node.path)))?;
        let number = self.free()?;
        let mut header = Box::new([0; BLOCK]);
        put(&mut header[..], at::TYPE, block::HEADER);
        put(&mut header[..], at::OWN, number as u32);
        put(&mut header[..], at::PARENT, parent_block as u32);
        self.name(&mut header, name)?;
        if let Some(modified) = node.modified {
            self.latest = self.latest.max(modified);
            put_moment(&mut header[..], at::DATE, modified);
        }
        if let Some(about) = &node.about {
            put(&mut header[..], at::PROTECTION, about.protection.unwrap_or(0));
            let len = about.comment.len().min(block::MOST_COMMENT);
            header[at::COMMENT] = len as u8;
            header[at::COMMENT + 1..at::COMMENT + 1 + len].copy_from_slice(&about.comment[..len]);
        }
        match &node.kind {
            Kind::Folder => {
                put(&mut header[..], at::KIND, block::FOLDER as u32);
                self.folders.insert(node.path.to_lowercase(), number);
            }
            Kind::File(file) => {
                put(&mut header[..], at::KIND, block::FILE as u32);
                self.content(&mut header, number, file.source()?)?;
            }
            Kind::Link(_) => return Err(Error::unsupported(ID, format!("the link \"{}\"", node.path))),
        }
        self.blocks.insert(number, header);
        self.link(parent_block, number, name)
    }

    /// Puts an entry into the table of its folder, behind those of the same slot.
    fn link(&mut self, folder: u64, number: u64, name: &str) -> Result<()> {
        let raw = to_latin(name).unwrap_or_default();
        let slot = slot(&raw, self.volume.file_system.is_international);
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
        let per = if self.volume.file_system.is_fast { BLOCK } else { OLD_DATA } as u64;
        let len = u32::try_from(source.len())
            .map_err(|_| Error::unsupported(ID, format!("a file of {} bytes", source.len())))?;
        put(header, at::LEN, len);
        let count = source.len().div_ceil(per);
        let lists: Vec<u64> =
            (0..count.div_ceil(TABLE as u64).saturating_sub(1)).map(|_| self.free()).collect::<Result<_>>()?;
        let data: Vec<u64> = (0..count).map(|_| self.free()).collect::<Result<_>>()?;
        put(header, at::FIRST_DATA, data.first().copied().unwrap_or(0) as u32);
        put(header, at::EXTENSION, lists.first().copied().unwrap_or(0) as u32);
        for (index, chunk) in data.chunks(TABLE).enumerate() {
            let fill = |own: &mut [u8]| {
                put(own, at::COUNT, chunk.len() as u32);
                chunk.iter().enumerate().for_each(|(i, b)| put(own, at::TABLE + (TABLE - 1 - i) * 4, *b as u32));
            };
            if index == 0 {
                fill(header);
                continue;
            }
            let mut list = Box::new([0; BLOCK]);
            put(&mut list[..], at::TYPE, block::LIST);
            put(&mut list[..], at::OWN, lists[index - 1] as u32);
            put(&mut list[..], at::PARENT, number as u32);
            put(&mut list[..], at::EXTENSION, lists.get(index).copied().unwrap_or(0) as u32);
            put(&mut list[..], at::KIND, block::FILE as u32);
            fill(&mut list[..]);
            self.blocks.insert(lists[index - 1], list);
        }
        let mut from = 0;
        while from < data.len() {
            let run = (from..data.len()).take_while(|i| data[*i] == data[from] + (*i - from) as u64).count();
            self.runs.push(Run {
                first: data[from],
                source: source.clone(),
                header: number,
                index: from as u64,
                count: run as u64,
                next: data.get(from + run).copied().unwrap_or(0),
            });
            from += run;
        }
        Ok(())
    }

    fn finish(mut self) -> Result<Blueprint> {
        let latest = self.latest;
        if let Some(root) = self.blocks.get_mut(&self.root) {
            for place in [at::DATE, at::DISK_DATE, at::BIRTH] {
                put_moment(&mut root[..], place, latest);
            }
        }
        let pages = (self.volume.blocks - RESERVED).div_ceil(PER_MAP);
        let maps: Vec<u64> = (0..pages).map(|i| self.root + 1 + i).collect();
        // Blocks that name pages of the map are nothing but numbers; all others carry a checksum.
        let extensions = pages.saturating_sub(MAP_PAGES as u64).div_ceil(127);
        let numbers = self.root + 1..self.root + 1 + pages + extensions;
        for (number, block) in &mut self.blocks {
            if !numbers.contains(number) {
                seal(&mut block[..], at::CHECKSUM);
            }
        }
        for (index, place) in maps.iter().enumerate() {
            let mut map = Box::new([0; BLOCK]);
            for bit in 0..PER_MAP {
                let number = RESERVED + index as u64 * PER_MAP + bit;
                // Bits beyond the end are set, as formatting leaves them.
                if self.taken.get(number as usize).is_none_or(|taken| !taken) {
                    let at = 4 + bit as usize / 32 * 4;
                    let word = crate::num::be32(&map[..], at) | 1 << (bit % 32);
                    put(&mut map[..], at, word);
                }
            }
            seal(&mut map[..], 0);
            self.blocks.insert(*place, map);
        }
        let FileSystem { is_fast, is_international } = self.volume.file_system;
        let mut boot = vec![0; RESERVED as usize * BLOCK];
        boot[..4].copy_from_slice(&[b'D', b'O', b'S', u8::from(is_fast) | u8::from(is_international) << 1]);
        let mut parts: BTreeMap<u64, SourceRef> =
            BTreeMap::from([(0, Arc::new(decanter_core::source::Bytes(boot)) as SourceRef)]);
        for (number, block) in self.blocks {
            parts.insert(number, Arc::new(decanter_core::source::Bytes(block.to_vec())));
        }
        for run in self.runs {
            let first = run.first;
            parts.insert(first, if is_fast { fast_run(&run)? } else { Arc::new(OldRun(run)) });
        }
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
        blueprint.fill(0, self.volume.blocks * BLOCK as u64 - end);
        Ok(blueprint)
    }
}

/// A run of the fast file system: the content itself.
fn fast_run(run: &Run) -> Result<SourceRef> {
    let from = run.index * BLOCK as u64;
    let len = (run.count * BLOCK as u64).min(run.source.len() - from);
    Ok(Arc::new(decanter_core::view::Slice::new(run.source.clone(), from, len)?))
}

/// A run of the old file system: each block begins with what it is.
struct OldRun(Run);

impl Source for OldRun {
    fn len(&self) -> u64 {
        self.0.count * BLOCK as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let run = &self.0;
        let mut at = offset;
        let mut rest = &mut *buf;
        while !rest.is_empty() {
            let (number, into) = (at / BLOCK as u64, (at % BLOCK as u64) as usize);
            let index = run.index + number;
            let from = index * OLD_DATA as u64;
            let len = (OLD_DATA as u64).min(run.source.len() - from);
            let next = if number + 1 < run.count { run.first + number + 1 } else { run.next };
            let mut own = [0; BLOCK];
            put(&mut own, at::TYPE, block::DATA);
            put(&mut own, at::OWN, run.header as u32);
            put(&mut own, at::COUNT, index as u32 + 1);
            put(&mut own, at::TABLE_LEN, len as u32);
            put(&mut own, at::FIRST_DATA, next as u32);
            run.source.read_at(from, &mut own[LEAD..LEAD + len as usize])?;
            seal(&mut own, at::CHECKSUM);
            let now = rest.len().min(BLOCK - into);
            rest[..now].copy_from_slice(&own[into..into + now]);
            rest = &mut rest[now..];
            at += now as u64;
        }
        Ok(())
    }
}
