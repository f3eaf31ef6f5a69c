//! Cartridges: what their headers say, whether their checksums hold, and which memory keeps their saved games.
//!
//! A family is a [`Family`] and one line in the registry. Small ROMs are read whole, once.

pub mod gb;
pub mod gba;
pub mod handheld;
pub mod md;
pub mod n64;
pub mod nds;
pub mod nes;
pub mod order;
pub mod pce;
pub mod save;
pub mod shape;
pub mod sms;
pub mod snes;
pub(crate) mod text;

use decanter_core::Result;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::rom::{Check, Declared, Form, Rom, SaveMemory, Shape};
use decanter_core::source::{Bytes, Source, SourceRef, read_vec};
use decanter_core::view::{Concat, MOST_HELD, Slice};
use std::sync::Arc;

/// Bytes that copiers put before a ROM.
pub(crate) const COPIER: u64 = 512;
/// What that is called.
pub(crate) const COPIER_NAME: &str = "a 512-byte copier header";

/// One family of cartridges.
pub struct Family {
    id: &'static str,
    name: &'static str,
    extensions: &'static [&'static str],
    reads: &'static str,
    /// Bytes that a file needs at least for its header to be there.
    least: u64,
    score: fn(&dyn Source) -> Result<Option<u8>>,
    open: fn(SourceRef) -> Result<Opened>,
}

impl Format for Family {
    fn id(&self) -> &'static str {
        self.id
    }

    fn name(&self) -> &'static str {
        self.name
    }

    fn role(&self) -> Role {
        Role::Rom
    }

    fn extensions(&self) -> &'static [&'static str] {
        self.extensions
    }

    fn reads(&self) -> &'static str {
        self.reads
    }

    fn least_len(&self) -> u64 {
        self.least
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        (self.score)(source)
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = (self.open)(source)?;
        let Some(rom) = &opened.holds.rom else { return Ok(opened) };
        let mut notices = Vec::new();
        for check in rom.checks.iter().filter(|c| !c.is_right) {
            notices.push(format!("the {} is {}, it should be {}", check.name, check.stored, check.right));
        }
        if let Shape::Trailing { from, is_rom: true } = rom.shape {
            notices.push(format!(
                "a second ROM begins at offset {from:#x}: this is two files in one; \"decanter extract\" takes them apart"
            ));
        }
        notices.into_iter().for_each(|n| opened.notice(n));
        Ok(opened)
    }
}

/// Reads a ROM whole.
///
/// # Errors
/// [`Error::Limit`] for more than the largest cartridges of such families hold.
pub(crate) fn load(source: &SourceRef) -> Result<Vec<u8>> {
    read_vec(source.as_ref(), 0, source.len(), "a ROM that is read whole", MOST_HELD)
}

/// `source` without its first bytes.
pub(crate) fn without_head(source: &SourceRef, head: u64) -> Result<SourceRef> {
    Ok(Arc::new(Slice::new(source.clone(), head, source.len() - head)?))
}

/// `head` and then `source`.
pub(crate) fn with_head(head: Vec<u8>, source: &SourceRef) -> Result<SourceRef> {
    Ok(Arc::new(Concat::new(vec![Arc::new(Bytes(head)), source.clone()])?))
}

/// Whether there is a copier's header before a ROM that stands in chips of `unit` bytes.
pub(crate) fn has_copier_header(len: u64, unit: u64) -> bool {
    len > COPIER && len % unit == COPIER
}

/// A ROM whose file is its body.
pub(crate) fn plain(id: &'static str, name: &'static str, body: SourceRef, save: SaveMemory) -> Rom {
    Rom {
        forms: vec![Form { id, name, source: body.clone() }],
        body,
        form: id,
        through: None,
        prefix: Vec::new(),
        declared: None,
        chip: None,
        shape: Shape::Complete,
        checks: Vec::new(),
        save,
    }
}

/// The same ROM, found behind a copier's header.
pub(crate) fn behind_copier(mut rom: Rom, source: &SourceRef, found: bool) -> Result<Rom> {
    if found {
        rom.prefix = read_vec(source.as_ref(), 0, COPIER, "a copier header", COPIER)?;
        rom.through = Some(COPIER_NAME.into());
    }
    Ok(rom)
}

/// Puts what is known of a ROM into what was opened: its facts, and the pieces if it is two ROMs in one file.
pub(crate) fn finish(mut opened: Opened, rom: Rom) -> Result<Opened> {
    if let Shape::Trailing { from, is_rom: true } = rom.shape {
        use decanter_core::tree::{File, Kind, Node, Tree};
        let piece = |name: &str, range| -> Result<Node> {
            let file = File::from_spans(&rom.body, vec![range])?;
            Ok(Node::new(format!("{name}.{}", rom.form), Kind::File(file), None))
        };
        let nodes = vec![piece("first", 0..from)?, piece("second", from..rom.body.len())?];
        opened.holds.tree = Some(Tree { nodes });
    }
    opened.holds.rom = Some(rom);
    Ok(opened)
}

/// The declared length and the shape that follows from it.
pub(crate) fn measure(rom: &mut Rom, body: &[u8], declared: Option<Declared>, natural: u64, is_rom: shape::IsRom) {
    rom.declared = declared;
    rom.shape = shape::shape(body, declared, natural, is_rom);
}

/// Whether the end of a ROM is missing, so that checksums of all of it cannot be computed.
pub(crate) fn is_cut(rom: &Rom) -> bool {
    matches!(rom.shape, Shape::Trimmed { .. })
}

/// A sum of bytes.
pub(crate) fn sum8(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0, |sum, &b| sum.wrapping_add(u32::from(b)))
}

/// A checksum of 8 or 16 bits.
pub(crate) fn check16(name: &'static str, stored: u16, right: u16) -> Check {
    Check::new(name, stored.into(), right.into(), 4)
}
