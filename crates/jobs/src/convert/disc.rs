//! Images of sectors: the user bytes of a CD, decrypted, joined and cut images, and raw sectors made of them.

use super::choice::Given;
use super::folder::UDF;
use super::made::{Back, Beside, LeftOut, Made};
use super::shared::{BLANK, LABEL, REPAIR, SPLIT, WITHOUT};
use super::target::{Target, is_folder, is_plain_image};
use super::{Options, choose, folder, open, repair};
use crate::{Item, Setting};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::of_source;
use decanter_core::opened::Disc;
use decanter_core::protection::{KeyState, State};
use decanter_core::source::{Source, SourceRef};
use decanter_core::track::{Track, TrackKind};
use decanter_core::view::{Concat, Spaced};
use decanter_core::{Error, Format, Notice, Result, SECTOR, tell, watch};
use decanter_formats::optical::cd::sector::RAW;
use decanter_formats::optical::cd::{self, MOST_SECTORS, RawSectors, is_mode_2_volume};
use decanter_formats::package::x360;
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// Images of sectors.
pub(super) static TARGETS: [Target; 2] = [
    Target {
        id: "iso",
        what: "a disc image of 2048-byte sectors",
        extension: "iso",
        made_of: "CD data tracks, encrypted images, compressed and split images, folders, packages with a disc in them",
        options: &[&SPLIT, &BLANK, &WITHOUT, &UDF, &LABEL],
        is_of_files: true,
        open: open::disc,
        accepts: accepts_iso,
        lay: iso,
        ..Target::BASE
    },
    Target {
        id: "cd-raw",
        what: "a raw CD image with a cue sheet",
        extension: "bin",
        pair: Some("cue"),
        made_of: "images of up to 99 minutes of 2048-byte sectors; CD images, joined or repaired",
        options: &[&REPAIR],
        accepts: accepts_raw,
        is_meant: |_, _, options| options.given.has(&REPAIR),
        lay: raw,
        ..Target::BASE
    },
];

/// Sectors that are looked through at once.
const STRETCH: u64 = 512;

fn accepts_iso(item: &Item, _: &Target) -> Option<u8> {
    if open::disc_in(item).is_some() || x360::DISC.is_of(&item.opened) && item.opened.holds.tree.is_some() {
        return Some(40);
    }
    if item.opened.holds.volume.is_some() && !item.opened.holds.tracks.is_empty() {
        return Some(80);
    }
    if is_folder(item) {
        return Some(60);
    }
    let locked = item.opened.protection.as_ref().is_some_and(|p| matches!(p.key, KeyState::Trouble(_)));
    is_plain_image(item).then_some(if locked { 5 } else { 10 })
}

fn accepts_raw(item: &Item, _: &Target) -> Option<u8> {
    if !item.opened.holds.tracks.is_empty() {
        return Some(40);
    }
    // What the disc itself shows to be a DVD was never a CD.
    if item.opened.holds.disc == Some(Disc::Dvd) {
        return None;
    }
    let sectors = item.source.as_ref().map_or(0, |s| s.len() / SECTOR);
    (is_plain_image(item) && sectors <= MOST_SECTORS && item.opened.protection.is_none()).then_some(15)
}

/// A disc image of 2,048-byte sectors.
fn iso(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    if is_folder(item) || options.given.has(&WITHOUT) {
        return folder::iso(item, options, setting);
    }
    if options.given.has(&LABEL) || options.given.has(&UDF) {
        return Err(Error::Usage("a label or a UDF volume can only be given to an image that is made of files".into()));
    }
    let tree = item.opened.holds.tree.clone().unwrap_or_default();
    if let (Some(volume), Some(track)) = (&item.opened.holds.volume, data_track(item)) {
        let damaged = match options.keep_damage || setting.unchecked {
            true => cd::volume_unchecked(track).transpose()?,
            false => None,
        };
        let (bytes, blanked) = choose::blank(damaged.as_ref().unwrap_or(volume), &tree, options.given.texts(&BLANK))?;
        let preserved = but_blank("the 2048 data bytes of every sector of the data track", &blanked);
        let mut made = Made::new(Blueprint::of(bytes.clone()), bytes, preserved);
        if damaged.is_some() {
            let faults = crate::cd::scan(track, &[], setting.watch)?.fault_count;
            if faults > 0 {
                let sectors = tell::count(faults, "sector of the data track is", "sectors of the data track are");
                made.notices.push(Notice::damage(format!("{sectors} faulty, and kept as they are")));
            }
        }
        made.left_out = blanked;
        made.left_out.extend(other_tracks(item));
        let form_2 = if track.kind == TrackKind::Mode2 { count_form_2(track, setting)? } else { 0 };
        if form_2 > 0 {
            let why = "form 2 (films, sound): an image of 2048-byte sectors holds only 2048 of their 2324 bytes".into();
            made.left_out.push(LeftOut {
                what: format!("276 bytes each of {form_2} sectors"),
                bytes: form_2 * 276,
                why,
            });
        }
        if track.sector_len >= RAW as u64 && track.first_sector == 0 && !options.given.has(&BLANK) {
            let skip = track.gap_sectors;
            let original = decanter_core::view::Slice::new(
                track.source.clone(),
                skip * track.sector_len,
                track.source.len() - skip * track.sector_len,
            )?;
            let original: SourceRef = Arc::new(Spaced::new(Arc::new(original), track.sector_len, 0, RAW as u64));
            made.back = Back::RawSectors(original, track.kind, track.first_sector + skip);
        }
        return Ok(made);
    }
    let source = open::image(item).cloned().ok_or_else(|| Error::Usage("there is no image in it".into()))?;
    let mut blank = 0;
    let (source, preserved) = match &item.opened.protection {
        Some(p) if p.state == State::Encrypted => match (&p.clear, &p.clear_as_it_is, &p.key) {
            (Some(_), Some(as_it_is), _) if options.keep_damage || setting.unchecked => {
                let clear = as_it_is.clear.as_source()?;
                // How many sectors were never read is known once all of it was.
                of_source(&clear, &[], setting.watch)?;
                blank = as_it_is.blank.load(Ordering::Relaxed);
                (clear, "every byte, the encrypted regions decrypted")
            }
            (Some(clear), _, _) => (clear.as_source()?, "every byte, the encrypted regions decrypted"),
            (None, _, KeyState::Trouble(trouble)) => return Err(trouble.clone().into()),
            (None, _, _) => return Err(Error::Usage(format!("it cannot be decrypted: {}", p.evidence))),
        },
        _ => (source, "every byte"),
    };
    let (bytes, blanked) = choose::blank(&source, &tree, options.given.texts(&BLANK))?;
    let preserved = but_blank(preserved, &blanked);
    let mut made = Made::new(Blueprint::of(bytes.clone()), bytes, preserved);
    made.left_out = blanked;
    if blank > 0 {
        let sectors = tell::count(blank, "sector holds", "sectors hold");
        made.notices.push(Notice::damage(format!(
            "{sectors} zeros where encrypted bytes belong, which decrypt to nonsense and are kept"
        )));
    }
    Ok(made)
}

/// The image of an item with some files filled with zeros, or built anew without some; what that hits, and what is to be
/// said of it.
///
/// # Errors
/// As an image of it.
pub(crate) fn chosen_files(
    item: &Item,
    blank: &[String],
    without: &[String],
    setting: &Setting<'_>,
) -> Result<(SourceRef, Vec<LeftOut>, Vec<Notice>)> {
    let mut options = Options::default();
    for (choice, globs) in [(&BLANK, blank), (&WITHOUT, without)] {
        if !globs.is_empty() {
            options.given.add(choice, Given::Texts(globs.to_vec()));
        }
    }
    let made = iso(item, &Target::BASE, &options, setting)?;
    Ok((made.blueprint.as_source()?, made.left_out, made.notices))
}

/// What is kept, when some files were filled with zeros.
fn but_blank(preserved: &str, blanked: &[LeftOut]) -> String {
    match blanked.is_empty() {
        true => preserved.to_owned(),
        false => format!("{preserved}, but for the files filled with zeros"),
    }
}

fn data_track(item: &Item) -> Option<&Track> {
    item.opened.holds.tracks.iter().find(|t| t.kind != TrackKind::Audio)
}

fn other_tracks(item: &Item) -> Vec<LeftOut> {
    let data = data_track(item).map(|t| t.number);
    let others = item.opened.holds.tracks.iter().filter(|t| Some(t.number) != data);
    let told = |t: &Track| LeftOut {
        what: format!("track {}", t.number),
        bytes: t.source.len(),
        why: if t.kind == TrackKind::Audio { "sound" } else { "a second data track" }.into(),
    };
    others.map(told).collect()
}

/// Sectors of form 2, whose data are longer than 2,048 bytes.
fn count_form_2(track: &Track, setting: &Setting<'_>) -> Result<u64> {
    let at = if track.sector_len >= RAW as u64 { 16 } else { 0 };
    let view = Spaced::new(track.source.clone(), track.sector_len, at, 4);
    let mut count = 0;
    let sectors = view.len() / 4;
    let mut from = 0;
    setting.watch.begin("looking at subheaders", Some(sectors * track.sector_len));
    while from < sectors {
        watch::check(setting.watch)?;
        let now = STRETCH.min(sectors - from);
        let mut heads = vec![0; now as usize * 4];
        view.read_at(from * 4, &mut heads)?;
        count += heads.chunks_exact(4).filter(|h| h[2] & 0x20 != 0).count() as u64;
        from += now;
        setting.watch.advance(now * track.sector_len);
    }
    setting.watch.end();
    Ok(count)
}

/// Raw sectors with a cue sheet.
fn raw(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    if !item.opened.holds.tracks.is_empty() {
        return joined(item, options, setting);
    }
    if options.given.has(&REPAIR) {
        return Err(Error::Usage(
            "there are no codes to repair it by: it is no image with all bytes of a CD's sectors".into(),
        ));
    }
    let source = item.source.clone().ok_or_else(|| Error::Usage("there is no image in it".into()))?;
    let xa = is_mode_2_volume(source.as_ref())?;
    let kind = if xa { TrackKind::Mode2 } else { TrackKind::Mode1 };
    let raw: SourceRef = Arc::new(RawSectors::new(source.clone(), kind, 0));
    let track = Track {
        number: 1,
        kind,
        file: String::new(),
        first_sector: 0,
        gap_sectors: 0,
        pregap_sectors: 0,
        source: raw.clone(),
        sector_len: RAW as u64,
    };
    let mut made =
        Made::new(Blueprint::of(raw.clone()), raw, "every byte; sync, header, EDC and ECC are computed anew");
    if xa {
        made.notices.push(Notice::new(
            "the volume is one of mode 2 sectors: their subheaders, which an image of 2048-byte sectors lacks, are made up as plain data",
        ));
    }
    made.bytes_before = source.len();
    made.beside = Some(Beside {
        extension: "cue",
        bytes: Box::new(move |name| cd::sheet(name, std::slice::from_ref(&track)).into_bytes()),
    });
    Ok(made)
}

/// All tracks of a CD image in one file, repaired if asked for.
fn joined(item: &Item, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let (mut tracks, repair) = match options.given.has(&REPAIR) {
        true => repair::repaired(item, setting).map(|(t, r)| (t, Some(r)))?,
        false => (item.opened.holds.tracks.clone(), None),
    };
    let mut left_out = Vec::new();
    for track in &mut tracks {
        match track.sector_len {
            len if len > RAW as u64 => {
                let bytes = track.source.len() / len * (len - RAW as u64);
                left_out.push(LeftOut {
                    what: format!("subchannel of track {}", track.number),
                    bytes,
                    why: "a cue sheet has no place for it".into(),
                });
                track.source = Arc::new(Spaced::new(track.source.clone(), len, 0, RAW as u64));
                track.sector_len = RAW as u64;
            }
            SECTOR if track.kind != TrackKind::Audio => {
                track.source = Arc::new(RawSectors::new(track.source.clone(), track.kind, track.first_sector));
                track.sector_len = RAW as u64;
            }
            _ => {}
        }
    }
    let whole: SourceRef = Arc::new(Concat::new(tracks.iter().map(|t| t.source.clone()).collect())?);
    let preserved = match (&repair, left_out.is_empty()) {
        (Some(r), true) if r.corrected_count > 0 => "every byte but those that were corrected",
        (Some(r), false) if r.corrected_count > 0 => "all 2352 bytes of every sector but those that were corrected",
        (Some(_), true) => "every byte: nothing was corrected",
        (None, true) => "identical bytes after converting back",
        (_, false) => "all 2352 bytes of every sector",
    };
    let mut made = Made::new(Blueprint::of(whole.clone()), whole, preserved);
    made.left_out = left_out;
    made.repair = repair;
    made.beside = Some(Beside { extension: "cue", bytes: Box::new(move |name| cd::sheet(name, &tracks).into_bytes()) });
    Ok(made)
}
