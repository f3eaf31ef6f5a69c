//! STFS: files in blocks of 4 KiB, with tables of their digests between them. Layout: docs/formats/stfs.md.

mod compose;
mod files;
pub mod place;
mod proof;
mod tables;

pub use compose::{compose, rebuild};

use super::header::{BLOCK, Header};
use super::raw::{StfsVolume, le24};
use crate::noticed::Noticed;
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::SourceRef;
use decanter_core::tree::{Content, Tree};
use decanter_core::{Error, Result};
use place::{MOST_BLOCKS, Places};
use std::sync::Arc;
use tables::Tables;
use zerocopy::FromBytes;

/// Blocks of a file table: what stands behind them is out of reach of the numbers that entries have for each other.
const MOST_TABLE: u64 = 1024;
/// Flags of the descriptor.
const ONE_COPY: u8 = 1;
const TOP_IS_SECOND: u8 = 2;

/// Opens the volume of a package: its files, and what proves them.
///
/// # Errors
/// [`Error::Malformed`] for a descriptor that cannot be right, and what reading fails with.
pub(super) fn open(opened: &mut Opened, header: &Header, source: &SourceRef, opener: &Opener<'_>) -> Result<()> {
    let malformed = |what: String, at: u64| Error::malformed(super::ID, what, at);
    let (volume, _) = StfsVolume::read_from_prefix(&header.head.volume)
        .map_err(|_| malformed("no volume descriptor".into(), 0x379))?;
    let blocks = u64::from(volume.blocks.get());
    if blocks > MOST_BLOCKS {
        return Err(malformed(format!("a volume of {blocks} blocks"), 0x395));
    }
    let table = (u64::from(le24(volume.table_first)), u64::from(volume.table_blocks.get()));
    if table.1 > blocks {
        return Err(malformed(format!("a file table of {} blocks in a volume of {blocks}", table.1), 0x37c));
    }
    if table.1 > MOST_TABLE {
        return Err(Error::Limit { what: "the file table of a volume", asked: table.1, limit: MOST_TABLE });
    }
    let places = Places { copies: if volume.flags & ONE_COPY != 0 { 1 } else { 2 } };
    let top = (volume.top_digest, volume.flags & TOP_IS_SECOND != 0);
    let tables = Arc::new(Tables::new(source.clone(), header.end(), places, blocks, top));
    let mut noticed = Noticed::default();
    let found = files::read(source, &tables, table, &mut noticed, opener)?;
    opened.fact("blocks", format!("{blocks}, {} free", volume.free.get()));
    let levels = Places::top(blocks) + 1;
    opened.fact(
        "tables",
        format!(
            "{levels} {}, {}",
            if levels == 1 { "level" } else { "levels" },
            match places.copies {
                1 => "each once",
                _ => "each twice",
            }
        ),
    );
    opened.extent.unit = Some(BLOCK);
    opened.extent.promised_len = Some(match blocks {
        0 => header.end(),
        _ => header.end() + last_of(&tables, &found) * BLOCK,
    });
    opened.told.notices.extend(noticed.into_notices());
    proof::add(opened, &tables, &found, source, u64::from(volume.free.get()));
    program(opened, &found.tree, opener)?;
    opened.holds.tree = Some(found.tree);
    Ok(())
}

/// What a console, or an emulator, starts; and what that says besides the header.
fn program(opened: &mut Opened, tree: &Tree, opener: &Opener<'_>) -> Result<()> {
    let is_program = |name: &str| name.to_ascii_lowercase().ends_with(".xex");
    let found = tree.find("default.xex").or_else(|| tree.files().map(|(n, _)| n).find(|n| is_program(n.name())));
    let Some((path, Content::Whole(source))) = found.and_then(|n| Some((&n.path, &n.file()?.content))) else {
        return Ok(());
    };
    opened.fact("starts", path.clone());
    match opener.inside()?.open(source.clone()) {
        Ok(inner) => {
            let new = inner.told.facts.into_iter().filter(|f| opened.get(f.name).is_none()).collect::<Vec<_>>();
            opened.told.facts.extend(new);
        }
        Err(e) if e.blame() == Blame::Source => opened.damage(format!("{path} cannot be used: {e}")),
        Err(e) => return Err(e),
    }
    Ok(())
}

/// Where the last block ends that belongs to something: free ones at the end need not be there.
fn last_of(tables: &Tables, found: &files::Found) -> u64 {
    let ends = found.owners.iter().flat_map(|o| &o.runs).map(|run| run.end).filter(|end| *end > 0);
    ends.map(|end| tables.places.block(end - 1) + 1).max().unwrap_or(0)
}
