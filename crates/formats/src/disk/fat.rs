//! FAT12, FAT16 and FAT32 with long names (the FAT specification, and ECMA-107).
//!
//! Numbers are little-endian. Layout: docs/formats/fat.md.

use super::claims::Claims;
use super::{MOST_NODES, Noticed, is_boot_sector, push_span, used};
use crate::num::{le16, le32};
use crate::time;
use decanter_core::format::{Context, Format, Opened};
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::watch;
use decanter_core::{Error, Result, Watch};
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;

const ID: &str = "fat";
/// Bytes of a directory entry.
const ENTRY: usize = 32;
/// Bytes of one folder: 65,536 entries.
const MOST_FOLDER: u64 = 2 << 20;
/// Bytes of the table that are read at once.
const WINDOW: u64 = 64 << 10;
/// Such pieces that are held at once.
const MOST_WINDOWS: usize = 1024;
/// Attributes.
const LABEL: u8 = 0x08;
const FOLDER: u8 = 0x10;
const LONG: u8 = 0x0f;

/// The format.
pub struct Fat;

/// How wide an entry of the table is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Width {
    Fat12,
    Fat16,
    Fat32,
}

/// The layout of a volume.
#[derive(Debug, Clone)]
struct Layout {
    width: Width,
    cluster_len: u64,
    /// Bytes before the first table, and of each table.
    table_at: u64,
    table_len: u64,
    tables: u64,
    /// The root folder of FAT12 and FAT16.
    root: Range<u64>,
    root_cluster: u32,
    data_at: u64,
    clusters: u32,
    len: u64,
}

impl Layout {
    /// Reads the first sector; `None` if it is none of a FAT volume.
    fn read(source: &dyn Source) -> Result<Option<Self>> {
        if !is_boot_sector(source)? {
            return Ok(None);
        }
        let b: [u8; 512] = read_array(source, 0)?;
        let sector_len = u64::from(le16(&b, 11));
        let per_cluster = u64::from(b[13]);
        let (reserved, tables, root_entries) = (u64::from(le16(&b, 14)), u64::from(b[16]), u64::from(le16(&b, 17)));
        let sectors = match le16(&b, 19) {
            0 => u64::from(le32(&b, 32)),
            small => small.into(),
        };
        let table_sectors = match le16(&b, 22) {
            0 => u64::from(le32(&b, 36)),
            small => small.into(),
        };
        let jump = (b[0] == 0xeb && b[2] == 0x90) || b[0] == 0xe9;
        let plausible = matches!(sector_len, 512 | 1024 | 2048 | 4096)
            && per_cluster.is_power_of_two()
            && reserved > 0
            && (1..=2).contains(&tables)
            && table_sectors > 0
            && sectors > 0
            && (b[21] == 0xf0 || b[21] >= 0xf8);
        if !jump || !plausible {
            return Ok(None);
        }
        let root_sectors = (root_entries * 32).div_ceil(sector_len);
        let data_sector = reserved + tables * table_sectors + root_sectors;
        let Some(data_sectors) = sectors.checked_sub(data_sector) else { return Ok(None) };
        let clusters = (data_sectors / per_cluster).min(0x0fff_fff5) as u32;
        let width = match clusters {
            0..4085 => Width::Fat12,
            4085..65525 => Width::Fat16,
            _ => Width::Fat32,
        };
        let width = if root_entries == 0 { Width::Fat32 } else { width };
        let root_at = (reserved + tables * table_sectors) * sector_len;
        Ok(Some(Self {
            width,
            cluster_len: per_cluster * sector_len,
            table_at: reserved * sector_len,
            table_len: table_sectors * sector_len,
            tables,
            root: root_at..root_at + root_entries * 32,
            root_cluster: le32(&b, 44) & 0x0fff_ffff,
            data_at: data_sector * sector_len,
            clusters,
            len: sectors * sector_len,
        }))
    }

    fn name(&self) -> &'static str {
        match self.width {
            Width::Fat12 => "FAT12",
            Width::Fat16 => "FAT16",
            Width::Fat32 => "FAT32",
        }
    }

    /// Where a cluster begins; `None` if there is no such cluster.
    fn place(&self, cluster: u32) -> Option<u64> {
        let index = cluster.checked_sub(2).filter(|i| *i < self.clusters)?;
        Some(self.data_at + u64::from(index) * self.cluster_len)
    }
}

/// The table, the pieces of it that were asked for in memory.
struct Table {
    source: SourceRef,
    layout: Layout,
    windows: HashMap<u64, Vec<u8>>,
}

/// What follows after a cluster.
enum Next {
    Cluster(u32),
    End,
    Wrong(u32),
}

impl Table {
    fn new(source: SourceRef, layout: Layout) -> Self {
        Self { source, layout, windows: HashMap::new() }
    }

    /// The bytes of the table from `at` on, two or four of them.
    fn bytes(&mut self, at: u64, len: u64) -> Result<[u8; 4]> {
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
    fn entry(&mut self, cluster: u32) -> Result<u32> {
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

    fn next(&mut self, cluster: u32) -> Result<Next> {
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
    fn chain(
        &mut self,
        first: u32,
        len: u64,
        claims: &mut Claims,
        watch: &dyn Watch,
    ) -> Result<(Vec<Range<u64>>, Option<String>)> {
        let (mut spans, mut left, mut cluster) = (Vec::new(), len, first);
        let mut steps = 0u32;
        while left > 0 {
            let Some(place) = self.layout.place(cluster) else {
                return Ok((
                    spans,
                    Some(format!("its chain leads to cluster {cluster}, which the volume does not have")),
                ));
            };
            if !claims.claim(cluster.into()) {
                return Ok((spans, Some(format!("its chain leads to cluster {cluster}, which has an owner already"))));
            }
            let now = left.min(self.layout.cluster_len);
            push_span(&mut spans, place, now);
            left -= now;
            steps += 1;
            if left == 0 {
                break;
            }
            if steps.is_multiple_of(65536) {
                watch::check(watch)?;
            }
            match self.next(cluster)? {
                Next::Cluster(next) => cluster = next,
                Next::End => return Ok((spans, Some(format!("its chain ends {left} bytes too early")))),
                Next::Wrong(entry) => {
                    return Ok((spans, Some(format!("its chain breaks at cluster {cluster} (entry {entry:#x})"))));
                }
            }
        }
        Ok((spans, None))
    }

    /// The bytes of a folder: its chain to the end.
    fn folder(&mut self, first: u32, claims: &mut Claims) -> Result<(Vec<Range<u64>>, Option<String>)> {
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

    /// Clusters that are taken, and whether all tables say the same.
    fn count(&mut self, watch: &dyn Watch) -> Result<u32> {
        let mut taken = 0;
        for cluster in 2..self.layout.clusters.saturating_add(2) {
            if cluster % 65536 == 0 {
                watch::check(watch)?;
            }
            taken += u32::from(self.entry(cluster)? != 0);
        }
        Ok(taken)
    }
}

impl Format for Fat {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "FAT file system"
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img", "ima"]
    }

    fn reads(&self) -> &'static str {
        "FAT12, FAT16, FAT32; long names"
    }

    fn is_image(&self) -> bool {
        true
    }

    fn score(&self, source: &dyn Source) -> Result<Option<u8>> {
        Ok(Layout::read(source)?.map(|_| 82))
    }

    fn open(&self, source: SourceRef, context: &Context<'_>) -> Result<Opened> {
        let Some(layout) = Layout::read(source.as_ref())? else {
            return Err(Error::malformed(ID, "the first sector is none of a FAT volume", 11));
        };
        let mut opened = Opened::new(ID, format!("{} file system", layout.name()));
        opened.promised_len = Some(layout.len);
        let mut table = Table::new(source.clone(), layout.clone());
        let walked = Walk::new(&source, &mut table).run(context)?;
        opened.fact("label", walked.label.unwrap_or_default());
        opened.fact("clusters", format!("{} of {} bytes", layout.clusters, layout.cluster_len));
        if let Ok(taken) = Table::new(source.clone(), layout.clone()).count(context.watch) {
            let bytes = u64::from(taken) * layout.cluster_len;
            opened.fact("used", used(bytes, u64::from(layout.clusters) * layout.cluster_len));
        }
        opened.structure.push(0..layout.data_at);
        opened.structure.extend(walked.structure);
        opened.notices.extend(walked.noticed.into());
        let mut tree = walked.tree;
        let shared = walked.claims.mark(&mut tree, |cluster| layout.place(u32::try_from(cluster).ok()?));
        let chains = walked.clusters;
        opened.inspect = Some(Arc::new(move |watch| inspect(&source, &layout, &shared, chains, watch)));
        opened.tree = Some(tree);
        Ok(opened)
    }
}

/// Whether tables and chains agree.
fn inspect(
    source: &SourceRef,
    layout: &Layout,
    shared: &[String],
    chained: u64,
    watch: &dyn Watch,
) -> Result<Vec<Settled>> {
    let mut copies = Vec::new();
    if layout.tables == 2 {
        let mut at = 0;
        while at < layout.table_len {
            watch::check(watch)?;
            let len = WINDOW.min(layout.table_len - at);
            let read = |copy: u64| {
                read_vec(source.as_ref(), layout.table_at + copy * layout.table_len + at, len, "a FAT", WINDOW)
            };
            if read(0)? != read(1)? {
                copies.push(format!("the two tables differ from byte {:#x} on", layout.table_at + at));
                break;
            }
            at += len;
        }
    }
    let taken = u64::from(Table::new(source.clone(), layout.clone()).count(watch)?);
    let lost = taken.saturating_sub(chained);
    let lost = if lost > 0 { vec![format!("{lost} clusters are taken, but belong to no file")] } else { Vec::new() };
    Ok(vec![
        Settled::of("chains of the files", shared, "at least one of the two files is wrong"),
        Settled::of("copies of the table", &copies, "one of them is damaged; the first is used"),
        Settled { matters: None, ..Settled::of("allocation", &lost, "") },
    ])
}

/// The way through all folders.
struct Walk<'a> {
    source: &'a SourceRef,
    table: &'a mut Table,
    tree: Tree,
    structure: Vec<Range<u64>>,
    noticed: Noticed,
    label: Option<String>,
    clusters: u64,
    claims: Claims,
    seen: HashSet<u32>,
}

/// A folder still to be read.
struct Todo {
    path: String,
    spans: Vec<Range<u64>>,
}

impl<'a> Walk<'a> {
    fn new(source: &'a SourceRef, table: &'a mut Table) -> Self {
        Self {
            source,
            table,
            tree: Tree::default(),
            structure: Vec::new(),
            noticed: Noticed::default(),
            label: None,
            clusters: 0,
            claims: Claims::default(),
            seen: HashSet::new(),
        }
    }

    fn run(mut self, context: &Context<'_>) -> Result<Self> {
        let root = match self.table.layout.width {
            Width::Fat32 => {
                let cluster = self.table.layout.root_cluster;
                self.seen.insert(cluster);
                let (spans, wrong) = self.table.folder(cluster, &mut self.claims)?;
                if let Some(wrong) = wrong {
                    self.noticed.note(format!("the root folder: {wrong}"));
                }
                self.clusters += spans.iter().map(|s| s.end - s.start).sum::<u64>() / self.table.layout.cluster_len;
                spans
            }
            _ => vec![self.table.layout.root.clone()],
        };
        let mut todo = vec![Todo { path: String::new(), spans: root }];
        while let Some(folder) = todo.pop() {
            watch::check(context.watch)?;
            self.folder(&folder, &mut todo, context.watch)?;
        }
        Ok(self)
    }

    fn folder(&mut self, folder: &Todo, todo: &mut Vec<Todo>, watch: &dyn Watch) -> Result<()> {
        let mut bytes = Vec::new();
        for span in &folder.spans {
            match read_vec(self.source.as_ref(), span.start, span.end - span.start, "a folder", MOST_FOLDER) {
                Ok(more) => bytes.extend(more),
                Err(e) if e.blame() == decanter_core::error::Blame::Source => {
                    let shown = if folder.path.is_empty() { "the root folder" } else { &folder.path };
                    self.noticed.note(format!("{shown} lies past the end of the image ({:#x})", span.start));
                    break;
                }
                Err(e) => return Err(e),
            }
        }
        self.structure.extend(folder.spans.iter().cloned());
        let mut long = LongName::default();
        for entry in bytes.as_chunks::<ENTRY>().0 {
            match (entry[0], entry[11]) {
                (0, _) => break,
                (0xe5, _) => long = LongName::default(),
                (_, attributes) if attributes & 0x3f == LONG => long.add(entry),
                (_, attributes) if attributes & LABEL != 0 => {
                    if folder.path.is_empty() && self.label.is_none() {
                        self.label = Some(oem(&entry[..11]).trim_end().to_owned());
                    }
                    long = LongName::default();
                }
                (b'.', FOLDER..) => long = LongName::default(),
                _ => {
                    let own = std::mem::take(&mut long);
                    let has_long = !own.units.is_empty() || own.is_broken;
                    let name = own.take(entry).unwrap_or_else(|| {
                        let short = short_name(entry);
                        if has_long {
                            let told =
                                if folder.path.is_empty() { short.clone() } else { format!("{}/{short}", folder.path) };
                            self.noticed
                                .note(format!("the long name of {told} is damaged: its pieces do not belong to it"));
                        }
                        short
                    });
                    self.entry(&folder.path, &name, entry, todo, watch)?;
                }
            }
        }
        Ok(())
    }

    fn entry(
        &mut self,
        parent: &str,
        name: &str,
        entry: &[u8; ENTRY],
        todo: &mut Vec<Todo>,
        watch: &dyn Watch,
    ) -> Result<()> {
        if self.tree.nodes.len() >= MOST_NODES {
            let limit = MOST_NODES as u64;
            return Err(Error::Limit { what: "files on a volume", asked: limit + 1, limit });
        }
        let path = if parent.is_empty() { name.to_owned() } else { format!("{parent}/{name}") };
        let cluster = match self.table.layout.width {
            Width::Fat32 => u32::from(le16(entry, 26)) | u32::from(le16(entry, 20)) << 16,
            _ => le16(entry, 26).into(),
        };
        let modified = moment(le16(entry, 24), le16(entry, 22));
        let of = |spans: &[Range<u64>], len: u64| spans.iter().map(|s| (s.end - s.start).div_ceil(len)).sum::<u64>();
        if entry[11] & FOLDER != 0 {
            self.tree.nodes.push(Node::new(path.clone(), Kind::Folder, modified));
            if !self.seen.insert(cluster) {
                self.noticed.note(format!("{path} is the same as another folder (cluster {cluster}): not followed"));
                return Ok(());
            }
            let (spans, wrong) = self.table.folder(cluster, &mut self.claims)?;
            if let Some(wrong) = wrong {
                self.noticed.note(format!("the folder {path}: {wrong}; what was read so far is listed"));
            }
            self.clusters += of(&spans, self.table.layout.cluster_len);
            todo.push(Todo { path, spans });
            return Ok(());
        }
        let len = u64::from(le32(entry, 28));
        let (spans, wrong) = self.table.chain(cluster, len, &mut self.claims, watch)?;
        self.clusters += of(&spans, self.table.layout.cluster_len);
        let file = match wrong {
            Some(why) => File { spans, ..File::broken(len, why) },
            None if spans.is_empty() => File::of(Arc::new(decanter_core::source::Bytes(Vec::new()))),
            None => File::from_spans(self.source, spans)?,
        };
        self.tree.nodes.push(Node::new(path, Kind::File(file), modified));
        Ok(())
    }
}

/// A long name on the way: its pieces come last first.
#[derive(Default)]
struct LongName {
    units: Vec<u16>,
    wanted: u8,
    check: u8,
    /// Whether pieces were met that do not fit together.
    is_broken: bool,
}

impl LongName {
    fn add(&mut self, entry: &[u8; ENTRY]) {
        let number = entry[0] & 0x3f;
        if entry[0] & 0x40 != 0 {
            *self = Self { units: Vec::new(), wanted: number, check: entry[13], is_broken: false };
        }
        if number == 0 || number != self.wanted || entry[13] != self.check {
            *self = Self { is_broken: true, ..Self::default() };
            return;
        }
        let places = [1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30];
        let mut piece: Vec<u16> = places.iter().map(|at| le16(entry, *at)).collect();
        piece.append(&mut self.units);
        self.units = piece;
        self.wanted -= 1;
    }

    /// The name, if it is complete and belongs to this short entry.
    fn take(self, entry: &[u8; ENTRY]) -> Option<String> {
        let sum = entry[..11].iter().fold(0u8, |sum, b| sum.rotate_right(1).wrapping_add(*b));
        let end = self.units.iter().position(|u| *u == 0).unwrap_or(self.units.len());
        let name = String::from_utf16_lossy(&self.units[..end]).replace('/', "_");
        (self.wanted == 0 && sum == self.check && !name.is_empty() && !self.is_broken).then_some(name)
    }
}

/// A name of eight and three characters, in the case that the entry asks for.
fn short_name(entry: &[u8; ENTRY]) -> String {
    let mut own = *entry;
    if own[0] == 0x05 {
        own[0] = 0xe5;
    }
    let part = |bytes: &[u8], is_lower: bool| {
        let text = oem(bytes).trim_end().replace('/', "_");
        if is_lower { text.to_lowercase() } else { text }
    };
    let (stem, extension) = (part(&own[..8], own[12] & 0x08 != 0), part(&own[8..11], own[12] & 0x10 != 0));
    if extension.is_empty() { stem } else { format!("{stem}.{extension}") }
}

/// Text in code page 437, which short names are in unless the machine was told otherwise.
fn oem(bytes: &[u8]) -> String {
    const UPPER: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u{a0}";
    let upper = |b: u8| UPPER.chars().nth(usize::from(b - 0x80)).unwrap_or('\u{fffd}');
    bytes.iter().map(|&b| if b < 0x80 { char::from(b) } else { upper(b) }).collect()
}

/// A date and a time as DOS stores them: a local time of an unknown place, read as UTC.
pub(crate) fn moment(date: u16, clock: u16) -> Option<i64> {
    let (year, month, day) = (1980 + i64::from(date >> 9), (date >> 5 & 15) as u8, (date & 31) as u8);
    let (hour, minute, second) = ((clock >> 11) as u8, (clock >> 5 & 63) as u8, (clock & 31) as u8 * 2);
    let is_one = (1..=12).contains(&month) && day > 0 && hour < 24 && minute < 60 && second < 60;
    is_one.then(|| time::seconds((year, month, day), (hour, minute, second)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_eight_and_three() {
        let mut entry = [0; 32];
        entry[..11].copy_from_slice(b"FOGBELL EXE");
        assert_eq!(short_name(&entry), "FOGBELL.EXE");
        entry[12] = 0x18;
        assert_eq!(short_name(&entry), "fogbell.exe");
        entry[..11].copy_from_slice(b"\x05PIER      ");
        assert_eq!(short_name(&entry), "σpier");
        assert_eq!(oem(&[0x81, 0xe1, 0xff]), "üß\u{a0}");
    }

    #[test]
    fn a_long_name_needs_all_its_pieces_and_its_checksum() {
        let mut short = [0; 32];
        short[..11].copy_from_slice(b"BRINEA~1TXT");
        let sum = short[..11].iter().fold(0u8, |sum, b| sum.rotate_right(1).wrapping_add(*b));
        let mut units: Vec<u16> = "Brine and Bramble.txt".encode_utf16().collect();
        units.push(0);
        units.resize(26, 0xffff);
        let piece = |number: u8, units: &[u16]| {
            let mut entry = [0; 32];
            (entry[0], entry[11], entry[13]) = (number, LONG, sum);
            for (at, unit) in [1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30].into_iter().zip(units) {
                entry[at..at + 2].copy_from_slice(&unit.to_le_bytes());
            }
            entry
        };
        let (last, first) = (piece(0x42, &units[13..]), piece(1, &units[..13]));
        let mut name = LongName::default();
        name.add(&last);
        name.add(&first);
        assert_eq!(name.take(&short).as_deref(), Some("Brine and Bramble.txt"));
        let mut name = LongName::default();
        name.add(&last);
        assert_eq!(name.take(&short), None);
    }

    /// A FAT12 volume of one table, clusters of a sector, and files of the root: name, first cluster, length.
    fn volume(chains: &[(u32, u32)], files: &[(&[u8; 8], u16, u32)]) -> SourceRef {
        let mut b = vec![0; 512 * 40];
        b[..3].copy_from_slice(&[0xeb, 0x3c, 0x90]);
        // 512 bytes a sector, one sector a cluster, one reserved, one table, 16 entries in the root, 40 sectors, F8h.
        b[11..22].copy_from_slice(&[0, 2, 1, 1, 0, 1, 16, 0, 40, 0, 0xf8]);
        b[22] = 1;
        b[510..512].copy_from_slice(&[0x55, 0xaa]);
        for (cluster, next) in chains {
            let at = 512 + *cluster as usize * 3 / 2;
            let shift = if cluster % 2 == 0 { 0 } else { 4 };
            let pair = u16::from_le_bytes([b[at], b[at + 1]]) | (*next as u16) << shift;
            b[at..at + 2].copy_from_slice(&pair.to_le_bytes());
        }
        for (index, (name, first, len)) in files.iter().enumerate() {
            let entry = &mut b[1024 + index * ENTRY..][..ENTRY];
            entry[..8].copy_from_slice(*name);
            entry[8..11].fill(b' ');
            entry[26..28].copy_from_slice(&first.to_le_bytes());
            entry[28..].copy_from_slice(&len.to_le_bytes());
        }
        Arc::new(decanter_core::source::Bytes(b))
    }

    #[test]
    fn what_shares_clusters_or_goes_in_circles_is_broken() {
        let chains = [(2, 3), (3, 0xfff), (4, 3), (5, 6), (6, 5), (7, 0xfff), (8, 9), (9, 0xff7)];
        let files = [
            (b"FIRST   ", 2, 1024),
            (b"SECOND  ", 4, 1024),
            (b"CIRCLE  ", 5, 9 * 512),
            (b"GOOD    ", 7, 500),
            (b"BROKEN  ", 8, 3 * 512),
        ];
        let context = Context {
            registry: &crate::REGISTRY,
            keys: &decanter_core::Keyring::default(),
            names: &[],
            watch: &(),
            depth: 0,
            beside: &(),
        };
        let opened = Fat.open(volume(&chains, &files), &context).unwrap();
        let tree = opened.tree.unwrap();
        let good: Vec<&str> = tree.files().filter(|(_, f)| f.source().is_ok()).map(|(n, _)| n.path.as_str()).collect();
        assert_eq!(good, ["GOOD"]);
        let found = opened.inspect.unwrap()(&()).unwrap();
        assert!(found.iter().any(|s| !s.holds && s.matters.is_some()), "a check tells it too");
    }
}
