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

    /// The same in words, for who is told of it more than once.
    pub(crate) fn again(&self) -> Self {
        Self { what: self.what.clone(), cause: Box::new(Error::Usage(self.cause.to_string())), hint: self.hint.clone() }
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

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::error::KeyTrouble;
    use std::io::ErrorKind;

    fn told(error: Error) -> String {
        advice(&error).unwrap_or_default()
    }

    fn missing(way: KeyWay) -> Error {
        Error::Key(KeyTrouble { need: "the key".into(), way, wrong: Vec::new(), looked: Vec::new() })
    }

    #[test]
    fn a_missing_key_is_asked_for_in_the_way_in_which_it_can_be_given() {
        assert!(told(missing(KeyWay::Alone)).contains("--key HEX"));
        assert!(told(missing(KeyWay::ByName)).contains("--keys FILE"));
        let wrong =
            KeyTrouble { need: "the key".into(), way: KeyWay::ByName, wrong: vec!["x".into()], looked: Vec::new() };
        assert!(told(Error::Key(wrong)).contains("look up the key again"));
    }

    #[test]
    fn what_came_from_elsewhere_is_fetched_again_and_what_was_dumped_is_dumped_again() {
        for format in ["dat", "sums", "ird", "ips", "ups", "bps"] {
            assert!(told(Error::malformed(format, "a line is wrong", 3)).contains("get it again"), "{format}");
        }
        for format in ["iso9660", "zip", "chd", "no such format"] {
            assert!(told(Error::malformed(format, "a field is wrong", 3)).contains("dump it again"), "{format}");
        }
    }

    #[test]
    fn a_machine_that_fails_is_told_by_what_failed() {
        let io = |op, kind: ErrorKind| Error::Io { op, path: None, offset: None, source: kind.into() };
        assert_eq!(told(io("open", ErrorKind::NotFound)), "check the path");
        assert!(told(io("write", ErrorKind::NotFound)).contains("make the folder first"));
        assert!(told(io("read", ErrorKind::Other)).contains("check the medium"));
        assert_eq!(told(io("open", ErrorKind::PermissionDenied)), "");
        assert_eq!(told(Error::Cancelled), "");
    }

    #[test]
    fn a_hint_of_its_own_goes_before_the_usual_one() {
        let failure = Failure::new("cannot do it", missing(KeyWay::Alone)).hint("ask the museum");
        assert_eq!(failure.hint.as_deref(), Some("ask the museum"));
        assert!(failure.to_string().starts_with("cannot do it\n  the key is missing"));
    }
}
