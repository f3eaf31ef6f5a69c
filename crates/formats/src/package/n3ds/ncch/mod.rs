//! A content (NCCH): a program with its icon and files, a manual, an update. Layout: docs/formats/n3ds-content.md.

mod compose;
pub mod exefs;
pub mod exheader;
pub mod header;
mod proof;
pub mod romfs;
mod romfs_compose;
mod unlock;

pub use compose::{Parts, compose, from_tree};
pub use proof::{check_heads, lay};
pub use romfs_compose::{RomFs, hash_tree};
pub use unlock::Unlocked;

use super::gba_mode::{self, SaveType};
use super::smdh;
use super::title;
use decanter_core::blueprint::Blueprint;
use decanter_core::error::KeyTrouble;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Keyring;
use decanter_core::label::Label;
use decanter_core::opened::TitlePart;
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::seal::Sealed;
use decanter_core::source::{Bytes, Source, SourceRef, read_array};
use decanter_core::tell::grouped;
use decanter_core::transform::Transform;
use decanter_core::tree::{self, File, Kind, Node, Tree};
use decanter_core::view::{Concat, CtrRanges, Overlay, Slice};
use decanter_core::{Digest, Error, Result};
use exefs::Member;
use header::Header;
use std::ops::Range;
use std::sync::Arc;

pub(crate) const ID: &str = "ncch";
const MAGIC: [u8; 4] = *b"NCCH";
/// The largest program that is looked into for a ROM of the GBA mode.
const MOST_GBA_CODE: u64 = 40 << 20;
/// The largest icon block that is read.
const MOST_ICON: u64 = 64 << 10;

/// The format.
pub struct Ncch;
/// The one instance.
pub static CONTENT: Ncch = Ncch;

/// A content, opened: its parts, and its bytes with nothing encrypted in them.
#[derive(Clone)]
pub struct Content {
    /// The header.
    pub header: Header,
    /// The bytes as stored, at most as many as the header says.
    pub stored: SourceRef,
    /// The same with nothing encrypted in them and flags that say so. Parts whose key is missing cannot be read.
    pub clear: SourceRef,
    /// What turns `stored` into plaintext, flags aside.
    pub ctr: Option<Arc<CtrRanges>>,
    /// Whether it is encrypted.
    pub state: State,
    /// How that is known.
    pub evidence: String,
    /// What is known of the keys.
    pub key: KeyState,
    /// Encrypted stretches.
    pub encrypted: Vec<Range<u64>>,
    /// Those of them whose key is missing or wrong.
    pub locked: Vec<Range<u64>>,
    /// Members of the ExeFS, where its header can be read.
    pub members: Vec<Member>,
    /// The hash levels of the RomFS, where they can be read.
    pub levels: Option<romfs::Levels>,
    /// What was noticed.
    pub notices: Vec<String>,
}

impl Content {
    /// Opens a content.
    ///
    /// # Errors
    /// When its header is broken. Missing keys and broken parts make locked parts and notices.
    pub fn read(source: &SourceRef, keys: &Keyring) -> Result<Self> {
        let header = Header::read(source.as_ref())?;
        let stored: SourceRef = match source.len() > header.len {
            true => Arc::new(Slice::new(source.clone(), 0, header.len)?),
            false => source.clone(),
        };
        let unlocked = unlock::unlock(&header, &stored, keys)?;
        let mut notices = unlocked.notices;
        let view = unlocked.view;
        let clear: SourceRef = if header.says_plain() && unlocked.state == State::Decrypted {
            view.clone()
        } else {
            let flags: SourceRef = Arc::new(Bytes(header.plain_flags().to_vec()));
            Arc::new(Overlay::new(view.clone(), vec![(header::FLAGS_AT as u64, flags)])?)
        };
        let levels = match &header.romfs {
            Some(area) if area.range.start + romfs::MASTER_AT <= stored.len() => {
                match romfs::levels(clear.as_ref(), &area.range) {
                    Ok(levels) => Some(levels),
                    Err(Error::Key(_)) => None,
                    Err(e @ Error::Io { .. }) => return Err(e),
                    Err(e) => {
                        notices.push(format!("the RomFS cannot be read: {e}"));
                        None
                    }
                }
            }
            _ => None,
        };
        Ok(Self {
            header,
            stored,
            clear,
            ctr: unlocked.ctr,
            state: unlocked.state,
            evidence: unlocked.evidence,
            key: unlocked.key,
            encrypted: unlocked.encrypted,
            locked: unlocked.locked,
            members: unlocked.members,
            levels,
            notices,
        })
    }

    /// Why it cannot be read as a whole, if a key is missing or wrong.
    pub fn trouble(&self) -> Option<&KeyTrouble> {
        match &self.key {
            KeyState::Trouble(trouble) => Some(trouble),
            _ => None,
        }
    }

    /// Bytes that are missing at its end.
    pub fn missing(&self) -> u64 {
        self.header.len.saturating_sub(self.stored.len())
    }

    /// Fails unless all of it is there and can be read.
    ///
    /// # Errors
    /// [`Error::Key`], [`Error::PastEnd`].
    pub fn require_whole(&self) -> Result<()> {
        match (self.trouble(), self.missing()) {
            (Some(trouble), _) => Err(trouble.clone().into()),
            (None, 0) => Ok(()),
            _ => Err(Error::PastEnd { offset: 0, asked: self.header.len, len: self.stored.len() }),
        }
    }

    /// Where the ExeFS member called `name` is.
    pub fn member(&self, name: &str) -> Option<&Member> {
        self.members.iter().find(|m| m.name == name)
    }

    /// The bytes of a member, in the clear.
    ///
    /// # Errors
    /// What reading fails with, [`Error::Limit`].
    pub fn member_bytes(&self, name: &str, limit: u64) -> Result<Option<Vec<u8>>> {
        let Some(member) = self.member(name) else { return Ok(None) };
        let len = member.range.end - member.range.start;
        decanter_core::source::read_vec(self.clear.as_ref(), member.range.start, len, "a member of the ExeFS", limit)
            .map(Some)
    }

    /// The extended header, in the clear; `None` without one.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn extended(&self) -> Result<Option<[u8; header::EXTENDED as usize]>> {
        self.header.extended.as_ref().map(|range| read_array(self.clear.as_ref(), range.start)).transpose()
    }

    /// Titles and icons, where they can be read.
    pub fn label(&self) -> Option<Label> {
        let icon = self.member_bytes("icon", MOST_ICON).ok()??;
        smdh::Smdh::parse(&icon).ok().map(|s| s.label())
    }

    /// The digests that it carries, and with `whole` that of the bytes as stored.
    pub fn sealed(&self, name: &str, whole: Option<Digest>) -> Sealed {
        proof::sealed(self, name, whole)
    }

    /// Its files below `prefix`.
    ///
    /// # Errors
    /// What reading the tables fails with, other than for a missing key or damage: those become notices.
    pub fn nodes(&self, prefix: &str, notices: &mut Vec<String>) -> Result<Vec<Node>> {
        let mut nodes = Vec::new();
        if let Some(folder) = prefix.strip_suffix('/') {
            nodes.push(folder_node(folder));
        }
        let mut file = |name: &str, range: Range<u64>| -> Result<()> {
            nodes.push(self.file_node(format!("{prefix}{name}"), range)?);
            Ok(())
        };
        file("header.bin", 0..header::LEN)?;
        let h = &self.header;
        for (name, range) in [("extheader.bin", &h.extended), ("plain.bin", &h.plain), ("logo.bin", &h.logo)] {
            if let Some(range) = range {
                file(name, range.clone())?;
            }
        }
        if let Some(area) = &h.exefs {
            file(
                "exefs.bin",
                area.range.start..area.range.start + exefs::HEADER.min(area.range.end - area.range.start),
            )?;
        }
        if !self.members.is_empty() {
            nodes.push(folder_node(&format!("{prefix}exefs")));
        }
        for member in &self.members {
            nodes.push(self.file_node(format!("{prefix}{}", member.file_name()), member.range.clone())?);
        }
        self.unpacked_node(prefix, notices, &mut nodes)?;
        if let Some(levels) = &self.levels {
            let level3 = &levels.levels[2].range;
            match romfs::tables(self.clear.as_ref(), level3.start, level3.end - level3.start) {
                Ok(tables) => {
                    nodes.push(self.names_node(format!("{prefix}romfs.bin"), level3.start, &tables)?);
                    nodes.push(folder_node(&format!("{prefix}romfs")));
                    let below = format!("{prefix}romfs/");
                    nodes.extend(romfs::nodes(&tables, &self.clear, level3.start, &below, self.stored.len())?);
                }
                Err(Error::Key(_)) => {}
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(e) => notices.push(format!("the names in the RomFS cannot be read: {e}")),
            }
        }
        Ok(nodes)
    }

    fn unpacked_node(&self, prefix: &str, notices: &mut Vec<String>, nodes: &mut Vec<Node>) -> Result<()> {
        let is_packed = self.extended().ok().flatten().is_some_and(|e| exheader::code_is_packed(&e));
        let Some(code) = self.member(".code").filter(|_| is_packed) else { return Ok(()) };
        let packed = Slice::new(self.clear.clone(), code.range.start, code.range.end - code.range.start);
        let Ok(packed) = packed else { return Ok(()) };
        match super::lz::Unpacked::new(Arc::new(packed)) {
            Ok(unpacked) => {
                nodes.push(folder_node(&format!("{prefix}unpacked")));
                let file =
                    File { len: unpacked.len(), spans: Vec::new(), content: tree::Content::Whole(Arc::new(unpacked)) };
                nodes.push(Node::new(format!("{prefix}unpacked/code.bin"), Kind::File(file), None));
            }
            Err(Error::Key(_)) => {}
            Err(e @ Error::Io { .. }) => return Err(e),
            Err(e) => notices.push(format!("the program cannot be unpacked: {e}")),
        }
        Ok(())
    }

    /// The header of the RomFS and its tables of names, as one file: what is needed to put names in the same order.
    fn names_node(&self, path: String, level3: u64, tables: &romfs::Tables) -> Result<Node> {
        let start = self.header.romfs.as_ref().map_or(0, |area| area.range.start);
        let head = Slice::new(self.clear.clone(), start, romfs::MASTER_AT)?;
        let names = Slice::new(self.clear.clone(), level3, tables.data_at)?;
        let source: SourceRef = Arc::new(Concat::new(vec![Arc::new(head), Arc::new(names)])?);
        let file = File { len: source.len(), spans: Vec::new(), content: tree::Content::Whole(source) };
        Ok(Node::new(path, Kind::File(file), None))
    }

    /// A stretch as a file, locked or cut where it is.
    fn file_node(&self, path: String, range: Range<u64>) -> Result<Node> {
        let len = range.end - range.start;
        let over = range.end.saturating_sub(self.stored.len());
        let content = if over > 0 && len > 0 {
            tree::Content::Cut { missing: over.min(len) }
        } else {
            let source: SourceRef = Arc::new(Slice::new(self.clear.clone(), range.start.min(self.clear.len()), len)?);
            let mut first = [0];
            match len > 0 && self.trouble().is_some() && matches!(source.read_at(0, &mut first), Err(Error::Key(_))) {
                true => tree::Content::Locked(source),
                false => tree::Content::Whole(source),
            }
        };
        Ok(Node::new(path, Kind::File(File { len, spans: Vec::new(), content }), None))
    }
}

fn folder_node(path: &str) -> Node {
    Node::new(path.to_owned(), Kind::Folder, None)
}

/// What there is to tell of the main content of a title: names, ids, maker, region.
pub(crate) fn tell(opened: &mut Opened, content: &Content, title_id: u64, part: TitlePart) {
    let header = &content.header;
    if let Some(label) = content.label() {
        opened.titled(smdh::title_of(&label));
        opened.told.label = Some(label);
    }
    opened.identified(header.product_code());
    opened.fact("title id", title::shown(title_id));
    opened.belonging(title::family(title_id), part);
    opened.fact("maker", format!("code {}", header.maker()));
    if let Ok(Some(icon)) = content.member_bytes("icon", MOST_ICON)
        && let Ok(smdh) = smdh::Smdh::parse(&icon)
    {
        opened.fact("publisher", smdh.publisher());
        opened.fact("region", smdh.regions());
    }
    if let Ok(Some(extended)) = content.extended() {
        let revision = exheader::remaster(&extended);
        opened.fact("revision", if revision > 0 { revision.to_string() } else { String::new() });
        let save = exheader::save_len(&extended);
        opened.fact("save data", if save > 0 { format!("{} KiB", save >> 10) } else { String::new() });
        if exheader::firmware(&extended) == exheader::GBA_FIRMWARE {
            opened.fact("runs in", "GBA mode");
            if let Ok(Some(code)) = content.member_bytes(".code", MOST_GBA_CODE)
                && let Some(found) = gba_mode::settings(&code)
            {
                let save = SaveType::of_number(found.save).map_or("of an unknown type", SaveType::name);
                opened.fact("GBA ROM", format!("{} bytes, save {save}", grouped(found.rom_len as u64)));
            }
        }
    }
    if header.flags()[4] == 2 {
        opened.fact("runs on", "New 3DS only");
    }
}

/// The same of how it is encrypted, with its bytes in the clear.
pub(crate) fn protection(content: &Content, clear: Option<Blueprint>) -> Protection {
    let transform = content.ctr.clone().map(|c| c as Arc<dyn Transform>);
    let decrypts = content.state != State::Decrypted && content.trouble().is_none();
    Protection {
        state: content.state,
        evidence: content.evidence.clone(),
        key: content.key.clone(),
        unseal: transform.filter(|_| decrypts),
        seal: None,
        clear: clear.filter(|_| decrypts),
        has_clear_form: true,
        clear_as_it_is: None,
    }
}

impl Format for Ncch {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "3DS content"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["cxi", "cfa", "app", "ncch"]
    }

    fn reads(&self) -> &'static str {
        "encrypted and decrypted: titles, icons, programs, files; every hash is checked"
    }

    fn least_len(&self) -> u64 {
        header::LEN
    }

    fn marks(&self) -> &'static [Mark] {
        &[Mark { at: 0x100, bytes: &MAGIC }]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= header::LEN).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let content = Content::read(&source, opener.keys())?;
        let mut opened = Opened::new(ID, format!("3DS content: {}", content.header.kind().name()));
        tell(&mut opened, &content, content.header.program_id(), content.header.kind().part());
        let mut notices = content.notices.clone();
        opened.holds.tree = Some(Tree { nodes: content.nodes("", &mut notices)? });
        notices.into_iter().for_each(|n| opened.notice(n));
        opened.extent.promised_len = Some(content.header.len);
        opened.extent.regions = regions(&content, 0);
        opened.protection = Some(protection(&content, Some(Blueprint::of(content.clear.clone()))));
        opened.proof.sealed = vec![content.sealed("content", None)];
        Ok(opened)
    }
}

/// Encrypted and plain stretches of a content that begins at byte `at` of a source.
pub(crate) fn regions(content: &Content, at: u64) -> Vec<Region> {
    let mut all = Vec::new();
    let mut next = 0;
    let mut push = |range: Range<u64>, encrypted| {
        if !range.is_empty() {
            all.push(Region { range: at + range.start..at + range.end, encrypted });
        }
    };
    for range in &content.encrypted {
        push(next..range.start, false);
        push(range.clone(), true);
        next = range.end;
    }
    push(next..content.header.len, false);
    all
}
