//! The text that describes a moment: docs/formats/c64-moment.md tells every field.

use crate::toml_text;
use crate::{Item, Setting, locate};
use decanter_core::digest::unhex;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::{Error, Result, store};
use decanter_formats::disk::cbm::snapshot::{Cia, MEMORY, Snapshot};
use serde::Deserialize;

/// The longest description.
const MOST_TEXT: u64 = 64 << 10;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Moment {
    /// The file with the memory, beside the description.
    memory: String,
    processor: Processor,
    #[serde(default)]
    vic: Registers,
    #[serde(default)]
    sid: Registers,
    #[serde(default)]
    cia1: Interface,
    #[serde(default)]
    cia2: Interface,
    /// The file with the colours of the screen, a byte each.
    colours: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Processor {
    pc: u16,
    a: u8,
    x: u8,
    y: u8,
    sp: u8,
    p: u8,
    #[serde(default = "usual_direction")]
    direction: u8,
    #[serde(default = "usual_port")]
    port: u8,
}

fn usual_direction() -> u8 {
    0x2f
}

fn usual_port() -> u8 {
    0x37
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
struct Registers {
    /// Two hexadecimal digits each, in order; spaces do not count.
    registers: String,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
struct Interface {
    #[serde(default)]
    registers: String,
    #[serde(default)]
    mask: u8,
}

/// The moment that `source` describes; the files that it names lie beside it.
///
/// # Errors
/// [`Error::Usage`] for a text that describes none; what reading its files gives.
pub(super) fn described(item: &Item, source: &SourceRef, setting: &Setting<'_>) -> Result<Snapshot> {
    let text = read_vec(source.as_ref(), 0, source.len(), "the description of a moment", MOST_TEXT)?;
    let text = String::from_utf8(text).map_err(|_| Error::Usage("it is no text that describes a moment".into()))?;
    let moment: Moment =
        toml_text::parse(&text).map_err(|why| Error::Usage(format!("it describes no moment: {why}")))?;
    let folder = store::folder_of(&item.shown);
    let file = |name: &str, most: usize| -> Result<Vec<u8>> {
        let path = store::join(folder, name);
        let source = locate::bytes(&path, setting)?;
        match source.len() <= most as u64 {
            true => read_vec(source.as_ref(), 0, source.len(), "a part of a moment", most as u64),
            false => Err(Error::Usage(format!("\"{path}\" has {} bytes, more than {most}", source.len()))),
        }
    };
    let p = &moment.processor;
    let cia = |own: &Interface, name| -> Result<Cia> {
        Ok(Cia { registers: hex(&own.registers, name)?, mask: own.mask & 0x1f })
    };
    Ok(Snapshot {
        memory: file(&moment.memory, MEMORY)?,
        pc: p.pc,
        a: p.a,
        x: p.x,
        y: p.y,
        sp: p.sp,
        p: p.p,
        direction: p.direction,
        port: p.port,
        vic: hex(&moment.vic.registers, "vic")?,
        sid: hex(&moment.sid.registers, "sid")?,
        cia: [cia(&moment.cia1, "cia1")?, cia(&moment.cia2, "cia2")?],
        colours: moment.colours.as_deref().map(|name| file(name, 1024)).transpose()?.unwrap_or_default(),
    })
}

/// Registers as hexadecimal digits.
fn hex(text: &str, name: &str) -> Result<Vec<u8>> {
    let digits: String = text.chars().filter(|c| !c.is_whitespace()).collect();
    let mut room = vec![0; digits.len() / 2];
    let bytes = unhex(&digits, &mut room).map(<[u8]>::to_vec);
    bytes.ok_or_else(|| Error::Usage(format!("the registers of {name} are no pairs of hexadecimal digits")))
}
