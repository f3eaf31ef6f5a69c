//! What proves a volume: its tables up to the digest in the header, its blocks, and whether chains and states fit the files.

use super::files::{Found, Owner, Seen};
use super::place::{ENTRIES, Places};
use super::tables::{END, State, Tables};
use crate::noticed::first_of;
use crate::package::x360::header::BLOCK;
use decanter_core::Result;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::error::Blame;
use decanter_core::opened::Opened;
use decanter_core::seal::Settled;
use decanter_core::source::SourceRef;
use decanter_core::tell::count;
use decanter_core::watch::{self, Watch};
use std::sync::Arc;

const FILES: &str = "the files that it hits are damaged: copy or download the package again";
const PROVES: &str = "what it is about is proven by nothing: copy or download the package again";
const CONSOLE: &str = "a console may write over files that are there: do not add to this package with it";

/// Adds what can be proven besides the blocks of files, which are held against their digests whenever they are read.
pub(super) fn add(opened: &mut Opened, tables: &Arc<Tables>, found: &Found, source: &SourceRef, free: u64) {
    let (tables, owners, source) = (tables.clone(), found.owners.clone(), source.clone());
    opened.proof.on_reading.push(Arc::new(move |watch| inspect(&tables, &owners, &source, free, watch)));
}

/// Every table, and every entry of it.
fn inspect(
    tables: &Tables,
    owners: &[Owner],
    source: &SourceRef,
    free: u64,
    watch: &dyn Watch,
) -> Result<Vec<Settled>> {
    let (mut bad, mut other) = (Vec::new(), 0u64);
    for level in (0..=Places::top(tables.blocks)).rev() {
        for number in 0..tables.count(level) {
            watch::check(watch)?;
            let each = ENTRIES.pow(level + 1);
            let what = format!("blocks {:#x} to {:#x}", number * each, ((number + 1) * each).min(tables.blocks) - 1);
            match tables.table(level, number) {
                Ok(table) => match table.state {
                    State::Holds => {}
                    State::Other => other += 1,
                    State::Fails => {
                        let copies = if tables.places.copies == 2 { "both copies of the table" } else { "the table" };
                        bad.push((
                            number,
                            format!(
                                "{copies} of level {level} over {what} at {:#x}: not what is above it says",
                                table.at
                            ),
                        ));
                    }
                },
                Err(e) if e.blame() == Blame::Source => bad.push((number, format!("the table over {what}: {e}"))),
                Err(e) => return Err(e),
            }
        }
    }
    let mut settled =
        vec![Settled::of("tables, up to the digest in the header", &first_of(bad, "table"), PROVES).by_digests()];
    if other > 0 {
        let note = format!("{other} of them hold in the copy that does not count, which was read instead");
        settled.push(Settled::fails("copies of the tables", note, CONSOLE));
    }
    let mut owned = Seen::of(tables.blocks);
    let mut faults = Vec::new();
    for owner in owners {
        for (index, run) in owner.runs.iter().enumerate() {
            let next_run = owner.runs.get(index + 1).map(|r| r.start);
            for block in run.clone() {
                owned.insert(block);
                let entry = match tables.entry(block) {
                    Ok(entry) => entry,
                    // That table is told above.
                    Err(e) if e.blame() == Blame::Source => continue,
                    Err(e) => return Err(e),
                };
                if !entry.is_used() {
                    faults.push((block, format!("block {block:#x} of {} is marked as free", owner.path)));
                }
                let wanted = if block + 1 < run.end { Some(block + 1) } else { next_run };
                let wanted = wanted.unwrap_or(u64::from(END));
                if owner.is_consecutive && u64::from(entry.next()) != wanted {
                    let next = entry.next();
                    faults.push((
                        block,
                        format!("the chain of {} goes on from {block:#x} to {next:#x}, not to {wanted:#x}", owner.path),
                    ));
                }
            }
        }
    }
    settled.push(Settled::of("states and chains of the files' blocks", &first_of(faults, "block"), CONSOLE));
    let mut listed = Vec::new();
    for block in owners.first().into_iter().flat_map(|table| table.runs.iter().cloned().flatten()) {
        listed.extend(fault(tables, source, block)?.map(|why| (block, why)));
    }
    settled.push(Settled::of("blocks of the file table", &first_of(listed, "block"), FILES).by_digests());
    let (mut lost, mut wrong, mut unused) = (0u64, Vec::new(), 0u64);
    for block in (0..tables.blocks).filter(|b| !owned.has(*b)) {
        watch::check(watch)?;
        match tables.entry(block) {
            Ok(entry) if entry.is_used() => {
                lost += 1;
                wrong.extend(fault(tables, source, block)?.map(|why| (block, why)));
            }
            Ok(_) => unused += 1,
            Err(e) if e.blame() == Blame::Source => {}
            Err(e) => return Err(e),
        }
    }
    if lost > 0 {
        let name =
            count(lost, "block that is in use and belongs to no file", "blocks that are in use and belong to no file");
        let own = Settled::of(name, &first_of(wrong, "block"), FILES);
        settled.push(Settled { matters: None, ..own });
    }
    if unused != free {
        let note = format!("the header says {free}, the tables {unused}");
        settled.push(Settled { matters: None, ..Settled::fails("count of free blocks", note, CONSOLE) });
    }
    Ok(settled)
}

/// What is wrong with the bytes of a block, if something is.
fn fault(tables: &Tables, source: &SourceRef, block: u64) -> Result<Option<String>> {
    let mut bytes = vec![0; BLOCK as usize];
    let read = source.read_at(tables.block_at(block), &mut bytes).and_then(|()| tables.entry(block));
    Ok(match read {
        Ok(entry) if of_bytes(Algorithm::Sha1, &bytes).bytes == entry.digest => None,
        Ok(_) => Some(format!("block {block:#x} at {:#x} has another SHA-1", tables.block_at(block))),
        Err(e) if e.blame() == Blame::Source => Some(format!("block {block:#x}: {e}")),
        Err(e) => return Err(e),
    })
}
