//! Records, folders and maps held against each other.

use super::raw;
use super::record::{Attribute, Body, IN_USE, IS_FOLDER, NUMBER, Piece, attributes, fix};
use super::{BITMAP, Layout, ROOT, STRETCH, TABLE, Volume, kind};
use crate::disk::faults::Faults;
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::{Result, Watch, watch};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::ops::Range;
use zerocopy::FromBytes;

/// Bytes of the lists of a folder, and of a map.
const MOST_NODES: u64 = 256 << 20;
const MOST_MAP: u64 = 512 << 20;
/// The name of the attributes that a folder's list is in.
const LIST: &str = "$I30";

/// A name as a folder or a file has it: the folder's record, the file's, and the name in UTF-16.
type Name = (u64, u64, Vec<u8>);

/// Everything that was found in the records.
#[derive(Default)]
struct Found {
    /// Clusters with the record that has them.
    owners: Vec<(Range<u64>, u64)>,
    in_use: HashSet<u64>,
    sequences: HashMap<u64, u16>,
    names: BTreeSet<Name>,
    folders: BTreeMap<u64, Folder>,
    /// The pieces of the two maps: of clusters, and of records.
    clusters: Vec<Piece>,
    records: Vec<Piece>,
    records_here: Option<Vec<u8>>,
    faults: Faults,
}

/// A folder's list: what of it stands in the record, and where the rest is.
#[derive(Default)]
struct Folder {
    root: Vec<u8>,
    nodes: Vec<Piece>,
    map: Vec<Piece>,
    map_here: Vec<u8>,
}

/// Checks a volume as a whole; `table` is where its file table is.
pub(super) fn inspect(source: &SourceRef, layout: Layout, table: &[Piece], watch: &dyn Watch) -> Result<Vec<Settled>> {
    // A volume that says it is larger than its image has no clusters there.
    let layout = Layout { len: layout.len.min(source.len()), ..layout };
    let volume = Volume::new(source.clone(), layout);
    let mut found = Found::default();
    let table = volume.content(table, 0)?;
    let count = found.read(table.as_ref(), layout, watch)?;
    let mut maps = Faults::default();
    found.records_map(&volume, count, &mut maps)?;
    let owners = std::mem::take(&mut found.owners);
    clusters(&volume, owners, &found.clusters, &mut maps, watch)?;
    let mut names = Faults::default();
    folders(&volume, &found, &mut names, watch)?;
    Ok(vec![
        found.faults.settle("records of files", "files and folders are wrong or missing"),
        names.settle("folders and names", "files are missing, or under a wrong name"),
        maps.settle("maps of records and clusters", "the systems that use it would change or lose what is hit"),
    ])
}

impl Found {
    /// Reads all records; returns how many there are.
    fn read(&mut self, table: &dyn Source, layout: Layout, watch: &dyn Watch) -> Result<u64> {
        let count = table.len() / layout.record_len;
        let mut number = 0;
        while number < count {
            watch::check(watch)?;
            let here = (STRETCH / layout.record_len).max(1).min(count - number);
            let bytes =
                read_vec(table, number * layout.record_len, here * layout.record_len, "the file table", 2 * STRETCH);
            let Some(mut bytes) = self.faults.keep(bytes, || format!("record {number} and those after it"))? else {
                break;
            };
            for record in bytes.chunks_mut(layout.record_len as usize) {
                self.record(number, record, layout);
                number += 1;
            }
        }
        Ok(count)
    }

    fn record(&mut self, number: u64, record: &mut [u8], layout: Layout) {
        // What is no record is told of by the map of records, where it should be one.
        let Ok((head, _)) = raw::Record::read_from_prefix(record) else {
            self.faults.note(|| format!("record {number} is cut short"));
            return;
        };
        if &head.fixups.magic != b"FILE" || head.flags.get() & IN_USE == 0 {
            return;
        }
        self.in_use.insert(number);
        let fixed = fix(record, b"FILE", number * layout.record_len);
        if let Err(e) = fixed {
            self.faults.note(|| format!("record {number}: {e}"));
            return;
        }
        let base = head.base.get() & NUMBER;
        let own = if base == 0 { number } else { base };
        self.sequences.insert(number, head.sequence.get());
        // Records of version 3.1 know their number.
        let said = head.number.get();
        if usize::from(head.fixups.list.get()) >= size_of_val(&head) && u64::from(said) != number & 0xffff_ffff {
            self.faults.note(|| format!("record {number} says that it is record {said}"));
        }
        let (used, room) = (head.used.get() as usize, head.room.get() as usize);
        if used > room || room != record.len() {
            self.faults.note(|| format!("record {number} says that it has another length"));
        }
        let (all, is_whole) = attributes(record);
        if !is_whole {
            self.faults.note(|| format!("record {number}: its attributes are not whole"));
        }
        if base == 0 && head.flags.get() & IS_FOLDER != 0 {
            self.folders.entry(own).or_default();
        }
        for attribute in all {
            self.attribute(number, own, attribute, layout);
        }
    }

    fn attribute(&mut self, number: u64, own: u64, attribute: Attribute<'_>, layout: Layout) {
        if let Body::Elsewhere(piece) = &attribute.body {
            let clusters = layout.len / layout.cluster_len;
            for (place, count) in piece.runs.iter().filter_map(|(place, count)| Some(((*place)?, *count))) {
                match place.checked_add(count).filter(|end| *end <= clusters) {
                    Some(end) => self.owners.push((place..end, own)),
                    None => {
                        self.faults.note(|| format!("record {number}: its clusters are past the end of the volume"))
                    }
                }
            }
        }
        let is_list = attribute.name == LIST;
        match (attribute.kind, attribute.body) {
            (kind::NAME, Body::Resident(value)) => match letters(value) {
                Some((parent, name)) => {
                    self.names.insert((parent & NUMBER, own, name.to_vec()));
                }
                None => self.faults.note(|| format!("record {number} has a name that is cut short")),
            },
            (kind::NAME, _) => self.faults.note(|| format!("record {number} has a name that is not in it")),
            (kind::DATA, Body::Elsewhere(piece)) if own == BITMAP && attribute.name.is_empty() => {
                self.clusters.push(piece)
            }
            (kind::MAP, Body::Elsewhere(piece)) if own == TABLE => self.records.push(piece),
            (kind::MAP, Body::Resident(value)) if own == TABLE => self.records_here = Some(value.to_vec()),
            (kind::ROOT, Body::Resident(value)) if is_list => {
                self.folders.entry(own).or_default().root = value.to_vec();
            }
            (kind::NODES, Body::Elsewhere(piece)) if is_list => self.folders.entry(own).or_default().nodes.push(piece),
            (kind::MAP, Body::Elsewhere(piece)) if is_list => self.folders.entry(own).or_default().map.push(piece),
            (kind::MAP, Body::Resident(value)) if is_list => {
                self.folders.entry(own).or_default().map_here = value.to_vec();
            }
            _ => {}
        }
    }

    /// Whether the map of records says which of them are in use.
    fn records_map(&self, volume: &Volume, count: u64, faults: &mut Faults) -> Result<()> {
        let map = match &self.records_here {
            Some(map) => Some(map.clone()),
            None => faults.keep(whole(volume, &self.records, MOST_MAP), || "the map of records".into())?,
        };
        let Some(map) = map else { return Ok(()) };
        for number in 0..count {
            let is_set = map.get(number as usize / 8).is_some_and(|b| b >> (number % 8) & 1 != 0);
            if is_set != self.in_use.contains(&number) {
                let (said, is) = if is_set { ("in use", "is not") } else { ("free", "is in use") };
                // Records below 24 are kept for what may come, and may be marked before they are made.
                if number >= 24 || !is_set {
                    faults.note(|| format!("record {number} is {said} in its map, and {is}"));
                }
            }
        }
        Ok(())
    }
}

fn whole(volume: &Volume, pieces: &[Piece], most: u64) -> Result<Vec<u8>> {
    let content = volume.content(pieces, 0)?;
    read_vec(content.as_ref(), 0, content.len(), "a map or list", most)
}

/// Clusters have one owner, and the map of clusters says which are taken.
fn clusters(
    volume: &Volume,
    mut owners: Vec<(Range<u64>, u64)>,
    map: &[Piece],
    faults: &mut Faults,
    watch: &dyn Watch,
) -> Result<()> {
    owners.retain(|(run, _)| !run.is_empty());
    owners.sort_unstable_by_key(|(run, owner)| (run.start, run.end, *owner));
    let Some(map) = faults.keep(whole(volume, map, MOST_MAP), || "the map of clusters".into())? else { return Ok(()) };
    let is_set = |cluster: u64| map.get((cluster / 8) as usize).is_some_and(|b| b >> (cluster % 8) & 1 != 0);
    let (mut end, mut last, mut taken) = (0, 0, 0u64);
    for (index, (run, owner)) in owners.iter().enumerate() {
        if index.is_multiple_of(4096) {
            watch::check(watch)?;
        }
        if run.start < end {
            faults.note(|| format!("cluster {} belongs to record {last} and to record {owner}", run.start));
        }
        for cluster in run.start.max(end)..run.end {
            taken += 1;
            if !is_set(cluster) {
                faults.note(|| format!("cluster {cluster} is free in its map, and belongs to record {owner}"));
            }
        }
        if run.end > end {
            (end, last) = (run.end, *owner);
        }
    }
    let clusters = volume.layout.len / volume.layout.cluster_len;
    let whole = map.get(..(clusters / 8) as usize).unwrap_or(&map);
    let rest = (clusters / 8 * 8..clusters).filter(|c| is_set(*c)).count() as u64;
    let set = whole.iter().map(|b| u64::from(b.count_ones())).sum::<u64>() + rest;
    if set > taken {
        faults.note(|| format!("{} clusters are taken in the map, and belong to nothing", set - taken));
    }
    Ok(())
}

/// Every name in a folder is that of a file, and every file's name is in its folder.
fn folders(volume: &Volume, found: &Found, faults: &mut Faults, watch: &dyn Watch) -> Result<()> {
    let mut listed: BTreeSet<Name> = BTreeSet::new();
    for (number, folder) in &found.folders {
        watch::check(watch)?;
        let of = || format!("the folder of record {number}");
        let lists = faults.keep(folder.lists(volume), of)?;
        for list in lists.into_iter().flatten() {
            let Some(entries) = entries(&list) else {
                faults.note(|| format!("the list in the folder of record {number} is damaged"));
                continue;
            };
            for (reference, name) in entries {
                let child = reference & NUMBER;
                if found.sequences.get(&child) != Some(&((reference >> 48) as u16)) {
                    let name = super::record::utf16(&name);
                    faults.note(|| {
                        format!("the folder of record {number} lists {name:?}, whose record {child} is another's")
                    });
                }
                listed.insert((*number, child, name));
            }
        }
    }
    for (folder, child, name) in found.names.difference(&listed) {
        let name = super::record::utf16(name);
        let shown = if *folder == ROOT { "the root folder".into() } else { format!("the folder of record {folder}") };
        faults.note(|| format!("{name:?} (record {child}) is not listed in {shown}"));
    }
    for (folder, child, name) in listed.difference(&found.names) {
        let name = super::record::utf16(name);
        faults.note(|| format!("the folder of record {folder} lists {name:?}, which is no name of record {child}"));
    }
    Ok(())
}

impl Folder {
    /// The lists of entries of all nodes that are in use, each from its first entry on.
    fn lists(&self, volume: &Volume) -> Result<Vec<Vec<u8>>> {
        let bad = |what: &str| decanter_core::Error::Unreadable { why: format!("its list {what}") };
        let (root, _) = raw::Root::ref_from_prefix(&self.root).map_err(|_| bad("has no root"))?;
        let mut lists =
            vec![list(&self.root, std::mem::offset_of!(raw::Root, list)).ok_or_else(|| bad("has a damaged root"))?];
        if self.nodes.is_empty() {
            return Ok(lists);
        }
        let node_len = u64::from(root.node_len.get());
        if !(512..=65536).contains(&node_len) || !node_len.is_power_of_two() {
            return Err(bad("has nodes of a length that none has"));
        }
        let map = if self.map.is_empty() { self.map_here.clone() } else { whole(volume, &self.map, MOST_MAP)? };
        let nodes = whole(volume, &self.nodes, MOST_NODES)?;
        for (index, node) in nodes.chunks_exact(node_len as usize).enumerate() {
            if map.get(index / 8).is_none_or(|b| b >> (index % 8) & 1 == 0) {
                continue;
            }
            let mut node = node.to_vec();
            fix(&mut node, b"INDX", index as u64 * node_len)?;
            lists.push(list(&node, 24).ok_or_else(|| bad("has a damaged node"))?);
        }
        Ok(lists)
    }
}

/// The entries after a head at `at`: where they begin and end counts from there.
fn list(bytes: &[u8], at: usize) -> Option<Vec<u8>> {
    let (own, _) = raw::List::ref_from_prefix(bytes.get(at..)?).ok()?;
    let (from, to) = (at.checked_add(own.from.get() as usize)?, at.checked_add(own.to.get() as usize)?);
    bytes.get(from..to).map(<[u8]>::to_vec)
}

/// The folder that a name is in, and its letters.
fn letters(value: &[u8]) -> Option<(u64, &[u8])> {
    let (own, rest) = raw::Name::ref_from_prefix(value).ok()?;
    Some((own.parent.get(), rest.get(..usize::from(own.letters) * 2)?))
}

/// References and names in a list; `None` if it does not come to its end.
fn entries(list: &[u8]) -> Option<Vec<(u64, Vec<u8>)>> {
    const LAST: u16 = 2;
    let (mut found, mut at) = (Vec::new(), 0);
    loop {
        let (own, rest) = raw::Entry::ref_from_prefix(list.get(at..)?).ok()?;
        let (len, key_len) = (usize::from(own.len.get()), usize::from(own.key_len.get()));
        if at + len > list.len() || size_of_val(own) + key_len > len {
            return None;
        }
        if own.flags.get() & LAST != 0 {
            return Some(found);
        }
        let (_, name) = letters(rest.get(..key_len)?)?;
        found.push((own.file.get(), name.to_vec()));
        at += len;
    }
}
