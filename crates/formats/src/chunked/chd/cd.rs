//! CDs as such images hold them: units of 2,448 bytes, each track filled up to a multiple of four, sound big-endian.

use super::codec::UNIT;
use super::header::Entry;
use crate::optical::cd::sector::RAW;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::track::{Track, TrackKind};
use decanter_core::view::{Blockwise, Concat, Fill, Slice, Spaced};
use decanter_core::{Error, Result, SECTOR};
use std::sync::Arc;

/// Units that the length of a track is a multiple of.
const ALIGN: u64 = 4;

/// A track as its metadata describe it.
#[derive(Debug)]
pub(super) struct Described {
    number: u8,
    kind: TrackKind,
    sector_len: u64,
    has_subchannel: bool,
    /// Sectors in the image, those that fill it up included.
    frames: u64,
    /// Sectors at its end that only fill it up to where the next one begins on a GD-ROM.
    pad: u64,
    /// Units after it that belong to no track.
    over: u64,
    pregap: u64,
    has_gap_data: bool,
}

/// The tracks that metadata describe: as texts, or all of them in the binary form of the first versions.
///
/// # Errors
/// [`Error::Unsupported`] for tracks of a type that is not known: what stands in them would be taken for another one's.
pub(super) fn all_described(metadata: &[Entry]) -> Result<Vec<Described>> {
    if let Some(entry) = metadata.iter().find(|e| e.tag.0 == *b"CHCD") {
        return binary(&entry.data);
    }
    let texts = metadata.iter().filter(|e| matches!(&e.tag.0, b"CHT2" | b"CHTR" | b"CHGD" | b"CHGT"));
    texts.map(described).collect()
}

/// Tracks of the binary form: their number, then for each type, subchannel, bytes of a sector and of its subchannel,
/// sectors, and units that fill up. Whole numbers of 32 bits, in the byte order of the machine that wrote them.
fn binary(data: &[u8]) -> Result<Vec<Described>> {
    const MOST: u32 = 99;
    let malformed = |what: String| Error::malformed(super::ID, what, 0);
    let words = |from: fn([u8; 4]) -> u32| -> Vec<u32> { data.as_chunks::<4>().0.iter().map(|b| from(*b)).collect() };
    let words = [words(u32::from_be_bytes), words(u32::from_le_bytes)]
        .into_iter()
        .find(|w| w.first().is_some_and(|n| (1..=MOST).contains(n)));
    let words = words.ok_or_else(|| malformed("metadata of a CD without a number of tracks".into()))?;
    let mut found = Vec::new();
    for (index, own) in words[1..].chunks_exact(6).take(words[0] as usize).enumerate() {
        let kind = match own[0] {
            0 => "MODE1",
            1 => "MODE1_RAW",
            2 => "MODE2",
            3 => "MODE2_FORM1",
            5 => "MODE2_FORM_MIX",
            6 => "MODE2_RAW",
            7 => "AUDIO",
            other => return Err(Error::unsupported(super::ID, format!("track {} of type {other}", index + 1))),
        };
        let (kind, sector_len) = known(kind).ok_or_else(|| malformed("a type of tracks that is none".into()))?;
        found.push(Described {
            number: index as u8 + 1,
            kind,
            sector_len,
            has_subchannel: own[1] < 2,
            frames: own[4].into(),
            pad: 0,
            over: own[5].into(),
            pregap: 0,
            has_gap_data: false,
        });
    }
    match found.len() == words[0] as usize {
        true => Ok(found),
        false => Err(malformed(format!("metadata of {} tracks that are cut short", words[0]))),
    }
}

/// What the sectors of a type of tracks hold, and their length.
fn known(kind: &str) -> Option<(TrackKind, u64)> {
    Some(match kind {
        "AUDIO" => (TrackKind::Audio, RAW as u64),
        "MODE1" | "MODE1/2048" => (TrackKind::Mode1, SECTOR),
        "MODE1_RAW" | "MODE1/2352" => (TrackKind::Mode1, RAW as u64),
        "MODE2_RAW" | "MODE2/2352" | "CDI/2352" => (TrackKind::Mode2, RAW as u64),
        "MODE2" | "MODE2/2336" | "MODE2_FORM_MIX" | "MODE2_MIX" => (TrackKind::Mode2, 2336),
        "MODE2_FORM1" | "MODE2/2048" => (TrackKind::Mode2, SECTOR),
        _ => return None,
    })
}

/// A track out of the text of an entry.
fn described(entry: &Entry) -> Result<Described> {
    let text = entry.as_text();
    let field = |name: &str| {
        text.split_whitespace().find_map(|w| w.strip_prefix(name).and_then(|w| w.strip_prefix(':'))).map(str::to_owned)
    };
    let number = |name: &str| field(name).and_then(|v| v.parse::<u64>().ok());
    let malformed = |what: &str| Error::malformed(super::ID, format!("metadata of a track without {what}: {text}"), 0);
    let kind = field("TYPE").ok_or_else(|| malformed("its type"))?;
    let (kind, sector_len) =
        known(&kind).ok_or_else(|| Error::unsupported(super::ID, format!("a track of type {kind}")))?;
    let frames = number("FRAMES").ok_or_else(|| malformed("its length"))?;
    let pad = number("PAD").unwrap_or(0);
    if pad > frames {
        return Err(malformed("as many sectors as fill it up"));
    }
    Ok(Described {
        number: number("TRACK").and_then(|n| u8::try_from(n).ok()).ok_or_else(|| malformed("its number"))?,
        kind,
        sector_len,
        has_subchannel: field("SUBTYPE").is_some_and(|s| s != "NONE"),
        frames,
        pad,
        over: frames.next_multiple_of(ALIGN) - frames,
        pregap: number("PREGAP").unwrap_or(0),
        has_gap_data: field("PGTYPE").is_some_and(|t| t.starts_with('V')),
    })
}

/// The tracks in `units`, in this order.
///
/// # Errors
/// [`Error::Malformed`] for tracks that reach past the end.
pub(super) fn tracks(described: &[Described], units: &SourceRef) -> Result<Vec<Track>> {
    let (mut tracks, mut at, mut sector) = (Vec::new(), 0u64, 0u64);
    for own in described {
        let len =
            own.frames.checked_mul(UNIT as u64).filter(|len| at.checked_add(*len).is_some_and(|e| e <= units.len()));
        let Some(len) = len else {
            let text = format!("track {} ({} sectors) reaches past the end of the image", own.number, own.frames);
            return Err(Error::malformed(super::ID, text, at));
        };
        let body: SourceRef = Arc::new(Slice::new(units.clone(), at, len - own.pad * UNIT as u64)?);
        let sector_len = if own.has_subchannel && own.sector_len == RAW as u64 { UNIT as u64 } else { own.sector_len };
        let body: SourceRef = match sector_len {
            len if len == UNIT as u64 => body,
            len => Arc::new(Spaced::new(body, UNIT as u64, 0, len)),
        };
        let body: SourceRef = match own.kind {
            TrackKind::Audio => Arc::new(Blockwise::new(body, sector_len, swap_sound)?),
            _ => body,
        };
        let (gap, pregap) = if own.has_gap_data { (own.pregap.min(own.frames), 0) } else { (0, own.pregap) };
        // The first track's gap lies before the first sector that has an address in images.
        let pregap = if tracks.is_empty() { 0 } else { pregap };
        sector += pregap;
        tracks.push(Track {
            number: own.number,
            kind: own.kind,
            file: String::new(),
            first_sector: sector,
            gap_sectors: gap,
            pregap_sectors: pregap,
            source: body,
            sector_len,
        });
        sector += own.frames;
        at = at.saturating_add(own.frames.saturating_add(own.over).saturating_mul(UNIT as u64));
    }
    Ok(tracks)
}

/// Samples the other way round; what follows the sound of a sector stays.
fn swap_sound(bytes: &mut [u8]) {
    let unit = if bytes.len().is_multiple_of(UNIT) && !bytes.len().is_multiple_of(RAW) { UNIT } else { RAW };
    for sector in bytes.chunks_mut(unit) {
        let sound = sector.len().min(RAW);
        sector[..sound].as_chunks_mut::<2>().0.iter_mut().for_each(|p| p.swap(0, 1));
    }
}

/// The units of a new image, and what describes its tracks.
///
/// # Errors
/// [`Error::Unsupported`] for sectors that have no name there.
pub(super) fn compose(tracks: &[Track]) -> Result<(SourceRef, Vec<Entry>)> {
    let (mut parts, mut entries): (Vec<SourceRef>, _) = (Vec::new(), Vec::new());
    for track in tracks {
        let kind = match (track.kind, track.sector_len) {
            (TrackKind::Audio, 2352 | 2448) => "AUDIO",
            (TrackKind::Mode1, 2048) => "MODE1",
            (TrackKind::Mode1, 2352 | 2448) => "MODE1_RAW",
            (TrackKind::Mode2, 2336) => "MODE2",
            (TrackKind::Mode2, 2048) => "MODE2_FORM1",
            (TrackKind::Mode2, 2352 | 2448) => "MODE2_RAW",
            (_, len) => {
                return Err(Error::unsupported(super::ID, format!("sectors of {len} bytes in track {}", track.number)));
            }
        };
        let frames = track.source.len() / track.sector_len;
        let body: SourceRef = match track.kind {
            TrackKind::Audio => Arc::new(Blockwise::new(track.source.clone(), track.sector_len, swap_sound)?),
            _ => track.source.clone(),
        };
        parts.push(Arc::new(Units { inner: body, sector_len: track.sector_len, frames }));
        let over = frames.next_multiple_of(ALIGN) - frames;
        parts.push(Arc::new(Fill { byte: 0, len: over * UNIT as u64 }));
        let sub = if track.sector_len == UNIT as u64 { "RW_RAW" } else { "NONE" };
        let (pregap, gap_kind) = match track.gap_sectors {
            0 => (track.pregap_sectors, "MODE1".to_owned()),
            gap => (gap, format!("V{kind}")),
        };
        let text = format!(
            "TRACK:{} TYPE:{kind} SUBTYPE:{sub} FRAMES:{frames} PREGAP:{pregap} PGTYPE:{gap_kind} PGSUB:RW POSTGAP:0",
            track.number
        );
        entries.push(Entry::text(b"CHT2", &text));
    }
    Ok((Arc::new(Concat::new(parts)?), entries))
}

/// Sectors at the beginning of units of 2,448 bytes; the rest is zeros.
struct Units {
    inner: SourceRef,
    sector_len: u64,
    frames: u64,
}

impl Source for Units {
    fn len(&self) -> u64 {
        self.frames * UNIT as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        if buf.is_empty() {
            return Ok(());
        }
        let unit = UNIT as u64;
        let (first, last) = (offset / unit, (offset + buf.len() as u64 - 1) / unit);
        let mut sectors = vec![0; ((last - first + 1) * self.sector_len) as usize];
        self.inner.read_at(first * self.sector_len, &mut sectors)?;
        buf.fill(0);
        for (index, sector) in sectors.chunks(self.sector_len as usize).enumerate() {
            let start = (first + index as u64) * unit;
            let (from, to) = (start.max(offset), (start + self.sector_len).min(offset + buf.len() as u64));
            if from < to {
                let own = &sector[(from - start) as usize..(to - start) as usize];
                buf[(from - offset) as usize..(to - offset) as usize].copy_from_slice(own);
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    fn units(count: u64) -> SourceRef {
        Arc::new(Bytes((0..count * 2448).map(|i| (i / 2448) as u8).collect()))
    }

    #[test]
    fn what_fills_up_a_track_of_a_gd_rom_is_no_part_of_it() {
        let entries = [
            Entry::text(
                b"CHGD",
                "TRACK:1 TYPE:MODE1_RAW SUBTYPE:NONE FRAMES:9 PAD:3 PREGAP:0 PGTYPE:MODE1 PGSUB:NONE POSTGAP:0",
            ),
            Entry::text(
                b"CHGD",
                "TRACK:2 TYPE:MODE1_RAW SUBTYPE:NONE FRAMES:2 PAD:0 PREGAP:0 PGTYPE:MODE1 PGSUB:NONE POSTGAP:0",
            ),
        ];
        let found = tracks(&all_described(&entries).unwrap(), &units(20)).unwrap();
        let lens: Vec<u64> = found.iter().map(|t| t.source.len() / 2352).collect();
        assert_eq!((lens, found[1].first_sector), (vec![6, 2], 9));
        let mut first = [0];
        found[1].source.read_at(0, &mut first).unwrap();
        assert_eq!(first, [12], "9 units, filled up to 12");
    }

    #[test]
    fn an_unknown_type_is_an_error_and_the_binary_form_is_read() {
        let text = "TRACK:1 TYPE:MODE3 SUBTYPE:NONE FRAMES:4 PREGAP:0 PGTYPE:MODE1 PGSUB:NONE POSTGAP:0";
        assert!(matches!(all_described(&[Entry::text(b"CHT2", text)]), Err(Error::Unsupported { .. })));
        // Two tracks: raw data of 5 sectors, filled up with 3 units; sound of 2.
        let words = [2u32, 1, 2, 2352, 0, 5, 3, 7, 2, 2352, 0, 2, 2];
        for data in [words.map(u32::to_be_bytes).concat(), words.map(u32::to_le_bytes).concat()] {
            let entry = Entry { data, ..Entry::text(b"CHCD", "") };
            let found = tracks(&all_described(&[entry]).unwrap(), &units(20)).unwrap();
            let told: Vec<_> = found.iter().map(|t| (t.kind, t.source.len() / 2352, t.first_sector)).collect();
            assert_eq!(told, [(TrackKind::Mode1, 5, 0), (TrackKind::Audio, 2, 5)]);
            let mut first = [0];
            found[1].source.read_at(0, &mut first).unwrap();
            assert_eq!(first, [8]);
        }
    }

    #[test]
    fn tracks_come_back_as_they_were() {
        let track = |number, kind, sector_len: u64, frames: u64, gap| Track {
            number,
            kind,
            file: String::new(),
            first_sector: 0,
            gap_sectors: gap,
            pregap_sectors: 0,
            source: Arc::new(Bytes((0..sector_len * frames).map(|i| (i / 7 + i % 251) as u8).collect())),
            sector_len,
        };
        let given = [
            track(1, TrackKind::Mode2, 2352, 5, 0),
            track(2, TrackKind::Audio, 2352, 6, 2),
            track(3, TrackKind::Mode1, 2048, 3, 0),
        ];
        let (units, entries) = compose(&given).unwrap();
        assert_eq!(units.len(), (8 + 8 + 4) * 2448);
        assert_eq!(
            entries[1].as_text(),
            "TRACK:2 TYPE:AUDIO SUBTYPE:NONE FRAMES:6 PREGAP:2 PGTYPE:VAUDIO PGSUB:RW POSTGAP:0"
        );
        let mut first = [0; 4];
        units.read_at(8 * 2448, &mut first).unwrap();
        let mut original = [0; 4];
        given[1].source.read_at(0, &mut original).unwrap();
        assert_eq!(first, [original[1], original[0], original[3], original[2]], "sound is big-endian");
        let described = all_described(&entries).unwrap();
        let found = tracks(&described, &units).unwrap();
        for (own, other) in found.iter().zip(&given) {
            assert_eq!((own.kind, own.sector_len, own.gap_sectors), (other.kind, other.sector_len, other.gap_sectors));
            let read = |s: &SourceRef| {
                let mut bytes = vec![0; s.len() as usize];
                s.read_at(0, &mut bytes).unwrap();
                bytes
            };
            assert!(read(&own.source) == read(&other.source), "track {}", own.number);
        }
    }
}
