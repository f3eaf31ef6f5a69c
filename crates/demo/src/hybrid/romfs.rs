//! A RomFS put together of files in memory, table by table from its layout.

use std::collections::{BTreeSet, HashMap};

const NONE: u32 = 0xffff_ffff;
/// Data of files begins at multiples of this.
const ALIGN: usize = 16;

/// A folder or file on the way: parent's number, own name, offset of its entry.
struct Named {
    parent: usize,
    name: String,
    at: u32,
    next: u32,
}

/// Buckets of a table of hashes for so many entries: a number without small factors.
fn buckets(entries: usize) -> usize {
    match entries {
        0..3 => 3,
        3..19 => entries | 1,
        _ => (entries..).find(|n| [2, 3, 5, 7, 11, 13, 17].iter().all(|p| n % p != 0)).unwrap_or(entries),
    }
}

/// The hash by which an entry is looked up.
fn hash(parent: u32, name: &str) -> u32 {
    name.bytes().fold(parent ^ 123_456_789, |h, b| h.rotate_right(5) ^ u32::from(b))
}

/// Puts all entries into the buckets of a table; says which entry follows in the same bucket.
fn table(entries: &[(u32, u32, &str)]) -> (Vec<u32>, Vec<u32>) {
    let mut heads = vec![NONE; buckets(entries.len())];
    let mut next = Vec::new();
    for (at, parent, name) in entries {
        let len = heads.len();
        let slot = &mut heads[hash(*parent, name) as usize % len];
        next.push(std::mem::replace(slot, *at));
    }
    (heads, next)
}

fn padded(len: usize) -> u32 {
    len.next_multiple_of(4) as u32
}

fn words(out: &mut Vec<u8>, all: &[u32]) {
    all.iter().for_each(|w| out.extend(w.to_le_bytes()));
}

/// A file system with these files, by path; folders come of themselves.
pub(crate) fn build(files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let mut sorted: Vec<&(String, Vec<u8>)> = files.iter().collect();
    sorted.sort_by(|a, b| a.0.cmp(&b.0));
    let mut paths: BTreeSet<String> = BTreeSet::from([String::new()]);
    for (path, _) in &sorted {
        let mut own = path.as_str();
        while let Some((folder, _)) = own.rsplit_once('/') {
            paths.insert(folder.to_owned());
            own = folder;
        }
    }
    let paths: Vec<String> = paths.into_iter().collect();
    let numbers: HashMap<&str, usize> = paths.iter().enumerate().map(|(n, p)| (p.as_str(), n)).collect();
    let number = |path: &str| numbers[path];
    let split = |path: &str| match path.rsplit_once('/') {
        Some((folder, name)) => (number(folder), name.to_owned()),
        None => (0, path.to_owned()),
    };
    let mut at = 0;
    let mut folders: Vec<Named> = Vec::new();
    for path in &paths {
        let (parent, name) = split(path);
        let len = 0x18 + padded(name.len());
        folders.push(Named { parent, name, at, next: NONE });
        at += len;
    }
    let folders_len = at;
    at = 0;
    let mut own: Vec<Named> = Vec::new();
    for (path, _) in &sorted {
        let (parent, name) = split(path);
        let len = 0x20 + padded(name.len());
        own.push(Named { parent, name, at, next: NONE });
        at += len;
    }
    let files_len = at;
    let parents: Vec<u32> = folders.iter().map(|f| f.at).collect();
    let keyed = |all: &[Named]| -> (Vec<u32>, Vec<u32>) {
        let entries: Vec<(u32, u32, &str)> = all.iter().map(|n| (n.at, parents[n.parent], n.name.as_str())).collect();
        table(&entries)
    };
    let (folder_heads, folder_next) = keyed(&folders);
    let (file_heads, file_next) = keyed(&own);
    folders.iter_mut().zip(folder_next).for_each(|(f, next)| f.next = next);
    own.iter_mut().zip(file_next).for_each(|(f, next)| f.next = next);
    let first = |all: &[Named], parent: usize, skip: usize| {
        all.iter().enumerate().skip(skip).find(|(_, n)| n.parent == parent).map_or(NONE, |(_, n)| n.at)
    };
    let mut folder_table = Vec::new();
    for (index, folder) in folders.iter().enumerate() {
        let next = if index == 0 { NONE } else { sibling(&folders, index) };
        let children = [first(&folders, index, 1), first(&own, index, 0)];
        words(
            &mut folder_table,
            &[parents[folder.parent], next, children[0], children[1], folder.next, folder.name.len() as u32],
        );
        folder_table.extend(folder.name.as_bytes());
        folder_table.resize(folder_table.len().next_multiple_of(4), 0);
    }
    let mut file_table = Vec::new();
    let mut data: Vec<u8> = Vec::new();
    for (index, (_, content)) in sorted.iter().enumerate() {
        data.resize(data.len().next_multiple_of(ALIGN), 0);
        words(&mut file_table, &[parents[own[index].parent], sibling(&own, index)]);
        file_table.extend((data.len() as u64).to_le_bytes());
        file_table.extend((content.len() as u64).to_le_bytes());
        words(&mut file_table, &[own[index].next, own[index].name.len() as u32]);
        file_table.extend(own[index].name.as_bytes());
        file_table.resize(file_table.len().next_multiple_of(4), 0);
        data.extend(content);
    }
    debug_assert_eq!((folder_table.len(), file_table.len()), (folders_len as usize, files_len as usize));
    let mut tables = Vec::new();
    let mut head: Vec<u64> = vec![0x50];
    let data_at = 0x200u64;
    let mut place = data_at + (data.len() as u64).next_multiple_of(4);
    let mut heads = Vec::new();
    words(&mut heads, &folder_heads);
    let mut file_hashes = Vec::new();
    words(&mut file_hashes, &file_heads);
    for part in [&heads, &folder_table, &file_hashes, &file_table] {
        head.extend([place, part.len() as u64]);
        tables.extend(part.iter().copied());
        place += part.len() as u64;
    }
    head.push(data_at);
    let mut out: Vec<u8> = head.iter().flat_map(|w| w.to_le_bytes()).collect();
    out.resize(data_at as usize, 0);
    out.extend(data);
    out.resize(out.len().next_multiple_of(4), 0);
    out.extend(tables);
    out
}

/// The next one with the same parent.
fn sibling(all: &[Named], index: usize) -> u32 {
    all.iter().skip(index + 1).find(|n| n.parent == all[index].parent).map_or(NONE, |n| n.at)
}
