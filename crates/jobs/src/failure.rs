//! Why a job could not be done, in the three parts of an error message: what, why, and what to do.

use decanter_core::Error;
use decanter_core::error::Blame;
use decanter_core::error::KeyWay;
use decanter_core::role::Role;
pub(crate) use decanter_core::tell::with_article;
use decanter_formats::REGISTRY;
use std::fmt;

/// A job that failed.
#[derive(Debug)]
pub struct Failure {
    /// What could not be done, and on what.
    pub what: String,
    /// Why.
    pub cause: Box<Error>,
    /// What to do now.
    pub hint: Option<String>,
}

impl Failure {
    /// One with the usual advice for its cause.
    pub fn new(what: impl Into<String>, cause: Error) -> Self {
        let hint = advice(&cause);
        Self { what: what.into(), cause: Box::new(cause), hint }
    }

    /// The same with other advice.
    #[must_use]
    pub fn hint(self, hint: impl Into<String>) -> Self {
        Self { hint: Some(hint.into()), ..self }
    }

    /// A request that makes no sense.
    pub fn usage(what: impl Into<String>, why: impl Into<String>) -> Self {
        Self::new(what, Error::Usage(why.into()))
    }

    /// Who has to act.
    pub fn blame(&self) -> Blame {
        self.cause.blame()
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}\n  {}", self.what, self.cause)?;
        match &self.hint {
            Some(hint) => write!(f, "\n  {hint}"),
            None => Ok(()),
        }
    }
}

/// Whether sources of this format come from somebody else, who has them still.
fn is_fetched(format: &str) -> bool {
    REGISTRY.get(format).is_some_and(|f| matches!(f.role(), Role::Patch | Role::Description))
}

/// What to do about an error, where that does not depend on the job.
fn advice(error: &Error) -> Option<String> {
    let text = match error {
        Error::NotUnderstood { .. } => "\"decanter formats\" lists what can be read",
        Error::PastEnd { .. } => {
            "the source is cut short: copy or dump it again; \"decanter identify\" says what is missing"
        }
        Error::Malformed { format, .. } if is_fetched(format) => {
            "it is damaged or no such file: get it again from where it came from"
        }
        Error::Malformed { .. } | Error::Damaged { .. } | Error::Checksum { .. } => {
            "the source is damaged here: copy or dump it again"
        }
        Error::Key(trouble) if trouble.wrong.is_empty() && trouble.way == KeyWay::ByName => {
            "put a line \"name = hexadecimal digits\" with that name into a list, and give the list with --keys FILE"
        }
        Error::Key(trouble) if trouble.wrong.is_empty() => {
            "give it with --key HEX, or put a file with the key (ID.key or ID.dkey) next to the source or into a folder given with --keys"
        }
        Error::Key(_) => "look up the key again; \"decanter keys SOURCE\" shows which keys were found where",
        Error::Exists { .. } => "choose another name with -o, or add --replace to replace it",
        Error::NoSpace { .. } => "make room, or choose another folder with -o",
        Error::FileTooLarge { .. } => {
            "choose a folder on a file system without that limit (exFAT, NTFS, ext4 ...) with -o"
        }
        Error::Io { op: "read", .. } => "check the medium and its cable, copy the file elsewhere, and try again",
        Error::Io { op: "write", source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
            "make the folder first, or choose another one with -o"
        }
        Error::Io { op: "open", source, .. } if source.kind() == std::io::ErrorKind::NotFound => "check the path",
        _ => return None,
    };
    Some(text.into())
}
