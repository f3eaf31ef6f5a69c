//! The ExeFS: programs, icon, banner. Layout: docs/formats/n3ds-content.md.

use super::ID;
use crate::num::le32;
use crate::package::n3ds::{UNIT, sha256};
use decanter_core::source::{Source, read_array};
use decanter_core::{Error, Result};
use std::ops::Range;

/// Bytes of the header.
pub const HEADER: u64 = 0x200;
/// Members that it has room for.
pub const MOST_MEMBERS: usize = 10;

/// A member.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Name as stored, without the zeros after it.
    pub name: String,
    /// Where it is, in bytes of the content.
    pub range: Range<u64>,
    /// SHA-256 of it.
    pub hash: [u8; 32],
}

impl Member {
    /// Whether the first key slot is always used for it.
    pub fn is_of_first_slot(&self) -> bool {
        self.name == "icon" || self.name == "banner"
    }

    /// Name of the file that it becomes.
    pub fn file_name(&self) -> String {
        let plain: String = self
            .name
            .trim_start_matches('.')
            .chars()
            .map(|c| if c.is_ascii_graphic() && c != '/' { c } else { '_' })
            .collect();
        format!("exefs/{plain}.bin")
    }
}

/// Reads the header at the beginning of the ExeFS at `area` of a content.
///
/// # Errors
/// [`Error::Malformed`] for members that overlap or lie outside, with the offset of the field in the content.
pub fn read(source: &dyn Source, area: &Range<u64>) -> Result<Vec<Member>> {
    if area.end - area.start < HEADER {
        return Err(Error::malformed(ID, "an ExeFS without room for its header", area.start));
    }
    let header: [u8; HEADER as usize] = read_array(source, area.start)?;
    let mut members: Vec<Member> = Vec::new();
    for index in 0..MOST_MEMBERS {
        let at = index * 16;
        let field = &header[at..at + 16];
        let len = u64::from(le32(field, 12));
        if field[..8] == [0; 8] {
            continue;
        }
        let start = area.start + HEADER + u64::from(le32(field, 8));
        let range = start..start + len;
        let name = crate::cartridge::text::ascii(&field[..8]);
        if range.end > area.end {
            let text = format!("member {name} ends at {:#x}, behind the ExeFS", range.end);
            return Err(Error::malformed(ID, text, area.start + at as u64 + 8));
        }
        let overlaps = |m: &&Member| m.range.start < range.end && range.start < m.range.end;
        if let Some(other) = members.iter().find(overlaps) {
            let text = format!("member {name} overlaps member {}", other.name);
            return Err(Error::malformed(ID, text, area.start + at as u64 + 8));
        }
        let hash_at = HEADER as usize - (index + 1) * 32;
        let mut hash = [0; 32];
        hash.copy_from_slice(&header[hash_at..hash_at + 32]);
        members.push(Member { name, range, hash });
    }
    Ok(members)
}

/// The header of an ExeFS with these members, one after the other, each from a media unit on.
///
/// # Errors
/// [`Error::Unsupported`] for more than ten members, or a name of more than 8 bytes.
pub fn header(members: &[(String, &[u8])]) -> Result<Vec<u8>> {
    if members.len() > MOST_MEMBERS {
        return Err(Error::unsupported(ID, format!("an ExeFS of {} members (10 at most)", members.len())));
    }
    let mut header = vec![0; HEADER as usize];
    let mut offset = 0u64;
    for (index, (name, bytes)) in members.iter().enumerate() {
        if name.is_empty() || name.len() > 8 {
            return Err(Error::unsupported(
                ID,
                format!("\"{name}\" as the name of a member of the ExeFS (1 to 8 bytes)"),
            ));
        }
        let at = index * 16;
        header[at..at + name.len()].copy_from_slice(name.as_bytes());
        let (start, len) = (u32::try_from(offset), u32::try_from(bytes.len()));
        let (Ok(start), Ok(len)) = (start, len) else { return Err(Error::unsupported(ID, "an ExeFS of 4 GiB")) };
        header[at + 8..at + 12].copy_from_slice(&start.to_le_bytes());
        header[at + 12..at + 16].copy_from_slice(&len.to_le_bytes());
        let hash_at = HEADER as usize - (index + 1) * 32;
        header[hash_at..hash_at + 32].copy_from_slice(&sha256(bytes));
        offset = (offset + bytes.len() as u64).next_multiple_of(UNIT);
    }
    Ok(header)
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    /// SHA-256 of "abc" is that of FIPS 180-4; places by hand.
    #[test]
    fn a_header_by_hand() {
        let header = header(&[(".code".into(), b"abc".as_slice()), ("icon".into(), b"")]).unwrap();
        assert_eq!(header[..16], *b".code\0\0\0\0\0\0\0\x03\0\0\0");
        assert_eq!(header[16..32], *b"icon\0\0\0\0\0\x02\0\0\0\0\0\0");
        assert_eq!(header[0x1e0..0x1e4], [0xba, 0x78, 0x16, 0xbf], "the first member's hash stands last");
        assert_eq!(header[0x1c0..0x1c4], [0xe3, 0xb0, 0xc4, 0x42], "then that of no bytes");
        let mut whole = header;
        whole.resize(0x600, 0);
        let members = read(&Bytes(whole), &(0..0x600)).unwrap();
        assert_eq!(
            members.iter().map(|m| (m.file_name(), m.range.clone())).collect::<Vec<_>>(),
            [("exefs/code.bin".to_owned(), 0x200..0x203), ("exefs/icon.bin".to_owned(), 0x400..0x400)]
        );
    }

    #[test]
    fn members_that_cannot_be() {
        let two = |offset: u8, len: u8| {
            let mut header = vec![0; 0x400];
            header[..4].copy_from_slice(b"icon");
            header[12] = 16;
            header[16..20].copy_from_slice(b"logo");
            (header[24], header[28]) = (offset, len);
            read(&Bytes(header), &(0..0x400)).map(|m| m.len())
        };
        assert_eq!(two(16, 16).ok(), Some(2));
        assert!(matches!(two(15, 16), Err(Error::Malformed { offset: 24, .. })), "overlap");
        let mut far = vec![0; 0x400];
        far[..4].copy_from_slice(b"icon");
        far[9] = 4;
        far[12] = 1;
        assert!(matches!(read(&Bytes(far), &(0..0x400)), Err(Error::Malformed { offset: 8, .. })));
    }
}
