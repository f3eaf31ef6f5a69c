//! File entries: what a file is, and where its bytes are (ECMA-167, 4/14.6, 14.9 and 14.17).

use super::ID;
use super::descriptor::{Address, Allocation, Fields, check, date, long_ad, tag};
use super::partition::Maps;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Content, File};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;

/// Extents of one file. A DVD that was written sector by sector would stay below.
const MOST_EXTENTS: usize = 1 << 20;
/// Entries of strategy 4096 that are followed.
const MOST_VERSIONS: usize = 1024;
/// Bytes of an extent of allocation descriptors.
const MOST_DESCRIPTORS: u64 = 1 << 20;

/// File types (ECMA-167, 4/14.6.6).
pub(super) const FOLDER: u8 = 4;
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
                Err(_) if found.is_some() => break,
                Err(e) => return Err(e),
            };
            match check(&bytes, offset) {
                Ok(tag::FILE_ENTRY | tag::EXTENDED_FILE_ENTRY) => {
                    found = Some(parse(maps, &bytes, offset, place.partition)?)
                }
                Ok(tag::INDIRECT) => {
                    let icb = long_ad(Fields(&bytes), 36);
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

fn parse(maps: &Maps, bytes: &[u8], offset: u64, partition: u16) -> Result<Entry> {
    let f = Fields(bytes);
    let is_extended = f.u16(0) == tag::EXTENDED_FILE_ENTRY;
    let (modified_at, lens_at, head) = if is_extended { (92, 208, 216) } else { (84, 168, 176) };
    let strategy = f.u16(20);
    if strategy != 4 && strategy != 4096 {
        return Err(Error::unsupported(ID, format!("ICB strategy {strategy}")));
    }
    let len = f.u64(56);
    let (attributes, descriptors) = (f.u32(lens_at) as usize, f.u32(lens_at + 4) as usize);
    let start = head + attributes;
    let Some(area) = bytes.get(start..start.saturating_add(descriptors)) else {
        return Err(Error::malformed(
            ID,
            "the allocation descriptors do not fit the file entry",
            offset + lens_at as u64,
        ));
    };
    let mut structure = vec![offset..offset + maps.block];
    let body = match f.u16(34) & 7 {
        3 => Body::Embedded(area.to_vec(), offset + start as u64),
        kind => Body::Extents(extents(maps, kind, area, offset + start as u64, partition, &mut structure)?),
    };
    Ok(Entry {
        file_type: f.bytes(27, 1).first().copied().unwrap_or(0),
        len,
        modified: date(f.bytes(modified_at, 12)),
        structure,
        body,
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
        0 => 8,
        1 => 16,
        2 => 20,
        _ => return Err(Error::malformed(ID, "an unknown kind of allocation descriptor", offset)),
    };
    let mut all = Vec::new();
    let mut area = area.to_vec();
    let mut seen = HashSet::new();
    loop {
        let mut more = None;
        for raw in area.chunks_exact(size) {
            let f = Fields(raw);
            let allocation = match kind {
                0 => {
                    let len = f.u32(0);
                    let at = Address { block: f.u32(4), partition };
                    Allocation { kind: (len >> 30) as u8, len: len & 0x3fff_ffff, at }
                }
                1 => long_ad(f, 0),
                _ => Allocation { at: Address { block: f.u32(12), partition: f.u16(16) }, ..long_ad(f, 0) },
            };
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
        let len = Fields(&bytes).u32(20) as usize;
        area = bytes.get(24..24 + len).unwrap_or_else(|| &bytes[24.min(bytes.len())..]).to_vec();
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
