//! A tree: the named files and folders inside a source.

use crate::source::{Source, SourceRef};
use crate::view::{Concat, Slice};
use crate::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// A file, folder or link inside a source.
#[derive(Clone)]
pub struct Node {
    /// Path with `/` between the names, as the source spells them; no leading `/`. It may be hostile: only
    /// [`crate::names`] turns it into a path on this machine.
    pub path: String,
    /// What it is.
    pub kind: Kind,
    /// When it was last changed, in seconds since 1970-01-01 UTC, where the source says so.
    pub modified: Option<i64>,
    /// What else its file system keeps of it.
    pub about: Option<Arc<About>>,
}

/// What the file systems of home computers keep of a node and most others have no place for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// In words, as it is listed: "PRG", "locked", "loads at $0801".
    pub words: Vec<String>,
    /// The protection bits of an Amiga file, as they are stored.
    pub protection: Option<u32>,
    /// The comment of an Amiga file, as its bytes of ISO 8859-1.
    pub comment: Vec<u8>,
}

/// What a node is.
#[derive(Clone)]
pub enum Kind {
    /// A folder.
    Folder,
    /// A file.
    File(File),
    /// A symbolic link, with its target as it stands in the source.
    Link(String),
}

/// The content of a file inside a source.
#[derive(Clone)]
pub struct File {
    /// Length in bytes, as the directory gives it.
    pub len: u64,
    /// Where the content lies in the source the tree was opened on: byte ranges in the order of the
    /// content. Empty when it is compressed or lies elsewhere.
    pub spans: Vec<Range<u64>>,
    /// Whether it can be read, and the bytes if so.
    pub content: Content,
}

/// Whether a file can be read.
#[derive(Clone)]
pub enum Content {
    /// All of it is there.
    Whole(SourceRef),
    /// It is encrypted, and the key is missing. Reading fails and says which key.
    Locked(SourceRef),
    /// The source ends before the file does: so many bytes of it are missing.
    Cut {
        /// Bytes that lie past the end of the source.
        missing: u64,
    },
    /// Its directory entry cannot be right, or uses something that is not read here: why, with the offset.
    Broken(String),
}

impl File {
    /// A file with all bytes of `source`, which stand nowhere else in one piece.
    pub fn of(source: SourceRef) -> Self {
        Self { len: source.len(), spans: Vec::new(), content: Content::Whole(source) }
    }

    /// One of `len` bytes that cannot be read: why.
    pub fn broken(len: u64, why: impl Into<String>) -> Self {
        Self { len, spans: Vec::new(), content: Content::Broken(why.into()) }
    }

    /// A file made of `spans` of `base`, in this order, and `len` bytes long. Spans that reach past the end of
    /// `base` make it a cut file, not an error.
    ///
    /// # Errors
    /// [`Error::Limit`] when the spans' lengths overflow.
    pub fn from_spans(base: &SourceRef, spans: Vec<Range<u64>>) -> Result<Self> {
        let mut len = 0u64;
        let mut missing = 0u64;
        for span in &spans {
            let size = span.end - span.start;
            len = len.checked_add(size).ok_or(Error::Limit { what: "a file", asked: u64::MAX, limit: u64::MAX })?;
            missing += size - span.end.min(base.len()).saturating_sub(span.start);
        }
        if missing > 0 {
            return Ok(Self { len, spans, content: Content::Cut { missing } });
        }
        let mut parts = spans
            .iter()
            // An extent of no bytes lies nowhere: whatever it says of its place is no error.
            .filter(|s| !s.is_empty())
            .map(|s| Ok(Arc::new(Slice::new(base.clone(), s.start, s.end - s.start)?) as SourceRef))
            .collect::<Result<Vec<_>>>()?;
        let source = if parts.len() == 1 { parts.remove(0) } else { Arc::new(Concat::new(parts)?) };
        Ok(Self { len, spans, content: Content::Whole(source) })
    }

    /// The bytes, if all of them can be read or the reason will be told on reading.
    ///
    /// # Errors
    /// [`Error::PastEnd`] for a file that is cut short, [`Error::Unreadable`] for one with a broken entry.
    pub fn source(&self) -> Result<&SourceRef> {
        match &self.content {
            Content::Whole(source) | Content::Locked(source) => Ok(source),
            Content::Cut { missing } => {
                Err(Error::PastEnd { offset: 0, asked: self.len, len: self.len - missing.min(&self.len) })
            }
            Content::Broken(why) => Err(Error::Unreadable { why: why.clone() }),
        }
    }
}

impl Node {
    /// One of which no more is known.
    pub fn new(path: String, kind: Kind, modified: Option<i64>) -> Self {
        Self { path, kind, modified, about: None }
    }

    /// The same with what else is known of it.
    #[must_use]
    pub fn about(self, about: About) -> Self {
        Self { about: (about != About::default()).then(|| Arc::new(about)), ..self }
    }

    /// The file, if the node is one.
    pub fn file(&self) -> Option<&File> {
        match &self.kind {
            Kind::File(file) => Some(file),
            _ => None,
        }
    }

    /// The last name of the path.
    pub fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or(&self.path)
    }
}

/// Files and folders, parents before what is in them.
#[derive(Clone, Default)]
pub struct Tree {
    /// All nodes, in the order in which the source lists them.
    pub nodes: Vec<Node>,
}

impl Tree {
    /// The files, with their nodes.
    pub fn files(&self) -> impl Iterator<Item = (&Node, &File)> {
        self.nodes.iter().filter_map(|n| n.file().map(|f| (n, f)))
    }

    /// The number of folders.
    pub fn folder_count(&self) -> usize {
        self.nodes.iter().filter(|n| matches!(n.kind, Kind::Folder)).count()
    }

    /// The node at `path`: spelled exactly so, or else the only one that differs in case alone.
    pub fn find(&self, path: &str) -> Option<&Node> {
        let path = path.trim_matches('/');
        let exact = self.nodes.iter().find(|n| n.path == path);
        exact.or_else(|| {
            let folded = path.to_lowercase();
            let mut alike = self.nodes.iter().filter(|n| n.path.to_lowercase() == folded);
            let first = alike.next()?;
            alike.next().is_none().then_some(first)
        })
    }

    /// Reads a small file whole: at most `limit` bytes, `None` if it is not there.
    ///
    /// # Errors
    /// What reading fails with, and [`Error::Limit`].
    pub fn read(&self, path: &str, limit: u64) -> Result<Option<Vec<u8>>> {
        let Some(file) = self.find(path).and_then(Node::file) else { return Ok(None) };
        let source: &dyn Source = file.source()?.as_ref();
        crate::source::read_vec(source, 0, source.len(), "a small file", limit).map(Some)
    }
}
