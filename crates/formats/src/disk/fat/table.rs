//! The table of clusters, and chains of them.

use super::ID;
use super::layout::{Layout, Width};
use crate::disk::claims::Claims;
use crate::disk::push_span;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::{Error, Result, Watch, watch};
use std::collections::HashMap;
use std::ops::Range;

/// Bytes of one folder: 65,536 entries.
const MOST_FOLDER: u64 = 2 << 20;
/// Bytes of the table that are read at once.
pub(super) const WINDOW: u64 = 64 << 10;
/// Such pieces that are held at once.
const MOST_WINDOWS: usize = 1024;

/// The table, the pieces of it that were asked for in memory.
pub(super) struct Table {
    pub(super) source: SourceRef,
    pub(super) layout: Layout,
    pub(super) windows: HashMap<u64, Vec<u8>>,
}

/// What is wrong with the chain of a file.
pub(super) enum Fault {
    /// Its bytes are not all there.
    Broken(String),
    /// Its bytes are there, and something more.
    Longer(String),
}

/// What follows after a cluster.
pub(super) enum Next {
    Cluster(u32),
    End,
    Wrong(u32),
}

impl Table {
    pub(super) fn new(source: SourceRef, layout: Layout) -> Self {
        Self { source, layout, windows: HashMap::new() }
    }

    /// The bytes of the table from `at` on, two or four of them.
    pub(super) fn bytes(&mut self, at: u64, len: u64) -> Result<[u8; 4]> {
        let (number, from) = (at / WINDOW, (at % WINDOW) as usize);
        if !self.windows.contains_key(&number) {
            if self.windows.len() >= MOST_WINDOWS {
                self.windows.clear();
            }
            // Entries of twelve bits may cross the edge of a window.
            let most = (WINDOW + 4).min(self.layout.table_len.saturating_sub(number * WINDOW));
            let begin = self.layout.table_at + number * WINDOW;
            self.windows.insert(number, read_vec(self.source.as_ref(), begin, most, "a FAT", WINDOW + 4)?);
        }
        let mut bytes = [0; 4];
        let there = self.windows.get(&number).and_then(|w| w.get(from..from + len as usize));
        let there = there.ok_or_else(|| Error::malformed(ID, "the table is too short for its clusters", at))?;
        bytes[..len as usize].copy_from_slice(there);
        Ok(bytes)
    }

    /// The entry of a cluster as it is stored, without what is no part of it.
    pub(super) fn entry(&mut self, cluster: u32) -> Result<u32> {
        let index = u64::from(cluster);
        Ok(match self.layout.width {
            Width::Fat12 => {
                let pair = u32::from_le_bytes(self.bytes(index * 3 / 2, 2)?);
                if index.is_multiple_of(2) { pair & 0xfff } else { pair >> 4 }
            }
            Width::Fat16 => u32::from_le_bytes(self.bytes(index * 2, 2)?),
            Width::Fat32 => u32::from_le_bytes(self.bytes(index * 4, 4)?) & 0x0fff_ffff,
        })
    }

    pub(super) fn next(&mut self, cluster: u32) -> Result<Next> {
        let end = match self.layout.width {
            Width::Fat12 => 0xff8,
            Width::Fat16 => 0xfff8,
            Width::Fat32 => 0x0fff_fff8,
        };
        let entry = self.entry(cluster)?;
        Ok(match entry {
            e if e >= end => Next::End,
            e if self.layout.place(e).is_some() => Next::Cluster(e),
            e => Next::Wrong(e),
        })
    }

    /// The stretches of a chain from `first` on that hold `len` bytes; and what is wrong with it.
    pub(super) fn chain(
        &mut self,
        first: u32,
        len: u64,
        claims: &mut Claims,
        watch: &dyn Watch,
    ) -> Result<(Vec<Range<u64>>, Option<Fault>)> {
        let (mut spans, mut left, mut cluster) = (Vec::new(), len, first);
        let mut steps = 0u32;
        while left > 0 {
            let Some(place) = self.layout.place(cluster) else {
                return Ok((
                    spans,
                    Some(Fault::Broken(format!(
                        "its chain leads to cluster {cluster}, which the volume does not have"
                    ))),
                ));
            };
            if !claims.claim(cluster.into()) {
                return Ok((
                    spans,
                    Some(Fault::Broken(format!("its chain leads to cluster {cluster}, which has an owner already"))),
                ));
            }
            let now = left.min(self.layout.cluster_len);
            push_span(&mut spans, place, now);
            left -= now;
            steps += 1;
            if left == 0 {
                return Ok((spans, self.after_end(cluster)?.map(Fault::Longer)));
            }
            if steps.is_multiple_of(65536) {
                watch::check(watch)?;
            }
            match self.next(cluster)? {
                Next::Cluster(next) => cluster = next,
                Next::End => return Ok((spans, Some(Fault::Broken(format!("its chain ends {left} bytes too early"))))),
                Next::Wrong(entry) => {
                    return Ok((
                        spans,
                        Some(Fault::Broken(format!("its chain breaks at cluster {cluster} (entry {entry:#x})"))),
                    ));
                }
            }
        }
        Ok((spans, None))
    }

    /// What is wrong with the entry of the last cluster of a file.
    fn after_end(&mut self, cluster: u32) -> Result<Option<String>> {
        Ok(match self.next(cluster)? {
            Next::End => None,
            Next::Cluster(next) => Some(format!("its chain goes on beyond its length, to cluster {next}")),
            Next::Wrong(entry) => {
                Some(format!("its last cluster, {cluster}, does not say that it is one (entry {entry:#x})"))
            }
        })
    }

    /// The bytes of a folder: its chain to the end.
    pub(super) fn folder(&mut self, first: u32, claims: &mut Claims) -> Result<(Vec<Range<u64>>, Option<String>)> {
        let (mut spans, mut cluster, mut count) = (Vec::new(), first, 0);
        loop {
            let Some(place) = self.layout.place(cluster) else {
                return Ok((spans, Some(format!("it leads to cluster {cluster}, which the volume does not have"))));
            };
            if !claims.claim(cluster.into()) {
                return Ok((spans, Some(format!("its chain leads to cluster {cluster}, which has an owner already"))));
            }
            count += 1;
            if count * self.layout.cluster_len > MOST_FOLDER {
                return Ok((spans, Some(format!("it is longer than folders can be, {MOST_FOLDER} bytes"))));
            }
            push_span(&mut spans, place, self.layout.cluster_len);
            match self.next(cluster)? {
                Next::Cluster(next) => cluster = next,
                Next::End => return Ok((spans, None)),
                Next::Wrong(entry) => {
                    return Ok((spans, Some(format!("its chain breaks at cluster {cluster} (entry {entry:#x})"))));
                }
            }
        }
    }

    /// Clusters that are taken.
    pub(super) fn count(&mut self, watch: &dyn Watch) -> Result<u32> {
        let mut taken = 0;
        for cluster in 2..self.layout.clusters.saturating_add(2) {
            if cluster % 65536 == 0 {
                watch::check(watch)?;
            }
            // Clusters that are marked as bad belong to nobody rightly.
            let bad = match self.layout.width {
                Width::Fat12 => 0xff7,
                Width::Fat16 => 0xfff7,
                Width::Fat32 => 0x0fff_fff7,
            };
            let entry = self.entry(cluster)?;
            taken += u32::from(entry != 0 && entry != bad);
        }
        Ok(taken)
    }
}
