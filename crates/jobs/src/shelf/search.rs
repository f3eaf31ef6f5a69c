//! What the sources that were named hold: files, what is in folders, what is in archives with several dumps.

use crate::below::Below;
use crate::locate::{self, INSIDE, Member};
use crate::{Failure, Item, Setting, title_folder};
use decanter_core::format::MOST_DEPTH;
use decanter_core::head::Head;
use decanter_core::names::{Namer, stem_of};
use decanter_core::role::Role;
use decanter_core::store;
use decanter_core::{Error, Result, native};
use decanter_formats::REGISTRY;
use decanter_formats::optical::cd::cue;
use std::collections::HashSet;
use std::path::PathBuf;

/// What a command takes of what is found.
pub(crate) struct Taste {
    /// Whether a file of a folder that has this role is worth a look.
    pub(crate) takes: fn(Role) -> bool,
    /// Whether a folder is one source, with all that is in it.
    pub(crate) keeps_folders: bool,
    /// Whether an archive is one source, whatever is in it.
    pub(crate) keeps_archives: bool,
    /// Whether the ROMs of an archive are sources of their own; else the archive is.
    pub(crate) takes_roms_apart: bool,
    /// Whether a folder that is laid out as a title is one source; else its files are.
    pub(crate) keeps_titles: bool,
    /// Whether the files that a cue sheet names are sources of their own; else the sheet stands for them.
    pub(crate) splits_sheets: bool,
}

impl Taste {
    /// What has one of these roles, in folders and in archives that hold several.
    pub(crate) const fn of(takes: fn(Role) -> bool) -> Self {
        Self {
            takes,
            keeps_folders: false,
            keeps_archives: false,
            takes_roms_apart: false,
            keeps_titles: false,
            splits_sheets: false,
        }
    }
}

/// A source that was found.
#[derive(Debug, Clone)]
pub(crate) struct Found {
    /// As a job takes it.
    pub(crate) address: String,
    /// The folder that it lay in, below the source that it was found in: results keep that layout.
    pub(crate) below: PathBuf,
    /// Bytes that working on it takes, as far as that can be told by its length.
    pub(crate) bytes: u64,
    /// Whether it was named by itself: what was only found may be passed over.
    pub(crate) is_named: bool,
}

impl Found {
    /// One that was named by itself.
    pub(crate) fn named(address: String) -> Self {
        Self { address, below: PathBuf::new(), bytes: 0, is_named: true }
    }
}

/// Everything that was found.
#[derive(Default)]
pub struct Search {
    /// The sources, in the order in which they were named, those of a folder by name.
    pub(crate) found: Vec<Found>,
    /// What cannot be looked into.
    pub(crate) failed: Vec<(String, Failure)>,
    /// Files that are nothing that the command takes.
    pub(crate) unknown: usize,
    /// Folders among what was looked through that a file in them describes as one thing: a title, or saves of one.
    pub(crate) described: Vec<String>,
    /// The archive that was named and holds several.
    pub(crate) through: Option<String>,
    /// Whether one source was named that stands for itself.
    pub(crate) is_one: bool,
}

impl Search {
    /// Searches sources.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub(crate) fn of(sources: &[String], taste: &Taste, is_listed: bool, setting: &Setting<'_>) -> Result<Self> {
        let mut own = Self::default();
        // What is opened on the way is no part of any result.
        let setting = &setting.for_one(setting.watch);
        let folders = sources.iter().filter(|s| setting.is_folder(s)).count();
        for source in sources {
            decanter_core::watch::check(setting.watch)?;
            if !setting.is_folder(source) {
                let bytes = length(source, setting);
                own.file(source, &Place { below: PathBuf::new(), bytes, is_named: true }, taste, 0, setting)?;
            } else if taste.keeps_folders {
                let (address, below) = (source.clone(), PathBuf::new());
                own.found.push(Found { address, below, bytes: u64::MAX, is_named: true });
            } else {
                let own_name = if folders > 1 { store::name_of(source.trim_end_matches('/')) } else { "" };
                own.folder(source, own_name, taste, setting)?;
            }
        }
        let is_folder_whole = folders == 0 || taste.keeps_folders;
        own.is_one = sources.len() == 1 && !is_listed && is_folder_whole && own.through.is_none();
        Ok(own)
    }

    fn folder(&mut self, folder: &str, own_name: &str, taste: &Taste, setting: &Setting<'_>) -> Result<()> {
        let below = Below::of(folder, setting);
        setting.tell_passed(&below.passed);
        for (path, error) in below.failed {
            setting.watch.unread(&path, &error);
        }
        let root = format!("{}/", folder.trim_end_matches('/'));
        let mut tracks = HashSet::new();
        let mut files = Vec::new();
        let titles = if taste.keeps_titles { title_folder::among(&below.files) } else { Vec::new() };
        let is_title: HashSet<String> = titles.iter().cloned().collect();
        for title in titles {
            let inside = title.strip_prefix(&root).unwrap_or_default();
            let below = native::path(store::folder_of(&store::join(own_name, inside)));
            self.found.push(Found { address: title, below, bytes: u64::MAX, is_named: false });
        }
        for path in below.files.into_iter().filter(|path| !title_folder::lies_in(path, &is_title)) {
            decanter_core::watch::check(setting.watch)?;
            match detect(&path, setting) {
                Ok((Some(Role::Sheet), _)) if !taste.splits_sheets => {
                    let named = locate::bytes(&path, setting).map(|s| cue::named_files(s.as_ref())).unwrap_or_default();
                    let at = |name: String| {
                        let name = decanter_core::catalogue::last_name(&name);
                        store::join(store::folder_of(&path), name).to_lowercase()
                    };
                    tracks.extend(named.into_iter().map(at));
                    files.push((path, true, 0));
                }
                Ok((role, bytes)) => {
                    let takes = |role: Role| role != Role::Sheet && (taste.takes)(role) || role == Role::Archive;
                    files.push((path, role.is_some_and(takes), bytes));
                }
                Err(e @ Error::Cancelled) => return Err(e),
                Err(error) => self.failed.push((path.clone(), Failure::new(format!("cannot read \"{path}\""), error))),
            }
        }
        for (path, is_taken, bytes) in files {
            if tracks.contains(&path.to_lowercase()) {
                continue;
            }
            if !is_taken {
                self.unknown += 1;
                self.described.extend(described(&path).map(str::to_owned));
                continue;
            }
            let inside = path.strip_prefix(&root).unwrap_or(&path);
            let below = native::path(store::folder_of(&store::join(own_name, inside)));
            self.file(&path, &Place { below, bytes, is_named: false }, taste, 0, setting)?;
        }
        Ok(())
    }

    /// A file, or, of an archive with several, each of them.
    fn file(&mut self, address: &str, at: &Place, taste: &Taste, depth: usize, setting: &Setting<'_>) -> Result<()> {
        let keeps = taste.keeps_archives || address.ends_with(INSIDE) || depth >= MOST_DEPTH;
        let (archive, members) = match if keeps { Ok(None) } else { gone_through(address, setting) } {
            Ok(Some(found)) => found,
            Err(e @ Error::Cancelled) => return Err(e),
            // What is wrong with it is told by the job that opens it.
            Ok(None) | Err(_) => {
                let is_itself = taste.keeps_archives && is_archive(address, setting)?;
                let address = format!("{address}{}", if is_itself { INSIDE } else { "" });
                let (below, bytes, is_named) = (at.below.clone(), at.bytes, at.is_named);
                self.found.push(Found { address, below, bytes, is_named });
                return Ok(());
            }
        };
        let is_apart = |role: Option<Role>| role != Some(Role::Rom) || taste.takes_roms_apart;
        if members.len() < 2 || !members.iter().all(|m| is_apart(m.role)) {
            let (address, below) = (address.to_owned(), at.below.clone());
            self.found.push(Found { address, below, bytes: at.bytes, is_named: at.is_named });
            return Ok(());
        }
        if at.is_named && depth == 0 {
            self.through = Some(address.to_owned());
        }
        let mut namer = Namer::new(true);
        for member in &members {
            // An archive is a folder of its own among the results.
            let inside = store::folder_of(&member.path);
            let below = at.below.join(native::path(&stem_of(store::name_of(address)))).join(namer.folder(inside).path);
            let place = Place { below, bytes: member.bytes, is_named: at.is_named };
            let address = member.address(&archive);
            // Only what is packed in turn may hold several.
            if member.role.is_some_and(|role| !matches!(role, Role::Archive | Role::Wrapper)) {
                let Place { below, bytes, is_named } = place;
                self.found.push(Found { address, below, bytes, is_named });
                continue;
            }
            self.file(&address, &place, taste, depth + 1, setting)?;
        }
        Ok(())
    }
}

/// The folder that a file describes as one thing, if it is called as such a file is.
fn described(path: &str) -> Option<&str> {
    let folder = store::folder_of(path);
    let is_it = store::name_of(path).eq_ignore_ascii_case("PARAM.SFO");
    let is_part = ["sce_sys", "PS3_GAME"].iter().any(|name| store::name_of(folder).eq_ignore_ascii_case(name));
    is_it.then(|| if is_part { store::folder_of(folder) } else { folder })
}

/// Where a file was found.
struct Place {
    below: PathBuf,
    bytes: u64,
    is_named: bool,
}

/// Opens an archive, also one that is wrapped; `None` for everything else.
fn archive(address: &str, setting: &Setting<'_>) -> Result<Option<Item>> {
    let item = locate::open_container(address, setting)?;
    Ok((item.opened.identity.role == Role::Archive).then_some(item))
}

/// An archive with what it holds; `None` for everything else.
fn gone_through(address: &str, setting: &Setting<'_>) -> Result<Option<(Item, Vec<Member>)>> {
    let Some(archive) = archive(address, setting)? else { return Ok(None) };
    let members = locate::members(&archive, setting)?;
    Ok(Some((archive, members)))
}

fn is_archive(address: &str, setting: &Setting<'_>) -> Result<bool> {
    match archive(address, setting) {
        Ok(found) => Ok(found.is_some()),
        Err(Error::Cancelled) => Err(Error::Cancelled),
        // What is wrong with it is told by the job that opens it.
        Err(_) => Ok(false),
    }
}

/// What a file of a folder is, and its length.
fn detect(path: &str, setting: &Setting<'_>) -> Result<(Option<Role>, u64)> {
    let source = locate::bytes(path, setting)?;
    let format = REGISTRY.detect(&Head::new(source.as_ref()))?;
    Ok((format.map(|f| f.role()), source.len()))
}

/// The length of what was named, as far as that can be told without opening it.
fn length(address: &str, setting: &Setting<'_>) -> u64 {
    let host = address.split(INSIDE).next().unwrap_or(address);
    setting.store(host).local(host).and_then(|path| std::fs::metadata(path).ok()).map_or(0, |meta| meta.len())
}
