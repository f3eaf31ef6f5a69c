//! From names in a source, which may be hostile, to names on this machine.

use crate::native;
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

/// The longest name, in bytes, that every file system in use can hold.
const MOST_NAME_BYTES: usize = 255;

/// Names that DOS and its heirs keep for devices, with or without an extension.
const DEVICES: [&str; 22] = [
    "CON", "PRN", "AUX", "NUL", "COM1", "COM2", "COM3", "COM4", "COM5", "COM6", "COM7", "COM8", "COM9", "LPT1", "LPT2",
    "LPT3", "LPT4", "LPT5", "LPT6", "LPT7", "LPT8", "LPT9",
];

/// A name for a file that is made of something a source says: it stays in its folder, and every file system takes it.
pub fn file_name(name: &str) -> String {
    match safe_name(&name.replace('/', "_")).as_str() {
        "" | "." => "_".into(),
        safe => shorten(safe, ""),
    }
}

/// A file name without its last extension, if that is a short one.
pub fn stem_of(name: &str) -> String {
    match name.rsplit_once('.') {
        Some((stem, extension)) if !stem.is_empty() && extension.len() <= 5 && !extension.contains(' ') => {
            stem.to_owned()
        }
        _ => name.to_owned(),
    }
}

/// Gives every path of a tree its place below an output folder: relative, without `..`, unique.
pub struct Namer {
    /// True when the target takes `a` and `A` for the same name.
    folds_case: bool,
    folders: HashMap<String, PathBuf>,
    taken: HashSet<String>,
    /// The number that the next file of a name gets that is taken: many may be called alike.
    next: HashMap<String, u32>,
}

/// Where a path went.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// The path below the output folder.
    pub path: PathBuf,
    /// True when it is not spelled as it is in the source.
    pub renamed: bool,
}

impl Namer {
    /// One for a target that takes `a` and `A` for the same name, or not.
    pub fn new(folds_case: bool) -> Self {
        Self { folds_case, folders: HashMap::new(), taken: HashSet::new(), next: HashMap::new() }
    }

    /// The place of the folder at `path`. Asked twice, it is the same place.
    pub fn folder(&mut self, path: &str) -> Named {
        let place = self.folder_place(&clean(path));
        Named { renamed: differs(&place, path), path: place }
    }

    /// The place of the file at `path`. Asked twice, the second file gets another name.
    pub fn file(&mut self, path: &str) -> Named {
        let names = clean(path);
        let (name, parents) = match names.split_last() {
            Some((name, parents)) => (*name, parents),
            None => ("_", &[][..]),
        };
        let parent = self.folder_place(parents);
        let place = self.claim(parent, name);
        Named { renamed: differs(&place, path), path: place }
    }

    fn folder_place(&mut self, names: &[&str]) -> PathBuf {
        let mut place = PathBuf::new();
        let mut key = String::new();
        for name in names {
            key.push('/');
            key.push_str(name);
            place = match self.folders.get(&key) {
                Some(known) => known.clone(),
                None => {
                    let new = self.claim(place, name);
                    self.folders.insert(key.clone(), new.clone());
                    new
                }
            };
        }
        place
    }

    /// A free name for `name` in the folder at `parent`.
    fn claim(&mut self, parent: PathBuf, name: &str) -> PathBuf {
        let safe = safe_name(name);
        let folds_case = self.folds_case;
        let key = |place: &std::path::Path| {
            let key = native::text(place);
            if folds_case { key.to_lowercase() } else { key }
        };
        let place = parent.join(native::os(&shorten(&safe, "")));
        let first = key(&place);
        if self.taken.insert(first.clone()) {
            return place;
        }
        let number = self.next.entry(first).or_insert(2);
        loop {
            let place = parent.join(native::os(&shorten(&safe, &format!(" ({number})"))));
            *number += 1;
            if self.taken.insert(key(&place)) {
                return place;
            }
        }
    }
}

/// The names of a path, without those that mean nothing.
fn clean(path: &str) -> Vec<&str> {
    path.split('/').filter(|n| !n.is_empty() && *n != ".").collect()
}

fn differs(place: &std::path::Path, path: &str) -> bool {
    native::text(place) != path.trim_end_matches('/')
}

/// A name that cannot leave its folder, and that every file system takes: those of sticks and of Windows allow no
/// `<>:"|?*\`, no dot or space at the end, and no names of devices. What is written here is carried there.
fn safe_name(name: &str) -> String {
    if name == ".." {
        return "__".into();
    }
    let keep = |c: char| !(c.is_control() || "<>:\"|?*\\".contains(c));
    let mut safe: String = name.chars().map(|c| if keep(c) { c } else { '_' }).collect();
    let end = safe.trim_end_matches(['.', ' ']).len();
    let tail = "_".repeat(safe.len() - end);
    safe.replace_range(end.., &tail);
    let stem = safe.split('.').next().unwrap_or_default().to_uppercase();
    if DEVICES.contains(&stem.as_str()) {
        safe.insert(stem.len(), '_');
    }
    safe
}

/// `name` with `mark` before its extension, cut to what a file system can hold.
fn shorten(name: &str, mark: &str) -> String {
    let (stem, extension) = match name.rfind('.') {
        Some(dot) if dot > 0 && name.len() - dot <= 16 => name.split_at(dot),
        _ => (name, ""),
    };
    let mut room = MOST_NAME_BYTES - extension.len() - mark.len();
    while !stem.is_char_boundary(room.min(stem.len())) {
        room -= 1;
    }
    let mut short = format!("{}{mark}{extension}", &stem[..room.min(stem.len())]);
    // What was cut may end where no name may.
    let end = short.trim_end_matches(['.', ' ']).len();
    let tail = "_".repeat(short.len() - end);
    short.replace_range(end.., &tail);
    short
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stems_lose_one_short_extension() {
        assert_eq!(stem_of("Kelp Courier.iso"), "Kelp Courier");
        assert_eq!(stem_of("Gullwing GP v1.02 final"), "Gullwing GP v1.02 final");
        assert_eq!(stem_of(".hidden"), ".hidden");
    }
    use proptest::prelude::*;
    use std::path::{Component, Path};

    fn file(path: &str) -> String {
        crate::native::text(Namer::new(false).file(path).path)
    }

    #[test]
    fn names_that_would_leave_the_folder_stay_in_it() {
        assert_eq!(file("/etc/passwd"), "etc/passwd");
        assert_eq!(file("../../x"), "__/__/x");
        assert_eq!(file("a/./b//c"), "a/b/c");
        assert_eq!(file("a\0b\n"), "a_b_");
        assert_eq!(file(""), "_");
    }

    #[test]
    fn names_that_sources_say_become_names_of_files() {
        assert_eq!(file_name("...iso"), "...iso");
        assert_eq!(file_name(".."), "__");
        assert_eq!(file_name("a/../b\u{1b}[31m.iso"), "a_.._b_[31m.iso");
        assert_eq!((file_name(""), file_name(".")), ("_".into(), "_".into()));
        assert_eq!((file_name("con.iso"), file_name("what?")), ("con_.iso".into(), "what_".into()));
    }

    #[test]
    fn a_name_that_is_cut_does_not_end_where_none_may() {
        let long = format!("{}. {}", "a".repeat(253), "b".repeat(20));
        assert_eq!(file_name(&long), format!("{}__", "a".repeat(253)));
        assert_eq!(file_name(&file_name(&long)), file_name(&long));
    }

    #[test]
    fn many_of_one_name_are_named_at_once() {
        let mut namer = Namer::new(false);
        let places: HashSet<PathBuf> = (0..40_000).map(|_| namer.file("SAME.DAT").path).collect();
        assert_eq!(places.len(), 40_000);
        assert!(places.contains(Path::new("SAME (40000).DAT")));
    }

    #[test]
    fn a_stick_gets_names_that_it_can_hold() {
        let mut namer = Namer::new(true);
        let mut place = |p: &str| namer.file(p).path.to_string_lossy().into_owned();
        assert_eq!(place("Level.dat"), "Level.dat");
        assert_eq!(place("LEVEL.DAT"), "LEVEL (2).DAT");
        assert_eq!(place("aux.c"), "aux_.c");
        assert_eq!(place("what?. "), "what___");
    }

    #[test]
    fn a_file_where_a_folder_is_gets_another_name() {
        let mut namer = Namer::new(false);
        assert!(!namer.folder("a").renamed);
        assert_eq!(namer.file("a").path, Path::new("a (2)"));
        assert_eq!(namer.file("a/b").path, Path::new("a/b"));
        assert_eq!(namer.file("a/b").path, Path::new("a/b (2)"));
    }

    proptest! {
        #[test]
        fn no_name_leaves_the_folder_or_is_given_twice(
            paths in proptest::collection::vec("[a-c./\\\\:\u{e9}]{0,12}|.{0,300}", 1..12),
            folds_case in any::<bool>(),
        ) {
            let mut namer = Namer::new(folds_case);
            let mut seen = HashSet::new();
            for path in &paths {
                let place = namer.file(path).path;
                let normal = |c: Component<'_>| matches!(c, Component::Normal(n) if n.len() <= MOST_NAME_BYTES);
                prop_assert!(place.components().all(normal), "{path:?} went to {place:?}");
                prop_assert!(seen.insert(place));
            }
        }
    }
}
