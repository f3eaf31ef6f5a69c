//! What came of holding many files against lists: a state for each, what is missing, the games.

use crate::Answer;
use decanter_core::catalogue::{Catalogue, Status, last_name};
use decanter_core::digest::Digest;
use decanter_core::names::stem_of;
use serde::Serialize;
use std::collections::HashSet;
use std::sync::Arc;

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

/// A row of which no more is known yet.
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

/// What was found in another form: its extension is another one too, which is no other name.
pub(super) fn found_through(found: MatchedFile, through: String, name: &str, bytes: u64) -> MatchedFile {
    let stem = |name: &str| stem_of(last_name(name)).to_lowercase();
    let same = found.name.as_deref().is_some_and(|own| stem(own) == stem(name));
    let state = if found.state == MatchState::OtherName && same { MatchState::Match } else { found.state };
    MatchedFile { state, through: Some(through), bytes, ..found }
}

/// The whole report on `files`, which were held against `catalogues` out of `paths`.
pub(super) fn report(files: Vec<MatchedFile>, paths: &[String], catalogues: &[Arc<Catalogue>]) -> MatchReport {
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
            by_tracks.extend(file.hits.iter().map(|&(c, e)| (c, catalogues[c].entries()[e].game)));
        }
        if let Some(&(c, e)) = file.hits.first() {
            begun.insert((c, catalogues[c].entries()[e].game));
        }
    }
    let mut missing = Vec::new();
    let (mut complete, mut partial, mut absent) = (0, 0, 0);
    for (c, catalogue) in catalogues.iter().enumerate() {
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
        against: paths.to_vec(),
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
