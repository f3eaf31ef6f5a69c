//! The hash tables in the data files, from the digest in the header down.

use super::Files;
use super::place::{self, BLOCK, FILE_BLOCKS, GROUP, GROUPS};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::view::{BlockName, Hashed};
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// Bytes of a digest.
const SHA1: usize = 20;
/// Tables that are kept, beside the master tables.
const MOST_KEPT: usize = 64;

/// The bytes of a table.
type Page = Arc<[u8]>;

/// The tables of a package: none is believed that is not the one that the header, or the table above it, means.
pub(super) struct Tables {
    pub(super) files: Files,
    masters: Mutex<HashMap<usize, Page>>,
    /// By data file and group.
    kept: Mutex<HashMap<(usize, u64), Page>>,
}

impl Tables {
    pub(super) fn new(files: Files) -> Self {
        Self { files, masters: Mutex::default(), kept: Mutex::default() }
    }

    /// `stored`, which has all blocks one after the other, each held against its digest when it is read.
    pub(super) fn over(self: &Arc<Self>, stored: SourceRef) -> Result<SourceRef> {
        let (own, len) = (self.clone(), stored.len());
        let name: BlockName = Arc::new(move |block| {
            let (file, within) = ((block / FILE_BLOCKS) as usize, block % FILE_BLOCKS);
            let name = own.files.files.get(file).map_or("", |f| f.name.as_str());
            format!("block {block:#x}, at {:#x} of {name},", place::block(within))
        });
        let digests = Arc::new(Digests { tables: self.clone(), blocks: len.div_ceil(BLOCK) });
        Ok(Arc::new(Hashed::new(stored, len, BLOCK, Algorithm::Sha1, digests, name)?))
    }

    fn read(&self, file: usize, at: u64, expected: &[u8], what: &str) -> Result<Page> {
        let own = &self.files.files[file];
        let absent = || Error::Unreadable { why: format!("{} ends before {what}, or is missing", own.name) };
        let source = own.source.as_ref().ok_or_else(absent)?;
        let mut bytes = vec![0; BLOCK as usize];
        match source.read_at(at, &mut bytes) {
            Err(Error::PastEnd { .. }) => return Err(absent()),
            read => read?,
        }
        let found = of_bytes(Algorithm::Sha1, &bytes);
        if found.bytes != expected {
            return Err(Error::Checksum {
                what: format!("{what} of {} at {at:#x}", own.name),
                expected: format!("SHA-1 {}", decanter_core::digest::hex(expected)),
                found: found.hex(),
            });
        }
        Ok(bytes.into())
    }

    /// The master table of a data file.
    ///
    /// # Errors
    /// When it is not there, or not the one that is meant; what reading fails with.
    pub(super) fn master(&self, file: usize) -> Result<Page> {
        let known = |i: usize| self.masters.lock().unwrap_or_else(PoisonError::into_inner).get(&i).cloned();
        // From the last one that is known on: each has the digest of the next one behind those of its own tables.
        let mut from = (0..=file).rev().find(|&i| known(i).is_some()).map_or(0, |i| i + 1);
        while from <= file {
            let expected = match from.checked_sub(1).and_then(known) {
                Some(before) => digest(&before, GROUPS).to_vec(),
                None => self.files.top.to_vec(),
            };
            let own = self.read(from, 0, &expected, "the master table")?;
            self.masters.lock().unwrap_or_else(PoisonError::into_inner).insert(from, own);
            from += 1;
        }
        known(file).ok_or_else(|| Error::Usage("a master table is lost".into()))
    }

    /// The table of a group of blocks.
    ///
    /// # Errors
    /// As [`Tables::master`].
    pub(super) fn table(&self, file: usize, group: u64) -> Result<Page> {
        if let Some(known) = self.kept.lock().unwrap_or_else(PoisonError::into_inner).get(&(file, group)) {
            return Ok(known.clone());
        }
        let master = self.master(file)?;
        let own = self.read(file, place::table(group), digest(&master, group), &format!("table {group}"))?;
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= MOST_KEPT {
            kept.clear();
        }
        kept.insert((file, group), own.clone());
        Ok(own)
    }
}

fn digest(table: &[u8], index: u64) -> &[u8] {
    &table[index as usize * SHA1..][..SHA1]
}

/// The digests of all blocks, one after the other.
struct Digests {
    tables: Arc<Tables>,
    blocks: u64,
}

impl Source for Digests {
    fn len(&self) -> u64 {
        self.blocks * SHA1 as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let (mut at, mut buf) = (offset, buf);
        while !buf.is_empty() {
            let (block, within) = (at / SHA1 as u64, (at % SHA1 as u64) as usize);
            let (file, number) = ((block / FILE_BLOCKS) as usize, block % FILE_BLOCKS);
            let table = self.tables.table(file, number / GROUP)?;
            let from = (number % GROUP) as usize * SHA1 + within;
            let (now, later) = buf.split_at_mut(buf.len().min(GROUP as usize * SHA1 - from));
            now.copy_from_slice(&table[from..from + now.len()]);
            at += now.len() as u64;
            buf = later;
        }
        Ok(())
    }
}
