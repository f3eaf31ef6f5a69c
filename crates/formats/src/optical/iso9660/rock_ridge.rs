//! Rock Ridge (RRIP 1.12) in the system use fields (SUSP 1.12): real names, links, relocated folders, times.

use super::raw::Both32;
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
    match system_use {
        [b'S', b'P', 7, 1, 0xbe, 0xef, skip, ..] => Some(usize::from(*skip)),
        _ => None,
    }
}

/// Reads the system use field of one record and its continuations. What cannot be read ends it early.
pub(super) fn read(source: &dyn Source, block: u64, system_use: &[u8]) -> Extras {
    let mut extras = Extras::default();
    let mut link_open = false;
    let mut area = system_use.to_vec();
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
