//! CDs against catalogues: by their tracks, however the image holds them, and by the digest of a whole compressed image
//! that it carries itself.

use super::matches::{MatchState, MatchedFile, blank, found_through};
use super::readings;
use super::seeker::Seeker;
use decanter_core::Format;
use decanter_core::catalogue::last_name;
use decanter_core::digest::{Algorithm, Digest};
use decanter_core::opened::Opened;
use decanter_core::source::SourceRef;
use decanter_core::track::Track;
use decanter_core::{Error, Result};
use decanter_formats::chunked::chd;
use std::collections::{HashMap, HashSet};

/// Of a sheet, its tracks and the files that they share, a list knows the one or the other: where one side is known as a
/// whole, what is not known of the other says nothing.
pub(super) fn without_covered(files: &mut Vec<MatchedFile>, sheets: &HashMap<String, Vec<String>>) {
    let is_known = |f: &MatchedFile| matches!(f.state, MatchState::Match | MatchState::OtherName);
    let all_known = |rows: Vec<&MatchedFile>| !rows.is_empty() && rows.into_iter().all(is_known);
    let (mut by_tracks, mut by_files): (HashSet<&String>, HashSet<&String>) = Default::default();
    for (sheet, names) in sheets {
        if all_known(files.iter().filter(|f| f.track_of.is_none() && names.contains(&f.path)).collect()) {
            by_files.insert(sheet);
        } else if all_known(files.iter().filter(|f| f.track_of.as_ref() == Some(sheet)).collect()) {
            by_tracks.extend(names.iter().chain([sheet]));
        }
    }
    let is_open = |f: &MatchedFile| matches!(f.state, MatchState::Unknown | MatchState::Differs);
    files.retain(|f| match &f.track_of {
        Some(sheet) => !is_open(f) || !by_files.contains(sheet),
        None => !is_open(f) || !by_tracks.contains(&f.path),
    });
}

impl Seeker<'_> {
    /// Holds the SHA-1 that an image carries of itself against the entries of disks; `None` if there is none like it.
    /// What it carries is proven by its bytes first.
    pub(super) fn disk(
        &self,
        source: &SourceRef,
        opened: &Opened,
        name: &str,
        shown: &str,
    ) -> Result<Option<MatchedFile>> {
        if !chd::Chd.is_of(opened) {
            return Ok(None);
        }
        let Some(own) = chd::own_sha1(source.as_ref())? else { return Ok(None) };
        let digest = Digest { algorithm: Algorithm::Sha1, bytes: own.to_vec() };
        let mut found = self.known(source.len(), vec![digest], name, shown);
        found.hits.retain(|(c, e)| self.against.catalogues[*c].entries()[*e].name.ends_with(".chd"));
        if found.hits.is_empty() {
            return Ok(None);
        }
        readings::prove_carried(opened, self.setting.watch)?;
        found.through = Some(readings::CARRIED.into());
        Ok(Some(found))
    }

    /// Holds every track against the catalogues, as a file of 2,352-byte sectors.
    pub(super) fn tracks(&mut self, tracks: &[Track], name: &str, shown: &str) -> Result<()> {
        if let Some(whole) = self.whole_cd(tracks, name, shown)? {
            self.found.push(whole);
            return Ok(());
        }
        for track in tracks {
            let number = track.number;
            let names = readings::track_names(name, number, tracks.len());
            let is_listed = |n: &&String| self.against.catalogues.iter().any(|c| !c.with_name(n).is_empty());
            let name = names.iter().find(is_listed).unwrap_or(&names[0]).clone();
            let place = format!("{shown}::track {number}");
            let mut found = match self.track(track, &name, &place) {
                Ok(found) => found,
                Err(e) => {
                    let count = self.found.len();
                    self.unreadable(&track.source, &place, e)?;
                    self.found[count..].iter_mut().for_each(|f| f.track_of = Some(shown.to_owned()));
                    continue;
                }
            };
            found.track_of = Some(shown.to_owned());
            self.found.push(found);
        }
        Ok(())
    }

    /// All tracks of an image behind each other, if a list knows them as one file. Files of a sheet are asked themselves.
    fn whole_cd(&self, tracks: &[Track], name: &str, shown: &str) -> Result<Option<MatchedFile>> {
        let Some(whole) = readings::whole_disc(tracks)? else { return Ok(None) };
        if !self.against.catalogues.iter().any(|c| c.has_len(whole.len())) {
            return Ok(None);
        }
        let name = format!("{}.bin", decanter_core::names::stem_of(last_name(name)));
        let found = match self.check(&whole, &name, shown) {
            Ok(found) => found,
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            // Track by track it is told where.
            Err(_) => return Ok(None),
        };
        let is_known = matches!(found.state, MatchState::Match | MatchState::OtherName | MatchState::KnownBad);
        Ok(is_known.then(|| {
            let words = format!("the image, to its {} tracks behind each other", tracks.len());
            MatchedFile { track_of: Some(shown.to_owned()), ..found_through(found, words, &name, whole.len()) }
        }))
    }

    /// A track in each of the forms that lists know: with the gap before it, without, and with one that no image holds.
    fn track(&self, track: &Track, name: &str, shown: &str) -> Result<MatchedFile> {
        let mut first = None;
        let forms = readings::of_track(track)?;
        let len = forms.first().map_or(0, |whole| whole.len());
        for form in forms {
            let found = self.check(&form, name, shown)?;
            if matches!(found.state, MatchState::Match | MatchState::OtherName | MatchState::KnownBad) {
                let through = format!("the image, to track {}", track.number);
                return Ok(found_through(found, through, name, form.len()));
            }
            first.get_or_insert(found);
        }
        Ok(first.unwrap_or_else(|| blank(shown, MatchState::Unknown, len)))
    }
}
