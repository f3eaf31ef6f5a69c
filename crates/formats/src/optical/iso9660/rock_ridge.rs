//! Rock Ridge (RRIP 1.12) in the system use fields (SUSP 1.12): real names, links, relocated folders, times.

use crate::optical::both::Both32;
use decanter_core::source::{Source, check_range};
use zerocopy::FromBytes;

/// Continuation areas that one record may lead to.
const MOST_CONTINUATIONS: usize = 32;
/// Bytes of system use fields that one record may have in all.
const MOST_BYTES: usize = 64 << 10;

/// What the system use field of one record says.
#[derive(Debug, Default)]
pub(super) struct Extras {
    /// Name, from NM.
    pub(super) name: Option<Vec<u8>>,
    /// Target of a symbolic link, from SL.
    pub(super) link: Option<Vec<u8>>,
    /// Block of the folder that stands elsewhere, from CL.
    pub(super) child: Option<u32>,
    /// True for a folder that is also shown where it belongs, from RE.
    pub(super) relocated: bool,
    /// Recording date of the last modification, from TF.
    pub(super) modified: Option<Date>,
    /// True when any entry of Rock Ridge was there at all.
    pub(super) any: bool,
}

/// A date as it is recorded.
#[derive(Debug, Clone, Copy)]
pub(super) enum Date {
    /// 9.1.5, seven bytes.
    Short([u8; 7]),
    /// 8.4.26.1, digits.
    Long([u8; 17]),
}

/// Bytes to skip at the beginning of every system use field, if the root's own record announces the use of SUSP (5.3).
pub(super) fn announced(system_use: &[u8]) -> Option<usize> {
    match behind_xa(system_use) {
        [b'S', b'P', 7, 1, 0xbe, 0xef, skip, ..] => Some(usize::from(*skip)),
        _ => None,
    }
}

/// What follows the 14 bytes of CD-ROM XA, where a field begins with them (System Description CD-ROM XA, II.2.7): "XA" stands at 6, the
/// last five are 0. Some programs say that they are to be skipped, some do not.
fn behind_xa(area: &[u8]) -> &[u8] {
    match area {
        [_, _, _, _, _, _, b'X', b'A', _, 0, 0, 0, 0, 0, rest @ ..] => rest,
        plain => plain,
    }
}

/// Reads the system use field of one record and its continuations. What cannot be read ends it early.
pub(super) fn read(source: &dyn Source, block: u64, system_use: &[u8]) -> Extras {
    let mut extras = Extras::default();
    let mut link_open = false;
    let mut area = behind_xa(system_use).to_vec();
    let mut seen_bytes = 0;
    for _ in 0..MOST_CONTINUATIONS {
        seen_bytes += area.len();
        let next = read_area(&area, &mut extras, &mut link_open);
        let Some((at, offset, len)) = next else { break };
        let start = u64::from(at) * block + u64::from(offset);
        if len as usize + seen_bytes > MOST_BYTES || check_range(source.len(), start, len.into()).is_err() {
            break;
        }
        area = vec![0; len as usize];
        if source.read_at(start, &mut area).is_err() {
            break;
        }
    }
    extras
}

/// Reads one area; returns where the next one is: block, offset, length.
fn read_area(area: &[u8], extras: &mut Extras, link_open: &mut bool) -> Option<(u32, u32, u32)> {
    let mut rest = area;
    let mut next = None;
    while let [a, b, len, _version, ..] = *rest {
        let len = usize::from(len);
        if len < 4 || len > rest.len() {
            break;
        }
        let (entry, after) = rest.split_at(len);
        let body = &entry[4..];
        rest = after;
        match &[a, b] {
            b"NM" => name(body, extras),
            b"SL" => link(body, extras, link_open),
            b"CL" => extras.child = both(body, 0),
            b"RE" => extras.relocated = true,
            b"TF" => extras.modified = modified(body).or(extras.modified),
            b"PX" | b"RR" => {}
            b"CE" => {
                next = both(body, 0).zip(both(body, 8)).zip(both(body, 16)).map(|((a, b), c)| (a, b, c));
                continue;
            }
            b"ST" => break,
            _ => continue,
        }
        extras.any = true;
    }
    next
}

fn both(body: &[u8], at: usize) -> Option<u32> {
    Some(Both32::read_from_prefix(body.get(at..)?).ok()?.0.get().0)
}

/// NM (4.1.4): flags, then a piece of the name.
fn name(body: &[u8], extras: &mut Extras) {
    let Some((flags, piece)) = body.split_first() else { return };
    // Bits 1 and 2: the names "." and "..", which a directory's own records have anyway.
    if flags & 0x06 == 0 {
        extras.name.get_or_insert_default().extend_from_slice(piece);
    }
}

/// SL (4.1.3): flags, then components of flags, length and text.
fn link(body: &[u8], extras: &mut Extras, open: &mut bool) {
    let target = extras.link.get_or_insert_default();
    let mut rest = body.get(1..).unwrap_or_default();
    while let [flags, len, ..] = *rest {
        let end = 2 + usize::from(len);
        let Some(piece) = rest.get(2..end) else { break };
        if !target.is_empty() && !*open && target.last() != Some(&b'/') {
            target.push(b'/');
        }
        match flags & 0x0e {
            0x02 => target.extend_from_slice(b"."),
            0x04 => target.extend_from_slice(b".."),
            0x08 => target.push(b'/'),
            _ => target.extend_from_slice(piece),
        }
        *open = flags & 1 != 0;
        rest = &rest[end..];
    }
}

/// TF (4.1.6): flags, then the dates that they announce, in the order of the bits.
fn modified(body: &[u8]) -> Option<Date> {
    let (&flags, dates) = body.split_first()?;
    if flags & 0x02 == 0 {
        return None;
    }
    let before = usize::from(flags & 0x01);
    if flags & 0x80 != 0 {
        Some(Date::Long(dates.get(before * 17..before * 17 + 17)?.try_into().ok()?))
    } else {
        Some(Date::Short(dates.get(before * 7..before * 7 + 7)?.try_into().ok()?))
    }
}

impl Date {
    /// Seconds since 1970 UTC; `None` for "not given".
    pub(super) fn seconds(self) -> Option<i64> {
        match self {
            Self::Short([year, month, day, h, m, s, zone]) => {
                if month == 0 || month > 12 || day == 0 {
                    return None;
                }
                // The zone counts quarters of an hour from Greenwich, east positive.
                let local = crate::time::seconds((1900 + i64::from(year), month, day), (h, m, s));
                Some(local - i64::from(zone as i8) * 900)
            }
            Self::Long(d) => {
                let number = |r: std::ops::Range<usize>| std::str::from_utf8(&d[r]).ok()?.parse::<u16>().ok();
                let (month, day) = (number(4..6)? as u8, number(6..8)? as u8);
                if month == 0 || month > 12 || day == 0 {
                    return None;
                }
                let time = (number(8..10)? as u8, number(10..12)? as u8, number(12..14)? as u8);
                let local = crate::time::seconds((number(0..4)?.into(), month, day), time);
                Some(local - i64::from(d[16] as i8) * 900)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    fn entry(name: &[u8; 2], body: &[u8]) -> Vec<u8> {
        let mut bytes = name.to_vec();
        bytes.extend([body.len() as u8 + 4, 1]);
        bytes.extend(body);
        bytes
    }

    fn both(value: u32) -> Vec<u8> {
        [value.to_le_bytes(), value.to_be_bytes()].concat()
    }

    #[test]
    fn a_name_goes_on_in_a_continuation_area() {
        let mut disc = vec![0; 3 * 2048];
        let rest = entry(b"NM", b"\0Lane.map");
        disc[2 * 2048 + 100..2 * 2048 + 100 + rest.len()].copy_from_slice(&rest);
        let more = entry(b"CE", &[both(2), both(100), both(rest.len() as u32)].concat());
        let extras = read(&Bytes(disc), 2048, &[entry(b"NM", b"\x01Lamplighter "), more].concat());
        assert_eq!(extras.name.as_deref(), Some(b"Lamplighter Lane.map".as_slice()));
        assert!(extras.any && extras.link.is_none());
    }

    #[test]
    fn continuations_that_lead_in_a_circle_or_outside_end() {
        let mut disc = vec![0; 2 * 2048];
        let circle = entry(b"CE", &[both(1), both(0), both(28)].concat());
        disc[2048..2048 + circle.len()].copy_from_slice(&circle);
        assert!(!read(&Bytes(disc.clone()), 2048, &circle).any);
        let outside = entry(b"CE", &[both(7), both(0), both(28)].concat());
        assert!(!read(&Bytes(disc), 2048, &outside).any);
    }

    #[test]
    fn links_are_put_together_from_their_components() {
        let target = |body: &[u8]| {
            let extras = read(&Bytes(vec![]), 2048, &entry(b"SL", body));
            String::from_utf8(extras.link.unwrap_or_default()).unwrap()
        };
        assert_eq!(target(b"\0\x04\0\0\x04pier\0\x05lanes"), "../pier/lanes");
        assert_eq!(target(b"\0\x08\0\0\x03etc"), "/etc");
        assert_eq!(target(b"\0\x02\0\x01\x03fog\0\x04bell"), "./fogbell");
        assert_eq!(target(b"\0\0\x09cut"), "", "a component longer than its entry");
    }

    #[test]
    fn times_are_taken_in_the_order_of_their_flags() {
        // Creation and modification, short form: the second one counts. 2009-03-14 10:26:53, one hour east.
        let dates = [&[0x03, 1, 1, 1, 0, 0, 0, 0][..], &[109, 3, 14, 10, 26, 53, 4]].concat();
        let extras = read(&Bytes(vec![]), 2048, &entry(b"TF", &dates));
        assert_eq!(extras.modified.and_then(Date::seconds), Some(1_237_022_813));
        let long = [&[0x82][..], b"2009031409265300\0"].concat();
        let extras = read(&Bytes(vec![]), 2048, &entry(b"TF", &long));
        assert_eq!(extras.modified.and_then(Date::seconds), Some(1_237_022_813));
        assert_eq!(Date::Short([0; 7]).seconds(), None, "not given");
    }

    #[test]
    fn relocated_folders_and_their_places_are_known() {
        let area = [entry(b"CL", &both(77)), entry(b"RE", b""), entry(b"PX", &[0; 32])].concat();
        let extras = read(&Bytes(vec![]), 2048, &area);
        assert_eq!((extras.child, extras.relocated), (Some(77), true));
        assert_eq!(announced(b"SP\x07\x01\xbe\xef\x02"), Some(2));
        assert_eq!(announced(b"SP\x07\x01\xbe\xee\x02"), None);
        assert_eq!(announced(b"\0\0\0\0\x8d\x55XA\0\0\0\0\0\0SP\x07\x01\xbe\xef\x0e"), Some(14));
    }

    proptest::proptest! {
        #[test]
        fn any_area_is_read_or_left(area in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..255)) {
            let _ = read(&Bytes(area.clone()), 2048, &area);
        }
    }
}
