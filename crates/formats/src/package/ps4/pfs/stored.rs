//! The content of a file as its blocks have it: wherever they are, each held against its code before a byte is handed on.

use super::header::Header;
use super::inode::{CODE, DIRECT, INDIRECT, Inode, Pointer, Shape};
use super::mac::Mac;
use decanter_core::error::Blame;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::view::{Blocks, Cached};
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// Tables of pointers that are kept.
const MOST_TABLES: usize = 32;
/// Blocks of a group, and groups that are kept for reads of parts of them.
const GROUP: u64 = 16;
const MOST_GROUPS: usize = 4;
/// Blocks that are read at once.
const AT_ONCE: u64 = 64;

/// What all files of an image share.
pub(super) struct Volume {
    /// All of it as plaintext.
    pub(super) image: SourceRef,
    pub(super) block: u64,
    pub(super) shape: Shape,
    /// What the codes of blocks are made with; `None` where there are none, or nobody asks.
    pub(super) mac: Option<Mac>,
}

impl Volume {
    pub(super) fn new(image: SourceRef, header: &Header, mac: Option<Mac>) -> Arc<Self> {
        Arc::new(Self { image, block: header.block, shape: header.shape(), mac })
    }

    /// Blocks that are there.
    pub(super) fn blocks(&self) -> u64 {
        self.image.len() / self.block
    }

    /// Reads the whole blocks from `first` on that fit `bytes`, each with its code.
    pub(super) fn read(&self, what: &dyn Fn(u64) -> String, pointers: &[Pointer], bytes: &mut [u8]) -> Result<()> {
        let Some(first) = pointers.first() else { return Ok(()) };
        self.image.read_at(first.block * self.block, bytes)?;
        let Some(mac) = &self.mac else { return Ok(()) };
        let codes = mac.codes(bytes, self.block as usize);
        for (index, (pointer, found)) in pointers.iter().zip(codes).enumerate() {
            let Some(wanted) = pointer.code else { continue };
            if found != wanted {
                // Nobody compares all of it.
                let hex = |code: &[u8; CODE]| format!("{}...", decanter_core::digest::hex(&code[..4]));
                return Err(Error::Checksum {
                    what: format!("{} at {:#x} of the image", what(index as u64), pointer.block * self.block),
                    expected: format!("the signature {}", hex(&wanted)),
                    found: hex(&found),
                });
            }
        }
        Ok(())
    }

    /// A block of pointers.
    fn table(&self, pointer: &Pointer, of: &str) -> Result<Arc<[u8]>> {
        self.check(pointer, of)?;
        let mut bytes = vec![0; self.block as usize];
        self.read(&|_| format!("a table of the blocks of {of}"), &[*pointer], &mut bytes)?;
        Ok(bytes.into())
    }

    /// Fails for a pointer out of the image, or to its header.
    fn check(&self, pointer: &Pointer, of: &str) -> Result<()> {
        let there = self.blocks();
        match pointer.block {
            block if block == 0 || block >= there => Err(Error::Unreadable {
                why: format!("{of} points at block {block:#x}, and the image has blocks 1 to {:#x}", there.max(1) - 1),
            }),
            _ => Ok(()),
        }
    }
}

/// Where the blocks of a file are.
pub(super) struct Map {
    volume: Arc<Volume>,
    name: String,
    places: Places,
    tables: Mutex<HashMap<u64, Arc<[u8]>>>,
}

/// How they are told.
enum Places {
    /// They follow each other from this one on.
    Run(u64),
    /// Pointers in the inode, then tables of pointers; so many blocks.
    Listed(Box<[Pointer; DIRECT + INDIRECT]>, u64),
}

impl Map {
    /// As the inode says it.
    pub(super) fn new(volume: &Arc<Volume>, inode: &Inode, name: &str) -> Self {
        let places = match !volume.shape.is_signed && inode.is_run() {
            true => Places::Run(inode.pointers[0].block),
            false => Places::Listed(Box::new(inode.pointers), inode.blocks),
        };
        Self { volume: volume.clone(), name: name.to_owned(), places, tables: Mutex::default() }
    }

    /// Those that follow each other from `first` on, whatever an inode says.
    pub(super) fn run(volume: &Arc<Volume>, first: u64, name: &str) -> Self {
        Self { volume: volume.clone(), name: name.to_owned(), places: Places::Run(first), tables: Mutex::default() }
    }

    /// Pointers of a table.
    fn in_table(&self) -> u64 {
        self.volume.block / self.volume.shape.pointer() as u64
    }

    fn kept(&self, pointer: &Pointer) -> Result<Arc<[u8]>> {
        let known = self.tables.lock().unwrap_or_else(PoisonError::into_inner).get(&pointer.block).cloned();
        if let Some(known) = known {
            return Ok(known);
        }
        let table = self.volume.table(pointer, &self.name)?;
        let mut tables = self.tables.lock().unwrap_or_else(PoisonError::into_inner);
        if tables.len() >= MOST_TABLES {
            tables.clear();
        }
        tables.insert(pointer.block, table.clone());
        Ok(table)
    }

    fn entry(&self, table: &Pointer, index: u64) -> Result<Pointer> {
        let table = self.kept(table)?;
        let at = index as usize * self.volume.shape.pointer();
        Ok(self.volume.shape.read(&table[at..]))
    }

    /// The tables in which the pointer to a block stands, the outermost first, each with the number of its entry.
    fn way(&self, index: u64) -> Result<Option<(usize, Vec<u64>)>> {
        let each = self.in_table();
        let Some(mut index) = index.checked_sub(DIRECT as u64) else { return Ok(None) };
        if index < each {
            return Ok(Some((DIRECT, vec![index])));
        }
        index -= each;
        if index < each * each {
            return Ok(Some((DIRECT + 1, vec![index / each, index % each])));
        }
        Err(Error::unsupported(super::ID, format!("a file of more than {} blocks", DIRECT as u64 + each + each * each)))
    }

    /// Where block `index` of the content is.
    ///
    /// # Errors
    /// [`Error::Unreadable`] for a pointer out of the image; tables that have not their codes; what reading fails with.
    pub(super) fn pointer(&self, index: u64) -> Result<Pointer> {
        let found = match &self.places {
            Places::Run(first) => Pointer { block: first.saturating_add(index), code: None },
            Places::Listed(direct, _) => match self.way(index)? {
                None => direct[index as usize],
                Some((from, way)) => way.iter().try_fold(direct[from], |table, index| self.entry(&table, *index))?,
            },
        };
        self.volume.check(&found, &self.name)?;
        Ok(found)
    }

    /// Reads whole blocks from `first` on: those that follow each other at once.
    ///
    /// # Errors
    /// As [`Map::pointer`]; blocks that have not their codes.
    pub(super) fn read_blocks(&self, mut first: u64, mut bytes: &mut [u8]) -> Result<()> {
        let mut run: Vec<Pointer> = Vec::new();
        while !bytes.is_empty() {
            let most = (bytes.len() as u64 / self.volume.block).min(AT_ONCE);
            run.clear();
            for index in 0..most {
                let next = self.pointer(first + index)?;
                if run.last().is_some_and(|last| last.block + 1 != next.block) {
                    break;
                }
                run.push(next);
            }
            let (now, later) = bytes.split_at_mut(run.len() * self.volume.block as usize);
            let name = |index| format!("block {:#x} of {}", first + index, self.name);
            self.volume.read(&name, &run, now)?;
            first += run.len() as u64;
            bytes = later;
        }
        Ok(())
    }

    /// The blocks with the tables of pointers, in their order.
    ///
    /// # Errors
    /// As [`Map::pointer`].
    pub(super) fn tables(&self) -> Result<Vec<Pointer>> {
        let (mut found, each) = (Vec::new(), self.in_table());
        let Places::Listed(pointers, blocks) = &self.places else { return Ok(found) };
        let Some(more) = blocks.checked_sub(DIRECT as u64).filter(|n| *n > 0) else { return Ok(found) };
        found.push(pointers[DIRECT]);
        if more > each {
            let outer = pointers[DIRECT + 1];
            found.push(outer);
            for index in 0..(more - each).div_ceil(each).min(each) {
                found.push(self.entry(&outer, index)?);
            }
        }
        Ok(found)
    }
}

/// The content of a file.
pub(super) struct Stored {
    own: Content,
    /// Several blocks each: their codes are worked out together, and reads of parts of them find them here.
    groups: Cached<Content>,
}

/// The same in groups of blocks.
#[derive(Clone)]
struct Content {
    map: Arc<Map>,
    len: u64,
}

impl Stored {
    /// `len` bytes in the blocks of `map`.
    pub(super) fn new(map: Arc<Map>, len: u64) -> Self {
        let own = Content { map, len };
        Self { groups: Cached::new(own.clone(), MOST_GROUPS), own }
    }
}

impl Content {
    fn block(&self) -> u64 {
        self.map.volume.block
    }

    fn group(&self) -> u64 {
        self.block() * GROUP
    }

    /// Reads any bytes, block by block: no more than what they stand in.
    fn read_exactly(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        let (block, mut wide) = (self.block(), Vec::new());
        while !buf.is_empty() {
            let (into, whole) = (offset % block, buf.len() as u64 / block * block);
            let len = if into == 0 && whole > 0 { whole } else { (block - into).min(buf.len() as u64) };
            let (now, later) = buf.split_at_mut(len as usize);
            if into == 0 && whole > 0 {
                self.map.read_blocks(offset / block, now)?;
            } else {
                wide.resize(block as usize, 0);
                self.map.read_blocks(offset / block, &mut wide)?;
                now.copy_from_slice(&wide[into as usize..(into + len) as usize]);
            }
            offset += len;
            buf = later;
        }
        Ok(())
    }
}

impl Blocks for Content {
    fn len(&self) -> u64 {
        self.len
    }

    fn count(&self) -> usize {
        self.len.div_ceil(self.group()) as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        ((offset / self.group()) as usize, offset / self.group() * self.group())
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let first = index as u64 * self.group();
        let mut bytes = vec![0; (self.len - first).min(self.group()).next_multiple_of(self.block()) as usize];
        self.map.read_blocks(first / self.block(), &mut bytes)?;
        Ok(bytes)
    }
}

impl Source for Stored {
    fn len(&self) -> u64 {
        self.own.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        if self.own.map.volume.mac.is_none() {
            return self.own.read_exactly(offset, buf);
        }
        let group = self.own.group();
        while !buf.is_empty() {
            let (into, whole) = (offset % group, buf.len() as u64 / group * group);
            let is_whole = into == 0 && whole > 0;
            let len = if is_whole { whole } else { (group - into).min(buf.len() as u64) };
            let (now, later) = buf.split_at_mut(len as usize);
            match is_whole {
                true => self.own.map.read_blocks(offset / self.own.block(), now)?,
                false => match self.groups.read_at(offset, now) {
                    // Its neighbours may be damaged: what was asked for is read by itself.
                    Err(e) if e.blame() == Blame::Source => self.own.read_exactly(offset, now)?,
                    read => read?,
                },
            }
            offset += len;
            buf = later;
        }
        Ok(())
    }

    fn is_checked(&self) -> bool {
        self.own.map.volume.mac.is_some()
    }
}
