//! The way through all folders.

use super::chain::{Chain, Table, cut};
use super::layout::Layout;
use crate::disk::claims::Claims;
use crate::disk::faults::Faults;
use crate::num::{le16, le32, le64};
use crate::time;
use crate::walk::{Folder, Walk, Walked};
use decanter_core::Result;
use decanter_core::format::Opener;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, below};
use decanter_core::view::{Concat, Fill, Slice};
use std::ops::Range;
use std::sync::Arc;

/// Bytes of an entry.
const ENTRY: usize = 32;
/// Bytes of a folder at most, as the specification has it.
const MOST_FOLDER: u64 = 256 << 20;
/// Types of entries in use.
const MAP: u8 = 0x81;
const LABEL: u8 = 0x83;
const FILE: u8 = 0x85;
const STREAM: u8 = 0xc0;
const NAME: u8 = 0xc1;
/// Bit of a type that is in use.
const IN_USE: u8 = 0x80;
/// Bit of an entry that other entries of its set may be without.
const SECONDARY: u8 = 0x40;
const FOLDER: u16 = 0x10;
/// Flag of a stream whose clusters follow each other.
const IN_A_ROW: u8 = 2;
/// Units of a name in an entry.
const UNITS: usize = 15;

/// What was found on the way.
pub(super) struct Found {
    pub(super) walked: Walked<u32>,
    pub(super) label: String,
    /// Clusters that the map says are taken; `None` where it cannot be read.
    pub(super) taken: Option<u64>,
    /// Clusters that files and folders have.
    pub(super) owned: u64,
    pub(super) claims: Claims,
    pub(super) faults: Faults,
}

/// Where a folder is.
type Spans = Vec<Range<u64>>;

/// The way through all folders of a volume.
pub(super) struct Way<'a, 'l> {
    source: &'a SourceRef,
    layout: &'l Layout,
    table: Table<'l>,
    walk: Walk<'a, Spans, u32>,
    label: String,
    taken: Option<u64>,
    owned: u64,
    claims: Claims,
    faults: Faults,
}

impl<'a: 'l, 'l> Way<'a, 'l> {
    /// Goes through all folders.
    ///
    /// # Errors
    /// What reading fails with, where the volume is not to blame; [`decanter_core::Error::Limit`].
    pub(super) fn run(source: &'a SourceRef, layout: &'l Layout, opener: &Opener<'a>) -> Result<Found> {
        let mut own = Self {
            source,
            layout,
            table: Table::new(source, layout),
            walk: Walk::new(opener, Vec::new(), layout.root),
            label: String::new(),
            taken: None,
            owned: 0,
            claims: Claims::default(),
            faults: Faults::default(),
        };
        while let Some(mut folder) = own.walk.next()? {
            if folder.path.is_empty() {
                let chain = own.chain(layout.root, None, false)?;
                own.tell(&chain, "the root folder");
                folder.place = chain.spans;
            }
            own.folder(&folder)?;
        }
        Ok(Found {
            walked: own.walk.finish(),
            label: own.label,
            taken: own.taken,
            owned: own.owned,
            claims: own.claims,
            faults: own.faults,
        })
    }

    fn chain(&mut self, first: u32, len: Option<u64>, is_in_a_row: bool) -> Result<Chain> {
        let chain = self.table.chain(first, len, is_in_a_row, &mut self.claims, self.walk.watch())?;
        self.owned += chain.clusters;
        Ok(chain)
    }

    fn tell(&mut self, chain: &Chain, shown: &str) {
        if let Some(wrong) = &chain.wrong {
            self.walk.note(format!("{shown}: {wrong}; what was read so far is listed"));
        }
    }

    fn folder(&mut self, folder: &Folder<Spans>) -> Result<()> {
        let bytes = self.walk.list(self.source.as_ref(), folder, &folder.place)?;
        let entries = bytes.as_chunks::<ENTRY>().0;
        let mut at = 0;
        while let Some(entry) = entries.get(at) {
            at += 1;
            match entry[0] {
                0 => break,
                MAP if folder.path.is_empty() => self.map(entry)?,
                LABEL if folder.path.is_empty() => {
                    let units = usize::from(entry[1]).min(11);
                    self.label = text(&entry[2..2 + units * 2]);
                }
                FILE => {
                    let count = usize::from(entry[1]);
                    let set = entries.get(at - 1..at + count).unwrap_or(&entries[at - 1..]);
                    let is_whole = set.len() == count + 1
                        && set[1..].iter().all(|e| e[0] & (IN_USE | SECONDARY) == IN_USE | SECONDARY);
                    // A set that another one stands in is passed over entry by entry.
                    if is_whole {
                        at += count;
                    }
                    self.set(folder, set, is_whole)?;
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// The map of clusters that are taken.
    fn map(&mut self, entry: &[u8; ENTRY]) -> Result<()> {
        let (first, len) = (le32(entry, 20), le64(entry, 24));
        let wanted = u64::from(self.layout.clusters).div_ceil(8);
        let chain = self.chain(first, Some(len.min(wanted)), false)?;
        self.tell(&chain, "the map of clusters");
        if chain.wrong.is_some() || len < wanted {
            return Ok(());
        }
        let mut taken = 0;
        for span in chain.spans {
            self.walk.structure.push(span.clone());
            let mut at = span.start;
            while at < span.end {
                let here = (span.end - at).min(1 << 20);
                let read = read_vec(self.source.as_ref(), at, here, "the map of clusters", 1 << 20);
                let Some(bytes) = self.walk.keep(read, || "the map of clusters".into())? else { return Ok(()) };
                taken += bytes.iter().map(|byte| u64::from(byte.count_ones())).sum::<u64>();
                at += here;
            }
        }
        self.taken = Some(taken);
        Ok(())
    }

    /// A file or folder: its first entry and those that follow.
    fn set(&mut self, folder: &Folder<Spans>, set: &[[u8; ENTRY]], is_whole: bool) -> Result<()> {
        let first = &set[0];
        let stream = set.get(1).filter(|entry| entry[0] == STREAM);
        let (Some(stream), true) = (stream, is_whole) else {
            self.walk.note(format!("an entry of {} is cut: what it names is not listed", folder.shown()));
            return Ok(());
        };
        let units: Vec<u8> =
            set[2..].iter().filter(|e| e[0] == NAME).flat_map(|e| e[2..2 + UNITS * 2].to_vec()).collect();
        let wanted = usize::from(stream[3]) * 2;
        let name = text(units.get(..wanted).unwrap_or(&units));
        let path = below(&folder.path, if name.is_empty() { "_" } else { &name });
        if checksum(set) != le16(first, 2) {
            self.faults.note(|| format!("the entry of {path} has another checksum"));
        }
        if name.is_empty() || units.len() < wanted {
            self.faults.note(|| format!("an entry of {} has no whole name", folder.shown()));
        }
        let changed = moment(first);
        let (cluster, len, written) = (le32(stream, 20), le64(stream, 24), le64(stream, 8));
        let is_in_a_row = stream[1] & IN_A_ROW != 0;
        if le16(first, 4) & FOLDER != 0 {
            self.walk.add(Node::new(path.clone(), Kind::Folder, changed))?;
            return self.subfolder(folder, path, cluster, len, is_in_a_row);
        }
        let room = u64::from(self.layout.clusters) * self.layout.cluster_len;
        let file = if len == 0 {
            File::of(Arc::new(Bytes(Vec::new())))
        } else if len > room || written > len {
            File::broken(
                len,
                format!("its entry says {len} bytes, of which {written} were written: the volume has {room}"),
            )
        } else {
            let chain = self.chain(cluster, Some(len), is_in_a_row)?;
            match chain.wrong {
                Some(why) => File { spans: chain.spans, ..File::broken(len, why) },
                None => self.content(chain.spans, len, written)?,
            }
        };
        self.walk.add(Node::new(path, Kind::File(file), changed))
    }

    /// A file's content: what was never written reads as zeros.
    fn content(&self, spans: Vec<Range<u64>>, len: u64, written: u64) -> Result<File> {
        if written == len {
            return File::from_spans(self.source, spans);
        }
        let mut own = spans;
        cut(&mut own, written);
        let is_there = own.last().is_none_or(|span| span.end <= self.source.len());
        if !is_there {
            return File::from_spans(self.source, own);
        }
        let part = |span: &Range<u64>| -> Result<SourceRef> {
            Ok(Arc::new(Slice::new(self.source.clone(), span.start, span.end - span.start)?))
        };
        let mut parts = own.iter().map(part).collect::<Result<Vec<_>>>()?;
        parts.push(Arc::new(Fill { byte: 0, len: len - written }));
        Ok(File { spans: own, ..File::of(Arc::new(Concat::new(parts)?)) })
    }

    fn subfolder(
        &mut self,
        parent: &Folder<Spans>,
        path: String,
        cluster: u32,
        len: u64,
        is_in_a_row: bool,
    ) -> Result<()> {
        match self.walk.refuse(parent, cluster) {
            None => {
                let len = Some(len).filter(|len| is_in_a_row || *len > 0);
                let most = len.map(|len| len.min(MOST_FOLDER));
                let chain = self.chain(cluster, most, is_in_a_row)?;
                self.tell(&chain, &format!("the folder {path}"));
                self.walk.later(parent, path, chain.spans);
            }
            Some(why) => self.walk.note(format!("{path} (cluster {cluster}) {why}: not followed")),
        }
        Ok(())
    }
}

/// UTF-16 as it stands on the volume.
fn text(bytes: &[u8]) -> String {
    let units = bytes.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair));
    char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

/// The checksum of a set: all of its bytes but those of the checksum itself.
fn checksum(set: &[[u8; ENTRY]]) -> u16 {
    let bytes = set.iter().flatten().enumerate().filter(|(at, _)| !(2..4).contains(at));
    bytes.fold(0u16, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u16::from(*byte)))
}

/// When a file was changed, in seconds since 1970 in UTC where the entry says how far its clock is from that.
fn moment(entry: &[u8; ENTRY]) -> Option<i64> {
    let local = time::dos(le16(entry, 14), le16(entry, 12))?;
    let more = i64::from(entry[21].min(199) / 100);
    // Seven bits with a sign, in quarters of an hour.
    let quarters = i64::from((entry[23] << 1) as i8 >> 1);
    let offset = if entry[23] & 0x80 != 0 { quarters * 900 } else { 0 };
    Some(local + more - offset)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_have_an_offset_from_utc() {
        let mut entry = [0; ENTRY];
        // 2021-06-15 12:30:10 and 150 hundredths, two hours before UTC's clock says so.
        entry[12..14].copy_from_slice(&(12u16 << 11 | 30 << 5 | 5).to_le_bytes());
        entry[14..16].copy_from_slice(&(41u16 << 9 | 6 << 5 | 15).to_le_bytes());
        entry[21] = 150;
        let utc = 1_623_760_211;
        assert_eq!(moment(&entry), Some(utc));
        entry[23] = 0x80 | 8;
        assert_eq!(moment(&entry), Some(utc - 7200));
        entry[23] = 0x80 | (0x7f & -8i8 as u8);
        assert_eq!(moment(&entry), Some(utc + 7200));
    }
}
