//! Reading of VCDIFF patches: where each window stands, and what it copies from. RFC 3284, section 4.

use super::code::{ID, MAGIC, Table, number};
use super::turn::Turned;
use super::window::{Segment, Shared, Window};
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// The longest stretch that one window makes: it is held in memory.
const MOST_WINDOW: u64 = 64 << 20;
/// Windows of a patch, at most.
const MOST_WINDOWS: usize = 1 << 22;
/// Bytes of the numbers in front of a window, at most.
const MOST_HEAD: u64 = 96;

/// Numbers out of the patch, one after the other.
struct Reader<'a> {
    source: &'a SourceRef,
    at: u64,
}

impl Reader<'_> {
    fn byte(&mut self) -> Result<u8> {
        let mut byte = [0];
        self.bytes(&mut byte)?;
        Ok(byte[0])
    }

    fn bytes(&mut self, buf: &mut [u8]) -> Result<()> {
        if self.source.len() - self.at < buf.len() as u64 {
            return Err(Error::malformed(ID, "the patch is cut short", self.at));
        }
        self.source.read_at(self.at, buf)?;
        self.at += buf.len() as u64;
        Ok(())
    }

    fn number(&mut self) -> Result<u64> {
        let mut bytes = vec![0; MOST_HEAD.min(self.source.len() - self.at).min(10) as usize];
        self.source.read_at(self.at, &mut bytes)?;
        let mut at = 0;
        // Where it stands in the patch is what helps, not where it stands in these few bytes.
        let value = number(&bytes, &mut at).map_err(|_| Error::malformed(ID, "a number that has no end", self.at))?;
        self.at += at as u64;
        Ok(value)
    }

    /// The range of the next `len` bytes, which are passed over.
    fn pass(&mut self, len: u64, what: &'static str) -> Result<Range<u64>> {
        let end = self.at.checked_add(len).filter(|end| *end <= self.source.len());
        let end = end.ok_or_else(|| Error::malformed(ID, what, self.at))?;
        Ok(std::mem::replace(&mut self.at, end)..end)
    }
}

pub(super) fn parse(patch: SourceRef, depth: usize) -> Result<Shared> {
    let mut reader = Reader { source: &patch, at: 0 };
    let mut magic = [0; 4];
    reader.bytes(&mut magic)?;
    if magic != MAGIC {
        return Err(Error::malformed(ID, "no mark of the format", 0));
    }
    let start = reader.at;
    let indicator = reader.byte()?;
    if indicator & !7 != 0 {
        return Err(Error::malformed(ID, "an indicator with bits that mean nothing", start));
    }
    if indicator & 1 != 0 {
        let what = format!("a secondary compressor (number {}): the standard defines none, and it", reader.byte()?);
        return Err(Error::unsupported(ID, what));
    }
    let table = match indicator & 2 != 0 {
        false => Table::standard(),
        true => own_table(&mut reader, depth)?,
    };
    if indicator & 4 != 0 {
        let len = reader.number()?;
        reader.pass(len, "text of an application that is cut short")?;
    }
    let (mut windows, mut made) = (Vec::new(), 0);
    while reader.at < patch.len() {
        if windows.len() >= MOST_WINDOWS {
            let limit = MOST_WINDOWS as u64;
            return Err(Error::Limit { what: "the number of windows", asked: limit + 1, limit });
        }
        let window = window(&mut reader, made)?;
        made = window.makes.end;
        windows.push(window);
    }
    Ok(Shared { patch, windows, table })
}

/// A code table of the patch's own, which is a patch of the default one.
fn own_table(reader: &mut Reader<'_>, depth: usize) -> Result<Table> {
    let start = reader.at;
    let len = reader.number()?;
    let all = reader.pass(len, "a code table that is cut short")?;
    if len < 2 || depth > 0 {
        return Err(Error::malformed(ID, "a code table that makes no sense", start));
    }
    let bytes = read_vec(reader.source.as_ref(), all.start, len, "a code table", 1 << 16)?;
    let inner = parse(Arc::new(Bytes(bytes[2..].to_vec())), depth + 1)?;
    let standard: SourceRef = Arc::new(Bytes(Table::standard().bytes()));
    let made: SourceRef = Arc::new(Turned::new(standard, Arc::new(inner)));
    let table = read_vec(made.as_ref(), 0, made.len(), "a code table", 1536)?;
    Table::of(&table, bytes[0].into(), bytes[1].into())
}

fn window(reader: &mut Reader<'_>, made: u64) -> Result<Window> {
    let start = reader.at;
    let wrong = |what: &'static str| Error::malformed(ID, what, start);
    let indicator = reader.byte()?;
    let segment = match indicator & 3 {
        0 => Segment::None,
        3 => return Err(wrong("a window that copies out of both files")),
        from => {
            let (len, at) = (reader.number()?, reader.number()?);
            let end = at.checked_add(len).ok_or_else(|| wrong("a segment that lies beyond any file"))?;
            match from {
                1 => Segment::Before(at..end),
                _ if end > made => return Err(wrong("a segment of what is not made yet")),
                _ => Segment::After(at..end),
            }
        }
    };
    if indicator & !7 != 0 {
        return Err(wrong("a window with an indicator that means nothing"));
    }
    let len = reader.number()?;
    let begin = reader.at;
    let makes = reader.number()?;
    if makes > MOST_WINDOW {
        return Err(Error::Limit { what: "what one window makes", asked: makes, limit: MOST_WINDOW });
    }
    let end = made.checked_add(makes).ok_or_else(|| wrong("a file after that is longer than any"))?;
    if reader.byte()? != 0 {
        return Err(Error::unsupported(ID, "parts of windows that are compressed once more"));
    }
    let lens = [reader.number()?, reader.number()?, reader.number()?];
    let adler32 = match indicator & 4 != 0 {
        false => None,
        true => {
            let mut bytes = [0; 4];
            reader.bytes(&mut bytes)?;
            Some(u32::from_be_bytes(bytes))
        }
    };
    let cut = "a window that is cut short";
    let data = reader.pass(lens[0], cut)?;
    let instructions = reader.pass(lens[1], cut)?;
    let addresses = reader.pass(lens[2], cut)?;
    if reader.at - begin != len {
        return Err(wrong("a window whose parts are not as long as it"));
    }
    Ok(Window { segment, makes: made..end, data, instructions, addresses, adler32 })
}
