//! Which sections are encrypted, under which key, and whether that key is right: hashes decide, and marks where a hash is hit.

use super::header::Header;
use super::section::{self, Cipher, Layout, Section};
use crate::package::nx::ecb_decrypt;
use crate::package::nx::keys::{self, Role};
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::protection::KeyState;
use decanter_core::source::{SourceRef, read_array};
use decanter_core::transform::{Chained, Transform};
use decanter_core::view::{CtrRanges, Keystream, Locked, Slice, Streamed, Tweaked, Xts, XtsRanges};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// What came of it.
pub(super) struct Unlocked {
    pub(super) sections: Vec<Section>,
    /// All of the content, sections decrypted as far as the key allows.
    pub(super) view: SourceRef,
    pub(super) transform: Option<Arc<dyn Transform>>,
    pub(super) locked: Vec<Range<u64>>,
    pub(super) key: KeyState,
}

/// The keys of the sections.
struct SectionKeys {
    /// For CTR.
    ctr: Key,
    /// For XTS: 32 bytes. With a title key there are none.
    xts: Option<Key>,
    origin: String,
}

/// What shows whether a key is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Shows {
    /// A hash holds, or a table is as it has to be.
    Right,
    /// A hash does not hold, but what it is over begins as it has to.
    Damage,
    /// Nothing is as it has to be.
    Noise,
    /// There is nothing to tell it by.
    Nothing,
}

fn section_keys(header: &Header, keys: &Keyring, what: &str) -> Result<std::result::Result<SectionKeys, KeyTrouble>> {
    let found = |role| keys::find(keys, role, what);
    let (kek, origin) = match found(header.kek()?) {
        Ok(found) => found,
        Err(trouble) => return Ok(Err(trouble)),
    };
    let Some(rights) = header.rights_id() else {
        let [one, two, ctr, _] = header.area_keys(&kek)?;
        let xts = Some(Key::new([one.bytes(), two.bytes()].concat()));
        return Ok(Ok(SectionKeys { ctr, xts, origin }));
    };
    let (title, from) = match found(Role::TitleKey(rights)) {
        Ok(found) => found,
        Err(trouble) => return Ok(Err(trouble)),
    };
    let mut bytes = title.bytes().to_vec();
    ecb_decrypt(&kek, &mut bytes)?;
    Ok(Ok(SectionKeys { ctr: Key::new(bytes), xts: None, origin: format!("{from}, {origin}") }))
}

pub(super) fn unlock(header: &Header, stored: &SourceRef, keys: &Keyring, what: &str) -> Result<Unlocked> {
    let sections: Vec<Section> = header.placed()?.iter().map(Section::of).collect();
    let coded: Vec<&Section> = sections.iter().filter(|s| s.cipher.needs_key()).collect();
    if coded.is_empty() {
        let view = stored.clone();
        return Ok(Unlocked { sections, view, transform: None, locked: Vec::new(), key: KeyState::NotNeeded });
    }
    let lock = |trouble: KeyTrouble, sections: &[Section]| -> Unlocked {
        let coded = sections.iter().filter(|s| s.cipher.needs_key());
        let mut locked: Vec<Range<u64>> = coded.map(|s| s.range.clone()).collect();
        locked.sort_by_key(|r| r.start);
        let view = Arc::new(Locked::new(stored.clone(), locked.clone().into(), trouble.clone()));
        Unlocked { sections: sections.to_vec(), view, transform: None, locked, key: KeyState::Trouble(trouble) }
    };
    let found = match section_keys(header, keys, what)? {
        Ok(found) => found,
        Err(trouble) => return Ok(lock(trouble, &sections)),
    };
    let mut sections = sections;
    let first = base_view(&sections, stored, &found)?;
    let mut streams = Vec::new();
    let mut shown = Vec::new();
    for section in sections.iter_mut().filter(|s| s.cipher.needs_key()) {
        let (shows, more) = look(section, &first, &found.ctr)?;
        shown.push((section.index, shows));
        streams.extend(more);
    }
    let is_right = shown.iter().any(|(_, s)| matches!(s, Shows::Right | Shows::Damage));
    if !is_right && shown.iter().any(|(_, s)| *s == Shows::Noise) {
        let role = header.rights_id().map_or(header.kek()?, Role::TitleKey);
        return Ok(lock(keys::wrong(keys, role, what, &found.origin), &sections));
    }
    let ctr = Arc::new(CtrRanges::new(streams)?);
    let xts = Arc::new(XtsRanges::new(xts_ranges(&sections, &found, stored.len())?)?);
    let mut view: SourceRef = Arc::new(Streamed::new(stored.clone(), ctr.clone()));
    let has_xts = sections.iter().any(|s| s.cipher == Cipher::Xts);
    if has_xts {
        view = Arc::new(Tweaked::new(view, xts.clone()));
    }
    let transform: Arc<dyn Transform> = if has_xts { Arc::new(Chained(vec![ctr, xts])) } else { ctr };
    let by = shown.iter().find(|(_, s)| *s == Shows::Right).map(|(index, _)| format!("the hashes of section {index}"));
    let key = KeyState::Found { origin: found.origin, proof: by };
    Ok(Unlocked { sections, view, transform: Some(transform), locked: Vec::new(), key })
}

/// Sections under XTS, as far as whole sectors of them are there.
fn xts_ranges(sections: &[Section], found: &SectionKeys, there: u64) -> Result<Vec<(Range<u64>, Arc<Xts>)>> {
    let mut all = Vec::new();
    for section in sections.iter().filter(|s| s.cipher == Cipher::Xts) {
        let key = found.xts.as_ref().ok_or_else(|| Error::unsupported(super::ID, "XTS under a title key"))?;
        let xts = Arc::new(Xts::new(key, super::header::UNIT as usize)?);
        let end = section.range.end.min(there.max(section.range.start));
        let whole = (end - section.range.start) / super::header::UNIT * super::header::UNIT;
        all.push((section.range.start..section.range.start + whole, xts));
    }
    all.sort_by_key(|(range, _)| range.start);
    Ok(all)
}

/// Everything under the counters that sections' headers have: all there is to know, but for an update's own stretches.
fn base_view(sections: &[Section], stored: &SourceRef, found: &SectionKeys) -> Result<SourceRef> {
    let ctr = sections.iter().filter(|s| matches!(s.cipher, Cipher::Ctr | Cipher::CtrTable)).map(|s| Keystream {
        range: s.range.clone(),
        origin: s.range.start,
        counter: s.counter_at(None, s.range.start),
        key: found.ctr.clone(),
    });
    let view: SourceRef = Arc::new(Streamed::new(stored.clone(), Arc::new(CtrRanges::new(ctr.collect())?)));
    let xts = xts_ranges(sections, found, stored.len())?;
    Ok(if xts.is_empty() { view } else { Arc::new(Tweaked::new(view, Arc::new(XtsRanges::new(xts)?))) })
}

/// Whether the key is right for a section, and the streams that decrypt it.
fn look(section: &mut Section, view: &SourceRef, key: &Key) -> Result<(Shows, Vec<Keystream>)> {
    let stream = |range: Range<u64>, generation: Option<u32>| Keystream {
        counter: section.counter_at(generation, range.start),
        origin: range.start,
        range,
        key: key.clone(),
    };
    let whole = || vec![stream(section.range.clone(), None)];
    let there = section.range.end.min(view.len()).saturating_sub(section.range.start);
    let own: SourceRef = Arc::new(Slice::new(view.clone(), section.range.start.min(view.len()), there)?);
    let streams = match section.cipher {
        Cipher::Xts => Vec::new(),
        _ => whole(),
    };
    if let Some(patch) = section.patch.clone() {
        if patch.counters.range.end > there || patch.moved.range.end > there {
            section.oddity = Some("an update's section, whose tables are cut off,".into());
            return Ok((Shows::Nothing, streams));
        }
        let tables =
            section::counters(section, &patch, own.as_ref()).and_then(|c| patch.moves(own.as_ref()).map(|_| c));
        return match tables {
            Ok(counters) => {
                let start = section.range.start + patch.data_len();
                let mut all: Vec<Keystream> = counters.into_iter().map(|(range, g)| stream(range, Some(g))).collect();
                all.push(stream(start..section.range.end, None));
                Ok((Shows::Right, all))
            }
            Err(e @ (Error::Io { .. } | Error::Cancelled)) => Err(e),
            Err(e) => {
                let heads = [&patch.moved.range, &patch.counters.range].map(|r| read_array::<8>(own.as_ref(), r.start));
                // A root node begins with index 0 and a small number of buckets.
                let is_root = |h: &[u8]| h[..4] == [0; 4] && h[6..8] == [0; 2];
                let is_noise = heads.iter().all(|h| h.as_ref().is_ok_and(|h| !is_root(h)));
                section.oddity = Some(format!("an update's section, whose tables are damaged ({e}),"));
                Ok((if is_noise { Shows::Noise } else { Shows::Damage }, streams))
            }
        };
    }
    let Some(levels) = &section.levels else { return Ok((Shows::Nothing, streams)) };
    let shows = match levels.master_holds(&own)? {
        Some(true) => Shows::Right,
        Some(false) if begins_well(section, &own)? => Shows::Damage,
        Some(false) => Shows::Noise,
        None => Shows::Nothing,
    };
    Ok((shows, streams))
}

/// Whether the files of a section begin as they have to.
fn begins_well(section: &Section, own: &SourceRef) -> Result<bool> {
    let Some(data) = section.levels.as_ref().map(|l| l.data().clone()) else { return Ok(false) };
    if data.start + 8 > own.len() || data.end < data.start + 8 {
        return Ok(false);
    }
    let head: [u8; 8] = read_array(own.as_ref(), data.start)?;
    Ok(match section.layout {
        Layout::Files => head[..4] == *b"PFS0",
        Layout::Rom => head == [0x50, 0, 0, 0, 0, 0, 0, 0],
        Layout::Other(_) => false,
    })
}
