//! Zip archives (APPNOTE 6.3.10): stored and deflated entries, zip64, names in UTF-8 or code page 437.
//!
//! The central directory is read by the `zip` crate. The entries' bytes are views of our own, because an image
//! inside has to be readable at any offset without unpacking it. Layout and limits: docs/formats/zip.md.

mod entry;
mod inflate;

pub use inflate::Inflate;

use decanter_core::format::{Context, Format, Opened};
use decanter_core::source::{Reader, Source, SourceRef, read_array};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::view::Checked;
use decanter_core::{Error, Result};
use entry::{Entry, Method};
use std::io::BufReader;
use std::sync::Arc;
use zip::result::ZipError;
use zip::{CompressionMethod, ZipArchive};

const ID: &str = "zip";
/// Signature of a local file header (APPNOTE 4.3.7).
const LOCAL: [u8; 4] = *b"PK\x03\x04";
/// Signature of the end of central directory record, with which an empty archive begins (APPNOTE 4.3.16).
const END: [u8; 4] = *b"PK\x05\x06";

/// The format.
pub struct Zip;

impl Format for Zip {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "zip archive"
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["zip"]
    }

    fn reads(&self) -> &'static str {
        "stored and deflated entries, zip64; an image inside is read in place"
    }

    fn is_archive(&self) -> bool {
        true
    }

    fn score(&self, source: &dyn Source) -> Result<Option<u8>> {
        if source.len() < 22 {
            return Ok(None);
        }
        let magic: [u8; 4] = read_array(source, 0)?;
        Ok((magic == LOCAL || magic == END).then_some(80))
    }

    fn open(&self, source: SourceRef, _context: &Context<'_>) -> Result<Opened> {
        let len = source.len();
        let reader = BufReader::with_capacity(64 << 10, Reader::new(source.clone(), 0));
        let archive = ZipArchive::new(reader).map_err(|e| told(e, len))?;
        let mut opened = Opened::new(ID, "zip archive");
        let mut tree = Tree::default();
        let mut locked = 0;
        let mut starts = Vec::with_capacity(archive.len());
        for index in 0..archive.len() {
            let entry = archive.by_index_data(index).map_err(|e| told(e, archive.central_directory_start()))?;
            let name = match entry.name() {
                Ok(name) => name.into_owned(),
                Err(_) => String::from_utf8_lossy(entry.name_raw()).into_owned(),
            };
            let path = name.trim_matches('/').to_owned();
            let modified = entry.last_modified().map(|t| {
                let date = (i64::from(t.year()), t.month(), t.day());
                crate::time::seconds(date, (t.hour(), t.minute(), t.second()))
            });
            let kind = if entry.is_dir() {
                Kind::Folder
            } else {
                starts.push((entry.header_start(), entry.compressed_size()));
                locked += usize::from(entry.encrypted());
                let method = match entry.compression() {
                    _ if entry.encrypted() => Err("is encrypted, which is not supported".to_owned()),
                    CompressionMethod::STORE => Ok(Method::Stored),
                    CompressionMethod::DEFLATE => Ok(Method::Deflated),
                    other => Err(format!("is compressed by a method that is not supported ({other})")),
                };
                let content = match method {
                    Ok(method) => {
                        let view = Entry::new(
                            source.clone(),
                            entry.header_start(),
                            entry.compressed_size(),
                            entry.size(),
                            method,
                        );
                        let checked = Checked::new(Arc::new(view), entry.crc32(), format!("the entry \"{name}\""));
                        Content::Whole(Arc::new(checked))
                    }
                    Err(why) => Content::Broken(format!("the entry \"{name}\" {why}")),
                };
                Kind::File(File { len: entry.size(), spans: Vec::new(), content })
            };
            tree.nodes.push(Node::new(path, kind, modified));
        }
        note_overlaps(&mut opened, starts);
        if locked > 0 {
            opened.notice(format!("{locked} entries are encrypted; unpack them with their password first"));
        }
        if archive.has_duplicate_names() {
            opened.notice("some entries have the same name; only the last of each is listed");
        }
        opened.fact("entries", tree.nodes.len().to_string());
        opened.tree = Some(tree);
        Ok(opened)
    }
}

/// Entries that share bytes are how a small archive claims to hold a huge amount of data.
fn note_overlaps(opened: &mut Opened, mut starts: Vec<(u64, u64)>) {
    starts.sort_unstable();
    for pair in starts.windows(2) {
        if pair[0].0 + entry::HEADER_LEN > pair[1].0 || pair[0].0 + pair[0].1 > pair[1].0 {
            opened.notice(format!("entries overlap at offset {:#x}", pair[1].0));
            return;
        }
    }
}

/// The zip crate's error as one of ours; `offset` is where the structure that was being read stands.
fn told(error: ZipError, offset: u64) -> Error {
    match error {
        ZipError::Io(source) if source.kind() == std::io::ErrorKind::UnexpectedEof => {
            Error::malformed(ID, "the central directory is cut short", offset)
        }
        ZipError::Io(source) => match source.downcast::<Error>() {
            Ok(own) => own,
            Err(source) => Error::Io { op: "read", path: None, offset: None, source },
        },
        ZipError::UnsupportedArchive(what) => Error::unsupported(ID, what),
        other => Error::malformed(ID, format!("the central directory cannot be read ({other})"), offset),
    }
}
