//! The Amiga's LZX archives. Numbers are little-endian but for the date.
//!
//! Layout, checks and what is not sure: docs/formats/lzx.md.

mod decode;

use crate::num::{be32, le32};
use crate::time;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, check_range, read_array, read_vec};
use decanter_core::tree::{About, File, Kind, Node, Tree};
use decanter_core::{Error, Result};
use decode::Decoder;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

const ID: &str = "lzx";
/// Bytes before the first member, and of a member's header.
const LEAD: u64 = 10;
const HEADER: u64 = 31;
/// Members of an archive, and bytes of a group that is unpacked in memory.
const MOST_MEMBERS: usize = 1 << 16;
const MOST_GROUP: u64 = 256 << 20;

/// The format.
pub struct Lzx;

/// A member as its header describes it.
struct Member {
    path: String,
    len: u64,
    crc: u32,
    mode: u8,
    modified: Option<i64>,
    about: About,
}

/// Members that were packed together.
struct Group {
    source: SourceRef,
    packed: Range<u64>,
    mode: u8,
    /// Lengths and checksums of its members.
    members: Vec<(u64, u32)>,
    unpacked: OnceLock<Unpacked>,
}

/// What came out of a group: each member, or why it did not.
type Unpacked = Vec<std::result::Result<Vec<u8>, String>>;

impl Format for Lzx {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Amiga LZX archive"
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["lzx"]
    }

    fn reads(&self) -> &'static str {
        "stored and compressed members, merged groups; protection bits, comments and dates"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"LZX")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= LEAD + HEADER).then_some(90))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        let (mut at, mut waiting, mut tree) = (LEAD, Vec::new(), Tree::default());
        while at < source.len() {
            let (member, packed_len, is_merged, body) = match header(source.as_ref(), at) {
                Ok(found) => found,
                Err(e) if tree.nodes.is_empty() && waiting.is_empty() => return Err(e),
                Err(e) => {
                    opened.damage(format!("the archive ends here: {e}"));
                    break;
                }
            };
            if tree.nodes.len() + waiting.len() >= MOST_MEMBERS {
                let limit = MOST_MEMBERS as u64;
                return Err(Error::Limit { what: "members of an archive", asked: limit + 1, limit });
            }
            waiting.push(member);
            at = body.saturating_add(packed_len);
            if packed_len > 0 || !is_merged {
                group(&source, body..at, std::mem::take(&mut waiting), &mut tree);
            }
        }
        if !waiting.is_empty() {
            let end = source.len();
            opened.damage("the last group of members is cut short: its packed bytes are missing");
            group(&source, end..end, waiting, &mut tree);
        }
        opened.fact("members", tree.nodes.len().to_string());
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// A member's header: the member, its packed bytes, whether it shares them, and where they begin.
fn header(source: &dyn Source, at: u64) -> Result<(Member, u64, bool, u64)> {
    let malformed = |what: &str| Error::malformed(ID, what.to_owned(), at);
    if at + HEADER > source.len() {
        return Err(malformed("a member's header is cut short"));
    }
    let mut head: [u8; HEADER as usize] = read_array(source, at)?;
    let (name_len, comment_len) = (u64::from(head[30]), u64::from(head[14]));
    let texts = read_vec(source, at + HEADER, name_len + comment_len, "the names of a member", 1024)
        .map_err(|_| malformed("a member's name is cut short"))?;
    let stored = le32(&head, 26);
    head[26..30].fill(0);
    let mut hasher = crc32fast::Hasher::new();
    hasher.update(&head);
    hasher.update(&texts);
    if hasher.finalize() != stored {
        return Err(malformed("the CRC-32 of a member's header does not hold"));
    }
    let (name, comment) = texts.split_at(name_len as usize);
    let latin = |bytes: &[u8]| -> String { bytes.iter().map(|b| char::from(*b)).collect() };
    let member = Member {
        path: latin(name).trim_matches('/').to_owned(),
        len: le32(&head, 2).into(),
        crc: le32(&head, 22),
        mode: head[11],
        modified: date(be32(&head, 18)),
        about: crate::disk::amiga::describe(protection(head[0]), comment),
    };
    Ok((member, le32(&head, 6).into(), head[12] & 1 != 0, at + HEADER + name_len + comment_len))
}

/// Day, month from 0, year from 1970, hour, minute, second: 5, 4, 6, 5, 6 and 6 bits.
fn date(bits: u32) -> Option<i64> {
    let field = |shift: u32, len: u32| (bits >> shift & ((1 << len) - 1)) as u8;
    let (day, month, year) = (field(27, 5), field(23, 4) + 1, 1970 + i64::from(field(17, 6)));
    let (hour, minute, second) = (field(12, 5), field(6, 6), field(0, 6));
    let is_one = day > 0 && month <= 12 && hour < 24 && minute < 60 && second < 60;
    is_one.then(|| time::seconds((year, month, day), (hour, minute, second)))
}

/// Protection bits as the file system has them, where the first four forbid.
fn protection(bits: u8) -> u32 {
    // Readable, writable, deletable, executable, archived, hold, script, pure.
    let places = [
        (0, 3, true),
        (1, 2, true),
        (2, 0, true),
        (3, 1, true),
        (4, 4, false),
        (5, 7, false),
        (6, 6, false),
        (7, 5, false),
    ];
    places.iter().map(|(from, to, flips)| u32::from((bits >> from & 1 == 1) != *flips) << to).sum()
}

/// Adds the members of a group to the tree.
fn group(source: &SourceRef, packed: Range<u64>, members: Vec<Member>, tree: &mut Tree) {
    let mode = members.last().map_or(0, |m| m.mode);
    let sums = members.iter().map(|m| (m.len, m.crc)).collect();
    let group = Arc::new(Group { source: source.clone(), packed, mode, members: sums, unpacked: OnceLock::new() });
    let total = members.iter().try_fold(0u64, |sum, m| sum.checked_add(m.len));
    for (index, member) in members.into_iter().enumerate() {
        let file = match (mode, total) {
            (0 | 2, Some(0..=MOST_GROUP)) => {
                let view: SourceRef = Arc::new(Content { group: group.clone(), index, len: member.len });
                File::of(view)
            }
            (0 | 2, _) => File::broken(member.len, "it was packed together with more than can be unpacked in memory"),
            (other, _) => File::broken(member.len, format!("it is packed with method {other}, which is not read here")),
        };
        let kind = if member.path.is_empty() { continue } else { Kind::File(file) };
        tree.nodes.push(Node::new(member.path, kind, member.modified).about(member.about));
    }
}

impl Group {
    /// All members, unpacked once.
    fn unpack(&self) -> &Unpacked {
        self.unpacked.get_or_init(|| {
            let here = self.packed.start..self.packed.end.min(self.source.len());
            let mut packed = vec![0; (here.end - here.start) as usize];
            if let Err(e) = self.source.read_at(here.start, &mut packed) {
                return self.members.iter().map(|_| Err(e.to_string())).collect();
            }
            let is_cut = here.end < self.packed.end || here.is_empty();
            let mut decoder = Decoder::new(&packed);
            let (mut at, mut is_lost) = (0, false);
            let mut one = |(len, crc): &(u64, u32)| -> std::result::Result<Vec<u8>, String> {
                let len = *len as usize;
                let bytes = match self.mode {
                    0 => packed.get(at..at + len).map(<[u8]>::to_vec),
                    _ if is_lost => None,
                    _ => decoder.read(len),
                };
                at += len;
                is_lost |= bytes.is_none();
                let bytes = bytes.ok_or_else(|| match is_cut {
                    true => "its group is cut short before its end".to_owned(),
                    false => "its group is damaged, here or before".to_owned(),
                })?;
                match crc32fast::hash(&bytes) == *crc {
                    true => Ok(bytes),
                    false => Err(format!(
                        "it is damaged: its CRC-32 is {:08x} instead of {crc:08x}",
                        crc32fast::hash(&bytes)
                    )),
                }
            };
            self.members.iter().map(&mut one).collect()
        })
    }
}

/// A member's content.
struct Content {
    group: Arc<Group>,
    index: usize,
    len: u64,
}

impl Source for Content {
    fn len(&self) -> u64 {
        self.len
    }

    fn is_checked(&self) -> bool {
        true
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        match &self.group.unpack()[self.index] {
            Ok(bytes) => {
                let from = offset as usize;
                buf.copy_from_slice(&bytes[from..from + buf.len()]);
                Ok(())
            }
            Err(why) => Err(Error::Unreadable { why: why.clone() }),
        }
    }
}
