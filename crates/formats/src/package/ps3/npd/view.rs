//! The content of a file, block by block; each is held against its code.

use super::coding::{Coding, code_in, place_in};
use super::header::COMPRESSED;
use super::{ID, lz};
use crate::noticed::first_of;
use decanter_core::digest::hex;
use decanter_core::error::Blame;
use decanter_core::source::{Source, SourceRef, check_range, read_vec};
use decanter_core::threads::{self, Shares};
use decanter_core::view::{Blocks, Cached};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::sync::{Arc, Mutex, PoisonError};

/// Bytes of blocks that are kept for small reads.
const MOST_KEPT: u64 = 1 << 20;
/// Blocks that are checked at once.
const AT_ONCE: u64 = 64;
/// Bytes of an entry, and of a compressed block, at most.
const MOST_ENTRY: u64 = 0x20;
const MOST_STORED: u64 = 2 << 20;

/// The blocks of a file.
pub struct File {
    source: SourceRef,
    coding: Coding,
}

impl File {
    /// Those of a file whose coding is known.
    pub fn new(source: SourceRef, coding: Coding) -> Self {
        Self { source, coding }
    }

    /// Block `number`, as long as its part of the content.
    fn block(&self, number: u64) -> Result<Vec<u8>> {
        let header = self.coding.header();
        let entry_at = header.entry_at(number);
        let entry = read_vec(self.source.as_ref(), entry_at, header.entry_len(), "the entry of a block", MOST_ENTRY)?;
        let len = header.len_of(number);
        let (at, stored_len, is_packed) = match header.has(COMPRESSED) {
            true => place_in(header, &entry),
            false => (header.block_at(number), len, false),
        };
        if stored_len > MOST_STORED || (!is_packed && stored_len != len) {
            return Err(Error::malformed(ID, format!("block {number} of {stored_len} bytes"), entry_at));
        }
        let whole = stored_len.next_multiple_of(16);
        let mut bytes = read_vec(self.source.as_ref(), at, whole, "a block", MOST_STORED)?;
        if let Some(found) = self.coding.open(number, &mut bytes)? {
            let code_len = self.coding.code_len();
            let wanted = code_in(header, &entry);
            if found[..code_len] != wanted[..code_len] {
                return Err(Error::Checksum {
                    what: format!("{ID}: block {number}, at {at:#x},"),
                    expected: format!("the code {}", hex(&wanted[..code_len])),
                    found: hex(&found[..code_len]),
                });
            }
        }
        bytes.truncate(stored_len as usize);
        if is_packed {
            bytes = lz::unpack(&bytes, header.block_len() as usize)?;
            if bytes.len() as u64 != len {
                let what = format!("block {number} unpacks to {} bytes instead of {len}", bytes.len());
                return Err(Error::malformed(ID, what, at));
            }
        }
        Ok(bytes)
    }

    /// Checks every block, on all processors: the damaged ones, in words.
    ///
    /// # Errors
    /// What the file is not to blame for: reading failed, the user stopped.
    pub fn damaged(&self, watch: &dyn Watch) -> Result<Vec<String>> {
        let (shares, found) = (Shares::new(self.coding.header().blocks(), AT_ONCE), Mutex::new(Vec::new()));
        threads::on_all(|| {
            for share in &shares {
                watch::check(watch)?;
                for number in share {
                    match self.block(number) {
                        Ok(_) => {}
                        Err(e) if e.blame() == Blame::Source => {
                            found.lock().unwrap_or_else(PoisonError::into_inner).push((number, e.to_string()));
                        }
                        Err(e) => return Err(e),
                    }
                }
            }
            Ok(())
        })?;
        Ok(first_of(found.into_inner().unwrap_or_else(PoisonError::into_inner), "block"))
    }
}

/// Blocks one by one.
struct Kept(Arc<File>);

impl Blocks for Kept {
    fn len(&self) -> u64 {
        self.0.coding.header().content_len()
    }

    fn count(&self) -> usize {
        self.0.coding.header().blocks() as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        let block = self.0.coding.header().block_len();
        ((offset / block) as usize, offset / block * block)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        self.0.block(index as u64)
    }
}

/// The content.
pub struct View {
    file: Arc<File>,
    kept: Cached<Kept>,
}

impl View {
    /// The content of a file.
    pub fn new(file: Arc<File>) -> Self {
        let most = (MOST_KEPT / file.coding.header().block_len()).max(4) as usize;
        Self { kept: Cached::new(Kept(file.clone()), most), file }
    }
}

impl Source for View {
    fn len(&self) -> u64 {
        self.kept.len()
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let block = self.file.coding.header().block_len();
        while !buf.is_empty() {
            let number = offset / block;
            let len = self.file.coding.header().len_of(number);
            let into = offset - number * block;
            let here = (len - into).min(buf.len() as u64) as usize;
            let (now, later) = buf.split_at_mut(here);
            // Whole blocks are made where they are asked for, however many ask at once; of others the part is kept.
            match into == 0 && here as u64 == len {
                true => now.copy_from_slice(&self.file.block(number)?),
                false => self.kept.read_at(offset, now)?,
            }
            offset += here as u64;
            buf = later;
        }
        Ok(())
    }
}
