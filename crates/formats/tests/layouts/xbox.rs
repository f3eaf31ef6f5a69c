//! The discs of the Xbox family: names are found as a console finds them, by going left or right.

use super::{Files, files, le16, le32, tree, written};
use decanter_core::format::Format;
use decanter_formats::optical::xdvdfs::Xdvdfs;
use proptest::prelude::*;

const SECTOR: usize = 2048;

struct Found {
    sector: usize,
    len: usize,
    is_folder: bool,
}

/// Goes down the search tree of a folder; capitals and small letters are one.
fn search(image: &[u8], (sector, len): (usize, usize), name: &str) -> Option<Found> {
    let table = &image[sector * SECTOR..sector * SECTOR + len];
    let (wanted, mut at) = (name.to_uppercase(), 0);
    loop {
        let entry = &table[at..];
        let own = String::from_utf8(entry[14..14 + usize::from(entry[13])].to_vec()).unwrap().to_uppercase();
        assert_eq!(at % 4, 0, "entries stand on fours");
        assert_eq!(at / SECTOR, (at + 13 + own.len()) / SECTOR, "no entry crosses a sector");
        let child = match wanted.cmp(&own) {
            std::cmp::Ordering::Less => le16(entry, 0),
            std::cmp::Ordering::Greater => le16(entry, 2),
            std::cmp::Ordering::Equal => {
                let is_folder = entry[12] & 0x10 != 0;
                return Some(Found { sector: le32(entry, 4), len: le32(entry, 8), is_folder });
            }
        };
        if child == 0 || child == 0xffff {
            return None;
        }
        at = child * 4;
    }
}

fn find(image: &[u8], root: (usize, usize), path: &str) -> Option<Found> {
    let mut place = root;
    let mut parts = path.split('/').peekable();
    while let Some(part) = parts.next() {
        let found = search(image, place, part)?;
        if parts.peek().is_none() {
            return Some(found);
        }
        assert!(found.is_folder, "{part} is on the way");
        place = (found.sector, found.len);
    }
    None
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn a_console_finds_every_file_and_no_other(files in files()) {
        let image = written(&Xdvdfs.compose(&tree(&files), "").unwrap());
        let head = &image[32 * SECTOR..33 * SECTOR];
        prop_assert_eq!(&head[..20], b"MICROSOFT*XBOX*MEDIA");
        prop_assert_eq!(&head[0x7ec..0x800], b"MICROSOFT*XBOX*MEDIA");
        let root = (le32(head, 0x14), le32(head, 0x18));
        for (path, content) in &files {
            let found = find(&image, root, path).unwrap_or_else(|| panic!("{path} is not found"));
            prop_assert!(!found.is_folder && found.len == content.len());
            prop_assert!(image[found.sector * SECTOR..][..found.len] == content[..], "{}", path);
            let lower = find(&image, root, &path.to_lowercase());
            prop_assert!(lower.is_some_and(|f| f.sector == found.sector));
            let wrong = format!("{path}X");
            prop_assert!(find(&image, root, &wrong).is_none());
        }
        prop_assert_eq!(image.len() % SECTOR, 0);
    }
}

#[test]
fn ten_thousand_names_are_found_in_few_steps() {
    let files: Files = (0..3000).map(|n| (format!("F{n:05}.BIN"), vec![n as u8; 3])).collect();
    let image = written(&Xdvdfs.compose(&tree(&files), "").unwrap());
    let head = &image[32 * SECTOR..33 * SECTOR];
    let root = (le32(head, 0x14), le32(head, 0x18));
    let table = &image[root.0 * SECTOR..root.0 * SECTOR + root.1];
    // The deepest way is about as long as a balanced tree of so many has it.
    let mut deepest = 0;
    let mut todo = vec![(0, 1)];
    let mut met = 0;
    while let Some((at, depth)) = todo.pop() {
        deepest = deepest.max(depth);
        met += 1;
        for child in [le16(table, at), le16(table, at + 2)] {
            if child != 0 && child != 0xffff {
                todo.push((child * 4, depth + 1));
            }
        }
    }
    assert_eq!(met, 3000);
    assert!(deepest <= 13, "{deepest} steps");
}
