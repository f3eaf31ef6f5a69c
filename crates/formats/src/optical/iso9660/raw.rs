//! ECMA-119 structures as they stand on the disc, byte for byte.

use crate::optical::both::{Both16, Both32};
use zerocopy::byteorder::{BE, LE, U32};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// The fixed part of a directory record (9.1); the identifier and the system use field follow.
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Record {
    pub(super) length: u8,
    pub(super) attribute_blocks: u8,
    pub(super) extent: Both32,
    pub(super) data_length: Both32,
    pub(super) date: [u8; 7],
    pub(super) flags: u8,
    pub(super) unit_size: u8,
    pub(super) gap_size: u8,
    pub(super) volume: Both16,
    pub(super) identifier_length: u8,
}

pub(super) const RECORD_LEN: usize = 33;
const _: () = assert!(size_of::<Record>() == RECORD_LEN);

/// File flags (9.1.6).
pub(super) const FLAG_FOLDER: u8 = 0x02;
pub(super) const FLAG_ASSOCIATED: u8 = 0x04;
pub(super) const FLAG_MORE_EXTENTS: u8 = 0x80;

/// A primary or supplementary volume descriptor (8.4, 8.5).
#[derive(FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Descriptor {
    pub(super) kind: u8,
    pub(super) identifier: [u8; 5],
    pub(super) version: u8,
    pub(super) flags: u8,
    pub(super) system: [u8; 32],
    pub(super) volume: [u8; 32],
    pub(super) unused_72: [u8; 8],
    pub(super) space_size: Both32,
    pub(super) escapes: [u8; 32],
    pub(super) set_size: Both16,
    pub(super) sequence: Both16,
    pub(super) block_size: Both16,
    pub(super) path_table_size: Both32,
    pub(super) path_table_le: U32<LE>,
    pub(super) path_table_le_copy: U32<LE>,
    pub(super) path_table_be: U32<BE>,
    pub(super) path_table_be_copy: U32<BE>,
    pub(super) root: Record,
    pub(super) root_identifier: u8,
    pub(super) volume_set: [u8; 128],
    pub(super) publisher: [u8; 128],
    pub(super) preparer: [u8; 128],
    pub(super) application: [u8; 128],
    pub(super) files: [u8; 111],
    pub(super) dates: [[u8; 17]; 4],
    pub(super) structure_version: u8,
    pub(super) rest: [u8; 1166],
}

const _: () = assert!(size_of::<Descriptor>() == 2048);
const _: () = assert!(std::mem::offset_of!(Descriptor, space_size) == 80);
const _: () = assert!(std::mem::offset_of!(Descriptor, root) == 156);
const _: () = assert!(std::mem::offset_of!(Descriptor, volume_set) == 190);
const _: () = assert!(std::mem::offset_of!(Descriptor, dates) == 813);

/// Descriptor types (8.1.1).
pub(super) const PRIMARY: u8 = 1;
pub(super) const SUPPLEMENTARY: u8 = 2;
pub(super) const TERMINATOR: u8 = 255;
/// The standard identifier of every descriptor (8.1.2).
pub(super) const CD001: [u8; 5] = *b"CD001";
/// First sector of the volume descriptors (6.7.1).
pub(super) const FIRST_DESCRIPTOR: u64 = 16;
