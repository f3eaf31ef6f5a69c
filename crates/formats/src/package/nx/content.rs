//! A content as a format: one that stands by itself, or is looked into where it is.

use super::cnmt::Cnmt;
use super::nca::header::{self, Kind, LEN};
use super::nca::{ID, Nca};
use super::{cnmt, contents, nsp, title};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Keyring;
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef};
use decanter_core::tell::grouped;
use decanter_core::tree::Tree;
use decanter_core::{Error, Result};
use std::sync::Arc;

/// The format.
pub struct ContentFormat;
/// The one instance.
pub static CONTENT: ContentFormat = ContentFormat;

impl Format for ContentFormat {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Switch content"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["nca"]
    }

    fn reads(&self) -> &'static str {
        "with the header key: sections of files, RomFS, updates over their base, every hash"
    }

    fn least_len(&self) -> u64 {
        LEN
    }

    fn marks(&self) -> &'static [Mark] {
        &[]
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        let none = Keyring::default();
        if header::is_content(head, head.keys().unwrap_or(&none))? {
            return Ok(Some(95));
        }
        // Without the key its name is all there is: 32 digits, as no other file of noise is called.
        let named = head.names().first().is_some_and(|n| is_id(n));
        if head.len() < LEN || !named {
            return Ok(None);
        }
        let mut bytes = vec![0; LEN as usize];
        head.read_at(0, &mut bytes)?;
        Ok(decanter_core::format::looks_random(&bytes).then_some(40))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let name = opener.names().first().map_or("a content", String::as_str);
        let nca = Nca::read(&source, opener.keys(), name)?;
        let kind = nca.header.kind();
        let mut opened = Opened::new(ID, format!("Switch content: {}", kind.name()));
        opened.identified(title::shown(nca.header.program_id()));
        opened.fact("made with", format!("SDK {}", nca.header.sdk()));
        opened.fact("keys", contents::crypto(&nca));
        opened.fact("made for", if nca.header.is_for_card() { "gamecards" } else { "downloads" });
        for section in &nca.sections {
            let len = grouped(section.range.end - section.range.start);
            let patch = if section.patch.is_some() { ", over a base" } else { "" };
            let hashed = if section.levels.is_some() { "" } else { ", not hashed" };
            opened.fact(
                "section",
                format!("{}: {len} bytes, {}{patch}{hashed}", nca.name_of(section), section.cipher.name()),
            );
            if let Some(oddity) = &section.oddity {
                opened.notice(format!("{oddity} is left whole and not looked into"));
            }
            let (range, encrypted) = (section.range.clone(), section.cipher.needs_key());
            opened.extent.regions.push(Region { range, encrypted });
        }
        if kind == Kind::Meta
            && nca.trouble().is_none()
            && let [(_, raw)] = nca.small_file(&|p| p.ends_with(".cnmt"), cnmt::MOST)?.as_slice()
        {
            tell_list(&mut opened, &Cnmt::parse(raw.clone())?);
        }
        opened.extent.promised_len = Some(nca.header.len());
        nsp::trailing(&mut opened, &source, nca.header.len());
        opened.proof.sealed.push(nca.sealed("the content", None));
        opened.proof.settled.push(settled(&nca));
        opened.protection = protection(&nca);
        add_files(&mut opened, nca, opener.companions(), opener.keys());
        Ok(opened)
    }
}

/// Whether a name is that of a content: 32 hexadecimal digits.
fn is_id(name: &str) -> bool {
    name.strip_suffix(".cnmt").unwrap_or(name).len() == 32
        && name.strip_suffix(".cnmt").unwrap_or(name).bytes().all(|b| b.is_ascii_hexdigit())
}

fn tell_list(opened: &mut Opened, cnmt: &Cnmt) {
    opened.fact(
        "lists",
        format!("{} {}, {}", cnmt.kind.name(), title::shown(cnmt.title_id), title::version(cnmt.version)),
    );
    if let Some(system) = cnmt.system {
        opened.fact("needs system", title::system(system));
    }
    for record in &cnmt.records {
        opened.fact("content", format!("{}: {}, {} bytes", record.name(), record.file_name(), grouped(record.len)));
    }
}

/// What headers say of each other.
fn settled(nca: &Nca) -> Settled {
    const MATTERS: &str = "a console refuses it: get another copy";
    let bad: Vec<String> = (nca.sections.iter().filter(|s| !s.head_holds))
        .map(|s| format!("the header of section {} does not have its hash", s.index))
        .collect();
    Settled::of("headers of sections", &bad, MATTERS)
}

fn protection(nca: &Nca) -> Option<Protection> {
    let is_coded = nca.sections.iter().any(|s| s.cipher.needs_key());
    let state = if is_coded { State::Encrypted } else { State::Decrypted };
    let evidence = "its header says how each section is encrypted".to_owned();
    let key = nca.key.clone();
    let (unseal, seal, has_clear_form, clear, clear_as_it_is) = (None, None, false, None, None);
    (is_coded || key != KeyState::NotNeeded).then_some(Protection {
        state,
        evidence,
        key,
        unseal,
        seal,
        has_clear_form,
        clear,
        clear_as_it_is,
    })
}

/// Lets the files of the sections be asked for.
fn add_files(opened: &mut Opened, nca: Nca, others: &[SourceRef], keys: &Keyring) {
    let (others, keys) = (others.to_vec(), keys.clone());
    opened.holds.tree = Some(Tree::default());
    opened.holds.more = Some(Arc::new(move || {
        let base =
            if nca.sections.iter().any(|s| s.patch.is_some()) { base_among(&nca, &others, &keys)? } else { None };
        let mut notices = Vec::new();
        let nodes = nca.nodes("", base.as_ref(), &mut notices)?;
        Ok((Tree { nodes }, notices))
    }));
}

/// The base of an update's content in other packages, or as a content by itself.
fn base_among(nca: &Nca, others: &[SourceRef], keys: &Keyring) -> Result<Option<Nca>> {
    let base = title::base_of(nca.header.program_id());
    let fits = |other: &Nca| {
        other.header.kind() == nca.header.kind()
            && title::base_of(other.header.program_id()) == base
            && other.sections.iter().all(|s| s.patch.is_none())
    };
    for other in others {
        if header::is_content(other.as_ref(), keys)? {
            let own = Nca::read(other, keys, "the base")?;
            if fits(&own) {
                return Ok(Some(own));
            }
            continue;
        }
        let contents = super::open_contents(other, keys)?;
        for index in 0..contents.files.len() {
            match contents.nca(index) {
                Ok(own) if fits(&own) => return Ok(Some(own)),
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                // Tickets and certificates are no contents.
                _ => {}
            }
        }
    }
    Ok(None)
}
