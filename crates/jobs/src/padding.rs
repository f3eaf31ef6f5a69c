//! What of a disc belongs to no file, and which files look like pure filler. Told from samples: nothing is read whole.

use crate::Item;
use crate::convert::used_ranges;
use decanter_core::format::looks_random;
use decanter_core::source::SourceRef;
use decanter_core::{SECTOR, tree::Node};
use serde::Serialize;
use std::ops::Range;

/// Sectors that are looked at in what belongs to no file.
const SAMPLES: u64 = 64;
/// Files that are looked at, the largest first.
const MOST_FILES: usize = 16;
/// Smaller files are no filler worth a word.
const LEAST_FILLER: u64 = 1 << 20;
/// Sectors that are looked at in a file.
const FILE_SAMPLES: u64 = 8;
/// Names that mastering tools and studios give to filler.
const NAMES: [&str; 5] = ["dummy", "filler", "padding", "_pad.", "blank."];

/// What belongs to no file, and files that look like filler.
#[derive(Debug, Default, Serialize)]
pub struct Padding {
    /// Bytes that belong neither to a file nor to the file system.
    pub bytes: u64,
    /// What they are, in percent of the samples: "zeros", "repeated", "noise", "other".
    pub kinds: Vec<(&'static str, u64)>,
    /// Files that look like filler.
    pub filler: Vec<Filler>,
}

/// A file that looks like filler.
#[derive(Debug, Serialize)]
pub struct Filler {
    /// Its path.
    pub path: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Why it looks so.
    pub why: &'static str,
}

/// Looks at an image; `None` where there is nothing to tell, or looking would be slow.
pub(crate) fn look(item: &Item) -> Option<Padding> {
    let opened = &item.opened;
    let tree = opened.holds.tree.as_ref()?;
    let source = if opened.holds.tracks.is_empty() { item.source.clone()? } else { opened.holds.volume.clone()? };
    if opened.extent.structure.is_empty() || source.prefers_sequential() || opened.protection.is_some() {
        return None;
    }
    let end = opened
        .extent
        .promised_len
        .map_or(source.len(), |p| p.min(source.len()))
        .max(opened.extent.structure.iter().map(|s| s.end).max()?);
    let used = used_ranges(tree, &opened.extent.structure, source.len());
    let mut gaps: Vec<Range<u64>> = Vec::new();
    // Before the first structure lies what is no part of the file system: boot code, another partition.
    let mut at = used.first().map_or(0, |r| r.start);
    for range in &used {
        if range.start > at {
            gaps.push(at..range.start);
        }
        at = at.max(range.end);
    }
    if at < source.len().max(end) {
        gaps.push(at..source.len());
    }
    gaps.retain(|g| g.end > g.start);
    let mut padding = Padding { bytes: gaps.iter().map(|g| g.end - g.start).sum(), ..Padding::default() };
    if padding.bytes > 0 {
        padding.kinds = shares(&samples(&source, &gaps, SAMPLES));
    }
    let mut files: Vec<_> = tree.files().filter(|(_, f)| f.len >= LEAST_FILLER && !f.spans.is_empty()).collect();
    files.sort_by_key(|(_, f)| std::cmp::Reverse(f.len));
    for (node, file) in files.into_iter().take(MOST_FILES) {
        let looks = samples(&source, &file.spans, FILE_SAMPLES);
        if let Some(why) = filler(node, &looks) {
            padding.filler.push(Filler { path: node.path.clone(), bytes: file.len, why });
        }
    }
    (padding.bytes > 0 || !padding.filler.is_empty()).then_some(padding)
}

/// What a sector looks like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Look {
    Zeros,
    Repeated,
    Noise,
    Other,
}

/// Sectors spread evenly over some ranges. What cannot be read is left out.
fn samples(source: &SourceRef, ranges: &[Range<u64>], count: u64) -> Vec<Look> {
    let total: u64 = ranges.iter().map(|r| (r.end - r.start) / SECTOR).sum();
    let count = count.min(total);
    let mut looks = Vec::new();
    for index in 0..count {
        let mut wanted = index * total / count;
        let Some(range) = ranges.iter().find(|r| {
            let sectors = (r.end - r.start) / SECTOR;
            let here = wanted < sectors;
            wanted -= if here { 0 } else { sectors };
            here
        }) else {
            break;
        };
        let mut sector = [0; SECTOR as usize];
        if source.read_at(range.start / SECTOR * SECTOR + wanted * SECTOR, &mut sector).is_ok() {
            looks.push(look_at(&sector));
        }
    }
    looks
}

fn look_at(sector: &[u8]) -> Look {
    let first = sector[0];
    if sector.iter().all(|&b| b == first) {
        return if first == 0 { Look::Zeros } else { Look::Repeated };
    }
    let repeats = |step: usize| sector.iter().zip(&sector[step..]).all(|(a, b)| a == b);
    if [2, 4, 8, 16, 32, 64].into_iter().any(repeats) {
        Look::Repeated
    } else if looks_random(sector) {
        Look::Noise
    } else {
        Look::Other
    }
}

fn shares(looks: &[Look]) -> Vec<(&'static str, u64)> {
    let kinds = [
        (Look::Zeros, "zeros"),
        (Look::Repeated, "repeated"),
        (Look::Noise, "pseudo-random"),
        (Look::Other, "something else"),
    ];
    let share = |kind: Look| looks.iter().filter(|l| **l == kind).count() as u64 * 100 / looks.len().max(1) as u64;
    kinds.into_iter().map(|(kind, name)| (name, share(kind))).filter(|(_, share)| *share > 0).collect()
}

fn filler(node: &Node, looks: &[Look]) -> Option<&'static str> {
    let all = |kind: Look| !looks.is_empty() && looks.iter().all(|l| *l == kind);
    let name = node.name().to_lowercase();
    let named = NAMES.iter().any(|n| name.contains(n));
    if all(Look::Zeros) {
        Some("nothing but zeros wherever it was looked at")
    } else if all(Look::Repeated) {
        Some("one pattern, over and over, wherever it was looked at")
    } else if named && all(Look::Noise) {
        Some("noise, and its name says filler")
    } else {
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn looks() {
        assert_eq!(look_at(&[0; 2048]), Look::Zeros);
        assert_eq!(look_at(&[0xff; 2048]), Look::Repeated);
        let pattern: Vec<u8> = (0..2048).map(|i| [1, 2, 3, 4][i % 4]).collect();
        assert_eq!(look_at(&pattern), Look::Repeated);
        let text: Vec<u8> = (0..2048).map(|i| b"fog over the pier, "[(i * 7 / 3) % 19]).collect();
        assert_eq!(look_at(&text), Look::Other);
    }
}
