//! What tables and folders say, held against each other.

use super::layout::Layout;
use super::table::{Table, WINDOW};
use crate::disk::faults::Faults;
use decanter_core::seal::Settled;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::{Result, Watch, watch};

/// What the way through the folders has shown.
pub(super) struct Met {
    /// Files that share clusters.
    pub shared: Vec<String>,
    /// Clusters that belong to files and folders.
    pub chained: u64,
    /// What does not fit together in the entries of folders.
    pub entries: Faults,
}

/// Whether tables, chains and entries agree.
pub(super) fn inspect(source: &SourceRef, layout: &Layout, met: &Met, watch: &dyn Watch) -> Result<Vec<Settled>> {
    let mut copies = Faults::default();
    let mut table = Table::new(source.clone(), layout.clone());
    if table.entry(0)? & 0xff != u32::from(layout.medium) {
        copies.note(|| "the table does not begin with the number of its medium".into());
    }
    if layout.tables == 2 {
        let mut at = 0;
        while at < layout.used_table_len() {
            watch::check(watch)?;
            let len = WINDOW.min(layout.used_table_len() - at);
            let read = |copy: u64| {
                read_vec(source.as_ref(), layout.table_at + copy * layout.table_len + at, len, "a FAT", WINDOW)
            };
            if read(0)? != read(1)? {
                copies.note(|| format!("the two tables differ from byte {:#x} on", layout.table_at + at));
                break;
            }
            at += len;
        }
    }
    let taken = u64::from(table.count(watch)?);
    let mut lost = Faults::default();
    if taken > met.chained {
        lost.note(|| format!("{} clusters are taken, but belong to no file", taken - met.chained));
    }
    Ok(vec![
        Settled::of("chains of the files", &met.shared, "at least one of the two files is wrong"),
        met.entries.clone().settle("entries of folders", "files are missing, cut, or under a wrong name"),
        copies.settle("copies of the table", "one of them is damaged; the first is used"),
        lost.settle("allocation", "a file that was cut, deleted by halves or lost stands there, or only room is lost"),
    ])
}
