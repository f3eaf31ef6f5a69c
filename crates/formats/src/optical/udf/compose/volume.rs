//! The descriptors of the volume: what it is, its partition, and whether it was closed.

use super::fields::{REVISION, blank, charset, date, domain, dstring, entity, maker, sealed};
use super::{ANCHOR_LEN, Bridge, INTEGRITY, MAIN, PARTITION, RESERVE, SEQUENCE_SECTORS};
use crate::optical::udf::descriptor::tag;
use crate::optical::udf::raw::{
    Anchor, FileSet, Information, Integrity, Logical, Partition, PlainMap, Primary, Unallocated,
};
use decanter_core::SECTOR;
use zerocopy::IntoBytes;

/// What may be in the partition, and that it is only read.
const CONTENTS: &[u8] = b"+NSR02";
const READ_ONLY: u32 = 1;
/// Bytes of a terminating descriptor.
const TERMINATOR: usize = 512;

/// An anchor in sector `at`.
pub fn anchor(at: u64) -> Vec<u8> {
    let mut own: Anchor = blank();
    for (extent, start) in [(&mut own.main, MAIN), (&mut own.reserve, RESERVE)] {
        extent.len = (SEQUENCE_SECTORS * SECTOR as u32).into();
        extent.sector = (start as u32).into();
    }
    let mut bytes = own.as_bytes().to_vec();
    bytes.resize(ANCHOR_LEN, 0);
    sealed(tag::ANCHOR, at, bytes)
}

/// What ends a list of descriptors.
pub(super) fn terminator(at: u64) -> Vec<u8> {
    sealed(tag::TERMINATING, at, vec![0; TERMINATOR])
}

impl Bridge<'_> {
    /// The volume descriptors from sector `start` on (ECMA-167, 3/10; UDF 1.02, 2.2), for a partition of so many blocks.
    pub(super) fn sequence(&self, start: u64, blocks: u64) -> Vec<Vec<u8>> {
        let all = [
            (tag::PRIMARY, self.primary().as_bytes().to_vec()),
            (tag::INFORMATION, self.information().as_bytes().to_vec()),
            (tag::PARTITION, partition(blocks).as_bytes().to_vec()),
            (tag::LOGICAL_VOLUME, self.logical()),
            (tag::UNALLOCATED, Unallocated { sequence: 4.into(), ..blank() }.as_bytes().to_vec()),
            (tag::TERMINATING, vec![0; TERMINATOR]),
        ];
        all.into_iter().zip(start..).map(|((id, bytes), at)| sealed(id, at, bytes)).collect()
    }

    fn primary(&self) -> Primary {
        Primary {
            id: dstring(self.label),
            volume: 1.into(),
            most_volumes: 1.into(),
            level: 2.into(),
            most_level: 2.into(),
            charsets: 1.into(),
            most_charsets: 1.into(),
            // The first sixteen characters should be unique; what is made the same every time cannot be.
            set: dstring(&format!("0000000000000000{}", self.label)),
            charset: charset(),
            explanatory: charset(),
            made: date(self.tree.newest),
            implementation: maker(),
            ..blank()
        }
    }

    fn information(&self) -> Information {
        Information {
            sequence: 1.into(),
            implementation: entity(b"*UDF LV Info", &REVISION.to_le_bytes()),
            charset: charset(),
            volume: dstring(self.label),
            maker: maker(),
            ..blank()
        }
    }

    /// The logical volume with its one partition map.
    fn logical(&self) -> Vec<u8> {
        let map = PlainMap { kind: 1, len: size_of::<PlainMap>() as u8, volume: 1.into(), number: 0.into() };
        let mut own = Logical {
            sequence: 3.into(),
            charset: charset(),
            id: dstring(self.label),
            block: (SECTOR as u32).into(),
            domain: domain(),
            maps_len: u32::from(map.len).into(),
            maps: 1.into(),
            implementation: maker(),
            ..blank()
        };
        own.file_set.len = (2 * SECTOR as u32).into();
        own.integrity.len = (2 * SECTOR as u32).into();
        own.integrity.sector = (INTEGRITY as u32).into();
        [own.as_bytes(), map.as_bytes()].concat()
    }

    /// That the volume was closed, and how much is on it.
    pub(super) fn integrity(&self, blocks: u64) -> Vec<u8> {
        let own = Integrity {
            recorded: date(self.tree.newest),
            kind: 1.into(),
            next_unique: (PARTITION + self.blocks()).into(),
            partitions: 1.into(),
            own_len: 46.into(),
            size: (blocks as u32).into(),
            implementation: maker(),
            files: (self.tree.files.len() as u32).into(),
            folders: (self.tree.folders.len() as u32).into(),
            least_read: REVISION.into(),
            least_write: REVISION.into(),
            most_write: REVISION.into(),
            ..blank()
        };
        sealed(tag::INTEGRITY, INTEGRITY, own.as_bytes().to_vec())
    }

    /// The file set, whose root's entry is in block `root`.
    pub(super) fn file_set(&self, root: u64) -> Vec<u8> {
        let mut own = FileSet {
            recorded: date(self.tree.newest),
            level: 3.into(),
            most_level: 3.into(),
            charsets: 1.into(),
            most_charsets: 1.into(),
            volume_charset: charset(),
            volume: dstring(self.label),
            charset: charset(),
            id: dstring(self.label),
            domain: domain(),
            ..blank()
        };
        own.root.len = (SECTOR as u32).into();
        own.root.at.block = (root as u32).into();
        sealed(tag::FILE_SET, 0, own.as_bytes().to_vec())
    }
}

fn partition(blocks: u64) -> Partition {
    Partition {
        sequence: 2.into(),
        flags: 1.into(),
        contents: entity(CONTENTS, &[]),
        access: READ_ONLY.into(),
        start: (PARTITION as u32).into(),
        blocks: (blocks as u32).into(),
        implementation: maker(),
        ..blank()
    }
}
