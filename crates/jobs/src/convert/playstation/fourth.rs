//! Folders become packages of the fourth generation.

use super::{CONTENT_ID, given_id};
use crate::convert::Options;
use crate::convert::choice::{Choice, Kind as ChoiceKind};
use crate::convert::folder::chosen;
use crate::convert::made::{Back, Made};
use crate::convert::shared::WITHOUT;
use crate::convert::target::{Target, is_folder};
use crate::{Item, Setting};
use decanter_core::error::Blame;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::view::Fill;
use decanter_core::{Error, Format, Keyring, Notice, Result, tell};
use decanter_formats::package::ps3::content_id;
use decanter_formats::package::ps4::keys::{PASSCODE_LEN, Role, ZEROS};
use decanter_formats::package::ps4::pfs::compose::Form;
use decanter_formats::package::ps4::{self, Making, PARAMETERS};
use decanter_formats::record::sfo::{Parameters, Value};
use std::sync::Arc;

pub(super) const TARGET: Target = Target {
    id: "ps4-pkg",
    what: "a PS4 package",
    extension: "pkg",
    made_of: "folders with a sce_sys/param.sfo; packages, made anew",
    options: &[&CONTENT_ID, &DEFLATED, &SET, &WITHOUT],
    is_of_files: true,
    may_keep_damage: true,
    accepts,
    lay: package,
    ..Target::BASE
};

static DEFLATED: Choice = Choice::flag(
    "deflated",
    "Keep the files of a new PS4 package deflated, in blocks; that takes longer, and less room [default: stored]",
);
static SET: Choice = Choice::of(
    "set",
    "KEY=VALUE",
    ChoiceKind::Texts,
    "Give the parameter file of a new PS4 package this value: a text, or a number as in SYSTEM_VER=0x05050000 (repeatable)",
);

/// Entries of a parameter file without which a console does not know what a package is.
const DECIDING: [&str; 4] = ["CATEGORY", "APP_VER", "TITLE_ID", "CONTENT_ID"];

fn accepts(item: &Item, _: &Target) -> Option<u8> {
    let tree = item.opened.holds.tree.as_ref()?;
    if ps4::PACKAGE.is_of(&item.opened) {
        return Some(8);
    }
    is_folder(item).then(|| if tree.find(PARAMETERS).is_some() { 95 } else { 3 })
}

/// The parameter file of a tree; nothing where there is none.
///
/// # Errors
/// For one that cannot be read.
pub(crate) fn parameters(tree: &Tree) -> Result<Option<Parameters>> {
    let Some(file) = tree.find(PARAMETERS).and_then(Node::file) else { return Ok(None) };
    let read = Parameters::read(file.source()?.as_ref()).map(Some);
    read.map_err(|e| match e.blame() {
        Blame::Source => Error::Unreadable { why: format!("{PARAMETERS} cannot be used: {e}") },
        _ => e,
    })
}

/// Values that were typed as `KEY=VALUE`, put into a parameter file.
///
/// # Errors
/// What is wrong with one.
pub(crate) fn set(parameters: &mut Parameters, given: &[String]) -> Result<()> {
    for text in given {
        let wrong = |why: &str| Error::Usage(format!("--set {text}: {why}"));
        let (name, value) =
            text.split_once('=').ok_or_else(|| wrong("a name and a value are wanted, as in APP_VER=01.08"))?;
        let is_name = |b: u8| b.is_ascii_uppercase() || b.is_ascii_digit() || b == b'_';
        if name.is_empty() || !name.bytes().all(is_name) {
            return Err(wrong("names have capital letters, digits and _"));
        }
        let old = parameters.entries.iter().find(|(own, _)| own == name).map(|(_, value)| value);
        let is_number = match old {
            Some(old) => matches!(old, Value::Number(_)),
            None => value.starts_with("0x"),
        };
        let value = match is_number {
            false => Value::Text(value.to_owned()),
            true => {
                let number = match value.strip_prefix("0x") {
                    Some(digits) => u32::from_str_radix(digits, 16).ok(),
                    None => value.parse().ok(),
                };
                Value::Number(number.ok_or_else(|| wrong("it is a number of 32 bits: decimal, or with 0x in front"))?)
            }
        };
        parameters.put(name, value, 0);
    }
    Ok(())
}

/// Fails for a parameter file without the entries that decide.
///
/// # Errors
/// What is missing, and what to do.
pub(crate) fn check(parameters: &Parameters) -> Result<()> {
    let is_missing = |name: &&&str| parameters.text(name).is_none_or(str::is_empty);
    let missing: Vec<&str> = DECIDING.iter().filter(is_missing).copied().collect();
    match missing.first() {
        None => Ok(()),
        Some(first) => {
            let example = match *first {
                "CATEGORY" => "CATEGORY=gd",
                "APP_VER" => "APP_VER=01.00",
                "TITLE_ID" => "TITLE_ID=DCNT40001",
                _ => "CONTENT_ID=UP0000-DCNT40001_00-PIERNINE00000000",
            };
            Err(Error::Usage(format!("{PARAMETERS} has no {}: add --set {example}", missing.join(", "))))
        }
    }
}

/// The tree with this parameter file in it.
pub(crate) fn with_parameters(tree: &mut Tree, parameters: &Parameters) {
    let source: SourceRef = Arc::new(Bytes(parameters.compose()));
    let kind = Kind::File(File::of(source));
    let folded = PARAMETERS.to_ascii_uppercase();
    match tree.nodes.iter_mut().find(|n| n.path.to_ascii_uppercase() == folded) {
        Some(node) => node.kind = kind,
        None => tree.nodes.push(Node::new(PARAMETERS.into(), kind, None)),
    }
}

/// The passcode of a new package.
pub(crate) fn passcode(setting: &Setting<'_>) -> [u8; PASSCODE_LEN] {
    let given = setting.passcode.as_ref().and_then(|key| key.bytes().try_into().ok());
    given.unwrap_or(ZEROS)
}

/// What is said of keys of the console that the user has not got.
pub(crate) fn placeholders(keys: &Keyring) -> Option<Notice> {
    let missing: Vec<String> = Role::all().map(Role::name).filter(|name| keys.named(name).is_none()).collect();
    let first = missing.first()?;
    let more = tell::count(missing.len() as u64, "key", "keys");
    Some(Notice::new(format!(
        "what a console reads under its own keys is zeros ({more}, from {first} on, not in the keyring): whoever knows the passcode opens it; a console takes it only with them"
    )))
}

/// What a package is made of, checked.
pub(crate) struct Ready {
    pub(crate) tree: Tree,
    pub(crate) content_id: String,
}

/// A tree with a parameter file that fits the content id.
///
/// # Errors
/// What is missing, or wrong.
pub(crate) fn ready(mut tree: Tree, id: Option<String>, given: &[String]) -> Result<Ready> {
    let found = parameters(&tree)?;
    let is_there = found.is_some();
    let mut own = found.unwrap_or_default();
    let before = own.clone();
    if let Some(id) = &id {
        let title_id = content_id::title_id(id).unwrap_or_default().to_owned();
        own.put("CONTENT_ID", Value::Text(id.clone()), 48);
        own.put("TITLE_ID", Value::Text(title_id), 12);
    }
    set(&mut own, given)?;
    if !is_there && own.entries.is_empty() {
        return Err(Error::Usage(format!(
            "there is no {PARAMETERS}, which says what it is: add that file, or --set TITLE=..., CATEGORY=gd, APP_VER=01.00 and --content-id"
        )));
    }
    check(&own)?;
    let content_id = own.text("CONTENT_ID").unwrap_or_default().to_owned();
    if let Some(fault) = content_id::fault(&content_id) {
        return Err(Error::Usage(format!("CONTENT_ID in {PARAMETERS}: {fault}; --content-id gives another one")));
    }
    let title = content_id::title_id(&content_id).unwrap_or_default();
    if own.text("TITLE_ID") != Some(title) {
        let said = own.text("TITLE_ID").unwrap_or_default();
        return Err(Error::Usage(format!(
            "{PARAMETERS} says title id {said} and content id {content_id}, which do not fit: --content-id sets both"
        )));
    }
    if own != before {
        with_parameters(&mut tree, &own);
    }
    Ok(Ready { tree, content_id })
}

fn package(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let is_package = ps4::PACKAGE.is_of(&item.opened);
    let notices = if is_package { item.sound(options.keep_damage, setting)? } else { Vec::new() };
    let (tree, left_out) = chosen(item, options)?;
    if let (true, Some(decanter_core::protection::KeyState::Trouble(trouble))) =
        (is_package, item.opened.protection.as_ref().map(|p| &p.key))
    {
        return Err(trouble.clone().into());
    }
    let Ready { tree, content_id } = ready(tree, given_id(options)?, options.given.texts(&SET))?;
    let form = if options.given.has(&DEFLATED) { Form::Packed } else { Form::Stored };
    let making = Making { content_id: content_id.clone(), passcode: passcode(setting), form, keys: &item.keyring };
    let bytes: u64 = tree.files().map(|(_, f)| f.len).sum();
    setting.watch.begin(&format!("signing {}", item.stem), Some(bytes));
    let blueprint = ps4::compose(&tree, &making, setting.watch)?;
    setting.watch.end();
    let before: SourceRef = Arc::new(Fill { byte: 0, len: bytes });
    let mut made = Made::new(blueprint, before, "all files and folders; times and links have no place in a package");
    made.left_out = left_out;
    made.notices = notices;
    made.notices.extend(placeholders(&item.keyring));
    made.facts.push(("content id".into(), content_id));
    made.facts.push(("passcode".into(), if making.passcode == ZEROS { "32 zeros" } else { "the one given" }.into()));
    made.back = Back::Files(tree);
    Ok(made)
}
