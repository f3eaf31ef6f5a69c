//! File entries: what a file is, and where its bytes are (ECMA-167, 4/14.6, 14.9 and 14.17).

use super::ID;
use super::descriptor::{Address, Allocation, check, date, split, tag};
use super::partition::Maps;
use super::raw::{AllocationExtent, ExtendedAd, ExtendedFileEntry, FileEntry, Indirect, LongAd, ShortAd, Tag};
use decanter_core::error::Blame;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Content, File};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;
use zerocopy::FromBytes;

/// Extents of one file. A DVD that was written sector by sector would stay below.
const MOST_EXTENTS: usize = 1 << 20;
/// Entries of strategy 4096 that are followed.
const MOST_VERSIONS: usize = 1024;
/// Bytes of an extent of allocation descriptors.
const MOST_DESCRIPTORS: u64 = 1 << 20;

/// File types (ECMA-167, 4/14.6.6).
pub(super) const FOLDER: u8 = 4;
pub(super) const FILE: u8 = 5;
pub(super) const LINK: u8 = 12;

/// A file entry that was read.
pub(super) struct Entry {
    pub(super) file_type: u8,
    pub(super) len: u64,
    pub(super) modified: Option<i64>,
    /// Byte ranges of the entry itself and of further descriptors.
    pub(super) structure: Vec<Range<u64>>,
    body: Body,
}

enum Body {
    Embedded(Vec<u8>, u64),
    Extents(Vec<Allocation>),
}

/// Reads the entry that the ICB at `at` leads to. With strategy 4096 (ECMA-167, 4/A.2) later versions follow through
/// indirect entries; the last one counts.
pub(super) fn read(maps: &Maps, at: Address, len: u64) -> Result<Entry> {
    let mut place = at;
    let mut blocks = len.div_ceil(maps.block).clamp(1, 16);
    let mut found: Option<Entry> = None;
    let mut seen = HashSet::new();
    for _ in 0..MOST_VERSIONS {
        if !seen.insert(place) {
            return Err(Error::malformed(ID, format!("the entries of block {} lead in a circle", at.block), 0));
        }
        let mut next = None;
        for index in 0..blocks as u32 {
            let address = Address { block: place.block.saturating_add(index), ..place };
            let read = maps.bytes(address, maps.block, "a file entry", maps.block);
            let (bytes, offset) = match read {
                Ok(read) => read,
                Err(e) if e.blame() == Blame::Source && found.is_some() => break,
                Err(e) => return Err(e),
            };
            match check(&bytes, offset) {
                Ok(tag::FILE_ENTRY | tag::EXTENDED_FILE_ENTRY) => {
                    found = Some(parse(maps, &bytes, offset, place.partition)?)
                }
                Ok(tag::INDIRECT) => {
                    let icb = split::<Indirect>("an indirect entry", &bytes, offset)?.0.next.get();
                    next = Some((icb.at, u64::from(icb.len)));
                    break;
                }
                Ok(tag::TERMINAL) => break,
                // An ICB may have unrecorded blocks after the entry.
                _ if found.is_some() => break,
                Ok(other) => {
                    return Err(Error::malformed(
                        ID,
                        format!("a descriptor (tag {other}) where a file entry belongs"),
                        offset,
                    ));
                }
                Err(e) => return Err(e),
            }
        }
        match next {
            Some((at, len)) => (place, blocks) = (at, len.div_ceil(maps.block).clamp(1, 16)),
            None => break,
        }
    }
    found.ok_or_else(|| Error::malformed(ID, format!("there is no file entry in block {}", at.block), 0))
}

/// What both kinds of entry say, and what follows their fixed part.
struct Fixed<'a> {
    strategy: u16,
    file_type: u8,
    flags: u16,
    len: u64,
    modified: Option<i64>,
    attributes: usize,
    descriptors: usize,
    /// Bytes of the fixed part.
    head: usize,
    rest: &'a [u8],
}

fn fixed(bytes: &[u8], offset: u64) -> Result<Fixed<'_>> {
    macro_rules! take {
        ($kind:ty) => {{
            let (e, rest) = split::<$kind>("a file entry", bytes, offset)?;
            Fixed {
                strategy: e.icb.strategy.get(),
                file_type: e.icb.file_type,
                flags: e.icb.flags.get(),
                len: e.len.get(),
                modified: date(&e.modified),
                attributes: e.attributes_len.get() as usize,
                descriptors: e.allocation_len.get() as usize,
                head: size_of::<$kind>(),
                rest,
            }
        }};
    }
    let (tag, _) = split::<Tag>("a file entry", bytes, offset)?;
    Ok(if tag.id.get() == tag::EXTENDED_FILE_ENTRY { take!(ExtendedFileEntry) } else { take!(FileEntry) })
}

fn parse(maps: &Maps, bytes: &[u8], offset: u64, partition: u16) -> Result<Entry> {
    let f = fixed(bytes, offset)?;
    if f.strategy != 4 && f.strategy != 4096 {
        return Err(Error::unsupported(ID, format!("ICB strategy {}", f.strategy)));
    }
    let Some(area) = f.rest.get(f.attributes..f.attributes.saturating_add(f.descriptors)) else {
        let what = "the allocation descriptors do not fit the file entry";
        // Both lengths are the last of the fixed part.
        return Err(Error::malformed(ID, what, offset + f.head as u64 - 8));
    };
    let at = offset + (f.head + f.attributes) as u64;
    let mut structure = vec![offset..offset + maps.block];
    let body = match f.flags & 7 {
        3 => Body::Embedded(area.to_vec(), at),
        kind => Body::Extents(extents(maps, kind, area, at, partition, &mut structure)?),
    };
    Ok(Entry { file_type: f.file_type, len: f.len, modified: f.modified, structure, body })
}

/// One allocation descriptor of a kind (4/14.6.8): its bytes, and what it says.
fn allocation(kind: u16, raw: &[u8], partition: u16) -> Option<Allocation> {
    Some(match kind {
        0 => ShortAd::read_from_bytes(raw).ok()?.get(partition),
        1 => LongAd::read_from_bytes(raw).ok()?.get(),
        _ => ExtendedAd::read_from_bytes(raw).ok()?.get(),
    })
}

/// The allocation descriptors of an area and of those it leads on to.
fn extents(
    maps: &Maps,
    kind: u16,
    area: &[u8],
    offset: u64,
    partition: u16,
    structure: &mut Vec<Range<u64>>,
) -> Result<Vec<Allocation>> {
    let size = match kind {
        0 => size_of::<ShortAd>(),
        1 => size_of::<LongAd>(),
        2 => size_of::<ExtendedAd>(),
        _ => return Err(Error::malformed(ID, "an unknown kind of allocation descriptor", offset)),
    };
    let mut all = Vec::new();
    let mut area = area.to_vec();
    let mut seen = HashSet::new();
    loop {
        let mut more = None;
        for allocation in area.chunks_exact(size).filter_map(|raw| allocation(kind, raw, partition)) {
            if allocation.len == 0 {
                break;
            }
            if allocation.kind == 3 {
                more = Some(allocation);
                break;
            }
            all.push(allocation);
            if all.len() > MOST_EXTENTS {
                return Err(Error::Limit {
                    what: "extents of a file",
                    asked: all.len() as u64,
                    limit: MOST_EXTENTS as u64,
                });
            }
        }
        let Some(more) = more else { return Ok(all) };
        if !seen.insert(more.at) {
            return Err(Error::malformed(ID, "the allocation descriptors lead in a circle", offset));
        }
        let (bytes, at) = maps.bytes(more.at, more.len.into(), "allocation descriptors", MOST_DESCRIPTORS)?;
        if check(&bytes, at)? != tag::ALLOCATION_EXTENT {
            return Err(Error::malformed(ID, "no allocation extent descriptor where one belongs", at));
        }
        structure.push(at..at + u64::from(more.len).next_multiple_of(maps.block));
        let (head, rest) = split::<AllocationExtent>("an allocation extent descriptor", &bytes, at)?;
        let len = head.len.get() as usize;
        let Some(all) = rest.get(..len) else {
            let what = format!("{len} bytes of allocation descriptors do not fit their extent");
            return Err(Error::malformed(ID, what, at + 20));
        };
        area = all.to_vec();
    }
}

impl Entry {
    /// The content as a file of a tree.
    pub(super) fn file(&self, maps: &Maps) -> Result<File> {
        let allocations = match &self.body {
            Body::Embedded(bytes, offset) => {
                let len = (bytes.len() as u64).min(self.len);
                let source: SourceRef = Arc::new(Bytes(bytes[..len as usize].to_vec()));
                let spans = if len == 0 { Vec::new() } else { vec![*offset..offset + len] };
                return Ok(File { len, spans, content: Content::Whole(source) });
            }
            Body::Extents(allocations) => allocations,
        };
        let (mut spans, mut parts, mut missing) = (Vec::new(), Vec::<SourceRef>::new(), 0);
        let mut left = self.len;
        for allocation in allocations {
            let len = u64::from(allocation.len).min(left);
            left -= len;
            if allocation.kind != 0 {
                parts.push(Arc::new(Fill { byte: 0, len }));
                continue;
            }
            for range in maps.ranges(allocation.at, len)? {
                if range.end > maps.source.len() {
                    missing += range.end - range.start.max(maps.source.len());
                } else {
                    parts.push(Arc::new(Slice::new(maps.source.clone(), range.start, range.end - range.start)?));
                }
                spans.push(range);
            }
        }
        // What the extents do not reach is not recorded: zeros (4/12.1).
        if left > 0 {
            parts.push(Arc::new(Fill { byte: 0, len: left }));
        }
        let content = match (missing, parts.len()) {
            (0, 1) => Content::Whole(parts.remove(0)),
            (0, _) => Content::Whole(Arc::new(Concat::new(parts)?)),
            _ => Content::Cut { missing },
        };
        Ok(File { len: self.len, spans, content })
    }

    /// The content as extents of blocks, for a metadata file.
    pub(super) fn block_extents(&self, maps: &Maps) -> Vec<(u32, u32)> {
        match &self.body {
            Body::Embedded(..) => Vec::new(),
            Body::Extents(all) => {
                all.iter().map(|a| (a.at.block, u64::from(a.len).div_ceil(maps.block) as u32)).collect()
            }
        }
    }
}
