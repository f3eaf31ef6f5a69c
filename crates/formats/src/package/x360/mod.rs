//! Content packages of the 360 generation. Layout, checks and what is not sure: docs/formats/content-package.md.

mod compose;
pub mod header;
pub mod kind;
mod raw;
pub mod stfs;
pub mod svod;
mod tell;

pub use compose::{Change, MOST_PICTURE, Making};

use decanter_core::Result;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array};
use header::Header;

const ID: &str = "stfs";
const ID_DISC: &str = "god";
/// Where the kind of volume stands.
const VOLUME_AT: u64 = 0x3a9;

const MARKS: [Mark; 3] = [Mark::first(b"CON "), Mark::first(b"LIVE"), Mark::first(b"PIRS")];

/// A package with files.
pub struct Stfs;
/// The one instance.
pub static FILES: Stfs = Stfs;

/// A package with a disc.
pub struct Svod;
/// The one instance.
pub static DISC: Svod = Svod;

/// How sure a head is one of a package with this kind of volume.
fn score(head: &Head<'_>, volume: u32) -> Result<Option<u8>> {
    if head.len() < header::LEAST {
        return Ok(None);
    }
    let kind: [u8; 4] = read_array(head, VOLUME_AT)?;
    Ok((u32::from_be_bytes(kind) == volume).then_some(90))
}

fn opened(id: &'static str, source: &SourceRef) -> Result<(Opened, Header)> {
    let header = Header::read(source.as_ref())?;
    let mut opened = Opened::new(id, tell::kind(&header));
    tell::tell(&mut opened, &header, source)?;
    Ok((opened, header))
}

impl Format for Stfs {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Xbox 360 package"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["stfs"]
    }

    fn reads(&self) -> &'static str {
        "headers, titles in 12 languages, pictures; files, both copies of the hash tables, every block's hash"
    }

    fn least_len(&self) -> u64 {
        header::LEAST
    }

    fn marks(&self) -> &'static [Mark] {
        &MARKS
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        score(head, 0)
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let (mut opened, header) = opened(ID, &source)?;
        stfs::open(&mut opened, &header, &source, opener)?;
        Ok(opened)
    }
}

impl Format for Svod {
    fn id(&self) -> &'static str {
        ID_DISC
    }

    fn name(&self) -> &'static str {
        "Xbox 360 package with a disc"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["god"]
    }

    fn reads(&self) -> &'static str {
        "headers, titles in 12 languages, pictures; the disc in the data files beside it, every block's hash"
    }

    fn least_len(&self) -> u64 {
        header::LEAST
    }

    fn marks(&self) -> &'static [Mark] {
        &MARKS
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        score(head, 1)
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let (mut opened, header) = opened(ID_DISC, &source)?;
        svod::open(&mut opened, &header, &source, opener)?;
        Ok(opened)
    }
}
