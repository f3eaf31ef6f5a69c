//! bz2: one file, in one stream or several.

use super::{Unpack, hold, measured};
use bzip2::bufread::MultiBzDecoder;
use decanter_core::Result;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef};
use std::io::BufReader;

const ID: &str = "bz2";
/// What the first block begins with, and what stands there if there is none.
const BLOCK: [u8; 6] = [0x31, 0x41, 0x59, 0x26, 0x53, 0x59];
const EMPTY: [u8; 6] = [0x17, 0x72, 0x45, 0x38, 0x50, 0x90];

/// The format.
pub struct Bz2;

impl Format for Bz2 {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "bz2 compressed file"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["bz2", "tbz2"]
    }

    fn reads(&self) -> &'static str {
        "one stream or several; unpacked once to know how long it is"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"BZh")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.len() < 14 {
            return Ok(None);
        }
        let mut head = [0; 10];
        source.read_at(0, &mut head)?;
        let is_one = (b'1'..=b'9').contains(&head[3]) && (head[4..] == BLOCK || head[4..] == EMPTY);
        Ok(is_one.then_some(85))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let inside = measured(ID, &source, true, UNPACK, opener.watch())?;
        let mut opened = Opened::new(ID, self.name());
        opened.fact("compressed", crate::chunked::ratio(source.len(), inside.len()));
        hold(&mut opened, inside, None, opener)?;
        Ok(opened)
    }
}

const UNPACK: Unpack = |reader| Ok(Box::new(MultiBzDecoder::new(BufReader::new(reader))));
