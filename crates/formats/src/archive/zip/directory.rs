//! The central directory (APPNOTE 4.3.12 to 4.3.16): read as it stands, so that bytes before the archive, padding and
//! two entries of one name are what they are.

use super::ID;
use super::raw::{Central, End, End64, Locator64};
use crate::num::{le16, le32, le64};
use crate::raw::read_at;
use decanter_core::source::{Source, read_array, read_vec};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use zerocopy::FromBytes;

/// Signatures: a file in the directory, the end, the end of zip64 and its locator.
const FILE: [u8; 4] = *b"PK\x01\x02";
const END: [u8; 4] = *b"PK\x05\x06";
const END_64: [u8; 4] = *b"PK\x06\x06";
const LOCATOR_64: [u8; 4] = *b"PK\x06\x07";
/// Bytes of the end record without its comment, and of the longest comment.
const END_LEN: u64 = size_of::<End>() as u64;
const MOST_COMMENT: u64 = 0xffff;
/// Bytes of a directory.
const MOST_DIRECTORY: u64 = 1 << 30;

/// An entry as the directory describes it.
#[derive(Debug, Clone)]
pub(super) struct Record {
    pub name: String,
    pub flags: u16,
    pub method: u16,
    pub time: u16,
    pub date: u16,
    pub crc: u32,
    pub packed_len: u64,
    pub len: u64,
    /// Where the local header begins.
    pub header_at: u64,
    /// Where it was made, and its attributes there.
    pub made_by: u8,
    pub attributes: u32,
}

/// All entries, and the number of bytes before the archive.
#[derive(Debug)]
pub(super) struct Directory {
    pub records: Vec<Record>,
    pub before: u64,
    /// Where the directory begins.
    pub begin: u64,
    /// What the directory says that is not so.
    pub faults: Vec<String>,
}

/// Whether what ends there may be an archive.
///
/// # Errors
/// What reading fails with.
pub(super) fn has_end(source: &dyn Source) -> Result<bool> {
    Ok(find_end(source)?.is_some())
}

/// The last end record whose comment ends where the file does; else the last one at all.
fn find_end(source: &dyn Source) -> Result<Option<(u64, End)>> {
    let from = source.len().saturating_sub(END_LEN + MOST_COMMENT);
    let tail = read_vec(source, from, source.len() - from, "the end of an archive", END_LEN + MOST_COMMENT)?;
    let mut last = None;
    for at in memchr::memmem::rfind_iter(&tail, &END) {
        let Ok((end, comment)) = End::read_from_prefix(&tail[at..]) else { continue };
        let found = (from + at as u64, end);
        if comment.len() == usize::from(end.comment_len.get()) {
            return Ok(Some(found));
        }
        last = last.or(Some(found));
    }
    // Padding behind the archive.
    Ok(last)
}

impl Directory {
    /// Reads the directory.
    ///
    /// # Errors
    /// [`Error::Malformed`] when there is none, or it does not fit its end record.
    pub(super) fn read(source: &dyn Source, watch: &dyn Watch) -> Result<Self> {
        let malformed = |what: &str, at: u64| Error::malformed(ID, what.to_owned(), at);
        let Some((end_at, end)) = find_end(source)? else {
            return Err(malformed("the central directory is cut short: there is no end record", source.len()));
        };
        let mut count = u64::from(end.entries.get());
        let (mut size, mut offset) = (u64::from(end.directory_len.get()), u64::from(end.directory_at.get()));
        if end.disk != end.directory_disk || !matches!(end.disk.get(), 0 | 0xffff) {
            return Err(Error::unsupported(ID, "an archive in several parts"));
        }
        // What stands right before the end record of the kind that counts.
        let mut directory_end = end_at;
        if let Some(locator_at) = end_at.checked_sub(size_of::<Locator64>() as u64)
            && let locator = read_at::<Locator64>(source, locator_at)?
            && locator.signature == LOCATOR_64
        {
            let (at, record) = end_64(source, locator.end_at.get(), locator_at)?;
            count = record.entries.get();
            (size, offset) = (record.directory_len.get(), record.directory_at.get());
            directory_end = at;
        }
        let begin = directory_end
            .checked_sub(size)
            .ok_or_else(|| malformed("a central directory longer than what stands before its end", end_at))?;
        // Bytes before the archive shift everything that its offsets say.
        let (begin, before) = match begin.checked_sub(offset) {
            Some(before) => (begin, before),
            None if offset < directory_end => (offset, 0),
            None => return Err(malformed("a central directory that begins behind its end", end_at)),
        };
        let (begin, before) = match (is_record(source, begin)?, is_record(source, offset)?) {
            (false, true) if count > 0 => (offset, 0),
            _ => (begin, before),
        };
        let bytes = read_vec(source, begin, directory_end - begin, "a central directory", MOST_DIRECTORY)?;
        let mut directory = Self { records: Vec::new(), before, begin, faults: Vec::new() };
        let mut at = 0;
        while bytes.get(at..at + 4) == Some(&FILE) {
            if directory.records.len().is_multiple_of(4096) {
                watch::check(watch)?;
            }
            let cut = || malformed("the central directory is cut short", begin + at as u64);
            let (record, len) = Record::parse(&bytes[at..], before).ok_or_else(cut)?;
            directory.records.push(record);
            at += len;
        }
        let found = directory.records.len() as u64;
        // The number has 16 bits where there is no zip64 record.
        if found != count && found & 0xffff != count {
            let text = format!("the central directory has {found} entries, its end record says {count}");
            if found < count {
                return Err(Error::malformed(ID, text, begin + at as u64));
            }
            directory.faults.push(text);
        }
        Ok(directory)
    }
}

fn is_record(source: &dyn Source, at: u64) -> Result<bool> {
    Ok(at.checked_add(4).is_some_and(|end| end <= source.len()) && read_array::<4>(source, at)? == FILE)
}

/// The end record of zip64: where the locator says, or, with bytes before the archive, right before the locator.
fn end_64(source: &dyn Source, said: u64, locator_at: u64) -> Result<(u64, End64)> {
    const LEN: u64 = size_of::<End64>() as u64;
    for at in [Some(said), locator_at.checked_sub(LEN)].into_iter().flatten() {
        if at.checked_add(LEN).is_some_and(|end| end <= locator_at) {
            let record: End64 = read_at(source, at)?;
            if record.signature == END_64 {
                return Ok((at, record));
            }
        }
    }
    Err(Error::malformed(ID, "the end record of zip64 is not where its locator says", locator_at))
}

impl Record {
    /// The record at the beginning of `bytes`, and its length.
    fn parse(bytes: &[u8], before: u64) -> Option<(Self, usize)> {
        let (head, rest) = Central::ref_from_prefix(bytes).ok()?;
        let [name_len, extra_len, comment_len] =
            [head.name_len, head.extra_len, head.comment_len].map(|len| usize::from(len.get()));
        let (name, rest) = rest.split_at_checked(name_len)?;
        let extra = rest.get(..extra_len)?;
        let flags = head.flags.get();
        let mut record = Self {
            name: text(name, flags),
            flags,
            method: head.method.get(),
            time: head.time.get(),
            date: head.date.get(),
            crc: head.crc.get(),
            packed_len: head.packed_len.get().into(),
            len: head.len.get().into(),
            header_at: head.header_at.get().into(),
            made_by: head.made_by,
            attributes: head.attributes.get(),
        };
        record.extras(extra, name);
        record.header_at = record.header_at.checked_add(before)?;
        Some((record, size_of::<Central>() + name_len + extra_len + comment_len))
    }

    fn extras(&mut self, mut extra: &[u8], raw_name: &[u8]) {
        while extra.len() >= 4 {
            let (kind, len) = (le16(extra, 0), usize::from(le16(extra, 2)));
            let Some(body) = extra.get(4..4 + len) else { return };
            match kind {
                // Zip64: only what did not fit, in this order.
                1 => {
                    let mut words = body.chunks_exact(8).map(|w| le64(w, 0));
                    for field in [&mut self.len, &mut self.packed_len, &mut self.header_at] {
                        if *field == u64::from(u32::MAX)
                            && let Some(value) = words.next()
                        {
                            *field = value;
                        }
                    }
                }
                // The name in UTF-8, if it is that of the name in the header.
                0x7075 if body.len() >= 5 && le32(body, 1) == crc32fast::hash(raw_name) => {
                    if let Ok(name) = std::str::from_utf8(&body[5..]) {
                        self.name = name.to_owned();
                    }
                }
                _ => {}
            }
            extra = &extra[4 + len..];
        }
    }

    /// Whether it is a folder.
    pub(super) fn is_folder(&self) -> bool {
        self.name.ends_with('/') || (self.name.ends_with('\\') && self.len == 0)
    }

    /// Whether it is a symbolic link, as Unix has them.
    pub(super) fn is_link(&self) -> bool {
        matches!(self.made_by, 3 | 19) && self.attributes >> 28 == 0xa
    }
}

/// A name: UTF-8 where the flag says so or it is UTF-8, else code page 437.
fn text(bytes: &[u8], flags: u16) -> String {
    match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(_) if flags & 0x800 != 0 => String::from_utf8_lossy(bytes).into_owned(),
        Err(_) => crate::codepage::text(bytes),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_text_in_either_way() {
        assert_eq!(text(b"S\x84ge\xe1", 0), "Sägeß");
        assert_eq!(text("Säge".as_bytes(), 0), "Säge");
    }
}
