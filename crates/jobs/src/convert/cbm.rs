//! Disks of the C64: programs gathered from files, folders, tapes and other disks onto a new one.

use super::Options;
use super::choice::{Choice, Kind as Value};
use super::made::{Back, LeftOut, Made};
use super::open;
use super::shared::LABEL;
use super::target::{Target, is_folder};
use crate::{Failure, Item, Setting, locate};
use decanter_core::blueprint::Blueprint;
use decanter_core::format::Format;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::{Error, Notice, Result};
use decanter_formats::disk::cbm::menu::{self, Entry};
use decanter_formats::disk::cbm::petscii::{self, MOST_NAME};
use decanter_formats::disk::cbm::{D64, D71, D81, prg::Prg, t64::T64};
use decanter_formats::disk::cbm::{NewFile, compose};
use std::collections::HashSet;
use std::sync::Arc;

/// Disks of programs.
pub(super) static TARGETS: [Target; 2] = [
    Target {
        id: "d64",
        what: "a C64 disk image",
        extension: "d64",
        made_of: "programs, folders, disks and tapes, gathered onto one disk",
        ..DISK
    },
    Target {
        id: "d81",
        what: "a C64 disk image of 3.5 inches",
        extension: "d81",
        made_of: "the same, where more has to fit",
        ..DISK
    },
];

const DISK: Target = Target {
    options: &[&LABEL, &NAME, &ID, &MENU],
    is_of_files: true,
    open: open::anything,
    gather: Some(gather),
    accepts,
    lay: disk,
    ..Target::BASE
};

static NAME: Choice = Choice::of(
    "name",
    "OLD=NEW",
    Value::Texts,
    "Call a file of a new d64 or d81 so; else names are shortened to what can be typed (repeatable)",
);
static ID: Choice = Choice::of("disk-id", "ID", Value::Text, "Two characters that mark a new d64 or d81 [default: DC]");

static MENU: Choice =
    Choice::flag("menu", "Put a start program first that lists the others, and loads the one whose letter is pressed");

/// Formats whose files are gathered one by one.
static DISKS: [&dyn Format; 4] = [&D64, &D71, &D81, &T64];
/// The largest file that a disk has room for.
const MOST_LEN: u64 = 800 << 10;
/// Two characters that a new disk is marked with, unless others are asked for.
const DISK_ID: &str = "DC";

/// Everything that the sources hold, as one folder.
fn gather(items: Vec<Item>, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let (mut tree, mut damage) = (Tree::default(), Vec::new());
    let (shown, stem) = items.first().map(|i| (i.shown.clone(), i.stem.clone())).unwrap_or_default();
    for item in items {
        let what = || format!("cannot convert \"{}\"", item.shown);
        let found = item.damage(setting).map_err(|e| Failure::new(what(), e))?;
        damage.extend(found.into_iter().map(|d| Notice::damage(format!("{}: {}", item.shown, d.what))));
        let is_files = is_disk(&item) || is_folder(&item);
        let name = item.file_name();
        match item.opened.holds.tree {
            Some(files) if is_files => tree.nodes.extend(files.nodes),
            _ => {
                let Some(source) = item.source else { continue };
                tree.nodes.push(Node::new(name, Kind::File(File::of(source)), None));
            }
        }
    }
    let mut item = locate::gathered(&shown, &stem, tree, setting);
    // What is wrong with any of them is wrong with all of it.
    item.opened.told.notices.extend(damage);
    Ok(item)
}

fn accepts(item: &Item, target: &Target) -> Option<u8> {
    let tree = item.opened.holds.tree.as_ref();
    let has_programs = || tree.is_some_and(|t| t.files().any(|(n, _)| n.path.to_lowercase().ends_with(".prg")));
    if Prg.is_of(&item.opened) {
        return Some(30);
    }
    if is_disk(item) {
        // The same form once more is left to who wants to add to it, or another label.
        return Some(if item.opened.identity.format == target.id { 5 } else { 15 });
    }
    is_folder(item).then(|| if has_programs() { 40 } else { 2 })
}

/// Whether its files are gathered one by one.
fn is_disk(item: &Item) -> bool {
    DISKS.iter().any(|disk| disk.is_of(&item.opened))
}

/// A new disk with all programs of the source.
fn disk(item: &Item, target: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    let names = wished(options.given.texts(&NAME))?;
    let (mut files, mut tree, mut facts, mut left_out) = (Vec::new(), Tree::default(), Vec::new(), Vec::new());
    let (mut taken, mut notices) = (HashSet::new(), Vec::new());
    let mut met: HashSet<&str> = HashSet::new();
    let nodes = item.opened.holds.tree.as_ref().map_or(&[][..], |t| &t.nodes);
    for node in nodes {
        let Some(file) = node.file() else { continue };
        let (stem, extension) = node.name().rsplit_once('.').unwrap_or((node.name(), ""));
        let kind = match extension.to_lowercase().as_str() {
            "seq" | "txt" => 1,
            "usr" => 3,
            "rel" | "cbm" | "del" => {
                let why = "only programs and sequential files are written".to_owned();
                left_out.push(LeftOut { what: node.path.clone(), bytes: file.len, why });
                continue;
            }
            _ => 2,
        };
        let content = match file.source().and_then(|s| read_vec(s.as_ref(), 0, s.len(), "a file for a disk", MOST_LEN))
        {
            Ok(content) => content,
            Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
            // No disk holds so much: that is no damage.
            Err(e @ Error::Limit { .. }) => {
                left_out.push(LeftOut { what: node.path.clone(), bytes: file.len, why: e.to_string() });
                continue;
            }
            Err(e) if options.keep_damage => {
                notices.push(Notice::damage(format!("{} is left out: {e}", node.path)));
                left_out.push(LeftOut { what: node.path.clone(), bytes: file.len, why: e.to_string() });
                continue;
            }
            Err(e) => return Err(Error::Damaged { what: format!("{}: {e}", node.path) }),
        };
        let wish = names.iter().find(|(old, _)| *old == node.path || *old == node.name() || *old == stem);
        if let Some((old, _)) = wish {
            met.insert(old);
        }
        let name = match wish {
            Some((_, new)) => petscii::bytes(&new.to_uppercase())
                .filter(|b| !b.is_empty() && b.len() <= MOST_NAME)
                .ok_or_else(|| {
                    Error::Usage(format!(
                        "\"{new}\" is no name for a disk: at most {MOST_NAME} capitals, digits and signs"
                    ))
                })?,
            None => petscii::bytes(stem)
                .filter(|b| b.len() <= MOST_NAME && !stem.chars().any(char::is_lowercase))
                .unwrap_or_else(|| petscii::typeable(stem).into_bytes()),
        };
        let name = unique(name, &mut taken);
        let shown = petscii::text(&name);
        let blocks = content.len().div_ceil(254).max(1);
        let from = if shown == stem { String::new() } else { format!(", from {}", node.path) };
        facts.push(("file".to_owned(), format!("{shown}: {blocks} block{}{from}", if blocks == 1 { "" } else { "s" })));
        let source: SourceRef = Arc::new(Bytes(content.clone()));
        let extension = ["seq", "prg", "usr"][kind - 1];
        tree.nodes.push(Node::new(format!("{shown}.{extension}"), Kind::File(File::of(source)), None));
        files.push(NewFile { name, kind: kind as u8, content });
    }
    if let Some((old, _)) = names.iter().find(|(old, _)| !met.contains(old.as_str())) {
        return Err(Error::Usage(format!("--name: there is no file \"{old}\" to be renamed")));
    }
    if files.is_empty() {
        return Err(Error::Usage("there is no program in it that a disk could hold".into()));
    }
    let title = options.given.text(&LABEL).map(str::to_owned).unwrap_or_else(|| petscii::typeable(&item.stem));
    if options.given.has(&MENU) {
        add_menu(&title, &mut files, &mut tree, &mut taken, &mut facts, &mut notices)?;
    }
    let disk_id = options.given.text(&ID).unwrap_or(DISK_ID);
    let made = compose(target.id, &files, &title.to_uppercase(), &disk_id.to_uppercase())?;
    facts.push(("disk".into(), format!("{}: {} blocks used, {} free", title.to_uppercase(), made.used, made.free)));
    let bytes: SourceRef = Arc::new(Bytes(made.bytes));
    let before = files.iter().map(|f| f.content.len() as u64).sum();
    let kept = match left_out.is_empty() {
        true => "every byte of every file; the disk is new",
        false => "every byte of the files that are on it; the disk is new",
    };
    let mut result = Made::new(Blueprint::of(bytes.clone()), bytes, kept);
    result.bytes_before = before;
    result.left_out = left_out;
    result.notices = notices;
    result.facts = facts;
    result.back = Back::Files(tree);
    Ok(result)
}

/// Puts the start program before all others, and says what is typed.
fn add_menu(
    title: &str,
    files: &mut Vec<NewFile>,
    tree: &mut Tree,
    taken: &mut HashSet<Vec<u8>>,
    facts: &mut Vec<(String, String)>,
    notices: &mut Vec<Notice>,
) -> Result<()> {
    let mut entries = Vec::new();
    let mut listed = Vec::new();
    for file in files.iter().filter(|file| file.kind == PROGRAM) {
        match Entry::of(&file.name, &file.content) {
            Ok(_) if entries.len() == menu::MOST => {
                let text = format!(
                    "the menu lists {} programs: {} is on the disk only",
                    menu::MOST,
                    petscii::text(&file.name)
                );
                notices.push(Notice::new(text));
            }
            Ok(entry) => {
                listed.push(format!("{}: {}", petscii::text(&file.name), entry.starts()));
                entries.push(entry);
            }
            Err(why) => notices.push(Notice::new(format!("{} is not in the menu: {why}", petscii::text(&file.name)))),
        }
    }
    if entries.is_empty() {
        return Err(Error::Usage("--menu: there is no program on the disk that a menu could start".into()));
    }
    let (name, content) = (unique(b"MENU".to_vec(), taken), menu::program(title, &entries));
    let shown = petscii::text(&name);
    facts.insert(0, ("menu".into(), format!("{shown}: {} programs, {} to a page", entries.len(), menu::PAGE)));
    facts.insert(1, ("type".into(), "LOAD\"*\",8".into()));
    facts.insert(2, ("".into(), "RUN".into()));
    facts.extend(listed.into_iter().map(|text| ("starts".to_owned(), text)));
    let source: SourceRef = Arc::new(Bytes(content.clone()));
    tree.nodes.insert(0, Node::new(format!("{shown}.prg"), Kind::File(File::of(source)), None));
    files.insert(0, NewFile { name, kind: PROGRAM, content });
    Ok(())
}

/// The kind of a file that is a program.
const PROGRAM: u8 = 2;

/// `OLD=NEW` as two names.
fn wished(names: &[String]) -> Result<Vec<(String, String)>> {
    let pair = |text: &String| {
        let parts = text.split_once('=').map(|(old, new)| (old.to_owned(), new.to_owned()));
        parts.ok_or_else(|| Error::Usage(format!("--name {text}: it has to be OLD=NEW")))
    };
    names.iter().map(pair).collect()
}

/// A name that none of the others has: a number takes the place of its end.
fn unique(name: Vec<u8>, taken: &mut HashSet<Vec<u8>>) -> Vec<u8> {
    let mut own = name.clone();
    for number in 2.. {
        if taken.insert(own.clone()) {
            break;
        }
        let mark = format!(" {number}");
        own = name[..name.len().min(MOST_NAME - mark.len())].to_vec();
        own.extend(mark.bytes());
    }
    own
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_stay_unique() {
        let mut taken = HashSet::new();
        let names: Vec<Vec<u8>> = (0..12).map(|_| unique(b"KELP COURIER THE".to_vec(), &mut taken)).collect();
        assert_eq!(names[1], b"KELP COURIER T 2");
        assert_eq!(names[11], b"KELP COURIER  12");
        assert_eq!(names.iter().collect::<HashSet<_>>().len(), 12);
    }
}
