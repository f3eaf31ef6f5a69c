//! LHA archives: headers of levels 0 to 2, with what the Amiga adds. Numbers are little-endian.
//!
//! Layout, checks and what is not sure: docs/formats/lha.md. A crate does the decompression.

use crate::disk::fat::moment;
use crate::num::{le16, le32};
use decanter_core::format::{Context, Format, Opened};
use decanter_core::source::{Source, SourceRef, check_range, read_array, read_vec};
use decanter_core::tree::{About, File, Kind, Node, Tree};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use delharc::decode::{Decoder, Lh1Decoder, Lh5Decoder, Lh7Decoder};
use delharc::stub_io::{Read, Take};
use std::sync::{Arc, Mutex, PoisonError};

const ID: &str = "lha";
/// Members of an archive, and bytes of all headers of one.
const MOST_MEMBERS: usize = 1 << 18;
const MOST_HEADER: u64 = 64 << 10;
/// Bytes that are read and unpacked at once.
const PIECE: usize = 64 << 10;
/// Kinds of further headers.
mod extra {
    pub const NAME: u8 = 1;
    pub const FOLDER: u8 = 2;
    pub const COMMENT: u8 = 0x3f;
    pub const ATTRIBUTES: u8 = 0x40;
    pub const UNIX_TIME: u8 = 0x54;
}

/// The format.
pub struct Lha;

/// A member as its headers describe it.
#[derive(Debug)]
struct Member {
    method: [u8; 5],
    packed: u64,
    len: u64,
    crc: u16,
    path: String,
    comment: Vec<u8>,
    attributes: u8,
    is_amiga: bool,
    modified: Option<i64>,
    /// Bytes of all headers.
    header_len: u64,
}

impl Format for Lha {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "LHA archive"
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["lha", "lzh"]
    }

    fn reads(&self) -> &'static str {
        "headers of levels 0 to 2; -lh0-, -lh1-, -lh4- to -lh7-, -lhd-; Amiga protection bits and comments"
    }

    fn is_archive(&self) -> bool {
        true
    }

    fn score(&self, source: &dyn Source) -> Result<Option<u8>> {
        if source.len() < 22 {
            return Ok(None);
        }
        let head: [u8; 21] = read_array(source, 0)?;
        let is_method = (head[2..5] == *b"-lh" || head[2..5] == *b"-lz") && head[6] == b'-';
        Ok((is_method && head[20] <= 2).then_some(88))
    }

    fn open(&self, source: SourceRef, _context: &Context<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        let (mut at, mut tree) = (0, Tree::default());
        while at < source.len() {
            let member = match member(source.as_ref(), at) {
                Ok(Some(member)) => member,
                Ok(None) => break,
                Err(e) if tree.nodes.is_empty() => return Err(e),
                Err(e) => {
                    opened.notice(format!("the archive ends here: {e}"));
                    break;
                }
            };
            if tree.nodes.len() >= MOST_MEMBERS {
                let limit = MOST_MEMBERS as u64;
                return Err(Error::Limit { what: "members of an archive", asked: limit + 1, limit });
            }
            let body = at + member.header_len;
            at = body.saturating_add(member.packed);
            tree.nodes.push(node(&source, member, body)?);
        }
        opened.fact("members", tree.nodes.len().to_string());
        opened.tree = Some(tree);
        Ok(opened)
    }
}

/// The member whose header begins at `at`; `None` at the end mark.
fn member(source: &dyn Source, at: u64) -> Result<Option<Member>> {
    let malformed = |what: String| Error::malformed(ID, what, at);
    let left = source.len() - at;
    if left < 22 || read_array::<1>(source, at)? == [0] && left < 64 {
        return Ok(None);
    }
    let head: [u8; 22] = read_array(source, at)?;
    if head[0] == 0 && head[2..7] != *b"-lh0-" && head[2] != b'-' {
        return Ok(None);
    }
    let level = head[20];
    let mut method = [0; 5];
    method.copy_from_slice(&head[2..7]);
    if method[0] != b'-' || method[4] != b'-' {
        return Err(malformed("a member's header without a method".into()));
    }
    let base_len = match level {
        0 | 1 => u64::from(head[0]) + 2,
        2 => u64::from(le16(&head, 0)),
        other => return Err(Error::unsupported(ID, format!("a header of level {other} (at {at:#x})"))),
    };
    if base_len < 22 {
        return Err(malformed(format!("a header of {base_len} bytes")));
    }
    let base = read_vec(source, at, base_len, "a member's header", MOST_HEADER)
        .map_err(|_| malformed(format!("a header of {base_len} bytes is cut short")))?;
    let mut own = Member {
        method,
        packed: le32(&base, 7).into(),
        len: le32(&base, 11).into(),
        crc: 0,
        path: String::new(),
        comment: Vec::new(),
        // Level 2 has a fixed value there.
        attributes: if level == 2 { 0 } else { base[19] },
        is_amiga: false,
        modified: None,
        header_len: base_len,
    };
    match level {
        2 => {
            own.crc = le16(&base, 21);
            own.is_amiga = base.get(23) == Some(&b'A');
            own.modified = Some(i64::from(le32(&base, 15)));
            let first = base.get(24..26).map_or(0, |b| le16(b, 0));
            own.extras(&base, 26, first.into());
        }
        _ => {
            let sum = base[2..].iter().fold(0u8, |sum, b| sum.wrapping_add(*b));
            if sum != base[1] {
                return Err(malformed("the checksum of a member's header does not hold".into()));
            }
            let name_len = usize::from(base[21]);
            let rest = base.get(22 + name_len..).filter(|r| r.len() >= 2);
            let rest = rest.ok_or_else(|| malformed("a name longer than its header".into()))?;
            own.crc = le16(rest, 0);
            own.modified = moment(le16(&base, 17), le16(&base, 15));
            // The Amiga puts a comment behind the name.
            let name = &base[22..22 + name_len];
            let (name, comment) = name.split_at(name.iter().position(|b| *b == 0).unwrap_or(name.len()));
            own.path = text(name);
            own.comment = comment.get(1..).unwrap_or_default().to_vec();
            own.is_amiga = rest.get(2) == Some(&b'A') || rest.get(2) == Some(&0) || !own.comment.is_empty();
            if level == 1 {
                let first = rest.len().checked_sub(2).map_or(0, |p| le16(rest, p));
                let extras = extras_of(source, at + base_len, first.into(), own.packed)?;
                own.header_len += extras.len() as u64;
                own.packed -= extras.len() as u64;
                own.extras(&extras, 0, first.into());
            }
        }
    }
    own.path = own.path.trim_matches('/').to_owned();
    Ok(Some(own))
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
    /// Takes over what further headers say: each has a kind, its content, and the length of the next.
    fn extras(&mut self, bytes: &[u8], mut at: usize, first: usize) {
        let (mut next, mut folder) = (first, String::new());
        while next >= 3 {
            let Some(own) = bytes.get(at..at + next) else { break };
            let body = &own[1..next - 2];
            match own[0] {
                extra::NAME => self.path = text(body),
                extra::FOLDER => folder = text(body),
                extra::COMMENT => self.comment = body.to_vec(),
                extra::ATTRIBUTES if !body.is_empty() => self.attributes = body[0],
                extra::UNIX_TIME if body.len() >= 4 => self.modified = Some(le32(body, 0).into()),
                _ => {}
            }
            at += next;
            next = le16(own, own.len() - 2).into();
        }
        if !folder.is_empty() {
            self.path = format!("{}/{}", folder.trim_end_matches('/'), self.path);
        }
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

fn node(source: &SourceRef, member: Member, body: u64) -> Result<Node> {
    let about = match member.is_amiga {
        true => crate::disk::amiga::describe(member.attributes.into(), &member.comment),
        false if member.comment.is_empty() => About::default(),
        false => crate::disk::amiga::describe(0, &member.comment),
    };
    let here = source.len().saturating_sub(body).min(member.packed);
    let method = String::from_utf8_lossy(&member.method).into_owned();
    let kind = match &member.method {
        b"-lhd-" => Kind::Folder,
        _ if here < member.packed => Kind::File(File {
            content: decanter_core::tree::Content::Cut { missing: member.packed - here },
            ..File::broken(member.len, "")
        }),
        b"-lh0-" | b"-lh1-" | b"-lh4-" | b"-lh5-" | b"-lh6-" | b"-lh7-" | b"-lz4-" => {
            let packed: SourceRef = Arc::new(Slice::new(source.clone(), body, member.packed)?);
            let content =
                Content { packed, method: member.method, len: member.len, crc: member.crc, going: Mutex::default() };
            Kind::File(File::of(Arc::new(content)))
        }
        _ => Kind::File(File::broken(member.len, format!("it is packed with {method}, which is not read here"))),
    };
    Ok(Node::new(member.path, kind, member.modified).about(about))
}

/// A member's content, unpacked from its beginning to wherever it is read.
struct Content {
    packed: SourceRef,
    method: [u8; 5],
    len: u64,
    crc: u16,
    going: Mutex<Option<Going>>,
}

/// How far unpacking has come.
struct Going {
    decoder: Unpacker,
    at: u64,
    crc: Crc16,
}

enum Unpacker {
    Stored(Bytes),
    Lh1(Lh1Decoder<Take<Bytes>>),
    Lh5(Lh5Decoder<Take<Bytes>>),
    Lh7(Lh7Decoder<Take<Bytes>>),
}

impl Unpacker {
    fn new(method: &[u8; 5], packed: &SourceRef) -> Self {
        let bytes = Bytes { source: packed.clone(), at: 0, piece: Vec::new(), taken: 0 };
        let len = packed.len();
        match method[3] {
            b'1' => Self::Lh1(Lh1Decoder::new(bytes.take(len))),
            b'4' | b'5' if method[2] == b'h' => Self::Lh5(Lh5Decoder::new(bytes.take(len))),
            b'6' | b'7' => Self::Lh7(Lh7Decoder::new(bytes.take(len))),
            _ => Self::Stored(bytes),
        }
    }

    fn fill(&mut self, buf: &mut [u8]) -> bool {
        match self {
            Self::Stored(bytes) => {
                let mut done = 0;
                while done < buf.len() {
                    match bytes.read_all(&mut buf[done..]) {
                        Ok(now) if now > 0 => done += now,
                        _ => return false,
                    }
                }
                true
            }
            Self::Lh1(decoder) => decoder.fill_buffer(buf).is_ok(),
            Self::Lh5(decoder) => decoder.fill_buffer(buf).is_ok(),
            Self::Lh7(decoder) => decoder.fill_buffer(buf).is_ok(),
        }
    }
}

impl Source for Content {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut kept = self.going.lock().unwrap_or_else(PoisonError::into_inner);
        let fresh = || Going { decoder: Unpacker::new(&self.method, &self.packed), at: 0, crc: Crc16(0) };
        let mut going = kept.take().filter(|g| g.at <= offset).unwrap_or_else(fresh);
        let damaged = |at: u64| Error::Unreadable { why: format!("it is damaged: unpacking fails near its byte {at}") };
        let mut skipped = vec![0; if going.at < offset { PIECE } else { 0 }];
        while going.at < offset {
            let now = ((offset - going.at) as usize).min(PIECE);
            if !going.decoder.fill(&mut skipped[..now]) {
                return Err(damaged(going.at));
            }
            going.crc.update(&skipped[..now]);
            going.at += now as u64;
        }
        if !going.decoder.fill(buf) {
            return Err(damaged(going.at));
        }
        going.crc.update(buf);
        going.at += buf.len() as u64;
        if going.at == self.len && going.crc.0 != self.crc {
            let why = format!("it is damaged: its CRC-16 is {:04x} instead of {:04x}", going.crc.0, self.crc);
            return Err(Error::Unreadable { why });
        }
        *kept = Some(going);
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        true
    }
}

/// Bytes one after the other, for the decoders.
struct Bytes {
    source: SourceRef,
    at: u64,
    piece: Vec<u8>,
    taken: usize,
}

impl Read for Bytes {
    type Error = Error;

    fn unexpected_eof() -> Error {
        Error::malformed(ID, "a member is cut short", 0)
    }

    fn read_all(&mut self, buf: &mut [u8]) -> Result<usize> {
        let mut done = 0;
        while done < buf.len() {
            if self.taken == self.piece.len() {
                let len = (self.source.len() - self.at).min(PIECE as u64) as usize;
                if len == 0 {
                    break;
                }
                self.piece.resize(len, 0);
                self.source.read_at(self.at, &mut self.piece)?;
                self.at += len as u64;
                self.taken = 0;
            }
            let now = (buf.len() - done).min(self.piece.len() - self.taken);
            buf[done..done + now].copy_from_slice(&self.piece[self.taken..self.taken + now]);
            (done, self.taken) = (done + now, self.taken + now);
        }
        Ok(done)
    }
}

/// x^16 + x^15 + x^2 + 1, the lowest bit first, begun with zero.
struct Crc16(u16);

static TABLE: std::sync::LazyLock<[u16; 256]> = std::sync::LazyLock::new(|| {
    std::array::from_fn(|value| {
        (0..8).fold(value as u16, |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xa001 } else { crc >> 1 })
    })
});

impl Crc16 {
    fn update(&mut self, bytes: &[u8]) {
        for byte in bytes {
            self.0 = self.0 >> 8 ^ TABLE[usize::from(self.0 as u8 ^ byte)];
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_check_value_of_the_crc() {
        let mut crc = Crc16(0);
        crc.update(b"123456789");
        assert_eq!(crc.0, 0xbb3d);
    }
}
