//! Programs of the Xbox 360: title id, disc number, version and region, from their headers; names and picture from the
//! resource in them, where the program is not under a key that is missing.
//!
//! All numbers are big-endian. Layout: docs/formats/xbe-xex.md.

mod image;
mod unpack;
mod xdbf;

pub use image::KEY;

use super::xbe::{title_id, version};
use crate::num::be32;
use crate::package::x360::header::LANGUAGES;
use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::label::Label;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Bytes, Source, SourceRef, read_array};
use decanter_core::{Error, Result};
use std::sync::Arc;

const ID: &str = "xex";
/// Optional headers that are looked at; programs have about 20.
const MOST_HEADERS: u32 = 512;
/// Key of the header with title id, disc number and version.
const EXECUTION: u32 = 0x0004_0006;
/// Key of the header with the name that the program was linked under.
const ORIGINAL_NAME: u32 = 0x0001_83ff;
/// Key of the header with the list of resources, and bytes of an entry of that.
const RESOURCES: u32 = 0x0000_02ff;
const RESOURCE: u64 = 16;
const MOST_RESOURCES: u64 = 64;
/// Key of the header with the address that the program is loaded to, and where else that stands.
const BASE_ADDRESS: u32 = 0x0001_0201;
const SECURITY_BASE: u64 = 0x110;
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
        "title id, disc number, version, region, how it is stored; names and picture where it is not closed"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"XEX2")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 0x18).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let headers = Headers::read(source.as_ref())?;
        let mut opened = Opened::new(ID, self.name());
        if let Some(own) = headers.execution(source.as_ref())? {
            opened.identified(title_id(own.title_id));
            opened.fact("version", version(own.version));
            opened.fact("base version", version(own.base_version));
            let [disc, discs] = own.discs;
            opened.fact("disc", if discs > 1 { format!("{disc} of {discs}") } else { String::new() });
            opened.told.parameters.push(("media id".into(), format!("{:08X}", own.media_id)));
            opened.told.parameters.push(("title id".into(), format!("{:08X}", own.title_id)));
        }
        if let Some(at) = headers.place(ORIGINAL_NAME) {
            let len = u32::from_be_bytes(read_array(source.as_ref(), at)?).saturating_sub(4).min(256);
            let mut name = vec![0; len as usize];
            source.read_at(at + 4, &mut name)?;
            let name = name.split(|&b| b == 0).next().unwrap_or_default();
            opened.fact("linked as", String::from_utf8_lossy(name).into_owned());
        }
        match read_array(source.as_ref(), u64::from(headers.security_at) + 0x178) {
            Ok(region) => opened.fact("region", regions(u32::from_be_bytes(region))),
            Err(e) if e.blame() == Blame::Source => opened.notice(format!("its regions cannot be read: {e}")),
            Err(e) => return Err(e),
        }
        let stored = image::stored(&source, &headers)?;
        let closed = if stored.is_encrypted { "encrypted" } else { "not encrypted" };
        opened.fact("program", format!("{closed}, {}", stored.packing.words()));
        match shown(&source, &headers, opener) {
            Ok(Some(shown)) => {
                opened.titled(shown.names.first().map(|(_, name)| name.clone()).unwrap_or_default());
                let titles = shown.names.into_iter().filter_map(|(n, name)| Some((*LANGUAGES.get(n - 1)?, name)));
                let packed = shown.picture.into_iter().map(|p| ("title icon", p)).collect();
                opened.told.label = Some(Label { titles: titles.collect(), packed, ..Label::default() });
            }
            Ok(None) => {}
            Err(e) if e.blame() == Blame::Source => {
                opened.notice(format!("its names and pictures cannot be read: {e}"));
            }
            Err(e) => return Err(e),
        }
        Ok(opened)
    }
}

/// Names and picture of the title, out of the program.
fn shown(source: &SourceRef, headers: &Headers, opener: &Opener<'_>) -> Result<Option<xdbf::Shown>> {
    let (Some(list), Some(own)) = (headers.place(RESOURCES), headers.execution(source.as_ref())?) else {
        return Ok(None);
    };
    let base = match headers.entries.iter().find(|(key, _)| *key == BASE_ADDRESS) {
        Some((_, base)) => *base,
        None => u32::from_be_bytes(read_array(source.as_ref(), u64::from(headers.security_at) + SECURITY_BASE)?),
    };
    let len = u64::from(u32::from_be_bytes(read_array(source.as_ref(), list)?));
    let name = format!("{:08X}", own.title_id);
    for index in 0..len.saturating_sub(4).min(MOST_RESOURCES * RESOURCE) / RESOURCE {
        let raw: [u8; RESOURCE as usize] = read_array(source.as_ref(), list + 4 + index * RESOURCE)?;
        if !raw[..8].eq_ignore_ascii_case(name.as_bytes()) {
            continue;
        }
        let (at, len) = (u64::from(be32(&raw, 8)), u64::from(be32(&raw, 12)));
        let at =
            at.checked_sub(base.into()).ok_or_else(|| Error::malformed(ID, "a resource before the program", list))?;
        let bytes = image::read(source, headers, opener.keys(), at..at + len)?;
        return bytes.map(|bytes| xdbf::read(&(Arc::new(Bytes(bytes)) as SourceRef))).transpose();
    }
    Ok(None)
}

/// The optional headers of a program.
pub struct Headers {
    entries: Vec<(u32, u32)>,
    data_at: u32,
    security_at: u32,
}

/// What a program says of its title and disc.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Execution {
    /// Media id.
    pub media_id: u32,
    /// Version.
    pub version: u32,
    /// Version of what it updates.
    pub base_version: u32,
    /// Title id.
    pub title_id: u32,
    /// Platform, and kind of executable.
    pub platform: [u8; 2],
    /// Disc, and discs of the set.
    pub discs: [u8; 2],
}

impl Headers {
    /// Reads them.
    ///
    /// # Errors
    /// [`Error::Malformed`] for more of them than any program has; what reading fails with.
    pub fn read(source: &dyn Source) -> Result<Self> {
        let head: [u8; 0x18] = read_array(source, 0)?;
        if &head[..4] != b"XEX2" {
            return Err(Error::malformed(ID, "it does not begin with XEX2", 0));
        }
        let count = be32(&head, 0x14);
        if count > MOST_HEADERS {
            return Err(Error::malformed(ID, format!("{count} optional headers"), 0x14));
        }
        let entry = |index: u64| -> Result<(u32, u32)> {
            let raw: [u8; 8] = read_array(source, 0x18 + index * 8)?;
            Ok((be32(&raw, 0), be32(&raw, 4)))
        };
        let entries = (0..count.into()).map(entry).collect::<Result<_>>()?;
        Ok(Self { entries, data_at: be32(&head, 8), security_at: be32(&head, 0x10) })
    }

    /// Where the header with this key stands.
    fn place(&self, key: u32) -> Option<u64> {
        self.entries.iter().find(|(own, _)| *own == key).map(|(_, at)| u64::from(*at))
    }

    /// What it says of its title and disc.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn execution(&self, source: &dyn Source) -> Result<Option<Execution>> {
        let Some(at) = self.place(EXECUTION) else { return Ok(None) };
        let raw: [u8; 0x14] = read_array(source, at)?;
        Ok(Some(Execution {
            media_id: be32(&raw, 0),
            version: be32(&raw, 4),
            base_version: be32(&raw, 8),
            title_id: be32(&raw, 12),
            platform: [raw[16], raw[17]],
            discs: [raw[18], raw[19]],
        }))
    }
}

fn regions(bits: u32) -> String {
    if bits == u32::MAX {
        return "all regions".into();
    }
    let named: Vec<&str> = REGIONS.iter().filter(|(bit, _)| bits & bit != 0).map(|(_, name)| *name).collect();
    named.join(", ")
}
