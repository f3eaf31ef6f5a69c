//! A content as a format: one that stands by itself, or is looked into where it is.

use super::cnmt::Cnmt;
use super::contents::{self, Bases};
use super::nca::header::{self, Kind, LEN};
use super::nca::{ID, Nca};
use super::{digest, title};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::seal::{Expected, Seal, Settled};
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
        let named = head.names().first().is_some_and(|n| id_of(n).is_some());
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
        if kind == Kind::Meta && nca.trouble().is_none() {
            match Cnmt::of(&nca) {
                Ok(cnmt) => tell_list(&mut opened, &cnmt),
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(e) => opened.damage(format!("its list of contents cannot be read: {e}")),
            }
        }
        opened.extent.promised_len = Some(nca.header.len());
        crate::package::trailing(&mut opened, &source, nca.header.len());
        opened.protection = protection(&nca);
        let bases = Bases::of(opener.companions(), opener.keys())?;
        prove(&mut opened, &nca, name, &bases)?;
        opened.holds.tree = Some(Tree::default());
        opened.holds.more = Some(Arc::new(move || {
            let mut notices = Vec::new();
            let nodes = nca.nodes("", bases.find(&nca), &mut notices)?;
            Ok((Tree { nodes }, notices))
        }));
        Ok(opened)
    }
}

/// The id that a content is called after: 32 hexadecimal digits, which its SHA-256 begins with.
fn id_of(name: &str) -> Option<Key> {
    let digits = name.strip_suffix(".cnmt").unwrap_or(name);
    Key::from_hex(digits).filter(|id| digits.len() == 32 && id.bytes().len() == 16)
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

/// What proves it: what headers say of each other, the id that it is called after, its hashes, those over its base.
fn prove(opened: &mut Opened, nca: &Nca, name: &str, bases: &Bases) -> Result<()> {
    const MATTERS: &str = "a console refuses it: get another copy";
    let bad: Vec<String> = (nca.sections.iter().filter(|s| !s.head_holds))
        .map(|s| format!("the header of section {} does not have its hash", s.index))
        .collect();
    opened.proof.settled.push(Settled::of("headers of sections", &bad, MATTERS));
    let whole = id_of(name).map(|id| Seal {
        name: "the content as a whole, by its id".into(),
        range: 0..nca.header.len(),
        of_plaintext: false,
        expected: Expected::Beginning(digest(id.bytes())),
        matters: MATTERS,
        inside: None,
    });
    let is_proven = whole.is_some();
    opened.proof.sealed.push(nca.sealed("the content", whole));
    let base = bases.find(nca).filter(|_| nca.trouble().is_none());
    match base.map(|base| nca.sealed_over("the content", base)) {
        Some(Ok(more)) => opened.proof.sealed.extend(more),
        Some(Err(e @ (Error::Io { .. } | Error::Cancelled))) => return Err(e),
        Some(Err(e)) => opened.proof.settled.push(Settled::fails("it over its base", e.to_string(), MATTERS)),
        None => {}
    }
    for section in nca.sections.iter().filter(|_| !is_proven) {
        let name = nca.name_of(section);
        if section.oddity.is_some() || section.levels.is_none() {
            opened.proof.untried.push(format!("nothing here proves {name}; the list of contents of its title does"));
        } else if section.patch.is_some() && base.is_none() {
            opened.proof.untried.push(format!("{name} stands over a base: --with BASE checks it"));
        }
    }
    Ok(())
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
