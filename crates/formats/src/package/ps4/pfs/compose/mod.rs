//! New images: a plain one with files, and a signed and encrypted one around it.

mod inner;
mod lazy;
mod outer;

pub use inner::plain;
pub use outer::{INSIDE, Image};

use super::header::{ALWAYS, MAGIC, SEED_AT, TABLE_AT, TABLE_SHAPE, VERSION};
use super::inode::Inode;
use super::mac::Mac;
use super::raw;
use crate::package::ps4::pfsc;
use decanter_core::keyring::Key;
use decanter_core::threads::{Shares, on_all};
use decanter_core::tree::Node;
use decanter_core::watch::{self, Watch};
use decanter_core::{Result, SourceRef};
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::{FromZeros, IntoBytes};

/// Bytes of a block.
pub const BLOCK: u64 = pfsc::BLOCK;
/// Blocks that a thread codes at once.
const AT_ONCE: u64 = 16;
/// Where a number stands that every image seen so far has as 1.
const ONE_AT: usize = 0x36c;

/// How the image with the files is kept.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Form {
    /// As it is.
    #[default]
    Stored,
    /// Block by block with deflate.
    Packed,
}

/// An image with these files, in a signed and encrypted one.
///
/// # Errors
/// [`decanter_core::Error::Unsupported`] for names that have no place in it; what reading fails with.
pub fn image(nodes: &[&Node], form: Form, key: &Key, seed: [u8; 16], watch: &dyn Watch) -> Result<Image> {
    let files = plain(nodes)?;
    let mac = super::key::signing(key, &seed, super::key::Derivation::Plain);
    let (content, codes) = match form {
        Form::Stored => {
            let content = pfsc::stored(&files)?;
            let codes = codes(&content, &mac, watch)?;
            (content, codes)
        }
        Form::Packed => {
            let mut coder = Coder { mac: &mac, rest: Vec::new(), codes: Vec::new() };
            let planned = pfsc::plan(&files, &mut |packed| coder.take(packed), watch)?;
            let behind = coder.finish()?;
            let stream = pfsc::Stream::new(planned);
            let mut codes = mac.codes(stream.front(), BLOCK as usize);
            codes.extend(behind);
            (Arc::new(stream) as SourceRef, codes)
        }
    };
    outer::lay(&content, files.len(), codes, &mac, key, seed)
}

/// The codes of all blocks of `content`, the last of which is filled up with zeros.
fn codes(content: &SourceRef, mac: &Mac, watch: &dyn Watch) -> Result<Vec<[u8; 32]>> {
    let count = content.len().div_ceil(BLOCK);
    let (shares, all) = (Shares::new(count.div_ceil(AT_ONCE), 1), Mutex::new(vec![[0; 32]; count as usize]));
    on_all(|| {
        let mut bytes = Vec::new();
        for share in (&shares).flatten() {
            watch::check(watch)?;
            let first = share * AT_ONCE;
            let len = (AT_ONCE * BLOCK).min(content.len() - first * BLOCK);
            bytes.resize(len as usize, 0);
            content.read_at(first * BLOCK, &mut bytes)?;
            bytes.resize(len.next_multiple_of(BLOCK) as usize, 0);
            let own = mac.codes(&bytes, BLOCK as usize);
            let mut all = all.lock().unwrap_or_else(PoisonError::into_inner);
            all[first as usize..first as usize + own.len()].copy_from_slice(&own);
            watch.advance(len);
        }
        Ok(())
    })?;
    Ok(all.into_inner().unwrap_or_else(PoisonError::into_inner))
}

/// Codes the blocks of bytes that come piece by piece.
struct Coder<'a> {
    mac: &'a Mac,
    rest: Vec<u8>,
    codes: Vec<[u8; 32]>,
}

impl Coder<'_> {
    fn take(&mut self, bytes: &[u8]) -> Result<()> {
        self.rest.extend_from_slice(bytes);
        match self.rest.len() as u64 >= AT_ONCE * BLOCK * 4 {
            true => self.code(),
            false => Ok(()),
        }
    }

    /// Codes the whole blocks that there are.
    fn code(&mut self) -> Result<()> {
        let whole = self.rest.len() / BLOCK as usize;
        let (shares, own) = (Shares::new((whole as u64).div_ceil(AT_ONCE), 1), Mutex::new(vec![[0; 32]; whole]));
        on_all(|| {
            for share in (&shares).flatten() {
                let first = (share * AT_ONCE) as usize;
                let count = (whole - first).min(AT_ONCE as usize);
                let codes =
                    self.mac.codes(&self.rest[first * BLOCK as usize..][..count * BLOCK as usize], BLOCK as usize);
                own.lock().unwrap_or_else(PoisonError::into_inner)[first..first + count].copy_from_slice(&codes);
            }
            Ok(())
        })?;
        self.codes.extend(own.into_inner().unwrap_or_else(PoisonError::into_inner));
        self.rest.drain(..whole * BLOCK as usize);
        Ok(())
    }

    fn finish(mut self) -> Result<Vec<[u8; 32]>> {
        self.rest.resize(self.rest.len().next_multiple_of(BLOCK as usize), 0);
        self.code()?;
        Ok(self.codes)
    }
}

/// What a new header says.
struct Heading<'a> {
    mode: u16,
    inodes: u64,
    blocks: u64,
    table: &'a Inode,
    seed: Option<[u8; 16]>,
}

/// The first block of an image, without the code of the header.
fn header(own: &Heading<'_>) -> Vec<u8> {
    let mut head = raw::Head::new_zeroed();
    head.version.set(VERSION);
    head.magic.set(MAGIC);
    head.read_only = 1;
    head.mode.set(own.mode | ALWAYS);
    head.block.set(BLOCK as u32);
    head.header_blocks.set(1);
    head.inodes.set(own.inodes);
    head.blocks.set(own.blocks);
    head.inode_blocks.set(own.table.blocks);
    let mut bytes = head.as_bytes().to_vec();
    bytes.resize(TABLE_AT, 0);
    bytes.extend(own.table.compose(TABLE_SHAPE));
    bytes.resize(BLOCK as usize, 0);
    bytes[ONE_AT] = 1;
    if let Some(seed) = own.seed {
        bytes[SEED_AT..SEED_AT + seed.len()].copy_from_slice(&seed);
    }
    bytes
}

/// Puts the code of the header in its place.
fn close(first_block: &mut [u8], mac: &Mac) {
    use super::header::{CODE_AT, CODED};
    let code = mac.code(&first_block[..CODED]);
    first_block[CODE_AT..CODE_AT + code.len()].copy_from_slice(&code);
}

/// Bytes up to the end of their last block.
fn filled(mut bytes: Vec<u8>) -> Vec<u8> {
    bytes.resize(bytes.len().next_multiple_of(BLOCK as usize), 0);
    bytes
}

/// The entries of a folder's list, none over the end of a block.
#[derive(Default)]
struct List(Vec<u8>);

impl List {
    fn add(&mut self, inode: u32, kind: u32, name: &str) {
        let own = super::walk::entry(inode, kind, name);
        let left = BLOCK as usize - self.0.len() % BLOCK as usize;
        if own.len() > left {
            self.0.resize(self.0.len() + left, 0);
        }
        self.0.extend(own);
    }
}

/// A header of our own, as it is read.
#[cfg(test)]
fn reread(bytes: &[u8]) -> Result<super::Header> {
    super::Header::read(&decanter_core::source::Bytes(bytes.to_vec()))
}
