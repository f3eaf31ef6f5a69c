//! Many sources against DAT files and checksum lists: by content first, then what the name should be.

use super::images::{self, Sheet};
use crate::{Answer, Failure, Setting, locate};
use decanter_core::catalogue::{Catalogue, Status, last_name};
use decanter_core::digest::{Algorithm, Digest, Hasher, of_source};
use decanter_core::format::{Context, Format};
use decanter_core::native;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::tree::Tree;
use decanter_core::view::{MOST_HELD, held};
use decanter_core::{Error, Keyring, Result};
use decanter_formats::REGISTRY;
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use walkdir::WalkDir;

/// Files up to this size are hashed in one piece by the thread that found them.
const SMALL: u64 = 4 << 20;
/// Containers in containers.
const MOST_DEPTH: usize = 4;

/// Catalogues to hold sources against.
pub struct Against {
    paths: Vec<String>,
    pub(super) catalogues: Vec<Arc<Catalogue>>,
    algorithms: Vec<Algorithm>,
}

/// What came of it.
#[derive(Debug, Serialize)]
pub struct MatchReport {
    /// The DAT files and lists.
    pub against: Vec<String>,
    /// True when every file is known to be good and nothing is missing.
    pub all_match: bool,
    /// How many files have which state.
    pub counts: MatchCounts,
    /// Every file.
    pub files: Vec<MatchedFile>,
    /// Entries that belong to a game or list of which something is here, and are not here themselves.
    pub missing: Vec<MissingEntry>,
    /// Games of which everything is here.
    pub games_complete: usize,
    /// Games of which something is missing.
    pub games_partial: usize,
    /// Games of which nothing is here.
    pub games_absent: usize,
    /// What to do next.
    pub next: String,
}

/// How many files have which state.
#[derive(Debug, Default, Serialize)]
pub struct MatchCounts {
    /// Content and name are right.
    pub matching: usize,
    /// The content is right, the name another one.
    pub renamed: usize,
    /// The content is that of a dump that is known to be bad.
    pub known_bad: usize,
    /// There is an entry of that name with other content.
    pub differing: usize,
    /// No entry has that content or name.
    pub unknown: usize,
    /// It cannot be read.
    pub unreadable: usize,
    /// Entries that are not here.
    pub missing: usize,
}

/// What is known of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum MatchState {
    /// Content and name are right.
    Match,
    /// The content is right, the name another one.
    OtherName,
    /// The content is that of a dump that is known to be bad.
    KnownBad,
    /// There is an entry of that name with other content.
    Differs,
    /// No entry has that content or name.
    Unknown,
    /// It cannot be read.
    Unreadable,
}

/// A file that was held against the catalogues.
#[derive(Debug, Serialize)]
pub struct MatchedFile {
    /// Where it is, with what it was looked through.
    pub path: String,
    /// What is known of it.
    pub state: MatchState,
    /// Length in bytes.
    pub bytes: u64,
    /// Its digests, as far as they were needed.
    pub digests: Vec<Digest>,
    /// The name it should have.
    pub name: Option<String>,
    /// The game it belongs to.
    pub game: Option<String>,
    /// The game that this one is a variant of.
    pub parent: Option<String>,
    /// The digest it should have.
    pub expected: Option<Digest>,
    /// What the content was found through: a header, another byte order.
    pub through: Option<String>,
    /// More on the state.
    pub note: Option<String>,
    /// The image that this is a track of.
    #[serde(skip)]
    pub(super) track_of: Option<String>,
    #[serde(skip)]
    pub(super) is_read_error: bool,
    /// Entries of the same content: which catalogue, which entry; the first is the one that is named.
    #[serde(skip)]
    pub(super) hits: Vec<(usize, usize)>,
}

/// An entry that is not here.
#[derive(Debug, Serialize)]
pub struct MissingEntry {
    /// Its game.
    pub game: String,
    /// Its name.
    pub name: String,
    /// Length in bytes, where known.
    pub bytes: Option<u64>,
}

impl MatchReport {
    /// Yes or no.
    pub fn answer(&self) -> Answer {
        if self.all_match {
            Answer::Yes
        } else if self.files.iter().any(|f| f.is_read_error) {
            Answer::ReadError
        } else {
            Answer::No
        }
    }
}

/// Opens what to hold sources against; `None` when these are no catalogues, but descriptions of single discs.
///
/// # Errors
/// When one of them cannot be opened, or both kinds are mixed.
pub fn open(against: &[String], setting: &Setting<'_>) -> std::result::Result<Option<Against>, Failure> {
    let (mut paths, mut catalogues, mut others) = (Vec::new(), Vec::new(), 0);
    for path in against {
        let opened = locate::open(path, "use", setting)?.opened;
        match opened.catalogue {
            Some(catalogue) => {
                paths.push(path.clone());
                catalogues.push(catalogue);
            }
            None => others += 1,
        }
    }
    if catalogues.is_empty() {
        return Ok(None);
    }
    if others > 0 {
        return Err(Failure::usage(
            "cannot verify against both DAT files and disc descriptions",
            "a DAT file is held against files, a description against what is on one disc",
        )
        .hint("verify twice"));
    }
    let mut algorithms: Vec<Algorithm> = catalogues.iter().flat_map(|c| c.proofs()).collect();
    algorithms.sort_unstable();
    algorithms.dedup();
    Ok(Some(Against { paths, catalogues, algorithms }))
}

/// A file on this machine that is to be checked: its path, and its name as far as lists know it.
pub(super) struct Subject {
    pub(super) path: PathBuf,
    pub(super) shown: String,
    pub(super) name: String,
    /// A cue sheet whose tracks are to be checked instead of its own bytes' meaning.
    pub(super) sheet: Option<Sheet>,
}

/// Holds every file of the sources, and every file in their archives and compressed images, against the catalogues.
///
/// # Errors
/// When a source is not there, or the user stops.
pub fn verify(
    sources: &[String],
    against: &Against,
    setting: &Setting<'_>,
) -> std::result::Result<MatchReport, Failure> {
    let mut subjects = Vec::new();
    let own: HashSet<PathBuf> =
        against.paths.iter().filter_map(|p| std::fs::canonicalize(native::path(p)).ok()).collect();
    let (mut inner, mut sheets, mut unreadable) = (Vec::new(), HashMap::new(), Vec::new());
    for source in sources {
        let fail = |e| Failure::new(format!("cannot verify \"{source}\""), e);
        if native::path(source).is_dir() {
            for entry in WalkDir::new(native::path(source)).sort_by_file_name() {
                let entry = match entry {
                    Ok(entry) => entry,
                    Err(e) => {
                        let place = e.path().map_or_else(|| source.clone(), native::text);
                        let row = blank(&place, MatchState::Unreadable, 0);
                        unreadable.push(MatchedFile { is_read_error: true, note: Some(e.to_string()), ..row });
                        continue;
                    }
                };
                if !entry.file_type().is_file() {
                    continue;
                }
                let path = entry.into_path();
                if own.is_empty() || !std::fs::canonicalize(&path).is_ok_and(|p| own.contains(&p)) {
                    let name = native::text(path.strip_prefix(native::path(source)).unwrap_or(&path));
                    let shown = native::text(&path);
                    // A sheet that cannot be used is a file like others; what it names is in the folder anyway.
                    if is_sheet(&path, setting).unwrap_or(false)
                        && let Ok((files, Some(sheet))) = images::of_sheet(&path, &shown, setting)
                    {
                        sheets.insert(path.clone(), files.into_iter().map(|s| s.path).collect::<Vec<_>>());
                        let (path, shown, name) = (path.clone(), shown.clone(), name.clone());
                        subjects.push(Subject { shown, name, path, sheet: Some(sheet) });
                    }
                    subjects.push(Subject { shown, name, path, sheet: None });
                }
            }
        } else if native::path(source).is_file() && !decanter_core::split::is_numbered(source) {
            let path = native::path(source);
            let name = last_name(source).to_owned();
            if is_sheet(&path, setting).map_err(fail)? {
                let (files, sheet) = images::of_sheet(&path, source, setting).map_err(fail)?;
                if let Some(sheet) = sheet {
                    sheets.insert(path.clone(), files.iter().map(|s| s.path.clone()).collect());
                    let (path, shown, name) = (path.clone(), source.clone(), name.clone());
                    subjects.push(Subject { path, shown, name, sheet: Some(sheet) });
                }
                subjects.extend(files);
            }
            subjects.push(Subject { path, shown: source.clone(), name, sheet: None });
        } else {
            let bytes = locate::bytes(source, setting).map_err(fail)?;
            inner.push((source.clone(), bytes));
        }
    }
    let total = subjects.iter().filter_map(|s| std::fs::metadata(&s.path).ok()).map(|m| m.len()).sum();
    setting.watch.begin("verifying", Some(total));
    let next = AtomicUsize::new(0);
    let found: Mutex<Vec<(usize, Vec<MatchedFile>)>> = Mutex::default();
    let stopped: Mutex<Option<Error>> = Mutex::default();
    std::thread::scope(|scope| {
        for _ in 0..setting.jobs.clamp(1, subjects.len().max(1)) {
            scope.spawn(|| {
                let keys = Keyring::default();
                loop {
                    let index = next.fetch_add(1, Ordering::Relaxed);
                    let Some(subject) = subjects.get(index).filter(|_| !setting.watch.cancelled()) else { break };
                    let mut seeker = Seeker { against, setting, keys: &keys, found: Vec::new() };
                    let file = FileSource::open(&subject.path, &setting.guard);
                    let result = match (file, &subject.sheet) {
                        (Err(e), _) => seeker.unreadable(&nothing(), &subject.shown, e),
                        (Ok(_), Some(sheet)) => seeker.tracks(&sheet.tracks, &subject.name, &subject.shown),
                        (Ok(file), None) => {
                            seeker.look(&(Arc::new(file) as SourceRef), &subject.name, &subject.shown, 0)
                        }
                    };
                    if let Err(e) = result {
                        *stopped.lock().unwrap_or_else(PoisonError::into_inner) = Some(e);
                    }
                    found.lock().unwrap_or_else(PoisonError::into_inner).push((index, seeker.found));
                    setting.watch.item(&subject.name);
                }
            });
        }
    });
    let keys = Keyring::default();
    let mut seeker = Seeker { against, setting, keys: &keys, found: Vec::new() };
    let mut result = match stopped.into_inner().unwrap_or_else(PoisonError::into_inner) {
        Some(e) => Err(e),
        None => Ok(()),
    };
    for (shown, source) in &inner {
        let name = last_name(shown.rsplit("::").next().unwrap_or(shown)).to_owned();
        result = result.and_then(|()| seeker.look(source, &name, shown, 0));
    }
    setting.watch.end();
    result.and_then(|()| decanter_core::watch::check(setting.watch)).map_err(|e| Failure::new("cannot verify", e))?;
    let mut found = found.into_inner().unwrap_or_else(PoisonError::into_inner);
    found.sort_by_key(|(index, _)| *index);
    let mut files: Vec<MatchedFile> = found.into_iter().flat_map(|(_, f)| f).collect();
    files.extend(seeker.found);
    files.extend(unreadable);
    images::without_covered(&mut files, &sheets);
    Ok(report(files, against))
}

fn is_sheet(path: &Path, setting: &Setting<'_>) -> Result<bool> {
    let could_be = path.extension().is_some_and(|e| e.eq_ignore_ascii_case("cue"));
    Ok(could_be && REGISTRY.detect(&FileSource::open(path, &setting.guard)?, &[])?.is_some_and(|f| f.id() == "cue"))
}

fn nothing() -> SourceRef {
    Arc::new(decanter_core::source::Bytes(Vec::new()))
}

pub(super) struct Seeker<'a> {
    pub(super) against: &'a Against,
    pub(super) setting: &'a Setting<'a>,
    keys: &'a Keyring,
    pub(super) found: Vec<MatchedFile>,
}

impl Seeker<'_> {
    /// Checks a file, or what is in it. Fails only when the user stops.
    fn look(&mut self, source: &SourceRef, name: &str, shown: &str, depth: usize) -> Result<()> {
        let known_as_such = self.against.catalogues.iter().any(|c| {
            c.has_len(source.len()) || (!c.with_name(name).is_empty()) || (!c.knows_all_lens() && c.entries().len() < 2)
        });
        // What is small is read once, and then looked at in memory.
        let small = if source.len() <= SMALL && depth > 0 { self.in_memory(source) } else { Ok(held(source)) };
        let (source, container) = match small.and_then(|s| Ok((s.clone(), container(&s)?))) {
            Ok((small, container)) => (&{ small }, container.filter(|_| depth < MOST_DEPTH)),
            Err(e) => return self.unreadable(source, shown, e),
        };
        if container.is_none() || known_as_such {
            let file =
                match self.check(source, name, shown).and_then(|file| self.look_through(file, source, name, shown)) {
                    Ok(file) => file,
                    Err(e) => return self.unreadable(source, shown, e),
                };
            if container.is_none() || !matches!(file.state, MatchState::Unknown | MatchState::Differs) {
                self.found.push(file);
                return Ok(());
            }
        }
        let names = [last_name(name).rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned()];
        let watch = self.setting.watch;
        let context = Context { registry: &REGISTRY, keys: self.keys, names: &names, watch, depth, beside: &() };
        let opened = container
            .map_or_else(|| REGISTRY.open(source.clone(), &context, &[]), |f| f.open(source.clone(), &context));
        match opened {
            Ok(opened) => match self.disk(source, &opened, name, shown) {
                Ok(Some(disk)) => {
                    self.found.push(disk);
                    Ok(())
                }
                Ok(None) if !opened.tracks.is_empty() => self.tracks(&opened.tracks, name, shown),
                Ok(None) => self.inside(&opened.tree.unwrap_or_default(), opened.format, name, shown, depth),
                Err(e) => self.unreadable(source, shown, e),
            },
            Err(e) => self.unreadable(source, shown, e),
        }
    }

    fn in_memory(&self, source: &SourceRef) -> Result<SourceRef> {
        decanter_core::watch::check(self.setting.watch)?;
        let mut bytes = vec![0; source.len() as usize];
        source.read_at(0, &mut bytes)?;
        Ok(Arc::new(decanter_core::source::Bytes(bytes)))
    }

    fn inside(&mut self, tree: &Tree, format: &str, name: &str, shown: &str, depth: usize) -> Result<()> {
        for (node, file) in tree.files() {
            let shown = format!("{shown}::{}", node.path);
            // A compressed image is called as it is; what its own file is called, it does not know.
            let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
            let is_named = format == "zst" || REGISTRY.get(format).is_some_and(|f| f.is_archive());
            let inner = if is_named { node.path.clone() } else { format!("{stem}.iso") };
            match file.source() {
                Ok(source) => self.look(source, &inner, &shown, depth + 1)?,
                Err(e) => self.unreadable(&nothing(), &shown, e)?,
            }
        }
        Ok(())
    }

    pub(super) fn unreadable(&mut self, source: &SourceRef, shown: &str, error: Error) -> Result<()> {
        if matches!(error, Error::Cancelled) {
            return Err(error);
        }
        self.found.push(MatchedFile {
            is_read_error: matches!(error, Error::Io { .. }),
            note: Some(error.to_string()),
            ..blank(shown, MatchState::Unreadable, source.len())
        });
        Ok(())
    }

    pub(super) fn check(&self, source: &SourceRef, name: &str, shown: &str) -> Result<MatchedFile> {
        let catalogues = &self.against.catalogues;
        let len = source.len();
        let named: Vec<(usize, usize)> = entries_of(catalogues, |c| c.with_name(name));
        let can_be_known = catalogues.iter().any(|c| c.has_len(len) || !c.knows_all_lens());
        let digests = if can_be_known || !named.is_empty() { self.digests(source)? } else { Vec::new() };
        Ok(self.known(len, digests, name, shown))
    }

    /// What is known of a file of this length, these digests and this name.
    pub(super) fn known(&self, len: u64, digests: Vec<Digest>, name: &str, shown: &str) -> MatchedFile {
        let catalogues = &self.against.catalogues;
        let named: Vec<(usize, usize)> = entries_of(catalogues, |c| c.with_name(name));
        let mut hits = entries_of(catalogues, |c| c.with_content(len, &digests));
        let entry = |&(c, e): &(usize, usize)| &catalogues[c].entries()[e];
        let game = |&(c, e): &(usize, usize)| {
            let game = &catalogues[c].games()[catalogues[c].entries()[e].game as usize].name;
            (!game.is_empty()).then(|| game.clone())
        };
        let parent =
            |&(c, e): &(usize, usize)| catalogues[c].games()[catalogues[c].entries()[e].game as usize].parent.clone();
        if !hits.is_empty() {
            // A good entry goes before a bad one, then the whole path counts, then the name.
            hits.sort_by_cached_key(|hit| {
                let own = tidy(&entry(hit).name);
                (entry(hit).status == Status::BadDump, own != tidy(name), last_name(&own) != last_name(name))
            });
            let best = hits[0];
            let state = match entry(&best) {
                e if e.status == Status::BadDump => MatchState::KnownBad,
                e if last_name(&e.name) == last_name(name) => MatchState::Match,
                _ => MatchState::OtherName,
            };
            let name = Some(entry(&best).name.to_string());
            return MatchedFile {
                name,
                game: game(&best),
                parent: parent(&best),
                digests,
                hits,
                ..blank(shown, state, len)
            };
        }
        // In a list the same name may stand in many folders: then the whole path has to fit.
        let fits = |hit: &&(usize, usize)| {
            let own = tidy(&entry(hit).name);
            !catalogues[hit.0].is_list || own == tidy(name) || !own.contains('/') || !name.contains('/')
        };
        let Some(best) = named.iter().find(fits) else {
            return MatchedFile { digests, ..blank(shown, MatchState::Unknown, len) };
        };
        let other = entry(best);
        let (state, note) = match (other.status, other.len) {
            (Status::NoDump, _) => (
                MatchState::Unknown,
                Some("listed, but nobody has dumped it: there is nothing to hold it against".into()),
            ),
            (_, Some(own)) if own != len => (MatchState::Differs, Some(format!("{len} bytes instead of {own}"))),
            _ => (MatchState::Differs, None),
        };
        let expected = other.sums.strongest();
        let name = Some(other.name.to_string());
        let hits = if state == MatchState::Differs { vec![*best] } else { Vec::new() };
        MatchedFile { name, game: game(best), expected, note, digests, hits, ..blank(shown, state, len) }
    }

    /// A ROM that is not known as it stands may be known without its header, or in another byte order.
    fn look_through(&self, file: MatchedFile, source: &SourceRef, name: &str, shown: &str) -> Result<MatchedFile> {
        let is_settled = !matches!(file.state, MatchState::Unknown | MatchState::Differs);
        if is_settled || source.len() > MOST_HELD {
            return Ok(file);
        }
        let held = held(source);
        let Some(format) = REGISTRY.detect(held.as_ref(), &[])?.filter(|f| f.is_rom()) else { return Ok(file) };
        let watch = self.setting.watch;
        let context = Context { registry: &REGISTRY, keys: self.keys, names: &[], watch, depth: 0, beside: &() };
        let Some(rom) = format.open(held, &context).ok().and_then(|o| o.rom) else { return Ok(file) };
        for form in rom.forms.iter().filter(|f| f.id != rom.form) {
            let found = self.check(&form.source, name, shown)?;
            if matches!(found.state, MatchState::Match | MatchState::OtherName | MatchState::KnownBad) {
                let through = rom.through.clone().unwrap_or_else(|| format!("the form {}", rom.form));
                let words = format!("{through}: known as {} ({})", form.id, form.name);
                return Ok(found_through(found, words, name, file.bytes));
            }
        }
        if rom.through.is_some() && rom.forms.iter().all(|f| f.id == rom.form || f.source.len() != rom.body.len()) {
            let found = self.check(&rom.body, name, shown)?;
            if matches!(found.state, MatchState::Match | MatchState::OtherName | MatchState::KnownBad) {
                return Ok(found_through(found, rom.through.unwrap_or_default(), name, file.bytes));
            }
        }
        Ok(file)
    }

    fn digests(&self, source: &SourceRef) -> Result<Vec<Digest>> {
        let algorithms = &self.against.algorithms;
        if source.len() > SMALL {
            return of_source(source, algorithms, self.setting.watch);
        }
        decanter_core::watch::check(self.setting.watch)?;
        let mut bytes = vec![0; source.len() as usize];
        source.read_at(0, &mut bytes)?;
        self.setting.watch.advance(source.len());
        let hash = |&a: &Algorithm| {
            let mut hasher = Hasher::new(a);
            hasher.update(&bytes);
            hasher.finish()
        };
        Ok(algorithms.iter().map(hash).collect())
    }
}

/// What was found in another form: its extension is another one too, which is no other name.
pub(super) fn found_through(found: MatchedFile, through: String, name: &str, bytes: u64) -> MatchedFile {
    let stem = |name: &str| locate::stem_of(last_name(name)).to_lowercase();
    let same = found.name.as_deref().is_some_and(|own| stem(own) == stem(name));
    let state = if found.state == MatchState::OtherName && same { MatchState::Match } else { found.state };
    MatchedFile { state, through: Some(through), bytes, ..found }
}

/// The container format that fits; the others are not asked, which spares a look into the middle of compressed files.
fn container(source: &SourceRef) -> Result<Option<&'static dyn Format>> {
    let holds_files = |f: &&&'static dyn Format| f.is_packed_image() || f.is_archive();
    for format in REGISTRY.formats().iter().filter(holds_files) {
        if format.score(source.as_ref())?.is_some() {
            return Ok(Some(*format));
        }
    }
    Ok(None)
}

pub(super) fn blank(shown: &str, state: MatchState, bytes: u64) -> MatchedFile {
    MatchedFile {
        path: shown.to_owned(),
        state,
        bytes,
        digests: Vec::new(),
        name: None,
        game: None,
        parent: None,
        expected: None,
        through: None,
        note: None,
        track_of: None,
        is_read_error: false,
        hits: Vec::new(),
    }
}

fn entries_of(catalogues: &[Arc<Catalogue>], find: impl Fn(&Catalogue) -> Vec<usize>) -> Vec<(usize, usize)> {
    let each = |(number, catalogue): (usize, &Arc<Catalogue>)| {
        find(catalogue).into_iter().map(move |e| (number, e)).collect::<Vec<_>>()
    };
    catalogues.iter().enumerate().flat_map(each).collect()
}

/// A path as lists may spell it: `./a\b` is `a/b`.
fn tidy(path: &str) -> String {
    path.replace('\\', "/").trim_start_matches("./").to_owned()
}

fn report(files: Vec<MatchedFile>, against: &Against) -> MatchReport {
    let mut counts = MatchCounts::default();
    let mut here: HashSet<(usize, usize)> = HashSet::new();
    let mut begun: HashSet<(usize, u32)> = HashSet::new();
    // An image that holds all tracks has no sheet, and none is missing then.
    let mut by_tracks: HashSet<(usize, u32)> = HashSet::new();
    for file in &files {
        *match file.state {
            MatchState::Match => &mut counts.matching,
            MatchState::OtherName => &mut counts.renamed,
            MatchState::KnownBad => &mut counts.known_bad,
            MatchState::Differs => &mut counts.differing,
            MatchState::Unknown => &mut counts.unknown,
            MatchState::Unreadable => &mut counts.unreadable,
        } += 1;
        here.extend(&file.hits);
        if file.track_of.is_some() {
            by_tracks.extend(file.hits.iter().map(|&(c, e)| (c, against.catalogues[c].entries()[e].game)));
        }
        if let Some(&(c, e)) = file.hits.first() {
            begun.insert((c, against.catalogues[c].entries()[e].game));
        }
    }
    let mut missing = Vec::new();
    let (mut complete, mut partial, mut absent) = (0, 0, 0);
    for (c, catalogue) in against.catalogues.iter().enumerate() {
        for (g, game) in catalogue.games().iter().enumerate() {
            if !catalogue.is_list && !begun.contains(&(c, g as u32)) {
                absent += 1;
                continue;
            }
            let before = missing.len();
            for e in game.entries.clone() {
                let entry = &catalogue.entries()[e];
                let is_spared = by_tracks.contains(&(c, g as u32)) && entry.name.to_lowercase().ends_with(".cue");
                if entry.status != Status::NoDump && !here.contains(&(c, e)) && !is_spared {
                    missing.push(MissingEntry {
                        game: game.name.clone(),
                        name: entry.name.to_string(),
                        bytes: entry.len,
                    });
                }
            }
            if missing.len() == before { complete += 1 } else { partial += 1 }
        }
    }
    counts.missing = missing.len();
    let wrong = counts.known_bad + counts.differing + counts.unknown + counts.unreadable + counts.missing;
    let next = if files.is_empty() {
        "there is no file to hold against it: give the files or their folder"
    } else if counts.differing + counts.known_bad + counts.unreadable > 0 {
        "what differs, is known to be bad or cannot be read has to be dumped or copied again"
    } else if counts.missing > 0 {
        "what is missing has to be found"
    } else if counts.unknown > 0 {
        "what is unknown may be new, or belong to another DAT file: add it with --against"
    } else if counts.renamed > 0 {
        "the content is right; rename what has another name"
    } else {
        "everything is as it should be"
    };
    MatchReport {
        against: against.paths.clone(),
        all_match: wrong == 0 && !files.is_empty(),
        counts,
        files,
        missing,
        games_complete: complete,
        games_partial: partial,
        games_absent: absent,
        next: next.into(),
    }
}
