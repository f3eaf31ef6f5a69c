//! What is written, read by the books: each writer's results are held against a small reader of its own, made from the
//! layout tables alone, for any tree of files.

mod amiga;
mod cbm;
mod chunks;
mod iso;
mod udf;
mod xbox;

use decanter_core::blueprint::Blueprint;
use decanter_core::pour::{Output, pour};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::{Door, Guard};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Files by their paths.
type Files = BTreeMap<String, Vec<u8>>;

fn bytes(len: usize, seed: u64) -> Vec<u8> {
    let mut x = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut next = || {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        x
    };
    (0..len.div_ceil(8)).flat_map(|_| next().to_le_bytes()).take(len).collect()
}

/// Any few files in any few folders, with names that every format here can hold.
fn files() -> impl Strategy<Value = Files> {
    let name = "[A-Z][A-Z0-9_]{0,7}";
    let file = (proptest::option::of(name), name, "[A-Z]{1,3}", 0usize..9000, any::<u64>());
    proptest::collection::vec(file, 1..20).prop_map(|list| {
        let mut files = Files::new();
        for (folder, stem, extension, len, seed) in list {
            let folder = folder.map(|f| format!("{f}/")).unwrap_or_default();
            files.insert(format!("{folder}{stem}.{extension}"), bytes(len, seed));
        }
        // A file and a folder cannot have one name.
        let folders: Vec<String> = files.keys().filter_map(|p| Some(p.split_once('/')?.0.to_owned())).collect();
        files.retain(|path, _| !folders.contains(path));
        files
    })
}

/// The same as a tree, folders before what is in them.
fn tree(files: &Files) -> Tree {
    let mut tree = Tree::default();
    let mut folders: Vec<&str> = files.keys().filter_map(|p| Some(p.rsplit_once('/')?.0)).collect();
    folders.dedup();
    for folder in folders {
        tree.nodes.push(Node::new(folder.to_owned(), Kind::Folder, Some(1_000_000_000)));
    }
    for (path, content) in files {
        let source: SourceRef = Arc::new(Bytes(content.clone()));
        tree.nodes.push(Node::new(path.clone(), Kind::File(File::of(source)), Some(1_000_000_000)));
    }
    tree
}

fn written(blueprint: &Blueprint) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("written");
    pour(Output::new(blueprint, &path), Door { guard: &Guard::default(), replace: false }, &()).unwrap();
    std::fs::read(path).unwrap()
}

fn le16(b: &[u8], at: usize) -> usize {
    u16::from_le_bytes([b[at], b[at + 1]]).into()
}

fn le32(b: &[u8], at: usize) -> usize {
    u32::from_le_bytes(b[at..at + 4].try_into().unwrap()) as usize
}

fn be16(b: &[u8], at: usize) -> usize {
    u16::from_be_bytes([b[at], b[at + 1]]).into()
}

fn be32(b: &[u8], at: usize) -> usize {
    u32::from_be_bytes(b[at..at + 4].try_into().unwrap()) as usize
}
