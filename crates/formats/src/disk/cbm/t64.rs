//! Tapes as archives: T64. Numbers are little-endian. The end addresses are often wrong: most files of one well-known
//! converter say $c3c6, whatever they hold; what stands in the image decides.

use super::{petscii, prg};
use crate::num::{le16, le32};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Bytes, Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{About, File, Kind, Node, Tree};
use decanter_core::view::{Concat, Slice};
use decanter_core::{Error, Result};
use std::sync::Arc;

const ID: &str = "t64";
/// Where the entries begin, and bytes of each.
const ENTRIES: u64 = 64;
const ENTRY: usize = 32;
/// A full memory.
const MOST_LEN: u64 = 65536;

/// The format.
pub struct T64;

impl Format for T64 {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "C64 tape image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Tape)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["t64"]
    }

    fn reads(&self) -> &'static str {
        "programs, also with wrong end addresses"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"C64")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.len() < ENTRIES + ENTRY as u64 {
            return Ok(None);
        }
        let head: [u8; 64] = read_array(source, 0)?;
        let version = le16(&head, 32);
        let is_tape = head[..3] == *b"C64" && head[..32].windows(4).any(|w| w.eq_ignore_ascii_case(b"tape"));
        Ok((is_tape && matches!(version, 0x100 | 0x101 | 0x200)).then_some(90))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        if source.len() < ENTRIES + ENTRY as u64 {
            return Err(Error::malformed(ID, "too short for an entry: the file ends", source.len()));
        }
        let head: [u8; 64] = read_array(source.as_ref(), 0)?;
        let most = u64::from(le16(&head, 34)).clamp(1, (source.len() - ENTRIES) / ENTRY as u64);
        let table = read_vec(source.as_ref(), ENTRIES, most * ENTRY as u64, "the entries of a tape", 1 << 21)?;
        let mut opened = Opened::new(ID, self.name());
        opened.titled(petscii::text(&head[40..]).trim().to_owned());
        let used: Vec<&[u8; ENTRY]> = table.as_chunks::<ENTRY>().0.iter().filter(|e| e[0] != 0).collect();
        let mut starts: Vec<u64> = used.iter().map(|e| le32(*e, 8).into()).collect();
        starts.push(source.len());
        starts.sort_unstable();
        let mut tree = Tree::default();
        for entry in used {
            let (load, end, at) = (le16(entry, 2), le16(entry, 4), u64::from(le32(entry, 8)));
            let padded: Vec<u8> = entry[16..32].to_vec();
            let name = petscii::text(&padded).trim_end().to_owned();
            let room =
                starts.iter().find(|s| **s > at).map_or(0, |next| next - at).min(source.len().saturating_sub(at));
            let stated = match end.wrapping_sub(load) {
                0 => MOST_LEN,
                len => len.into(),
            };
            let left = MOST_LEN - u64::from(load);
            let len = stated.min(room).min(left);
            let mut words = vec!["PRG".to_owned(), format!("loads at ${load:04x}")];
            let file = if room == 0 {
                File::broken(stated, format!("its content at {at:#x} lies past the end of the image"))
            } else {
                let len = if stated > room || end == 0xc3c6 { room.min(left) } else { len };
                if len != stated {
                    opened.notice(format!(
                        "{name}: its end address ${end:04x} is wrong; by what the image holds it is ${:04x}",
                        u64::from(load) + len
                    ));
                }
                let body: SourceRef = Arc::new(Slice::new(source.clone(), at, len)?);
                let start: SourceRef = Arc::new(Bytes(load.to_le_bytes().to_vec()));
                let whole = Concat::new(vec![start, body])?;
                let head = read_vec(&whole, 0, whole.len().min(256), "the start of a program", 256)?;
                words.extend(prg::words(&head).into_iter().skip(1));
                File { spans: vec![at..at + len], ..File::of(Arc::new(whole)) }
            };
            let about = About { words, ..About::default() };
            tree.nodes.push(Node::new(format!("{name}.prg"), Kind::File(file), None).about(about));
        }
        if tree.nodes.is_empty() {
            return Err(Error::malformed(ID, "it has no entries", ENTRIES));
        }
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}
