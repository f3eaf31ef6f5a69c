//! The file table of a volume, and the chains of blocks of the files in it.

use super::tables::{Digests, END, State, Tables};
use crate::noticed::Noticed;
use crate::package::x360::header::BLOCK;
use crate::package::x360::raw::{FileEntry, le24};
use crate::time;
use crate::walk::Room;
use decanter_core::Result;
use decanter_core::digest::Algorithm;
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::source::SourceRef;
use decanter_core::tree::{Content, File, Kind, Node, Tree, below};
use decanter_core::view::{BlockName, Hashed};
use decanter_core::watch::{self, Watch};
use encoding_rs::WINDOWS_1252;
use std::ops::Range;
use std::sync::Arc;
use zerocopy::FromBytes;

/// Flags of an entry.
pub(super) const FOLDER: u8 = 0x80;
pub(super) const CONSECUTIVE: u8 = 0x40;
/// The parent of what stands at the top.
pub(super) const ROOT: u16 = 0xffff;
/// Folders in folders: names of 40 letters, so paths of 2.5 KiB.
const MOST_DEPTH: usize = 64;

/// What a volume holds.
pub(super) struct Found {
    pub(super) tree: Tree,
    /// The blocks of each file whose chain is whole, and those of the file table under the first name; runs in their order.
    pub(super) owners: Arc<[Owner]>,
}

/// Whose blocks they are.
pub(super) struct Owner {
    pub(super) path: String,
    pub(super) runs: Vec<Range<u64>>,
    /// Whether the entry says that they follow each other, so that their chain was not asked.
    pub(super) is_consecutive: bool,
}

/// A run of blocks that follow each other.
fn push(runs: &mut Vec<Range<u64>>, block: u64) {
    match runs.last_mut() {
        Some(last) if last.end == block => last.end += 1,
        _ => runs.push(block..block + 1),
    }
}

/// `count` blocks of a chain from `first` on; with why it ends before, if so.
fn chain(
    tables: &Tables,
    first: u64,
    count: u64,
    seen: &mut Seen,
    watch: &dyn Watch,
) -> Result<(Vec<Range<u64>>, Option<String>)> {
    let (mut runs, mut block, mut done) = (Vec::new(), first, 0);
    while done < count {
        watch::check(watch)?;
        if block == u64::from(END) {
            return Ok((runs, Some(format!("its chain ends after {done} of {count} blocks"))));
        }
        if block >= tables.blocks {
            let why = format!("block {done} of its chain is {block:#x}, the volume has {:#x}", tables.blocks);
            return Ok((runs, Some(why)));
        }
        if !seen.insert(block) {
            return Ok((runs, Some(format!("its chain comes to block {block:#x} again, or to one of another file"))));
        }
        push(&mut runs, block);
        done += 1;
        if done == count {
            break;
        }
        let entry = match tables.table(0, block / super::place::ENTRIES) {
            Ok(table) if table.state == State::Fails => {
                let why =
                    format!("the table of block {block:#x} does not hold, so nobody knows where its chain goes on");
                return Ok((runs, Some(why)));
            }
            Ok(table) => table.entry(block),
            Err(e) if e.blame() == Blame::Source => {
                return Ok((runs, Some(format!("the table of block {block:#x} cannot be read: {e}"))));
            }
            Err(e) => return Err(e),
        };
        block = entry.next().into();
    }
    Ok((runs, None))
}

/// Blocks that have an owner, a bit each.
pub(super) struct Seen(Vec<u64>);

impl Seen {
    pub(super) fn of(blocks: u64) -> Self {
        Self(vec![0; blocks.div_ceil(64) as usize])
    }

    /// False if it is there already.
    pub(super) fn insert(&mut self, block: u64) -> bool {
        let (word, bit) = ((block / 64) as usize, block % 64);
        let is_new = self.0[word] >> bit & 1 == 0;
        self.0[word] |= 1 << bit;
        is_new
    }

    pub(super) fn has(&self, block: u64) -> bool {
        self.0[(block / 64) as usize] >> (block % 64) & 1 == 1
    }
}

/// Where runs of blocks stand in the source, `len` bytes of them.
pub(super) fn spans(tables: &Tables, runs: &[Range<u64>], len: u64) -> Vec<Range<u64>> {
    let mut spans: Vec<Range<u64>> = Vec::new();
    let mut left = len;
    for run in runs {
        let mut block = run.start;
        while block < run.end && left > 0 {
            // Up to where a table stands between blocks.
            let same = (super::place::ENTRIES - block % super::place::ENTRIES).min(run.end - block);
            let (at, bytes) = (tables.block_at(block), (same * BLOCK).min(left));
            match spans.last_mut() {
                Some(last) if last.end == at => last.end += bytes,
                _ => spans.push(at..at + bytes),
            }
            left -= bytes;
            block += same;
        }
    }
    spans
}

/// The first `len` bytes of these blocks, each held against its digest when it is read.
fn file(source: &SourceRef, tables: &Arc<Tables>, runs: &[Range<u64>], len: u64, is_unchecked: bool) -> Result<File> {
    let plain = File::from_spans(source, spans(tables, runs, len))?;
    let whole = File::from_spans(source, spans(tables, runs, len.next_multiple_of(BLOCK)))?;
    let (Content::Whole(_), Content::Whole(blocks), false) = (&plain.content, &whole.content, is_unchecked || len == 0)
    else {
        return Ok(plain);
    };
    let mut before = 0;
    let counted = runs.iter().map(|run| {
        let own = (run.start, run.end - run.start, before);
        before += run.end - run.start;
        own
    });
    let counted: Arc<[(u64, u64, u64)]> = counted.collect();
    let digests: SourceRef = Arc::new(Digests { tables: tables.clone(), runs: counted.clone() });
    let own = tables.clone();
    let name: BlockName = Arc::new(move |index| {
        let run = counted.partition_point(|(_, count, before)| before + count <= index);
        let block = counted.get(run).map_or(0, |(first, _, before)| first + index - before);
        format!("block {block:#x} at {:#x}", own.block_at(block))
    });
    let hashed = Hashed::new(blocks.clone(), len, BLOCK, Algorithm::Sha1, digests, name)?;
    Ok(File { content: Content::Whole(Arc::new(hashed)), ..plain })
}

/// An entry that is in use.
struct Entry {
    raw: FileEntry,
    name: String,
}

/// Reads the file table and follows the chains.
pub(super) fn read(
    source: &SourceRef,
    tables: &Arc<Tables>,
    table: (u64, u64),
    noticed: &mut Noticed,
    opener: &Opener<'_>,
) -> Result<Found> {
    let (watch, is_unchecked) = (opener.watch(), opener.is_unchecked());
    let mut seen = Seen::of(tables.blocks);
    let (first, count) = table;
    let (runs, broken) = chain(tables, first, count, &mut seen, watch)?;
    if let Some(why) = broken {
        noticed.note(format!("the file table cannot be read to its end: {why}"));
    }
    let mut bytes = Vec::new();
    for span in spans(tables, &runs, count * BLOCK) {
        let from = bytes.len();
        bytes.resize(from + (span.end - span.start) as usize, 0);
        match source.read_at(span.start, &mut bytes[from..]) {
            Err(e) if e.blame() == Blame::Source => {
                noticed.note(format!("the file table cannot be read to its end: {e}"));
                bytes.truncate(from);
                break;
            }
            read => read?,
        }
    }
    let mut owners = vec![Owner { path: "the file table".into(), runs, is_consecutive: false }];
    let entries: Vec<Option<Entry>> = bytes
        .chunks_exact(BLOCK as usize)
        .flat_map(|block| block.chunks_exact(size_of::<FileEntry>()))
        .map(entry)
        .collect();
    let (mut tree, mut room) = (Tree::default(), Room::default());
    for (index, own) in entries.iter().enumerate() {
        watch::check(watch)?;
        let Some(own) = own else { continue };
        let modified = time::dos(own.raw.date.get(), own.raw.time.get());
        let path = match path_of(&entries, index) {
            Ok(path) => path,
            Err(why) => {
                noticed.note(format!("{}, entry {index} of the file table, {why}; it is shown at the top", own.name));
                own.name.clone()
            }
        };
        room.take(&path)?;
        if own.raw.flags & FOLDER != 0 {
            tree.nodes.push(Node::new(path, Kind::Folder, modified));
            continue;
        }
        let (len, count) = (u64::from(own.raw.len.get()), u64::from(own.raw.len.get()).div_ceil(BLOCK));
        let first = u64::from(le24(own.raw.first));
        let is_consecutive = own.raw.flags & CONSECUTIVE != 0;
        let (runs, broken) = match is_consecutive {
            _ if count == 0 => (Vec::new(), None),
            true => straight(tables, first, count, &mut seen),
            false => chain(tables, first, count, &mut seen, watch)?,
        };
        let file = match broken {
            Some(why) => {
                noticed.note(format!("{path} cannot be read as a whole: {why}"));
                File::broken(len, why)
            }
            None => {
                let file = File { len, ..file(source, tables, &runs, len, is_unchecked)? };
                owners.push(Owner { path: path.clone(), runs, is_consecutive });
                file
            }
        };
        tree.nodes.push(Node::new(path, Kind::File(file), modified));
    }
    parents_first(&mut tree);
    Ok(Found { tree, owners: owners.into() })
}

/// Blocks that follow each other.
fn straight(tables: &Tables, first: u64, count: u64, seen: &mut Seen) -> (Vec<Range<u64>>, Option<String>) {
    let end = first + count;
    if end > tables.blocks {
        let why = format!("its blocks reach to {end:#x}, the volume has {:#x}", tables.blocks);
        return (Vec::new(), Some(why));
    }
    match (first..end).find(|block| !seen.insert(*block)) {
        Some(block) => (Vec::new(), Some(format!("block {block:#x} of it is one of another file"))),
        None => (vec![first..end], None),
    }
}

fn entry(bytes: &[u8]) -> Option<Entry> {
    let (raw, _) = FileEntry::read_from_prefix(bytes).ok()?;
    let len = usize::from(raw.flags & 0x3f).min(raw.name.len());
    let name = WINDOWS_1252.decode_without_bom_handling(&raw.name[..len]).0.trim_end_matches('\0').to_owned();
    (!name.is_empty()).then_some(Entry { raw, name })
}

/// The path of an entry, by those of the folders around it.
fn path_of(entries: &[Option<Entry>], index: usize) -> std::result::Result<String, String> {
    let Some(own) = &entries[index] else { return Err("is empty".into()) };
    let (mut path, mut parent) = (own.name.clone(), own.raw.parent.get());
    for _ in 0..MOST_DEPTH {
        if parent == ROOT {
            return Ok(path);
        }
        match entries.get(usize::from(parent)) {
            Some(Some(folder)) if folder.raw.flags & FOLDER != 0 => {
                path = below(&folder.name, &path);
                parent = folder.raw.parent.get();
            }
            _ => return Err(format!("stands in entry {parent}, which is no folder")),
        }
    }
    Err("stands in a loop of folders".into())
}

/// Folders before what is in them, whatever the order of the table.
fn parents_first(tree: &mut Tree) {
    tree.nodes.sort_by_key(|n| match n.kind {
        Kind::Folder => n.path.matches('/').count(),
        _ => usize::MAX,
    });
}
