//! The digests that a content carries of its own bytes.

use super::{Content, header, romfs};
use crate::package::n3ds::{digest, sha256_of};
use decanter_core::blueprint::{Blueprint, PartId};
use decanter_core::seal::{Expected, Seal, Sealed};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::transform::Transform;
use decanter_core::view::Slice;
use decanter_core::{Digest, Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// The most bytes of hashes that are held at once: those of 128 GiB.
const MOST_HASHES: u64 = 1 << 30;

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
                let digests: SourceRef = Arc::new(digests);
                let expected = Expected::Blocks { digests, block: level.block, is_filled_up: true };
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
        examine: None,
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

/// Adds a content in the clear to a blueprint; `source` has its bytes, perhaps with other headers. The hashes of its
/// files are checked while they pass by. Returns the first and the last part.
///
/// # Errors
/// When a slice cannot be made, which a checked header rules out.
pub fn lay(content: &Content, source: &SourceRef, name: &str, blueprint: &mut Blueprint) -> Result<(PartId, PartId)> {
    let Some(levels) = &content.levels else {
        let part = blueprint.source(source.clone());
        return Ok((part, part));
    };
    let (above, files) = (levels.levels[1].range.clone(), levels.levels[2].clone());
    let mut slice = |range: Range<u64>| -> Result<PartId> {
        let slice = Slice::new(source.clone(), range.start, range.end - range.start)?;
        Ok(blueprint.source(Arc::new(slice)))
    };
    let (first, middle) = (slice(0..files.range.start)?, slice(files.range.clone())?);
    let last = slice(files.range.end..source.len())?;
    let run = blueprint.measure_blocks(middle, middle, files.block as usize)?;
    let (clear, name, block) = (content.clear.clone(), name.to_owned(), files.block);
    blueprint.check(Arc::new(move |known| {
        let found = known.blocks(run);
        let stored = read_vec(clear.as_ref(), above.start, found.len() as u64, "hashes of a RomFS", MOST_HASHES)?;
        let bad = || found.chunks(32).zip(stored.chunks(32)).enumerate().filter(|(_, (f, s))| f != s);
        let Some((first, (is, should))) = bad().next() else { return Ok(()) };
        let at = files.range.start + first as u64 * block;
        let what = format!("{name}: {} blocks of its RomFS are damaged; the first, at {at:#x},", bad().count());
        Err(Error::Checksum { what, expected: digest(should).to_string(), found: digest(is).to_string() })
    }));
    Ok((first, last))
}

/// Fails unless everything that is hashed holds, but for the files of the RomFS and what is above them, which [`lay`] checks.
///
/// # Errors
/// [`Error::Checksum`] with what does not hold, and what reading fails with.
pub fn check_heads(content: &Content, name: &str) -> Result<()> {
    for seal in sealed(content, name, None).seals {
        let Expected::Digest(expected) = &seal.expected else { continue };
        let found = digest(&sha256_of(content.clear.as_ref(), seal.range.clone())?);
        if found != *expected {
            let what = format!("{name}: {}", seal.name);
            return Err(Error::Checksum { what, expected: expected.to_string(), found: found.to_string() });
        }
    }
    Ok(())
}
