//! Where everything of a new volume stands.

use super::layout::{Layout, Side};
use super::names::{Names, key};
use super::{record, table};
use decanter_core::SECTOR;

/// Hands out sectors.
struct Next(u64);

impl Next {
    fn take(&mut self, bytes: u64) -> u64 {
        let at = self.0;
        self.0 += bytes.div_ceil(SECTOR);
        at
    }
}

impl Layout {
    /// Gives a place to everything from sector `first` on: tables and folders of both sides, then the files. Also the
    /// sector of the first file, and the one behind the last.
    pub(super) fn place(&mut self, first: u64) -> ([Side; 2], u64, u64) {
        let mut sides = [Names::Plain, Names::Joliet].map(|names| self.side(names));
        let mut next = Next(first);
        for side in &mut sides {
            side.tables = [next.take(side.table_len), next.take(side.table_len)];
        }
        for side in &mut sides {
            for &folder in &side.order {
                side.places[folder] = next.take(side.lens[folder]);
            }
        }
        let head = next.0;
        self.sectors = self.tree.files.iter().map(|item| next.take(item.source.len())).collect();
        (sides, head, next.0)
    }

    /// One side, measured: what its folders and tables take does not depend on where they stand.
    fn side(&self, names: Names) -> Side {
        let none = vec![0; self.tree.folders.len()];
        let order = self.order(names);
        let mut side = Side { names, order, lens: none.clone(), places: none, table_len: 0, tables: [0; 2] };
        side.lens = (0..self.tree.folders.len()).map(|f| record::folder(self, &side, f).len() as u64).collect();
        side.table_len = table::bytes(self, &side, table::Order::Little).len() as u64;
        side
    }

    fn order(&self, names: Names) -> Vec<usize> {
        let mut order = vec![0];
        let mut at = 0;
        while at < order.len() {
            let mut children = self.tree.folders[order[at]].folders.clone();
            children.sort_by_cached_key(|&f| key(&self.folder_identifier(f, names), names));
            order.extend(children);
            at += 1;
        }
        order
    }
}
