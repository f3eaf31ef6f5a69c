//! gz (RFC 1952): one file, deflated, in one member or several.

use super::{Unpack, hold, measured};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Reader, Source, SourceRef};
use decanter_core::{Result, native};
use flate2::bufread::GzDecoder;
use std::io::{self, BufRead, BufReader, Read};

const ID: &str = "gz";
const MAGIC: [u8; 3] = [0x1f, 0x8b, 8];

/// The format.
pub struct Gz;

impl Format for Gz {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "gz compressed file"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["gz", "tgz"]
    }

    fn reads(&self) -> &'static str {
        "one member or several; unpacked once to know how long it is"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 18).then_some(80))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let header = GzDecoder::new(BufReader::new(Reader::new(source.clone(), 0)));
        let carried = header.header().and_then(|h| h.filename()).map(native::of_bytes);
        // A path of the machine where it was packed means nothing here.
        let carried =
            carried.map(|name| decanter_core::catalogue::last_name(&name).to_owned()).filter(|n| !n.is_empty());
        let inside = measured(ID, &source, true, UNPACK, opener.watch())?;
        let mut opened = Opened::new(ID, self.name());
        opened.fact("compressed", crate::chunked::ratio(source.len(), inside.len()));
        hold(&mut opened, inside, carried, opener)?;
        Ok(opened)
    }
}

const UNPACK: Unpack = |reader| Ok(Box::new(Members { decoder: Some(GzDecoder::new(BufReader::new(reader))) }));

/// Members one after the other, until the file ends or nothing but zeros follows.
struct Members {
    decoder: Option<GzDecoder<BufReader<Reader>>>,
}

impl Read for Members {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        while let Some(decoder) = &mut self.decoder {
            let read = decoder.read(buf)?;
            if read > 0 || buf.is_empty() {
                return Ok(read);
            }
            let Some(decoder) = self.decoder.take() else { break };
            self.decoder = next(decoder.into_inner())?;
        }
        Ok(0)
    }
}

/// The member that follows, if one does.
fn next(mut rest: BufReader<Reader>) -> io::Result<Option<GzDecoder<BufReader<Reader>>>> {
    match rest.fill_buf()?.first() {
        None => return Ok(None),
        Some(0) => {}
        Some(_) => return Ok(Some(GzDecoder::new(rest))),
    }
    loop {
        let filler = rest.fill_buf()?;
        if filler.iter().any(|byte| *byte != 0) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "something follows the last member"));
        }
        match filler.len() {
            0 => return Ok(None),
            len => rest.consume(len),
        }
    }
}
