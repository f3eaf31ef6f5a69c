//! Who owns which cluster or block: one that two files claim proves that at least one of them is wrong, and chains that
//! share a tail or bite their own would otherwise be followed again and again.

use decanter_core::tree::{File, Kind, Tree};
use std::collections::HashMap;
use std::ops::Range;

/// Blocks whose owners are kept together.
const PAGE: usize = 1 << 15;

/// Blocks that have an owner.
#[derive(Default)]
pub(super) struct Claims {
    /// A bit a block; pages come into being as they are needed, so a large volume that is empty costs nothing.
    pages: HashMap<u64, Box<[u64; PAGE / 64]>>,
    /// Blocks that were claimed a second time.
    twice: Vec<u64>,
}

impl Claims {
    /// Claims a block; false if it has an owner already.
    pub(super) fn claim(&mut self, block: u64) -> bool {
        let page = self.pages.entry(block / PAGE as u64).or_insert_with(|| Box::new([0; PAGE / 64]));
        let (word, bit) = ((block % PAGE as u64) as usize / 64, block % 64);
        let is_free = page[word] >> bit & 1 == 0;
        page[word] |= 1 << bit;
        if !is_free {
            self.twice.push(block);
        }
        is_free
    }

    /// Marks the files that hold a block which another one claims too, and says which those are. `place` tells where a
    /// block begins.
    pub(super) fn mark(&self, tree: &mut Tree, place: impl Fn(u64) -> Option<u64>) -> Vec<String> {
        let mut places: Vec<u64> = self.twice.iter().filter_map(|block| place(*block)).collect();
        places.sort_unstable();
        places.dedup();
        if places.is_empty() {
            return Vec::new();
        }
        let hit = |spans: &[Range<u64>]| {
            spans.iter().find_map(|s| {
                let next = places.partition_point(|p| *p < s.start);
                places.get(next).copied().filter(|p| *p < s.end)
            })
        };
        let mut told = Vec::new();
        for node in &mut tree.nodes {
            let Kind::File(file) = &mut node.kind else { continue };
            let Some(at) = hit(&file.spans) else { continue };
            let why = format!("another file or folder claims its block at byte {at:#x} too: one of them is wrong");
            told.push(format!("{}: {why}", node.path));
            let broken = File { spans: std::mem::take(&mut file.spans), ..File::broken(file.len, why) };
            *file = broken;
        }
        told
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::{Bytes, SourceRef};
    use decanter_core::tree::{Content, Node};
    use std::sync::Arc;

    #[test]
    fn both_owners_are_marked_and_nobody_else() {
        let base: SourceRef = Arc::new(Bytes(vec![0; 4096]));
        let mut claims = Claims::default();
        let blocks = [1, 2, 40_000, 3];
        assert!(blocks.iter().all(|b| claims.claim(*b)));
        assert!(!claims.claim(2) && !claims.claim(40_000));
        let mut tree = Tree::default();
        for (name, span) in [("a", 512..1536), ("b", 1536..2048), ("c", 1024..1536)] {
            let file = File::from_spans(&base, vec![span]).unwrap();
            tree.nodes.push(Node::new(name.into(), Kind::File(file), None));
        }
        let told = claims.mark(&mut tree, |block| (block < 100).then_some(block * 512));
        assert_eq!(told.len(), 2);
        let broken: Vec<&str> = tree
            .files()
            .filter(|(_, f)| matches!(f.content, Content::Broken(_)))
            .map(|(n, _)| n.path.as_str())
            .collect();
        assert_eq!(broken, ["a", "c"]);
    }
}
