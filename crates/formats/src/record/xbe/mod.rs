//! Programs of the original Xbox: title id, name, region and version, from their certificate; pictures of the title out of their
//! sections.
//!
//! All numbers are little-endian; addresses are those in memory, from the base address on. Layout:
//! docs/formats/xbe-xex.md.

mod xpr;

use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::label::{Label, Picture};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::{Error, Result};

const ID: &str = "xbe";
/// Regions by bit.
const REGIONS: [(u32, &str); 4] =
    [(1, "North America"), (2, "Japan"), (4, "rest of the world"), (0x8000_0000, "manufacturing")];
/// Sections with pictures, and what each is.
const PICTURES: [(&[u8], &str); 2] = [(b"$$XTIMAGE", "title picture"), (b"$$XSIMAGE", "picture of saves")];
/// Sections that are looked at.
const MOST_SECTIONS: u32 = 256;
/// Bytes of what is known of a section.
const SECTION: u64 = 0x38;
/// The largest picture, in bytes.
const MOST_PICTURE: u64 = 4 << 20;

/// The format.
pub struct Xbe;

impl Format for Xbe {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Xbox program"
    }

    fn role(&self) -> Role {
        Role::Record
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xbe"]
    }

    fn reads(&self) -> &'static str {
        "title id, name, region, version, pictures of the title"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"XBEH")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 0x178).then_some(90))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let word = |at: u64| -> Result<u32> { Ok(u32::from_le_bytes(read_array(source.as_ref(), at)?)) };
        let (base, certificate) = (word(0x104)?, word(0x118)?);
        let Some(at) = certificate.checked_sub(base).map(u64::from) else {
            return Err(Error::malformed(ID, "the certificate's address lies before the program", 0x118));
        };
        if at + 0x1d0 > source.len() {
            return Err(Error::malformed(ID, "the certificate lies past the end of the program", 0x118));
        }
        let mut opened = Opened::new(ID, self.name());
        let name: [u8; 80] = read_array(source.as_ref(), at + 0xc)?;
        let units = name.chunks_exact(2).map(|p| u16::from_le_bytes([p[0], p[1]])).take_while(|&u| u != 0);
        let title: String = char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
        let id = word(at + 8)?;
        opened.titled(title.trim().to_owned());
        opened.identified(title_id(id));
        opened.fact("version", format!("{}", word(at + 0xac)?));
        let region = word(at + 0xa0)?;
        opened.fact("region", regions(region));
        let disc = word(at + 0xa8)?;
        opened.fact("disc", if disc > 0 { disc.to_string() } else { String::new() });
        let date = i64::from(word(at + 4)?);
        opened.fact("built", if date > 0 { crate::time::text(date) } else { String::new() });
        opened.told.parameters = vec![
            ("title id".into(), format!("{id:#010x}")),
            ("allowed media".into(), format!("{:#010x}", word(at + 0x9c)?)),
            ("region".into(), format!("{region:#010x}")),
            ("ratings".into(), format!("{:#010x}", word(at + 0xa4)?)),
        ];
        match pictures(source.as_ref(), base) {
            Ok(pictures) if pictures.is_empty() => {}
            Ok(pictures) => opened.told.label = Some(Label { pictures, ..Label::default() }),
            Err(e) if e.blame() == Blame::Source => opened.notice(format!("its pictures cannot be read: {e}")),
            Err(e) => return Err(e),
        }
        Ok(opened)
    }
}

/// The pictures in a program's sections.
fn pictures(source: &dyn Source, base: u32) -> Result<Vec<(&'static str, Picture)>> {
    let word = |at: u64| -> Result<u32> { Ok(u32::from_le_bytes(read_array(source, at)?)) };
    let (count, list) = (word(0x11c)?, word(0x120)?);
    if count == 0 {
        return Ok(Vec::new());
    }
    let Some(list) = list.checked_sub(base).map(u64::from) else {
        return Err(Error::malformed(ID, "the list of sections lies before the program", 0x120));
    };
    let mut all = Vec::new();
    for number in 0..count.min(MOST_SECTIONS) {
        let at = list + u64::from(number) * SECTION;
        let name_at = word(at + 0x14)?.checked_sub(base).map(u64::from).filter(|name_at| *name_at < source.len());
        let Some(name_at) = name_at else {
            return Err(Error::malformed(ID, "the name of a section lies outside the program", at + 0x14));
        };
        let name = read_vec(source, name_at, (source.len() - name_at).min(16), "the name of a section", 16)?;
        let name = name.split(|byte| *byte == 0).next().unwrap_or_default();
        let Some((_, what)) = PICTURES.iter().find(|(own, _)| *own == name) else { continue };
        let (from, len) = (word(at + 0xc)?, word(at + 0x10)?);
        let bytes = read_vec(source, from.into(), len.into(), "a picture", MOST_PICTURE)?;
        let picture = xpr::picture(&bytes);
        all.push((*what, picture.map_err(|why| Error::malformed(ID, format!("the {what}: {why}"), from.into()))?));
    }
    Ok(all)
}

/// The title id of a program.
///
/// # Errors
/// [`Error::Malformed`] for a certificate before the program; what reading fails with.
pub fn title_number(source: &dyn Source) -> Result<u32> {
    let word = |at: u64| -> Result<u32> { Ok(u32::from_le_bytes(read_array(source, at)?)) };
    match word(0x118)?.checked_sub(word(0x104)?) {
        Some(at) => word(u64::from(at) + 8),
        None => Err(Error::malformed(ID, "the certificate's address lies before the program", 0x118)),
    }
}

/// A title id as it is printed: two letters of the publisher and a number, `KC-007`, and the hexadecimal value.
pub(crate) fn title_id(id: u32) -> String {
    let [a, b, high, low] = id.to_be_bytes();
    if a.is_ascii_alphanumeric() && b.is_ascii_alphanumeric() {
        let number = u16::from_be_bytes([high, low]);
        format!("{}{}-{number:03} ({id:08X})", char::from(a), char::from(b))
    } else {
        format!("{id:08X}")
    }
}

/// A version as the 360 generation has it: four bits major, four minor, sixteen build, eight fix.
pub(crate) fn version(bits: u32) -> String {
    format!("{}.{}.{}.{}", bits >> 28, bits >> 24 & 15, bits >> 8 & 0xffff, bits & 255)
}

fn regions(bits: u32) -> String {
    let named: Vec<&str> = REGIONS.iter().filter(|(bit, _)| bits & bit != 0).map(|(_, name)| *name).collect();
    named.join(", ")
}
