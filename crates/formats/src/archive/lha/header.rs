//! Headers of members, levels 0 to 3.

use super::ID;
use super::content::Crc16;
use crate::num::{le16, le32};
use crate::time;
use decanter_core::source::{Source, read_array, read_vec};
use decanter_core::{Error, Result};

/// Bytes of all headers of a member.
const MOST_HEADER: u64 = 64 << 10;
/// Kinds of further headers.
mod extra {
    pub const CRC: u8 = 0;
    pub const NAME: u8 = 1;
    pub const FOLDER: u8 = 2;
    pub const COMMENT: u8 = 0x3f;
    pub const ATTRIBUTES: u8 = 0x40;
    pub const UNIX_TIME: u8 = 0x54;
}

/// A member as its headers describe it.
#[derive(Debug)]
pub(super) struct Member {
    pub method: [u8; 5],
    pub packed: u64,
    pub len: u64,
    pub crc: u16,
    pub path: String,
    pub comment: Vec<u8>,
    pub attributes: u8,
    pub is_amiga: bool,
    pub modified: Option<i64>,
    /// Bytes of all headers.
    pub header_len: u64,
}

/// Whether the bytes at the beginning of `head`, at least 21, may begin a member.
pub(super) fn is_member(head: &[u8]) -> bool {
    let is_method = head[2..5] == *b"-lh" || head[2..5] == *b"-lz" || head[2..5] == *b"-pm";
    is_method && head[6] == b'-' && head[20] <= 3
}

/// The member whose header begins at `at`; `None` at the end mark.
///
/// # Errors
/// [`Error::Malformed`] for a header that is broken or whose own checksum does not hold.
pub(super) fn member(source: &dyn Source, at: u64) -> Result<Option<Member>> {
    let malformed = |what: String| Error::malformed(ID, what, at);
    let left = source.len() - at;
    if left < 22 || read_array::<1>(source, at)? == [0] && left < 64 {
        return Ok(None);
    }
    let head: [u8; 22] = read_array(source, at)?;
    if head[0] == 0 && head[2..7] != *b"-lh0-" && head[2] != b'-' {
        return Ok(None);
    }
    if !is_member(&head) {
        return Err(malformed("a member's header without a method".into()));
    }
    match head[20] {
        0 | 1 => old(source, at, &head).map(Some),
        2 => long(source, at, le16(&head, 0).into(), 2).map(Some),
        _ if le16(&head, 0) != 4 => {
            Err(malformed(format!("a header of level 3 with words of {} bytes", le16(&head, 0))))
        }
        _ => {
            let len = le32(&read_array::<4>(source, at + 24)?, 0);
            long(source, at, len.into(), 3).map(Some)
        }
    }
}

/// Levels 0 and 1: a sum over the header, the name in it.
fn old(source: &dyn Source, at: u64, head: &[u8]) -> Result<Member> {
    let malformed = |what: String| Error::malformed(ID, what, at);
    let base_len = u64::from(head[0]) + 2;
    if base_len < 22 {
        return Err(malformed(format!("a header of {base_len} bytes")));
    }
    let base = read_vec(source, at, base_len, "a member's header", MOST_HEADER)
        .map_err(|_| malformed(format!("a header of {base_len} bytes is cut short")))?;
    let mut own = Member::new(&base, base_len);
    let sum = base[2..].iter().fold(0u8, |sum, b| sum.wrapping_add(*b));
    if sum != base[1] {
        return Err(malformed("the checksum of a member's header does not hold".into()));
    }
    let name_len = usize::from(base[21]);
    let rest = base.get(22 + name_len..).filter(|r| r.len() >= 2);
    let rest = rest.ok_or_else(|| malformed("a name longer than its header".into()))?;
    own.attributes = base[19];
    own.crc = le16(rest, 0);
    own.modified = time::dos(le16(&base, 17), le16(&base, 15));
    // The Amiga puts a comment behind the name.
    let name = &base[22..22 + name_len];
    let (name, comment) = name.split_at(name.iter().position(|b| *b == 0).unwrap_or(name.len()));
    own.path = text(name);
    own.comment = comment.get(1..).unwrap_or_default().to_vec();
    own.is_amiga = rest.get(2) == Some(&b'A') || rest.get(2) == Some(&0) || !own.comment.is_empty();
    if base[20] == 1 {
        let first = rest.len().checked_sub(2).map_or(0, |p| le16(rest, p));
        let extras = extras_of(source, at + base_len, first.into(), own.packed)?;
        own.header_len += extras.len() as u64;
        own.packed -= extras.len() as u64;
        let whole = [base.as_slice(), &extras].concat();
        own.extras(&whole, base.len(), first.into(), 2, at)?;
    }
    own.path = own.path.trim_matches('/').to_owned();
    Ok(own)
}

/// Levels 2 and 3: everything in further headers, whose lengths have `word` bytes.
fn long(source: &dyn Source, at: u64, said: u64, level: u8) -> Result<Member> {
    let malformed = |what: String| Error::malformed(ID, what, at);
    let (word, begin) = if level == 2 { (2usize, 26u64) } else { (4, 32) };
    if said < begin {
        return Err(malformed(format!("a header of {said} bytes")));
    }
    let read = |len: u64| {
        read_vec(source, at, len, "a member's header", MOST_HEADER)
            .map_err(|_| malformed(format!("a header of {len} bytes is cut short")))
    };
    let mut base = read(said)?;
    let first = number(&base, begin as usize - word, word);
    // One system's archiver writes the length two too small: the last of the further headers tells.
    if level == 2 && chain_end(&base, begin as usize, first, word).is_none() && said + 2 <= source.len() - at {
        let longer = read(said + 2)?;
        if chain_end(&longer, begin as usize, first, word) == Some(longer.len()) {
            base = longer;
        }
    }
    let mut own = Member::new(&base, base.len() as u64);
    own.crc = le16(&base, 21);
    own.is_amiga = base[23] == b'A';
    own.modified = Some(i64::from(le32(&base, 15)));
    own.extras(&base, begin as usize, first, word, at)?;
    own.path = own.path.trim_matches('/').to_owned();
    Ok(own)
}

fn number(bytes: &[u8], at: usize, word: usize) -> usize {
    if word == 2 { le16(bytes, at).into() } else { le32(bytes, at) as usize }
}

/// Where the chain of further headers ends, if it does within `bytes`.
fn chain_end(bytes: &[u8], mut at: usize, mut next: usize, word: usize) -> Option<usize> {
    while next > 0 {
        let end = at.checked_add(next).filter(|end| next > word && *end <= bytes.len())?;
        next = number(bytes, end - word, word);
        at = end;
    }
    Some(at)
}

/// The chain of further headers of level 1, which counts as packed bytes.
fn extras_of(source: &dyn Source, at: u64, first: u64, packed: u64) -> Result<Vec<u8>> {
    let (mut len, mut next) = (0, first);
    while next > 0 {
        let end = len + next;
        if next < 3 || end > packed || end > MOST_HEADER || at + end > source.len() {
            return Err(Error::malformed(ID, "a further header reaches past its member", at + len));
        }
        next = le16(&read_array::<2>(source, at + end - 2)?, 0).into();
        len = end;
    }
    read_vec(source, at, len, "the headers of a member", MOST_HEADER)
}

impl Member {
    fn new(base: &[u8], header_len: u64) -> Self {
        let mut method = [0; 5];
        method.copy_from_slice(&base[2..7]);
        Self {
            method,
            packed: le32(base, 7).into(),
            len: le32(base, 11).into(),
            crc: 0,
            path: String::new(),
            comment: Vec::new(),
            attributes: 0,
            is_amiga: false,
            modified: None,
            header_len,
        }
    }

    /// Takes over what further headers say: each has a kind, its content, and the length of the next. `bytes` are all
    /// headers of the member, which begins at byte `member_at` of the archive.
    fn extras(&mut self, bytes: &[u8], mut at: usize, first: usize, word: usize, member_at: u64) -> Result<()> {
        let (mut next, mut folder) = (first, String::new());
        while next > word {
            let Some(own) = bytes.get(at..at.saturating_add(next)) else { break };
            let body = &own[1..next - word];
            match own[0] {
                extra::CRC if body.len() >= 2 => {
                    let mut whole = bytes.to_vec();
                    whole[at + 1..at + 3].fill(0);
                    let mut crc = Crc16(0);
                    crc.update(&whole);
                    if crc.0 != le16(body, 0) {
                        return Err(Error::malformed(ID, "the CRC-16 of a member's header does not hold", member_at));
                    }
                }
                extra::NAME => self.path = text(body),
                extra::FOLDER => folder = text(body),
                extra::COMMENT => self.comment = body.to_vec(),
                extra::ATTRIBUTES if !body.is_empty() => self.attributes = body[0],
                extra::UNIX_TIME if body.len() >= 4 => self.modified = Some(le32(body, 0).into()),
                _ => {}
            }
            at += next;
            next = number(own, own.len() - word, word);
        }
        if !folder.is_empty() {
            self.path = format!("{}/{}", folder.trim_end_matches('/'), self.path);
        }
        Ok(())
    }
}

/// A path: folders are told apart by a backslash or a byte of ones.
fn text(bytes: &[u8]) -> String {
    let plain: Vec<u8> = bytes.iter().map(|b| if matches!(b, b'\\' | 0xff) { b'/' } else { *b }).collect();
    match std::str::from_utf8(&plain) {
        Ok(text) => text.to_owned(),
        Err(_) => plain.iter().map(|b| char::from(*b)).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    /// The fixed part of levels 0 and 1, with its sum; dates are 1990-05-04 03:02:02 as DOS has it.
    fn old_header(level: u8, name: &[u8], packed: u32, behind: &[u8]) -> Vec<u8> {
        let mut body = b"-lh5-".to_vec();
        body.extend(packed.to_le_bytes());
        body.extend(600u32.to_le_bytes());
        body.extend([0x41, 0x18, 0xa4, 0x14, 0x20, level, name.len() as u8]);
        body.extend(name);
        body.extend(0x1234u16.to_le_bytes());
        body.extend(behind);
        let sum = body.iter().fold(0u8, |s, b| s.wrapping_add(*b));
        [&[body.len() as u8, sum][..], &body].concat()
    }

    fn read(bytes: Vec<u8>) -> Result<Option<Member>> {
        member(&Bytes([bytes, vec![0; 64]].concat()), 0)
    }

    fn told(bytes: Vec<u8>) -> String {
        read(bytes).err().unwrap().to_string()
    }

    #[test]
    fn level_0_has_everything_in_one_piece() {
        let own = read(old_header(0, b"sea\\tide.txt", 300, b"M")).unwrap().unwrap();
        assert_eq!((own.path.as_str(), own.packed, own.len, own.crc), ("sea/tide.txt", 300, 600, 0x1234));
        assert_eq!((own.method, own.attributes, own.is_amiga), (*b"-lh5-", 0x20, false));
        assert_eq!(own.modified, Some(crate::time::seconds((1990, 5, 4), (3, 2, 2))));
        // A comment behind the name, as one system writes it.
        let own = read(old_header(0, b"tide\0high water", 300, b"A")).unwrap().unwrap();
        assert_eq!((own.path.as_str(), own.comment.as_slice(), own.is_amiga), ("tide", &b"high water"[..], true));
    }

    #[test]
    fn level_1_has_more_headers_that_count_as_packed_bytes() {
        // Folder "sea/" in a header of 8 bytes (length, kind, text), then none: its size stands before it.
        let extras = [&[2][..], b"sea\xff", &[0, 0]].concat();
        let base = old_header(1, b"tide.txt", 300 + extras.len() as u32, &[b'U', extras.len() as u8, 0]);
        let own = read([base.clone(), extras.clone()].concat()).unwrap().unwrap();
        assert_eq!((own.path.as_str(), own.packed), ("sea/tide.txt", 300));
        assert_eq!(own.header_len, (base.len() + extras.len()) as u64);
        let far = old_header(1, b"tide.txt", 4, &[b'U', 200, 0]);
        assert!(told(far).contains("reaches past its member"));
    }

    /// A header of level 2 with a name and, last, its own CRC-16.
    fn level_2(name: &[u8]) -> Vec<u8> {
        let mut bytes = vec![0, 0];
        bytes.extend(b"-lh5-");
        bytes.extend([[44, 1, 0, 0], [88, 2, 0, 0]].concat());
        bytes.extend(641_790_122u32.to_le_bytes());
        bytes.extend([0x20, 2, 0x34, 0x12, b'U']);
        bytes.extend((name.len() as u16 + 3).to_le_bytes());
        bytes.push(1);
        bytes.extend(name);
        bytes.extend([5, 0]);
        let crc_at = bytes.len() + 1;
        bytes.extend([0, 0, 0, 0, 0]);
        let len = bytes.len() as u16;
        bytes[..2].copy_from_slice(&len.to_le_bytes());
        let mut crc = Crc16(0);
        crc.update(&bytes);
        bytes[crc_at..crc_at + 2].copy_from_slice(&crc.0.to_le_bytes());
        bytes
    }

    #[test]
    fn level_2_is_proven_by_a_checksum_of_its_own() {
        let own = read(level_2(b"tide.txt")).unwrap().unwrap();
        assert_eq!((own.path.as_str(), own.packed, own.len, own.crc), ("tide.txt", 300, 600, 0x1234));
        assert_eq!(own.modified, Some(641_790_122));
        let mut wrong = level_2(b"tide.txt");
        wrong[30] ^= 1;
        assert!(told(wrong).contains("CRC-16 of a member's header"));
    }

    #[test]
    fn headers_that_cannot_be_are_told_and_the_end_is_the_end() {
        let mut wrong = old_header(0, b"tide.txt", 300, b"M");
        wrong[25] ^= 1;
        assert!(told(wrong).contains("checksum of a member's header"));
        let mut short = old_header(0, b"tide.txt", 300, b"M");
        short[0] = 19;
        assert!(told(short).contains("a header of 21 bytes"));
        assert!(read(vec![0]).unwrap().is_none(), "the mark of the end");
        let mut words = level_2(b"a");
        (words[0], words[1], words[20]) = (2, 0, 3);
        assert!(told(words).contains("words of 2 bytes"));
    }
}
