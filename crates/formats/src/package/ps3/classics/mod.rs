//! Encrypted images of PS2 discs. Layout, checks and what is not sure: docs/formats/ps2-classics.md.

pub mod card;
mod compose;
pub mod header;
pub mod limg;
pub mod lock;
mod view;

pub use compose::{compose, source};

use crate::chunked;
use crate::package;
use crate::package::ps3::keys::Console;
use crate::package::ps3::licence;
use decanter_core::Result;
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef};
use decanter_core::tell::grouped;
use decanter_core::view::Slice;
use header::{Hashes, Header, SEGMENT};
use std::sync::Arc;
use view::{Segments, View};

pub(crate) const ID: &str = "ps2-classics";

/// The format.
pub struct Classics;
/// The one instance.
pub static IMAGE: Classics = Classics;

impl Format for Classics {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PS2 classics image"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["bin.enc", "enc"]
    }

    fn reads(&self) -> &'static str {
        "the image inside, with its licence key; every segment is held against its SHA-1"
    }

    fn least_len(&self) -> u64 {
        SEGMENT
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&header::MAGIC)] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        Ok((head.len() >= SEGMENT).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let header = Header::read(source.as_ref())?;
        let mut opened = Opened::new(ID, self.name());
        opened.holds.has_own_names = false;
        opened.fact("content id", header.content_id.clone());
        opened.fact("image", format!("{} bytes", grouped(header.image_len)));
        opened.fact("licence", licence::kind(header.license));
        let len = header.file_len();
        opened.extent.promised_len = Some(len);
        opened.extent.regions.push(Region { range: SEGMENT..len, encrypted: true });
        package::cut_short(&mut opened, &source, len);
        package::trailing(&mut opened, &source, len);
        let mut clear = None;
        let key = match lock::find(&source, &header, opener)? {
            Ok(found) => {
                if let Some(console) = found.console {
                    let words = match console {
                        Console::Consumer => "consoles that are sold",
                        Console::Debug => "consoles of developers",
                    };
                    opened.fact("for", words);
                }
                if let Some(licence) = &found.licence {
                    for (name, holds) in header.held(&Hashes::of(opener.keys(), licence))? {
                        let settled = match holds {
                            true => Settled::holds(name),
                            false => Settled::fails(name, "it is another one", "a console refuses to play it"),
                        };
                        opened.proof.settled.push(settled.by_digests());
                    }
                }
                let has_data = found.lock.data.is_some();
                let segments = Arc::new(Segments::new(source, &header, found.lock));
                opened.proof.on_reading.push(check(&segments));
                if has_data {
                    let image: SourceRef = Arc::new(View::new(segments));
                    let (name, disc) = inside(image, opener)?;
                    clear = Some(Blueprint::of(disc.clone()));
                    chunked::container(&mut opened, disc, Some(name), opener);
                }
                let proof = (has_data && header.image_len > 0).then(|| "the SHA-1 of its first segment".to_owned());
                match found.origin {
                    Some(origin) => KeyState::Found { origin, proof },
                    None => KeyState::Trouble(lock::missing(&header, opener)),
                }
            }
            Err(trouble) => KeyState::Trouble(trouble),
        };
        opened.protection = Some(Protection {
            state: State::Encrypted,
            evidence: "its header says so".into(),
            key,
            unseal: None,
            seal: None,
            has_clear_form: true,
            clear,
            clear_as_it_is: None,
        });
        Ok(opened)
    }
}

/// The disc in an image, and what it is called: by the sectors that it says it has.
fn inside(image: SourceRef, opener: &Opener<'_>) -> Result<(String, SourceRef)> {
    let told = match limg::read(image.as_ref()) {
        Ok(told) => told,
        // A damaged end is told where it is read.
        Err(e) if e.blame() == Blame::Source => None,
        Err(e) => return Err(e),
    };
    let stem = opener.names().first().map_or("image", String::as_str);
    let stem = stem.strip_suffix(".bin").or(stem.strip_suffix(".BIN")).unwrap_or(stem);
    let extension = if told.is_some_and(|t| t.kind.sector != decanter_core::SECTOR as u32) { "bin" } else { "iso" };
    let disc = match told.and_then(|t| t.before) {
        Some(before) => Arc::new(Slice::new(image, 0, before)?),
        None => image,
    };
    Ok((format!("{stem}.{extension}"), disc))
}

/// The check of all segments.
fn check(segments: &Arc<Segments>) -> decanter_core::opened::Inspect {
    let segments = segments.clone();
    Arc::new(move |watch| {
        let damaged = segments.damaged(watch)?;
        let name = "SHA-1 of every segment";
        Ok(vec![
            Settled::of(name, &damaged, "what loads the image reads wrong bytes there: copy it again").by_digests(),
        ])
    })
}
