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
}
