//! Inodes: what a file or folder is, how long it is, and where its blocks are.

use super::raw;
use crate::num::{le32, le64};
use decanter_core::{Error, Result};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

/// Pointers to blocks of the content.
pub(super) const DIRECT: usize = 12;
/// Pointers to tables of pointers: to the content, to tables, and so on.
pub(super) const INDIRECT: usize = 5;
/// In a pointer: the block behind the one before it.
const NEXT: u64 = u32::MAX as u64;
/// Bytes of a code.
pub(super) const CODE: usize = 32;

/// Bits of the mode.
pub(super) const FOLDER: u16 = 0x4000;
pub(super) const FILE: u16 = 0x8000;
/// Everybody may read and enter.
pub(super) const READABLE: u16 = 0o555;
/// Bits of the flags.
pub(super) const PACKED: u32 = 1;
pub(super) const READ_ONLY: u32 = 0x10;
pub(super) const INTERNAL: u32 = 0x2_0000;

/// How inodes of an image are laid out: with or without codes, with numbers of blocks of 32 or 64 bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Shape {
    pub(super) is_signed: bool,
    pub(super) is_wide: bool,
}

impl Shape {
    /// Bytes of a pointer, in inodes and in tables.
    pub(super) fn pointer(self) -> usize {
        let number = if self.is_wide { 8 } else { 4 };
        if self.is_signed { CODE + number } else { number }
    }

    /// Bytes of what stands in front of the pointers.
    pub(super) fn front(self) -> usize {
        size_of::<raw::Inode>() + if self.is_wide { 8 } else { 4 }
    }

    /// Bytes of an inode.
    pub(super) fn len(self) -> usize {
        self.front() + (DIRECT + INDIRECT) * self.pointer()
    }

    /// The pointer that `bytes` begin with.
    pub(super) fn read(self, bytes: &[u8]) -> Pointer {
        let at = if self.is_signed { CODE } else { 0 };
        let code = self.is_signed.then(|| {
            let mut own = [0; CODE];
            own.copy_from_slice(&bytes[..CODE]);
            own
        });
        let block = if self.is_wide { le64(bytes, at) } else { le32(bytes, at).into() };
        Pointer { block, code }
    }

    /// A pointer as it is stored.
    pub(super) fn write(self, pointer: &Pointer) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(self.pointer());
        if self.is_signed {
            bytes.extend(pointer.code.unwrap_or([0; CODE]));
        }
        let number = pointer.block.to_le_bytes();
        bytes.extend(&number[..if self.is_wide { 8 } else { 4 }]);
        bytes
    }
}

/// Where a block is, and the code that it should have.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Pointer {
    pub(super) block: u64,
    pub(super) code: Option<[u8; CODE]>,
}

/// An inode.
#[derive(Debug, Clone)]
pub(super) struct Inode {
    pub(super) mode: u16,
    pub(super) links: u16,
    pub(super) flags: u32,
    pub(super) len: u64,
    /// Of a packed file, the length that it has unpacked; else the same once more.
    pub(super) len_again: u64,
    pub(super) blocks: u64,
    pub(super) times: u64,
    pub(super) pointers: [Pointer; DIRECT + INDIRECT],
}

impl Inode {
    /// The inode that `bytes` hold; `at` is where it stands, for the error.
    ///
    /// # Errors
    /// [`Error::Malformed`] where they are too few.
    pub(super) fn parse(bytes: &[u8], shape: Shape, at: u64) -> Result<Self> {
        let short = || Error::malformed(super::ID, "an inode is cut short", at);
        let bytes = bytes.get(..shape.len()).ok_or_else(short)?;
        let (own, rest) = raw::Inode::ref_from_prefix(bytes).map_err(|_| short())?;
        let blocks = if shape.is_wide { le64(rest, 0) } else { le32(rest, 0).into() };
        let mut pointers = [Pointer::default(); DIRECT + INDIRECT];
        for (pointer, bytes) in pointers.iter_mut().zip(bytes[shape.front()..].chunks_exact(shape.pointer())) {
            *pointer = shape.read(bytes);
        }
        Ok(Self {
            mode: own.mode.get(),
            links: own.links.get(),
            flags: own.flags.get(),
            len: own.len.get(),
            len_again: own.len_again.get(),
            blocks,
            times: own.times[0].get(),
            pointers,
        })
    }

    /// The inode as it is stored.
    pub(super) fn compose(&self, shape: Shape) -> Vec<u8> {
        let mut own = raw::Inode::new_zeroed();
        own.mode.set(self.mode);
        own.links.set(self.links);
        own.flags.set(self.flags);
        own.len.set(self.len);
        own.len_again.set(self.len_again);
        own.times = [self.times.into(), self.times.into(), self.times.into(), self.times.into()];
        let mut bytes = own.as_bytes().to_vec();
        let blocks = self.blocks.to_le_bytes();
        bytes.extend(&blocks[..if shape.is_wide { 8 } else { 4 }]);
        bytes.extend(self.pointers.iter().flat_map(|p| shape.write(p)));
        bytes
    }

    /// Bytes in its blocks: of a packed file, whichever of the two lengths fits their number.
    pub(super) fn stored_len(&self, block: u64) -> u64 {
        let fits = |len: u64| len.div_ceil(block) == self.blocks;
        match self.flags & PACKED != 0 && !fits(self.len) && fits(self.len_again) {
            true => self.len_again,
            false => self.len,
        }
    }

    pub(super) fn is_folder(&self) -> bool {
        self.mode & FOLDER != 0 && self.mode & FILE == 0
    }

    /// Whether its blocks follow each other: then the first pointer says where the first of them is.
    pub(super) fn is_run(&self) -> bool {
        let others = &self.pointers[1..];
        let is_none = |p: &Pointer| p.block == 0 && p.code.is_none();
        self.blocks <= 1 || is_next(&self.pointers[1]) || others.iter().all(is_none)
    }
}

fn is_next(pointer: &Pointer) -> bool {
    pointer.block == NEXT || pointer.block == u64::MAX
}

/// The pointers of content in `blocks` blocks that follow each other from `first` on.
pub(super) fn run(first: u64, blocks: u64) -> [Pointer; DIRECT + INDIRECT] {
    let mut pointers = [Pointer::default(); DIRECT + INDIRECT];
    pointers[0].block = first;
    for pointer in pointers[1..DIRECT].iter_mut().take(blocks.saturating_sub(1) as usize) {
        pointer.block = NEXT;
    }
    pointers
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_shape_has_the_length_of_its_layout() {
        let len = |is_signed, is_wide| Shape { is_signed, is_wide }.len();
        assert_eq!(
            [len(false, false), len(true, false), len(false, true), len(true, true)],
            [0xa8, 0x2c8, 0xf0, 0x310]
        );
    }

    #[test]
    fn an_inode_comes_back() {
        for (is_signed, is_wide) in [(false, false), (true, false), (false, true), (true, true)] {
            let shape = Shape { is_signed, is_wide };
            let mut own = Inode {
                mode: FILE | READABLE,
                links: 1,
                flags: PACKED,
                len: 0x1_2345_6789,
                len_again: 9,
                blocks: 7,
                times: 0,
                pointers: Default::default(),
            };
            for (index, pointer) in own.pointers.iter_mut().enumerate() {
                let code = is_signed.then_some([index as u8; CODE]);
                *pointer = Pointer { block: 3 + index as u64, code };
            }
            let bytes = own.compose(shape);
            let read = Inode::parse(&bytes, shape, 0).unwrap();
            assert_eq!((read.len, read.blocks, read.pointers), (own.len, own.blocks, own.pointers));
            assert_eq!(read.compose(shape), bytes);
            assert!(Inode::parse(&bytes[..bytes.len() - 1], shape, 0).is_err());
        }
    }

    #[test]
    fn a_run_says_where_it_begins_alone() {
        let own = |blocks, pointers| Inode {
            mode: FILE,
            links: 1,
            flags: 0,
            len: 0,
            len_again: 0,
            blocks,
            times: 0,
            pointers,
        };
        assert!(own(40, run(5, 40)).is_run() && own(1, run(5, 1)).is_run());
        let mut listed = run(5, 1);
        listed[1].block = 9;
        assert!(!own(2, listed).is_run());
        assert_eq!(run(5, 3).map(|p| p.block)[..4], [5, NEXT, NEXT, 0]);
    }
}
