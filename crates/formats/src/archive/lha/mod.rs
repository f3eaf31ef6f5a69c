//! LHA archives: headers of levels 0 to 3, with what the Amiga adds; also behind a program that unpacks them. Numbers
//! are little-endian.
//!
//! Layout, checks and what is not sure: docs/formats/lha.md. A crate does the decompression.

mod content;
mod header;

use content::Content;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{About, File, Kind, Node, Tree};
use decanter_core::view::Slice;
use decanter_core::{Error, Result, watch};
use header::{Member, is_member, member};
use std::sync::Arc;

const ID: &str = "lha";
/// Members of an archive.
const MOST_MEMBERS: usize = 1 << 18;
/// How far a program that unpacks itself is looked through for its archive, and damage for the next member.
const MOST_LOOK: u64 = 256 << 10;
/// What programs begin with that may unpack themselves: DOS and Windows, and the Amiga.
const PROGRAMS: [&[u8]; 2] = [b"MZ", b"\x00\x00\x03\xf3"];

/// The format.
pub struct Lha;

impl Format for Lha {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "LHA archive"
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["lha", "lzh"]
    }

    fn reads(&self) -> &'static str {
        "headers of levels 0 to 3; -lh0-, -lh1-, -lh4- to -lh7-, -lz4-, -lz5-, -lzs-, -lhd-; Amiga protection bits and comments"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.len() < 22 {
            return Ok(None);
        }
        let head: [u8; 21] = read_array(source, 0)?;
        if is_member(&head) {
            return Ok(Some(88));
        }
        let is_program = PROGRAMS.iter().any(|magic| head.starts_with(magic));
        Ok((is_program && next_member(source, 0)?.is_some()).then_some(60))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        let (mut at, mut tree) = (0, Tree::default());
        let head: [u8; 21] = read_array(source.as_ref(), 0)?;
        if !is_member(&head)
            && let Some(begin) = next_member(source.as_ref(), 0)?
        {
            opened.fact("before it", format!("{begin} bytes of a program that unpacks it"));
            at = begin;
        }
        while at < source.len() {
            if tree.nodes.len().is_multiple_of(1024) {
                watch::check(opener.watch())?;
            }
            let member = match member(source.as_ref(), at) {
                Ok(Some(member)) => member,
                Ok(None) => break,
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(e) => {
                    let next = next_member(source.as_ref(), at + 1)?;
                    if next.is_none() && tree.nodes.is_empty() {
                        return Err(e);
                    }
                    let lost = match next {
                        Some(next) => format!("{e}; members before {next:#x} are lost"),
                        None => format!("{e}; members after it are lost"),
                    };
                    opened.proof.settled.push(Settled::fails(
                        "headers of members",
                        lost,
                        "files of the archive are missing",
                    ));
                    let Some(next) = next else { break };
                    at = next;
                    continue;
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
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// The next place from `from` on where a member begins whose header holds, if it is near.
fn next_member(source: &dyn Source, from: u64) -> Result<Option<u64>> {
    let len = source.len().saturating_sub(from).min(MOST_LOOK);
    let bytes = read_vec(source, from, len, "a look for a member", MOST_LOOK)?;
    for dash in memchr::memchr_iter(b'-', &bytes) {
        let Some(head) = dash.checked_sub(2).and_then(|at| bytes.get(at..at + 21)) else { continue };
        let at = from + dash as u64 - 2;
        if is_member(head) && matches!(member(source, at), Ok(Some(_))) {
            return Ok(Some(at));
        }
    }
    Ok(None)
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
        method if content::is_known(method) => {
            let packed: SourceRef = Arc::new(Slice::new(source.clone(), body, member.packed)?);
            Kind::File(File::of(Arc::new(Content::new(packed, *method, member.len, member.crc))))
        }
        _ => Kind::File(File::broken(member.len, format!("it is packed with {method}, which is not read here"))),
    };
    Ok(Node::new(member.path, kind, member.modified).about(about))
}
