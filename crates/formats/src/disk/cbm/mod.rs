//! Disks of the C64 and its family: D64, D71, D81; tapes, programs and cartridges beside them.
//!
//! Layout, checks and what is not sure: docs/formats/cbm.md.

mod allocation;
mod assembler;
mod compose;
pub mod crt;
mod geometry;
mod geos;
pub mod machine;
pub mod menu;
pub mod petscii;
pub mod prg;
pub mod snapshot;
pub mod t64;
pub mod vsf;

pub use compose::{Composed, NewFile, compose};
pub use geometry::guess;

use allocation::Allocation;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{About, File, Kind as NodeKind, Node, Tree};
use decanter_core::{Error, Result};
use geometry::{Geometry, Kind, Place, SECTOR};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;

/// Bytes of a directory entry.
const ENTRY: usize = 32;
/// What the drive calls what went wrong with a sector, by its error byte.
const ERRORS: [(u8, &str); 10] = [
    (2, "20, header not found"),
    (3, "21, no sync mark"),
    (4, "22, data not found"),
    (5, "23, checksum of the data"),
    (6, "24, wrong code"),
    (7, "25, differs after writing"),
    (8, "26, write-protected"),
    (9, "27, checksum of the header"),
    (10, "28, too long"),
    (11, "29, id of another disk"),
];

/// One kind of disk.
pub struct Disk(Kind);

/// Single-sided disks of 35 tracks and a few more.
pub static D64: Disk = Disk(Kind::D64);
/// Double-sided disks.
pub static D71: Disk = Disk(Kind::D71);
/// Disks of 3.5 inches.
pub static D81: Disk = Disk(Kind::D81);

/// What an entry of the directory says.
#[derive(Debug, Clone)]
struct Entry {
    kind: u8,
    first: Place,
    side: Place,
    name: Vec<u8>,
    blocks: u16,
    record_len: u8,
    geos_type: u8,
}

impl Entry {
    fn kind_name(&self) -> &'static str {
        ["DEL", "SEQ", "PRG", "USR", "REL", "CBM"].get(usize::from(self.kind & 15)).copied().unwrap_or("???")
    }

    fn path(&self) -> String {
        let kind = self.kind_name().to_lowercase();
        format!("{}.{}", petscii::text(&self.name), if kind == "???" { "del" } else { &kind })
    }
}

/// A chain of sectors.
#[derive(Debug, Clone, Default)]
struct Chain {
    places: Vec<Place>,
    /// Byte ranges of the image with the content.
    spans: Vec<Range<u64>>,
    /// What is wrong with it.
    fault: Option<String>,
}

/// A disk in memory.
#[derive(Clone)]
struct Image {
    geometry: Geometry,
    bytes: Vec<u8>,
}

impl Image {
    fn read(source: &dyn Source, kind: Kind) -> Result<Self> {
        let len = source.len();
        let geometry = Geometry::of_len(kind, len).or_else(|| Geometry::at_least(kind, len));
        let geometry =
            geometry.ok_or_else(|| Error::malformed(kind.id(), format!("{len} bytes: {}", guess(len)), len))?;
        let mut bytes = read_vec(source, 0, len, "a disk image", geometry.len())?;
        bytes.resize(geometry.len() as usize, 0);
        Ok(Self { geometry, bytes })
    }

    fn sector(&self, place: Place) -> Option<&[u8]> {
        let at = self.geometry.block(place)? * SECTOR;
        Some(&self.bytes[at..at + SECTOR])
    }

    /// The error that reading a sector gave, in words.
    fn error(&self, place: Place) -> Option<String> {
        let blocks = self.geometry.blocks();
        let code = *self.bytes.get(blocks * SECTOR + self.geometry.block(place)?)?;
        if !self.geometry.has_errors || code <= 1 {
            return None;
        }
        let name = ERRORS.iter().find(|(c, _)| *c == code).map(|(_, name)| (*name).to_owned());
        Some(format!("{place}: error {}", name.unwrap_or_else(|| format!("byte {code:#04x}"))))
    }

    /// Follows a chain to its end, or to where it breaks.
    fn chain(&self, first: Place) -> Chain {
        let (mut chain, mut place, mut seen) = (Chain::default(), first, HashSet::new());
        loop {
            let (Some(sector), Some(block)) = (self.sector(place), self.geometry.block(place)) else {
                chain.fault = Some(format!("its chain leads to {place}, which the disk does not have"));
                return chain;
            };
            if !seen.insert(place) {
                chain.fault = Some(format!("its chain goes in a circle at {place}"));
                return chain;
            }
            chain.places.push(place);
            let start = (block * SECTOR) as u64;
            match sector[0] {
                // The last sector tells the place of its last byte.
                0 => {
                    let last = u64::from(sector[1]).max(1);
                    chain.spans.push(start + 2..start + last + 1);
                    return chain;
                }
                track => {
                    chain.spans.push(start + 2..start + SECTOR as u64);
                    place = Place::new(track, sector[1]);
                }
            }
        }
    }

    /// The sectors of the directory, and all entries in them.
    fn directory(&self) -> (Chain, Vec<Entry>) {
        let mut chain = self.chain(self.geometry.kind.directory());
        chain.places.extend(geos::border(self).filter(|place| !chain.places.contains(place)));
        let mut entries = Vec::new();
        for sector in chain.places.iter().filter_map(|p| self.sector(*p)) {
            for bytes in sector.as_chunks::<ENTRY>().0.iter().filter(|e| e[2] != 0) {
                entries.push(Entry {
                    kind: bytes[2],
                    first: Place::new(bytes[3], bytes[4]),
                    name: bytes[5..21].to_vec(),
                    side: Place::new(bytes[21], bytes[22]),
                    record_len: bytes[23],
                    geos_type: bytes[24],
                    blocks: u16::from_le_bytes([bytes[30], bytes[31]]),
                });
            }
        }
        (chain, entries)
    }

    /// All chains that an entry owns: its content, and the side sectors of a relative file.
    fn chains(&self, entry: &Entry) -> Vec<Chain> {
        if entry.kind & 15 == 5 {
            // A partition is a stretch of sectors in one piece.
            let first = self.geometry.block(entry.first);
            let places = first.into_iter().flat_map(|f| f..f + usize::from(entry.blocks));
            let places = places.take_while(|b| *b < self.geometry.blocks()).map(|b| self.geometry.place(b));
            let spans = first.map(|f| (f * SECTOR) as u64..((f + usize::from(entry.blocks)) * SECTOR) as u64);
            return vec![Chain { places: places.collect(), spans: spans.into_iter().collect(), fault: None }];
        }
        let mut chains = vec![self.chain(entry.first)];
        if entry.kind & 15 == 4 && entry.side.track != 0 {
            chains.push(self.chain(entry.side));
        }
        if entry.is_geos() {
            chains.extend(geos::chains(self, entry));
        }
        chains
    }
}

/// Whether the map of free blocks at `at` could be one: for each of 35 tracks the number of free blocks, and as many bits
/// that say so.
fn has_map(source: &dyn Source, at: u64) -> Result<bool> {
    let map: [u8; 4 + 35 * 4] = read_array(source, at)?;
    let fits = |entry: &[u8; 4]| {
        let bits = u32::from_le_bytes([entry[1], entry[2], entry[3], 0]);
        u32::from(entry[0]) == bits.count_ones() && entry[0] <= 21
    };
    let entries = map[4..].as_chunks::<4>().0;
    let used = entries.iter().filter(|e| e[0] > 0).count();
    Ok(used > 0 && entries.iter().filter(|e| fits(e)).count() >= 30)
}

impl Format for Disk {
    fn id(&self) -> &'static str {
        self.0.id()
    }

    fn name(&self) -> &'static str {
        match self.0 {
            Kind::D64 => "C64 disk image",
            Kind::D71 => "C128 disk image",
            Kind::D81 => "C64 disk image of 3.5 inches",
        }
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Floppy)
    }

    fn extensions(&self) -> &'static [&'static str] {
        match self.0 {
            Kind::D64 => &["d64"],
            Kind::D71 => &["d71"],
            Kind::D81 => &["d81"],
        }
    }

    fn reads(&self) -> &'static str {
        match self.0 {
            Kind::D64 => {
                "35, 40 and 42 tracks, with and without error bytes; GEOS files; checks of chains and allocation"
            }
            Kind::D71 => "both sides, with and without error bytes; checks of chains and allocation",
            Kind::D81 => "80 tracks, with and without error bytes; checks of chains and allocation",
        }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        let len = source.len();
        // A sector takes 256 bytes, or 257 with its error byte.
        if !len.is_multiple_of(256) && !len.is_multiple_of(257) {
            return Ok(None);
        }
        let whole = Geometry::of_len(self.0, len);
        let cut = || Geometry::at_least(self.0, len).filter(|g| len * 10 >= g.len() * 8 && len.is_multiple_of(256));
        let Some(geometry) = whole.or_else(cut) else { return Ok(None) };
        let at = geometry.block(self.0.header()).unwrap_or(0) * SECTOR;
        let head: [u8; 4] = read_array(source, at as u64)?;
        let letter = if self.0 == Kind::D81 { b'D' } else { b'A' };
        let is_one = head[0] == self.0.directory().track && head[2] == letter;
        let is_double = head[3] & 0x80 != 0;
        Ok(match (whole.is_some(), is_one) {
            (true, true) if self.0 == Kind::D64 || self.0 == Kind::D81 || is_double => Some(78),
            (true, true) => Some(70),
            // Disks that only their own loader reads have no directory; then at least the map of free blocks has to be
            // one, because a size alone is shared by too much.
            (true, false) if self.0 != Kind::D81 && has_map(source, at as u64)? => Some(40),
            (false, true) => Some(45),
            _ => None,
        })
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let image = Image::read(source.as_ref(), self.0)?;
        let geometry = image.geometry;
        let mut opened = Opened::new(self.id(), self.name());
        opened.extent.unit = Some(256);
        if source.len() < geometry.len() {
            opened.extent.promised_len = Some(geometry.len());
            opened.notice(format!("an odd size: {}", guess(source.len())));
        }
        let (name_at, id_at) = self.0.labels();
        if let Some(header) = image.sector(self.0.header()) {
            opened.titled(petscii::text(&header[name_at..name_at + 16]));
            opened.identified(petscii::text(&header[id_at..id_at + 2]));
        }
        let errors = if geometry.has_errors { ", with error bytes" } else { "" };
        opened.fact("tracks", format!("{}{errors}", geometry.tracks));
        let allocation = Allocation::read(&image);
        opened.fact("blocks free", allocation.free_count().to_string());
        let (directory, entries) = image.directory();
        if let Some(fault) = &directory.fault {
            opened.damage(format!("the directory: {fault}"));
        }
        let mut tree = Tree::default();
        for entry in &entries {
            match entry.has_records() {
                true => tree.nodes.extend(geos::nodes(&image, &source, entry)?),
                false => {
                    tree.nodes.push(node(&image, &source, entry)?);
                    if entry.is_geos() {
                        tree.nodes.push(geos::info(&image, &source, entry, &format!("{}.info", entry.path()))?);
                    }
                }
            }
        }
        opened.holds.tree = Some(tree);
        opened.proof.inspections.push(Arc::new(move |_| Ok(allocation::inspect(&image, &allocation))));
        Ok(opened)
    }
}

/// An entry as a file.
fn node(image: &Image, source: &SourceRef, entry: &Entry) -> Result<Node> {
    let chains = image.chains(entry);
    let chain = &chains[0];
    let len = chain.spans.iter().map(|s| s.end - s.start).sum();
    let is_empty = entry.kind & 15 == 0 && entry.first.track == 0;
    // What the drive could not read is filled with something: no file of this machine is that.
    let fault = chain.fault.clone().or_else(|| chain.places.iter().find_map(|p| image.error(*p)));
    let file = match fault {
        _ if is_empty => File::of(Arc::new(decanter_core::source::Bytes(Vec::new()))),
        Some(fault) => File { spans: chain.spans.clone(), ..File::broken(len, fault) },
        None => File::from_spans(source, chain.spans.clone())?,
    };
    let blocks = format!("{} block{}", entry.blocks, if entry.blocks == 1 { "" } else { "s" });
    let mut words = vec![entry.kind_name().to_owned(), blocks];
    if entry.kind & 0x40 != 0 {
        words.push("locked".into());
    }
    if entry.kind & 0x80 == 0 {
        words.push("not closed".into());
    }
    if entry.record_len > 0 && entry.kind & 15 == 4 {
        words.push(format!("records of {} bytes", entry.record_len));
    }
    if entry.kind & 15 == 2
        && let Ok(content) = file.source()
    {
        let head = read_vec(content.as_ref(), 0, content.len().min(256), "the start of a program", 256)?;
        words.extend(prg::words(&head));
    }
    Ok(Node::new(entry.path(), NodeKind::File(file), None).about(About { words, ..About::default() }))
}
