//! One stretch of bytes against lists: its digests, and the entry that it is.

use super::matches::{MatchState, MatchedFile, blank};
use crate::Setting;
use decanter_core::catalogue::{Catalogue, Status, last_name};
use decanter_core::digest::{Algorithm, Digest, Hasher, of_source};
use decanter_core::source::SourceRef;
use decanter_core::{Error, Keyring, Result};
use std::sync::Arc;

/// Files up to this size are hashed in one piece by the thread that found them.
pub(super) const SMALL: u64 = 4 << 20;

/// Catalogues to hold sources against.
pub struct Against {
    pub(super) paths: Vec<String>,
    pub(super) catalogues: Vec<Arc<Catalogue>>,
    pub(super) algorithms: Vec<Algorithm>,
}

/// Who holds files against the lists, and what was found so far.
pub(super) struct Seeker<'a> {
    pub(super) against: &'a Against,
    pub(super) setting: &'a Setting<'a>,
    pub(super) keys: &'a Keyring,
    pub(super) found: Vec<MatchedFile>,
}

impl Seeker<'_> {
    /// A row for what cannot be read. Fails only when the user stops.
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

    /// Reads `source`, as far as a list may know it.
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
