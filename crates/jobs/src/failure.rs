//! Why a job could not be done, in the three parts of an error message: what, why, and what to do.

use crate::{nearest, quoted};
use decanter_core::Error;
use decanter_core::error::Blame;
use decanter_core::error::KeyWay;
use decanter_core::native;
use decanter_core::os;
use decanter_core::role::Role;
pub(crate) use decanter_core::tell::with_article;
use decanter_formats::REGISTRY;
use std::fmt;
use std::io::ErrorKind;
use std::path::Path;

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

/// What to do about something of this format that is damaged: who has it still depends on what it is.
fn damaged(format: &str) -> &'static str {
    match REGISTRY.get(format).map(|f| f.role()) {
        Some(Role::Patch) => "this patch is damaged: fetch it again",
        Some(Role::Description) => "this description is damaged: fetch it again",
        Some(Role::Sheet) => "correct the sheet, or dump the disc again",
        Some(Role::Archive | Role::Wrapper) => "it is damaged: get another copy of it",
        _ => "it is damaged here: copy it again from where it came, or dump it again",
    }
}

/// What to do about an error, where that does not depend on the job.
fn advice(error: &Error) -> Option<String> {
    let text = match error {
        Error::NotUnderstood { .. } => "\"decanter formats\" lists what can be read",
        Error::PastEnd { .. } => "it is cut short: copy or dump it again; \"decanter identify\" says what is missing",
        Error::Malformed { format, .. } => damaged(format),
        Error::Damaged { .. } | Error::Checksum { .. } => {
            "it is damaged: copy it again from where it came, or dump it again"
        }
        Error::Partner { .. } => "put it beside the sheet, or correct the line",
        Error::Key(trouble) if trouble.wrong.is_empty() && trouble.way == KeyWay::ByName => {
            "put a line \"name = hexadecimal digits\" with that name into a list, and give the list with --keys FILE"
        }
        Error::Key(trouble) if trouble.way == KeyWay::Passcode => {
            "give the 32 characters that it was made with: --passcode TEXT; or its image key, 64 hexadecimal digits: --key HEX"
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
        Error::Io { op, path, source, .. } => return of_machine(op, path.as_deref(), source),
        _ => return None,
    };
    Some(text.into())
}

/// What to do about something that the machine refuses: by its own cause, and only where that helps.
fn of_machine(op: &str, path: Option<&Path>, source: &std::io::Error) -> Option<String> {
    let is_reading = matches!(op, "open" | "read");
    match source.kind() {
        ErrorKind::NotFound if is_reading && source.raw_os_error().is_some() => perhaps(path?),
        ErrorKind::NotFound if is_reading => None,
        ErrorKind::NotFound => Some("make the folder first, or choose another one with -o".into()),
        ErrorKind::PermissionDenied if is_reading => {
            Some("ask whoever owns it to let you read it, or copy it to a place where you may".into())
        }
        ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem | ErrorKind::NotADirectory => {
            Some("choose another folder with -o".into())
        }
        ErrorKind::StorageFull => Some("make room, or choose another folder with -o".into()),
        // What a worn disc or a loose plug gives.
        _ if op == "read" && os::is_worn(source) => {
            Some("check the medium and its cable, copy the file elsewhere, and try again".into())
        }
        _ => None,
    }
}

/// Names in a folder that are looked at for one that may be meant.
const MOST_NAMES: usize = 10_000;

/// What may be meant by a path where nothing is.
fn perhaps(path: &Path) -> Option<String> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !folder.is_dir() {
        return Some(format!("the folder {} does not exist either: correct the path", native::text(folder)));
    }
    let name = native::text(path.file_name()?);
    let names = std::fs::read_dir(folder).into_iter().flatten().flatten().take(MOST_NAMES);
    let names: Vec<String> = names.map(|entry| native::text(entry.file_name())).collect();
    Some(match nearest(&name, names.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {}?", quoted(&native::text(path.with_file_name(native::os(near))))),
        None => "correct the path".into(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::error::KeyTrouble;

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
        for format in ["dat", "sums", "ird", "ips", "ups", "bps", "vcdiff"] {
            assert!(told(Error::malformed(format, "a line is wrong", 3)).contains("fetch it again"), "{format}");
        }
        for format in ["iso9660", "nes", "no such format"] {
            assert!(told(Error::malformed(format, "a field is wrong", 3)).contains("dump it again"), "{format}");
        }
        for format in ["zip", "chd", "tar", "gz"] {
            assert!(told(Error::malformed(format, "a field is wrong", 3)).contains("get another copy"), "{format}");
        }
    }

    #[test]
    fn a_machine_that_fails_is_told_by_what_failed() {
        let io = |op, number: i32| Error::io(op, Path::new("nowhere/x"), std::io::Error::from_raw_os_error(number));
        assert!(told(io("open", 2)).contains("the folder nowhere does not exist either"));
        assert!(told(io("write", 2)).contains("make the folder first"));
        let denied = |op| told(Error::io(op, Path::new("x"), ErrorKind::PermissionDenied.into()));
        assert!(denied("open").contains("ask whoever owns it") && denied("write").contains("with -o"));
        // EIO or ERROR_READ_FAULT; EINTR or ERROR_TOO_MANY_OPEN_FILES.
        let (worn, other) = if cfg!(windows) { (30, 4) } else { (5, 4) };
        assert!(told(io("read", worn)).contains("check the medium"));
        assert_eq!(told(io("read", other)), "");
        assert_eq!(told(Error::Cancelled), "");
    }

    #[test]
    fn what_may_be_meant_is_named() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("Kelp Courier.iso"), "").unwrap();
        let hint = |name: &str| perhaps(&folder.path().join(name)).unwrap();
        assert!(hint("Kelp Courrier.iso").ends_with("Kelp Courier.iso\"?"), "{}", hint("Kelp Courrier.iso"));
        assert_eq!(hint("Moth Parade.iso"), "correct the path");
    }

    #[test]
    fn a_hint_of_its_own_goes_before_the_usual_one() {
        let failure = Failure::new("cannot do it", missing(KeyWay::Alone)).hint("ask the museum");
        assert_eq!(failure.hint.as_deref(), Some("ask the museum"));
        assert!(failure.to_string().starts_with("cannot do it\n  the key is missing"));
    }
}
