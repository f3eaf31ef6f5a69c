//! A title made of a package of the user's own: its player stays, ROM, names, pictures and ids are replaced.

use super::MOST_CONTENT;
use super::Title;
use super::art::WIDE;
use super::ready::Title3ds;
use crate::convert::handheld::meta;
use crate::toml_text::nearest_or_all;
use crate::{Setting, locate};
use decanter_core::Format;
use decanter_core::blueprint::Blueprint;
use decanter_core::head::Head;
use decanter_core::label::Picture;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{self, File, Kind, Tree};
use decanter_core::{Error, Notice, Result, pour};
use decanter_formats::REGISTRY;
use decanter_formats::package::n3ds::cia::PACKAGE;
use decanter_formats::package::n3ds::cia::ticket::Ticket;
use decanter_formats::package::n3ds::cia::tmd::{ENCRYPTED, Tmd};
use decanter_formats::package::n3ds::cia::{self, Inner, Making, Package};
use decanter_formats::package::n3ds::ncch::{self, Content, Parts, exheader};
use decanter_formats::package::n3ds::smdh::Smdh;
use decanter_formats::package::n3ds::{banner, gba_mode, title as ids};
use std::sync::Arc;

/// The package, laid out, and where the ROM is in it.
pub(super) fn package(
    path: &str,
    title: &Title,
    ready: &Title3ds,
    certificates: Option<SourceRef>,
    notices: &mut Vec<Notice>,
    setting: &Setting<'_>,
) -> Result<(Blueprint, String)> {
    let item = locate::open(path, "use", setting).map_err(|f| match *f.cause {
        Error::Io { op: "open", .. } => Error::Usage(format!(
            "the base \"{path}\" cannot be opened: name a package of your own that carries a player for this system"
        )),
        cause => cause,
    })?;
    let source = item.source.clone().filter(|_| PACKAGE.is_of(&item.opened));
    let source = source.ok_or_else(|| Error::Usage(format!("the base \"{path}\" is no package (CIA)")))?;
    let package = Package::read(&source, &item.keyring)?;
    let main = package.main().ok_or_else(|| {
        package.trouble().map_or_else(
            || Error::Usage(format!("the base \"{path}\" has no program that can be read")),
            |trouble| trouble.clone().into(),
        )
    })?;
    main.require_whole()?;
    let mut more = Vec::new();
    let mut tree = Tree { nodes: main.nodes("", &mut more)? };
    let place = replace_rom(&mut tree, title, ready)?;
    let mut parts = ncch::from_tree(&tree)?;
    relabel(&mut parts, title, ready, notices)?;
    let bytes = pour::to_memory(&ncch::compose(&parts)?, MOST_CONTENT, setting.watch)?;
    let program: SourceRef = Arc::new(Bytes(bytes));
    let content = Content::read(&program, &item.keyring)?;
    let meta = meta(&content, content.extended()?.as_ref())?;
    let mut ticket = Ticket::parse(package.ticket.bytes.clone())?;
    ticket.unsign();
    ticket.set_title(ready.id);
    let mut tmd = Tmd::parse(&package.tmd.bytes())?;
    tmd.set_title(ready.id);
    tmd.records.clear();
    let mut contents = Vec::new();
    for entry in &package.entries {
        let mut record = entry.record.clone();
        record.kind &= !ENCRYPTED;
        if record.index == 0 {
            record.len = program.len();
            contents.push(Inner { record: record.clone(), source: program.clone(), proof: None });
        } else if let Some(plain) = &entry.plain {
            let clear = entry.content.as_ref().map_or(plain, |c| &c.clear);
            let proof = entry.content.as_ref().ok().cloned();
            contents.push(Inner { record: record.clone(), source: clear.clone(), proof });
        }
        tmd.records.push(record);
    }
    let own = package.sections[0].clone();
    let own = decanter_core::view::Slice::new(source, own.start, own.end - own.start)?;
    let certificates = Some(certificates.unwrap_or_else(|| Arc::new(own)));
    let blueprint = cia::compose(Making { certificates, ticket, tmd, contents, meta: Some(meta) })?;
    Ok((blueprint, place))
}

/// Puts the ROM in place of the one that the package has; returns where that is.
fn replace_rom(tree: &mut Tree, title: &Title, ready: &Title3ds) -> Result<String> {
    let wanted = match &title.replace {
        Some(path) => {
            let known: Vec<&str> = tree.files().map(|(n, _)| n.path.as_str()).collect();
            if !known.contains(&path.as_str()) {
                return Err(Error::Usage(format!("the base has no file \"{path}\"; {}", nearest_or_all(path, &known))));
            }
            path.clone()
        }
        None => find_rom(tree, ready.system)?,
    };
    let bytes = match wanted.as_str() {
        "exefs/code.bin" => gba_mode::code(&ready.rom, &ready.settings)?,
        _ => ready.rom.clone(),
    };
    for node in tree.nodes.iter_mut().filter(|n| n.path == wanted) {
        let source: SourceRef = Arc::new(Bytes(bytes.clone()));
        node.kind = Kind::File(File { len: source.len(), spans: Vec::new(), content: tree::Content::Whole(source) });
    }
    Ok(wanted)
}

/// The one file of the package that is a ROM of the same system.
fn find_rom(tree: &Tree, system: &str) -> Result<String> {
    let mut found = Vec::new();
    for (node, file) in tree.files() {
        let tree::Content::Whole(source) = &file.content else { continue };
        if node.path.starts_with("romfs/")
            && REGISTRY.detect(&Head::new(source.as_ref()))?.is_some_and(|f| f.id() == system)
        {
            found.push(node.path.clone());
        }
        if node.path == "exefs/code.bin" && system == "gba" {
            let len = source.len().min(1 << 26);
            let mark: [u8; 4] =
                if len >= 16 { decanter_core::source::read_array(source.as_ref(), source.len() - 16)? } else { [0; 4] };
            if mark == *b".CAA" {
                found.push(node.path.clone());
            }
        }
    }
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] => Err(Error::Usage(format!(
            "no ROM of the system {system} is found in the base; name its path with replace = \"romfs/...\""
        ))),
        several => {
            Err(Error::Usage(format!("the base has several ROMs: name one with replace = ...: {}", several.join(", "))))
        }
    }
}

/// New ids, names and pictures.
fn relabel(parts: &mut Parts, title: &Title, ready: &Title3ds, notices: &mut Vec<Notice>) -> Result<()> {
    let id = ready.id.to_le_bytes();
    for at in [0x108, 0x118] {
        parts.header[at..at + 8].copy_from_slice(&id);
    }
    // A signature of another title proves nothing.
    parts.header[..0x100].fill(0);
    if let Some(extended) = &mut parts.extended
        && let Ok(mut own) = exheader::Extended::try_from(extended.as_slice())
    {
        exheader::set_title_id(&mut own, ready.id);
        exheader::set_on_card(&mut own, true);
        extended.copy_from_slice(&own);
    }
    let mut has_banner = false;
    for (name, bytes) in &mut parts.exefs {
        match name.as_str() {
            "icon" => {
                // Ratings and flags of the player stay; its regions do unless the recipe opens them.
                let mut own = Smdh::parse(bytes).unwrap_or_default();
                own.take_label(&ready.smdh);
                if title.region_free {
                    own.set_region_free();
                }
                *bytes = own.bytes().to_vec();
            }
            "banner" => {
                has_banner = true;
                match with_picture(bytes, &ready.wide) {
                    Ok(Some(changed)) => *bytes = changed,
                    Ok(None) => notices.push(Notice::new(
                        "the banner of the base has no picture of a kind that is written here: it stays as it is",
                    )),
                    Err(e) => notices.push(Notice::new(format!("the banner of the base stays as it is: {e}"))),
                }
            }
            _ => {}
        }
    }
    if !has_banner {
        notices.push(Notice::new(format!("the base of {} has no banner", ids::shown(ready.id))));
    }
    Ok(())
}

/// A banner with the wide picture in place of its largest texture.
fn with_picture(bytes: &[u8], wide: &Picture) -> Result<Option<Vec<u8>>> {
    let (mut model, _) = banner::common(bytes)?;
    let Some(texture) = banner::texture(&model) else { return Ok(None) };
    let options = crate::label::Options {
        size: Some((texture.width, texture.height)),
        fit: if texture.width * WIDE.1 == texture.height * WIDE.0 {
            crate::label::Fit::Stretch
        } else {
            crate::label::Fit::Letterbox
        },
        ..crate::label::Options::default()
    };
    let scaled = crate::label::scale(wide, &options)?;
    let picture = Picture { width: texture.width, height: texture.height, rgba: scaled.into_raw() };
    model[texture.range.clone()].copy_from_slice(&banner::pixels(&picture, texture.pixels));
    banner::with_common(bytes, &model).map(Some)
}
