//! Titles of the hybrid console: package to gamecard image and back, trimmed or padded images.

use super::Options;
use super::choice::Split;
use super::made::{Back, LeftOut, Made};
use super::shared::{PAD, SPLIT, TRIM};
use super::target::Target;
use crate::merge::{self, Form};
use crate::{Item, Setting};
use decanter_core::blueprint::Blueprint;
use decanter_core::view::Slice;
use decanter_core::{Error, Format, Notice, Result};
use decanter_formats::package::nx::{self, nsp::PACKAGE, xci, xci::CARD};
use std::sync::Arc;

/// Titles of the hybrid console.
pub(super) static TARGETS: [Target; 2] = [
    Target {
        id: "nsp",
        what: "a Switch package",
        extension: "nsp",
        made_of: "Switch gamecard images, merged ones too",
        options: &[&SPLIT],
        splits_into_folder: true,
        accepts: |item, _| accepts(item, &CARD, &PACKAGE),
        lay: package,
        ..Target::BASE
    },
    Target {
        id: "xci",
        what: "a Switch gamecard image",
        extension: "xci",
        made_of: "Switch packages, merged ones too; gamecard images, trimmed or padded",
        options: &[&TRIM, &PAD, &SPLIT],
        splits_into_folder: true,
        accepts: |item, _| accepts(item, &PACKAGE, &CARD),
        may_keep_damage: true,
        is_meant: |item, target, options| options.keeps_form() && item.opened.identity.format == target.id,
        lay: card,
        ..Target::BASE
    },
];

/// What is of the other form is worth it; what has it already can be laid out anew.
fn accepts(item: &Item, other: &dyn Format, own: &dyn Format) -> Option<u8> {
    match item.opened.holds.titles.is_empty() {
        false if other.is_of(&item.opened) => Some(50),
        false if own.is_of(&item.opened) => Some(5),
        _ => None,
    }
}

/// Two chips are nothing that these are made of.
fn refuse_lanes(options: &Options) -> Result<()> {
    match options.given.split(&SPLIT) {
        Some(Split::EvenOdd) => {
            Err(Error::Usage("even-odd is for ROMs: --split takes a size here, as in 4GiB-1".into()))
        }
        _ => Ok(()),
    }
}

/// What is damaged in the source, unless it is kept or nobody asks.
fn sound(item: &Item, options: &Options, setting: &Setting<'_>) -> Result<Vec<Notice>> {
    if setting.unchecked { Ok(Vec::new()) } else { item.sound(options.keep_damage, setting) }
}

fn package(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    refuse_lanes(options)?;
    titles(item, Form::Nsp, options, setting)
}

/// An image of the same bytes, trimmed or padded; or one that is made of a package.
fn card(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    refuse_lanes(options)?;
    if !CARD.is_of(&item.opened) {
        return titles(item, Form::Xci, options, setting);
    }
    let source = item.source.as_ref().ok_or_else(|| Error::Usage("it has no bytes of its own".into()))?;
    let notices = sound(item, options, setting)?;
    let card = xci::Card::read(source, &item.keyring)?;
    let used = card.trimmed_len();
    let kept = Arc::new(Slice::new(source.clone(), 0, used)?);
    let mut blueprint = Blueprint::of(kept.clone());
    let mut words = "all bytes up to the end that the header says".to_owned();
    if options.given.has(&PAD) {
        let full = card.full_len().filter(|full| *full >= used);
        let full = full.ok_or_else(|| Error::unsupported("xci", "padding to a card of unknown size"))?;
        blueprint.fill(xci::FILLER, full - used);
        words = format!("all bytes, filled up with 0x{:02X} to the size of the card", xci::FILLER);
    }
    Ok(Made { bytes_before: source.len(), back: Back::Seals, notices, ..Made::new(blueprint, kept, words) })
}

/// All titles of a source, laid out anew.
fn titles(item: &Item, form: Form, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let source = item.source.as_ref().ok_or_else(|| Error::Usage("it has no bytes of its own".into()))?;
    let keyring = item.opened.holds.keys.as_deref().unwrap_or(&item.keyring);
    let contents = nx::open_contents(source, keyring)?;
    let all: Vec<_> = contents.titles.iter().map(|title| (&contents, title)).collect();
    // What is cut into parts does not pass by as a whole: it is held against its digests before.
    let is_split = options.given.has(&SPLIT);
    let mut notices = if is_split { sound(item, options, setting)? } else { Vec::new() };
    let laid = merge::lay(
        &all,
        form,
        &merge::Options { pad: options.given.has(&PAD), ..merge::Options::default() },
        keyring,
        setting,
    )?;
    let words = match laid.checked {
        0 => "all titles with their tickets, contents byte for byte; nothing was held against its digest".to_owned(),
        n => format!(
            "all titles with their tickets, contents byte for byte: {n} held against the SHA-256 in their lists"
        ),
    };
    notices.extend(laid.notices.iter().map(Notice::new));
    let mut left_out = Vec::new();
    if CARD.is_of(&item.opened) {
        let card = xci::Card::read(source, keyring)?;
        left_out.extend(card.besides().map(|(name, _, bytes)| LeftOut {
            what: format!("partition {name}"),
            bytes,
            why: "it is the card's, not the title's".into(),
        }));
    }
    Ok(Made {
        bytes_before: source.len(),
        back: Back::Seals,
        facts: laid.facts,
        left_out,
        notices,
        ..Made::new(laid.blueprint, source.clone(), words)
    })
}
