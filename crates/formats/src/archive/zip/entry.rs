//! One entry's bytes.

use super::method::Method;
use super::raw::Local;
use super::{ID, Inflate, LOCAL};
use crate::raw::read_at;
use decanter_core::source::{Source, SourceRef, check_range, read_vec};
use decanter_core::view::{MOST_HELD, Slice};
use decanter_core::{Error, Result};
use std::sync::{Arc, OnceLock};

/// Length of a local file header without its name and extra field (APPNOTE 4.3.7).
pub(super) const HEADER_LEN: u64 = size_of::<Local>() as u64;

/// An entry. Where its data begins stands in its local header, which is read on first use, so that listing an
/// archive of many thousand entries reads nothing but the central directory.
pub(super) struct Entry {
    archive: SourceRef,
    header_at: u64,
    packed_len: u64,
    len: u64,
    method: Method,
    data: OnceLock<SourceRef>,
}

impl Entry {
    pub(super) fn new(archive: SourceRef, header_at: u64, packed_len: u64, len: u64, method: Method) -> Self {
        Self { archive, header_at, packed_len, len, method, data: OnceLock::new() }
    }

    /// Where the data begins, behind the local header.
    fn data_at(&self) -> Result<u64> {
        let header: Local = read_at(self.archive.as_ref(), self.header_at)?;
        if header.signature != LOCAL {
            return Err(Error::malformed(ID, "a local header without its signature", self.header_at));
        }
        Ok(self.header_at + HEADER_LEN + u64::from(header.name_len.get()) + u64::from(header.extra_len.get()))
    }

    fn data(&self) -> Result<&SourceRef> {
        if let Some(data) = self.data.get() {
            return Ok(data);
        }
        let start = self.data_at()?;
        let packed: SourceRef = Arc::new(Slice::new(self.archive.clone(), start, self.packed_len)?);
        let data = match self.method {
            Method::Stored if self.packed_len != self.len => {
                return Err(Error::malformed(ID, "a stored entry with two different lengths", self.header_at));
            }
            Method::Stored => packed,
            Method::Deflated => Arc::new(Inflate::new(packed, self.len)),
            other => other.forward(packed, self.len),
        };
        Ok(self.data.get_or_init(|| data))
    }
}

impl Entry {
    /// A small entry that is read whole is inflated in one go, which is several times faster than step by step. What
    /// cannot be inflated so is left to the slow way, which says where the damage is.
    fn inflated_whole(&self, buf: &mut [u8]) -> Result<bool> {
        let is_whole = buf.len() as u64 == self.len && !buf.is_empty();
        if !is_whole || !matches!(self.method, Method::Deflated) || self.len.max(self.packed_len) > MOST_HELD {
            return Ok(false);
        }
        let start = self.data_at()?;
        let packed = read_vec(self.archive.as_ref(), start, self.packed_len, "an entry", MOST_HELD)?;
        let inflated = libdeflater::Decompressor::new().deflate_decompress(&packed, buf);
        Ok(inflated.is_ok_and(|len| len == buf.len()))
    }
}

impl Source for Entry {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        if self.inflated_whole(buf)? {
            return Ok(());
        }
        self.data()?.read_at(offset, buf)
    }

    fn prefers_sequential(&self) -> bool {
        !matches!(self.method, Method::Stored) || self.archive.prefers_sequential()
    }
}
