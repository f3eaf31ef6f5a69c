//! The readings of the same bytes that lists may know: a track with and without its gaps, a ROM without its header, in
//! another byte order.

use decanter_core::catalogue::last_name;
use decanter_core::digest::of_source;
use decanter_core::format::{Format, likelihood};
use decanter_core::head::Head;
use decanter_core::names::stem_of;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::rom::Rom;
use decanter_core::seal::Expected;
use decanter_core::source::SourceRef;
use decanter_core::track::{Track, TrackKind};
use decanter_core::view::{Concat, Fill, Slice, Spaced};
use decanter_core::{Error, Result, Watch};
use decanter_formats::REGISTRY;
use decanter_formats::optical::cd::sector::RAW;
use std::sync::Arc;

/// The container format that fits; the others are not asked, which spares a look into the middle of compressed files.
pub(crate) fn container(source: &SourceRef) -> Result<Option<&'static dyn Format>> {
    let holds_files = |f: &&&'static dyn Format| matches!(f.role(), Role::Wrapper | Role::Archive);
    let head = Head::new(source.as_ref());
    for format in REGISTRY.formats().iter().filter(holds_files) {
        if likelihood(*format, &head)?.is_some() {
            return Ok(Some(*format));
        }
    }
    Ok(None)
}

/// The sectors of a track without the subcode that stands behind each of them: no list counts it.
pub(crate) fn sectors(track: &Track) -> SourceRef {
    match track.sector_len > RAW as u64 {
        true => Arc::new(Spaced::new(track.source.clone(), track.sector_len, 0, RAW as u64)),
        false => track.source.clone(),
    }
}

/// A track as lists know it: as it stands in the image, without the gap before it, and with one that no image holds.
pub(crate) fn of_track(track: &Track) -> Result<Vec<SourceRef>> {
    let whole = sectors(track);
    let mut readings = vec![whole.clone()];
    let unit = track.sector_len.min(RAW as u64);
    if track.gap_sectors > 0 && track.gap_sectors * unit < whole.len() {
        let gap = track.gap_sectors * unit;
        readings.push(Arc::new(Slice::new(whole.clone(), gap, whole.len() - gap)?));
    }
    if track.pregap_sectors > 0 && track.kind == TrackKind::Audio {
        let silence: SourceRef = Arc::new(Fill { byte: 0, len: track.pregap_sectors * unit });
        readings.push(Arc::new(Concat::new(vec![silence, whole])?));
    }
    Ok(readings)
}

/// All tracks of an image behind each other. `None` for files of a sheet, which are asked themselves, and for a single
/// track.
pub(crate) fn whole_disc(tracks: &[Track]) -> Result<Option<SourceRef>> {
    let is_of_sheet = tracks.iter().any(|t| !t.file.is_empty());
    match is_of_sheet || tracks.len() < 2 {
        true => Ok(None),
        false => Ok(Some(Arc::new(Concat::new(tracks.iter().map(sectors).collect())?))),
    }
}

/// A ROM in the other forms that lists know, each in words.
pub(crate) fn of_rom(rom: &Rom) -> Vec<(String, SourceRef)> {
    let through = || rom.through.clone().unwrap_or_else(|| format!("the form {}", rom.form));
    let other = rom.forms.iter().filter(|f| f.id != rom.form);
    let mut readings: Vec<_> = other
        .map(|form| (format!("{}: known as {} ({})", through(), form.id, form.name), form.source.clone()))
        .collect();
    let is_told = |f: &decanter_core::rom::Form| f.id != rom.form && f.source.len() == rom.body.len();
    if let Some(through) = rom.through.clone().filter(|_| !rom.forms.iter().any(is_told)) {
        readings.push((through, rom.body.clone()));
    }
    readings
}

/// The name that a file has in a container: a compressed image is called as it is, since what its own file is called, it does
/// not know.
pub(crate) fn inner_name(has_own_names: bool, path: &str, outer: &str) -> String {
    match has_own_names {
        true => path.to_owned(),
        false => format!("{}.iso", outer.rsplit_once('.').map_or(outer, |(stem, _)| stem)),
    }
}

/// The names that a track may have in a list, the usual one first.
pub(crate) fn track_names(outer: &str, number: u8, count: usize) -> Vec<String> {
    let stem = stem_of(last_name(outer));
    let mut names = vec![format!("{stem} (Track {number}).bin"), format!("{stem} (Track {number:02}).bin")];
    if count == 1 {
        names.insert(0, format!("{stem}.bin"));
    }
    names
}

/// What a disk was found through that carries a digest of itself.
pub(crate) const CARRIED: &str = "the SHA-1 that it carries, which holds";

/// Holds the digests that an image carries of itself against its bytes.
///
/// # Errors
/// [`Error::Unreadable`] for one that does not hold; what reading fails with.
pub(crate) fn prove_carried(opened: &Opened, watch: &dyn Watch) -> Result<()> {
    if let Some(broken) = opened.proof.settled.iter().find(|s| !s.holds) {
        let why = format!("{}: {}", broken.name, broken.note.as_deref().unwrap_or("it does not hold"));
        return Err(Error::Unreadable { why });
    }
    for (stretch, seal) in opened.proof.sealed.iter().flat_map(|s| s.seals.iter().map(move |seal| (s, seal))) {
        let Expected::Digest(expected) = &seal.expected else { continue };
        let bytes = Slice::new(stretch.source.clone(), seal.range.start, seal.range.end - seal.range.start)?;
        let has = of_source(&(Arc::new(bytes) as SourceRef), &[expected.algorithm], watch)?;
        if has.first() != Some(expected) {
            return Err(Error::Unreadable { why: format!("the {} that it carries does not hold", seal.name) });
        }
    }
    Ok(())
}
