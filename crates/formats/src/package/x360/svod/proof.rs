//! What proves a disc in data files: their tables, up to the digest in the header, and the blocks that no file has.

use super::place::{self, BLOCK, FILE_BLOCKS, GROUP};
use super::tables::Tables;
use crate::noticed::first_of;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::error::Blame;
use decanter_core::opened::Opened;
use decanter_core::seal::Settled;
use decanter_core::source::SourceRef;
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

const PROVES: &str = "what it is about is proven by nothing: copy or download that data file again";
const BLOCKS: &str =
    "they belong to no file, but a console checks them when it reads them: copy or download that data file again";

/// Adds what can be proven besides the files' own blocks, which are held against their digests whenever they are read.
pub(super) fn add(opened: &mut Opened, tables: &Arc<Tables>, stored: &SourceRef, shift: i64) {
    // What files take of the blocks.
    let files = opened.holds.tree.iter().flat_map(|t| t.files());
    let place = |at: u64| at.saturating_add_signed(-shift) / BLOCK;
    let mut taken: Vec<Range<u64>> = files
        .filter(|(_, f)| f.source().is_ok())
        .flat_map(|(_, f)| f.spans.iter().filter(|s| !s.is_empty()))
        .map(|s| place(s.start)..place(s.end - 1) + 1)
        .collect();
    taken.sort_by_key(|r| r.start);
    let (tables, stored) = (tables.clone(), stored.clone());
    opened.proof.on_reading.push(Arc::new(move |watch| inspect(&tables, &stored, &taken, watch)));
}

/// Every table, and every block that no file has.
fn inspect(tables: &Tables, stored: &SourceRef, taken: &[Range<u64>], watch: &dyn Watch) -> Result<Vec<Settled>> {
    let mut bad = Vec::new();
    let told = |fault: Result<()>, number: u64, bad: &mut Vec<(u64, String)>| match fault {
        Err(e) if e.blame() == Blame::Source => {
            bad.push((number, e.to_string()));
            Ok(false)
        }
        fault => fault.map(|()| true),
    };
    let mut blocks = Vec::new();
    let mut taken = taken.iter().peekable();
    let mut bytes = vec![0; BLOCK as usize];
    for file in 0..tables.files.files.len() {
        let first = file as u64 * FILE_BLOCKS;
        let count = tables.files.blocks.saturating_sub(first).min(FILE_BLOCKS);
        if !told(tables.master(file).map(|_| ()), first, &mut bad)? {
            // Nothing below it can be told.
            continue;
        }
        for group in 0..count.div_ceil(GROUP) {
            watch::check(watch)?;
            let number = first + group * GROUP;
            let table = match tables.table(file, group) {
                Ok(table) => table,
                Err(e) => {
                    told(Err(e), number, &mut bad)?;
                    continue;
                }
            };
            for block in number..(number + GROUP).min(first + count) {
                while taken.peek().is_some_and(|r| r.end <= block) {
                    taken.next();
                }
                if taken.peek().is_some_and(|r| r.start <= block) {
                    continue;
                }
                let within = (block - number) as usize * 20;
                let read = stored.read_at(block * BLOCK, &mut bytes).and_then(|()| {
                    match of_bytes(Algorithm::Sha1, &bytes).bytes == table[within..within + 20] {
                        true => Ok(()),
                        false => Err(Error::Unreadable {
                            why: format!(
                                "block {block:#x}, at {:#x} of {}, has another SHA-1",
                                place::block(block - first),
                                tables.files.files[file].name
                            ),
                        }),
                    }
                });
                told(read, block, &mut blocks)?;
            }
        }
    }
    Ok(vec![
        Settled::of("tables, up to the digest in the header", &first_of(bad, "table"), PROVES).by_digests(),
        Settled::of("blocks that no file has", &first_of(blocks, "block"), BLOCKS).by_digests(),
    ])
}
