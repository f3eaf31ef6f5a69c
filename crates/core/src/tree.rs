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

/// The path of `name` in the folder at `parent`; the root's path is empty.
pub fn below(parent: &str, name: &str) -> String {
    if parent.is_empty() { name.to_owned() } else { format!("{parent}/{name}") }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use proptest::prelude::*;

    fn file(path: &str, content: &[u8]) -> Node {
        Node::new(path.into(), Kind::File(File::of(Arc::new(Bytes(content.to_vec())))), None)
    }

    #[test]
    fn the_exact_name_goes_first_and_case_alone_must_be_clear() {
        let tree = Tree { nodes: vec![file("A.TXT", b"1"), file("a.txt", b"2"), file("Only.TXT", b"3")] };
        let read = |path: &str| tree.read(path, 10).unwrap();
        assert_eq!((read("a.txt"), read("A.TXT")), (Some(b"2".to_vec()), Some(b"1".to_vec())));
        assert_eq!((read("A.txt"), read("only.txt"), read("none")), (None, Some(b"3".to_vec()), None));
        assert!(matches!(tree.read("a.txt", 0), Err(Error::Limit { .. })));
    }

    #[test]
    fn paths_are_put_together() {
        assert_eq!((below("", "a"), below("a/b", "c")), ("a".into(), "a/b/c".into()));
    }

    #[test]
    fn what_cannot_be_read_says_why() {
        let broken = File::broken(7, "its entry points nowhere");
        assert!(matches!(broken.source(), Err(Error::Unreadable { why }) if why.contains("nowhere")));
        let base: SourceRef = Arc::new(Bytes(vec![1; 10]));
        let cut = File::from_spans(&base, vec![4..8, 8..16]).unwrap();
        assert!(matches!(cut.content, Content::Cut { missing: 6 }), "six of its bytes lie past the end");
        assert!(matches!(cut.source(), Err(Error::PastEnd { .. })));
        assert!(File::from_spans(&base, vec![0..u64::MAX, 0..u64::MAX]).is_err());
    }

    proptest! {
        /// A file of spans has the bytes that stand there, in their order.
        #[test]
        fn spans_are_read_in_their_order(spans in proptest::collection::vec((0u64..64, 0u64..64), 0..6)) {
            let bytes: Vec<u8> = (0..64).collect();
            let base: SourceRef = Arc::new(Bytes(bytes.clone()));
            let spans: Vec<Range<u64>> = spans.into_iter().map(|(a, b)| a.min(b)..a.max(b)).collect();
            let file = File::from_spans(&base, spans.clone()).unwrap();
            let wanted: Vec<u8> = spans.iter().flat_map(|s| bytes[s.start as usize..s.end as usize].to_vec()).collect();
            prop_assert_eq!(file.len, wanted.len() as u64);
            let mut found = vec![0; wanted.len()];
            file.source().unwrap().read_at(0, &mut found).unwrap();
            prop_assert_eq!(found, wanted);
        }
    }
}
