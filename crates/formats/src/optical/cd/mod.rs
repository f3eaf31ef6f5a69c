//! CD images: all 2,352 bytes of each sector (or 2,336, or 2,448 with subchannel), alone or described by a cue sheet.
//!
//! Layout, checks and what is not sure: docs/formats/cd.md.

mod compose;
pub mod cue;
pub mod repair;
pub mod sector;
mod user;

pub use compose::{RawSectors, sheet};
pub use cue::CueSheet;

use crate::optical::iso9660;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tell;
use decanter_core::track::{Track, TrackKind};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::view::{Concat, Fill, Overlay, Slice, Spaced};
use decanter_core::{Error, Notice, Result, SECTOR};
use sector::{RAW, SYNC};
use std::sync::Arc;
use user::UserBytes;

const ID: &str = "cd-raw";
/// Where a volume's first descriptor stands (ECMA-119, 6.7.1), in sectors.
const DESCRIPTOR: u64 = 16;
/// Descriptors, and what may follow them, that a volume of a later session has twice.
const DESCRIPTORS: u64 = 8;
/// Bytes of subchannel that may follow each sector.
const SUBCHANNEL: u64 = 96;
/// Sectors at the end without a sync pattern that make a track of sound.
const SHORTEST_SOUND: u64 = 75;
/// Sectors that are looked at around a place.
const NEARBY: u64 = 16;

/// Sectors that the longest CD has (99 minutes).
pub const MOST_SECTORS: u64 = 99 * 60 * 75;
/// Byte of a volume at which one of mode 2 sectors says so, in its first descriptor, and what it says.
pub const XA_MARK: (u64, &[u8; 8]) = (DESCRIPTOR * SECTOR + 1024, b"CD-XA001");

/// Whether a volume says that its sectors are of mode 2.
///
/// # Errors
/// What reading fails with.
pub fn is_mode_2_volume(source: &dyn Source) -> Result<bool> {
    let (at, mark) = XA_MARK;
    Ok(source.len() >= at + 8 && &read_array::<8>(source, at)? == mark)
}

/// The format.
pub struct CdRaw;

impl Format for CdRaw {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "raw CD image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Cd)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["bin", "img"]
    }

    fn reads(&self) -> &'static str {
        "sectors of 2352, 2336 and 2448 bytes, mode 1 and mode 2, without a cue sheet"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(stride(source)?.map(|(len, _)| if len == 2336 { 58 } else { 80 }))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let Some((sector_len, kind)) = stride(source.as_ref())? else {
            return Err(Error::malformed(ID, "the sync pattern is missing", 0));
        };
        let mut opened = Opened::new(ID, self.name());
        let sectors = source.len() / sector_len;
        let over = source.len() % sector_len;
        if over != 0 {
            opened.damage(format!(
                "{} at the end: no whole sector of {sector_len} bytes",
                tell::count(over, "byte", "bytes")
            ));
        }
        let first_sector = match sector_len {
            2336 => 0,
            _ => sector::number_of(read_array(source.as_ref(), 12)?).unwrap_or(0),
        };
        let data = if sector_len == 2336 { sectors } else { data_sectors(source.as_ref(), sector_len, sectors)? };
        let mut track = |number, kind, from: u64, count: u64| -> Result<()> {
            opened.holds.tracks.push(Track {
                number,
                kind,
                file: String::new(),
                first_sector: first_sector + from,
                gap_sectors: 0,
                pregap_sectors: 0,
                source: Arc::new(Slice::new(source.clone(), from * sector_len, count * sector_len)?),
                sector_len,
            });
            Ok(())
        };
        track(1, kind, 0, data)?;
        if data < sectors {
            track(2, TrackKind::Audio, data, sectors - data)?;
            opened
                .notice("what follows the data has no sector headers: it is sound; a cue sheet would tell its tracks");
        }
        describe(&mut opened, opener)?;
        Ok(opened)
    }
}

/// Bytes of a sector and what it holds, told from the first sectors.
fn stride(source: &dyn Source) -> Result<Option<(u64, TrackKind)>> {
    const FIRST: u64 = DESCRIPTOR * 2336;
    if source.len() >= RAW as u64 {
        let head: [u8; 16] = read_array(source, 0)?;
        if head[..12] == SYNC {
            let kind = if head[15] == 2 { TrackKind::Mode2 } else { TrackKind::Mode1 };
            let with_subchannel = RAW as u64 + SUBCHANNEL;
            for len in [RAW as u64, with_subchannel] {
                if source.len() >= len + 12 && read_array::<12>(source, len)? == SYNC {
                    return Ok(Some((len, kind)));
                }
            }
            let alone = source.len() < 2 * RAW as u64;
            return Ok(alone.then_some((RAW as u64, kind)));
        }
    }
    if source.len() >= FIRST + 2336 && source.len().is_multiple_of(2336) {
        // Without sync and header a sector begins with its subheader, twice.
        let at: [u8; 16] = read_array(source, FIRST)?;
        if at[..4] == at[4..8] && at[9..14] == *b"CD001" {
            return Ok(Some((2336, TrackKind::Mode2)));
        }
    }
    Ok(None)
}

/// How many sectors from the start on are data, found by halving: data come first on such discs.
fn data_sectors(source: &dyn Source, sector_len: u64, sectors: u64) -> Result<u64> {
    // A damaged sector may have lost its sync pattern: a place is sound only if none nearby has one. The shortest track
    // of sound has 300 sectors (ECMA-130, 20.1), so sound at the end is sound for so long.
    let is_data = |from: u64, count: u64| -> Result<bool> {
        for sector in from..(from + count).min(sectors) {
            if read_array::<12>(source, sector * sector_len)? == SYNC {
                return Ok(true);
            }
        }
        Ok(false)
    };
    if is_data(sectors.saturating_sub(SHORTEST_SOUND), SHORTEST_SOUND)? {
        return Ok(sectors);
    }
    let (mut low, mut high) = (1, sectors.saturating_sub(SHORTEST_SOUND).max(1));
    while low < high {
        let middle = (low + high) / 2;
        if is_data(middle, NEARBY)? { low = middle + 1 } else { high = middle }
    }
    Ok(high)
}

/// The 2,048 user bytes of each sector of a data track, the gap before it left out.
///
/// Sectors of form 2 have 276 more, which no file system counts. A volume that does not begin the disc counts its sectors
/// from there all the same: nothing but zeros stands before it, and its descriptors also where they would stand then.
pub fn volume(track: &Track) -> Option<Result<SourceRef>> {
    volume_of(track, true)
}

/// The same without asking the EDC of sectors that have one.
pub fn volume_unchecked(track: &Track) -> Option<Result<SourceRef>> {
    volume_of(track, false)
}

fn volume_of(track: &Track, checks: bool) -> Option<Result<SourceRef>> {
    let skip = match (track.kind, track.sector_len) {
        (TrackKind::Audio, _) => return None,
        (_, SECTOR) => 0,
        (TrackKind::Mode1, _) => 16,
        (TrackKind::Mode2, 2336) => 8,
        (TrackKind::Mode2, _) => 24,
    };
    let view = || -> Result<SourceRef> {
        let gap = track.gap_sectors * track.sector_len;
        let body = Slice::new(track.source.clone(), gap, track.source.len() - gap)?;
        let view: SourceRef = match track.sector_len {
            SECTOR => Arc::new(body),
            len if checks => {
                Arc::new(UserBytes::new(Arc::new(body), len, skip, track.first_sector + track.gap_sectors))
            }
            len => Arc::new(Spaced::new(Arc::new(body), len, skip, SECTOR)),
        };
        let Some(lead) = lead(track)?.filter(|&lead| lead > 0) else { return Ok(view) };
        let head = DESCRIPTOR * SECTOR;
        let len = (DESCRIPTORS * SECTOR).min(view.len().saturating_sub(head));
        let descriptors: SourceRef = Arc::new(Slice::new(view.clone(), head.min(view.len()), len)?);
        let zeros: SourceRef = Arc::new(Fill { byte: 0, len: lead * SECTOR });
        let whole: SourceRef = Arc::new(Concat::new(vec![zeros, view])?);
        Ok(Arc::new(Overlay::new(whole, vec![(head, descriptors)])?))
    };
    Some(view())
}

/// The address that the first sector behind a track's gap has, by the headers of its sectors.
fn lead(track: &Track) -> Result<Option<u64>> {
    if track.kind == TrackKind::Audio || track.sector_len < RAW as u64 {
        return Ok(None);
    }
    let sectors = track.source.len() / track.sector_len;
    let mut seen = Vec::new();
    for index in [DESCRIPTOR, 0, DESCRIPTOR + 1, 1, 2] {
        let at = track.gap_sectors + index;
        if at >= sectors {
            continue;
        }
        let head: [u8; 16] = read_array(track.source.as_ref(), at * track.sector_len)?;
        let number = sector::number_of([head[12], head[13], head[14]]).and_then(|n| n.checked_sub(index));
        let Some(number) = number.filter(|_| head[..12] == SYNC) else { continue };
        // One header may be damaged: two have to agree.
        if seen.contains(&number) {
            return Ok(Some(number));
        }
        seen.push(number);
    }
    Ok(None)
}

/// Gives files of form 2 all bytes of their sectors from the subheader on, where the track has them. Whether it has.
fn whole_sectors(track: &Track, tree: &mut Tree) -> Result<bool> {
    /// Subheader, user bytes of either form, and what follows them.
    const WHOLE: u64 = 2336;
    let skip = match track.sector_len {
        SECTOR => return Ok(false),
        WHOLE => 0,
        _ => RAW as u64 - WHOLE,
    };
    let before = if track.first_sector > 0 { track.first_sector + track.gap_sectors } else { 0 };
    let whole: SourceRef = Arc::new(Spaced::new(track.source.clone(), track.sector_len, skip, WHOLE));
    let is_form_2 = |n: &Node| n.about.as_ref().is_some_and(|a| a.words.iter().any(|w| w == iso9660::FORM_2));
    for node in tree.nodes.iter_mut().filter(|n| is_form_2(n)) {
        let Kind::File(file) = &mut node.kind else { continue };
        let mut spans = Vec::new();
        for span in &file.spans {
            let first = (span.start / SECTOR).checked_sub(before).map(|s| s + track.gap_sectors);
            let Some(first) = first else { return Ok(false) };
            spans.push(first * WHOLE..(first + (span.end - span.start).div_ceil(SECTOR)) * WHOLE);
        }
        let places = std::mem::take(&mut file.spans);
        *file = File { spans: places, ..File::from_spans(&whole, spans)? };
        let mut about = node.about.as_deref().cloned().unwrap_or_default();
        about.words.push(format!("{WHOLE} bytes a sector, with subheaders"));
        node.about = Some(Arc::new(about));
    }
    Ok(true)
}

/// The sector of a track's volume that its sector `index` is; `None` in the gap before it.
pub fn volume_sector(track: &Track, index: u64) -> Option<u64> {
    let before = if track.first_sector > 0 { track.first_sector + track.gap_sectors } else { 0 };
    Some(index.checked_sub(track.gap_sectors)? + before)
}

/// What the tracks are, and the file system of the first data track.
pub(crate) fn describe(opened: &mut Opened, opener: &Opener<'_>) -> Result<()> {
    for track in &mut opened.holds.tracks {
        let first = lead(track)?.and_then(|lead| lead.checked_sub(track.gap_sectors));
        if let Some(first) = first.filter(|&f| f != track.first_sector) {
            opened.told.notices.push(Notice::new(format!(
                "the sectors of track {} count from {first} on, where {} was expected: a later session, or a part of a disc",
                track.number, track.first_sector
            )));
            track.first_sector = first;
        }
    }
    let count = |kind| opened.holds.tracks.iter().filter(|t| t.kind == kind).count();
    let kinds = [(TrackKind::Mode1, "data (mode 1)"), (TrackKind::Mode2, "data (mode 2)"), (TrackKind::Audio, "sound")];
    let told: Vec<String> =
        kinds.iter().map(|(k, w)| (count(*k), w)).filter(|(n, _)| *n > 0).map(|(n, w)| format!("{n} {w}")).collect();
    let mut lens: Vec<u64> = opened.holds.tracks.iter().map(|t| t.sector_len).collect();
    lens.sort_unstable();
    lens.dedup();
    let lens: Vec<String> = lens.iter().map(u64::to_string).collect();
    let end = opened.holds.tracks.last().map_or(0, |t| t.first_sector + t.source.len() / t.sector_len);
    let tracks = format!("{}: {}", opened.holds.tracks.len(), told.join(", "));
    let Some(volume) = opened.holds.tracks.iter().find_map(volume) else {
        opened.fact("tracks", tracks);
        opened.fact("sectors", format!("{end} of {} bytes ({})", lens.join(" and "), time(end)));
        return Ok(());
    };
    let volume = volume?;
    match opener.inside()?.open(volume.clone()) {
        Ok(inner) => {
            opened.identity.kind =
                format!("{}, as {}", inner.identity.kind.trim_end_matches(" image"), opened.identity.kind);
            let promised = inner.extent.promised_len.unwrap_or(0);
            if promised > volume.len() {
                let missing = (promised - volume.len()).div_ceil(SECTOR);
                opened.damage(format!(
                    "the volume goes on for {} after the end of its track",
                    tell::count(missing, "sector", "sectors")
                ));
            }
            opened.wrap(inner);
            let data = opened.holds.tracks.iter().position(|t| t.kind != TrackKind::Audio);
            if let (Some(track), Some(tree)) = (data.map(|i| &opened.holds.tracks[i]), &mut opened.holds.tree)
                && whole_sectors(track, tree)?
            {
                opened.told.notices.retain(|n| !n.text.contains("of form 2 (films, sound)"));
            }
        }
        Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
        Err(e) => opened.notice(format!("the data track has no file system that is read here: {e}")),
    }
    opened.extent.promised_len = None;
    opened.fact("tracks", tracks);
    opened.fact("sectors", format!("{end} of {} bytes ({})", lens.join(" and "), time(end)));
    opened.holds.volume = Some(volume);
    Ok(())
}

/// Sectors as minutes, seconds and frames.
pub fn time(sectors: u64) -> String {
    format!("{:02}:{:02}:{:02}", sectors / 75 / 60, sectors / 75 % 60, sectors % 75)
}
