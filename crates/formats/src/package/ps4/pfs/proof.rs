//! What proves an image: the codes of its blocks, from the header's own down; and whether its structures fit each other.

use super::header::Header;
use super::key::Opening;
use super::paths::{self, Target};
use super::stored::{Map, Volume};
use super::walk::{self, Found, Inodes};
use crate::noticed::first_of;
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::seal::Settled;
use decanter_core::source::SourceRef;
use decanter_core::threads::{Shares, on_all};
use decanter_core::tree::{Kind, Node, Tree};
use decanter_core::watch::{self, Watch};
use decanter_core::{Keyring, Result};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

const CONSOLE: &str = "a console refuses it: copy or make the package again";
const DAMAGED: &str = "the files that it hits cannot be read: copy the package again";
const FILES: &str = "a console does not find the files that it hits: make the package again";

const TABLE: &str = "table of paths";
const PLACES: &str = "places of files";
/// Blocks that a thread takes at once.
const AT_ONCE: u64 = 16;

/// Adds what can be proven besides the blocks of files, which are held against their codes whenever they are read.
pub(super) fn add(
    opened: &mut Opened,
    header: &Header,
    opening: Option<&Opening>,
    volume: &Arc<Volume>,
    (found, inodes): (&Found, Inodes),
    source: &SourceRef,
) {
    if let Some(opening) = opening.filter(|o| o.mac.is_some()) {
        let name = "signature of the header";
        opened.proof.settled.push(match opening.is_header_right {
            true => Settled::holds(name).by_digests(),
            false => Settled::fails(name, "it is another one under the image key", CONSOLE).by_digests(),
        });
    }
    let (there, said) = (source.len() / header.block, header.blocks);
    let mut lengths = Vec::new();
    if said > there {
        lengths.push(format!("the header counts {said} blocks, there are {there}"));
    }
    opened.proof.settled.push(Settled::of("blocks in the header", &lengths, CONSOLE));
    if header.is_signed() && opening.is_none() {
        opened.proof.untried.push("its signatures can be checked with its image key alone".into());
    }
    // The way through the folders is gone once more for whoever asks: so nobody else keeps room for two trees.
    let own = Arc::new(Checked { header: header.clone(), volume: volume.clone(), inodes });
    if volume.mac.is_some() {
        let own = own.clone();
        opened.proof.on_reading.push(Arc::new(move |watch| codes(&own, watch)));
    }
    let (outline, paths) = (Outline::of(found), found.paths.clone());
    opened.proof.inspections.push(Arc::new(move |watch| {
        // What is in order is seen without any names.
        let table = paths.as_ref().map(|inode| walk::table(&own.volume, inode));
        if let Some(Ok(table)) = table
            && outline.is_in_order(&table)
        {
            return Ok(vec![Settled::holds(TABLE), Settled::holds(PLACES)]);
        }
        let Found { walked, paths, inodes } = own.walk(watch)?;
        let tree = &walked.tree;
        let table = paths.as_ref().map(|inode| walk::table(&own.volume, inode)).transpose();
        let table = match table {
            Ok(table) => table,
            Err(e) if e.blame() == Blame::Source => {
                return Ok(vec![Settled::fails(TABLE, e.to_string(), FILES)]);
            }
            Err(e) => return Err(e),
        };
        Ok(vec![table_of_paths(table.as_deref(), tree, &inodes), overlaps(tree)])
    }));
}

/// Folders and files without their names, in the order of their hashes.
struct Outline {
    targets: Vec<(u32, Target)>,
    has_shared: bool,
    has_overlaps: bool,
}

impl Outline {
    fn of(found: &Found) -> Self {
        let nodes = &found.walked.tree.nodes;
        let target = |(node, inode): (&Node, &u32)| {
            (paths::hash(&node.path), Target { inode: *inode, is_folder: matches!(node.kind, Kind::Folder) })
        };
        let mut targets: Vec<(u32, Target)> = nodes.iter().zip(&found.inodes).map(target).collect();
        targets.sort_unstable_by_key(|(hash, target)| (*hash, target.inode));
        let mut spans: Vec<(u64, u64)> =
            found.walked.tree.files().flat_map(|(_, file)| file.spans.iter().map(|s| (s.start, s.end))).collect();
        spans.sort_unstable();
        Self {
            has_shared: targets.windows(2).any(|w| w[0].0 == w[1].0),
            has_overlaps: spans.windows(2).any(|w| w[0].1 > w[1].0),
            targets,
        }
    }

    fn is_in_order(&self, table: &[u8]) -> bool {
        !self.has_shared && !self.has_overlaps && paths::is_exact(table, self.targets.iter().copied())
    }
}

/// An image that is to be checked.
struct Checked {
    header: Header,
    volume: Arc<Volume>,
    inodes: Inodes,
}

impl Checked {
    fn walk(&self, watch: &dyn Watch) -> Result<Found> {
        let keys = Keyring::default();
        let opener = Opener::new(&crate::REGISTRY, &keys).with_watch(watch);
        walk::walk(&self.header, &self.volume, &self.inodes, &opener)
    }
}

/// Whether the table of paths is that of the folders.
fn table_of_paths(table: Option<&[u8]>, tree: &Tree, inodes: &[u32]) -> Settled {
    let mut by_hash = HashMap::with_capacity(tree.nodes.len());
    for (node, inode) in tree.nodes.iter().zip(inodes) {
        let target = Target { inode: *inode, is_folder: matches!(node.kind, Kind::Folder) };
        by_hash.insert(paths::hash(&node.path), (node.path.as_str(), target));
    }
    let faults = match table {
        Some(table) => paths::faults(table, &by_hash, tree.nodes.len()),
        None => vec!["there is none".into()],
    };
    let faults = first_of(faults.into_iter().map(|f| (0, f)).collect(), "fault");
    Settled::of(TABLE, &faults, FILES)
}

/// Whether two files share bytes.
fn overlaps(tree: &Tree) -> Settled {
    let mut spans: Vec<(u64, u64, &str)> = tree
        .files()
        .flat_map(|(node, file)| file.spans.iter().map(move |s| (s.start, s.end, node.path.as_str())))
        .filter(|(start, end, _)| start < end)
        .collect();
    spans.sort_unstable();
    let mut faults = Vec::new();
    for pair in spans.windows(2).filter(|w| w[0].1 > w[1].0) {
        faults.push((pair[1].0, format!("{} and {} share bytes at {:#x}", pair[0].2, pair[1].2, pair[1].0)));
    }
    Settled::of(PLACES, &first_of(faults, "fault"), FILES)
}

/// The codes of all blocks of the files, and whether each of them has its blocks for itself.
fn codes(own: &Checked, watch: &dyn Watch) -> Result<Vec<Settled>> {
    let found = own.walk(watch)?;
    let volume = &own.volume;
    let mut seen = Seen(vec![0; volume.blocks() as usize / 64 + 1]);
    let (mut wrong, mut places) = (Vec::new(), Vec::new());
    let numbered = found.walked.tree.nodes.iter().zip(&found.inodes).filter(|(node, _)| node.file().is_some());
    for (path, number) in numbered.map(|(node, number)| (&node.path, *number)) {
        let inode = match own.inodes.get(number.into()) {
            Ok(inode) => inode,
            Err(e) if e.blame() == Blame::Source => {
                wrong.push((0, format!("{path}: {e}")));
                continue;
            }
            Err(e) => return Err(e),
        };
        let map = Map::new(volume, &inode, path);
        let count = inode.stored_len(volume.block).div_ceil(volume.block).min(volume.blocks());
        places.extend(seen.walk(&map, count, path)?);
        watch.begin("checking signatures", Some(count * volume.block));
        wrong.extend(wrong_blocks(volume, &map, count, watch)?);
        watch.end();
    }
    Ok(vec![
        Settled::of("signatures of all blocks", &first_of(wrong, "block"), DAMAGED).by_digests(),
        Settled::of("places of all blocks", &first_of(places, "block"), DAMAGED),
    ])
}

/// Blocks that have not their codes, on all processors.
fn wrong_blocks(volume: &Volume, map: &Map, count: u64, watch: &dyn Watch) -> Result<Vec<(u64, String)>> {
    let (shares, found) = (Shares::new(count, AT_ONCE), Mutex::new(Vec::new()));
    on_all(|| {
        let mut bytes = vec![0; (volume.block * AT_ONCE) as usize];
        for share in &shares {
            watch::check(watch)?;
            let len = ((share.end - share.start) * volume.block) as usize;
            watch.advance(len as u64);
            if map.read_blocks(share.start, &mut bytes[..len]).is_ok() {
                continue;
            }
            // Which of them it is.
            for index in share {
                match map.read_blocks(index, &mut bytes[..volume.block as usize]) {
                    Err(e) if e.blame() == Blame::Source => {
                        found.lock().unwrap_or_else(PoisonError::into_inner).push((index, e.to_string()));
                    }
                    read => read?,
                }
            }
        }
        Ok(())
    })?;
    Ok(found.into_inner().unwrap_or_else(PoisonError::into_inner))
}

/// Blocks that some pointer leads to, a bit each.
struct Seen(Vec<u64>);

impl Seen {
    /// Goes through the pointers of a file: what leads to a block that was met before, or out of the image.
    fn walk(&mut self, map: &Map, count: u64, path: &str) -> Result<Vec<(u64, String)>> {
        let mut faults = Vec::new();
        let mut take = |block: u64, index: u64| {
            let (word, bit) = ((block / 64) as usize, 1u64 << (block % 64));
            if let Some(word) = self.0.get_mut(word) {
                if *word & bit != 0 {
                    faults.push((index, format!("block {index:#x} of {path} is at {block:#x}, where another one is")));
                }
                *word |= bit;
            }
        };
        // What cannot be read of them is told with the blocks.
        let tables = match map.tables() {
            Err(e) if e.blame() == Blame::Source => Vec::new(),
            tables => tables?,
        };
        tables.iter().for_each(|table| take(table.block, 0));
        for index in 0..count {
            match map.pointer(index) {
                Ok(pointer) => take(pointer.block, index),
                Err(e) if e.blame() == Blame::Source => {}
                Err(e) => return Err(e),
            }
        }
        Ok(faults)
    }
}
