//! What a source can become, and the next command to type.

use crate::convert::table::targets;
use crate::family::needs_base;
use crate::{Item, Setting, quoted, recipe, verify};
use decanter_core::error::KeyWay;
use decanter_core::protection::KeyState;
use decanter_core::role::{Medium, Role};
use decanter_core::rom::Shape;
use decanter_core::{names, native};
use serde::Serialize;

/// Something that a source can become.
#[derive(Debug, Serialize)]
pub struct Becomes {
    /// What.
    pub what: &'static str,
    /// The command.
    pub command: String,
}

/// What it can become, the most useful first.
pub(super) fn becomes(item: &Item, is_cut: bool, setting: &Setting<'_>) -> Vec<Becomes> {
    let keys = typed_keys(item, setting);
    let source = quoted(&item.shown) + &keys;
    let mut list = Vec::new();
    if item.opened.protection.as_ref().is_some_and(|p| matches!(p.key, KeyState::Trouble(_))) {
        let key = key_option(item);
        list.push(Becomes { what: "folder", command: format!("decanter extract {source} {key}") });
        if !is_cut && item.opened.protection.as_ref().is_some_and(|p| p.has_clear_form) {
            list.push(Becomes { what: "decrypted image", command: format!("decanter decrypt {source} {key}") });
        }
        return list;
    }
    if item.opened.holds.tree.is_some() && item.opened.identity.role != Role::Folder {
        let inside =
            first_partition(item).map_or(source.clone(), |name| quoted(&format!("{}::{name}", item.shown)) + &keys);
        let base = if needs_base(&item.opened) { " --with BASE" } else { "" };
        list.push(Becomes { what: "folder", command: format!("decanter extract {inside}{base}") });
    }
    if item.opened.protection.as_ref().is_some_and(|p| p.clear.is_some()) && !is_cut {
        list.push(Becomes { what: "decrypted image", command: format!("decanter decrypt {source}") });
    }
    if let Some(Shape::Padded { .. } | Shape::Overdumped { .. }) = item.opened.holds.rom.as_ref().map(|r| &r.shape) {
        let command = format!("decanter convert {source} --trim");
        list.push(Becomes { what: "trimmed", command });
    }
    if let Some(what) = recipe::made_of(item).filter(|_| !is_cut) {
        let target = quoted(&names::file_name(&format!("{}.toml", item.stem)));
        list.push(Becomes { what, command: format!("decanter recipe new {source} -o {target}") });
    }
    if !is_cut {
        let mut fitting: Vec<_> = targets().filter_map(|t| Some((t.accepts(item)?, t))).collect();
        fitting.sort_by_key(|(use_of, _)| std::cmp::Reverse(*use_of));
        // What is as useful as copying the file is left to who asks for it.
        for (_, target) in fitting.into_iter().filter(|(use_of, _)| *use_of > 10) {
            let (id, needs) = (target.id, target.needs(item));
            let needs = if needs.is_empty() { String::new() } else { format!(" {needs}") };
            list.push(Becomes { what: id, command: format!("decanter convert {source} --to {id}{needs}") });
        }
    }
    list
}

/// The name of the first partition of a drive.
fn first_partition(item: &Item) -> Option<&str> {
    let is_drive = item.opened.identity.role == Role::Image(Medium::Drive);
    item.opened
        .holds
        .tree
        .iter()
        .filter(|_| is_drive)
        .flat_map(|t| t.files())
        .next()
        .map(|(node, _)| node.path.as_str())
}

/// The options that say once more where keys were looked for, if what is encrypted needs them again.
fn typed_keys(item: &Item, setting: &Setting<'_>) -> String {
    let needs = item.opened.protection.as_ref().is_some_and(|p| !matches!(p.key, KeyState::NotNeeded));
    if !needs && item.around.is_empty() {
        return String::new();
    }
    setting.typed_keys()
}

/// The option that gives the missing key.
fn key_option(item: &Item) -> &'static str {
    match item.opened.protection.as_ref().map(|p| &p.key) {
        Some(KeyState::Trouble(trouble)) if trouble.way == KeyWay::ByName => "--keys FILE",
        Some(KeyState::Trouble(trouble)) if trouble.way == KeyWay::Passcode => "--passcode TEXT",
        _ => "--key HEX",
    }
}

/// The command to type next.
pub(super) fn next(item: &Item, is_cut: bool, becomes: &[Becomes], setting: &Setting<'_>) -> Option<String> {
    let source = quoted(&item.shown) + &typed_keys(item, setting);
    if item.unfinished.is_some() {
        let target = quoted(&native::text(item.host.with_extension("")));
        return Some(format!("decanter dump DRIVE -o {target}"));
    }
    if let Some(kind) = verify::game_folder(item) {
        return Some(format!("decanter verify {source} --against DESCRIPTION, if there is one of this {kind}"));
    }
    let key = item.opened.protection.as_ref().map(|p| &p.key);
    if item.opened.holds.expectation.is_some() || item.opened.holds.catalogue.is_some() {
        return Some(format!("decanter verify SOURCE --against {source}"));
    }
    if let Some(KeyState::Trouble(_)) = key {
        return Some(format!("decanter identify {source} {}", key_option(item)));
    }
    if is_cut {
        return Some("copy or dump it again; \"decanter extract\" takes what is whole".into());
    }
    if item.opened.holds.patch.is_some() {
        return Some(format!("decanter patch show {source}"));
    }
    match item.opened.holds.rom.as_ref().map(|r| &r.shape) {
        Some(Shape::Trailing { is_rom: true, .. }) => return Some(format!("decanter extract {source}")),
        Some(Shape::Overdumped { .. }) => return Some(format!("decanter convert {source} --trim")),
        Some(_) => return Some(format!("decanter verify {source} --against DAT")),
        None => {}
    }
    if let Some(name) = first_partition(item) {
        return Some(format!("decanter list {}", quoted(&format!("{}::{name}", item.shown))));
    }
    if !item.opened.holds.tree.as_ref().is_none_or(|t| t.nodes.is_empty()) && !item.opened.proof.inspections.is_empty()
    {
        return Some(format!("decanter verify {source}"));
    }
    let is_image = item.opened.extent.promised_len.is_some() || !item.opened.holds.tracks.is_empty();
    match item.descriptions.first() {
        Some((at, _)) if is_image => Some(format!("decanter verify {source} --against {}", quoted(at))),
        _ if is_image => Some(format!("decanter verify {source}")),
        _ => {
            // A program with parts is to be run: its parts are for who asks for them.
            let is_program = item.opened.identity.role == Role::Program;
            let best = becomes.iter().find(|b| !is_program || b.what != "folder").or(becomes.first());
            best.map(|b| b.command.clone())
        }
    }
}
