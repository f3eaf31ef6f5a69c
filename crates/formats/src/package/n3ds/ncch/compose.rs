//! A content put together of its parts. Layout: docs/formats/n3ds-content.md.

use super::header::{EXTENDED, EXTENDED_HASHED, Header, LEN};
use super::romfs_compose::RomFs;
use super::{ID, exefs};
use crate::package::n3ds::{UNIT, sha256, sha256_of};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::tree::Tree;
use decanter_core::{Error, Result};
use std::sync::Arc;

/// The largest ExeFS member and the largest file of names that are held in memory.
const MOST_MEMBER: u64 = 128 << 20;
/// Where the RomFS begins at a multiple of, in contents that are laid out anew.
const ROMFS_ALIGN: u64 = 0x1000;

/// What a content is made of.
pub struct Parts {
    /// The header of which ids, flags and versions are taken; places and hashes are made anew.
    pub header: [u8; LEN as usize],
    /// The extended header with the access descriptor.
    pub extended: Option<Vec<u8>>,
    /// The logo and the plain region.
    pub logo: Option<SourceRef>,
    /// Plain texts of libraries.
    pub plain: Option<SourceRef>,
    /// Members of the ExeFS, with the names that they have there.
    pub exefs: Vec<(String, Vec<u8>)>,
    /// The files.
    pub romfs: Option<Arc<RomFs>>,
}

/// Places of the parts, in bytes: offset and length.
#[derive(Default)]
struct Places {
    logo: (u64, u64),
    plain: (u64, u64),
    exefs: (u64, u64),
    romfs: (u64, u64),
    len: u64,
}

impl Parts {
    /// Places that the header has, if everything fits there exactly; else one after the other.
    fn places(&self, exefs_len: u64) -> Places {
        let unit = |len: u64| len.next_multiple_of(UNIT);
        let of = |source: &Option<SourceRef>| source.as_ref().map_or(0, |s| unit(s.len()));
        let (logo, plain, exefs) = (of(&self.logo), of(&self.plain), unit(exefs_len));
        let romfs = self.romfs.as_ref().map_or(0, |r| r.used());
        if let Ok(old) = Header::parse(self.header)
            && old.unit == UNIT
            && old.extended.is_some() == self.extended.is_some()
        {
            let place =
                |range: &Option<std::ops::Range<u64>>| range.as_ref().map_or((0, 0), |r| (r.start, r.end - r.start));
            let area = |a: &Option<super::header::Area>| {
                a.as_ref().map_or((0, 0), |a| (a.range.start, a.range.end - a.range.start))
            };
            let found = Places {
                logo: place(&old.logo),
                plain: place(&old.plain),
                exefs: area(&old.exefs),
                romfs: area(&old.romfs),
                len: old.len,
            };
            let fits =
                |(_, room): (u64, u64), len: u64| room >= len && room < len + ROMFS_ALIGN && (room > 0) == (len > 0);
            let same = found.logo.1 == logo && found.plain.1 == plain;
            if same && fits(found.exefs, exefs) && fits(found.romfs, romfs) {
                return found;
            }
        }
        let mut at = LEN + if self.extended.is_some() { EXTENDED } else { 0 };
        let mut next = |len: u64, align: u64| {
            if len == 0 {
                return (0, 0);
            }
            let start = at.next_multiple_of(align);
            at = start + len;
            (start, len)
        };
        let (logo, plain, exefs) = (next(logo, UNIT), next(plain, UNIT), next(exefs, UNIT));
        let romfs = next(romfs.next_multiple_of(ROMFS_ALIGN), ROMFS_ALIGN);
        Places { logo, plain, exefs, romfs, len: at }
    }
}

/// Lays a content out; nothing in it is encrypted.
///
/// # Errors
/// [`Error::Unsupported`] for parts that do not fit the format, and what reading the logo fails with.
pub fn compose(parts: &Parts) -> Result<Blueprint> {
    let slices: Vec<(String, &[u8])> = parts.exefs.iter().map(|(n, b)| (n.clone(), b.as_slice())).collect();
    let exefs = match slices.is_empty() {
        true => Vec::new(),
        false => exefs::header(&slices)?,
    };
    let exefs_len =
        exefs.len() as u64 + slices.iter().map(|(_, b)| (b.len() as u64).next_multiple_of(UNIT)).sum::<u64>();
    let places = parts.places(exefs_len);
    let header = header(parts, &places, &exefs)?;
    let mut blueprint = Blueprint::new();
    let mut laid: Vec<(u64, u64, Part)> = Vec::new();
    let mut add = |(start, room): (u64, u64), part| {
        if room > 0 {
            laid.push((start, room, part));
        }
    };
    if let Some(extended) = &parts.extended {
        let mut bytes = extended.clone();
        bytes.resize(EXTENDED as usize, 0);
        add((LEN, EXTENDED), Part::Sources(vec![Arc::new(Bytes(bytes))]));
    }
    let one = |s: &Option<SourceRef>| Part::Sources(s.iter().cloned().collect());
    add(places.logo, one(&parts.logo));
    add(places.plain, one(&parts.plain));
    let members = slices.iter().map(|(_, bytes)| {
        let mut bytes = bytes.to_vec();
        bytes.resize(bytes.len().next_multiple_of(UNIT as usize), 0);
        Arc::new(Bytes(bytes)) as SourceRef
    });
    let head: SourceRef = Arc::new(Bytes(exefs));
    add(places.exefs, Part::Sources(std::iter::once(head).chain(members).collect()));
    if let Some(romfs) = &parts.romfs {
        add(places.romfs, Part::RomFs(romfs.clone()));
    }
    laid.sort_by_key(|(start, ..)| *start);
    let first = blueprint.late(LEN);
    let mut at = LEN;
    let mut files = None;
    for (start, room, part) in laid {
        blueprint.fill(0, start - at);
        match part {
            Part::Sources(sources) => {
                let used: u64 = sources.iter().map(|s| s.len()).sum();
                sources.into_iter().for_each(|s| {
                    blueprint.source(s);
                });
                blueprint.fill(0, room - used);
            }
            Part::RomFs(romfs) => files = Some((romfs.lay(&mut blueprint, room)?, romfs)),
        }
        at = start + room;
    }
    blueprint.fill(0, places.len.saturating_sub(at));
    match files {
        None => blueprint.compute(first, &[], Arc::new(move |_| Ok(header.to_vec())))?,
        Some((laid, romfs)) => {
            let make = move |known: &decanter_core::blueprint::Known<'_>| {
                let mut header = header.to_vec();
                let hashed = romfs.hashed().next_multiple_of(UNIT);
                header[0x1e0..0x200].copy_from_slice(&sha256(&romfs.header(known.blocks(laid.blocks), hashed)));
                Ok(header)
            };
            blueprint.compute(first, &[laid.needs], Arc::new(make))?;
        }
    }
    Ok(blueprint)
}

enum Part {
    Sources(Vec<SourceRef>),
    RomFs(Arc<RomFs>),
}

/// The header with places and hashes; that of the RomFS comes late.
fn header(parts: &Parts, places: &Places, exefs: &[u8]) -> Result<[u8; LEN as usize]> {
    let mut h = parts.header;
    h[0x100..0x104].copy_from_slice(&super::MAGIC);
    let mut word = |at: usize, bytes: u64| -> Result<()> {
        let units = u32::try_from(bytes / UNIT).map_err(|_| Error::unsupported(ID, "a content of 2 TiB"))?;
        h[at..at + 4].copy_from_slice(&units.to_le_bytes());
        Ok(())
    };
    word(0x104, places.len)?;
    for (at, (start, len)) in
        [(0x190, places.plain), (0x198, places.logo), (0x1a0, places.exefs), (0x1b0, places.romfs)]
    {
        word(at, start)?;
        word(at + 4, len)?;
    }
    word(0x1a8, if places.exefs.1 > 0 { exefs::HEADER } else { 0 })?;
    word(0x1b8, parts.romfs.as_ref().map_or(0, |r| r.hashed().next_multiple_of(UNIT)))?;
    h[0x180..0x184].copy_from_slice(&(if parts.extended.is_some() { EXTENDED_HASHED as u32 } else { 0 }).to_le_bytes());
    h[0x130..0x150].fill(0);
    if let Some(logo) = &parts.logo {
        h[0x130..0x150].copy_from_slice(&sha256_of(logo.as_ref(), 0..logo.len())?);
    }
    h[0x160..0x180].fill(0);
    if let Some(extended) = &parts.extended {
        let mut bytes = extended.clone();
        bytes.resize(EXTENDED as usize, 0);
        h[0x160..0x180].copy_from_slice(&sha256(&bytes[..EXTENDED_HASHED as usize]));
    }
    h[0x1c0..0x200].fill(0);
    if places.exefs.1 > 0 {
        h[0x1c0..0x1e0].copy_from_slice(&sha256(exefs));
    }
    let flags = Header::parse(h)?.plain_flags();
    h[super::header::FLAGS_AT..super::header::FLAGS_AT + 8].copy_from_slice(&flags);
    Ok(h)
}

/// The parts of a content that was extracted into a folder.
///
/// # Errors
/// [`Error::Unsupported`] when there is no `header.bin`, or files that no part of a content is made of.
pub fn from_tree(tree: &Tree) -> Result<Parts> {
    let small = |path: &str, limit: u64| tree.read(path, limit);
    let Some(header) = small("header.bin", 1 << 20)? else {
        return Err(Error::unsupported(ID, "a folder without header.bin"));
    };
    let Ok(header) = <[u8; LEN as usize]>::try_from(header.as_slice()) else {
        return Err(Error::unsupported(ID, format!("a header.bin of {} bytes instead of {LEN}", header.len())));
    };
    let extended = small("extheader.bin", 1 << 20)?;
    if let Some(bytes) = extended.as_ref().filter(|b| b.len() as u64 != EXTENDED) {
        return Err(Error::unsupported(ID, format!("an extheader.bin of {} bytes instead of {EXTENDED}", bytes.len())));
    }
    let source = |path: &str| -> Result<Option<SourceRef>> {
        tree.find(path).and_then(|n| n.file()).map(|f| f.source().cloned()).transpose()
    };
    let (mut members, mut files, mut folders) = (Vec::new(), Vec::new(), Vec::new());
    for node in &tree.nodes {
        let known = ["header.bin", "extheader.bin", "plain.bin", "logo.bin", "exefs.bin", "romfs.bin"];
        if let Some(path) = node.path.strip_prefix("romfs/") {
            match node.file() {
                Some(file) => files.push((path.to_owned(), file.source()?.clone())),
                None => folders.push(path.to_owned()),
            }
        } else if let Some((name, file)) = node.path.strip_prefix("exefs/").zip(node.file()) {
            let name = name.strip_suffix(".bin").unwrap_or(name);
            let name = if name == "code" { ".code".to_owned() } else { name.to_owned() };
            let source = file.source()?;
            members.push((name, read_vec(source.as_ref(), 0, source.len(), "a member of the ExeFS", MOST_MEMBER)?));
        } else if node.file().is_some() && !node.path.starts_with("unpacked/") && !known.contains(&node.path.as_str()) {
            return Err(Error::unsupported(ID, format!("\"{}\" beside the parts of a content", node.path)));
        }
    }
    sort_members(&mut members, small("exefs.bin", 1 << 20)?.as_deref());
    let has_romfs = !files.is_empty() || tree.find("romfs").is_some();
    let saved = small("romfs.bin", MOST_MEMBER)?;
    let romfs = match saved.and_then(|saved| RomFs::with_tables(&saved, &files, &folders)) {
        Some(same) => Some(same),
        None if has_romfs => Some(RomFs::new(&files, &folders)?),
        None => None,
    };
    Ok(Parts {
        header,
        extended,
        logo: source("logo.bin")?,
        plain: source("plain.bin")?,
        exefs: members,
        romfs: romfs.map(Arc::new),
    })
}

/// Members in the order in which the old header has them; new ones after them, by name.
fn sort_members(members: &mut [(String, Vec<u8>)], old: Option<&[u8]>) {
    let names: Vec<String> = old
        .filter(|b| b.len() >= exefs::HEADER as usize)
        .map(|b| (0..exefs::MOST_MEMBERS).map(|i| crate::cartridge::text::ascii(&b[i * 16..i * 16 + 8])).collect())
        .unwrap_or_else(|| [".code", "banner", "icon", "logo"].map(str::to_owned).to_vec());
    members.sort_by_key(|(name, _)| (names.iter().position(|n| n == name).unwrap_or(names.len()), name.clone()));
}
