//! What the image of a dump is, as far as it is there.

use super::DumpReport;
use super::map::{Map, Run};
use crate::Setting;
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
}

/// What the image is, as far as it is there.
pub(super) fn look(source: &SourceRef, map: &Map, report: &mut DumpReport, setting: &Setting<'_>) -> Look {
    let keys = Keyring::default();
    let opener = setting.opener(&keys);
    match opener.open(source.clone()) {
        Ok(opened) => {
            let unit = if opened.holds.volume.is_some() { SECTOR } else { map.sector_len };
            report.kind = Some(opened.identity.kind);
            report.facts = opened.told.facts;
            report.beyond = opened.extent.promised_len.and_then(|p| p.checked_sub(source.len())).filter(|&b| b > 0);
            report.is_video_part = xdvdfs::is_video_part(opened.holds.tree.as_ref(), source.len());
            if report.missing_sectors == 0 {
                report.notices.extend(opened.told.notices);
            }
            Look { tree: opened.holds.tree.unwrap_or_default(), structure: opened.extent.structure, unit }
        }
        Err(e) => {
            if report.missing_sectors == 0 && !matches!(e, Error::NotUnderstood { .. }) {
                report.notices.push(Notice::new(format!("what was read cannot be looked into: {e}")));
            }
            Look { tree: Tree::default(), structure: Vec::new(), unit: map.sector_len }
        }
    }
}

pub(super) fn hit_files(look: &Look, missing: &[Run]) -> Vec<String> {
    let unit = look.unit;
    let hit = |spans: &[std::ops::Range<u64>]| {
        spans.iter().any(|s| missing.iter().any(|r| r.first * unit < s.end && s.start < (r.first + r.count) * unit))
    };
    look.tree.files().filter(|(_, f)| hit(&f.spans)).map(|(n, _)| n.path.clone()).take(MOST_NAMED).collect()
}
