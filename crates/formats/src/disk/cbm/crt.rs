//! Cartridges: CRT, a header and a packet for each bank of each chip. Numbers are big-endian.

use crate::num::{be16, be32};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tree::{About, File, Kind, Node, Tree};
use decanter_core::{Error, Result};

const ID: &str = "crt";
const MAGIC: &[u8; 16] = b"C64 CARTRIDGE   ";
/// Packets of the largest cartridges.
const MOST_PACKETS: usize = 4096;

/// The format.
pub struct Crt;

impl Format for Crt {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "C64 cartridge image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Cartridge)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["crt"]
    }

    fn reads(&self) -> &'static str {
        "header, banks of all chips"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 64).then_some(95))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let head: [u8; 64] = read_array(source.as_ref(), 0)?;
        let mut opened = Opened::new(ID, self.name());
        let name = head[32..64].split(|b| *b == 0).next().unwrap_or_default();
        opened.titled(String::from_utf8_lossy(name).trim().to_owned());
        opened.fact("hardware", format!("type {}, EXROM {}, GAME {}", be16(&head, 22), head[24], head[25]));
        let mut tree = Tree::default();
        let mut at = u64::from(be32(&head, 16)).max(64);
        while at < source.len() {
            let malformed = |what: String| Error::malformed(ID, what, at);
            if at + 16 > source.len() || tree.nodes.len() >= MOST_PACKETS {
                opened.damage(format!("what follows at {at:#x} is no whole packet"));
                break;
            }
            let packet: [u8; 16] = read_array(source.as_ref(), at)?;
            if &packet[..4] != b"CHIP" {
                return Err(malformed("a packet without its signature".into()));
            }
            let (len, kind) = (u64::from(be32(&packet, 4)), be16(&packet, 8));
            let (bank, load, size) = (be16(&packet, 10), be16(&packet, 12), u64::from(be16(&packet, 14)));
            if len < 16 {
                return Err(malformed(format!("a packet of {len} bytes")));
            }
            let chip = ["ROM", "RAM", "flash", "EEPROM"].get(usize::from(kind)).copied().unwrap_or("unknown chip");
            let file = File::from_spans(&source, vec![at + 16..at + 16 + size])?;
            let about = About { words: vec![chip.into(), format!("at ${load:04x}")], ..About::default() };
            tree.nodes
                .push(Node::new(format!("bank {bank:03} at {load:04x}.bin"), Kind::File(file), None).about(about));
            at += len;
        }
        if tree.nodes.is_empty() {
            return Err(Error::malformed(ID, "it has no banks", 64));
        }
        opened.fact("banks", tree.nodes.len().to_string());
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}
