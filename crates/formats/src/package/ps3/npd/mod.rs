//! NPD-wrapped files (EDAT, SDAT). Layout, checks and what is not sure: docs/formats/edat.md.

mod coding;
mod compose;
pub mod header;
mod lz;
mod unlock;
mod view;

pub use compose::{Making, compose};

use crate::package;
use crate::package::ps3::licence;
use decanter_core::Result;
use decanter_core::blueprint::Blueprint;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tell::grouped;
use header::{COMPRESSED, DEBUG, Header, LEN, SDAT};
use std::sync::Arc;
use unlock::Unlocked;
use view::{File, View};

pub(crate) const ID: &str = "edat";
/// Bytes of entries that are read at once.
const STRETCH: u64 = 0x20;
/// The most bytes of entries whose code is checked: those of a content of 64 GiB.
const MOST_ENTRIES: u64 = 128 << 20;

const REFUSED: &str = "a console refuses to read it: copy or download it again";

/// The format.
pub struct Npd;
/// The one instance.
pub static WRAPPED: Npd = Npd;

impl Format for Npd {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "NPD-wrapped file"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["edat", "sdat"]
    }

    fn reads(&self) -> &'static str {
        "EDAT and SDAT, versions 1 to 4, compressed ones too; the content inside, each block held against its code"
    }

    fn least_len(&self) -> u64 {
        LEN
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&header::MAGIC)] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        Ok((head.len() >= LEN).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let header = Header::read(source.as_ref())?;
        let what = if header.has(SDAT) { "NPD-wrapped file without a licence" } else { self.name() };
        let mut opened = Opened::new(ID, what);
        opened.holds.has_own_names = false;
        tell(&mut opened, &header);
        opened.extent.promised_len = Some(header.end());
        let end = header.end();
        package::cut_short(&mut opened, &source, end);
        opened.extent.regions.push(Region { range: LEN.min(end)..end, encrypted: !header.has(DEBUG) });
        let Unlocked { coding, key } = unlock::unlock(&header, opener)?;
        let mut clear = None;
        if let Some(coding) = coding {
            if key != KeyState::NotNeeded {
                let name = "code of the header";
                let settled = match coding.fits()? {
                    true => Settled::holds(name),
                    false => Settled::fails(name, "it is another one under the key that its hash proves", REFUSED),
                };
                opened.proof.settled.push(settled.by_digests());
                opened.proof.settled.extend(entries(&source, &coding)?);
            }
            let file = Arc::new(File::new(source, coding));
            opened.proof.on_reading.push(check(&file));
            let content: SourceRef = Arc::new(View::new(file));
            clear = Some(Blueprint::of(content.clone()));
            crate::chunked::container(&mut opened, content, Some(content_name(opener)), opener);
        }
        opened.protection = Some(Protection {
            state: State::Encrypted,
            evidence: match header.has(DEBUG) {
                true => "its flags say that it is wrapped, but not encrypted".into(),
                false => "its header says so".into(),
            },
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

/// What the content is called: as the file, without the extension of the wrapping.
fn content_name(opener: &Opener<'_>) -> String {
    let stem = opener.names().first().map_or("content", String::as_str);
    if stem.contains('.') { stem.to_owned() } else { format!("{stem}.dat") }
}

fn tell(opened: &mut Opened, header: &Header) {
    opened.fact("content id", header.content_id());
    opened.fact("version", header.raw.version.get().to_string());
    opened.fact("licence", if header.has(SDAT) { "none".into() } else { licence::kind(header.license()) });
    let packed = if header.has(COMPRESSED) { ", compressed" } else { "" };
    let block = header.block_len();
    opened.fact("content", format!("{} bytes in blocks of {block}{packed}", grouped(header.content_len())));
}

/// Whether the code of all entries holds; `None` where they are too many, or not all there.
fn entries(source: &SourceRef, coding: &coding::Coding) -> Result<Option<Settled>> {
    let header = coding.header();
    let (count, len) = (header.blocks(), header.entry_len());
    let is_there = count.checked_sub(1).is_none_or(|last| header.entry_at(last) + len <= source.len());
    if count * len > MOST_ENTRIES || !is_there {
        return Ok(None);
    }
    let mut all = Vec::with_capacity((count * len) as usize);
    match header.is_interleaved() {
        true => {
            for number in 0..count {
                all.extend(read_vec(source.as_ref(), header.entry_at(number), len, "an entry", STRETCH)?);
            }
        }
        false => all = read_vec(source.as_ref(), LEN, count * len, "the entries", MOST_ENTRIES)?,
    }
    let holds = coding.overall(&all)? == header.raw.entries_code;
    Ok(Some(match holds {
        true => Settled::holds("code of all entries").by_digests(),
        false => Settled::fails("code of all entries", "it is another one", REFUSED).by_digests(),
    }))
}

/// The check of all blocks.
fn check(file: &Arc<File>) -> decanter_core::opened::Inspect {
    let file = file.clone();
    Arc::new(move |watch| {
        let damaged = file.damaged(watch)?;
        let matters = "what is read there is damaged: copy or download it again";
        Ok(vec![Settled::of("codes of all blocks", &damaged, matters).by_digests()])
    })
}
