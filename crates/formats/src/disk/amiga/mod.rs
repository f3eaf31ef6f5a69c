//! Amiga disks and hard files: the old and the fast file system, with their international and caching variants.
//!
//! Layout, checks and what is not sure: docs/formats/amiga-disk.md.

mod block;
mod check;
mod compose;
mod data;
pub mod hunk;
mod rdb;
mod walk;

pub use block::protection;
pub use compose::{FileSystem, Volume, compose, least_blocks, needed_blocks};
pub use rdb::Rdb;

use super::claims::Claims;
use crate::num::be32;
use block::{BLOCK, LEAD, at, counted, kind, latin};
use data::OldData;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tell;
use decanter_core::tree::{About, Content, File};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// Bytes of the two kinds of floppies.
const FLOPPIES: [u64; 2] = [901_120, 1_802_240];
/// Blocks that are kept for starting.
pub(super) const RESERVED: u64 = 2;
/// Entries of one folder, and blocks of one file, before it is taken for a loop.
const MOST_CHAIN: usize = 1 << 20;

/// Floppies.
pub struct Adf;
/// Hard disks without a partition table.
pub struct Hdf;

/// The layout of a volume.
#[derive(Debug, Clone, Copy)]
pub(super) struct Layout {
    pub(super) blocks: u64,
    /// The fast file system: data blocks hold nothing but data.
    pub(super) is_fast: bool,
    pub(super) is_international: bool,
    pub(super) has_cache: bool,
    pub(super) root: u64,
}

impl Layout {
    fn read(source: &dyn Source) -> Result<Option<Self>> {
        if source.len() < BLOCK as u64 * 8 {
            return Ok(None);
        }
        let boot: [u8; 4] = read_array(source, 0)?;
        if &boot[..3] != b"DOS" || boot[3] > 7 {
            return Ok(None);
        }
        let blocks = source.len() / BLOCK as u64;
        let flags = boot[3];
        Ok(Some(Self {
            blocks,
            is_fast: flags & 1 != 0,
            is_international: flags & 2 != 0 || flags >= 4,
            has_cache: matches!(flags, 4 | 5),
            root: (blocks - 1 + RESERVED) / 2,
        }))
    }

    fn name(&self) -> String {
        let own = if self.is_fast { "fast file system" } else { "old file system" };
        let more = match (self.has_cache, self.is_international) {
            (true, _) => ", with directory cache",
            (_, true) => ", international",
            _ => "",
        };
        format!("{own}{more}")
    }

    /// Bytes before the content in a data block.
    fn lead(&self) -> u64 {
        if self.is_fast { 0 } else { LEAD as u64 }
    }

    /// Bytes of content in a data block.
    pub(super) fn data_len(&self) -> u64 {
        if self.is_fast { BLOCK as u64 } else { block::OLD_DATA as u64 }
    }
}

fn score(source: &dyn Source, is_floppy: bool) -> Result<Option<u8>> {
    if FLOPPIES.contains(&source.len()) != is_floppy {
        return Ok(None);
    }
    Ok(Layout::read(source)?.map(|_| 86))
}

impl Format for Adf {
    fn id(&self) -> &'static str {
        "adf"
    }

    fn name(&self) -> &'static str {
        "Amiga disk image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Floppy)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["adf"]
    }

    fn reads(&self) -> &'static str {
        "880 KiB and 1.76 MiB; old and fast file system, international, directory cache; checks of all blocks"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        score(source, true)
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        open(source, self.id(), self.name(), opener)
    }
}

impl Format for Hdf {
    fn id(&self) -> &'static str {
        "hdf"
    }

    fn name(&self) -> &'static str {
        "Amiga hard file"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Volume)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["hdf"]
    }

    fn reads(&self) -> &'static str {
        "one partition: old and fast file system, international, directory cache; checks of all blocks"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        score(source, false)
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        open(source, self.id(), self.name(), opener)
    }
}

fn open(source: SourceRef, id: &'static str, name: &str, opener: &Opener<'_>) -> Result<Opened> {
    let Some(layout) = Layout::read(source.as_ref())? else {
        return Err(Error::malformed(id, "it does not begin as a volume does", 0));
    };
    let disk = Disk { source, layout, id };
    let mut opened = Opened::new(id, name);
    opened.extent.unit = Some(512);
    let root = match disk.block(layout.root) {
        Ok(root) if kind(&root) == block::ROOT && be32(&root, at::TYPE) == block::HEADER => root,
        _ => {
            let text = "the root block is damaged, or the disk has no file system: its program loads it track by track";
            return Err(Error::malformed(id, text, layout.root * BLOCK as u64));
        }
    };
    opened.titled(latin(counted(&root, at::NAME, block::MOST_NAME)));
    opened.fact("file system", layout.name());
    let (walked, claims) = walk::Way::run(&disk, root, opener)?;
    opened.told.notices.extend(walked.notices);
    let mut tree = walked.tree;
    let lead = disk.layout.lead();
    // Which files those are is told by the check of all blocks.
    claims.mark(&mut tree, |block| Some(block * BLOCK as u64 + lead));
    opened.extent.structure = walked.structure;
    opened.proof.inspections.push(Arc::new(move |watch| check::inspect(&disk, watch)));
    opened.holds.tree = Some(tree);
    Ok(opened)
}

/// A volume, block by block.
pub(super) struct Disk {
    pub(super) source: SourceRef,
    pub(super) layout: Layout,
    pub(super) id: &'static str,
}

impl Disk {
    /// A block.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a number that the volume does not have.
    pub(super) fn block(&self, number: u64) -> Result<[u8; BLOCK]> {
        if number >= self.layout.blocks {
            return Err(Error::malformed(self.id, format!("block {number} is none of the volume"), 0));
        }
        read_array(self.source.as_ref(), number * BLOCK as u64)
    }

    /// The data blocks of a file, and the blocks with the lists of them; what is wrong, if they do not fit its length.
    pub(super) fn file_blocks(&self, header: &[u8; BLOCK], len: u64) -> (Vec<u64>, Vec<u64>, Option<String>) {
        let (mut data, mut lists) = (Vec::new(), Vec::new());
        let wanted = len.div_ceil(self.layout.data_len()) as usize;
        let mut own = *header;
        loop {
            let count = (be32(&own, at::COUNT) as usize).min(block::TABLE);
            for index in 0..count {
                let number = u64::from(be32(&own, at::TABLE + (block::TABLE - 1 - index) * 4));
                if number < RESERVED || number >= self.layout.blocks {
                    let fault =
                        format!("its block {} is number {number}, which the volume does not have", data.len() + 1);
                    return (data, lists, Some(fault));
                }
                data.push(number);
            }
            let next = u64::from(be32(&own, at::EXTENSION));
            if next == 0 || data.len() >= wanted {
                break;
            }
            if lists.contains(&next) || lists.len() > MOST_CHAIN / block::TABLE {
                return (data, lists, Some(format!("its lists of blocks go in a circle at block {next}")));
            }
            own = match self.block(next) {
                Ok(block) if be32(&block, at::TYPE) == block::LIST => block,
                _ => {
                    return (data, lists, Some(format!("block {next} should list further blocks of it, but does not")));
                }
            };
            lists.push(next);
        }
        let fault = (data.len() < wanted).then(|| {
            format!("not listed: {} of its {}", wanted - data.len(), tell::count(wanted as u64, "block", "blocks"))
        });
        (data, lists, fault)
    }

    /// A file, by its header, which is block `number`. Unless it is another name of a file, its blocks become its own.
    fn file(&self, header: &[u8; BLOCK], number: u64, claims: Option<&mut Claims>) -> Result<File> {
        let len = u64::from(be32(header, at::LEN));
        if len > self.layout.blocks * BLOCK as u64 {
            return Ok(File::broken(len, format!("{len} bytes are more than the volume has")));
        }
        let (mut data, lists, mut fault) = self.file_blocks(header, len);
        let (own, lead) = (self.layout.data_len(), self.layout.lead());
        data.truncate(len.div_ceil(own) as usize);
        if block::sum(header) != 0 {
            fault.get_or_insert_with(|| "the checksum of its header does not hold".into());
        }
        for list in lists {
            if block::sum(&self.block(list)?) != 0 {
                fault.get_or_insert_with(|| format!("the checksum of its list of blocks (block {list}) does not hold"));
            }
        }
        if let Some(claims) = claims {
            data.iter().for_each(|block| {
                claims.claim(*block);
            });
        }
        let (mut spans, mut left): (Vec<Range<u64>>, u64) = (Vec::new(), len);
        for number in data.iter().copied() {
            let now = left.min(own);
            super::push_span(&mut spans, number * BLOCK as u64 + lead, now);
            left -= now;
        }
        spans.retain(|s| !s.is_empty());
        match fault {
            Some(fault) => Ok(File { spans, ..File::broken(len, fault) }),
            None if spans.is_empty() => Ok(File::of(Arc::new(decanter_core::source::Bytes(Vec::new())))),
            None if self.layout.is_fast => File::from_spans(&self.source, spans),
            None => {
                let file = File::from_spans(&self.source, spans)?;
                let checked = OldData { source: self.source.clone(), owner: number, blocks: data, len };
                Ok(match file.content {
                    Content::Whole(_) => File { content: Content::Whole(Arc::new(checked)), ..file },
                    _ => file,
                })
            }
        }
    }
}

/// What is known of an entry besides its content.
pub fn describe(bits: u32, comment: &[u8]) -> About {
    let mut words = Vec::new();
    if bits != 0 {
        words.push(block::protection(bits));
    }
    if !comment.is_empty() {
        words.push(format!("\"{}\"", latin(comment)));
    }
    About { words, protection: Some(bits).filter(|b| *b != 0), comment: comment.to_vec() }
}
