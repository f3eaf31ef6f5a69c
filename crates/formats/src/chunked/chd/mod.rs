//! CHD images: hunks, each packed by the codec that suits it, with a map, digests and metadata about the medium.
//!
//! All numbers are big-endian. Layout, checks and what is not sure: docs/formats/chd.md.

mod bits;
mod cd;
mod codec;
mod compose;
mod flac;
mod header;
mod huffman;
mod hunks;
mod map;
mod noise;
mod view;

pub use codec::Codec;
pub use compose::{LEVEL, Medium, Wish, compose, geometry};

use decanter_core::digest::{Algorithm, Digest, hex};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::seal::{Expected, Seal, Sealed, Settled};
use decanter_core::source::{Source, SourceRef};
use decanter_core::{Error, Result};
use header::{Entry, Header};
use hunks::Hunks;
use map::Map;
use std::sync::Arc;
use view::View;

const ID: &str = "chd";
/// Differences to differences: how deep they may stand.
const MOST_PARENTS: usize = 8;

/// The format.
pub struct Chd;

impl Format for Chd {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "CHD compressed image"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["chd"]
    }

    fn reads(&self) -> &'static str {
        "versions 3 to 5: hard disks, CDs, DVDs; zlib, lzma, huff, flac, zstd; differences to a parent beside it"
    }

    fn least_len(&self) -> u64 {
        header::LEN_5
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(header::MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 16).then_some(95))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let image = Image::open(source.clone(), opener, 0)?;
        let header = &image.header;
        let mut opened = Opened::new(ID, self.name());
        opened.holds.has_own_names = false;
        let ratio = crate::chunked::ratio(source.len(), header.logical_len);
        opened.fact("compressed", format!("{ratio}, in hunks of {}", header.hunk_len));
        let codecs: Vec<String> = header.codecs.iter().filter(|t| t.0 != [0; 4]).map(ToString::to_string).collect();
        opened.fact("codecs", if codecs.is_empty() { "none".into() } else { codecs.join(", ") });
        if let Some(parent) = &header.parent {
            opened.fact("parent", format!("SHA-1 {}", hex(parent)));
        }
        for entry in &image.metadata {
            match &entry.tag.0 {
                b"GDDD" => opened.fact("geometry", entry.as_text()),
                b"CHT2" | b"CHTR" | b"CHGD" | b"CHGT" | b"CHCD" | b"DVD " => {}
                _ if entry.data.len() <= 200 && entry.as_text().chars().all(|c| !c.is_control()) => {
                    opened.fact("metadata", format!("{}: {}", entry.tag, entry.as_text()));
                }
                _ => opened.fact("metadata", format!("{}: {} bytes", entry.tag, entry.data.len())),
            }
        }
        opened.told.parameters = image.metadata.iter().map(|e| (e.tag.to_string(), e.as_text())).collect();
        seal(&mut opened, &image);
        let view: SourceRef = image.view;
        let described = cd::all_described(&image.metadata)?;
        if described.is_empty() {
            let is_disc = image.metadata.iter().any(|e| e.tag.0 == *b"DVD ");
            let stem = opener.names().first().cloned().unwrap_or_else(|| "image".into());
            let name = format!("{stem}.{}", if is_disc { "iso" } else { "img" });
            super::container(&mut opened, view, Some(name), opener);
        } else {
            opened.holds.tracks = cd::tracks(&described, &view)?;
            crate::optical::cd::describe(&mut opened, opener)?;
        }
        Ok(opened)
    }
}

/// The digests that it carries.
fn seal(opened: &mut Opened, image: &Image) {
    let header = &image.header;
    if header.version >= 4 {
        let holds = header::overall(&header.raw_sha1, &image.metadata) == header.sha1;
        let name = "overall SHA-1, of the image's and the metadata";
        opened.proof.settled.push(match holds {
            true => Settled::holds(name),
            false => {
                Settled::fails(name, "it does not follow from them", "header or metadata are damaged or were edited")
            }
        });
    }
    let view = image.view.clone();
    let bytes = header.raw_sha1.to_vec();
    if bytes.iter().all(|b| *b == 0) {
        opened.notice(
            "it carries no SHA-1 of the image: it was written to by an emulator, and only its hunks can be checked",
        );
        opened.proof.inspections.push(Arc::new(move |watch| {
            let damaged = view.damaged_hunks(watch)?;
            Ok(vec![Settled::of("CRCs of the hunks", &damaged, "the image is damaged there").by_digests()])
        }));
        return;
    }
    opened.proof.sealed.push(Sealed {
        name: "image inside".into(),
        source: image.view.clone(),
        transform: None,
        locked: Vec::new(),
        trouble: None,
        seals: vec![Seal {
            name: "SHA-1 of all its bytes".into(),
            range: 0..header.logical_len,
            of_plaintext: false,
            expected: Expected::Digest(Digest { algorithm: Algorithm::Sha1, bytes }),
            matters: "the image is damaged: what loads it reads wrong bytes",
            inside: None,
        }],
        examine: Some(Arc::new(move |watch| view.damaged_hunks(watch))),
    });
}

/// An image with everything that is needed to read it.
struct Image {
    header: Header,
    metadata: Vec<Entry>,
    view: Arc<View>,
}

impl Image {
    fn open(source: SourceRef, opener: &Opener<'_>, depth: usize) -> Result<Self> {
        let header = Header::read(source.as_ref())?;
        let map = Map::read(source.as_ref(), &header)?;
        let metadata = header::metadata(source.as_ref(), header.meta_offset)?;
        let parent = match &header.parent {
            Some(wanted) => Some(parent(wanted, opener, depth)?),
            None => None,
        };
        let view = Arc::new(View::new(Hunks::new(source, header.clone(), map, parent)));
        Ok(Self { header, metadata, view })
    }
}

/// The image that a difference is to: the one beside it with that SHA-1.
fn parent(wanted: &[u8; 20], opener: &Opener<'_>, depth: usize) -> Result<SourceRef> {
    let names = opener.beside().named("chd");
    if depth < MOST_PARENTS {
        for name in &names {
            let Some((_, source)) = opener.beside().find(name)? else { continue };
            if Header::read(source.as_ref()).is_ok_and(|h| h.sha1 == *wanted) {
                return Ok(Image::open(source, opener, depth + 1)?.view);
            }
        }
    }
    let looked = if names.len() > 1 {
        format!("none of the {} beside it is that one", names.len())
    } else {
        "it is not beside it".into()
    };
    Err(Error::Unreadable {
        why: format!(
            "it is only the difference to another CHD, with SHA-1 {}, and {looked}; put that one into the same folder",
            hex(wanted)
        ),
    })
}

/// The overall SHA-1 that an image carries in its header, of its bytes and metadata; `None` if it carries none.
///
/// # Errors
/// As reading the header.
pub fn own_sha1(source: &dyn Source) -> Result<Option<[u8; 20]>> {
    let sha1 = Header::read(source)?.sha1;
    Ok(Some(sha1).filter(|s| s.iter().any(|b| *b != 0)))
}

/// The overall SHA-1 of an image, and its bytes: what a difference to it needs.
///
/// # Errors
/// As opening it.
pub fn as_parent(source: SourceRef, opener: &Opener<'_>) -> Result<([u8; 20], SourceRef)> {
    let image = Image::open(source, opener, 0)?;
    Ok((image.header.sha1, image.view))
}
