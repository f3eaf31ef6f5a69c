//! New images: every group is encrypted and hashed by a thread of its own, in one pass.

use super::header::{self, ENTRY, Hashes, IN_GROUP, SEGMENT};
use super::lock::{Lock, SHA1};
use crate::package::ps3::{cbc_encrypt, cbc_encrypt_each};
use decanter_core::blueprint::{Blueprint, PackWorker, Packer, Weeder};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::keyring::Key;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Result};
use std::sync::Arc;

/// An image with all bytes of `image` under `lock`.
///
/// # Errors
/// [`Error::Usage`] for a lock that lacks a key.
pub fn compose(image: SourceRef, content_id: &str, lock: &Lock, hashes: &Hashes) -> Result<Blueprint> {
    let (Some(meta), Some(data)) = (lock.meta.clone(), lock.data.clone()) else {
        return Err(Error::Usage("tables and segments both need a key".into()));
    };
    let mut blueprint = Blueprint::new();
    blueprint.source(Arc::new(Bytes(header::compose(content_id, image.len(), hashes)?)));
    blueprint.packed(image, Arc::new(Groups { meta, data, iv: lock.iv }));
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
    fn pack(&mut self, raw: &[u8], packed: &mut Vec<u8>, _marks: &mut Vec<u32>) -> Result<()> {
        let segment = SEGMENT as usize;
        let start = packed.len();
        packed.resize(start + segment, 0);
        packed.extend_from_slice(raw);
        packed.resize(start + segment + raw.len().next_multiple_of(segment), 0);
        let (table, segments) = packed[start..].split_at_mut(segment);
        cbc_encrypt_each(&self.data, &self.iv, segment, segments)?;
        for (entry, segment) in table.chunks_exact_mut(ENTRY).zip(segments.chunks_exact(segment)) {
            entry[..SHA1].copy_from_slice(&of_bytes(Algorithm::Sha1, segment).bytes);
        }
        Ok(())
    }
}

/// Sees the groups in their order: numbers their segments, and closes the tables.
struct Tables {
    meta: Key,
    iv: [u8; 16],
    next: u32,
}

impl Weeder for Tables {
    fn weed(&mut self, packed: &mut Vec<u8>, _marks: &mut Vec<u32>) -> Result<()> {
        let segments = packed.len() / SEGMENT as usize - 1;
        let table = &mut packed[..SEGMENT as usize];
        for entry in table.chunks_exact_mut(ENTRY).take(segments) {
            entry[SHA1..SHA1 + 4].copy_from_slice(&self.next.to_be_bytes());
            self.next += 1;
        }
        cbc_encrypt(&self.meta, &self.iv, table)
    }
}
