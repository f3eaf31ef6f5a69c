//! The digests that a content carries of its own bytes.

use super::{Content, header, romfs};
use crate::package::n3ds::digest;
use decanter_core::Digest;
use decanter_core::format::Transform;
use decanter_core::seal::{Expected, Seal, Sealed};
use decanter_core::source::SourceRef;
use decanter_core::view::Slice;
use std::ops::Range;
use std::sync::Arc;

const FILES: &str = "files read from there are damaged: dump it again";
const PROGRAM: &str = "the console refuses to start it: dump it again";
const ICON: &str = "name and picture in the menu are damaged; the program is not affected";
const LOGO: &str = "the console may refuse to start it";
const INSTALL: &str = "a console refuses to install it: dump or download it again";

pub(super) fn sealed(content: &Content, name: &str, whole: Option<Digest>) -> Sealed {
    let mut seals = Vec::new();
    let mut push = |name: String, range: Range<u64>, of_plaintext, expected, matters| {
        seals.push(Seal { name, range, of_plaintext, expected, matters, inside: None });
    };
    let h = &content.header;
    if let Some(whole) = whole {
        push("the content as a whole".into(), 0..h.len, false, Expected::Digest(whole), INSTALL);
    }
    if let Some(range) = &h.logo {
        push("logo".into(), range.clone(), false, Expected::Digest(digest(&h.raw[0x130..0x150])), LOGO);
    }
    if let Some(range) = &h.extended {
        let hashed = range.start..range.start + header::EXTENDED_HASHED;
        push("extended header".into(), hashed, true, Expected::Digest(digest(&h.raw[0x160..0x180])), PROGRAM);
    }
    for (name, area) in [("ExeFS header", &h.exefs), ("RomFS header", &h.romfs)] {
        if let Some(area) = area {
            let hashed = area.range.start..area.range.start + area.hashed;
            push(name.into(), hashed, true, Expected::Digest(digest(&area.hash)), PROGRAM);
        }
    }
    for member in &content.members {
        let matters = if member.is_of_first_slot() { ICON } else { PROGRAM };
        let name = format!("ExeFS, {}", member.name);
        push(name, member.range.clone(), true, Expected::Digest(digest(&member.hash)), matters);
    }
    if let Some(levels) = &content.levels {
        let above = [&levels.master, &levels.levels[0].range, &levels.levels[1].range];
        for (index, (level, hashes)) in levels.levels.iter().zip(above).enumerate() {
            let inside = hashes.end <= content.clear.len();
            let slice = inside.then(|| Slice::new(content.clear.clone(), hashes.start, hashes.end - hashes.start));
            if let Some(Ok(digests)) = slice {
                let what =
                    if index == 2 { "RomFS, level 3: the files".into() } else { format!("RomFS, level {}", index + 1) };
                let expected = Expected::Blocks { digests: Arc::new(digests) as SourceRef, block: level.block };
                push(what, level.range.clone(), true, expected, FILES);
            }
        }
    }
    if let (Some(levels), Some(last)) = (&content.levels, seals.last_mut()) {
        let (content, level3) = (content.clone(), levels.levels[2].range.clone());
        last.inside = Some(Arc::new(move || files(&content, &level3)));
    }
    Sealed {
        name: name.to_owned(),
        source: content.stored.clone(),
        transform: content.ctr.clone().map(|c| c as Arc<dyn Transform>),
        locked: content.locked.clone(),
        trouble: content.trouble().cloned(),
        seals,
    }
}

/// The files of the RomFS with their places in the content; none where the tables cannot be read.
fn files(content: &Content, level3: &Range<u64>) -> Vec<(Range<u64>, String)> {
    let Ok(tables) = romfs::tables(content.clear.as_ref(), level3.start, level3.end - level3.start) else {
        return Vec::new();
    };
    let place = |entry: romfs::Entry| {
        let (start, len) = entry.data.filter(|_| entry.broken.is_none())?;
        let start = level3.start + tables.data_at + start;
        Some((start..start + len, format!("romfs/{}", entry.path)))
    };
    let names = (level3.start..level3.start + tables.data_at, "the names in the RomFS".to_owned());
    std::iter::once(names).chain(tables.entries.into_iter().filter_map(place)).collect()
}
