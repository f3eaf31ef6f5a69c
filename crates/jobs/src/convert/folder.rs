//! New file systems: ISO 9660 volumes and Xbox family partitions, of folders and of what other images hold.

use super::choice::Choice;
use super::made::{Back, LeftOut, Made};
use super::open::image;
use super::shared::{BLANK, LABEL, SPLIT, WITHOUT};
use super::target::{Target, is_folder};
use super::{Options, choose};
use crate::{Item, Setting};
use decanter_core::Format;
use decanter_core::blueprint::Blueprint;
use decanter_core::source::SourceRef;
use decanter_core::tree::{Kind, Node, Tree};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Notice, Result, SECTOR, tell};
use decanter_formats::optical::iso9660::{self, Volume};
use decanter_formats::optical::ps3::regions;
use decanter_formats::optical::udf::Udf;
use decanter_formats::optical::xdvdfs;
use decanter_formats::optical::xdvdfs::Xdvdfs;
use decanter_formats::package::x360;
use std::ops::Range;
use std::sync::Arc;

/// Images that are made of files.
pub(super) static TARGETS: [Target; 1] = [Target {
    id: "xdvdfs",
    what: "a minimal Xbox family image",
    extension: "iso",
    made_of: "full-disc dumps, game partitions, folders, packages with a disc",
    options: &[&SPLIT, &KEEP_POSITIONS, &BLANK, &WITHOUT],
    is_of_files: true,
    accepts: accepts_xdvdfs,
    lay: xdvdfs,
    ..Target::BASE
}];

pub(super) static UDF: Choice =
    Choice::flag("udf", "Add a UDF volume beside ISO 9660 in an image that is made of files, as on DVDs");
static KEEP_POSITIONS: Choice =
    Choice::flag("keep-positions", "Keep every file at its sector, and drop only what lies between");

/// How a family of discs is laid out.
struct Family {
    /// A file that only its folders have.
    mark: &'static str,
    system: &'static str,
    system_area: Option<fn(&str, u32) -> Vec<u8>>,
    /// The file with the title and the id.
    parameters: &'static str,
    /// Files that stand first, in this order.
    first: &'static [&'static str],
}

const FAMILIES: [Family; 3] = [
    Family {
        mark: "PS3_GAME/PARAM.SFO",
        system: "",
        system_area: Some(regions::system_area),
        parameters: "PS3_GAME/PARAM.SFO",
        first: &["PS3_DISC.SFB", "PS3_GAME/PARAM.SFO", "PS3_GAME/ICON0.PNG"],
    },
    Family {
        mark: "PSP_GAME/PARAM.SFO",
        system: "PSP GAME",
        system_area: None,
        parameters: "PSP_GAME/PARAM.SFO",
        first: &["UMD_DATA.BIN", "PSP_GAME/PARAM.SFO", "PSP_GAME/ICON0.PNG"],
    },
    Family { mark: "SYSTEM.CNF", system: "PLAYSTATION", system_area: None, parameters: "", first: &["SYSTEM.CNF"] },
];

/// The tree to write, with what was chosen blank or gone, and what that hits.
pub(super) fn chosen(item: &Item, options: &Options) -> Result<(Tree, Vec<LeftOut>)> {
    let mut tree = item.opened.holds.tree.clone().unwrap_or_default();
    let mut left_out = choose::without(&mut tree, options.given.texts(&WITHOUT))?;
    left_out.extend(choose::blank_files(&mut tree, options.given.texts(&BLANK))?);
    for node in tree.nodes.iter().filter(|n| matches!(n.kind, Kind::Link(_))) {
        left_out.push(LeftOut {
            what: node.path.clone(),
            bytes: 0,
            why: "a link, which the file system has no place for".into(),
        });
    }
    tree.nodes.retain(|n| !matches!(n.kind, Kind::Link(_)));
    add_folders(&mut tree);
    Ok((tree, left_out))
}

/// Archives need not name their folders: adds those that are missing, before what is in them.
pub(crate) fn add_folders(tree: &mut Tree) {
    let mut known: std::collections::HashSet<String> =
        tree.nodes.iter().filter(|n| matches!(n.kind, Kind::Folder)).map(|n| n.path.clone()).collect();
    let mut missing = Vec::new();
    for node in &tree.nodes {
        for (at, _) in node.path.match_indices('/') {
            if known.insert(node.path[..at].to_owned()) {
                missing.push(Node::new(node.path[..at].to_owned(), Kind::Folder, None));
            }
        }
    }
    tree.nodes.extend(missing);
    // Folders first, the outer before the inner; files keep their order.
    tree.nodes.sort_by_key(|n| match n.kind {
        Kind::Folder => (0, n.path.matches('/').count()),
        _ => (1, 0),
    });
}

/// An ISO 9660 volume.
pub(super) fn iso(item: &Item, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let (mut tree, left_out) = chosen(item, options)?;
    let family = FAMILIES.iter().find(|f| tree.find(f.mark).is_some());
    let mut volume =
        Volume { label: item.stem.clone(), udf: options.given.has(&UDF) || has_udf(item), ..Volume::default() };
    if let Some(family) = family {
        volume.system = family.system.to_owned();
        volume.system_area = family.system_area;
        let place =
            |n: &Node| family.first.iter().position(|f| n.path.eq_ignore_ascii_case(f)).unwrap_or(family.first.len());
        tree.nodes.sort_by_key(|n| if matches!(n.kind, Kind::Folder) { (0, 0) } else { (1, place(n)) });
        if let Some(parameters) = tree.find(family.parameters).and_then(Node::file) {
            let opener = setting.opener(&item.keyring);
            let opened = opener.open(parameters.source()?.clone())?;
            let value = |name: &str| opened.told.parameters.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone());
            let id = value("TITLE_ID").or(value("DISC_ID")).unwrap_or_default();
            volume.label = value("TITLE").filter(|t| t.is_ascii() && !t.is_empty()).unwrap_or(id.clone());
            volume.id = if id.len() == 9 && id.is_ascii() { format!("{}-{}", &id[..4], &id[4..]) } else { id };
        }
    }
    if let Some(label) = options.given.text(&LABEL) {
        label.clone_into(&mut volume.label);
    }
    let blueprint = iso9660::compose(&tree, &volume)?;
    let bytes = tree.files().map(|(_, f)| f.len).sum();
    let (changed, signs) = iso9660::renamed(&tree)?;
    let mut made = Made::new(
        blueprint,
        Arc::new(Fill { byte: 0, len: bytes }),
        "all files with their content; the file system is new",
    );
    made.left_out = left_out;
    if let Some((name, plain)) = changed.first() {
        let names = tell::count(changed.len() as u64, "name is", "names are");
        made.notices.push(Notice::new(format!(
            "{names} another one in the plain ISO 9660 tree, as {name} is {plain}; the Joliet tree has all as they are"
        )));
    }
    if signs > 0 {
        made.notices.push(Notice::new(format!(
            "{} signs that ECMA-119 does not allow, kept as discs of consoles have them",
            tell::count(signs as u64, "name has", "names have")
        )));
    }
    made.back = Back::Files(tree);
    Ok(made)
}

/// Whether an image has a UDF volume: one that is made of its files gets one, too.
fn has_udf(item: &Item) -> bool {
    Udf.is_of(&item.opened) || item.opened.holds.is_bridge
}

fn accepts_xdvdfs(item: &Item, _: &Target) -> Option<u8> {
    if Xdvdfs.is_of(&item.opened) {
        return Some(70);
    }
    if x360::DISC.is_of(&item.opened) {
        return item.opened.holds.tree.is_some().then_some(80);
    }
    let tree = item.opened.holds.tree.as_ref().filter(|_| is_folder(item))?;
    let starts = ["default.xbe", "default.xex"].iter().any(|p| tree.find(p).is_some());
    Some(if starts { 90 } else { 5 })
}

/// A minimal partition, or the same partition without its padding.
fn xdvdfs(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    if options.given.has(&KEEP_POSITIONS) {
        return kept(item, options);
    }
    let (tree, mut left_out) = chosen(item, options)?;
    let placed = xdvdfs::compose_placed(&tree)?;
    let files: u64 = tree.files().map(|(_, f)| f.len).sum();
    let before = image(item).map_or(files, |s| s.len());
    if let Some(source) = item.source.as_ref().filter(|_| Xdvdfs.is_of(&item.opened)) {
        let base = xdvdfs::find(source.as_ref())?.map_or(0, |p| p.offset);
        if base > 0 {
            left_out.push(LeftOut {
                what: "the video partition".into(),
                bytes: base,
                why: "not read by a game".into(),
            });
        }
        let used = files + item.opened.extent.structure.iter().map(|s| s.end - s.start).sum::<u64>();
        let padding = source.len().saturating_sub(base + used);
        left_out.push(LeftOut { what: "padding".into(), bytes: padding, why: "belongs to no file".into() });
    }
    let source: SourceRef = Arc::new(Fill { byte: 0, len: before });
    let mut made = Made::new(placed.blueprint, source, "all files with their content; their places are new");
    made.left_out = left_out;
    made.back = Back::Files(tree);
    Ok(made)
}

/// Every file at its sector; what belongs to no file becomes a hole.
fn kept(item: &Item, options: &Options) -> Result<Made> {
    let source = item.source.clone().ok_or_else(|| Error::Usage("a folder has no positions to keep".into()))?;
    if options.given.has(&WITHOUT) {
        return Err(Error::Usage("--keep-positions keeps all files; --blank fills some with zeros".into()));
    }
    let tree = item.opened.holds.tree.clone().unwrap_or_default();
    let (bytes, mut left_out) = choose::blank(&source, &tree, options.given.texts(&BLANK))?;
    let base = xdvdfs::find(source.as_ref())?.map_or(0, |p| p.offset);
    let used = used_ranges(&tree, &item.opened.extent.structure, source.len());
    let (mut parts, mut at, mut padding): (Vec<SourceRef>, u64, u64) = (Vec::new(), base, 0);
    for range in used.into_iter().filter(|r| r.start >= base) {
        if range.start > at {
            parts.push(Arc::new(Fill { byte: 0, len: range.start - at }));
            padding += range.start - at;
        }
        parts.push(Arc::new(Slice::new(bytes.clone(), range.start, range.end - range.start)?));
        at = range.end;
    }
    left_out.push(LeftOut {
        what: "padding".into(),
        bytes: padding,
        why: "belongs to no file: a hole of zeros".into(),
    });
    if base > 0 {
        left_out.push(LeftOut { what: "the video partition".into(), bytes: base, why: "not read by a game".into() });
    }
    let whole: SourceRef = Arc::new(Concat::new(parts)?);
    let mut made = Made::new(Blueprint::of(whole.clone()), whole, "all files at their sectors");
    made.bytes_before = source.len();
    made.left_out = left_out;
    Ok(made)
}

/// What files and file system take, joined, on sector edges.
pub(crate) fn used_ranges(tree: &Tree, structure: &[Range<u64>], len: u64) -> Vec<Range<u64>> {
    let spans = tree.files().flat_map(|(_, f)| f.spans.iter()).chain(structure);
    let edge = |r: &Range<u64>| r.start / SECTOR * SECTOR..r.end.next_multiple_of(SECTOR).min(len);
    let mut all: Vec<Range<u64>> = spans.map(edge).filter(|r| !r.is_empty()).collect();
    all.sort_by_key(|r| r.start);
    let mut used: Vec<Range<u64>> = Vec::new();
    for range in all {
        match used.last_mut() {
            Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
            _ => used.push(range),
        }
    }
    used
}
