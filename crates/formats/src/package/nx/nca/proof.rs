//! The digests that a content carries of its own bytes.

use super::levels::Levels;
use super::{Layout, Nca, Section};
use crate::package::nx::{partition, romfs};
use decanter_core::Result;
use decanter_core::seal::{Expected, Inside, Seal, Sealed};
use decanter_core::source::SourceRef;
use decanter_core::view::Slice;
use std::ops::Range;
use std::sync::Arc;

const FILES: &str = "files read from there are damaged: dump or download it again";

pub(super) fn sealed(nca: &Nca, name: &str, whole: Option<Seal>) -> Sealed {
    let mut seals: Vec<Seal> = whole.into_iter().collect();
    for section in nca.sections.iter().filter(|s| s.patch.is_none()) {
        let (Some(levels), Ok(own)) = (&section.levels, nca.section(section)) else { continue };
        // One that is cut before its hashes end is told as cut: the header says how long it is.
        seals.extend(of_section(nca, section, levels, &own, section.range.start).unwrap_or_default());
    }
    Sealed {
        name: name.to_owned(),
        source: nca.stored.clone(),
        transform: nca.transform.clone(),
        locked: nca.locked.clone(),
        trouble: nca.trouble().cloned(),
        seals,
        examine: None,
    }
}

pub(super) fn sealed_over(nca: &Nca, name: &str, base: &Nca) -> Result<Vec<Sealed>> {
    let mut all = Vec::new();
    for section in nca.sections.iter().filter(|s| s.patch.is_some() && s.oddity.is_none()) {
        let Some(levels) = &section.levels else { continue };
        let view = nca.joined(section, Some(base))?;
        let seals = of_section(nca, section, levels, &view, 0)?;
        let name = format!("{name} over its base");
        let (transform, locked, trouble, examine) = (None, Vec::new(), None, None);
        all.push(Sealed { name, source: view, transform, locked, trouble, seals, examine });
    }
    Ok(all)
}

/// The levels of a section whose bytes `own` are; its first one stands at `start` of what is read.
fn of_section(nca: &Nca, section: &Section, levels: &Levels, own: &SourceRef, start: u64) -> Result<Vec<Seal>> {
    let name = nca.name_of(section);
    let mut seals = Vec::new();
    for (index, (level, digests)) in levels.levels.iter().zip(levels.digests(own)?).enumerate() {
        let is_last = index + 1 == levels.levels.len();
        let range = start + level.range.start..start + level.range.end;
        let what =
            if is_last { format!("{name}, the files") } else { format!("{name}, hashes of level {}", index + 1) };
        let inside = is_last.then(|| inside(section, &name, own, levels.data().clone(), start));
        let expected = Expected::Blocks { digests, block: level.block, is_filled_up: levels.is_filled_up };
        let of_plaintext = section.cipher.needs_key() && section.patch.is_none();
        seals.push(Seal { name: what, range, of_plaintext, expected, matters: FILES, inside });
    }
    Ok(seals)
}

/// Names the files of a section, once somebody asks.
fn inside(section: &Section, name: &str, own: &SourceRef, data: Range<u64>, start: u64) -> Inside {
    let (layout, name, own) = (section.layout, name.to_owned(), own.clone());
    Arc::new(move || {
        let Ok(source) = Slice::new(own.clone(), data.start, data.end - data.start) else { return Vec::new() };
        let at = start + data.start;
        let shifted = |r: Range<u64>| at + r.start..at + r.end;
        let mut all = Vec::new();
        match layout {
            Layout::Files => {
                if let Ok(files) = partition::Partition::read(&source, partition::Kinds::Plain) {
                    all.push((shifted(0..files.head_len), format!("the names in {name}")));
                    all.extend(files.entries.into_iter().map(|e| (shifted(e.range), format!("{name}/{}", e.name))));
                }
            }
            Layout::Rom => {
                if let Ok(files) = romfs::Files::read(&source, data.end - data.start) {
                    all.push((shifted(0..files.data_at), format!("the names in {name}")));
                    let places = files.entries.into_iter().filter_map(|e| Some((e.data?, e.path)));
                    all.extend(places.map(|(r, path)| (shifted(r), format!("{name}/{path}"))));
                }
            }
            Layout::Other(_) => {}
        }
        all
    })
}
