//! Compressed files: units of clusters, each packed by itself in chunks of 4,096 bytes (LZNT1, [MS-XCA] 2.5).

use super::ID;
use crate::num::le16;
use decanter_core::source::SourceRef;
use decanter_core::view::Blocks;
use decanter_core::{Error, Result};

/// Bytes that a chunk becomes.
const CHUNK: usize = 4096;
/// Largest unit, in bytes.
pub(super) const MOST_UNIT: u64 = 1 << 20;

/// A compressed file, unit by unit.
pub(super) struct Units {
    pub(super) source: SourceRef,
    /// Clusters of the file in order: byte ranges of the volume, or holes, each with its clusters.
    pub(super) runs: Vec<(Option<u64>, u64)>,
    /// Index of the first cluster of each run.
    pub(super) starts: Vec<u64>,
    pub(super) cluster_len: u64,
    pub(super) unit_clusters: u64,
    pub(super) len: u64,
}

impl Blocks for Units {
    fn len(&self) -> u64 {
        self.len
    }

    fn count(&self) -> usize {
        self.len.div_ceil(self.unit_clusters * self.cluster_len) as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        let unit = self.unit_clusters * self.cluster_len;
        ((offset / unit) as usize, offset / unit * unit)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let unit_len = self.unit_clusters * self.cluster_len;
        let first = index as u64 * self.unit_clusters;
        let wanted = unit_len.min(self.len - index as u64 * unit_len) as usize;
        let (mut packed, mut at) = (Vec::new(), first);
        let mut run = self.starts.partition_point(|s| *s <= first).saturating_sub(1);
        while at < first + self.unit_clusters {
            let Some((place, count)) = self.runs.get(run) else { break };
            let into = at - self.starts[run];
            let now = count.saturating_sub(into).min(first + self.unit_clusters - at);
            // A hole ends what a unit takes.
            let Some(place) = place else { break };
            let from = packed.len();
            packed.resize(from + (now * self.cluster_len) as usize, 0);
            self.source.read_at((place + into) * self.cluster_len, &mut packed[from..])?;
            at += now;
            run += 1;
        }
        let mut bytes = match packed.len() as u64 {
            0 => Vec::new(),
            all if all == unit_len => packed,
            _ => unpack(&packed, unit_len as usize).ok_or_else(|| {
                Error::malformed(ID, format!("compressed unit {index} of a file is damaged"), first * self.cluster_len)
            })?,
        };
        bytes.resize(wanted, 0);
        Ok(bytes)
    }
}

/// Unpacks chunks until they end or `most` bytes are there; `None` if they are damaged.
pub(super) fn unpack(packed: &[u8], most: usize) -> Option<Vec<u8>> {
    let (mut out, mut at) = (Vec::with_capacity(most), 0);
    while at + 2 <= packed.len() && out.len() < most {
        let head = le16(packed, at);
        if head == 0 {
            break;
        }
        let len = usize::from(head & 0xfff) + 1;
        let body = packed.get(at + 2..at + 2 + len)?;
        at += 2 + len;
        if head & 0x8000 == 0 {
            out.extend(body);
        } else {
            chunk(body, &mut out)?;
        }
        // A chunk that is not the last stands for 4,096 bytes, whatever it gives.
        let end = out.len().div_ceil(CHUNK) * CHUNK;
        if at + 2 <= packed.len() && le16(packed, at) != 0 {
            out.resize(end, 0);
        }
    }
    out.truncate(most);
    Some(out)
}

/// One packed chunk: a byte of flags, then eight items, each a byte or a length and a distance.
fn chunk(body: &[u8], out: &mut Vec<u8>) -> Option<()> {
    let (start, mut at) = (out.len(), 0);
    while at < body.len() {
        let flags = body[at];
        at += 1;
        for bit in 0..8 {
            if at >= body.len() {
                break;
            }
            if flags & 1 << bit == 0 {
                out.push(body[at]);
                at += 1;
                continue;
            }
            let word = u16::from_le_bytes([body[at], *body.get(at + 1)?]);
            at += 2;
            // The further on, the more bits the distance takes of the sixteen.
            let done = out.len() - start;
            let mut distance_bits = 4;
            while done > 1 << distance_bits {
                distance_bits += 1;
            }
            let len_bits = 16 - distance_bits.min(12);
            let (distance, len) = (usize::from(word >> len_bits) + 1, usize::from(word & ((1 << len_bits) - 1)) + 3);
            if distance > done || done + len > CHUNK {
                return None;
            }
            for _ in 0..len {
                out.push(out[out.len() - distance]);
            }
        }
    }
    (out.len() - start <= CHUNK).then_some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn chunks_worked_out_by_hand() {
        // Three letters, then 18 more from three back (twelve bits of length below 16 bytes), then the end.
        let packed = [0x05, 0xb0, 0b1000, b'k', b'e', b'l', 0x0f, 0x20, 0, 0];
        assert_eq!(unpack(&packed, 4096).unwrap(), b"kelkelkelkelkelkelkel");
        assert_eq!(unpack(&[0x02, 0x30, 1, 2, 3], 4096).unwrap(), [1, 2, 3]);
        assert_eq!(unpack(&[0x02, 0xb0, 1, 0, 0], 4096), None, "a distance before the beginning");
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(packed in proptest::collection::vec(any::<u8>(), 0..300)) {
            if let Some(out) = unpack(&packed, 65536) {
                prop_assert!(out.len() <= 65536);
            }
        }
    }
}
