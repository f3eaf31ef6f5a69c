//! Files that stand in each other's place.

use crate::noticed::Noticed;
use decanter_core::tree::Tree;
use decanter_core::{Notice, SECTOR};
use std::ops::Range;

/// Two names for the same extent are links. Two files that share only a part are damage.
pub(super) fn overlaps(tree: &Tree) -> Vec<Notice> {
    let mut noticed = Noticed::default();
    let mut spans: Vec<(&Range<u64>, &str)> =
        tree.files().flat_map(|(n, f)| f.spans.iter().map(move |s| (s, n.path.as_str()))).collect();
    spans.retain(|(s, _)| !s.is_empty());
    spans.sort_by_key(|(s, _)| (s.start, s.end));
    let mut widest: Option<(&Range<u64>, &str)> = None;
    for (span, path) in spans {
        if let Some((before, other)) = widest
            && before.end > span.start
            && before != span
        {
            let (sector, start) = (span.start / SECTOR, span.start);
            noticed.note(format!("{path} and {other} overlap at sector {sector} (offset {start:#x})"));
        }
        if widest.is_none_or(|(w, _)| span.end > w.end) {
            widest = Some((span, path));
        }
    }
    noticed.into_notices()
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::{Bytes, SourceRef};
    use decanter_core::tree::{File, Kind, Node};
    use std::sync::Arc;

    #[test]
    fn two_names_for_one_extent_are_links_and_a_shared_part_is_damage() {
        let base: SourceRef = Arc::new(Bytes(vec![0; 10 * 2048]));
        let told = |spans: &[(&str, Range<u64>)]| {
            let node = |(name, sectors): &(&str, Range<u64>)| {
                let span = sectors.start * SECTOR..sectors.end * SECTOR;
                Node::new((*name).into(), Kind::File(File::from_spans(&base, vec![span]).unwrap()), None)
            };
            let tree = Tree { nodes: spans.iter().map(node).collect() };
            overlaps(&tree).into_iter().map(|n| n.text).collect::<Vec<_>>()
        };
        assert!(told(&[("a", 1..3), ("b", 3..5), ("c", 1..3), ("none", 2..2)]).is_empty());
        assert_eq!(told(&[("a", 1..4), ("b", 3..5)]), ["b and a overlap at sector 3 (offset 0x1800)"]);
        assert_eq!(told(&[("wide", 0..9), ("a", 2..3), ("b", 5..6)]).len(), 2, "the widest before counts");
    }
}
