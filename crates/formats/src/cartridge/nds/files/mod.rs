//! The files: names from the file name table, places from the file allocation table; programs and overlays beside them.

mod names;
mod places;

use super::banner::LEAST;
use super::{HEADER, NINTENDO_DS, range};
use crate::num::le32;
use decanter_core::Result;
use decanter_core::error::Blame;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree, below};
use std::ops::Range;

/// The most that the table of names may have.
const MOST_NAMES: u64 = 16 << 20;
/// Where the header names it.
const NAMES_AT: usize = 0x40;
/// Where what has no name of its own is listed.
const SYSTEM: &str = "_rom";

/// The tree, and what is wrong with it.
///
/// # Errors
/// What reading fails with, where the ROM is not to blame. A damaged table gives a notice.
pub(super) fn read(source: &SourceRef, h: &[u8; HEADER]) -> Result<(Tree, Vec<String>)> {
    let mut listing = Listing { source, tree: Tree::default(), notices: Vec::new() };
    listing.folder(SYSTEM.into());
    for (name, span) in parts(source.len(), h) {
        if !span.is_empty() {
            listing.file(below(SYSTEM, name), span)?;
        }
    }
    let places = places::places(source.as_ref(), h);
    let Some(places) = listing.keep(places, "the files cannot be listed")? else { return Ok(listing.done()) };
    let table = range(h, NAMES_AT);
    let len = table.end - table.start;
    let table = read_vec(source.as_ref(), table.start, len, "the file name table", MOST_NAMES);
    let names = table.and_then(|table| names::names(&table, places.len()));
    let damaged = "the file name table is damaged, files are listed by number";
    let names = listing.keep(names, damaged)?.unwrap_or_default();
    listing.all(names, &places)?;
    Ok(listing.done())
}

/// The parts of a ROM that the header names, with their places.
fn parts(len: u64, h: &[u8; HEADER]) -> Vec<(&'static str, Range<u64>)> {
    // Of programs the entry point and the place in memory stand between offset and length.
    let program = |at: usize| {
        let start = u64::from(le32(h, at));
        start..start + u64::from(le32(h, at + 12))
    };
    let banner = u64::from(le32(h, 0x68));
    let banner = if banner > 0 && banner < len { banner..(banner + LEAST).min(len) } else { 0..0 };
    let header = u64::from(le32(h, 0x84)).clamp(HEADER as u64, 0x4000).min(len);
    vec![
        ("header.bin", 0..header),
        ("arm9.bin", program(0x20)),
        ("arm7.bin", program(0x30)),
        ("overlays9.bin", range(h, 0x50)),
        ("overlays7.bin", range(h, 0x58)),
        ("banner.bin", banner),
    ]
}

/// A tree that grows.
struct Listing<'a> {
    source: &'a SourceRef,
    tree: Tree,
    notices: Vec<String>,
}

impl Listing<'_> {
    fn folder(&mut self, path: String) {
        self.tree.nodes.push(Node::new(path, Kind::Folder, None));
    }

    fn file(&mut self, path: String, span: Range<u64>) -> Result<()> {
        let file = File::from_spans(self.source, vec![span])?;
        self.tree.nodes.push(Node::new(path, Kind::File(file), None));
        Ok(())
    }

    /// What was read; what the ROM is to blame for is noted instead.
    fn keep<T>(&mut self, result: Result<T>, what: &str) -> Result<Option<T>> {
        match result {
            Ok(value) => Ok(Some(value)),
            Err(e) if e.blame() == Blame::Source => {
                self.notices.push(format!("{what}: {e}"));
                Ok(None)
            }
            Err(e) => Err(e),
        }
    }

    /// All files under their names, and those that have none by their numbers.
    fn all(&mut self, names: Vec<(String, Option<usize>)>, places: &[Range<u64>]) -> Result<()> {
        let mut is_named = vec![false; places.len()];
        for (path, number) in names {
            match number {
                None => self.folder(path),
                Some(number) => {
                    is_named[number] = true;
                    self.file(path, places[number].clone())?;
                }
            }
        }
        let nameless = places.iter().enumerate().filter(|(number, place)| !is_named[*number] && !place.is_empty());
        let nameless: Vec<_> = nameless.collect();
        if !nameless.is_empty() {
            self.folder(format!("{SYSTEM}/numbered"));
        }
        nameless
            .into_iter()
            .try_for_each(|(number, p)| self.file(format!("{SYSTEM}/numbered/{number:04}.bin"), p.clone()))
    }

    fn done(self) -> (Tree, Vec<String>) {
        (self.tree, self.notices)
    }
}
