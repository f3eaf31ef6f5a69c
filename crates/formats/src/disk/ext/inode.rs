//! Inodes, and the way from one to its blocks and its content.

use super::super::push_span;
use super::layout::{Group, Layout, SUPER, incompatible, writing};
use super::{ID, sum};
use crate::num::{le16, le32};
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Inodes that have a meaning by their number.
pub(super) mod number {
    pub const BAD_BLOCKS: u32 = 1;
    pub const ROOT: u32 = 2;
    pub const RESIZE: u32 = 7;
    pub const JOURNAL: u32 = 8;
}

/// Flags of an inode.
pub(super) mod flag {
    pub const ENCRYPTED: u32 = 0x800;
    pub const HASHED: u32 = 0x1000;
    pub const HUGE: u32 = 0x4_0000;
    pub const EXTENTS: u32 = 0x8_0000;
    pub const VALUE: u32 = 0x20_0000;
    pub const INLINE: u32 = 0x1000_0000;
    pub const FOLDED: u32 = 0x4000_0000;
}

/// Kinds of inodes, as the upper bits of the mode have them.
pub(super) mod kind {
    pub const FOLDER: u16 = 4;
    pub const FILE: u16 = 8;
    pub const LINK: u16 = 10;
}

/// Bytes of the inode that hold the way to its blocks, or content.
const BODY: Range<usize> = 40..100;
/// Extents longer than this are reserved, but were never written.
const WRITTEN: u64 = 32768;

/// An inode.
#[derive(Debug, Clone)]
pub(super) struct Inode {
    pub number: u32,
    pub mode: u16,
    pub links: u16,
    pub len: u64,
    pub modified: i64,
    pub deleted: u32,
    pub flags: u32,
    /// Blocks that it says it takes, in the unit that its flags tell.
    pub taken: u64,
    /// The block of its attributes; 0: none.
    pub attributes: u64,
    /// What checksums of its metadata begin with.
    pub seed: u32,
    pub bytes: Vec<u8>,
}

impl Inode {
    /// Reads one; fails if its checksum does.
    fn new(number: u32, bytes: Vec<u8>, layout: &Layout) -> Result<Self> {
        let mode = le16(&bytes, 0);
        let has_high =
            mode >> 12 == kind::FILE || mode >> 12 == kind::FOLDER && layout.has(incompatible::LARGE_FOLDERS);
        let seed = sum::crc32c(sum::crc32c(layout.seed, &number.to_le_bytes()), &bytes[100..104]);
        let inode = Self {
            number,
            mode,
            links: le16(&bytes, 26),
            len: u64::from(le32(&bytes, 4)) | if has_high { u64::from(le32(&bytes, 108)) << 32 } else { 0 },
            modified: i64::from(le32(&bytes, 16).cast_signed()),
            deleted: le32(&bytes, 20),
            flags: le32(&bytes, 32),
            taken: u64::from(le32(&bytes, 28))
                | if layout.writes(writing::HUGE_FILES) { u64::from(le16(&bytes, 116)) << 32 } else { 0 },
            attributes: u64::from(le32(&bytes, 104))
                | if layout.has(incompatible::WIDE) { u64::from(le16(&bytes, 118)) << 32 } else { 0 },
            seed,
            bytes,
        };
        if layout.writes(writing::SUMS) && !inode.has_sum() && inode.bytes.iter().any(|b| *b != 0) {
            return Err(Error::Unreadable { why: format!("the checksum of inode {number} does not hold") });
        }
        Ok(inode)
    }

    /// Bytes of it beyond the first 128 that mean something.
    pub fn extra(&self) -> usize {
        self.bytes.get(128..130).map_or(0, |b| le16(b, 0).into())
    }

    fn has_sum(&self) -> bool {
        let mut bytes = self.bytes.clone();
        let low = le16(&bytes, 124);
        bytes[124..126].fill(0);
        let high = (self.extra() >= 4 && bytes.len() >= 132).then(|| le16(&bytes, 130));
        if high.is_some() {
            bytes[130..132].fill(0);
        }
        let sum = sum::crc32c(self.seed, &bytes);
        low == sum as u16 && high.is_none_or(|h| h == (sum >> 16) as u16)
    }

    pub fn has(&self, flag: u32) -> bool {
        self.flags & flag != 0
    }

    pub fn kind(&self) -> u16 {
        self.mode >> 12
    }

    pub fn body(&self) -> &[u8] {
        &self.bytes[BODY]
    }

    /// Whether it is a link whose target stands in the inode.
    pub fn is_short_link(&self) -> bool {
        self.kind() == kind::LINK && self.len < 60 && !self.has(flag::EXTENTS | flag::INLINE)
    }

    /// Whether it leads to blocks: devices have a number there, and content may stand there.
    pub fn has_blocks(&self) -> bool {
        !self.has(flag::INLINE)
            && !self.is_short_link()
            && (matches!(self.kind(), kind::FOLDER | kind::FILE | kind::LINK) || self.number < 11)
    }

    /// The attributes in the inode itself: the list, after its mark; with what is left for values.
    pub fn own_attributes(&self) -> Option<&[u8]> {
        const MARK: u32 = 0xea02_0000;
        let extra = self.extra();
        let area = self.bytes.get(128 + extra..).filter(|a| extra > 0 && a.len() > 4)?;
        (le32(area, 0) == MARK).then(|| &area[4..])
    }

    /// The value of the attribute "system.data", where content goes on that the body has no room for.
    fn inline_rest(&self) -> &[u8] {
        const SYSTEM: u8 = 7;
        let Some(list) = self.own_attributes() else { return &[] };
        let mut place = 0;
        while let Some(entry) = list.get(place..place + 16).filter(|e| le32(e, 0) != 0) {
            let name_len = usize::from(entry[0]);
            let name = list.get(place + 16..place + 16 + name_len).unwrap_or_default();
            if entry[1] == SYSTEM && name == b"data" {
                let (from, len) = (usize::from(le16(entry, 2)), le32(entry, 8) as usize);
                return list.get(from..from.saturating_add(len)).unwrap_or_default();
            }
            place += (16 + name_len).next_multiple_of(4);
        }
        &[]
    }
}

/// A run of blocks of an inode.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Run {
    /// The number of its first block within the content.
    pub first: u64,
    pub blocks: Range<u64>,
    /// False: reserved, but never written; it reads as zeros.
    pub is_written: bool,
}

/// All blocks of an inode.
#[derive(Debug, Default)]
pub(super) struct Map {
    /// In the order in which they stand in the inode.
    pub runs: Vec<Run>,
    /// Blocks that hold lists of blocks, or nodes of the tree of extents.
    pub lists: Vec<u64>,
}

impl Map {
    /// Everything that the inode takes.
    pub fn taken(&self) -> impl Iterator<Item = Range<u64>> {
        self.runs.iter().map(|r| r.blocks.clone()).chain(self.lists.iter().map(|b| *b..*b + 1))
    }
}

/// A volume, as inodes are read from it.
pub(super) struct Volume {
    pub source: SourceRef,
    pub layout: Layout,
    /// Blocks of lists that may still be read: each belongs to one inode, so there cannot be more than blocks.
    lists_left: AtomicU64,
}

impl Volume {
    pub fn new(source: SourceRef, layout: Layout) -> Self {
        let lists_left = AtomicU64::new(layout.blocks.min(source.len() / layout.block_len) + 16);
        Self { source, layout, lists_left }
    }

    /// The block `number`, whole.
    pub fn block(&self, number: u64, what: &'static str) -> Result<Vec<u8>> {
        let at = number.saturating_mul(self.layout.block_len);
        read_vec(self.source.as_ref(), at, self.layout.block_len, what, 65536)
    }

    /// The inode `number`.
    ///
    /// # Errors
    /// When there is none, it lies beyond the end, or its checksum does not hold.
    pub fn inode(&self, number: u32) -> Result<Inode> {
        let layout = &self.layout;
        let index = number.checked_sub(1).filter(|_| number <= layout.inodes);
        let index = index.ok_or_else(|| Error::malformed(ID, format!("there is no inode {number}"), SUPER))?;
        let (group, within) = (u64::from(index / layout.inodes_per_group), u64::from(index % layout.inodes_per_group));
        let table = Group::read(self.source.as_ref(), layout, group)?.inodes_at;
        let at = table.checked_mul(layout.block_len).and_then(|t| t.checked_add(within * layout.inode_len));
        let at = at.unwrap_or(u64::MAX - layout.inode_len);
        Inode::new(number, read_vec(self.source.as_ref(), at, layout.inode_len, "an inode", 65536)?, layout)
    }

    /// The inode with these bytes of its table.
    pub fn parsed(&self, number: u32, bytes: &[u8]) -> Result<Inode> {
        Inode::new(number, bytes.to_vec(), &self.layout)
    }

    /// The content of an inode, and the blocks that it takes.
    pub fn content(&self, inode: &Inode) -> Result<(SourceRef, Map)> {
        if inode.has(flag::INLINE) {
            let bytes = [inode.body(), inode.inline_rest()].concat();
            return match bytes.get(..inode.len as usize) {
                Some(bytes) => Ok((Arc::new(Bytes(bytes.to_vec())), Map::default())),
                None => Err(Error::Unreadable { why: "its inode has less content than it says".into() }),
            };
        }
        let map = self.map(inode)?;
        let len = self.layout.block_len;
        let mut runs: Vec<&Run> = map.runs.iter().filter(|r| r.is_written).collect();
        runs.sort_by_key(|r| r.first);
        let (mut parts, mut at): (Vec<SourceRef>, u64) = (Vec::new(), 0);
        for Run { first, blocks, .. } in runs {
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
        Ok((whole, map))
    }

    /// Where the bytes of a file of this length stand, if all of them do: in order, without holes.
    pub fn spans(&self, map: &Map, len: u64) -> Vec<Range<u64>> {
        let (block_len, mut spans, mut at) = (self.layout.block_len, Vec::new(), 0);
        let mut runs: Vec<&Run> = map.runs.iter().collect();
        runs.sort_by_key(|r| r.first);
        for run in runs {
            if at >= len {
                break;
            }
            if !run.is_written || run.first * block_len != at {
                return Vec::new();
            }
            let bytes = ((run.blocks.end - run.blocks.start) * block_len).min(len - at);
            push_span(&mut spans, run.blocks.start * block_len, bytes);
            at += bytes;
        }
        if at == len { spans } else { Vec::new() }
    }

    /// The blocks of an inode, all of them, also those beyond its length.
    pub fn map(&self, inode: &Inode) -> Result<Map> {
        let mut map = Map::default();
        if inode.has(flag::EXTENTS) {
            let depth = le16(inode.body(), 6);
            self.extents(inode.body(), inode, &mut map, depth, 0..1 << 32)?;
        } else {
            let mut next = 0;
            for index in 0..15 {
                let block = u64::from(le32(inode.body(), index * 4));
                self.blocks(block, index.saturating_sub(11) as u32, &mut next, &mut map)?;
            }
        }
        Ok(map)
    }

    fn take_list(&self, block: u64, map: &mut Map) -> Result<()> {
        let before = self.lists_left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(1));
        if before.is_err() {
            let why = "the volume has more lists of blocks than blocks: some belong to several files".into();
            return Err(Error::Unreadable { why });
        }
        map.lists.push(block);
        Ok(())
    }

    /// Whether these are blocks that content can stand in.
    fn is_there(&self, blocks: &Range<u64>) -> bool {
        blocks.start > self.layout.first_block && blocks.end <= self.layout.blocks
    }

    /// A node of the tree of extents, `depth` steps above the content, for what begins within `within`.
    fn extents(&self, node: &[u8], inode: &Inode, map: &mut Map, depth: u16, within: Range<u64>) -> Result<()> {
        let bad = |what: &str| Error::Unreadable { why: format!("its tree of extents {what}") };
        let (mark, count, most, level) =
            (le16(node, 0), usize::from(le16(node, 2)), usize::from(le16(node, 4)), le16(node, 6));
        let room = (node.len() - 12) / 12;
        // Writers leave up to two places free, for what may come.
        let is_room = (room - 2..=room).contains(&most);
        if mark != 0xf30a || level != depth || depth > 5 || count > most || !is_room {
            return Err(bad("is damaged"));
        }
        let entries = node[12..12 + count * 12].as_chunks::<12>().0;
        let mut from = within.start;
        for (index, entry) in entries.iter().enumerate() {
            let first = u64::from(le32(entry, 0));
            if first < from || first >= within.end {
                return Err(bad(&format!("is out of order at block {first}")));
            }
            if level == 0 {
                let len = u64::from(le16(entry, 4));
                let start = u64::from(le16(entry, 6)) << 32 | u64::from(le32(entry, 8));
                let (len, is_written) = if len <= WRITTEN { (len, true) } else { (len - WRITTEN, false) };
                if len == 0 {
                    return Err(bad(&format!("has an extent without blocks at block {first}")));
                }
                if !self.is_there(&(start..start + len)) {
                    return Err(bad("leads past the end of the volume"));
                }
                if first + len > within.end {
                    return Err(bad(&format!("is out of order at block {}", first + len)));
                }
                map.runs.push(Run { first, blocks: start..start + len, is_written });
                from = first + len;
            } else {
                let block = u64::from(le16(entry, 8)) << 32 | u64::from(le32(entry, 4));
                if !self.is_there(&(block..block + 1)) {
                    return Err(bad("leads past the end of the volume"));
                }
                self.take_list(block, map)?;
                let bytes = self.block(block, "a block of extents")?;
                let tail = 12 + usize::from(le16(&bytes, 4)) * 12;
                if self.layout.writes(writing::SUMS)
                    && bytes.get(tail..tail + 4).is_none_or(|t| le32(t, 0) != sum::crc32c(inode.seed, &bytes[..tail]))
                {
                    return Err(bad(&format!("has a wrong checksum in block {block}")));
                }
                let end = entries.get(index + 1).map_or(within.end, |next| u64::from(le32(next, 0)));
                if le16(&bytes, 2) == 0 {
                    return Err(bad(&format!("has an empty node in block {block}")));
                }
                self.extents(&bytes, inode, map, depth - 1, first..end)?;
                from = first + 1;
            }
        }
        Ok(())
    }

    /// A block of the older kind of list, `level` steps above the content.
    fn blocks(&self, block: u64, level: u32, next: &mut u64, map: &mut Map) -> Result<()> {
        let per_block = self.layout.block_len / 4;
        if block == 0 {
            *next += per_block.pow(level);
            return Ok(());
        }
        if !self.is_there(&(block..block + 1)) {
            return Err(Error::Unreadable {
                why: format!("its list of blocks leads to block {block}: no place for content"),
            });
        }
        if level == 0 {
            match map.runs.last_mut().filter(|r| r.blocks.end == block && r.first + (block - r.blocks.start) == *next) {
                Some(run) => run.blocks.end += 1,
                None => map.runs.push(Run { first: *next, blocks: block..block + 1, is_written: true }),
            }
            *next += 1;
            return Ok(());
        }
        self.take_list(block, map)?;
        for entry in self.block(block, "a list of blocks")?.as_chunks::<4>().0 {
            self.blocks(u32::from_le_bytes(*entry).into(), level - 1, next, map)?;
        }
        Ok(())
    }
}
