//! High Sierra volumes: CD-ROMs from before ISO 9660, which took them over with a few fields moved.
//!
//! Numbers stand in both byte orders; the little-endian one is read. Layout: docs/formats/high-sierra.md.

use super::both::{Both32, note_disagreements};
use crate::time;
use crate::walk::{Folder, Walk};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tree::{File, Kind, Node, below};
use decanter_core::{Error, Result, SECTOR};
use std::ops::Range;

const ID: &str = "high-sierra";
/// The first sector of the descriptors, and the most that are looked at.
const FIRST: u64 = 16;
const MOST_DESCRIPTORS: u64 = 32;
/// Where a descriptor says what it is.
const KIND: usize = 8;
const MAGIC: Range<usize> = 9..14;
/// Kinds of descriptors.
const VOLUME: u8 = 1;
const TERMINATOR: u8 = 255;
/// Fields of the descriptor of a volume.
const NAME: Range<usize> = 48..80;
const BLOCKS: usize = 88;
const BLOCK_LEN: usize = 136;
const ROOT: usize = 180;
/// Bytes of a record before its name, and flags of it.
const RECORD: usize = 33;
const FOLDER: u8 = 0x02;
const ASSOCIATED: u8 = 0x04;
const MORE: u8 = 0x80;

/// The format.
pub struct HighSierra;

impl Format for HighSierra {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "High Sierra disc image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Disc)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["iso"]
    }

    fn reads(&self) -> &'static str {
        "CD-ROMs from before ISO 9660: names, times, files of several extents"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark { at: FIRST * SECTOR + MAGIC.start as u64, bytes: b"CDROM" }] }
    }

    fn score(&self, _head: &Head<'_>) -> Result<Option<u8>> {
        Ok(Some(60))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        let volume = descriptor(source.as_ref(), &mut opened)?;
        let name: String = volume.bytes[NAME].iter().map(|byte| char::from(*byte)).collect();
        opened.fact("volume", name.trim_end_matches([' ', '\0']));
        opened.extent.promised_len = Some(volume.len);
        let root = Record::parse(&volume.bytes[ROOT..])
            .ok_or_else(|| Error::malformed(ID, "the record of the root folder is none", volume.at + ROOT as u64))?;
        let place = root.span(volume.block);
        let mut way = Way {
            source: &source,
            volume: &volume,
            walk: Walk::new(opener, place.clone(), place.start),
            disagreements: 0,
        };
        while let Some(folder) = way.walk.next()? {
            way.folder(&folder)?;
        }
        note_disagreements(&mut way.walk.noticed, way.disagreements);
        let walked = way.walk.finish().sorted();
        opened.extent.structure = walked.structure;
        opened.extent.structure.push(0..volume.at + SECTOR);
        opened.told.notices.extend(walked.notices);
        opened.holds.tree = Some(walked.tree);
        Ok(opened)
    }
}

/// The descriptor of a volume.
struct Volume {
    bytes: Vec<u8>,
    /// Where it stands.
    at: u64,
    /// Bytes of a block.
    block: u64,
    /// Bytes of the volume.
    len: u64,
}

fn descriptor(source: &dyn Source, opened: &mut Opened) -> Result<Volume> {
    for sector in FIRST..FIRST + MOST_DESCRIPTORS {
        let at = sector * SECTOR;
        if at + SECTOR > source.len() {
            break;
        }
        let bytes: [u8; SECTOR as usize] = read_array(source, at)?;
        if bytes[MAGIC] != *b"CDROM" || bytes[KIND] == TERMINATOR {
            break;
        }
        if bytes[KIND] != VOLUME {
            continue;
        }
        let (blocks, same_blocks) = Both32::at(&bytes, BLOCKS).get();
        let block = u64::from(u16::from_le_bytes([bytes[BLOCK_LEN], bytes[BLOCK_LEN + 1]]));
        if !same_blocks {
            opened.damage(format!(
                "the two byte orders of the volume's size disagree at offset {:#x}",
                at + BLOCKS as u64
            ));
        }
        if !matches!(block, 512 | 1024 | 2048) {
            return Err(Error::malformed(ID, format!("a logical block of {block} bytes"), at + BLOCK_LEN as u64));
        }
        return Ok(Volume { bytes: bytes.to_vec(), at, block, len: u64::from(blocks) * block });
    }
    Err(Error::malformed(ID, "no descriptor of a volume", FIRST * SECTOR))
}

/// A record of a folder.
struct Record<'a> {
    bytes: &'a [u8],
    name: &'a [u8],
}

impl<'a> Record<'a> {
    /// The record at the beginning of `bytes`, if its lengths are possible.
    fn parse(bytes: &'a [u8]) -> Option<Self> {
        let len = usize::from(*bytes.first()?);
        let own = bytes.get(..len).filter(|own| own.len() > RECORD)?;
        let name = own.get(RECORD..RECORD + usize::from(own[32])).filter(|name| !name.is_empty())?;
        Some(Self { bytes: own, name })
    }

    fn flags(&self) -> u8 {
        self.bytes[24]
    }

    /// Its bytes on the disc.
    fn span(&self, block: u64) -> Range<u64> {
        let start = (u64::from(Both32::at(self.bytes, 2).get().0) + u64::from(self.bytes[1])) * block;
        start..start + u64::from(Both32::at(self.bytes, 10).get().0)
    }

    fn agrees(&self) -> bool {
        Both32::at(self.bytes, 2).get().1 && Both32::at(self.bytes, 10).get().1
    }

    /// Whether its sectors stand between those of others.
    fn is_interleaved(&self) -> bool {
        self.bytes[26] != 0 || self.bytes[27] != 0
    }

    fn modified(&self) -> Option<i64> {
        let [year, month, day, hour, minute, second] = self.bytes[18..24].try_into().ok()?;
        let is_one = (1..=12).contains(&month) && (1..=31).contains(&day) && hour < 24 && minute < 60 && second < 60;
        is_one.then(|| time::seconds((1900 + i64::from(year), month, day), (hour, minute, second)))
    }

    /// The name without what the standard puts around it: `;1`, and the dot of an empty extension.
    fn name(&self) -> String {
        let whole: String = self.name.iter().map(|byte| if *byte == b'/' { '_' } else { char::from(*byte) }).collect();
        let bare = match whole.rsplit_once(';') {
            Some((bare, version)) if version.bytes().all(|b| b.is_ascii_digit()) => bare,
            _ => &whole,
        };
        let bare = bare.strip_suffix('.').filter(|stem| !stem.is_empty()).unwrap_or(bare);
        if bare.is_empty() { "_".into() } else { bare.to_owned() }
    }
}

/// The way through all folders.
struct Way<'a, 'v> {
    source: &'a SourceRef,
    volume: &'v Volume,
    walk: Walk<'a, Range<u64>, u64>,
    disagreements: usize,
}

/// A file whose extents are still coming.
struct Pending {
    path: String,
    spans: Vec<Range<u64>>,
    modified: Option<i64>,
    broken: Option<String>,
}

impl Way<'_, '_> {
    fn folder(&mut self, folder: &Folder<Range<u64>>) -> Result<()> {
        let Range { start, end } = folder.place;
        self.walk.spend(end - start)?;
        let there = end.min(self.source.len()).max(start);
        if there < end {
            self.walk.note(format!("{} at offset {start:#x} lies past the end of the image", folder.shown()));
        }
        self.walk.structure.push(start..there.next_multiple_of(SECTOR));
        let mut pending = None;
        let mut at = start;
        while at < there {
            let mut sector = vec![0; SECTOR.min(there - at) as usize];
            let read = self.source.read_at(at, &mut sector);
            if self.walk.keep(read, || format!("{} at offset {at:#x}", folder.shown()))?.is_none() {
                break;
            }
            self.records(folder, &sector, at, &mut pending)?;
            at += SECTOR;
        }
        self.finish(pending)
    }

    /// The records of one sector: none crosses the end of it, and the rest of it is zeros.
    fn records(
        &mut self,
        folder: &Folder<Range<u64>>,
        sector: &[u8],
        at: u64,
        pending: &mut Option<Pending>,
    ) -> Result<()> {
        let mut within = 0;
        while sector.get(within).is_some_and(|len| *len != 0) {
            let here = at + within as u64;
            let Some(record) = Record::parse(&sector[within..]) else {
                self.walk.note(format!("a directory record of {} is malformed at offset {here:#x}", folder.shown()));
                return Ok(());
            };
            within += record.bytes.len();
            if !matches!(record.name, [0 | 1]) && record.flags() & ASSOCIATED == 0 {
                self.entry(folder, &record, here, pending)?;
            }
        }
        Ok(())
    }

    fn entry(
        &mut self,
        folder: &Folder<Range<u64>>,
        record: &Record<'_>,
        here: u64,
        pending: &mut Option<Pending>,
    ) -> Result<()> {
        self.disagreements += usize::from(!record.agrees());
        let path = below(&folder.path, &record.name());
        let span = record.span(self.volume.block);
        let is_outside = !span.is_empty() && span.end > self.volume.len.max(self.source.len());
        if record.flags() & FOLDER != 0 {
            self.finish(pending.take())?;
            self.walk.add(Node::new(path.clone(), Kind::Folder, record.modified()))?;
            let why = match self.walk.refuse(folder, span.start) {
                Some(why) => why.to_string(),
                None if is_outside => "lies outside the volume".to_owned(),
                None => {
                    self.walk.later(folder, path, span);
                    return Ok(());
                }
            };
            self.walk.note(format!("the folder {path} (record at offset {here:#x}) {why}; it is shown empty"));
            return Ok(());
        }
        if pending.as_ref().is_some_and(|p: &Pending| p.path != path) {
            self.finish(pending.take())?;
        }
        let broken = match (record.is_interleaved(), is_outside) {
            (true, _) => {
                Some(format!("its sectors are interleaved (record at offset {here:#x}), which is not supported"))
            }
            (_, true) => Some(format!("its extent lies outside the volume (record at offset {here:#x})")),
            _ => None,
        };
        let own = || Pending { path, spans: Vec::new(), modified: record.modified(), broken: None };
        let mut file = pending.take().unwrap_or_else(own);
        file.broken = file.broken.or(broken);
        file.spans.push(span);
        match record.flags() & MORE {
            0 => self.finish(Some(file)),
            _ => {
                *pending = Some(file);
                Ok(())
            }
        }
    }

    fn finish(&mut self, pending: Option<Pending>) -> Result<()> {
        let Some(Pending { path, spans, modified, broken }) = pending else { return Ok(()) };
        let len = spans.iter().map(|span| span.end - span.start).sum();
        let file = match broken {
            Some(why) => File { spans, ..File::broken(len, why) },
            None => File::from_spans(self.source, spans)?,
        };
        self.walk.add(Node::new(path, Kind::File(file), modified))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::Keyring;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn put(bytes: &mut [u8], at: usize, value: u32) {
        bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        bytes[at + 4..at + 8].copy_from_slice(&value.to_be_bytes());
    }

    fn record(name: &[u8], block: u32, len: u32, flags: u8) -> Vec<u8> {
        let mut own = vec![0; (RECORD + name.len()).next_multiple_of(2)];
        own[0] = own.len() as u8;
        put(&mut own, 2, block);
        put(&mut own, 10, len);
        // 1987-03-02 09:15:30.
        own[18..24].copy_from_slice(&[87, 3, 2, 9, 15, 30]);
        (own[24], own[32]) = (flags, name.len() as u8);
        own[RECORD..RECORD + name.len()].copy_from_slice(name);
        own
    }

    /// A volume of 24 blocks: descriptors at 16, the root at 18, a folder at 19, files from 20 on.
    fn volume() -> Vec<u8> {
        let mut bytes = vec![0; 24 * 2048];
        let at = 16 * 2048;
        put(&mut bytes, at, 16);
        bytes[at + 8] = 1;
        bytes[at + 9..at + 14].copy_from_slice(b"CDROM");
        bytes[at + 14] = 1;
        bytes[at + 48..at + 80].copy_from_slice(b"LOW TIDE                        ");
        put(&mut bytes, at + 88, 24);
        bytes[at + 136..at + 140].copy_from_slice(&[0, 8, 8, 0]);
        bytes[at + 180..at + 214].copy_from_slice(&record(&[0], 18, 2048, FOLDER));
        bytes[17 * 2048 + 8] = 255;
        bytes[17 * 2048 + 9..17 * 2048 + 14].copy_from_slice(b"CDROM");
        let root = [
            record(&[0], 18, 2048, FOLDER),
            record(&[1], 18, 2048, FOLDER),
            record(b"GULL.DAT;1", 20, 3000, 0),
            record(b"LONG.;1", 22, 2048, MORE),
            record(b"LONG.;1", 23, 10, 0),
            record(b"PIER", 19, 2048, FOLDER),
        ];
        let folder = [record(&[0], 19, 2048, FOLDER), record(&[1], 18, 2048, FOLDER), record(b"IN.TXT;1", 23, 4, 0)];
        for (block, list) in [(18, root.concat()), (19, folder.concat())] {
            bytes[block * 2048..block * 2048 + list.len()].copy_from_slice(&list);
        }
        for (index, byte) in bytes[20 * 2048..].iter_mut().enumerate() {
            *byte = (index / 7) as u8;
        }
        bytes
    }

    fn open(bytes: Vec<u8>) -> Result<Opened> {
        let keys = Keyring::default();
        Opener::new(&crate::REGISTRY, &keys).open(Arc::new(Bytes(bytes)))
    }

    fn content(opened: &Opened, path: &str) -> Vec<u8> {
        let source = opened.holds.tree.as_ref().unwrap().find(path).unwrap().file().unwrap().source().unwrap().clone();
        let mut bytes = vec![0; source.len() as usize];
        source.read_at(0, &mut bytes).unwrap();
        bytes
    }

    #[test]
    fn files_are_read_to_the_byte() {
        let bytes = volume();
        let opened = open(bytes.clone()).unwrap();
        assert_eq!((opened.identity.format, opened.get("volume")), (ID, Some("LOW TIDE")));
        assert_eq!(content(&opened, "GULL.DAT"), bytes[20 * 2048..20 * 2048 + 3000]);
        assert_eq!(
            content(&opened, "LONG"),
            [&bytes[22 * 2048..23 * 2048], &bytes[23 * 2048..23 * 2048 + 10]].concat()
        );
        assert_eq!(content(&opened, "PIER/IN.TXT"), bytes[23 * 2048..23 * 2048 + 4]);
        let node = opened.holds.tree.as_ref().unwrap().find("GULL.DAT").unwrap();
        assert_eq!(node.modified, Some(541_674_930));
        assert!(opened.told.notices.is_empty());
    }

    #[test]
    fn damage_is_told_and_costs_only_what_it_hits() {
        let with = |change: &dyn Fn(&mut Vec<u8>)| {
            let mut bytes = volume();
            change(&mut bytes);
            open(bytes)
        };
        let root = 18 * 2048 + 34 * 2;
        let outside = with(&|b| put(b, root + 2, 900)).unwrap();
        let told =
            outside.holds.tree.as_ref().unwrap().find("GULL.DAT").unwrap().file().unwrap().source().err().unwrap();
        assert!(told.to_string().contains("outside the volume"));
        assert_eq!(content(&outside, "PIER/IN.TXT").len(), 4);
        let differs = with(&|b| b[root + 5] ^= 1).unwrap();
        assert!(differs.told.notices.iter().any(|n| n.text.contains("byte orders disagree")));
        let round = with(&|b| put(b, 18 * 2048 + root - 18 * 2048 + 44 + 40 + 40 + 2, 18)).unwrap();
        assert!(
            round.told.notices.iter().any(|n| n.text.contains("is the same as another folder")),
            "{}",
            round.told.notices.len()
        );
        assert!(with(&|b| b[16 * 2048 + 136] = 9).is_err());
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(changes in proptest::collection::vec((16usize * 2048..20 * 2048, any::<u8>()), 0..20), cut in 33_000usize..50_000) {
            let mut bytes = volume();
            changes.into_iter().for_each(|(at, value)| bytes[at] = value);
            bytes.truncate(cut);
            let _ = open(bytes);
        }
    }
}
