//! Records of the master file table: fixups, attributes, runs.

use super::{ID, raw};
use crate::num::le32;
use crate::raw::split;
use decanter_core::{Error, Result};
use zerocopy::FromBytes;

/// An attribute of a record.
pub(super) struct Attribute<'a> {
    pub(super) kind: u32,
    pub(super) name: String,
    pub(super) flags: u16,
    pub(super) body: Body<'a>,
}

/// Where the value of an attribute is.
pub(super) enum Body<'a> {
    /// In the record.
    Resident(&'a [u8]),
    /// In clusters.
    Elsewhere(Piece),
}

/// A stretch of a value in clusters.
#[derive(Debug, Clone)]
pub(super) struct Piece {
    /// Number of its first cluster within the value.
    pub(super) first: u64,
    /// Clusters on the volume (none for a hole) and how many.
    pub(super) runs: Vec<(Option<u64>, u64)>,
    /// Bytes of the value, of all pieces; only the first piece knows.
    pub(super) len: u64,
    /// Bytes that were ever written.
    pub(super) written: u64,
    /// Clusters that are packed together, as a power of two; 0 for none.
    pub(super) unit: u8,
}

/// Bits of a reference that are the number of a record; the others are its sequence.
pub(super) const NUMBER: u64 = 0xffff_ffff_ffff;
/// Flags of a record.
pub(super) const IN_USE: u16 = 1;
pub(super) const IS_FOLDER: u16 = 2;

/// Puts back the two bytes at the end of every 512 that a record keeps in its header.
///
/// # Errors
/// [`Error::Malformed`] where the bytes there are not those that were written with the record.
pub(super) fn fix(record: &mut [u8], magic: &[u8; 4], at: u64) -> Result<()> {
    let own = *split::<raw::Fixups>(ID, "a record", record, at)?.0;
    if &own.magic != magic {
        return Err(Error::malformed(ID, "a record without its signature", at));
    }
    let (list, count) = (usize::from(own.list.get()), usize::from(own.count.get()));
    if count == 0 || list + count * 2 > record.len() || (count - 1) * 512 > record.len() {
        return Err(Error::malformed(ID, "a record with a list of fixups that cannot be", at + 4));
    }
    let mark = [record[list], record[list + 1]];
    for index in 1..count {
        let end = index * 512 - 2;
        if record[end..end + 2] != mark {
            return Err(Error::malformed(ID, "a record that was written only in part", at + end as u64));
        }
        record[end] = record[list + index * 2];
        record[end + 1] = record[list + index * 2 + 1];
    }
    Ok(())
}

/// The attributes of a record whose fixups are done, and whether all of them could be read, up to the mark of their end.
pub(super) fn attributes(record: &[u8]) -> (Vec<Attribute<'_>>, bool) {
    let Ok((head, _)) = raw::Record::ref_from_prefix(record) else { return (Vec::new(), false) };
    let (mut found, mut at, mut is_whole) = (Vec::new(), usize::from(head.attributes.get()), true);
    while at + 4 <= record.len() {
        let kind = le32(record, at);
        if kind == u32::MAX {
            return (found, is_whole);
        }
        let len = if at + 24 <= record.len() { le32(record, at + 4) as usize } else { 0 };
        if len < 24 || at + len > record.len() {
            break;
        }
        match attribute(&record[at..at + len]) {
            Some(attribute) => found.push(attribute),
            None => is_whole = false,
        }
        at += len;
    }
    (found, false)
}

fn attribute(bytes: &[u8]) -> Option<Attribute<'_>> {
    let (head, _) = raw::Attribute::ref_from_prefix(bytes).ok()?;
    let name_at = usize::from(head.name.get());
    let name = utf16(bytes.get(name_at..name_at + usize::from(head.name_len) * 2)?);
    let body = if head.is_elsewhere == 0 {
        let (own, _) = raw::Resident::ref_from_prefix(bytes).ok()?;
        let (len, from) = (own.len.get() as usize, usize::from(own.at.get()));
        Body::Resident(bytes.get(from..from.checked_add(len)?)?)
    } else {
        let (own, _) = raw::Elsewhere::ref_from_prefix(bytes).ok()?;
        let runs = runs(bytes.get(usize::from(own.runs.get())..)?)?;
        let (first, last) = (own.first.get(), own.last.get());
        let count = runs.iter().try_fold(0u64, |sum, r| sum.checked_add(r.1))?;
        // The last cluster is one before the first where there are none.
        if first.checked_add(count)? != last.wrapping_add(1) {
            return None;
        }
        Body::Elsewhere(Piece { first, runs, len: own.len.get(), written: own.written.get(), unit: own.unit })
    };
    Some(Attribute { kind: head.kind.get(), name, flags: head.flags.get(), body })
}

/// Runs of clusters: a byte with the widths of two numbers, then how many, and how far from the run before.
fn runs(bytes: &[u8]) -> Option<Vec<(Option<u64>, u64)>> {
    let (mut runs, mut at, mut cluster) = (Vec::new(), 0, 0i64);
    loop {
        let head = *bytes.get(at)?;
        if head == 0 {
            return Some(runs);
        }
        let (count_len, step_len) = (usize::from(head & 15), usize::from(head >> 4));
        if count_len == 0 || count_len > 8 || step_len > 8 {
            return None;
        }
        let number = |from: usize, len: usize| -> Option<i64> {
            let own = bytes.get(from..from + len)?;
            let sign = own.last().map_or(0, |b| if b & 0x80 != 0 { -1 } else { 0 });
            Some(own.iter().rev().fold(sign, |sum, b| sum << 8 | i64::from(*b)))
        };
        let count = u64::try_from(number(at + 1, count_len)?).ok()?;
        let place = if step_len == 0 {
            None
        } else {
            cluster = cluster.checked_add(number(at + 1 + count_len, step_len)?)?;
            Some(u64::try_from(cluster).ok()?)
        };
        runs.push((place, count));
        at += 1 + count_len + step_len;
    }
}

/// Text in UTF-16.
pub(super) fn utf16(bytes: &[u8]) -> String {
    let units: Vec<u16> = bytes.as_chunks::<2>().0.iter().map(|b| u16::from_le_bytes(*b)).collect();
    String::from_utf16_lossy(&units)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_worked_out_by_hand() {
        // 0x18 clusters at 0x5634; a hole of 0x10; 0x20 clusters 0x100 before the first run.
        let bytes = [0x21, 0x18, 0x34, 0x56, 0x01, 0x10, 0x21, 0x20, 0x00, 0xff, 0x00];
        assert_eq!(runs(&bytes), Some(vec![(Some(0x5634), 0x18), (None, 0x10), (Some(0x5534), 0x20)]));
        assert_eq!(runs(&[0x11, 1]), None);
        assert_eq!(runs(&[0x11, 1, 0x80, 0]), None, "before the first cluster");
    }

    fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
        bytes[at..at + value.len()].copy_from_slice(value);
    }

    /// A record of 1 KiB: fixups at byte 48, an attribute in it, one in clusters, and the mark of the end. Offsets along
    /// docs/formats/ntfs.md.
    fn record() -> Vec<u8> {
        let mut b = vec![0; 1024];
        put(&mut b, 0, b"FILE");
        put(&mut b, 4, &[48, 0, 3, 0]);
        put(&mut b, 20, &[56, 0, 1, 0]);
        put(&mut b, 48, &[0xaa, 0xbb, 0x11, 0x12, 0x21, 0x22]);
        put(&mut b, 510, &[0xaa, 0xbb]);
        put(&mut b, 1022, &[0xaa, 0xbb]);
        // A value of five bytes at byte 32 of an attribute of 40, called "$I" at byte 24.
        put(&mut b, 56, &[0x30, 0, 0, 0, 40, 0, 0, 0, 0, 2, 24, 0, 0, 0, 7, 0]);
        put(&mut b, 72, &[5, 0, 0, 0, 32, 0]);
        put(&mut b, 80, &[b'$', 0, b'I', 0, 0, 0, 0, 0, b'b', b'r', b'i', b'n', b'e']);
        // Three clusters from 0x10 on, the first of the value, of which 600 bytes are used and 512 written; runs at byte 64.
        put(&mut b, 96, &[0x80, 0, 0, 0, 72, 0, 0, 0, 1, 0, 64, 0, 1, 0, 8, 0]);
        put(&mut b, 96 + 24, &[2]);
        put(&mut b, 96 + 32, &[64, 0, 4]);
        put(&mut b, 96 + 48, &[0x58, 2]);
        put(&mut b, 96 + 56, &[0, 2]);
        put(&mut b, 96 + 64, &[0x11, 3, 0x10, 0]);
        put(&mut b, 168, &[0xff; 4]);
        b
    }

    #[test]
    fn fixups_are_put_back_or_the_record_is_not_whole() {
        let mut own = record();
        fix(&mut own, b"FILE", 0).unwrap();
        assert_eq!((&own[510..512], &own[1022..]), (&[0x11, 0x12][..], &[0x21, 0x22][..]));
        let told = |change: fn(&mut Vec<u8>)| {
            let mut own = record();
            change(&mut own);
            fix(&mut own, b"FILE", 0x4000).unwrap_err().to_string()
        };
        assert!(told(|b| b[0] = b'B').contains("without its signature"));
        assert!(told(|b| b[1022] = 0).contains("written only in part") && told(|b| b[1022] = 0).contains("0x43fe"));
        assert!(told(|b| b[6] = 0).contains("list of fixups"));
        assert!(told(|b| b[6] = 4).contains("list of fixups"), "more than the record has ends");
        assert!(told(|b| b[5] = 4).contains("list of fixups"), "a list past its end");
        assert!(told(|b| b.truncate(4)).contains("cut short"));
    }

    #[test]
    fn attributes_follow_each_other_up_to_the_mark() {
        let own = record();
        let (all, is_whole) = attributes(&own);
        assert!(is_whole);
        let [name, data] = &all[..] else { panic!("{} attributes", all.len()) };
        assert_eq!((name.kind, name.name.as_str(), name.flags), (0x30, "$I", 0));
        assert!(matches!(name.body, Body::Resident(b"brine")));
        let Body::Elsewhere(piece) = &data.body else { panic!("it is in clusters") };
        assert_eq!((data.kind, data.flags, piece.unit, piece.first), (0x80, 1, 4, 0));
        assert_eq!((piece.runs.as_slice(), piece.len, piece.written), (&[(Some(0x10), 3)][..], 600, 512));
    }

    #[test]
    fn attributes_that_cannot_be_cost_the_others_nothing() {
        let with = |at: usize, value: u8| {
            let mut own = record();
            own[at] = value;
            let (all, is_whole) = attributes(&own);
            (all.iter().map(|a| a.kind).collect::<Vec<_>>(), is_whole)
        };
        assert_eq!(with(72, 200), (vec![0x80], false), "a value past the end of its attribute");
        assert_eq!(with(65, 200), (vec![0x80], false), "a name past the end of its attribute");
        assert_eq!(with(96 + 24, 3), (vec![0x30], false), "fewer clusters than it says");
        assert_eq!(with(60, 20), (vec![], false), "an attribute without room for its head");
        assert_eq!(with(168, 0), (vec![0x30, 0x80], false), "no mark of the end");
    }
}
