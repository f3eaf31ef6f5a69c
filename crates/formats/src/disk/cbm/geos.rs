//! Files of GEOS on these disks: an info block beside each, and files of records (VLIR), whose first sector lists the others.
//!
//! In an entry of the directory GEOS has the place of the info block at 21, the structure at 23 (1: records) and its own type at 24;
//! on the disk's first sector of the map the place of one more sector of the directory at 171, if "GEOS format" stands at 173.

use super::geometry::{Place, SECTOR};
use super::{Chain, Entry, Image};
use decanter_core::Result;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{About, File, Kind, Node};
use std::sync::Arc;

/// What stands on the disk's first sector where GEOS has formatted it, and where.
const MARK: &[u8] = b"GEOS format";
const MARK_AT: usize = 173;
/// Where the place of the sector at the border stands.
const BORDER_AT: usize = 171;

/// The sector with entries that GEOS keeps apart from the others.
pub(super) fn border(image: &Image) -> Option<Place> {
    let header = image.sector(image.geometry.kind.header())?;
    let is_geos = header.get(MARK_AT..)?.starts_with(MARK);
    let place = Place::new(header[BORDER_AT], header[BORDER_AT + 1]);
    (is_geos && place.track != 0 && image.sector(place).is_some()).then_some(place)
}

impl Entry {
    /// Whether it is a file of GEOS.
    pub(super) fn is_geos(&self) -> bool {
        matches!(self.kind & 15, 1..=3) && self.geos_type != 0 && self.side.track != 0
    }

    /// Whether it is one of records.
    pub(super) fn has_records(&self) -> bool {
        self.is_geos() && self.record_len == 1
    }
}

/// The places of the records of a file; `None` for one that is empty.
fn records(image: &Image, entry: &Entry) -> Vec<Option<Place>> {
    let Some(index) = image.sector(entry.first) else { return Vec::new() };
    let pairs = index[2..SECTOR].as_chunks::<2>().0.iter();
    let places = pairs.take_while(|pair| **pair != [0, 0]);
    places.map(|pair| (pair[0] != 0).then(|| Place::new(pair[0], pair[1]))).collect()
}

/// All chains that a file of GEOS owns, beside the first one.
pub(super) fn chains(image: &Image, entry: &Entry) -> Vec<Chain> {
    let mut chains = vec![image.chain(entry.side)];
    if entry.has_records() {
        chains.extend(records(image, entry).into_iter().flatten().map(|place| image.chain(place)));
    }
    chains
}

/// What a file of records is shown as: a folder with the info block and each record.
pub(super) fn nodes(image: &Image, source: &SourceRef, entry: &Entry) -> Result<Vec<Node>> {
    let path = entry.path();
    let all = records(image, entry);
    let words = vec!["GEOS".to_owned(), format!("{} records", all.len())];
    let mut nodes = vec![Node::new(path.clone(), Kind::Folder, None).about(About { words, ..About::default() })];
    nodes.push(info(image, source, entry, &format!("{path}/info"))?);
    for (number, place) in all.into_iter().enumerate() {
        let file = match place {
            None => File::of(Arc::new(Bytes(Vec::new()))),
            Some(place) => file(image, source, &image.chain(place))?,
        };
        nodes.push(Node::new(format!("{path}/record {number:03}"), Kind::File(file), None));
    }
    Ok(nodes)
}

/// The info block of a file: icon, type, text.
pub(super) fn info(image: &Image, source: &SourceRef, entry: &Entry, path: &str) -> Result<Node> {
    Ok(Node::new(path.to_owned(), Kind::File(file(image, source, &image.chain(entry.side))?), None))
}

fn file(image: &Image, source: &SourceRef, chain: &Chain) -> Result<File> {
    let len = chain.spans.iter().map(|span| span.end - span.start).sum();
    let fault = chain.fault.clone().or_else(|| chain.places.iter().find_map(|place| image.error(*place)));
    match fault {
        Some(fault) => Ok(File { spans: chain.spans.clone(), ..File::broken(len, fault) }),
        None => File::from_spans(source, chain.spans.clone()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::cbm::D64;
    use crate::disk::cbm::compose::{NewFile, compose};
    use decanter_core::Keyring;
    use decanter_core::format::{Format, Opener};

    /// A disk on which the file "LETTERS" was given an info block and two records, with an empty one between.
    fn disk() -> Vec<u8> {
        let content = |byte: u8, len: usize| vec![byte; len];
        let file = |name: &[u8], kind, content| NewFile { name: name.to_vec(), kind, content };
        let files = [
            file(b"INDEX", 3, content(0, 254)),
            file(b"INFO", 1, content(7, 254)),
            file(b"ONE", 1, content(1, 600)),
            file(b"TWO", 1, content(2, 20)),
        ];
        let mut bytes = compose("d64", &files, "GEOS", "GE").unwrap().bytes;
        let entry = |n: usize| (17 * 21 + 1) * 256 + n * 32;
        let first = |bytes: &[u8], n: usize| [bytes[entry(n) + 3], bytes[entry(n) + 4]];
        let (index, info, one, two) = (first(&bytes, 0), first(&bytes, 1), first(&bytes, 2), first(&bytes, 3));
        let at = |place: [u8; 2]| ((usize::from(place[0]) - 1) * 21 + usize::from(place[1])) * 256;
        let list = [&[0, 0xff][..], &one, &[0, 0xff], &two, &[0, 0]].concat();
        bytes[at(index)..at(index) + list.len()].copy_from_slice(&list);
        let own = entry(0);
        bytes[own + 5..own + 12].copy_from_slice(b"LETTERS");
        bytes[own + 12..own + 21].fill(0xa0);
        bytes[own + 21..own + 23].copy_from_slice(&info);
        (bytes[own + 23], bytes[own + 24]) = (1, 7);
        // An index, an info block, three sectors of the first record, one of the second.
        bytes[own + 30] = 6;
        // What the others were is only known by the file of records now.
        for other in 1..4 {
            bytes[entry(other) + 2] = 0;
        }
        bytes
    }

    fn open(bytes: Vec<u8>) -> decanter_core::Opened {
        let keys = Keyring::default();
        let opener = Opener::new(&crate::REGISTRY, &keys);
        D64.open(Arc::new(Bytes(bytes)), &opener).unwrap()
    }

    #[test]
    fn records_are_files_of_a_folder_and_own_their_sectors() {
        let opened = open(disk());
        let tree = opened.holds.tree.as_ref().unwrap();
        let read = |path: &str| {
            let source = tree.find(path).unwrap_or_else(|| panic!("{path}")).file().unwrap().source().unwrap().clone();
            let mut bytes = vec![0; source.len() as usize];
            source.read_at(0, &mut bytes).unwrap();
            bytes
        };
        assert_eq!(read("LETTERS.usr/info"), vec![7; 254]);
        assert_eq!(read("LETTERS.usr/record 000"), vec![1; 600]);
        assert_eq!(read("LETTERS.usr/record 001"), Vec::<u8>::new());
        assert_eq!(read("LETTERS.usr/record 002"), vec![2; 20]);
        let found = opened.proof.inspections[0](&()).unwrap();
        assert!(found.iter().all(|check| check.holds), "no sector is lost: {found:?}");
    }

    #[test]
    fn entries_at_the_border_are_found() {
        let mut bytes = disk();
        let (header, border) = (17 * 21 * 256, (17 * 21 + 18) * 256);
        bytes[header + BORDER_AT..header + BORDER_AT + 2].copy_from_slice(&[18, 18]);
        bytes[header + MARK_AT..header + MARK_AT + 16].copy_from_slice(b"GEOS format V1.0");
        let own = (17 * 21 + 1) * 256;
        let entry = bytes[own..own + 32].to_vec();
        bytes[border..border + 32].copy_from_slice(&entry);
        bytes[border..border + 2].copy_from_slice(&[0, 0xff]);
        bytes[border + 5..border + 12].copy_from_slice(b"BORDERS");
        bytes[own + 2] = 0;
        let opened = open(bytes);
        assert!(opened.holds.tree.unwrap().find("BORDERS.usr/record 000").is_some());
    }

    #[test]
    fn a_list_that_leads_nowhere_is_told() {
        let mut bytes = disk();
        let index = bytes[(17 * 21 + 1) * 256 + 3..][..2].to_vec();
        let at = ((usize::from(index[0]) - 1) * 21 + usize::from(index[1])) * 256;
        bytes[at + 2] = 99;
        let opened = open(bytes);
        let tree = opened.holds.tree.as_ref().unwrap();
        assert!(tree.find("LETTERS.usr/record 000").unwrap().file().unwrap().source().is_err());
        assert!(tree.find("LETTERS.usr/record 002").unwrap().file().unwrap().source().is_ok());
        let found = opened.proof.inspections[0](&()).unwrap();
        assert!(found.iter().any(|check| !check.holds && check.name == "chains"));
    }
}
