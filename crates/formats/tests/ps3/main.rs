//! The PlayStation 3 generation: packages, NPD-wrapped files and encrypted PS2 images, from bytes that were worked out
//! outside of this project's code, and back.

mod classics;
mod npd;
mod package;

use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::seal::Settled;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::{Key, Keyring, Result};
use decanter_formats::REGISTRY;
use std::sync::Arc;

/// A made-up key: sixteen numbers that follow each other.
fn key(first: u8) -> Key {
    Key::new((first..first + 16).collect())
}

/// A keyring of made-up keys, by names and first bytes.
fn ring(entries: &[(&str, u8)]) -> Keyring {
    let mut ring = Keyring::default();
    entries.iter().for_each(|(name, first)| ring.add(*name, key(*first), "a list"));
    ring
}

fn source(bytes: &[u8]) -> SourceRef {
    Arc::new(Bytes(bytes.to_vec()))
}

fn open(bytes: &[u8], ring: &Keyring) -> Result<Opened> {
    let names = ["Moth Parade".to_owned()];
    Opener::new(&REGISTRY, ring).with_names(&names).open(source(bytes))
}

fn bytes_of(source: &SourceRef) -> Result<Vec<u8>> {
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes)?;
    Ok(bytes)
}

/// Hexadecimal digits on several lines.
fn unhex(text: &str) -> Vec<u8> {
    let digits: Vec<u8> = text.chars().filter_map(|c| c.to_digit(16)).map(|d| d as u8).collect();
    digits.chunks(2).map(|pair| pair[0] << 4 | pair[1]).collect()
}

/// A tree of files, and folders, which have no bytes.
fn tree(nodes: &[(&str, Option<&[u8]>)]) -> Tree {
    let node = |(path, bytes): &(&str, Option<&[u8]>)| {
        let kind = bytes.map_or(Kind::Folder, |b| Kind::File(File::of(source(b))));
        Node::new((*path).to_owned(), kind, None)
    };
    Tree { nodes: nodes.iter().map(node).collect() }
}

/// The only file inside.
fn content(opened: &Opened) -> Result<Vec<u8>> {
    let tree = opened.holds.tree.as_ref().expect("a file inside");
    bytes_of(tree.files().next().expect("one").1.source()?)
}

/// What does not hold of all that can be checked without reading what is sealed.
fn faults(opened: &Opened) -> Vec<String> {
    let mut all: Vec<Settled> = opened.proof.settled.clone();
    for inspect in opened.proof.inspections.iter().chain(&opened.proof.on_reading) {
        all.extend(inspect(&()).expect("a check"));
    }
    let told = |s: &Settled| format!("{}: {}", s.name, s.note.clone().unwrap_or_default());
    all.iter().filter(|s| !s.holds).map(told).collect()
}

#[test]
fn every_key_stands_in_the_list_for_users() {
    let list = include_str!("../../../../docs/keys.md");
    for name in decanter_formats::package::ps3::keys::names() {
        assert!(list.contains(&format!("`{name}`")), "{name}");
    }
}
