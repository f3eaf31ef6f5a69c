//! What is below a folder: files, what cannot be looked into, and what is no file.

use crate::Setting;
use decanter_core::Error;
use decanter_core::split;
use decanter_core::store::{self, MetKind};
use std::collections::{HashMap, HashSet};

/// What was found below a folder, in the order of names.
#[derive(Default)]
pub(crate) struct Below {
    /// The files; of a split image only the first part.
    pub(crate) files: Vec<String>,
    /// What could not be looked into, and why.
    pub(crate) failed: Vec<(String, Error)>,
    /// Pipes, sockets and devices: what each is.
    pub(crate) passed: Vec<(String, &'static str)>,
}

impl Below {
    /// Looks through `folder`. Links in it are not followed.
    pub(crate) fn of(folder: &str, setting: &Setting<'_>) -> Self {
        let mut below = Self::with_parts(folder, setting);
        below.leave_out_later_parts();
        below.leave_out_data_files();
        below
    }

    /// The same, with every part of split images.
    pub(crate) fn with_parts(folder: &str, setting: &Setting<'_>) -> Self {
        let mut below = Self::default();
        let walked = setting.store(folder).walk(folder, &mut |met| {
            match met.kind {
                MetKind::File => below.files.push(met.path),
                MetKind::Closed(error) => below.failed.push((met.path, error)),
                MetKind::Odd(what) => below.passed.push((met.path, what)),
                MetKind::Folder | MetKind::Link(_) => {}
            }
            Ok(())
        });
        below.failed.extend(walked.err().map(|error| (folder.to_owned(), error)));
        below
    }

    /// The data files of a package with a disc are read with it: `NAME.data/Data0000` beside `NAME`.
    fn leave_out_data_files(&mut self) {
        let all: HashSet<String> = self.files.iter().cloned().collect();
        let is_of_one = |path: &str| {
            let digits = store::name_of(path).strip_prefix("Data")?;
            let is_numbered = digits.len() == 4 && digits.bytes().all(|b| b.is_ascii_digit());
            let package = store::folder_of(path).strip_suffix(".data")?;
            (is_numbered && all.contains(package)).then_some(())
        };
        self.files.retain(|path| is_of_one(path).is_none());
    }

    fn leave_out_later_parts(&mut self) {
        let split =
            |path: &str| -> (String, String) { (store::folder_of(path).to_owned(), store::name_of(path).to_owned()) };
        let mut siblings: HashMap<String, Vec<String>> = HashMap::new();
        for path in self.files.iter().filter(|p| split::is_numbered(p)) {
            let (folder, name) = split(path);
            siblings.entry(folder).or_default().push(name);
        }
        self.files.retain(|path| {
            let (folder, name) = split(path);
            let parts = siblings.get(&folder).and_then(|names| split::parts(&name, names));
            parts.is_none_or(|parts| parts[0] == name)
        });
    }
}
