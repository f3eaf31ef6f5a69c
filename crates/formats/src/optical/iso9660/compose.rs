//! Lays a tree out as a new volume: ECMA-119 level 3 with a Joliet tree beside it.
//!
//! Order on the disc: system area, descriptors, path tables, folders of both trees, files in the order of the tree.
//! Nothing depends on the clock: the volume's date is that of its newest file.

use super::ID;
use super::raw::{
    Both16, Both32, CD001, Descriptor, FLAG_FOLDER, FLAG_MORE_EXTENTS, PRIMARY, RECORD_LEN, Record, SUPPLEMENTARY,
    TERMINATOR,
};
use crate::optical::udf;
use crate::optical::udf::compose::{Bridge, PARTITION};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Kind, Tree};
use decanter_core::view::Fill;
use decanter_core::{Error, Result, SECTOR};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use zerocopy::{FromZeros, IntoBytes};

/// The largest extent: the longest multiple of a sector that 32 bits can hold (9.1.4).
const MOST_EXTENT: u64 = 0xffff_f800;
/// Levels of folders, the root included (6.8.2.1).
const MOST_LEVELS: usize = 8;
/// Characters of a Joliet name.
const MOST_JOLIET: usize = 64;
/// Characters of an ECMA-119 file name and extension together (7.5.1), and of a folder's name (7.6.1).
const MOST_PLAIN: usize = 30;

struct Folder {
    /// Index of the parent; the root is its own.
    parent: usize,
    name: String,
    plain: String,
    modified: Option<i64>,
    date: [u8; 7],
    folders: Vec<usize>,
    files: Vec<usize>,
    level: usize,
}

struct Item {
    name: String,
    plain: String,
    modified: Option<i64>,
    date: [u8; 7],
    source: SourceRef,
    sector: u64,
}

/// Which of the two trees is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Names {
    Plain,
    Joliet,
}

/// What a new volume is besides its files.
#[derive(Debug, Clone, Default)]
pub struct Volume {
    /// Volume identifier.
    pub label: String,
    /// System identifier.
    pub system: String,
    /// What stands in the system area, the first sixteen sectors; made once the number of sectors is known.
    pub system_area: Option<fn(&str, u32) -> Vec<u8>>,
    /// Given to `system_area`.
    pub id: String,
    /// Whether a UDF volume with the same files stands beside it.
    pub udf: bool,
}

/// A blueprint of a volume with the files of `tree`, in its order. Links are left out: ECMA-119 has none.
///
/// # Errors
/// [`Error::Unsupported`] for names, folders and sizes that the volume cannot hold.
pub fn compose(tree: &Tree, volume: &Volume) -> Result<Blueprint> {
    let mut layout = Layout::of(tree)?;
    let path_len = |names| layout.path_table(names, &[]).len() as u64;
    let (plain_len, joliet_len) = (path_len(Names::Plain), path_len(Names::Joliet));
    let bridge = volume.udf.then(|| layout.bridge());
    let bridge =
        bridge.as_ref().map(|(folders, files)| Bridge { label: &volume.label, folders, files, date: newest(tree) });
    let mut next = bridge.as_ref().map_or(19, |b| PARTITION + b.blocks());
    let mut take = |bytes: u64| {
        let at = next;
        next += bytes.div_ceil(SECTOR);
        at
    };
    let tables = [take(plain_len), take(plain_len), take(joliet_len), take(joliet_len)];
    let mut place = |names| -> Vec<u64> {
        layout.orders[names as usize].iter().map(|&f| take(layout.lens[names as usize][f])).collect()
    };
    let order_places = [place(Names::Plain), place(Names::Joliet)];
    let mut file_sector = next;
    for item in &mut layout.items {
        item.sector = file_sector;
        file_sector += item.source.len().div_ceil(SECTOR);
    }
    let places = [Names::Plain, Names::Joliet].map(|names| layout.by_folder(names, &order_places[names as usize]));
    let total = file_sector + u64::from(volume.udf);
    let total = u32::try_from(total).map_err(|_| Error::unsupported(ID, "a volume of 8 TiB or more"))?;

    let mut head = vec![0; (next * SECTOR) as usize];
    let mut put = |sector: u64, bytes: &[u8]| {
        let at = (sector * SECTOR) as usize;
        head[at..at + bytes.len()].copy_from_slice(bytes);
    };
    if let Some(make) = volume.system_area {
        put(0, &make(&volume.id, total));
    }
    if volume.udf {
        // Now that the files have their places, the volume can name them.
        let (folders, files) = layout.bridge();
        let bridge = Bridge { label: &volume.label, folders: &folders, files: &files, date: newest(tree) };
        bridge.write(total.into(), &mut put);
    }
    let sizes = Sizes { total, date: newest(tree) };
    put(16, layout.descriptor(Names::Plain, volume, &sizes, plain_len, tables[0], tables[1], places[0][0]).as_bytes());
    put(
        17,
        layout.descriptor(Names::Joliet, volume, &sizes, joliet_len, tables[2], tables[3], places[1][0]).as_bytes(),
    );
    put(18, &[&[TERMINATOR][..], &CD001, &[1]].concat());
    for (names, at, little) in
        [(Names::Plain, 0, true), (Names::Plain, 1, false), (Names::Joliet, 2, true), (Names::Joliet, 3, false)]
    {
        put(tables[at], &layout.path_table_in(names, &places[names as usize], little));
    }
    for (which, names) in [Names::Plain, Names::Joliet].into_iter().enumerate() {
        for folder in 0..layout.folders.len() {
            let bytes = layout.folder_bytes(folder, names, &places[which], &layout.lens[which]);
            put(places[which][folder], &bytes);
        }
    }

    let mut blueprint = Blueprint::new();
    blueprint.source(Arc::new(Bytes(head)));
    for item in &layout.items {
        blueprint.source(item.source.clone());
        let tail = item.source.len().next_multiple_of(SECTOR) - item.source.len();
        if tail > 0 {
            blueprint.source(Arc::new(Fill { byte: 0, len: tail }));
        }
    }
    if volume.udf {
        let mut last = udf::compose::anchor(u64::from(total) - 1);
        last.resize(SECTOR as usize, 0);
        blueprint.source(Arc::new(Bytes(last)));
    }
    Ok(blueprint)
}

fn newest(tree: &Tree) -> Option<i64> {
    tree.nodes.iter().filter_map(|n| n.modified).max()
}

struct Sizes {
    total: u32,
    date: Option<i64>,
}

struct Layout {
    folders: Vec<Folder>,
    items: Vec<Item>,
    /// Folders by level, then by parent, then by name: the order of the path tables (6.9.1), of either tree.
    orders: [Vec<usize>; 2],
    /// Bytes of each folder in either tree.
    lens: [Vec<u64>; 2],
}

/// Folders that a path table can number.
const MOST_FOLDERS: usize = 65_535;

impl Layout {
    fn of(tree: &Tree) -> Result<Self> {
        let root = Folder {
            parent: 0,
            name: String::new(),
            plain: String::new(),
            modified: newest(tree),
            date: date7(newest(tree)),
            folders: Vec::new(),
            files: Vec::new(),
            level: 1,
        };
        let mut layout =
            Self { folders: vec![root], items: Vec::new(), orders: Default::default(), lens: Default::default() };
        let mut by_path: HashMap<String, usize> = HashMap::from([(String::new(), 0)]);
        for node in &tree.nodes {
            let (parent, name) = node.path.rsplit_once('/').unwrap_or(("", &node.path));
            let Some(&parent) = by_path.get(parent) else {
                return Err(Error::Usage(format!("the folder of {} is missing in the tree", node.path)));
            };
            if name.encode_utf16().count() > MOST_JOLIET {
                return Err(Error::unsupported(ID, format!("a name of more than {MOST_JOLIET} characters ({name})")));
            }
            match &node.kind {
                Kind::Folder => {
                    let level = layout.folders[parent].level + 1;
                    if level > MOST_LEVELS {
                        return Err(Error::unsupported(
                            ID,
                            format!("a folder deeper than {MOST_LEVELS} levels ({})", node.path),
                        ));
                    }
                    let index = layout.folders.len();
                    by_path.insert(node.path.clone(), index);
                    layout.folders[parent].folders.push(index);
                    layout.folders.push(Folder {
                        parent,
                        name: name.to_owned(),
                        plain: String::new(),
                        modified: node.modified,
                        date: date7(node.modified),
                        folders: Vec::new(),
                        files: Vec::new(),
                        level,
                    });
                }
                Kind::File(file) => {
                    layout.folders[parent].files.push(layout.items.len());
                    layout.items.push(Item {
                        name: name.to_owned(),
                        plain: String::new(),
                        modified: node.modified,
                        date: date7(node.modified),
                        source: file.source()?.clone(),
                        sector: 0,
                    });
                }
                Kind::Link(_) => {}
            }
        }
        if layout.folders.len() > MOST_FOLDERS {
            let what = format!("{} folders: its path table can number {MOST_FOLDERS}", layout.folders.len());
            return Err(Error::unsupported(ID, what));
        }
        layout.name_plainly();
        for names in [Names::Plain, Names::Joliet] {
            layout.orders[names as usize] = layout.order(names);
            let nowhere = vec![0; layout.folders.len()];
            let len = |f| layout.folder_bytes(f, names, &nowhere, &nowhere).len() as u64;
            layout.lens[names as usize] = (0..layout.folders.len()).map(len).collect();
        }
        Ok(layout)
    }

    /// The same folders and files for the UDF volume.
    fn bridge(&self) -> (Vec<udf::compose::Folder>, Vec<udf::compose::File>) {
        let folder = |f: &Folder| udf::compose::Folder {
            parent: f.parent,
            name: f.name.clone(),
            modified: f.modified,
            folders: f.folders.clone(),
            files: f.files.clone(),
        };
        let file = |i: &Item| udf::compose::File {
            name: i.name.clone(),
            modified: i.modified,
            len: i.source.len(),
            sector: i.sector,
        };
        (self.folders.iter().map(folder).collect(), self.items.iter().map(file).collect())
    }

    /// Gives everything its ECMA-119 name: capitals, digits and underscores, unique in its folder.
    fn name_plainly(&mut self) {
        for index in 0..self.folders.len() {
            let mut taken = HashSet::new();
            for child in self.folders[index].folders.clone() {
                self.folders[child].plain = plain_name(&self.folders[child].name, false, &mut taken);
            }
            for &file in &self.folders[index].files {
                self.items[file].plain = format!("{};1", plain_name(&self.items[file].name, true, &mut taken));
            }
        }
    }

    /// Folders by level, then by parent, then by name in one of the trees.
    fn order(&self, names: Names) -> Vec<usize> {
        let key = |f: &usize| padded(&Self::identifier(&self.folders[*f].name, &self.folders[*f].plain, names), names);
        let mut order = vec![0];
        let mut at = 0;
        while at < order.len() {
            let mut children = self.folders[order[at]].folders.clone();
            children.sort_by_cached_key(key);
            order.extend(children);
            at += 1;
        }
        order
    }

    /// Places in the order of a path table, by the number of the folder.
    fn by_folder(&self, names: Names, places: &[u64]) -> Vec<u64> {
        let mut by_folder = vec![0; places.len()];
        for (&folder, &place) in self.orders[names as usize].iter().zip(places) {
            by_folder[folder] = place;
        }
        by_folder
    }

    fn identifier(name: &str, plain: &str, names: Names) -> Vec<u8> {
        match names {
            Names::Plain => plain.as_bytes().to_vec(),
            Names::Joliet => ucs2(name),
        }
    }

    /// The extent of a folder: records sorted by identifier (9.3), none crossing the end of a sector.
    fn folder_bytes(&self, index: usize, names: Names, places: &[u64], lens: &[u64]) -> Vec<u8> {
        let folder = &self.folders[index];
        let mut records = Vec::new();
        for &child in &folder.folders {
            let f = &self.folders[child];
            let identifier = Self::identifier(&f.name, &f.plain, names);
            records.push((
                padded(&identifier, names),
                vec![record(&identifier, places[child], lens[child], f.date, FLAG_FOLDER)],
            ));
        }
        for &file in &folder.files {
            let item = &self.items[file];
            let identifier = match names {
                Names::Plain => item.plain.as_bytes().to_vec(),
                Names::Joliet => ucs2(&format!("{};1", item.name)),
            };
            records.push((padded(&identifier, names), file_records(&identifier, item)));
        }
        records.sort();
        let own = record(&[0], places[index], lens[index], folder.date, FLAG_FOLDER);
        let up =
            record(&[1], places[folder.parent], lens[folder.parent], self.folders[folder.parent].date, FLAG_FOLDER);
        let mut bytes = [own, up].concat();
        for record in records.into_iter().flat_map(|(_, r)| r) {
            let left = SECTOR as usize - bytes.len() % SECTOR as usize;
            if record.len() > left {
                bytes.resize(bytes.len() + left, 0);
            }
            bytes.extend(record);
        }
        bytes.resize(bytes.len().next_multiple_of(SECTOR as usize), 0);
        bytes
    }

    fn path_table(&self, names: Names, places: &[u64]) -> Vec<u8> {
        self.path_table_in(names, places, true)
    }

    /// A path table (9.4) in one of the two byte orders.
    fn path_table_in(&self, names: Names, places: &[u64], little: bool) -> Vec<u8> {
        let mut number = vec![0u16; self.folders.len()];
        for (position, &folder) in self.orders[names as usize].iter().enumerate() {
            number[folder] = position as u16 + 1;
        }
        let mut table = Vec::new();
        for &folder in &self.orders[names as usize] {
            let f = &self.folders[folder];
            let identifier = if folder == 0 { vec![0] } else { Self::identifier(&f.name, &f.plain, names) };
            let place = places.get(folder).map_or(0, |&p| p as u32);
            let parent = number[f.parent];
            table.extend([identifier.len() as u8, 0]);
            table.extend(if little { place.to_le_bytes() } else { place.to_be_bytes() });
            table.extend(if little { parent.to_le_bytes() } else { parent.to_be_bytes() });
            table.extend(&identifier);
            if !identifier.len().is_multiple_of(2) {
                table.push(0);
            }
        }
        table
    }

    #[allow(clippy::too_many_arguments)]
    fn descriptor(
        &self,
        names: Names,
        volume: &Volume,
        sizes: &Sizes,
        table_len: u64,
        table_le: u64,
        table_be: u64,
        root: u64,
    ) -> Box<Descriptor> {
        let mut d = Box::new(Descriptor::new_zeroed());
        d.kind = if names == Names::Plain { PRIMARY } else { SUPPLEMENTARY };
        d.identifier = CD001;
        d.version = 1;
        let fill = |field: &mut [u8], text: &str| match names {
            Names::Plain => {
                let bytes = d_characters(text, " ");
                field.fill(b' ');
                let len = bytes.len().min(field.len());
                field[..len].copy_from_slice(&bytes.as_bytes()[..len]);
            }
            Names::Joliet => {
                field.as_chunks_mut::<2>().0.fill([0, b' ']);
                let units = ucs2(text);
                let len = units.len().min(field.len() / 2 * 2);
                field[..len].copy_from_slice(&units[..len]);
            }
        };
        fill(&mut d.system, &volume.system);
        fill(&mut d.volume, &volume.label);
        for field in [&mut d.volume_set, &mut d.publisher, &mut d.preparer, &mut d.application] {
            fill(field, "");
        }
        fill(&mut d.files, "");
        if names == Names::Joliet {
            d.escapes[..3].copy_from_slice(b"%/E");
        }
        d.space_size = Both32::new(sizes.total);
        d.set_size = Both16::new(1);
        d.sequence = Both16::new(1);
        d.block_size = Both16::new(SECTOR as u16);
        d.path_table_size = Both32::new(table_len as u32);
        d.path_table_le = (table_le as u32).into();
        d.path_table_be = (table_be as u32).into();
        let own = record(&[0], root, self.lens[names as usize][0], self.folders[0].date, FLAG_FOLDER);
        d.root.as_mut_bytes().copy_from_slice(&own[..RECORD_LEN]);
        d.dates = [date17(sizes.date), date17(sizes.date), date17(None), date17(None)];
        d.structure_version = 1;
        d
    }
}

/// One record for each extent of a file.
fn file_records(identifier: &[u8], item: &Item) -> Vec<Vec<u8>> {
    let mut records = Vec::new();
    let (mut sector, mut left) = (item.sector, item.source.len());
    loop {
        let here = left.min(MOST_EXTENT);
        left -= here;
        let flags = if left > 0 { FLAG_MORE_EXTENTS } else { 0 };
        records.push(record(identifier, sector, here, item.date, flags));
        if left == 0 {
            return records;
        }
        sector += here / SECTOR;
    }
}

fn record(identifier: &[u8], sector: u64, len: u64, date: [u8; 7], flags: u8) -> Vec<u8> {
    let length = (RECORD_LEN + identifier.len()).next_multiple_of(2);
    let mut raw = Record::new_zeroed();
    raw.length = length as u8;
    raw.extent = Both32::new(sector as u32);
    raw.data_length = Both32::new(len as u32);
    raw.date = date;
    raw.flags = flags;
    raw.volume = Both16::new(1);
    raw.identifier_length = identifier.len() as u8;
    let mut bytes = raw.as_bytes().to_vec();
    bytes.extend(identifier);
    bytes.resize(length, 0);
    bytes
}

fn ucs2(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_be_bytes).collect()
}

/// Capitals, digits and underscores (7.4.1), and whatever else `allowed` names.
fn d_characters(text: &str, allowed: &str) -> String {
    let keep = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_' || allowed.contains(c);
    text.to_uppercase().chars().map(|c| if keep(c) { c } else { '_' }).collect()
}

/// A key by which identifiers are in the order of 9.3: name, then extension, then version, the shorter of two filled up
/// with spaces. In Joliet each character has two bytes.
fn padded(identifier: &[u8], names: Names) -> Vec<u8> {
    const LONGEST: usize = 221;
    let (width, space) = if names == Names::Plain { (1, &[b' '][..]) } else { (2, &[0, b' '][..]) };
    let is = |unit: &[u8], c: u8| unit.last() == Some(&c) && unit.iter().rev().skip(1).all(|b| *b == 0);
    let units: Vec<&[u8]> = identifier.chunks(width).collect();
    let version = units.iter().rposition(|u| is(u, b';')).unwrap_or(units.len());
    let dot = units[..version].iter().rposition(|u| is(u, b'.')).unwrap_or(version);
    let mut key = Vec::new();
    for part in [&units[..dot], &units[(dot + 1).min(version)..version]] {
        key.extend(part.iter().flat_map(|u| u.iter().copied()));
        (part.len()..LONGEST / width).for_each(|_| key.extend(space));
    }
    key
}

/// Signs beyond those of 7.4.1 that names of console discs have, and that everything reads which loads them.
const KEPT: &str = "-~!#$%&'()@^`{}+=,[]";

/// The names that the plain tree of an image of `tree` would have, where they are not those of the tree in capitals: each
/// with what became of it; and how many are kept with signs that ECMA-119 itself does not allow.
pub fn renamed(tree: &Tree) -> Result<(Vec<(String, String)>, usize)> {
    let layout = Layout::of(tree)?;
    let files = layout.items.iter().map(|i| (&i.name, i.plain.trim_end_matches(";1").trim_end_matches('.')));
    let folders = layout.folders[1..].iter().map(|f| (&f.name, f.plain.as_str()));
    let (mut changed, mut signs) = (Vec::new(), 0);
    for (name, plain) in files.chain(folders) {
        if name.to_uppercase().trim_end_matches('.') != plain {
            changed.push((name.clone(), plain.to_owned()));
        } else if plain.contains(|c| KEPT.contains(c)) {
            signs += 1;
        }
    }
    Ok((changed, signs))
}

/// An ECMA-119 name for `name` that is not in `taken` yet. Files have exactly one dot.
fn plain_name(name: &str, is_file: bool, taken: &mut HashSet<String>) -> String {
    let (stem, extension) = match name.rsplit_once('.') {
        Some((stem, extension)) if is_file => (stem, extension),
        _ => (name, ""),
    };
    let stem = d_characters(stem, KEPT);
    let extension: String = d_characters(extension, KEPT).chars().take(8).collect();
    for number in 0.. {
        let mark = if number == 0 { String::new() } else { format!("_{number}") };
        let room = MOST_PLAIN - extension.len() - mark.len();
        let stem: String = stem.chars().take(room).collect();
        let candidate = if is_file { format!("{stem}{mark}.{extension}") } else { format!("{stem}{mark}") };
        if taken.insert(candidate.clone()) {
            return candidate;
        }
    }
    unreachable!("some number is free")
}

/// A date of a directory record (9.1.5); zeros for "not given".
fn date7(seconds: Option<i64>) -> [u8; 7] {
    let Some(seconds) = seconds else { return [0; 7] };
    let ((year, month, day), (h, m, s)) = crate::time::date(seconds);
    [(year - 1900).clamp(0, 255) as u8, month, day, h, m, s, 0]
}

/// A date of a descriptor (8.4.26.1); zero digits for "not given".
fn date17(seconds: Option<i64>) -> [u8; 17] {
    let digits = match seconds.map(crate::time::date) {
        Some(((year, month, day), (h, m, s))) => {
            format!("{:04}{month:02}{day:02}{h:02}{m:02}{s:02}00", year.clamp(1, 9999))
        }
        None => "0".repeat(16),
    };
    let mut date = [0; 17];
    date[..16].copy_from_slice(digits.as_bytes());
    date
}
