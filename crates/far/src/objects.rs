//! Objects behind `s3://` addresses, as a store of files: read in ranges, listed, and walked through.

use crate::bucket::{Access, Address, Line, Lines, SCHEME, changed, spelled, status_of, told};
use crate::object::{Object, Ranges};
use crate::wait::wait;
use decanter_core::source::SourceRef;
use decanter_core::store::{Listed, Met, MetKind, Store};
use decanter_core::{Error, Result};
use futures_util::TryStreamExt;
use futures_util::future::try_join_all;
use object_store::path::Path as Key;
use object_store::{GetOptions, GetRange, ListResult, ObjectMeta, ObjectStore, ObjectStoreExt};
use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::ErrorKind;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Bytes that the first request asks for: most of what is asked of a file stands there.
const BEGINNING: u64 = 64 << 10;
/// Requests at the same time.
const AT_ONCE: usize = 8;
/// Objects of which a listing said how long they are: for more of them it is asked again.
const MOST_LISTED: usize = 100_000;

/// Stores of objects, as a store of files.
#[derive(Debug)]
pub struct Objects {
    pub(crate) lines: Lines,
    /// What was opened, as numbers made of the addresses: it is not written to.
    opened: Mutex<HashSet<u64>>,
    /// What listings said, so that it is not asked again for each object.
    listed: Mutex<HashMap<String, Known>>,
}

/// What is known of an object: all later answers have to say the same.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Known {
    len: u64,
    tag: Option<String>,
}

impl Known {
    fn of(meta: &ObjectMeta) -> Self {
        Self { len: meta.size, tag: meta.e_tag.clone() }
    }
}

impl Objects {
    /// One that gives up on a server that has failed for `patience`.
    pub fn new(access: Access, patience: Duration) -> Self {
        Self { lines: Lines::new(access, patience), opened: Mutex::default(), listed: Mutex::default() }
    }

    /// What stands directly in a folder.
    fn list(&self, folder: &str) -> Result<(String, ListResult)> {
        let address = Address::of(folder)?;
        let line = self.lines.to(address.bucket)?;
        let key = (!address.key.is_empty()).then(|| address.as_key()).transpose()?;
        let listed = async { line.store.list_with_delimiter(key.as_ref()).await.map_err(|e| told(folder, None, &e)) };
        let mut found = wait(&line.runtime, listed)?;
        // An object that only says that the folder is there.
        found.objects.retain(|object| Some(&object.location) != key.as_ref());
        let mut listed = self.listed.lock().unwrap_or_else(PoisonError::into_inner);
        for object in &found.objects {
            if listed.len() < MOST_LISTED {
                listed.insert(spelled(address.bucket, &object.location), Known::of(object));
            }
        }
        Ok((address.bucket.to_owned(), found))
    }

    /// What the store says of an object; `None` if there is none.
    pub(crate) fn head(&self, path: &str) -> Result<Option<ObjectMeta>> {
        let address = Address::of(path)?;
        let (line, key) = (self.lines.to(address.bucket)?, address.as_key()?);
        wait(&line.runtime, async {
            match line.store.head(&key).await {
                Ok(meta) => Ok(Some(meta)),
                Err(object_store::Error::NotFound { .. }) => Ok(None),
                Err(e) => Err(told(path, None, &e)),
            }
        })
    }

    /// Whether an object was opened in this run.
    pub(crate) fn was_opened(&self, path: &str) -> bool {
        self.opened.lock().unwrap_or_else(PoisonError::into_inner).contains(&number_of(path))
    }

    fn known(&self, path: &str) -> Option<Known> {
        self.listed.lock().unwrap_or_else(PoisonError::into_inner).get(path).cloned()
    }

    fn object(&self, path: &str, line: Line, key: Key, known: Known, beginning: Vec<u8>) -> SourceRef {
        self.opened.lock().unwrap_or_else(PoisonError::into_inner).insert(number_of(path));
        let len = known.len;
        Arc::new(Object::new(len, Arc::new(Remote { line, address: path.to_owned(), key, known }), beginning))
    }

    /// The folders and files of a folder, by name, each folder with what is in it.
    fn go_through(
        &self,
        (bucket, found): (String, ListResult),
        root: &str,
        met: &mut dyn FnMut(Met) -> Result<()>,
    ) -> Result<()> {
        let folders = found.common_prefixes.iter().map(|prefix| (spelled(&bucket, prefix), None));
        let files = found.objects.iter().map(|object| (spelled(&bucket, &object.location), Some(object)));
        let mut all: Vec<(String, Option<&ObjectMeta>)> = folders.chain(files).collect();
        all.sort_by(|a, b| a.0.cmp(&b.0));
        for (path, object) in all {
            let below = path[root.len()..].trim_start_matches('/').to_owned();
            let Some(object) = object else {
                match self.list(&format!("{path}/")) {
                    Ok(inner) => {
                        met(Met { path, below, kind: MetKind::Folder, listed: None })?;
                        self.go_through(inner, root, met)?;
                    }
                    Err(Error::Cancelled) => return Err(Error::Cancelled),
                    Err(e) => met(Met { path, below, kind: MetKind::Closed(e), listed: None })?,
                }
                continue;
            };
            met(Met { path, below, kind: MetKind::File, listed: Some(listed(object)) })?;
        }
        Ok(())
    }
}

impl Store for Objects {
    fn has(&self, path: &str) -> bool {
        path.starts_with(SCHEME)
    }

    fn is_folder(&self, path: &str) -> Result<bool> {
        let address = Address::of(path)?;
        if address.is_folder {
            return Ok(true);
        }
        if self.known(path).is_some() {
            return Ok(false);
        }
        if let Some(meta) = self.head(path)? {
            let mut listed = self.listed.lock().unwrap_or_else(PoisonError::into_inner);
            if listed.len() < MOST_LISTED {
                listed.insert(path.to_owned(), Known::of(&meta));
            }
            return Ok(false);
        }
        let (line, key) = (self.lines.to(address.bucket)?, address.as_key()?);
        let first = async {
            line.store.list(Some(&key)).try_next().await.map_err(|e| told(path, None, &e)).map(|one| one.is_some())
        };
        match wait(&line.runtime, first)? {
            true => Ok(true),
            false => {
                let why = std::io::Error::new(ErrorKind::NotFound, "the store has no such object");
                Err(Error::io("open", Path::new(path), why))
            }
        }
    }

    fn open(&self, path: &str) -> Result<SourceRef> {
        let address = Address::of(path)?;
        if address.key.is_empty() {
            return Err(Error::Usage(format!("\"{path}\" is a bucket, not an object in one")));
        }
        let (line, key) = (self.lines.to(address.bucket)?, address.as_key()?);
        let options = GetOptions { range: Some(GetRange::Bounded(0..BEGINNING)), ..GetOptions::default() };
        let asked = async {
            let answer = match line.store.get_opts(&key, options).await {
                Ok(answer) => answer,
                // Nothing stands behind the end of an empty object.
                Err(e) if status_of(&e) == Some(416) => return Ok(None),
                Err(e) => return Err(told(path, Some(0), &e)),
            };
            let known = Known::of(&answer.meta);
            let bytes = answer.bytes().await.map_err(|e| told(path, Some(0), &e))?;
            Ok(Some((known, bytes)))
        };
        let (known, bytes) = match wait(&line.runtime, asked)? {
            Some(found) => found,
            None => match self.head(path)? {
                Some(meta) if meta.size == 0 => (Known::of(&meta), Default::default()),
                _ => return Err(changed()),
            },
        };
        match bytes.len() as u64 == BEGINNING.min(known.len) {
            true => Ok(self.object(path, line, key, known, bytes.to_vec())),
            false => Err(Error::Unreadable { why: "the server sends another range than it was asked for".into() }),
        }
    }

    fn open_later(&self, path: &str) -> Result<SourceRef> {
        match self.known(path) {
            Some(known) => {
                let address = Address::of(path)?;
                Ok(self.object(path, self.lines.to(address.bucket)?, address.as_key()?, known, Vec::new()))
            }
            None => self.open(path),
        }
    }

    fn names(&self, folder: &str, most: usize) -> Vec<String> {
        // What cannot be listed has no names that could be told.
        let Ok((_, found)) = self.list(&format!("{}/", folder.trim_end_matches('/'))) else { return Vec::new() };
        let keys = found.objects.iter().map(|object| &object.location).chain(&found.common_prefixes);
        keys.filter_map(|key| key.filename().map(str::to_owned)).take(most).collect()
    }

    fn walk(&self, folder: &str, met: &mut dyn FnMut(Met) -> Result<()>) -> Result<()> {
        let root = folder.trim_end_matches('/');
        self.go_through(self.list(&format!("{root}/"))?, root, met)
    }

    fn listed(&self, path: &str) -> Result<Option<Listed>> {
        Ok(self.head(path)?.map(|meta| listed(&meta)))
    }

    fn local(&self, _: &str) -> Option<PathBuf> {
        None
    }
}

fn number_of(path: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    path.hash(&mut hasher);
    hasher.finish()
}

fn listed(object: &ObjectMeta) -> Listed {
    let modified = object.last_modified.timestamp_nanos_opt().unwrap_or(0);
    Listed { len: object.size, modified, tag: object.e_tag.clone() }
}

/// An object behind an address.
struct Remote {
    line: Line,
    address: String,
    key: Key,
    known: Known,
}

impl Remote {
    async fn range(&self, range: &Range<u64>) -> Result<Vec<u8>> {
        // A weak tag says nothing of single bytes.
        let tag = self.known.tag.clone().filter(|tag| !tag.starts_with("W/"));
        let options =
            GetOptions { range: Some(GetRange::Bounded(range.clone())), if_match: tag, ..GetOptions::default() };
        let failed = |e| match status_of(&e) {
            // It ends sooner than it did.
            Some(416) => changed(),
            _ => told(&self.address, Some(range.start), &e),
        };
        let answer = self.line.store.get_opts(&self.key, options).await.map_err(failed)?;
        if Known::of(&answer.meta) != self.known {
            return Err(changed());
        }
        let bytes = answer.bytes().await.map_err(failed)?;
        match bytes.len() as u64 == range.end - range.start {
            true => Ok(bytes.to_vec()),
            false => Err(Error::Unreadable { why: "the server sends another range than it was asked for".into() }),
        }
    }
}

impl Ranges for Remote {
    fn fetch(&self, ranges: &[Range<u64>]) -> Result<Vec<Vec<u8>>> {
        let mut all = Vec::with_capacity(ranges.len());
        for some in ranges.chunks(AT_ONCE) {
            let answers = try_join_all(some.iter().map(|range| self.range(range)));
            all.extend(wait(&self.line.runtime, answers)?);
        }
        Ok(all)
    }
}
