//! xz: one file, in one stream or several.

use super::{Unpack, hold, measured};
use decanter_core::Result;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array};
use lzma_rust2::XzReader;

const ID: &str = "xz";
/// Memory that unpacking may take, in KiB: `xz -9` asks for a dictionary of half of this.
const MOST_MEMORY_KIB: u32 = (128 << 10) + 1024;

/// The format.
pub struct Xz;

impl Format for Xz {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "xz compressed file"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xz", "txz"]
    }

    fn reads(&self) -> &'static str {
        "one stream or several, with their checks; unpacked once to know that they hold"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"\xfd7zXZ\x00")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 32).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        // The low half of the second byte of the stream's flags: 0 for no check.
        let [_, check]: [u8; 2] = read_array(source.as_ref(), 6)?;
        let inside = measured(ID, &source, check & 15 != 0, UNPACK, opener.watch())?;
        let mut opened = Opened::new(ID, self.name());
        opened.fact("compressed", crate::chunked::ratio(source.len(), inside.len()));
        hold(&mut opened, inside, None, opener)?;
        Ok(opened)
    }
}

const UNPACK: Unpack = |reader| Ok(Box::new(XzReader::new_mem_limit(reader, true, MOST_MEMORY_KIB)));
