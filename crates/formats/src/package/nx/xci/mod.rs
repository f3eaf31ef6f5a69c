//! A gamecard image: a header, a root file system of partitions, and the titles in the secure one. Layout:
//! docs/formats/xci.md.

mod card;
mod compose;

pub use card::{Card, Class, KEY_AREA};
pub use compose::{Card as Laid, Making, compose};

use super::contents::{self, Bases, Contents};
use super::{nsp, tell, title};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tell::{count, grouped, size};
use decanter_core::tree::{Kind as NodeKind, Node, Tree};
use decanter_core::{Error, Result};
use std::sync::Arc;

pub(crate) const ID: &str = "xci";
/// The partition with the titles.
pub const SECURE: &str = "secure";

/// The format.
pub struct Xci;
/// The one instance.
pub static CARD: Xci = Xci;

impl Format for Xci {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Switch gamecard image"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xci"]
    }

    fn reads(&self) -> &'static str {
        "trimmed, padded, with its key area, merged ones: partitions, titles, names, icons, files, every hash"
    }

    fn least_len(&self) -> u64 {
        card::HEAD
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark { at: 0x100, bytes: b"HEAD" }, Mark { at: KEY_AREA + 0x100, bytes: b"HEAD" }] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        for at in [0, KEY_AREA] {
            if head.len() >= at + card::HEAD && read_array::<4>(head, at + 0x100)? == *b"HEAD" {
                let root: [u8; 8] = read_array(head, at + 0x130)?;
                let root = at.checked_add(u64::from_le_bytes(root));
                let is_root = match root {
                    Some(root) if root.saturating_add(4) <= head.len() => read_array::<4>(head, root)? == *b"HFS0",
                    _ => false,
                };
                return Ok(Some(if is_root { 95 } else { 30 }));
            }
        }
        Ok(None)
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let card = Card::read(&source, opener.keys())?;
        let contents = Contents::read(card.files(SECURE, &source)?, opener.keys())?;
        let mut opened = Opened::new(ID, nsp::kind("Switch gamecard image", &contents));
        let others = Bases::of(opener.companions(), &contents.keys)?;
        tell::tell(&mut opened, &contents, &others)?;
        tell_card(&mut opened, &card, &source);
        opened.protection = tell::protection(&contents);
        opened.extent.promised_len = Some(card.trimmed_len());
        opened.extent.regions = tell::regions(&contents);
        opened.proof.settled.extend(card.settled.iter().cloned());
        let (own, from) = (card.clone(), source.clone());
        opened.proof.inspections.push(Arc::new(move |_| own.inspect(&from)));
        let mut nodes = Vec::new();
        for partition in &card.partitions {
            nodes.push(Node::new(partition.name.clone(), NodeKind::Folder, None));
            let files = card.files(&partition.name, &source)?;
            nodes.extend(contents::raw_nodes(&files, &format!("{}/", partition.name)));
        }
        opened.holds.tree = Some(Tree { nodes });
        tell::add_readable(&mut opened, contents, others);
        Ok(opened)
    }
}

/// What the image has besides titles.
fn tell_card(opened: &mut Opened, card: &Card, source: &SourceRef) {
    let class = card.class.map_or("unknown".to_owned(), |c| format!("{} GB", c.gigabytes()));
    let state = match (card.full_len(), source.len()) {
        (Some(full), len) if len == full => "full",
        (_, len) if len == card.trimmed_len() => "trimmed",
        (_, len) if len < card.trimmed_len() => "cut short",
        _ => "neither full nor trimmed",
    };
    opened.fact("card", format!("{class}, image {state}"));
    if card.at > 0 {
        opened.fact("key area", "there, before the header");
    }
    for partition in card.partitions.iter().filter(|p| p.name != SECURE) {
        if let Ok(own) = &partition.files {
            let bytes: u64 = own.entries.iter().map(|e| e.range.end - e.range.start).sum();
            let files = count(own.entries.len() as u64, "file", "files");
            opened.fact("besides", format!("partition {}: {files}, {}", partition.name, size(bytes)));
        }
    }
    match &card.info {
        Ok(Some(info)) => opened.fact("system update on the card", title::system(info.update)),
        Ok(None) => opened.notice("the encrypted part of the card's header is empty, as in images that were made of packages"),
        Err(trouble) if trouble.wrong.is_empty() => {
            opened.notice("the encrypted part of the card's header is not looked into: nx.card.header is not in the keyring");
        }
        Err(_) => opened.notice("the encrypted part of the card's header does not open with nx.card.header: the key is wrong, or that part is damaged"),
    }
    for partition in &card.partitions {
        if let Err(why) = &partition.files {
            opened.damage(format!("partition {} cannot be read: {why}", partition.name));
        }
    }
    let missing = card.trimmed_len().saturating_sub(source.len());
    if missing > 0 {
        opened.damage(format!(
            "the card's header says that it ends at {:#x}; {} bytes of that are missing",
            card.trimmed_len(),
            grouped(missing)
        ));
    }
}

/// Bytes that fill an image after its end.
pub const FILLER: u8 = 0xff;

/// An error of the header, where a field cannot be right.
pub(super) fn bad<T>(what: impl Into<String>, at: u64) -> Result<T> {
    Err(Error::malformed(ID, what.into(), at))
}
