//! Outputs that go to a store of objects: in parts side by side, complete or not there, and compared afterwards.

use crate::bucket::{Address, Line, SCHEME, told};
use crate::objects::Objects;
use crate::wait::wait;
use decanter_core::depot::Depot;
use decanter_core::digest::{Algorithm, Digest, of_bytes};
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::store::Store;
use decanter_core::{Error, Result, os, watch};
use object_store::path::Path as Key;
use object_store::{MultipartUpload, ObjectStoreExt, PutPayload};
use std::fs::File;
use std::path::Path;
use std::sync::Arc;
use tokio::task::JoinSet;

/// Bytes of a part, at least; what is not longer goes in one request.
const PART: u64 = 8 << 20;
/// Parts that an object has, at most; stores take 10,000.
const MOST_PARTS: u64 = 9000;
/// Parts that are sent at the same time.
const AT_ONCE: usize = 3;
/// Bytes that are compared at a time.
const BLOCK: u64 = 4 << 20;

impl Depot for Objects {
    fn has(&self, target: &str) -> bool {
        target.starts_with(SCHEME)
    }

    fn reads(&self, target: &str) -> bool {
        self.was_opened(target)
    }

    fn is_there(&self, target: &str) -> Result<bool> {
        let address = Address::of(target)?;
        if address.is_folder {
            return Err(Error::Usage(format!("\"{target}\" is no name for an object")));
        }
        Ok(self.head(target)?.is_some())
    }

    fn put(&self, path: &Path, target: &str) -> Result<()> {
        let address = Address::of(target)?;
        let (line, key) = (self.lines.to(address.bucket)?, address.as_key()?);
        let failed = |e| Error::io("open", path, e);
        let file = File::open(path).map_err(failed)?;
        let len = file.metadata().map_err(failed)?.len();
        let sending = Sending { line: &line, key: &key, target, file: &file, path, len };
        let sums = match len <= PART {
            true => sending.at_once()?,
            false => sending.in_parts()?,
        };
        self.prove(path, target, len, &sums).inspect_err(|_| {
            // The first error says why; wrong bytes are worse than none.
            let _ = Depot::remove(self, target);
        })
    }

    fn remove(&self, target: &str) -> Result<()> {
        let address = Address::of(target)?;
        let (line, key) = (self.lines.to(address.bucket)?, address.as_key()?);
        wait(&line.runtime, async { line.store.delete(&key).await.map_err(|e| told(target, None, &e)) })
    }
}

impl Objects {
    /// Fails unless the store has what was sent: its tag is made of the MD5 sums of the parts, or else it is read back.
    fn prove(&self, path: &Path, target: &str, len: u64, sums: &[Digest]) -> Result<()> {
        let differs = |why: &str| {
            let why = format!("{target}: {why}; it was taken away again");
            Err(Error::Unreadable { why })
        };
        let Some(meta) = self.head(target)? else { return differs("the store took it, and does not have it") };
        if meta.size != len {
            return differs(&format!("the store has {} bytes of the {len} that were sent", meta.size));
        }
        let tag = meta.e_tag.as_deref().unwrap_or_default().trim_matches('"').to_lowercase();
        if tag == tag_of(sums, len > PART) {
            return Ok(());
        }
        let (own, there) = (Arc::new(FileSource::own(path)?) as SourceRef, Store::open(self, target)?);
        let mut at = 0;
        while at < len {
            watch::going_on()?;
            let count = BLOCK.min(len - at) as usize;
            let (mut left, mut right) = (vec![0; count], vec![0; count]);
            own.read_at(at, &mut left)?;
            there.read_at(at, &mut right)?;
            if left != right {
                return differs(&format!("it is not what was sent, from byte {at} on or soon after"));
            }
            at += count as u64;
        }
        Ok(())
    }
}

/// The tag that stores give to an object of these parts, where they give one that says something of its bytes.
fn tag_of(sums: &[Digest], is_in_parts: bool) -> String {
    let all: Vec<u8> = sums.iter().flat_map(|sum| sum.bytes.clone()).collect();
    match sums {
        [one] if !is_in_parts => one.hex(),
        _ => format!("{}-{}", of_bytes(Algorithm::Md5, &all).hex(), sums.len()),
    }
}

/// A file on its way.
struct Sending<'a> {
    line: &'a Line,
    key: &'a Key,
    target: &'a str,
    file: &'a File,
    path: &'a Path,
    len: u64,
}

impl Sending<'_> {
    /// Bytes of the file with their MD5 sum.
    fn piece(&self, at: u64, len: u64) -> Result<(PutPayload, Digest)> {
        let mut bytes = vec![0; len as usize];
        os::read_exact_at(self.file, &mut bytes, at).map_err(|e| Error::io_at("read", self.path, at, e))?;
        let sum = of_bytes(Algorithm::Md5, &bytes);
        Ok((PutPayload::from(bytes), sum))
    }

    fn failed(&self, error: &object_store::Error) -> Error {
        told(self.target, None, error)
    }

    fn at_once(&self) -> Result<Vec<Digest>> {
        let (payload, sum) = self.piece(0, self.len)?;
        let sent = async { self.line.store.put(self.key, payload).await.map_err(|e| self.failed(&e)) };
        wait(&self.line.runtime, sent)?;
        Ok(vec![sum])
    }

    fn in_parts(&self) -> Result<Vec<Digest>> {
        let begun = async { self.line.store.put_multipart(self.key).await.map_err(|e| self.failed(&e)) };
        let mut upload = wait(&self.line.runtime, begun)?;
        let sent = wait(&self.line.runtime, self.parts(upload.as_mut()));
        if sent.is_err() {
            // The first error says why; what is left at the store is no object.
            let _ = self
                .line
                .runtime
                .block_on(async { tokio::time::timeout(std::time::Duration::from_secs(5), upload.abort()).await });
        }
        sent
    }

    async fn parts(&self, upload: &mut dyn MultipartUpload) -> Result<Vec<Digest>> {
        let part = PART.max(self.len.div_ceil(MOST_PARTS).next_multiple_of(1 << 20));
        let mut sums = Vec::new();
        let mut under_way = JoinSet::new();
        let mut at = 0;
        while at < self.len {
            while under_way.len() >= AT_ONCE {
                self.landed(under_way.join_next().await)?;
            }
            let len = part.min(self.len - at);
            let (payload, sum) = self.piece(at, len)?;
            sums.push(sum);
            under_way.spawn(upload.put_part(payload));
            at += len;
        }
        while !under_way.is_empty() {
            self.landed(under_way.join_next().await)?;
        }
        upload.complete().await.map_err(|e| self.failed(&e))?;
        Ok(sums)
    }

    fn landed(
        &self,
        part: Option<std::result::Result<object_store::Result<()>, tokio::task::JoinError>>,
    ) -> Result<()> {
        match part {
            Some(Ok(Err(e))) => Err(self.failed(&e)),
            Some(Err(_)) => Err(Error::Usage("a sending thread ended early".into())),
            Some(Ok(Ok(()))) | None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tags_are_those_that_stores_give() {
        // MD5 of nothing; and of the 32 bytes of two such sums, as md5sum says.
        let none = of_bytes(Algorithm::Md5, b"");
        assert_eq!(tag_of(std::slice::from_ref(&none), false), "d41d8cd98f00b204e9800998ecf8427e");
        assert_eq!(tag_of(&[none.clone(), none], true), "5873dd45edd01f09c1ef2e7819369e8e-2");
    }
}
