//! A running moment of a C64 as a program: one that a text describes with a file of its memory, or one that an emulator saved.

use super::Options;
use super::described::described;
use super::made::Made;
use super::open;
use super::target::Target;
use crate::{Item, Setting, grouped};
use decanter_core::blueprint::Blueprint;
use decanter_core::format::Format;
use decanter_core::role::Role;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Notice, Result};
use decanter_formats::disk::cbm::snapshot::{MEMORY, program};
use decanter_formats::disk::cbm::vsf::{self, Saved, Vsf};
use std::sync::Arc;

/// Programs that restore a moment.
pub(super) static TARGETS: [Target; 1] = [Target {
    id: "prg",
    what: "a C64 program that restores a running moment",
    extension: "prg",
    made_of: "a moment: its description with its memory, or a snapshot that an emulator saved",
    open: open::anything,
    accepts,
    lay: prg,
    ..Target::BASE
}];

fn accepts(item: &Item, _: &Target) -> Option<u8> {
    if Vsf.is_of(&item.opened) {
        // Asked for one of which none is made, it says why.
        return Some(if item.source.as_ref().is_some_and(|s| vsf::moment(s.as_ref()).is_ok()) { 30 } else { 1 });
    }
    (item.opened.identity.role == Role::Unknown).then_some(1)
}

/// The program.
fn prg(item: &Item, _: &Target, _: &Options, setting: &Setting<'_>) -> Result<Made> {
    let source = item.source.clone().ok_or_else(|| Error::Usage("a folder is no moment".into()))?;
    let saved = match Vsf.is_of(&item.opened) {
        true => vsf::moment(source.as_ref())?,
        false => Saved { moment: described(item, &source, setting)?, missing: Vec::new(), others: Vec::new() },
    };
    let made = program(&saved.moment)?;
    let bytes: SourceRef = Arc::new(Bytes(made.bytes.clone()));
    let mut result = Made::new(
        Blueprint::of(bytes.clone()),
        bytes,
        "memory, processor and chips, but for the bytes that are borrowed",
    );
    result.bytes_before = MEMORY as u64;
    let ranges: Vec<String> = made.borrowed.iter().map(|r| format!("${:04x} to ${:04x}", r.start, r.end - 1)).collect();
    let proof = format!(
        "{} instructions in the simulated processor lead to the moment, but for what is borrowed",
        grouped(made.instructions as u64)
    );
    let end = made.bytes.len() - 2 + 0x0801;
    result.facts = vec![
        ("goes on".into(), format!("at ${:04x}, after RUN", saved.moment.pc)),
        ("loads at".into(), format!("$0801 to ${:04x}; the memory takes {} bytes of that", end - 1, made.packed_len)),
        ("borrowed".into(), format!("{}: {}", ranges.join(", "), made.borrowed_why)),
        ("run".into(), proof),
    ];
    if !saved.others.is_empty() {
        result.facts.push(("left aside".into(), format!("modules {}", saved.others.join(", "))));
    }
    result.notices = saved.missing.into_iter().map(|what| Notice::new(format!("it goes on without {what}"))).collect();
    Ok(result)
}
