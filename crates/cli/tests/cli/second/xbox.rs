//! Partitions of the Xbox family: folders as trees in the order of their names.

use super::{Files, files, little, put, short};
use crate::support::{folder, run};

pub(super) const SECTOR: usize = 2048;
pub(super) const MAGIC: &[u8] = b"MICROSOFT*XBOX*MEDIA";

/// Goes through the tree of a folder in order; `at` counts four bytes each.
fn walk(image: &[u8], table: &[u8], at: usize, path: &str, names: &mut Vec<String>, found: &mut Files) {
    let entry = &table[at * 4..];
    let (left, right) = (usize::from(short(entry, 0)), usize::from(short(entry, 2)));
    let (sector, len) = (little(entry, 4) as usize, little(entry, 8) as usize);
    let name = String::from_utf8(entry[14..14 + usize::from(entry[13])].to_vec()).unwrap();
    let end = at * 4 + 14 + name.len();
    assert_eq!(at * 4 / SECTOR, (end - 1) / SECTOR, "{name} lies in two sectors");
    if left != 0 {
        walk(image, table, left, path, names, found);
    }
    names.push(name.to_uppercase());
    let content = &image[sector * SECTOR..][..len];
    let path_of = format!("{path}{name}");
    match entry[12] & 0x10 {
        0 => drop(found.insert(path_of, content.to_vec())),
        _ => folder_of(image, content, &format!("{path_of}/"), found),
    }
    if right != 0 {
        walk(image, table, right, path, names, found);
    }
}

fn folder_of(image: &[u8], table: &[u8], path: &str, found: &mut Files) {
    if table.is_empty() {
        return;
    }
    let mut names = Vec::new();
    walk(image, table, 0, path, &mut names, found);
    assert!(names.is_sorted_by(|a, b| a < b), "{path}: {names:?}");
}

/// The files of a partition, from its descriptor on.
pub(super) fn of_partition(image: &[u8]) -> Files {
    let head = &image[32 * SECTOR..33 * SECTOR];
    assert!(head.starts_with(MAGIC) && head.ends_with(MAGIC));
    let (sector, len) = (little(head, 20) as usize, little(head, 24) as usize);
    let mut found = Files::new();
    folder_of(image, &image[sector * SECTOR..][..len], "", &mut found);
    found
}

#[test]
fn partitions_hold_what_was_put_into_them() {
    let folder = folder();
    let mut all = vec![
        ("default.xbe", 5000),
        ("media/empty", 0),
        ("media/one", 1),
        ("media/sector", 2048),
        ("media/more", 2049),
        ("media/levels/deep/tide.bin", 100_000),
        ("UPPER.BIN", 3),
        ("under_score", 4),
        ("zed", 5),
    ];
    let names: Vec<String> = (0..200).map(|number| format!("many/an entry with a name, number {number}")).collect();
    all.extend(names.iter().map(|name| (name.as_str(), 9)));
    let wanted = files(&all);
    put(&folder.path().join("src"), &wanted);
    run(folder.path(), &["convert", "src", "--to", "xdvdfs", "-o", "game.iso"]).expect(0);
    let image = std::fs::read(folder.path().join("game.iso")).unwrap();
    let found = of_partition(&image);
    assert!(found == wanted, "{:?}", found.keys());
}
