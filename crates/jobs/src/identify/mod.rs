//! What is it? Its state, what it needs, what it can become, and the next command to type.

mod becomes;
mod drive;

use crate::below::Below;
use crate::failure::with_article;
use crate::family::{Family, Fault, Member, families};
use crate::layers::{self, Layer, LayerSet, TITLE_MARKS, title_folders};
use crate::padding::{self, Padding};
use crate::picture::{self, Scene};
use crate::rom::RomReport;
use crate::starter::{self, Starter};
use crate::{Answer, Failure, Item, Setting, label, locate, place};
use becomes::{becomes, next};
use decanter_core::format::Format;
use decanter_core::label::Picture;
use decanter_core::native;
use decanter_core::opened::{Belongs, Fact};
use decanter_core::pour::Output;
use decanter_core::protection::{KeyState, State};
use decanter_core::role::Role;
use decanter_core::source::Bytes;
use decanter_core::title::HeldTitle;
use decanter_core::tree::Content;
use decanter_core::{Blueprint, Error, Notice, SECTOR};
use decanter_formats::archive::{lha::Lha, lzx::Lzx, zip::Zip};
use decanter_formats::disk::amiga::{Adf, Hdf};
use decanter_formats::disk::cbm::{D64, D71, D81, t64::T64};
use decanter_formats::package::ps4::PACKAGE;
use serde::Serialize;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

pub use becomes::Becomes;

/// How many times as large an icon is drawn.
const ICON_SCALE: u32 = 8;
/// Pixels across of an icon that is large enough as it is.
const LARGE_ICON: u32 = 128;
/// Hit files that are named.
const MOST_NAMED: usize = 50;

/// What some sources are.
#[derive(Debug, Serialize)]
pub struct IdentifyReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// One entry a source, in the order given; folders are replaced by the files in them.
    pub sources: Vec<Identity>,
    /// Titles that belong together: a program with its updates and add-ons.
    pub groups: Vec<Group>,
    /// The same where they can be put into one file: base, newest update, add-ons, and what is wrong.
    pub titles: Vec<Family>,
    /// Titles whose files lie over each other: a base with its updates and replacement files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sets: Vec<LayerSet>,
    /// Folders with programs in them that may be the ones to start.
    pub starters: Vec<(String, Vec<Starter>)>,
}

/// Titles that belong together.
#[derive(Debug, Serialize)]
pub struct Group {
    /// What they have in common, as the fact "belongs to" says it.
    pub name: String,
    /// The title, where one of them says it.
    pub title: String,
    /// The members: address, and what it is.
    pub members: Vec<(String, String)>,
    /// Discs of the set that are not among them.
    pub missing: Vec<String>,
}

/// What one source is.
#[derive(Debug, Default, Serialize)]
pub struct Identity {
    /// The source, with what it was looked through.
    pub source: String,
    /// Why it could not be opened, if so; then most of the rest is empty.
    pub error: Option<String>,
    /// Its title, in the user's language where it has one.
    #[serde(skip)]
    pub title: Option<String>,
    /// Which other sources it goes with.
    #[serde(skip)]
    pub belongs: Option<Belongs>,
    /// The titles in it that can be told apart.
    pub titles: Vec<HeldTitle>,
    /// Id of the format.
    pub format: Option<&'static str>,
    /// What it is, in a few words.
    pub kind: String,
    /// What stands around it, outermost first.
    pub inside: Vec<String>,
    /// Title, id, version and so on.
    pub facts: Vec<Fact>,
    /// Length in bytes.
    pub bytes: u64,
    /// Length that its headers promise.
    pub promised_bytes: Option<u64>,
    /// Sectors that are missing at its end; 0 for what is not made of sectors.
    pub missing_sectors: u64,
    /// Bytes that are missing at its end.
    pub missing_bytes: u64,
    /// Files of which something is missing.
    pub hit_files: Vec<String>,
    /// How many files are hit, named or not.
    pub hit_count: usize,
    /// Files inside.
    pub files: Option<usize>,
    /// Folders inside.
    pub folders: Option<usize>,
    /// Regions, and how many bytes of them are encrypted on the medium.
    pub regions: Option<Regions>,
    /// What is known of the ROM, if it is one.
    pub rom: Option<RomReport>,
    /// What belongs to no file, and files that look like filler.
    pub padding: Option<Padding>,
    /// Whether it is encrypted.
    pub encryption: Option<Encryption>,
    /// What it can become, and the command for it.
    pub becomes: Vec<Becomes>,
    /// Sectors that were not read, of a dump that is not finished.
    pub unread_sectors: Option<u64>,
    /// The command that makes most sense now.
    pub next: Option<String>,
    /// Programs that may be the one to start, the likeliest first.
    pub starters: Vec<Starter>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
    /// Whether it is a title that is packed to be installed or started.
    #[serde(skip)]
    pub is_package: bool,
    /// Its place among the layers of a title, if it may be one.
    #[serde(skip)]
    layer: Option<Layer>,
    #[serde(skip)]
    cause: Option<Error>,
}

/// The regions of a disc, in numbers.
#[derive(Debug, Serialize)]
pub struct Regions {
    /// Plain ones.
    pub plain: usize,
    /// Encrypted ones.
    pub encrypted: usize,
    /// Bytes in the encrypted ones.
    pub encrypted_bytes: u64,
}

/// Whether a source is encrypted, and whether the key is there.
#[derive(Debug, Serialize)]
pub struct Encryption {
    /// Whether it is.
    pub state: State,
    /// How that is known.
    pub evidence: String,
    /// One of "not needed", "found", "unproven", "missing", "wrong".
    pub key: &'static str,
    /// Where the key was found.
    pub key_origin: Option<String>,
    /// The file that proves it right.
    pub key_proof: Option<String>,
    /// What is needed and where it was looked for, if it is missing or wrong.
    pub key_trouble: Option<String>,
}

/// Identifies all sources; folders are searched.
///
/// # Errors
/// Only when the user stops. A source that is not understood is an entry with an error.
pub fn identify(paths_given: &[String], setting: &Setting<'_>) -> Result<(IdentifyReport, Answer), Failure> {
    let mut paths: Vec<(String, bool)> = Vec::new();
    let mut unread: Vec<Identity> = Vec::new();
    for source in paths_given {
        if setting.is_folder(source) {
            let below = Below::of(source, setting);
            paths.extend(below.files.into_iter().map(|p| (p, false)));
            unread.extend(below.failed.into_iter().map(|(path, e)| not_understood(&path, Failure::new("", e))));
            for (path, kind) in below.passed {
                setting.watch.notice(&Notice::new(format!("{path} is passed over: it is {kind}")));
            }
        } else {
            paths.push((source.clone(), true));
        }
    }
    // Folders with files of a title are meant as a whole.
    let plain: Vec<String> = paths.iter().filter(|(_, is_named)| !is_named).map(|(path, _)| path.clone()).collect();
    for folder in title_folders(&plain, setting) {
        let is_below = |path: &str| path.strip_prefix(&folder).is_some_and(|rest| rest.starts_with('/'));
        let at = paths.iter().position(|(path, _)| is_below(path)).unwrap_or(0);
        paths.retain(|(path, _)| !is_below(path));
        paths.insert(at.min(paths.len()), (folder, false));
    }
    let next = AtomicUsize::new(0);
    let found = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..setting.jobs.clamp(1, paths.len().max(1)) {
            scope.spawn(|| {
                loop {
                    let index = next.fetch_add(1, Ordering::Relaxed);
                    let Some((path, _)) = paths.get(index).filter(|_| !setting.watch.cancelled()) else { break };
                    let identities = one(path, setting);
                    found.lock().unwrap_or_else(|e| e.into_inner()).push((index, identities));
                }
            });
        }
    });
    if setting.watch.cancelled() {
        return Err(Failure::new("identify was stopped", Error::Cancelled));
    }
    let mut found = found.into_inner().unwrap_or_else(|e| e.into_inner());
    found.sort_by_key(|(index, _)| *index);
    // Of what a folder has, only what could not be read at all counts: it may hold anything.
    let counts = |index: usize, identity: &Identity| paths[index].1 || matches!(identity.cause, Some(Error::Io { .. }));
    let named = found.iter().flat_map(|(index, all)| all.iter().filter(|identity| counts(*index, identity)));
    let answer = answer(named.chain(&unread));
    let sources: Vec<Identity> = found.into_iter().flat_map(|(_, identities)| identities).chain(unread).collect();
    // What one source by itself goes over is not asked.
    let are_many = paths_given.len() > 1 || paths_given.iter().any(|path| setting.is_folder(path));
    let layers = sources.iter().filter(|_| are_many).filter_map(|s| s.layer.clone()).collect();
    let sets = layers::sets(layers, &setting.typed_keys());
    let mut groups = groups(&sources);
    groups.retain(|group| !sets.iter().any(|set| group.name == format!("title {}", set.title_id)));
    let titles = titles(&sources);
    let starters = folder_starters(paths_given, setting);
    Ok((IdentifyReport { schema: "decanter.identify/1", sources, groups, titles, sets, starters }, answer))
}

/// Programs in folders of files that an archive may have held.
fn folder_starters(sources: &[String], setting: &Setting<'_>) -> Vec<(String, Vec<Starter>)> {
    let folders = sources.iter().filter(|s| setting.is_folder(s));
    let rank = |source: &String| {
        let item = locate::open(source, "identify", setting).ok()?;
        let found = starters(&item);
        (!found.is_empty()).then(|| (source.clone(), found))
    };
    folders.filter_map(rank).collect()
}

/// Sources that say of themselves that they belong to the same titles, where there are several of them.
fn groups(sources: &[Identity]) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    for identity in sources {
        let Some(Belongs { to: name, .. }) = identity.belongs.clone().filter(|_| identity.titles.is_empty()) else {
            continue;
        };
        let member = (identity.source.clone(), identity.kind.clone());
        let title = identity.title.clone().unwrap_or_default();
        match groups.iter_mut().find(|g| g.name == name) {
            Some(group) => {
                group.members.push(member);
                if group.title.is_empty() {
                    group.title = title;
                }
            }
            None => groups.push(Group { name, title, members: vec![member], missing: Vec::new() }),
        }
    }
    for group in &mut groups {
        group.missing = missing_discs(group, sources);
    }
    groups.retain(|g| g.members.len() > 1 || !g.missing.is_empty());
    groups
}

/// Discs that the members of a group count, and that are not there.
fn missing_discs(group: &Group, sources: &[Identity]) -> Vec<String> {
    let is_member = |s: &&Identity| s.belongs.as_ref().is_some_and(|b| b.to == group.name);
    let disc = |s: &Identity| -> Option<(u32, u32)> {
        let text = &s.facts.iter().find(|f| f.name == "disc")?.value;
        let (number, count) = text.split_once(" of ")?;
        Some((number.parse().ok()?, count.parse().ok()?))
    };
    let there: Vec<(u32, u32)> = sources.iter().filter(is_member).filter_map(disc).collect();
    let count = there.iter().map(|(_, count)| *count).max().unwrap_or(0);
    let is_missing = |number: &u32| !there.iter().any(|(own, _)| own == number);
    (1..=count).filter(is_missing).map(|number| format!("disc {number} of {count}")).collect()
}

/// Titles of all sources, put together; what is damaged of them is told with them.
fn titles(sources: &[Identity]) -> Vec<Family> {
    let members = |(number, identity): (usize, &Identity)| {
        let member = |title: &HeldTitle| Member {
            source: identity.source.clone(),
            number,
            name: identity.title.clone(),
            title: title.clone(),
        };
        identity.titles.iter().map(member).collect::<Vec<_>>()
    };
    let mut all = families(sources.iter().enumerate().flat_map(members).collect());
    for family in &mut all {
        let told = |m: &Member| {
            let why = sources[m.number].notices.iter().find(|n| n.is_damage).map(|n| n.text.clone())?;
            // What is listed and not there is a fault of its own.
            m.title.missing.is_empty().then(|| Fault::Damaged { what: m.what(), source: m.source.clone(), why })
        };
        let damaged: Vec<Fault> = family.chosen().filter_map(told).collect();
        family.faults.extend(damaged);
    }
    all
}

/// Draws a map of the one source.
///
/// # Errors
/// When there are several, it has no files inside, or the picture cannot be written.
pub fn draw(sources: &[String], target: &Path, setting: &Setting<'_>) -> Result<(), Failure> {
    let what = format!("cannot draw \"{}\"", native::text(target));
    let [source] = sources else {
        return Err(Failure::usage(what, "a picture shows one source, but several were given").hint("give one of them"));
    };
    let target = &place::file(Some(target), &format!("{}.png", place::stem_of_shown(source)));
    let item = locate::open(source, "draw", setting)?;
    let icons = item.opened.told.label.as_ref().map(label::pictures).transpose();
    let icons = icons.map_err(|e| Failure::new(what.clone(), e))?.unwrap_or_default();
    if let Some((_, icon)) = icons.first() {
        return draw_icon(icon, target, &what, setting);
    }
    let Some(scene) = Scene::of_item(&item) else {
        return Err(Failure::usage(
            what,
            format!("{} has no sectors that a map could show", with_article(&item.opened.identity.kind)),
        )
        .hint("give a disc image"));
    };
    picture::draw(&scene, target, &what, setting.door(), setting)
}

/// An icon, large enough to be looked at.
fn draw_icon(icon: &Picture, target: &Path, what: &str, setting: &Setting<'_>) -> Result<(), Failure> {
    let scale = if icon.width < LARGE_ICON { ICON_SCALE } else { 1 };
    let size = Some((icon.width * scale, icon.height * scale));
    let options = label::Options { size, filter: label::Filter::Sharp, ..label::Options::default() };
    let (_, png) = label::png(icon, &options).map_err(|e| Failure::new(what, e))?;
    setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(png))), target), what).map(|_| ())
}

/// Only sources that were named themselves count; a folder may hold anything.
fn answer<'a>(named: impl Iterator<Item = &'a Identity>) -> Answer {
    let mut answer = Answer::Yes;
    for cause in named.filter_map(|identity| identity.cause.as_ref()) {
        match cause {
            Error::Io { .. } => return Answer::ReadError,
            _ => answer = Answer::NotUnderstood,
        }
    }
    answer
}

/// A source; of an archive with several ROMs each of them.
fn one(shown: &str, setting: &Setting<'_>) -> Vec<Identity> {
    let opened = match shown.ends_with("::") {
        true => locate::open(shown, "identify", setting),
        false => match locate::open_container(shown, setting) {
            // What is not looked through is open already.
            Ok(item) if !item.may_be_looked_through() => Ok(item),
            Ok(item) => match roms_inside(&item, setting) {
                Some(roms) => return roms,
                None => locate::open(shown, "identify", setting),
            },
            Err(e) => Err(Failure::new(format!("cannot identify \"{shown}\""), e)),
        },
    };
    match opened {
        Ok(item) => vec![describe(&item, setting)],
        Err(failure) => vec![not_understood(shown, failure)],
    }
}

/// The ROMs in an archive, in one pass through it; `None` if it is no archive, or one of something else.
fn roms_inside(item: &Item, setting: &Setting<'_>) -> Option<Vec<Identity>> {
    if item.opened.identity.role != Role::Archive {
        return None;
    }
    let mut roms = Vec::new();
    let mut is_any = false;
    let has_image = locate::each_rom(item, setting, &mut |found| match found {
        Ok(rom) => {
            is_any = true;
            let mut identity = describe(&rom, setting);
            identity.notices.splice(0..0, item.notices().to_vec());
            roms.push(identity);
        }
        Err((address, e)) => roms.push(not_understood(&address, Failure::new("cannot look inside", e))),
    });
    (!has_image.ok()? && is_any).then_some(roms)
}

fn not_understood(shown: &str, failure: Failure) -> Identity {
    Identity {
        source: shown.to_owned(),
        error: Some(failure.cause.to_string()),
        kind: "not understood".into(),
        bytes: std::fs::metadata(native::path(shown)).map_or(0, |m| m.len()),
        next: failure.hint,
        cause: Some(*failure.cause),
        ..Identity::default()
    }
}

/// What the user's lists say of it.
fn known(item: &Item, setting: &Setting<'_>) -> Vec<Fact> {
    match crate::notes::of_item(item, setting) {
        Ok(notes) => notes.iter().map(|n| Fact { name: "noted", value: n.words() }).collect(),
        Err(e) => vec![Fact { name: "noted", value: format!("nothing can be said: {e}") }],
    }
}

/// Everything known of an opened source.
pub fn describe(item: &Item, setting: &Setting<'_>) -> Identity {
    let opened = &item.opened;
    let mut facts = opened.told.facts.clone();
    let label = opened.told.label.as_ref().zip(setting.language.as_deref());
    // A package is called by its titles; a ROM by its header, and its banner has the titles.
    let titled = if item.opened.identity.role == Role::Package { "title" } else { "banner" };
    if let Some(own) = label.and_then(|(label, code)| label::title_in(&label.titles, code))
        && let Some(fact) = facts.iter_mut().find(|f| f.name == titled)
    {
        fact.value = own;
    }
    facts.extend(drive::facts(item, setting));
    facts.extend(known(item, setting));
    let tracks = &item.opened.holds.tracks;
    let in_folder = || opened.holds.tree.iter().flat_map(|t| t.files()).map(|(_, f)| f.len).sum();
    let stored = item.source.as_ref().map_or_else(in_folder, |s| s.len());
    let bytes = if tracks.is_empty() { stored } else { tracks.iter().map(|t| t.source.len()).sum() };
    let missing = opened.extent.promised_len.map_or(0, |promised| promised.saturating_sub(bytes));
    let (mut hit_files, mut hit_count) = (Vec::new(), 0);
    for (node, file) in opened.holds.tree.iter().flat_map(|t| t.files()) {
        if matches!(file.content, Content::Cut { .. }) {
            hit_count += 1;
            if hit_files.len() < MOST_NAMED {
                hit_files.push(node.path.clone());
            }
        }
    }
    let encrypted = opened.extent.regions.iter().filter(|r| r.encrypted);
    let regions = (!opened.extent.regions.is_empty()).then(|| Regions {
        plain: opened.extent.regions.iter().filter(|r| !r.encrypted).count(),
        encrypted: encrypted.clone().count(),
        encrypted_bytes: encrypted.map(|r| r.range.end - r.range.start).sum(),
    });
    let encryption = opened.protection.as_ref().map(|p| {
        let (key, origin, proof, trouble) = match &p.key {
            KeyState::NotNeeded => ("not needed", None, None, None),
            KeyState::Found { origin, proof: None } => ("unproven", Some(origin.clone()), None, None),
            KeyState::Found { origin, proof } => ("found", Some(origin.clone()), proof.clone(), None),
            KeyState::Trouble(t) if t.wrong.is_empty() => ("missing", None, None, Some(t.to_string())),
            KeyState::Trouble(t) => ("wrong", None, None, Some(t.to_string())),
        };
        Encryption {
            state: p.state,
            evidence: p.evidence.clone(),
            key,
            key_origin: origin,
            key_proof: proof,
            key_trouble: trouble,
        }
    });
    let layer = is_layer(item).then(|| Layer::of(item).ok().flatten()).flatten();
    let title_folder = layer.as_ref().filter(|_| item.opened.identity.role == Role::Folder && is_title_folder(item));
    if let Some(layer) = title_folder {
        facts.extend(facts_of(layer));
    }
    let is_cut = missing > 0 || item.unfinished.is_some();
    let becomes = becomes(item, is_cut, setting);
    Identity {
        source: item.address.clone(),
        error: None,
        title: facts.iter().find(|f| f.name == "title").map(|f| f.value.clone()),
        belongs: opened.identity.belongs.clone(),
        titles: opened.holds.titles.clone(),
        format: Some(opened.identity.format),
        kind: match title_folder {
            Some(_) => "files of a PS4 title, in a folder".into(),
            None => opened.identity.kind.clone(),
        },
        inside: item.around.iter().map(|around| around.kind.clone()).collect(),
        facts,
        bytes,
        promised_bytes: opened.extent.promised_len,
        missing_sectors: if item.opened.identity.role == Role::Package { 0 } else { missing.div_ceil(SECTOR) },
        missing_bytes: missing,
        hit_files,
        hit_count,
        files: opened.holds.tree.as_ref().map(|t| t.files().count()),
        folders: opened.holds.tree.as_ref().map(|t| t.folder_count()),
        regions,
        rom: opened.holds.rom.as_ref().map(RomReport::of),
        padding: padding::look(item),
        next: next(item, missing > 0, &becomes, setting),
        encryption,
        becomes,
        unread_sectors: item.unfinished.as_ref().map(|map| map.missing()),
        starters: starters(item),
        notices: item.notices().to_vec(),
        is_package: (item.opened.identity.role == Role::Package),
        layer,
        cause: None,
    }
}

/// Whether it may be a layer of a title: a package of the generation, or a folder with files of one.
fn is_layer(item: &Item) -> bool {
    PACKAGE.is_of(&item.opened) || item.opened.identity.role == Role::Folder
}

/// Whether a folder has files that only those of a title of the generation have.
fn is_title_folder(item: &Item) -> bool {
    item.opened.holds.tree.as_ref().is_some_and(|tree| TITLE_MARKS.iter().any(|mark| tree.find(mark).is_some()))
}

/// What the parameter file in a folder says.
fn facts_of(layer: &Layer) -> Vec<Fact> {
    let system = layers::system_version(layer.system);
    let all = [
        ("title", &layer.title),
        ("id", &layer.title_id),
        ("content id", &layer.content_id),
        ("app version", &layer.app_version),
        ("needs system", &system),
    ];
    let told = all.into_iter().filter(|(_, value)| !value.is_empty());
    told.map(|(name, value)| Fact { name, value: value.clone() }).collect()
}

/// Programs in disks and archives of home computers.
fn starters(item: &Item) -> Vec<Starter> {
    static HOLDERS: [&dyn Format; 9] = [&D64, &D71, &D81, &T64, &Adf, &Hdf, &Lha, &Lzx, &Zip];
    let opened = &item.opened;
    let holds = opened.identity.role == Role::Folder || HOLDERS.iter().any(|holder| holder.is_of(opened));
    let tree = opened.holds.tree.as_ref().filter(|_| holds);
    // What cannot be read is told by other means.
    tree.and_then(|t| starter::rank(t).ok()).unwrap_or_default()
}
