//! A cartridge image (NCSD): up to eight contents behind a header. Layout: docs/formats/n3ds-cartridge.md.

use super::ncch::{self, Content};
use super::{UNIT, title};
use crate::num::{le16, le32, le64};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::KeyTrouble;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Keyring;
use decanter_core::opened::Opened;
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::seal::Settled;
use decanter_core::source::{Bytes, Source, SourceRef, read_vec};
use decanter_core::tell::grouped;
use decanter_core::tree::{Kind, Node, Tree};
use decanter_core::view::{Overlay, Slice};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

const ID: &str = "3ds";
const MAGIC: [u8; 4] = *b"NCSD";
/// Partitions that a header has room for.
const PARTITIONS: usize = 8;
/// Bytes of header, card information and initial data.
const HEAD: u64 = 0x1200;
/// Where the first partition usually begins.
pub const FIRST: u64 = 0x4000;
/// Where the copy of the first content's header stands, and its length; it is of 0x100 on.
const COPY: Range<usize> = 0x1100..0x1200;
/// The smallest chip.
const LEAST_CHIP: u64 = 128 << 20;
/// What fills an image after its last partition.
pub const FILLER: u8 = 0xff;
/// Bytes of the filler that are looked at in one go.
const STRETCH: u64 = 1 << 20;

/// Folder and name of each partition.
const NAMES: [(&str, &str); PARTITIONS] = [
    ("game", "the game"),
    ("manual", "the manual"),
    ("child", "the download-play child"),
    ("partition 3", "partition 3"),
    ("partition 4", "partition 4"),
    ("partition 5", "partition 5"),
    ("update-new", "the system update of the New 3DS"),
    ("update", "the system update"),
];

/// The format.
pub struct Ncsd;
/// The one instance.
pub static CARTRIDGE: Ncsd = Ncsd;

/// A cartridge image, opened.
pub struct Cartridge {
    /// Header, card information, initial data: 0x1200 bytes.
    pub head: Vec<u8>,
    /// Bytes of a media unit.
    pub unit: u64,
    /// Length of the full image.
    pub full_len: u64,
    /// The partitions that are there.
    pub partitions: Vec<Partition>,
}

/// A partition.
pub struct Partition {
    /// Its number.
    pub index: usize,
    /// Where it is.
    pub range: Range<u64>,
    /// What it holds, or why that cannot be read.
    pub content: std::result::Result<Content, String>,
}

impl Partition {
    /// Folder in the tree.
    pub fn folder(&self) -> &'static str {
        NAMES[self.index].0
    }

    /// What it is.
    pub fn name(&self) -> &'static str {
        NAMES[self.index].1
    }
}

impl Cartridge {
    /// Opens an image with all contents in it.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a header that cannot be right. A content that cannot be read is an entry with the reason.
    pub fn read(source: &SourceRef, keys: &Keyring) -> Result<Self> {
        let head = read_vec(source.as_ref(), 0, HEAD, "the header of a cartridge", HEAD)?;
        let bad = |what: String, at: u64| Err(Error::malformed(ID, what, at));
        if head[0x100..0x104] != MAGIC {
            return bad("no NCSD mark".into(), 0x100);
        }
        if head[0x110..0x120].iter().any(|&b| b != 0) {
            return Err(Error::unsupported(ID, "an image of the console's own memory"));
        }
        if head[0x18e] > 10 {
            return bad(format!("a media unit of 0x200 << {}", head[0x18e]), 0x18e);
        }
        let unit = UNIT << head[0x18e];
        let full_len = u64::from(le32(&head, 0x104)) * unit;
        let mut partitions: Vec<Partition> = Vec::new();
        for index in 0..PARTITIONS {
            let at = 0x120 + index * 8;
            let (start, len) = (u64::from(le32(&head, at)) * unit, u64::from(le32(&head, at + 4)) * unit);
            let range = start..start + len;
            if len == 0 {
                continue;
            }
            if start < HEAD || range.end > full_len {
                return bad(format!("partition {index} from {start:#x} to {:#x} lies outside", range.end), at as u64);
            }
            if let Some(other) = partitions.iter().find(|p| p.range.start < range.end && range.start < p.range.end) {
                return bad(format!("partition {index} overlaps partition {}", other.index), at as u64);
            }
            let there = source.len().saturating_sub(start).min(len);
            let content = match Slice::new(source.clone(), start.min(source.len()), there) {
                Ok(slice) => match Content::read(&(Arc::new(slice) as SourceRef), keys) {
                    Ok(content) if content.header.len > len => {
                        Err(format!("its content has {} bytes, the partition {len}", content.header.len))
                    }
                    Ok(content) => Ok(content),
                    Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                    Err(e) => Err(e.to_string()),
                },
                Err(e) => Err(e.to_string()),
            };
            partitions.push(Partition { index, range, content });
        }
        if partitions.is_empty() {
            return bad("no partition at all".into(), 0x120);
        }
        Ok(Self { head, unit, full_len, partitions })
    }

    /// Where the last partition ends: all that a trimmed image has.
    pub fn used(&self) -> u64 {
        self.partitions.iter().map(|p| p.range.end).max().unwrap_or(HEAD)
    }

    /// Version of the title.
    pub fn title_version(&self) -> u16 {
        le16(&self.head, 0x310)
    }

    /// The partition with the game.
    pub fn game(&self) -> Option<&Content> {
        self.partitions.iter().find(|p| p.index == 0).and_then(|p| p.content.as_ref().ok())
    }

    /// Whether the card keeps its save in the image.
    pub fn is_card2(&self) -> bool {
        self.head[0x18d] == 2
    }

    /// The image with nothing encrypted in it; the copy of the first content's header is redone.
    fn clear(&self, source: &SourceRef) -> Result<Option<Blueprint>> {
        let mut layers: Vec<(u64, SourceRef)> = Vec::new();
        for partition in &self.partitions {
            let Ok(content) = &partition.content else { return Ok(None) };
            if content.trouble().is_some() || content.missing() > 0 {
                return Ok(None);
            }
            layers.push((partition.range.start, content.clear.clone()));
            if partition.index == 0 {
                let mut copy = content.header.raw;
                copy[ncch::header::FLAGS_AT..ncch::header::FLAGS_AT + 8].copy_from_slice(&content.header.plain_flags());
                layers.push((COPY.start as u64, Arc::new(Bytes(copy[0x100..].to_vec()))));
            }
        }
        Ok(Some(Blueprint::of(Arc::new(Overlay::new(source.clone(), layers)?))))
    }
}

/// How all contents together are encrypted.
pub(super) fn protection(contents: &[&Content], clear: Option<Blueprint>) -> Protection {
    let trouble: Option<&KeyTrouble> = contents.iter().find_map(|c| c.trouble());
    let worst = |state| contents.iter().find(|c| c.state == state);
    let chosen = worst(State::Encrypted).or(worst(State::Unclear)).or(contents.first());
    let (state, evidence) = chosen.map_or((State::Unclear, String::new()), |c| (c.state, c.evidence.clone()));
    let key = match trouble {
        Some(trouble) => KeyState::Trouble(trouble.clone()),
        None => chosen.map_or(KeyState::NotNeeded, |c| c.key.clone()),
    };
    let clear = clear.filter(|_| state != State::Decrypted && trouble.is_none());
    Protection { state, evidence, key, unseal: None, seal: None, has_clear_form: true, clear, clear_as_it_is: None }
}

/// Whether `range` of a source holds nothing but `byte`.
///
/// # Errors
/// What reading fails with.
pub fn is_filled(source: &dyn Source, range: Range<u64>, byte: u8) -> Result<bool> {
    let mut at = range.start;
    while at < range.end {
        let len = STRETCH.min(range.end - at);
        if read_vec(source, at, len, "the end of an image", STRETCH)?.iter().any(|&b| b != byte) {
            return Ok(false);
        }
        at += len;
    }
    Ok(true)
}

/// A content that goes into an image.
pub struct Inner {
    /// Number of its partition.
    pub index: usize,
    /// Its header, as it will stand in the image.
    pub header: [u8; ncch::header::LEN as usize],
    /// Its length in bytes.
    pub len: u64,
}

/// The first 0x4000 bytes of an image with these contents, by partition: header, card information, and the copy
/// of the first header. Each content begins where the ones before end; the first one is the game.
///
/// # Errors
/// [`Error::Unsupported`] when the image grows past what the header can say, [`Error::Usage`] for no contents.
pub fn head(version: u16, contents: &[Inner]) -> Result<Vec<u8>> {
    let units = |bytes: u64| u32::try_from(bytes / UNIT).map_err(|_| Error::unsupported(ID, "an image of 2 TiB"));
    let first = contents.first().ok_or_else(|| Error::Usage("an image needs a game".into()))?.header;
    let mut head = vec![FILLER; FIRST as usize];
    head[..0x1200].fill(0);
    head[0x100..0x104].copy_from_slice(&MAGIC);
    head[0x108..0x110].copy_from_slice(&first[0x118..0x120]);
    let mut at = FIRST;
    for Inner { index, header, len } in contents {
        let field = 0x120 + index * 8;
        head[field..field + 4].copy_from_slice(&units(at)?.to_le_bytes());
        head[field + 4..field + 8].copy_from_slice(&units(len.next_multiple_of(UNIT))?.to_le_bytes());
        head[0x190 + index * 8..0x198 + index * 8].copy_from_slice(&header[0x108..0x110]);
        at += len.next_multiple_of(UNIT);
    }
    let chip = at.next_power_of_two().max(LEAST_CHIP);
    head[0x104..0x108].copy_from_slice(&units(chip)?.to_le_bytes());
    // No backup device, platform 1, card 1.
    (head[0x18b], head[0x18c], head[0x18d]) = (2, 1, 1);
    head[0x200..0x204].fill(0xff);
    head[0x300..0x304].copy_from_slice(&(at as u32).to_le_bytes());
    head[0x310..0x312].copy_from_slice(&version.to_le_bytes());
    head[COPY].copy_from_slice(&first[0x100..]);
    Ok(head)
}

impl Format for Ncsd {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "3DS cartridge image"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["3ds", "cci"]
    }

    fn reads(&self) -> &'static str {
        "encrypted and decrypted, full and trimmed: all partitions, titles, icons, files, every hash"
    }

    fn least_len(&self) -> u64 {
        HEAD
    }

    fn marks(&self) -> &'static [Mark] {
        &[Mark { at: 0x100, bytes: &MAGIC }]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= HEAD).then_some(91))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let cartridge = Cartridge::read(&source, opener.keys())?;
        let mut opened = Opened::new(ID, self.name());
        if let Some(game) = cartridge.game() {
            ncch::tell(&mut opened, game, game.header.program_id(), game.header.kind().part());
        }
        opened.fact("version", cartridge.title_version().to_string());
        opened.fact("card", if cartridge.is_card2() { "card 2: its save is in the image" } else { "card 1" });
        opened.fact("full length", format!("{} bytes", grouped(cartridge.full_len)));
        let used = cartridge.used();
        opened.fact("length", shape(source.len(), used, cartridge.full_len));
        let (mut nodes, mut notices) = (Vec::new(), Vec::new());
        for partition in &cartridge.partitions {
            match &partition.content {
                Ok(content) => {
                    notices.extend(content.notices.iter().map(|n| format!("{}: {n}", partition.name())));
                    let mut more = Vec::new();
                    nodes.extend(content.nodes(&format!("{}/", partition.folder()), &mut more)?);
                    notices.extend(more.into_iter().map(|n| format!("{}: {n}", partition.name())));
                    opened.extent.regions.extend(ncch::regions(content, partition.range.start));
                    opened.proof.sealed.push(content.sealed(partition.folder(), None));
                }
                Err(why) => {
                    notices.push(format!("{} cannot be read: {why}", partition.name()));
                    nodes.push(Node::new(partition.folder().to_owned(), Kind::Folder, None));
                    let matters = Some("this part of the cartridge is lost: dump it again");
                    let (name, note) = (partition.name().to_owned(), Some(why.clone()));
                    opened.proof.settled.push(Settled { name, holds: false, note, matters, is_digest: false });
                }
            }
            let len = partition.range.end - partition.range.start;
            opened.fact("partition", format!("{}: {}, {} bytes", partition.index, partition.name(), grouped(len)));
        }
        opened.proof.settled.extend(settled(&cartridge));
        opened.holds.tree = Some(Tree { nodes });
        notices.into_iter().for_each(|n| opened.notice(n));
        opened.extent.promised_len = Some(used);
        let contents: Vec<&Content> = cartridge.partitions.iter().filter_map(|p| p.content.as_ref().ok()).collect();
        opened.protection = Some(protection(&contents, cartridge.clear(&source)?));
        Ok(opened)
    }
}

/// Trimmed, full or neither, in words.
fn shape(len: u64, used: u64, full: u64) -> String {
    match len {
        len if len < used => format!("cut short: {} bytes are missing", grouped(used - len)),
        len if len == full => "full".into(),
        len if len == used => "trimmed".into(),
        len if len < full => "trimmed, but not to the last partition".into(),
        _ => format!("{} bytes longer than the card", grouped(len - full)),
    }
}

/// What headers say of each other.
fn settled(cartridge: &Cartridge) -> Vec<Settled> {
    let mut all = Vec::new();
    let Some(game) = cartridge.game() else { return all };
    let same = cartridge.head[COPY] == game.header.raw[0x100..];
    all.push(Settled {
        name: "copy of the game's header in the card's data".into(),
        holds: same,
        note: (!same).then(|| "it differs, as after decrypting with tools that leave it".into()),
        matters: None,
        is_digest: false,
    });
    let media = le64(&cartridge.head, 0x108);
    let program = game.header.program_id();
    all.push(Settled {
        name: "title id of the card and of the game".into(),
        holds: media == program,
        note: (media != program).then(|| format!("{} and {}", title::shown(media), title::shown(program))),
        matters: (media != program).then_some("header and game are of different titles"),
        is_digest: false,
    });
    all
}
