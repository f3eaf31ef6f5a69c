//! One stretch of bytes against lists: its digests, and the entry that it is.

use super::matches::{MatchState, MatchedFile, blank};
use crate::Setting;
use crate::grouped;
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
            (_, Some(own)) if own != len => {
                (MatchState::Differs, Some(format!("{} bytes instead of {}", grouped(len), grouped(own))))
            }
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

#[cfg(test)]
mod tests {
    use super::super::matches::{MatchReport, report};
    use super::*;
    use decanter_core::catalogue::{Entry, Sums};
    use decanter_core::digest::of_bytes;
    use decanter_core::source::Bytes;

    fn sums(content: &[u8]) -> Sums {
        let mut sums = Sums::default();
        for algorithm in [Algorithm::Crc32, Algorithm::Sha1] {
            assert!(sums.set(algorithm, &of_bytes(algorithm, content).bytes));
        }
        sums
    }

    fn entry(name: &str, content: &[u8], status: Status) -> Entry {
        Entry { name: name.into(), len: Some(content.len() as u64), sums: sums(content), status, game: 0 }
    }

    /// A database of three games: one whole, one of two files, one that nobody has dumped; and a bad dump.
    fn against(is_list: bool) -> Against {
        let mut catalogue = Catalogue::default();
        catalogue.is_list = is_list;
        catalogue.begin_game("Fogbell".into(), None);
        catalogue.push(entry("Fogbell.gb", b"the tide is in", Status::Good));
        catalogue.begin_game("Tide Table".into(), Some("Fogbell".into()));
        catalogue.push(entry("Tide Table (1).bin", b"one", Status::Good));
        catalogue.push(entry("Tide Table (2).bin", b"two", Status::Good));
        catalogue.begin_game("Lost".into(), None);
        catalogue.push(Entry { status: Status::NoDump, sums: Sums::default(), ..entry("Lost.bin", b"", Status::Good) });
        catalogue.begin_game("Worn".into(), None);
        catalogue.push(entry("Worn.bin", b"worn", Status::BadDump));
        let catalogue = Arc::new(catalogue.finish());
        Against { paths: vec!["list.dat".into()], algorithms: catalogue.proofs(), catalogues: vec![catalogue] }
    }

    fn look(against: &Against, files: &[(&str, &[u8])]) -> MatchReport {
        let (setting, keys) = (Setting::new(&()), Keyring::default());
        let seeker = Seeker { against, setting: &setting, keys: &keys, found: Vec::new() };
        let check = |(name, content): &(&str, &[u8])| {
            seeker.check(&(Arc::new(Bytes(content.to_vec())) as SourceRef), name, name).unwrap()
        };
        report(files.iter().map(check).collect(), &against.paths, &against.catalogues)
    }

    fn states(report: &MatchReport) -> Vec<MatchState> {
        report.files.iter().map(|f| f.state).collect()
    }

    #[test]
    fn content_goes_before_names() {
        let report = look(
            &against(false),
            &[
                ("Fogbell.gb", b"the tide is in"),
                ("other.gb", b"the tide is in"),
                ("Fogbell.gb", b"the tide's out"),
                ("Fogbell.gb", b"short"),
                ("Worn.bin", b"worn"),
                ("Lost.bin", b"anything"),
                ("new.bin", b"nobody knows it"),
            ],
        );
        use MatchState::{Differs, KnownBad, Match, OtherName, Unknown};
        assert_eq!(states(&report), [Match, OtherName, Differs, Differs, KnownBad, Unknown, Unknown]);
        assert_eq!(report.files[1].name.as_deref(), Some("Fogbell.gb"), "the name that it should have");
        assert_eq!(report.files[3].note.as_deref(), Some("5 bytes instead of 14"));
        assert!(report.files[5].note.as_deref().is_some_and(|n| n.contains("nobody has dumped it")));
        assert!(!report.all_match);
    }

    #[test]
    fn what_is_missing_of_a_game_that_was_begun_is_named_and_the_others_are_absent() {
        let report = look(&against(false), &[("Tide Table (1).bin", b"one")]);
        assert_eq!((report.games_complete, report.games_partial, report.games_absent), (0, 1, 3));
        let missing: Vec<&str> = report.missing.iter().map(|m| m.name.as_str()).collect();
        assert_eq!((missing, report.all_match), (vec!["Tide Table (2).bin"], false));
        assert_eq!(report.files[0].parent.as_deref(), Some("Fogbell"));
        let both = look(&against(false), &[("Tide Table (1).bin", b"one"), ("Tide Table (2).bin", b"two")]);
        assert!(both.all_match && both.missing.is_empty() && both.games_complete == 1);
    }

    #[test]
    fn of_a_list_everything_has_to_be_there_but_what_nobody_dumped() {
        let report = look(&against(true), &[("Fogbell.gb", b"the tide is in")]);
        let missing: Vec<&str> = report.missing.iter().map(|m| m.name.as_str()).collect();
        assert_eq!(missing, ["Tide Table (1).bin", "Tide Table (2).bin", "Worn.bin"]);
    }

    #[test]
    fn nothing_held_against_anything_is_no_match() {
        let report = look(&against(false), &[]);
        assert!(!report.all_match && report.next.contains("there is no file"));
    }

    #[test]
    fn paths_are_read_as_lists_spell_them() {
        assert_eq!((tidy("./a\\b.bin"), tidy("a/b.bin")), ("a/b.bin".into(), "a/b.bin".into()));
    }
}
