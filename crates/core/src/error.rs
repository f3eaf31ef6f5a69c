//! Errors, sorted by who is to blame: the caller, the source, a key, the machine.
//!
//! A core error says what failed and where inside the data. The name of the source and what to do next are
//! added by whoever called, because only they know it.

use crate::native;
use crate::tell;
use std::borrow::Cow;
use std::io;
use std::path::{Path, PathBuf};

/// The result of everything that can fail here.
pub type Result<T> = std::result::Result<T, Error>;

/// What went wrong.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// A structure in the source does not hold what its format demands.
    #[error("{format}: {what} at offset {offset:#x}")]
    Malformed {
        /// Id of the format whose rules are broken.
        format: &'static str,
        /// The field and what is wrong with it.
        what: Cow<'static, str>,
        /// Byte offset in the source the format was opened on.
        offset: u64,
    },
    /// The source is well-formed as far as can be told, but uses something that is not read here.
    #[error("{format}: {what} is not supported")]
    Unsupported {
        /// Id of the format.
        format: &'static str,
        /// The feature.
        what: Cow<'static, str>,
    },
    /// One entry of the source cannot be read; the rest can.
    #[error("{why}")]
    Unreadable {
        /// Why.
        why: String,
    },
    /// The source as a whole is known to have bytes that are wrong.
    #[error("it is damaged: {what}")]
    Damaged {
        /// What is wrong.
        what: String,
    },
    /// No known format fits.
    #[error("not a format that can be read here; {seems}")]
    NotUnderstood {
        /// What the bytes look like, in words.
        seems: String,
    },
    /// A file that the source names is not where it should be.
    #[error("{name}, named in line {line}, is missing")]
    Partner {
        /// The name that stands there.
        name: String,
        /// The line of the source, from 1.
        line: usize,
    },
    /// A read went past the end of the data.
    #[error("{}", past_end(*.offset, *.asked, *.len))]
    PastEnd {
        /// Where the read began.
        offset: u64,
        /// How many bytes were asked for.
        asked: u64,
        /// How many bytes there are.
        len: u64,
    },
    /// Something in the source asks for more memory or time than is granted.
    #[error("{what} asks for {}, the limit is {}", tell::grouped(*.asked), tell::grouped(*.limit))]
    Limit {
        /// What asks.
        what: &'static str,
        /// How much it asks for.
        asked: u64,
        /// How much is granted.
        limit: u64,
    },
    /// Bytes do not have the digest they should have.
    #[error("{what} should have {expected} but has {found}")]
    Checksum {
        /// The bytes that were checked.
        what: String,
        /// The digest they should have, with its algorithm.
        expected: String,
        /// The digest they have.
        found: String,
    },
    /// A key is missing or wrong.
    #[error(transparent)]
    Key(#[from] KeyTrouble),
    /// Whoever has the source does not give it without other credentials.
    #[error("{what}")]
    Refused {
        /// Who refuses what.
        what: String,
    },
    /// A description belongs to something else than the source.
    #[error("{text}")]
    WrongDescription {
        /// What it describes, and what the source is.
        text: String,
    },
    /// A target is already there.
    #[error("{} already exists", native::text(.path))]
    Exists {
        /// The target.
        path: PathBuf,
    },
    /// A target is one of the files that the run reads.
    #[error("{} is one of the files that are read", native::text(.path))]
    IsSource {
        /// The target.
        path: PathBuf,
    },
    /// A target is a folder that the run reads as a whole, or lies in one.
    #[error("{} lies in {}, which is read", native::text(.path), native::text(.folder))]
    InSource {
        /// The target.
        path: PathBuf,
        /// The folder that is read.
        folder: PathBuf,
    },
    /// Somebody else is writing the same target now.
    #[error("another run is writing {} at this moment", native::text(.path))]
    Busy {
        /// The target.
        path: PathBuf,
    },
    /// Two outputs of one run would have the same path.
    #[error("two files of the result would both be {}", native::text(.path))]
    Twice {
        /// The path.
        path: PathBuf,
    },
    /// The target's file system has not enough room.
    #[error("{} needed in {}, {} free", tell::size(*.needed), native::text(.folder), tell::size(*.free))]
    NoSpace {
        /// The folder the target would be in.
        folder: PathBuf,
        /// Bytes needed.
        needed: u64,
        /// Bytes free to this user.
        free: u64,
    },
    /// The target's file system cannot hold a file of that size.
    #[error("a file of {} does not fit on the file system of {}, which has room for {} in one file", tell::size(*.needed), native::text(.folder), tell::size(*.most))]
    FileTooLarge {
        /// The folder the target would be in.
        folder: PathBuf,
        /// Bytes of the file.
        needed: u64,
        /// The most that one file can hold there.
        most: u64,
    },
    /// The operating system refused or failed.
    #[error("{}", told(op, .path.as_deref(), *.offset, source))]
    Io {
        /// The operation: "read", "write", "open" and so on.
        op: &'static str,
        /// The file, where there is one.
        path: Option<PathBuf>,
        /// The byte offset in that file, where there is one.
        offset: Option<u64>,
        /// The operating system's word.
        source: io::Error,
    },
    /// What was asked for can be meant in several ways.
    #[error("\"{what}\" can be read in several ways: {}", ways.join("; or "))]
    Ambiguous {
        /// What was asked for.
        what: String,
        /// The ways.
        ways: Vec<String>,
    },
    /// What was asked for is so already: there is nothing to do.
    #[error("{0}")]
    Unneeded(String),
    /// The request itself does not make sense.
    #[error("{0}")]
    Usage(String),
    /// The user asked to stop.
    #[error("stopped")]
    Cancelled,
}

/// What a read past the end means.
fn past_end(offset: u64, asked: u64, len: u64) -> String {
    let bytes = |n: u64| tell::count(n, "byte", "bytes");
    match offset.checked_add(asked) {
        _ if len == 0 => format!("it is empty, where {} should be", bytes(asked)),
        Some(end) if offset < len => {
            format!("it ends after {}, where {} more should follow", bytes(len), bytes(end - len))
        }
        _ => format!("it ends after {}, before what stands at offset {offset:#x}", bytes(len)),
    }
}

/// What the operating system's word means for a file.
fn told(op: &str, path: Option<&Path>, offset: Option<u64>, source: &io::Error) -> String {
    let at = offset.map(|o| format!(" at offset {o:#x}")).unwrap_or_default();
    let is_writing =
        matches!(op, "write" | "make folder" | "reserve" | "rename" | "remove" | "link" | "shorten" | "flush");
    let Some(path) = path.map(Path::display) else { return format!("cannot {op}{at}: {}", bare(source)) };
    match source.kind() {
        // Our own words say more than the system's.
        _ if source.raw_os_error().is_none() => format!("cannot {op} {path}{at}: {source}"),
        io::ErrorKind::NotFound if is_writing => format!("the folder of {path} does not exist"),
        io::ErrorKind::NotFound => format!("{path} does not exist"),
        io::ErrorKind::PermissionDenied if is_writing => format!("no permission to write to {path}"),
        io::ErrorKind::PermissionDenied => format!("no permission to read {path}"),
        io::ErrorKind::ReadOnlyFilesystem => format!("{path} is on a file system that cannot be written"),
        io::ErrorKind::NotADirectory => format!("{path} would be in a file, which is no folder"),
        io::ErrorKind::IsADirectory => format!("{path} is a folder"),
        io::ErrorKind::StorageFull => format!("the disk of {path} is full"),
        _ => format!("cannot {op} {path}{at}: {}", bare(source)),
    }
}

/// The system's word without its number.
fn bare(source: &io::Error) -> String {
    let text = source.to_string();
    match text.find(" (os error ") {
        Some(at) => text[..at].to_owned(),
        None => text,
    }
}

/// How a key that is missing can be given.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyWay {
    /// As it is: the one key of this source.
    Alone,
    /// In a list, under its name.
    ByName,
    /// As the text that a package was made with.
    Passcode,
}

/// A key that is missing or wrong: which one, and where it was looked for. Never its value.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub struct KeyTrouble {
    /// What the key is for, as in "the disc key for DCNT-10001".
    pub need: String,
    /// How it can be given.
    pub way: KeyWay,
    /// Places where a key was found that turned out to be wrong.
    pub wrong: Vec<String>,
    /// Places that were looked into.
    pub looked: Vec<String>,
}

impl std::fmt::Display for KeyTrouble {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if !self.wrong.is_empty() {
            return write!(f, "{} is wrong (found in: {})", self.need, self.wrong.join(", "));
        }
        match self.looked.as_slice() {
            [] => write!(f, "{} is missing (no place to look in was given)", self.need),
            looked => write!(f, "{} is missing (looked in: {})", self.need, looked.join(", ")),
        }
    }
}

/// Who has to act so that the same request can succeed. Each maps to one exit code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Blame {
    /// The request: a target that exists, an option that does not fit.
    Request,
    /// The source: not understood, malformed, cut short.
    Source,
    /// The keyring, or the description that was given.
    Key,
    /// The machine: reading, writing, space.
    Machine,
    /// Nobody: the user asked to stop.
    Stopped,
    /// Nobody: there is nothing to do.
    Nobody,
}

impl Error {
    /// Shorthand for [`Error::Malformed`].
    pub fn malformed(format: &'static str, what: impl Into<Cow<'static, str>>, offset: u64) -> Self {
        Self::Malformed { format, what: what.into(), offset }
    }

    /// Shorthand for [`Error::Unsupported`].
    pub fn unsupported(format: &'static str, what: impl Into<Cow<'static, str>>) -> Self {
        Self::Unsupported { format, what: what.into() }
    }

    /// An [`Error::Io`] on `path`.
    pub fn io(op: &'static str, path: &Path, source: io::Error) -> Self {
        Self::Io { op, path: Some(path.to_owned()), offset: None, source }
    }

    /// An [`Error::Io`] on `path` at byte `offset`.
    pub fn io_at(op: &'static str, path: &Path, offset: u64, source: io::Error) -> Self {
        Self::Io { op, path: Some(path.to_owned()), offset: Some(offset), source }
    }

    /// Who has to act.
    pub fn blame(&self) -> Blame {
        match self {
            Self::Malformed { .. }
            | Self::Unsupported { .. }
            | Self::Unreadable { .. }
            | Self::Damaged { .. }
            | Self::NotUnderstood { .. }
            | Self::PastEnd { .. }
            | Self::Limit { .. }
            | Self::Partner { .. }
            | Self::Checksum { .. } => Blame::Source,
            Self::Key(_) | Self::WrongDescription { .. } | Self::Refused { .. } => Blame::Key,
            Self::Exists { .. }
            | Self::IsSource { .. }
            | Self::InSource { .. }
            | Self::Busy { .. }
            | Self::Twice { .. }
            | Self::Ambiguous { .. }
            | Self::Usage(_) => Blame::Request,
            Self::NoSpace { .. } | Self::FileTooLarge { .. } | Self::Io { .. } => Blame::Machine,
            Self::Cancelled => Blame::Stopped,
            Self::Unneeded(_) => Blame::Nobody,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_error_says_what_and_where() {
        let told = |e: Error| e.to_string();
        assert_eq!(
            told(Error::malformed("iso9660", "a record is cut short", 0x8800)),
            "iso9660: a record is cut short at offset 0x8800"
        );
        assert_eq!(told(Error::unsupported("chd", "version 2")), "chd: version 2 is not supported");
        let missing = Error::io_at("read", Path::new("a.iso"), 0x10, io::Error::other("worn out"));
        assert_eq!(told(missing), "cannot read a.iso at offset 0x10: worn out");
        assert_eq!(
            told(Error::Io { op: "read", path: None, offset: None, source: io::Error::other("x") }),
            "cannot read: x"
        );
        let ways = vec!["as a".to_owned(), "as b".to_owned()];
        assert_eq!(
            told(Error::Ambiguous { what: "c".into(), ways }),
            "\"c\" can be read in several ways: as a; or as b"
        );
    }

    #[cfg(unix)]
    #[test]
    fn the_system_is_understood() {
        let told = |op, number: i32| Error::io(op, Path::new("a"), io::Error::from_raw_os_error(number)).to_string();
        // ENOENT, EACCES, ENOSPC, EIO as Linux numbers them.
        assert_eq!(
            (told("open", 2), told("write", 2)),
            ("a does not exist".into(), "the folder of a does not exist".into())
        );
        assert_eq!(
            (told("open", 13), told("write", 13)),
            ("no permission to read a".into(), "no permission to write to a".into())
        );
        assert_eq!(told("write", 28), "the disk of a is full");
        assert_eq!(told("read", 5), "cannot read a: Input/output error");
    }

    #[test]
    fn an_end_that_comes_too_early_is_told_by_what_is_missing() {
        let told = |offset, asked, len| Error::PastEnd { offset, asked, len }.to_string();
        assert_eq!(told(0, 4449, 0), "it is empty, where 4,449 bytes should be");
        assert_eq!(told(0, 2000, 1999), "it ends after 1,999 bytes, where 1 byte more should follow");
        assert_eq!(told(0x800, 1, 100), "it ends after 100 bytes, before what stands at offset 0x800");
        assert_eq!(told(u64::MAX, 2, 100), "it ends after 100 bytes, before what stands at offset 0xffffffffffffffff");
    }

    #[test]
    fn a_missing_key_says_where_it_was_looked_for_and_a_wrong_one_where_it_was() {
        let trouble = |wrong: &[&str], looked: &[&str]| {
            let list = |all: &[&str]| all.iter().map(|t| (*t).to_owned()).collect();
            let (wrong, looked) = (list(wrong), list(looked));
            KeyTrouble { need: "the key for DCNT-1".into(), way: KeyWay::Alone, wrong, looked }.to_string()
        };
        assert!(trouble(&[], &[]).contains("no place to look in was given"));
        assert!(trouble(&[], &["keys", "home"]).contains("looked in: keys, home"));
        let wrong = trouble(&["keys/a.key"], &["keys"]);
        assert!(wrong.contains("keys/a.key") && !wrong.contains("is missing"), "{wrong}");
    }

    #[test]
    fn everybody_is_to_blame_for_something() {
        let io = || io::Error::other("x");
        assert_eq!(Error::malformed("a", "b", 0).blame(), Blame::Source);
        assert_eq!(Error::Limit { what: "a", asked: 2, limit: 1 }.blame(), Blame::Source);
        assert_eq!(Error::WrongDescription { text: String::new() }.blame(), Blame::Key);
        assert_eq!(Error::Exists { path: PathBuf::new() }.blame(), Blame::Request);
        assert_eq!(Error::io("read", Path::new("a"), io()).blame(), Blame::Machine);
        assert_eq!(Error::NoSpace { folder: PathBuf::new(), needed: 2, free: 1 }.blame(), Blame::Machine);
        assert_eq!(Error::Cancelled.blame(), Blame::Stopped);
        assert_eq!(Error::Unneeded(String::new()).blame(), Blame::Nobody);
    }
}
