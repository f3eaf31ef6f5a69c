//! New images: every group is encrypted and hashed by a thread of its own, in one pass. As a file of its own an image is
//! written as it is made; inside another container it is a source, whose groups are made when they are read.

use super::header::{self, ENTRY, Hashes, IN_GROUP, SEGMENT};
use super::lock::{Lock, SHA1};
use crate::package::ps3::{cbc_encrypt, cbc_encrypt_each};
use decanter_core::blueprint::{Blueprint, PackWorker, Packer, Weeder};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::keyring::Key;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::{Blocks, Cached, Concat};
use decanter_core::{Error, Result};
use std::sync::Arc;

/// An image with all bytes of `image` under `lock`.
///
/// # Errors
/// [`Error::Usage`] for a lock that lacks a key.
pub fn compose(image: SourceRef, content_id: &str, lock: &Lock, hashes: &Hashes) -> Result<Blueprint> {
    let groups = groups(lock)?;
    let mut blueprint = Blueprint::new();
    blueprint.source(Arc::new(Bytes(header::compose(content_id, image.len(), hashes)?)));
    blueprint.packed(image, Arc::new(groups));
    Ok(blueprint)
}

struct Groups {
    meta: Key,
    data: Key,
    iv: [u8; 16],
}

impl Packer for Groups {
    fn batch_len(&self) -> usize {
        (SEGMENT * IN_GROUP) as usize
    }

    fn worker(&self) -> Result<Box<dyn PackWorker>> {
        Ok(Box::new(Group { data: self.data.clone(), iv: self.iv }))
    }

    fn weeder(&self) -> Option<Box<dyn Weeder>> {
        Some(Box::new(Tables { meta: self.meta.clone(), iv: self.iv, next: 0 }))
    }
}

/// One thread: encrypts the segments of a group behind a table of their digests.
struct Group {
    data: Key,
    iv: [u8; 16],
}

impl PackWorker for Group {
    fn pack(&mut self, _at: u64, raw: &[u8], packed: &mut Vec<u8>, _marks: &mut Vec<u32>) -> Result<()> {
        let segment = SEGMENT as usize;
        let start = packed.len();
        packed.resize(start + segment, 0);
        packed.extend_from_slice(raw);
        packed.resize(start + segment + raw.len().next_multiple_of(segment), 0);
        close_segments(&self.data, &self.iv, &mut packed[start..])
    }
}

/// Encrypts the segments of a group, which begins with room for their table, and puts their digests there.
fn close_segments(data: &Key, iv: &[u8; 16], group: &mut [u8]) -> Result<()> {
    let segment = SEGMENT as usize;
    let (table, segments) = group.split_at_mut(segment);
    cbc_encrypt_each(data, iv, segment, segments)?;
    for (entry, segment) in table.chunks_exact_mut(ENTRY).zip(segments.chunks_exact(segment)) {
        entry[..SHA1].copy_from_slice(&of_bytes(Algorithm::Sha1, segment).bytes);
    }
    Ok(())
}

/// Numbers the segments of a group, whose first one is `first`, in its table, and encrypts that.
fn close_table(meta: &Key, iv: &[u8; 16], first: u32, group: &mut [u8]) -> Result<()> {
    let segments = group.len() / SEGMENT as usize - 1;
    let table = &mut group[..SEGMENT as usize];
    for (number, entry) in (first..).zip(table.chunks_exact_mut(ENTRY).take(segments)) {
        entry[SHA1..SHA1 + 4].copy_from_slice(&number.to_be_bytes());
    }
    cbc_encrypt(meta, iv, table)
}

/// Sees the groups in their order: numbers their segments, and closes the tables.
struct Tables {
    meta: Key,
    iv: [u8; 16],
    next: u32,
}

impl Weeder for Tables {
    fn weed(&mut self, packed: &mut Vec<u8>, _marks: &mut Vec<u32>) -> Result<()> {
        close_table(&self.meta, &self.iv, self.next, packed)?;
        self.next += (packed.len() / SEGMENT as usize - 1) as u32;
        Ok(())
    }
}

/// Groups of a new image that are kept while they are read.
const MOST_KEPT: usize = 4;

/// The same image as a source, for what packs it into another container.
///
/// # Errors
/// As [`compose`].
pub fn source(image: SourceRef, content_id: &str, lock: &Lock, hashes: &Hashes) -> Result<SourceRef> {
    let groups = groups(lock)?;
    let header = Bytes(header::compose(content_id, image.len(), hashes)?);
    let made = Cached::new(Made { image, groups }, MOST_KEPT);
    Ok(Arc::new(Concat::new(vec![Arc::new(header), Arc::new(made)])?))
}

/// The groups behind the header, each made when it is read.
struct Made {
    image: SourceRef,
    groups: Groups,
}

impl Blocks for Made {
    fn len(&self) -> u64 {
        let segments = self.image.len().div_ceil(SEGMENT);
        SEGMENT * (segments.div_ceil(IN_GROUP) + segments)
    }

    fn count(&self) -> usize {
        self.image.len().div_ceil(SEGMENT * IN_GROUP) as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        let len = SEGMENT * (IN_GROUP + 1);
        ((offset / len) as usize, offset / len * len)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let start = index as u64 * SEGMENT * IN_GROUP;
        let len = (self.image.len() - start).min(SEGMENT * IN_GROUP);
        let mut group = vec![0; (SEGMENT + len.next_multiple_of(SEGMENT)) as usize];
        self.image.read_at(start, &mut group[SEGMENT as usize..][..len as usize])?;
        let Groups { meta, data, iv } = &self.groups;
        close_segments(data, iv, &mut group)?;
        close_table(meta, iv, (start / SEGMENT) as u32, &mut group)?;
        Ok(group)
    }
}

/// What closes the groups of an image.
fn groups(lock: &Lock) -> Result<Groups> {
    match (lock.meta.clone(), lock.data.clone()) {
        (Some(meta), Some(data)) => Ok(Groups { meta, data, iv: lock.iv }),
        _ => Err(Error::Usage("tables and segments both need a key".into())),
    }
}
