//! Programs of the Xbox 360: title id, disc number, version and region, from their headers.
//!
//! All numbers are big-endian. The title's name stands in a compressed resource, which is not read. Layout:
//! docs/formats/xbe-xex.md.

use super::xbe::title_id;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::{Error, Result};

const ID: &str = "xex";
/// Optional headers that are looked at; programs have about 20.
const MOST_HEADERS: u32 = 512;
/// Key of the header with title id, disc number and version.
const EXECUTION: u32 = 0x0004_0006;
/// Key of the header with the name that the program was linked under.
const ORIGINAL_NAME: u32 = 0x0001_83ff;
/// Region bits, four bytes of them.
const REGIONS: [(u32, &str); 4] = [
    (0x0000_00ff, "North America"),
    (0x0000_ff00, "Asia"),
    (0x00ff_0000, "Europe and Australia"),
    (0xff00_0000, "elsewhere"),
];

/// The format.
pub struct Xex;

impl Format for Xex {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Xbox 360 program"
    }

    fn role(&self) -> Role {
        Role::Record
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xex"]
    }

    fn reads(&self) -> &'static str {
        "title id, disc number, version, region"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"XEX2")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 0x18).then_some(90))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let word = |at: u64| -> Result<u32> { Ok(u32::from_be_bytes(read_array(source.as_ref(), at)?)) };
        let count = word(0x14)?;
        if count > MOST_HEADERS {
            return Err(Error::malformed(ID, format!("{count} optional headers"), 0x14));
        }
        let mut opened = Opened::new(ID, self.name());
        let security = u64::from(word(0x10)?);
        for index in 0..u64::from(count) {
            let (key, at) = (word(0x18 + index * 8)?, u64::from(word(0x1c + index * 8)?));
            match key {
                EXECUTION => {
                    let id = word(at + 0xc)?;
                    opened.identified(title_id(id));
                    opened.fact("version", version(word(at + 4)?));
                    opened.fact("base version", version(word(at + 8)?));
                    let [_, _, disc, discs]: [u8; 4] = read_array(source.as_ref(), at + 0x10)?;
                    opened.fact("disc", if discs > 1 { format!("{disc} of {discs}") } else { String::new() });
                    opened.told.parameters.push(("media id".into(), format!("{:08X}", word(at)?)));
                    opened.told.parameters.push(("title id".into(), format!("{id:08X}")));
                }
                ORIGINAL_NAME => {
                    let len = word(at)?.saturating_sub(4).min(256);
                    let mut name = vec![0; len as usize];
                    source.read_at(at + 4, &mut name)?;
                    let name = name.split(|&b| b == 0).next().unwrap_or_default();
                    opened.fact("linked as", String::from_utf8_lossy(name).into_owned());
                }
                _ => {}
            }
        }
        if let Ok(region) = word(security + 0x178) {
            opened.fact("region", regions(region));
        }
        Ok(opened)
    }
}

/// Four bits major, four minor, sixteen build, eight fix.
fn version(bits: u32) -> String {
    format!("{}.{}.{}.{}", bits >> 28, bits >> 24 & 15, bits >> 8 & 0xffff, bits & 255)
}

fn regions(bits: u32) -> String {
    if bits == u32::MAX {
        return "all regions".into();
    }
    let named: Vec<&str> = REGIONS.iter().filter(|(bit, _)| bits & bit != 0).map(|(_, name)| *name).collect();
    named.join(", ")
}
