//! The file systems of the ext family, versions 2 to 4, read without their journal.
//!
//! Numbers are little-endian. Layout: docs/formats/ext.md.

use super::{MOST_NODES, Noticed, used};
use crate::num::{le16, le32};
use decanter_core::format::{Context, Format, Opened};
use decanter_core::source::{Bytes, Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result, watch};
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;

const ID: &str = "ext";
/// Where the superblock stands.
const SUPER: u64 = 1024;
/// Number of the inode of the root folder.
const ROOT: u32 = 2;
/// Features without which nothing can be read right, as far as they are known here.
const KNOWN: u32 = 0x2 | 0x4 | 0x40 | 0x80 | 0x100 | 0x200 | 0x2000 | 0x4000 | 0x8000 | 0x1_0000;
/// Files may share blocks on purpose.
const SHARED: u32 = 0x4000;
/// The journal has changes that are not in their places yet.
const RECOVER: u32 = 0x4;
const WIDE: u32 = 0x80;
/// Flags of an inode.
const ENCRYPTED: u32 = 0x800;
const EXTENTS: u32 = 0x8_0000;
const INLINE: u32 = 0x1000_0000;
/// Bytes of a folder, and steps from an inode to its blocks.
const MOST_FOLDER: u64 = 64 << 20;
const MOST_STEPS: usize = 1 << 20;
/// Bytes of a link's target.
const MOST_LINK: u64 = 4096;

/// The format.
pub struct Ext;

#[derive(Debug, Clone, Copy)]
struct Layout {
    block_len: u64,
    blocks: u64,
    free: u64,
    first_block: u64,
    inodes: u32,
    inodes_per_group: u32,
    inode_len: u64,
    group_len: u64,
    incompatible: u32,
    may_share: bool,
    is_clean: bool,
}

impl Layout {
    fn read(source: &dyn Source) -> Result<Option<Self>> {
        if source.len() < SUPER + 1024 {
            return Ok(None);
        }
        let s: [u8; 1024] = read_array(source, SUPER)?;
        if le16(&s, 56) != 0xef53 || le32(&s, 24) > 6 {
            return Ok(None);
        }
        let (incompatible, is_new) = (le32(&s, 96), le32(&s, 76) > 0);
        let high = |at: usize| if incompatible & WIDE != 0 { u64::from(le32(&s, at)) << 32 } else { 0 };
        let layout = Self {
            block_len: 1024 << le32(&s, 24),
            blocks: u64::from(le32(&s, 4)) | high(0x150),
            free: u64::from(le32(&s, 12)) | high(0x158),
            first_block: le32(&s, 20).into(),
            inodes: le32(&s, 0),
            inodes_per_group: le32(&s, 40),
            inode_len: if is_new { le16(&s, 88).into() } else { 128 },
            group_len: if incompatible & WIDE != 0 { u64::from(le16(&s, 254)).max(32) } else { 32 },
            incompatible: if is_new { incompatible } else { 0 },
            may_share: is_new && le32(&s, 100) & SHARED != 0,
            is_clean: le16(&s, 58) & 1 != 0,
        };
        let plausible = layout.inodes_per_group > 0
            && (128..=layout.block_len).contains(&layout.inode_len)
            && layout.blocks > 0
            && layout.group_len <= 1024;
        Ok(plausible.then_some(layout))
    }
}

impl Format for Ext {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "ext file system"
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img", "ext4"]
    }

    fn reads(&self) -> &'static str {
        "ext2, ext3, ext4: extents and block lists, links; the journal is not replayed"
    }

    fn is_image(&self) -> bool {
        true
    }

    fn score(&self, source: &dyn Source) -> Result<Option<u8>> {
        Ok(Layout::read(source)?.map(|_| 84))
    }

    fn open(&self, source: SourceRef, context: &Context<'_>) -> Result<Opened> {
        let Some(layout) = Layout::read(source.as_ref())? else {
            return Err(Error::malformed(ID, "the superblock is none", SUPER + 56));
        };
        let unknown = layout.incompatible & !KNOWN;
        if unknown != 0 {
            return Err(Error::unsupported(ID, format!("a volume with the features {unknown:#x}")));
        }
        let label: [u8; 16] = read_array(source.as_ref(), SUPER + 120)?;
        let mut opened = Opened::new(ID, self.name());
        opened.promised_len = layout.blocks.checked_mul(layout.block_len);
        opened.fact("label", String::from_utf8_lossy(&label).trim_end_matches('\0').to_owned());
        let all = layout.blocks.saturating_mul(layout.block_len);
        let taken = layout.blocks.saturating_sub(layout.free).saturating_mul(layout.block_len);
        opened.fact("used", used(taken, all));
        if layout.incompatible & RECOVER != 0 || !layout.is_clean {
            opened.notice("the volume was not shut down: what stands only in its journal is missing or out of date");
        }
        let mut walk = Walk::new(source, layout);
        walk.run(context)?;
        walk.hold_together();
        opened.notices.extend(walk.noticed.into());
        opened.tree = Some(walk.tree);
        Ok(opened)
    }
}

/// An inode.
struct Inode {
    mode: u16,
    links: u16,
    len: u64,
    modified: i64,
    flags: u32,
    /// Where its blocks are, or its content.
    body: [u8; 60],
    /// What of the content stands among its attributes.
    rest: Vec<u8>,
}

struct Walk {
    source: SourceRef,
    layout: Layout,
    tree: Tree,
    noticed: Noticed,
    /// Runs of blocks with the inode that they belong to.
    owners: Vec<(Range<u64>, u32)>,
    /// The inode of each node of the tree.
    of_node: Vec<u32>,
    /// Of inodes of files: how many names lead there, and how many should.
    names: HashMap<u32, (u32, u16)>,
}

impl Walk {
    fn new(source: SourceRef, layout: Layout) -> Self {
        Self {
            source,
            layout,
            tree: Tree::default(),
            noticed: Noticed::default(),
            owners: Vec::new(),
            of_node: Vec::new(),
            names: HashMap::new(),
        }
    }

    /// What only all inodes together show: blocks with two owners, and names that are missing or too many.
    fn hold_together(&mut self) {
        self.owners.sort_by_key(|(run, owner)| (run.start, *owner));
        let (mut end, mut last) = (0, 0);
        let mut crossed: HashMap<u32, u64> = HashMap::new();
        for (run, owner) in self.owners.iter().filter(|_| !self.layout.may_share) {
            if run.start < end {
                crossed.extend([(*owner, run.start), (last, run.start)]);
            }
            if run.end > end {
                (end, last) = (run.end, *owner);
            }
        }
        for (node, inode) in self.tree.nodes.iter_mut().zip(&self.of_node) {
            let Some(block) = crossed.get(inode) else { continue };
            let why = format!("block {block} belongs to another file or folder too: one of them is wrong");
            match &mut node.kind {
                Kind::File(file) => *file = File::broken(file.len, why),
                _ => self.noticed.note(format!("{}: {why}", node.path)),
            }
        }
        let mut wrong: Vec<_> = self.names.iter().filter(|(_, (names, links))| *names != u32::from(*links)).collect();
        wrong.sort_unstable();
        for (inode, (names, links)) in wrong.into_iter().filter(|_| self.layout.is_clean) {
            self.noticed.note(format!("inode {inode} says that {links} names lead to it, and {names} do"));
        }
    }

    fn run(&mut self, context: &Context<'_>) -> Result<()> {
        let mut seen = HashSet::from([ROOT]);
        let mut todo = vec![(String::new(), ROOT)];
        while let Some((path, number)) = todo.pop() {
            watch::check(context.watch)?;
            let shown = if path.is_empty() { "the root folder" } else { &path };
            let mut is_inline = false;
            let bytes = self.inode(number).and_then(|inode| {
                is_inline = inode.flags & INLINE != 0;
                let (content, blocks) = self.content(&inode)?;
                self.owners.extend(blocks.into_iter().map(|run| (run, number)));
                read_vec(content.as_ref(), 0, content.len(), "a folder", MOST_FOLDER)
            });
            let bytes = match bytes {
                Ok(bytes) => bytes,
                Err(e) if e.blame() == decanter_core::error::Blame::Source => {
                    self.noticed.note(format!("{shown} cannot be read: {e}"));
                    continue;
                }
                Err(e) => return Err(e),
            };
            // In an inode, a folder begins with the number of its parent, and goes on anew among the attributes.
            let lists = match is_inline {
                true => {
                    vec![bytes.get(4..60.min(bytes.len())).unwrap_or_default(), bytes.get(60..).unwrap_or_default()]
                }
                false => vec![&bytes[..]],
            };
            let (mut all, mut is_whole) = (Vec::new(), true);
            for list in lists {
                let (found, whole) = entries(list);
                all.extend(found);
                is_whole &= whole;
            }
            if !is_whole {
                self.noticed.note(format!("the entries of {shown} are damaged: some of them are lost"));
            }
            for (number, name) in all {
                let path = if path.is_empty() { name } else { format!("{path}/{name}") };
                if self.tree.nodes.len() >= MOST_NODES {
                    let limit = MOST_NODES as u64;
                    return Err(Error::Limit { what: "files on a volume", asked: limit + 1, limit });
                }
                let inode = match self.inode(number) {
                    Ok(inode) => inode,
                    Err(e) => {
                        self.noticed.note(format!("{path} cannot be read: {e}"));
                        continue;
                    }
                };
                let kind = match inode.mode >> 12 {
                    4 => {
                        if seen.insert(number) {
                            todo.push((path.clone(), number));
                        } else {
                            self.noticed.note(format!("{path} is the same as another folder: not followed"));
                        }
                        Kind::Folder
                    }
                    8 => {
                        let (file, blocks) = self.file(&inode);
                        let known = self.names.entry(number).or_insert((0, inode.links));
                        known.0 += 1;
                        if known.0 == 1 {
                            self.owners.extend(blocks.into_iter().map(|run| (run, number)));
                        }
                        Kind::File(file)
                    }
                    10 => Kind::Link(self.link(&inode)),
                    // Devices, pipes and sockets mean nothing elsewhere.
                    1 | 2 | 6 | 12 => continue,
                    other => {
                        self.noticed.note(format!("{path} leads to inode {number}, which is of kind {other}: none"));
                        continue;
                    }
                };
                self.of_node.push(number);
                self.tree.nodes.push(Node::new(path, kind, Some(inode.modified)));
            }
        }
        Ok(())
    }

    fn inode(&self, number: u32) -> Result<Inode> {
        let layout = &self.layout;
        let index = number.checked_sub(1).filter(|_| number <= layout.inodes);
        let index = index.ok_or_else(|| Error::malformed(ID, format!("there is no inode {number}"), SUPER))?;
        let (group, within) = (u64::from(index / layout.inodes_per_group), u64::from(index % layout.inodes_per_group));
        let at = (layout.first_block + 1) * layout.block_len + group * layout.group_len;
        let low = u64::from(le32(&read_array::<4>(self.source.as_ref(), at + 8)?, 0));
        let high = match layout.group_len {
            64.. => u64::from(le32(&read_array::<4>(self.source.as_ref(), at + 40)?, 0)) << 32,
            _ => 0,
        };
        let at = (low | high).checked_mul(layout.block_len).and_then(|t| t.checked_add(within * layout.inode_len));
        let at = at.unwrap_or(u64::MAX - 128);
        let bytes: [u8; 128] = read_array(self.source.as_ref(), at)?;
        let mut body = [0; 60];
        body.copy_from_slice(&bytes[40..100]);
        let mode = le16(&bytes, 0);
        let high = if mode >> 12 == 8 { u64::from(le32(&bytes, 108)) << 32 } else { 0 };
        Ok(Inode {
            mode,
            links: le16(&bytes, 26),
            len: u64::from(le32(&bytes, 4)) | high,
            modified: i64::from(le32(&bytes, 16) as i32),
            flags: le32(&bytes, 32),
            body,
            rest: if le32(&bytes, 32) & INLINE != 0 { self.inline_rest(at)? } else { Vec::new() },
        })
    }

    /// The value of the attribute "system.data" in the inode at `at`, where content goes on that the inode has no room for.
    fn inline_rest(&self, at: u64) -> Result<Vec<u8>> {
        const MAGIC: u32 = 0xea02_0000;
        const SYSTEM: u8 = 7;
        let bytes = read_vec(self.source.as_ref(), at, self.layout.inode_len, "an inode", 65536)?;
        let extra = bytes.get(128..130).map_or(0, |b| usize::from(le16(b, 0)));
        let Some(area) = bytes.get(128 + extra..).filter(|a| extra > 0 && a.len() > 4 && le32(a, 0) == MAGIC) else {
            return Ok(Vec::new());
        };
        let list = &area[4..];
        let mut place = 0;
        while let Some(entry) = list.get(place..place + 16).filter(|e| le32(e, 0) != 0) {
            let name_len = usize::from(entry[0]);
            let name = list.get(place + 16..place + 16 + name_len).unwrap_or_default();
            if entry[1] == SYSTEM && name == b"data" {
                let (from, len) = (usize::from(le16(entry, 2)), le32(entry, 8) as usize);
                return Ok(list.get(from..from.saturating_add(len)).unwrap_or_default().to_vec());
            }
            place += (16 + name_len).next_multiple_of(4);
        }
        Ok(Vec::new())
    }

    fn file(&self, inode: &Inode) -> (File, Vec<Range<u64>>) {
        if inode.flags & ENCRYPTED != 0 {
            let why = "encrypted by its file system: only the machine that wrote it has the key";
            return (File::broken(inode.len, why), Vec::new());
        }
        match self.content(inode) {
            Ok((source, blocks)) => (File::of(source), blocks),
            Err(e) => (File::broken(inode.len, e.to_string()), Vec::new()),
        }
    }

    fn link(&self, inode: &Inode) -> String {
        let bytes = if inode.len < 60 && inode.flags & EXTENTS == 0 {
            inode.body[..inode.len as usize].to_vec()
        } else {
            let read = |s: SourceRef| read_vec(s.as_ref(), 0, s.len(), "a link", MOST_LINK);
            self.content(inode).and_then(|(source, _)| read(source)).unwrap_or_default()
        };
        String::from_utf8_lossy(&bytes).into_owned()
    }

    /// The content of an inode, and the blocks that it takes.
    fn content(&self, inode: &Inode) -> Result<(SourceRef, Vec<Range<u64>>)> {
        if inode.flags & INLINE != 0 {
            let bytes = [&inode.body[..], &inode.rest].concat();
            return match bytes.get(..inode.len as usize) {
                Some(bytes) => Ok((Arc::new(Bytes(bytes.to_vec())), Vec::new())),
                None => Err(Error::Unreadable { why: "its inode has less content than it says".into() }),
            };
        }
        let mut runs: Vec<(u64, Range<u64>)> = Vec::new();
        let mut steps = 0;
        if inode.flags & EXTENTS != 0 {
            self.extents(&inode.body, &mut runs, &mut steps, 0)?;
        } else {
            let mut next = 0;
            for index in 0..15 {
                let block = u64::from(le32(&inode.body, index * 4));
                self.blocks(block, index.saturating_sub(11) as u32, &mut next, inode.len, &mut runs, &mut steps)?;
            }
        }
        let len = self.layout.block_len;
        runs.sort_by_key(|(first, _)| *first);
        let taken = runs.iter().map(|(_, blocks)| blocks.clone()).filter(|b| !b.is_empty()).collect();
        let (mut parts, mut at): (Vec<SourceRef>, u64) = (Vec::new(), 0);
        for (first, blocks) in runs {
            let start = first.saturating_mul(len);
            if start >= inode.len {
                break;
            }
            if start < at {
                return Err(Error::Unreadable { why: format!("its blocks overlap at byte {start:#x}") });
            }
            parts.push(Arc::new(Fill { byte: 0, len: start - at }));
            let bytes = ((blocks.end - blocks.start) * len).min(inode.len - start);
            let place = blocks.start.saturating_mul(len);
            parts.push(Arc::new(Slice::new(self.source.clone(), place, bytes)?));
            at = start + bytes;
        }
        parts.push(Arc::new(Fill { byte: 0, len: inode.len - at }));
        parts.retain(|p| !p.is_empty());
        let whole: SourceRef = if parts.len() == 1 { parts.remove(0) } else { Arc::new(Concat::new(parts)?) };
        Ok((whole, taken))
    }

    /// A node of the tree of extents.
    fn extents(&self, node: &[u8], runs: &mut Vec<(u64, Range<u64>)>, steps: &mut usize, depth: u16) -> Result<()> {
        let bad = |what: &str| Error::Unreadable { why: format!("its tree of extents {what}") };
        let (magic, count, level) = (le16(node, 0), usize::from(le16(node, 2)), le16(node, 6));
        *steps += count;
        if magic != 0xf30a || depth > 5 || 12 + count * 12 > node.len() || *steps > MOST_STEPS {
            return Err(bad("is damaged"));
        }
        for entry in node[12..12 + count * 12].as_chunks::<12>().0 {
            let first = u64::from(le32(entry, 0));
            if level == 0 {
                let len = u64::from(le16(entry, 4));
                let start = u64::from(le16(entry, 6)) << 32 | u64::from(le32(entry, 8));
                // Longer than that means: reserved, but never written.
                if start + len > self.layout.blocks {
                    return Err(bad("leads past the end of the volume"));
                }
                if len <= 32768 {
                    runs.push((first, start..start + len));
                }
            } else {
                let block = u64::from(le16(entry, 8)) << 32 | u64::from(le32(entry, 4));
                let at = block.checked_mul(self.layout.block_len).ok_or_else(|| bad("leads nowhere"))?;
                let len = self.layout.block_len;
                let bytes = read_vec(self.source.as_ref(), at, len, "a block of extents", 65536)?;
                self.extents(&bytes, runs, steps, depth + 1)?;
            }
        }
        Ok(())
    }

    /// A block of the older kind of list, `level` steps above the content.
    fn blocks(
        &self,
        block: u64,
        level: u32,
        next: &mut u64,
        len: u64,
        runs: &mut Vec<(u64, Range<u64>)>,
        steps: &mut usize,
    ) -> Result<()> {
        let per_block = self.layout.block_len / 4;
        if *next * self.layout.block_len >= len {
            return Ok(());
        }
        *steps += 1;
        if *steps > MOST_STEPS {
            return Err(Error::Limit { what: "blocks of a file", asked: *steps as u64, limit: MOST_STEPS as u64 });
        }
        if block == 0 {
            *next += per_block.pow(level);
            return Ok(());
        }
        if level == 0 {
            match runs.last_mut().filter(|(first, r)| r.end == block && first + (r.end - r.start) == *next) {
                Some((_, run)) => run.end += 1,
                None => runs.push((*next, block..block + 1)),
            }
            *next += 1;
            return Ok(());
        }
        let bytes =
            read_vec(self.source.as_ref(), block * self.layout.block_len, per_block * 4, "a list of blocks", 65536)?;
        for entry in bytes.as_chunks::<4>().0 {
            self.blocks(u32::from_le_bytes(*entry).into(), level - 1, next, len, runs, steps)?;
        }
        Ok(())
    }
}

/// Inode numbers and names in a folder, and whether the list of them is whole.
fn entries(bytes: &[u8]) -> (Vec<(u32, String)>, bool) {
    let (mut found, mut at) = (Vec::new(), 0);
    while at + 8 <= bytes.len() {
        let (number, len, name_len) = (le32(bytes, at), usize::from(le16(bytes, at + 4)), usize::from(bytes[at + 6]));
        if len < 8 || !len.is_multiple_of(4) || at + len > bytes.len() || name_len + 8 > len {
            return (found, false);
        }
        let name = String::from_utf8_lossy(&bytes[at + 8..at + 8 + name_len]).replace('/', "_");
        if number != 0 && name != "." && name != ".." && !name.is_empty() {
            found.push((number, name));
        }
        at += len;
    }
    (found, true)
}
