//! Directory records (9.1), as they are read.

use super::raw::{FLAG_FOLDER, RECORD_LEN, Record};
use super::rock_ridge::Extras;
use super::{Encoding, text};
use zerocopy::FromBytes;

/// A directory record, checked for its lengths.
pub(super) struct Entry<'a> {
    pub(super) raw: Record,
    pub(super) identifier: &'a [u8],
    pub(super) extras: Extras,
    /// Whether CD-XA says that it has more than 2,048 bytes in a sector.
    pub(super) is_form_2: bool,
    /// Byte offset of the record in the source.
    pub(super) offset: u64,
}

impl Entry<'_> {
    /// The name without what ECMA-119 puts around it: `;1`, and the dot of an empty extension.
    pub(super) fn name(&self, encoding: Encoding) -> String {
        let mut name = match &self.extras.name {
            Some(name) => text(name, Encoding::Bytes),
            None => {
                let whole = text(self.identifier, encoding);
                let bare = match whole.rsplit_once(';') {
                    Some((bare, version)) if version.bytes().all(|b| b.is_ascii_digit()) => bare,
                    _ => &whole,
                };
                let bare = match bare.strip_suffix('.') {
                    Some(stem) if !stem.is_empty() && self.raw.flags & FLAG_FOLDER == 0 => stem,
                    _ => bare,
                };
                bare.to_owned()
            }
        };
        if name.contains('/') {
            name = name.replace('/', "_");
        }
        if name.is_empty() { "_".into() } else { name }
    }
}

/// The record at the beginning of `bytes`, if its lengths are possible.
pub(super) fn parse(bytes: &[u8], offset: u64) -> Option<Entry<'_>> {
    let (raw, rest) = Record::read_from_prefix(bytes).ok()?;
    let identifier = rest.get(..usize::from(raw.identifier_length))?;
    let fits =
        usize::from(raw.length) >= RECORD_LEN + identifier.len().max(1) && usize::from(raw.length) <= bytes.len();
    fits.then_some(Entry { raw, identifier, extras: Extras::default(), is_form_2: false, offset })
}

/// The system use field of a record: what follows the identifier, which is padded to an even offset.
pub(super) fn system_use<'a>(bytes: &'a [u8], raw: &Record) -> &'a [u8] {
    let identifier = usize::from(raw.identifier_length);
    let start = RECORD_LEN + identifier + usize::from(identifier.is_multiple_of(2));
    bytes.get(start..usize::from(raw.length)).unwrap_or_default()
}

/// Whether the attributes of CD-XA say that the sectors of a file are of form 2, or some of them (System Description
/// CD-ROM XA, directory records: owner 4 bytes, attributes 2, "XA", file number, 5 reserved).
pub(super) fn is_form_2(area: &[u8]) -> bool {
    const FORM_2: u16 = 0x1000;
    const INTERLEAVED: u16 = 0x2000;
    let Some(own) = area.windows(14).step_by(2).find(|w| w[6..8] == *b"XA" && w[9..14] == [0; 5]) else { return false };
    u16::from_be_bytes([own[4], own[5]]) & (FORM_2 | INTERLEAVED) != 0
}

#[cfg(test)]
mod tests {
    use super::*;

    fn raw(identifier: &[u8], length: u8, flags: u8) -> Vec<u8> {
        let mut bytes = vec![0; 33];
        (bytes[0], bytes[25], bytes[32]) = (length, flags, identifier.len() as u8);
        bytes.extend(identifier);
        bytes.resize(bytes.len().max(length.into()), 0);
        bytes
    }

    #[test]
    fn lengths_that_cannot_be_are_no_record() {
        assert!(parse(&raw(b"A.;1", 38, 0), 0).is_some());
        assert!(parse(&raw(b"A.;1", 36, 0), 0).is_none(), "shorter than its name");
        assert!(parse(&raw(b"A.;1", 38, 0)[..37], 0).is_none(), "cut short");
        assert!(parse(&raw(b"", 33, 0), 0).is_none(), "a record has a name of one byte at least");
    }

    #[test]
    fn names_lose_what_the_standard_puts_around_them() {
        let name = |identifier: &[u8], flags| parse(&raw(identifier, 60, flags), 0).unwrap().name(Encoding::Bytes);
        assert_eq!((name(b"KELP.DAT;1", 0), name(b"README.;1", 0)), ("KELP.DAT".into(), "README".into()));
        assert_eq!((name(b"V1.", FLAG_FOLDER), name(b"A;B", 0)), ("V1.".into(), "A;B".into()));
        assert_eq!((name(b"A/B", 0), name(b";1", 0)), ("A_B".into(), "_".into()));
    }

    #[test]
    fn attributes_of_xa_are_found_at_even_offsets() {
        let area = |attributes: [u8; 2]| [&[0, 0, 0, 0][..], &attributes, b"XA\0\0\0\0\0\0"].concat();
        assert!(is_form_2(&area([0x10, 0])) && is_form_2(&area([0x20, 0])));
        assert!(!is_form_2(&area([0x08, 0x55])) && !is_form_2(b"XA"));
    }
}
