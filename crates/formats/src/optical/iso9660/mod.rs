//! ISO 9660 file systems (ECMA-119, 4th edition), with Joliet and Rock Ridge names.
//!
//! Directories are walked from the root record; the path table is never used. Damage costs only what it hits:
//! everything else stays readable. Layout, checks and limits: docs/formats/iso9660.md.

mod compose;
mod overlaps;
mod raw;
mod record;
mod rock_ridge;
mod root;
mod tables;
mod walk;

pub use compose::{Volume, compose, renamed};
pub use root::{root_has, system_id};

use decanter_core::blueprint::Blueprint;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tree::{Node, Tree};
use decanter_core::{Error, Result, SECTOR, tell};
use raw::{CD001, Descriptor, FIRST_DESCRIPTOR, PRIMARY, SUPPLEMENTARY, TERMINATOR};
use zerocopy::FromBytes;

const ID: &str = "iso9660";
/// Volume descriptors that are looked at; discs have two to five.
const MOST_DESCRIPTORS: u64 = 32;
/// Byte offset of the first descriptor's standard identifier.
const MAGIC_AT: u64 = FIRST_DESCRIPTOR * SECTOR + 1;

/// What stands in the first descriptor of every volume.
pub(super) const MARK: Mark = Mark { at: MAGIC_AT, bytes: &CD001 };

/// The format.
pub struct Iso9660;

impl Format for Iso9660 {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "ISO 9660 disc image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Disc)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["iso"]
    }

    fn reads(&self) -> &'static str {
        "levels 1 to 3, files over 4 GiB, Joliet, Rock Ridge; split images"
    }

    fn marks(&self) -> &'static [Mark] {
        &[MARK]
    }

    fn score(&self, _head: &Head<'_>) -> Result<Option<u8>> {
        Ok(Some(60))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        let volumes = read_descriptors(source.as_ref(), &mut opened)?;
        let primary = &volumes.primary;
        let field = |bytes: &[u8]| text(bytes, Encoding::Bytes);
        opened.fact("volume", field(&primary.volume));
        opened.fact("publisher", field(&primary.publisher));
        opened.fact("prepared with", field(&primary.preparer));
        opened.extent.promised_len = Some(volumes.space_bytes);
        let walked = walk::walk(&source, &volumes, &mut opened.told.notices, opener)?;
        opened.extent.structure = walked.folders;
        opened.extent.structure.push(0..volumes.descriptors_end);
        opened.extent.structure.extend(volumes.path_tables());
        let udf = opener.registry().get("udf").filter(|_| has_udf(&source).unwrap_or(false));
        let mut files = walked.tree.files().count();
        opened.fact("names", walked.names);
        opened.holds.tree = Some(walked.tree);
        if let Some(Ok(other)) = udf.map(|udf| udf.open(source.clone(), opener)) {
            let more = other.holds.tree.as_ref().map_or(0, |t| t.files().count());
            opened.extent.structure.extend(other.extent.structure);
            if more > files {
                opened.notice(format!(
                    "its UDF volume has {more} files, its ISO 9660 volume {files}: the UDF files are shown"
                ));
                opened.holds.tree = other.holds.tree;
                files = more;
            }
            let revision = other.told.facts.iter().find(|f| f.name == "revision").map_or("", |f| f.value.as_str());
            opened.holds.is_bridge = true;
            opened.fact("bridge", format!("UDF {revision} beside ISO 9660").replace("  ", " "));
        }
        let is_form_2 = |n: &Node| n.about.as_ref().is_some_and(|a| a.words.iter().any(|w| w == FORM_2));
        let form_2 = opened.holds.tree.iter().flat_map(|t| &t.nodes).filter(|n| is_form_2(n)).count();
        if form_2 > 0 {
            let files = tell::count(form_2 as u64, "file has", "files have");
            opened.notice(format!(
                "{files} sectors of form 2 (films, sound): an image of 2,048-byte sectors holds only a part of each"
            ));
        }
        debug_assert_eq!(files, opened.holds.tree.iter().flat_map(|t| t.files()).count());
        Ok(opened)
    }

    fn compose(&self, tree: &Tree, label: &str) -> Result<Blueprint> {
        compose::compose(tree, &Volume { label: label.to_owned(), ..Volume::default() })
    }
}

/// What a file is called whose sectors have more bytes than a volume of 2,048-byte sectors shows.
pub(crate) const FORM_2: &str = "form 2 (CD-XA)";

/// How the text of a descriptor or a directory is spelled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Encoding {
    /// One byte a character.
    Bytes,
    /// UCS-2, big-endian (Joliet).
    Ucs2,
}

/// Whether a UDF volume is announced among the descriptors (ECMA-167, 3/9.1).
fn has_udf(source: &SourceRef) -> Result<bool> {
    for sector in FIRST_DESCRIPTOR..FIRST_DESCRIPTOR + MOST_DESCRIPTORS {
        if (sector + 1) * SECTOR > source.len() {
            break;
        }
        let id: [u8; 5] = read_array(source.as_ref(), sector * SECTOR + 1)?;
        match &id {
            b"NSR02" | b"NSR03" => return Ok(true),
            b"CD001" | b"BEA01" | b"BOOT2" => {}
            _ => break,
        }
    }
    Ok(false)
}

/// What the descriptors say.
struct Volumes {
    /// End of the descriptors in bytes.
    descriptors_end: u64,
    primary: Box<Descriptor>,
    joliet: Option<Box<Descriptor>>,
    /// Bytes in a logical block.
    block: u64,
    /// Bytes in the volume.
    space_bytes: u64,
}

impl Volumes {
    /// The path tables, which nothing here reads, but which are no padding either.
    fn path_tables(&self) -> Vec<std::ops::Range<u64>> {
        let tables = |d: &Descriptor| {
            let len = u64::from(d.path_table_size.get().0).next_multiple_of(SECTOR);
            let places = [d.path_table_le, d.path_table_le_copy].map(|p| u64::from(p.get()));
            let big = [d.path_table_be, d.path_table_be_copy].map(|p| u64::from(p.get()));
            places
                .into_iter()
                .chain(big)
                .filter(|&p| p > 0)
                .map(move |p| p * self.block..p * self.block + len)
                .collect::<Vec<_>>()
        };
        self.joliet.iter().chain([&self.primary]).flat_map(|d| tables(d)).collect()
    }
}

fn read_descriptors(source: &dyn Source, opened: &mut Opened) -> Result<Volumes> {
    let (mut primary, mut joliet) = (None, None);
    let mut descriptors_end = 0;
    for sector in FIRST_DESCRIPTOR..FIRST_DESCRIPTOR + MOST_DESCRIPTORS {
        let offset = sector * SECTOR;
        if offset + SECTOR > source.len() {
            opened.damage(format!("the image ends within the volume descriptors, at sector {sector}"));
            break;
        }
        let bytes: [u8; SECTOR as usize] = read_array(source, offset)?;
        if bytes[1..6] != CD001 {
            opened.damage(format!("the volume descriptors end at sector {sector} without a terminator"));
            break;
        }
        descriptors_end = offset + SECTOR;
        let descriptor = || Descriptor::read_from_bytes(&bytes).map(Box::new).ok();
        match bytes[0] {
            PRIMARY if primary.is_none() => primary = descriptor().map(|d| (d, offset)),
            SUPPLEMENTARY if joliet.is_none() => {
                // The escape sequences of UCS-2 levels 1, 2 and 3 (Joliet specification, "Escape Sequences").
                joliet = descriptor().filter(|d| matches!(&d.escapes[..3], b"%/@" | b"%/C" | b"%/E"));
            }
            TERMINATOR => break,
            _ => {}
        }
    }
    let Some((primary, offset)) = primary else {
        return Err(Error::malformed(ID, "no primary volume descriptor", FIRST_DESCRIPTOR * SECTOR));
    };
    let (block, same_block) = primary.block_size.get();
    let (blocks, same_blocks) = primary.space_size.get();
    if !same_block || !same_blocks {
        opened.damage(format!("the two byte orders of the volume's sizes disagree at offset {:#x}", offset + 80));
    }
    if !matches!(block, 512 | 1024 | 2048) {
        return Err(Error::malformed(ID, format!("a logical block of {block} bytes"), offset + 128));
    }
    let space_bytes = u64::from(blocks) * u64::from(block);
    Ok(Volumes { descriptors_end, primary, joliet, block: block.into(), space_bytes })
}

/// A text field without its padding. Bytes that are not UTF-8 are taken for Latin-1, which loses nothing.
fn text(bytes: &[u8], encoding: Encoding) -> String {
    let text = match encoding {
        Encoding::Ucs2 => {
            let units = bytes.chunks_exact(2).map(|p| u16::from_be_bytes([p[0], p[1]]));
            char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
        }
        Encoding::Bytes => match std::str::from_utf8(bytes) {
            Ok(text) => text.to_owned(),
            Err(_) => bytes.iter().map(|&b| char::from(b)).collect(),
        },
    };
    text.trim_end_matches([' ', '\0']).to_owned()
}
