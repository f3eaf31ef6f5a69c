//! The header of a PFS image.

use super::inode::{Inode, Shape};
use super::raw;
use decanter_core::source::{Source, read_array};
use decanter_core::{Error, Result};
use zerocopy::FromBytes;

/// What stands in the second field of every image.
pub(super) const MAGIC: u64 = 20_130_315;
/// The version that is read.
pub(super) const VERSION: u64 = 1;
/// Bits of the mode.
pub(super) const SIGNED: u16 = 1;
pub(super) const WIDE: u16 = 2;
pub(super) const ENCRYPTED: u16 = 4;
/// Set in every image.
pub(super) const ALWAYS: u16 = 8;
/// Where the inode of the table of inodes stands, the seed, the code of the header; how many bytes that covers.
pub(super) const TABLE_AT: usize = 0x50;
pub(super) const SEED_AT: usize = 0x370;
pub(super) const CODE_AT: usize = 0x380;
pub(super) const CODED: usize = 0x5a0;
/// The shape of the inode in the header, whatever the others have.
pub(super) const TABLE_SHAPE: Shape = Shape { is_signed: true, is_wide: true };
/// Bytes of a block.
const LEAST_BLOCK: u32 = 0x1000;
const MOST_BLOCK: u32 = 1 << 22;

/// A header that was read.
#[derive(Debug, Clone)]
pub struct Header {
    pub(super) mode: u16,
    /// Bytes of a block.
    pub block: u64,
    /// Inodes.
    pub inodes: u64,
    /// Blocks that the image says it has.
    pub blocks: u64,
    /// Blocks of the table of inodes.
    pub inode_blocks: u64,
    pub(super) root: u64,
    pub(super) table: Inode,
    /// What the keys of an encrypted image are made with, besides the image key.
    pub seed: [u8; 16],
    pub(super) bytes: Vec<u8>,
}

impl Header {
    /// Reads one.
    ///
    /// # Errors
    /// [`Error::Malformed`] for what cannot be right, and what reading fails with.
    pub(super) fn read(source: &dyn Source) -> Result<Self> {
        let malformed = |what: String, at: u64| Error::malformed(super::ID, what, at);
        let bytes: [u8; CODED] = read_array(source, 0)?;
        let (head, _) = raw::Head::ref_from_prefix(&bytes).map_err(|_| malformed("no header".into(), 0))?;
        if head.magic.get() != MAGIC {
            return Err(malformed("the magic number is another one".into(), 8));
        }
        if head.version.get() != VERSION {
            return Err(Error::unsupported(super::ID, format!("version {}", head.version)));
        }
        let block = head.block.get();
        if !block.is_power_of_two() || !(LEAST_BLOCK..=MOST_BLOCK).contains(&block) {
            return Err(malformed(format!("blocks of {block} bytes"), 0x20));
        }
        let own = Self {
            mode: head.mode.get(),
            block: block.into(),
            inodes: head.inodes.get(),
            blocks: head.blocks.get(),
            inode_blocks: head.inode_blocks.get(),
            root: head.root.get(),
            table: Inode::parse(&bytes[TABLE_AT..], TABLE_SHAPE, TABLE_AT as u64)?,
            seed: read_array(source, SEED_AT as u64)?,
            bytes: bytes.to_vec(),
        };
        let (there, most) = (source.len() / own.block, own.inode_blocks.saturating_mul(own.inodes_in_block()));
        if own.inode_blocks == 0 || own.inode_blocks >= there.max(1) {
            let what = format!("{} blocks of inodes in an image of {there} blocks", own.inode_blocks);
            return Err(malformed(what, 0x40));
        }
        if own.inodes == 0 || own.inodes > most {
            return Err(malformed(format!("{} inodes, where there is room for {most}", own.inodes), 0x30));
        }
        if own.root >= own.inodes {
            return Err(malformed(format!("the root is inode {} of {}", own.root, own.inodes), 0x48));
        }
        Ok(own)
    }

    /// Whether every block has a code.
    pub fn is_signed(&self) -> bool {
        self.mode & SIGNED != 0
    }

    /// Whether what stands behind the header is encrypted.
    pub fn is_encrypted(&self) -> bool {
        self.mode & ENCRYPTED != 0
    }

    pub(super) fn shape(&self) -> Shape {
        Shape { is_signed: self.is_signed(), is_wide: self.mode & WIDE != 0 }
    }

    /// Inodes of a block: none reaches over its end.
    pub(super) fn inodes_in_block(&self) -> u64 {
        self.block / self.shape().len() as u64
    }

    /// The bytes that its code covers, and that code.
    pub(super) fn coded(&self) -> (Vec<u8>, [u8; 32]) {
        let mut bytes = self.bytes.clone();
        let mut code = [0; 32];
        code.copy_from_slice(&bytes[CODE_AT..CODE_AT + 32]);
        bytes[CODE_AT..CODE_AT + 32].fill(0);
        (bytes, code)
    }
}
