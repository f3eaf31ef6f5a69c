//! The content of a file as its blocks have it: wherever they are, each held against its code before a byte is handed on.

use super::header::Header;
use super::inode::{DIRECT, INDIRECT, Inode, Pointer, Shape};
use decanter_core::digest::MacKey;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::view::{Blocks, Cached};
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// Tables of pointers that are kept.
const MOST_TABLES: usize = 32;
/// Blocks of content that are kept for reads of parts of them.
const MOST_BLOCKS: usize = 8;
/// Blocks that are read at once.
const AT_ONCE: u64 = 64;

/// What all files of an image share.
pub(super) struct Volume {
    /// All of it as plaintext.
    pub(super) image: SourceRef,
    pub(super) block: u64,
    pub(super) shape: Shape,
    /// What the codes of blocks are made with; `None` where there are none, or nobody asks.
    pub(super) mac: Option<MacKey>,
}

impl Volume {
    pub(super) fn new(image: SourceRef, header: &Header, mac: Option<MacKey>) -> Arc<Self> {
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
        for (index, (pointer, block)) in pointers.iter().zip(bytes.chunks(self.block as usize)).enumerate() {
            let Some(wanted) = pointer.code else { continue };
            let found = mac.code(block);
            if found != wanted {
                let hex = |bytes: &[u8]| decanter_core::digest::hex(bytes);
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
    own: Arc<Content>,
    parts: Cached<Content>,
}

/// The same, block by block.
#[derive(Clone)]
struct Content {
    map: Arc<Map>,
    len: u64,
}

impl Stored {
    /// `len` bytes in the blocks of `map`.
    pub(super) fn new(map: Arc<Map>, len: u64) -> Self {
        let own = Content { map, len };
        Self { parts: Cached::new(own.clone(), MOST_BLOCKS), own: Arc::new(own) }
    }
}

impl Content {
    fn block(&self) -> u64 {
        self.map.volume.block
    }

    /// Reads whole blocks from `first` on: those that follow each other at once.
    fn read_blocks(&self, mut first: u64, mut bytes: &mut [u8]) -> Result<()> {
        let mut run: Vec<Pointer> = Vec::new();
        while !bytes.is_empty() {
            let most = (bytes.len() as u64 / self.block()).min(AT_ONCE);
            run.clear();
            for index in 0..most {
                let next = self.map.pointer(first + index)?;
                if run.last().is_some_and(|last| last.block + 1 != next.block) {
                    break;
                }
                run.push(next);
            }
            let (now, later) = bytes.split_at_mut(run.len() * self.block() as usize);
            let name = |index| format!("block {:#x} of {}", first + index, self.map.name);
            self.map.volume.read(&name, &run, now)?;
            first += run.len() as u64;
            bytes = later;
        }
        Ok(())
    }
}

impl Blocks for Content {
    fn len(&self) -> u64 {
        self.len
    }

    fn count(&self) -> usize {
        self.len.div_ceil(self.block()) as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        ((offset / self.block()) as usize, offset / self.block() * self.block())
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; self.block() as usize];
        self.read_blocks(index as u64, &mut bytes)?;
        Ok(bytes)
    }
}

impl Source for Stored {
    fn len(&self) -> u64 {
        self.own.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let block = self.own.block();
        while !buf.is_empty() {
            let (into, whole) = (offset % block, buf.len() as u64 / block * block);
            let len = match into {
                0 if whole > 0 => whole,
                _ => (block - into).min(buf.len() as u64),
            };
            let (now, later) = buf.split_at_mut(len as usize);
            match into == 0 && whole > 0 {
                true => self.own.read_blocks(offset / block, now)?,
                false => self.parts.read_at(offset, now)?,
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
