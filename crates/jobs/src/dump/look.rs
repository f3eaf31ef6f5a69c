//! What the image of a dump is, as far as it is there.

use super::map::{Map, Run};
use crate::Setting;
use decanter_core::opened::Fact;
use decanter_core::source::SourceRef;
use decanter_core::tree::Tree;
use decanter_core::{Error, Keyring, Notice, SECTOR};
use decanter_formats::optical::xdvdfs;

/// Files that are named.
const MOST_NAMED: usize = 50;

/// What is known of the content of a dump.
pub struct Look {
    /// Its files.
    pub tree: Tree,
    /// What its file system takes.
    pub structure: Vec<std::ops::Range<u64>>,
    /// Bytes of the content in a sector: of a raw CD fewer than the sector has.
    pub unit: u64,
    /// What it is; `None` where that cannot be told.
    pub kind: Option<String>,
    /// What it says of itself.
    pub facts: Vec<Fact>,
    /// Bytes that it goes on for beyond the end of the image.
    pub beyond: Option<u64>,
    /// Whether it is the video part of a game disc.
    pub is_video_part: bool,
    /// What was noticed, where all of it was read.
    pub notices: Vec<Notice>,
}

/// What the image is, as far as it is there. Of one with gaps nothing is noticed: they are told already.
pub(super) fn look(source: &SourceRef, map: &Map, setting: &Setting<'_>) -> Look {
    let keys = Keyring::default();
    let mut look = Look {
        tree: Tree::default(),
        structure: Vec::new(),
        unit: map.sector_len,
        kind: None,
        facts: Vec::new(),
        beyond: None,
        is_video_part: false,
        notices: Vec::new(),
    };
    match setting.opener(&keys).open(source.clone()) {
        Ok(opened) => {
            if opened.holds.volume.is_some() {
                look.unit = SECTOR;
            }
            look.kind = Some(opened.identity.kind);
            look.facts = opened.told.facts;
            look.beyond = opened.extent.promised_len.and_then(|p| p.checked_sub(source.len())).filter(|&b| b > 0);
            look.is_video_part = xdvdfs::is_video_part(opened.holds.tree.as_ref(), source.len());
            look.notices = opened.told.notices;
            look.tree = opened.holds.tree.unwrap_or_default();
            look.structure = opened.extent.structure;
        }
        Err(Error::NotUnderstood { .. }) => {}
        Err(e) => look.notices.push(Notice::new(format!("what was read cannot be looked into: {e}"))),
    }
    if map.missing() > 0 {
        look.notices.clear();
    }
    look
}

pub(super) fn hit_files(look: &Look, missing: &[Run]) -> Vec<String> {
    let unit = look.unit;
    let hit = |spans: &[std::ops::Range<u64>]| {
        spans.iter().any(|s| missing.iter().any(|r| r.first * unit < s.end && s.start < (r.first + r.count) * unit))
    };
    look.tree.files().filter(|(_, f)| hit(&f.spans)).map(|(n, _)| n.path.clone()).take(MOST_NAMED).collect()
}
