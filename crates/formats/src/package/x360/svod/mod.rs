//! SVOD: a disc in data files beside the package. Layout: docs/formats/svod.md.

mod compose;
pub mod place;
mod proof;
mod tables;

pub use compose::{Laid, compose};

use super::header::Header;
use super::raw::{SvodVolume, le24};
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::tell::{count, grouped};
use decanter_core::tree::{Content, File, Kind};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result, SECTOR};
use place::{BLOCK, FILE_BLOCKS, FILE_LEN, GROUP};
use std::ops::Range;
use std::sync::Arc;
use tables::Tables;
use zerocopy::FromBytes;

/// The feature that puts the volume descriptor in front.
const ENHANCED: u8 = 0x40;
/// The sectors that stand in front then.
const FRONT: Range<u64> = 32 * SECTOR..34 * SECTOR;
/// Data files of a package: a disc has at most 50 of them.
const MOST_FILES: u32 = 1000;

/// A data file.
pub(super) struct DataFile {
    pub(super) name: String,
    /// Its bytes; nothing where it is not there.
    pub(super) source: Option<SourceRef>,
    /// Bytes that it should have.
    pub(super) len: u64,
}

/// The data files of a package, in their order.
pub(super) struct Files {
    pub(super) files: Vec<DataFile>,
    /// Blocks of the disc.
    pub(super) blocks: u64,
    /// SHA-1 of the first master table.
    pub(super) top: [u8; 20],
}

/// Opens the disc of a package, and says what proves it.
///
/// # Errors
/// [`Error::Malformed`] for a descriptor that cannot be right, and what reading fails with.
pub(super) fn open(opened: &mut Opened, header: &Header, source: &SourceRef, opener: &Opener<'_>) -> Result<()> {
    let malformed = |what: String, at: u64| Error::malformed(super::ID_DISC, what, at);
    let (volume, _) = SvodVolume::read_from_prefix(&header.head.volume)
        .map_err(|_| malformed("no volume descriptor".into(), 0x379))?;
    let (blocks, first) = (u64::from(le24(volume.blocks)), u64::from(le24(volume.first)));
    let count_of_files = header.head.data_files.get();
    if count_of_files > MOST_FILES {
        return Err(malformed(format!("{count_of_files} data files"), 0x39d));
    }
    let files = Files { files: find(header, source, blocks, opener)?, blocks, top: volume.top_digest };
    let is_enhanced = volume.features & ENHANCED != 0;
    opened.fact(
        "volume",
        format!("{} blocks, {} layout", grouped(blocks), if is_enhanced { "enhanced" } else { "plain" }),
    );
    let bytes: u64 = files.files.iter().map(|f| f.len).sum();
    let (number, size) = (count(files.files.len() as u64, "file", "files"), grouped(bytes));
    opened.fact("data files", format!("{number}, {size} bytes"));
    let shift = shift(first, is_enhanced);
    let missing = missing(opened, &files);
    let stored = stored(&files)?;
    let tables = Arc::new(Tables::new(files));
    let held = match opener.is_unchecked() {
        true => stored.clone(),
        false => tables.over(stored.clone())?,
    };
    let disc = disc(&held, first, is_enhanced)?;
    // The inner names are those of the disc, whose file system knows more of it than the header does.
    match opener.inside()?.open(disc.clone()) {
        Ok(mut inner) => {
            opened.fact("holds", inner.identity.kind.clone());
            // Its header goes first.
            inner.told.facts.retain(|f| f.name != "layout" && opened.get(f.name).is_none());
            inner.identity.title = None;
            inner.identity.belongs = None;
            break_files(&mut inner, &missing, shift);
            let promised = opened.extent.promised_len;
            opened.wrap(inner);
            opened.extent.promised_len = promised;
            // Those are places on the disc, not in the file with the header.
            opened.extent.structure.clear();
        }
        Err(e) if e.blame() == Blame::Source => {
            opened.damage(format!("the disc in it cannot be read: {e}"));
        }
        Err(e) => return Err(e),
    }
    proof::add(opened, &tables, &stored, shift);
    opened.holds.volume = Some(disc);
    opened.extent.promised_len = Some(header.end().min(source.len()).max(u64::from(header.head.len.get())));
    Ok(())
}

/// The data files, in their order: beside the header, or behind it.
fn find(header: &Header, source: &SourceRef, blocks: u64, opener: &Opener<'_>) -> Result<Vec<DataFile>> {
    let wanted = u64::from(header.head.data_files.get()).max(blocks.div_ceil(FILE_BLOCKS)).max(1);
    let folder = data_folder(opener)?;
    if folder.is_none() && source.len() > header.end() + BLOCK {
        let len = source.len() - header.end();
        let own: SourceRef = Arc::new(Slice::new(source.clone(), header.end(), len)?);
        return Ok(vec![DataFile { name: "the package itself".into(), source: Some(own), len: place::len(blocks) }]);
    }
    let (folder, tree) = folder
        .unwrap_or_else(|| (opener.names().first().map_or("NAME".into(), |n| format!("{n}.data")), Default::default()));
    let file = |index: u64| -> Result<DataFile> {
        let name = data_name(index);
        let source = match tree.find(&name).and_then(|n| n.file()) {
            Some(file) => Some(file.source()?.clone()),
            None => None,
        };
        let left = blocks.saturating_sub(index * FILE_BLOCKS).min(FILE_BLOCKS);
        Ok(DataFile {
            name: format!("{folder}/{name}"),
            source,
            len: if left == FILE_BLOCKS { FILE_LEN } else { place::len(left) },
        })
    };
    (0..wanted).map(file).collect()
}

/// What a data file is called.
pub fn data_name(index: u64) -> String {
    format!("Data{index:04}")
}

/// The folder with the data files, and what is in it.
fn data_folder(opener: &Opener<'_>) -> Result<Option<(String, decanter_core::tree::Tree)>> {
    let Some(name) = opener.names().first() else { return Ok(None) };
    opener.beside().folder(&format!("{name}.data"))
}

/// Tells of data files that are missing or cut short, and says which blocks of the disc that hits.
fn missing(opened: &mut Opened, files: &Files) -> Vec<(Range<u64>, String)> {
    let mut missing = Vec::new();
    for (index, file) in files.files.iter().enumerate() {
        let there = file.source.as_ref().map_or(0, |s| s.len());
        let first = index as u64 * FILE_BLOCKS;
        let own = files.blocks.saturating_sub(first).min(FILE_BLOCKS);
        if there >= file.len {
            continue;
        }
        let what = match &file.source {
            None => format!("{} is missing: {} bytes", file.name, grouped(file.len)),
            Some(_) => format!("{} has {} bytes instead of {}", file.name, grouped(there), grouped(file.len)),
        };
        let whole =
            if there == 0 { 0 } else { (0..own).take_while(|b| place::block(*b) + BLOCK <= there).count() as u64 };
        opened.damage(what.clone());
        missing.push((first + whole..first + own, what));
    }
    missing
}

/// All blocks as they are stored, one after the other; reading what is not there fails.
fn stored(files: &Files) -> Result<SourceRef> {
    let mut parts: Vec<SourceRef> = Vec::new();
    for (index, file) in files.files.iter().enumerate() {
        let blocks = files.blocks.saturating_sub(index as u64 * FILE_BLOCKS).min(FILE_BLOCKS);
        for group in 0..blocks.div_ceil(GROUP) {
            let (from, len) = (place::block(group * GROUP), (blocks - group * GROUP).min(GROUP) * BLOCK);
            let there = file.source.as_ref().map_or(0, |s| s.len().saturating_sub(from).min(len));
            if let Some(source) = file.source.as_ref().filter(|_| there > 0) {
                parts.push(Arc::new(Slice::new(source.clone(), from, there)?));
            }
            if there < len {
                parts.push(Arc::new(Absent { len: len - there, name: file.name.clone() }));
            }
        }
    }
    Ok(Arc::new(Concat::new(parts)?))
}

/// The partition that the blocks hold.
fn disc(stored: &SourceRef, first: u64, is_enhanced: bool) -> Result<SourceRef> {
    let slice = |from: u64, len: u64| -> Result<SourceRef> { Ok(Arc::new(Slice::new(stored.clone(), from, len)?)) };
    let fill = |len: u64| -> SourceRef { Arc::new(Fill { byte: 0, len }) };
    let start = first * BLOCK;
    if !is_enhanced {
        return Ok(match start {
            0 => stored.clone(),
            _ => Arc::new(Concat::new(vec![fill(start), stored.clone()])?),
        });
    }
    let front = (FRONT.end - FRONT.start).min(stored.len());
    let rest = stored.len() - front;
    let mut parts = Vec::new();
    if start >= FRONT.end {
        parts.extend([fill(FRONT.start), slice(0, front)?, fill(start - FRONT.end), slice(front, rest)?]);
    } else {
        // What is in front stands where it would stand in what follows.
        let behind = (FRONT.end - start).min(rest);
        parts.extend([fill(FRONT.start), slice(0, front)?, slice(front + behind, rest - behind)?]);
    }
    Ok(Arc::new(Concat::new(parts)?))
}

/// By how much a place on the disc is larger than that in the blocks.
fn shift(first: u64, is_enhanced: bool) -> i64 {
    let front = if is_enhanced { FRONT.end - FRONT.start } else { 0 };
    (first * BLOCK) as i64 - front as i64
}

/// Marks the files of the disc that something is missing of.
fn break_files(inner: &mut Opened, missing: &[(Range<u64>, String)], shift: i64) {
    let Some(tree) = &mut inner.holds.tree else { return };
    for node in &mut tree.nodes {
        let Kind::File(file) = &mut node.kind else { continue };
        let is_in = |blocks: &Range<u64>| {
            let places = [blocks.start, blocks.end].map(|b| (b * BLOCK).saturating_add_signed(shift));
            file.spans.iter().any(|s| s.start < places[1] && places[0] < s.end)
        };
        let hit = missing.iter().find(|(blocks, _)| is_in(blocks));
        if let (Some((_, why)), Content::Whole(_)) = (hit, &file.content) {
            *file = File::broken(file.len, format!("it lies in what is not there: {why}"));
        }
    }
}

/// Blocks that are not there.
struct Absent {
    len: u64,
    name: String,
}

impl Source for Absent {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        match buf.is_empty() {
            true => Ok(()),
            false => Err(Error::Unreadable { why: format!("{} ends before it, or is missing", self.name) }),
        }
    }
}
