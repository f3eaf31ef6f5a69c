//! Clusters of a file: those that follow each other, or those that the table names one after the other.

use super::layout::Layout;
use crate::disk::claims::Claims;
use decanter_core::source::{SourceRef, read_array, read_vec};
use decanter_core::{Result, Watch, watch};
use std::ops::Range;

/// The end of a chain.
const END: u32 = 0xffff_ffff;
/// Entries of the table that are read at once.
const WINDOW: u64 = 1 << 14;

/// What a chain came to: its bytes in their order, and what is wrong with it.
pub(super) struct Chain {
    pub(super) spans: Vec<Range<u64>>,
    pub(super) clusters: u64,
    pub(super) wrong: Option<String>,
}

/// Reads the table, a window at a time.
pub(super) struct Table<'a> {
    source: &'a SourceRef,
    layout: &'a Layout,
    window: (u64, Vec<u8>),
}

impl<'a> Table<'a> {
    pub(super) fn new(source: &'a SourceRef, layout: &'a Layout) -> Self {
        Self { source, layout, window: (u64::MAX, Vec::new()) }
    }

    fn next(&mut self, cluster: u32) -> Result<u32> {
        let number = u64::from(cluster) / WINDOW;
        if self.window.0 != number {
            let first = number * WINDOW;
            let count = WINDOW.min(u64::from(self.layout.clusters) + 2 - first);
            let at = self.layout.table_at + first * 4;
            // Near the end of what is there, one entry has to do.
            let there = count.min(self.source.len().saturating_sub(at) / 4);
            if there == 0 {
                return Ok(u32::from_le_bytes(read_array(self.source.as_ref(), at)?));
            }
            let bytes = read_vec(self.source.as_ref(), at, there * 4, "a table of clusters", WINDOW * 4)?;
            self.window = (number, bytes);
        }
        let index = (u64::from(cluster) % WINDOW * 4) as usize;
        match self.window.1.get(index..index + 4) {
            Some(bytes) => Ok(u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])),
            None => {
                Ok(u32::from_le_bytes(read_array(self.source.as_ref(), self.layout.table_at + u64::from(cluster) * 4)?))
            }
        }
    }

    /// The clusters of `len` bytes from `first` on; without `len` all of a chain.
    ///
    /// # Errors
    /// What reading the table fails with; [`decanter_core::Error::Cancelled`].
    pub(super) fn chain(
        &mut self,
        first: u32,
        len: Option<u64>,
        is_in_a_row: bool,
        claims: &mut Claims,
        seen_by: &dyn Watch,
    ) -> Result<Chain> {
        let mut own = Chain { spans: Vec::new(), clusters: 0, wrong: None };
        let wanted = len.map(|len| len.div_ceil(self.layout.cluster_len));
        let mut cluster = first;
        while wanted.is_none_or(|wanted| own.clusters < wanted) {
            if own.clusters.is_multiple_of(4096) {
                watch::check(seen_by)?;
            }
            let Some(at) = self.layout.place(cluster) else {
                own.wrong = Some(format!("its clusters lead to {cluster:#x}, which is none"));
                break;
            };
            if !claims.claim(cluster.into()) {
                own.wrong =
                    Some(format!("cluster {cluster} belongs to something else as well, or its chain is a circle"));
                break;
            }
            own.clusters += 1;
            match own.spans.last_mut() {
                Some(last) if last.end == at => last.end += self.layout.cluster_len,
                _ => own.spans.push(at..at + self.layout.cluster_len),
            }
            cluster = match is_in_a_row {
                true => cluster.saturating_add(1),
                false => self.next(cluster)?,
            };
            if !is_in_a_row && cluster == END {
                if wanted.is_some_and(|wanted| own.clusters < wanted) {
                    own.wrong = Some("its chain of clusters ends before it does".into());
                }
                break;
            }
        }
        if let Some(len) = len {
            cut(&mut own.spans, len);
        }
        Ok(own)
    }
}

/// Cuts spans to a length.
pub(super) fn cut(spans: &mut Vec<Range<u64>>, len: u64) {
    let mut left = len;
    spans.retain_mut(|span| {
        let here = (span.end - span.start).min(left);
        span.end = span.start + here;
        left -= here;
        here > 0
    });
}
