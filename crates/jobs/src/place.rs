//! Where a result goes: default names, folders given with `-o`, and what is refused before the work begins.

use crate::locate::INSIDE;
use crate::{Failure, Item, Setting, quoted};
use decanter_core::catalogue::last_name;
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::pour::{self, Output, Poured};
use decanter_core::{Door, Error, names};
use std::path::{Path, PathBuf};

/// The file that a result goes to: what was asked for, in the folder that was asked for, or in the current one.
pub(crate) fn file(output: Option<&Path>, default: &str) -> PathBuf {
    let name = names::file_name(default);
    match output {
        Some(path) if is_folder(path) => path.join(native::os(&name)),
        Some(path) => path.to_owned(),
        None => native::path(&name),
    }
}

/// Whether a path given with `-o` means a folder: one that is there, or one that ends as only folders do.
pub(crate) fn is_folder(path: &Path) -> bool {
    path.is_dir() || native::text(path).ends_with('/')
}

/// The name of a result: the source's stem, with `word` where it would otherwise be the source's own name.
pub(crate) fn name_beside(item: &Item, extension: &str, word: &str) -> String {
    let plain = format!("{}.{extension}", item.stem);
    let own = item.host.file_name().map(|n| native::text(n).to_lowercase()).unwrap_or_default();
    match names::file_name(&plain).to_lowercase() == own {
        true => format!("{} ({word}).{extension}", item.stem),
        false => plain,
    }
}

/// The folder that files go to.
pub(crate) fn folder(item: &Item, output: Option<&Path>) -> PathBuf {
    if let Some(folder) = output {
        return folder.to_owned();
    }
    let plain = folder_name(item);
    let own = item.host.file_name().is_some_and(|n| native::text(n) == plain);
    native::path(&if own { names::file_name(&format!("{} (extracted)", item.stem)) } else { plain })
}

/// What the folder for the files of a source is called, where it stands apart from the source.
pub(crate) fn folder_name(item: &Item) -> String {
    names::file_name(&item.stem)
}

/// What a source that was only typed is called, without its extension.
pub(crate) fn stem_of_shown(shown: &str) -> String {
    let inner = shown.trim_end_matches(INSIDE).rsplit(INSIDE).next().unwrap_or(shown);
    decanter_core::names::stem_of(last_name(inner.trim_end_matches('/')))
}

/// A target that cannot be written, with a name that works where the one given is a source.
pub(crate) fn refused(target: &Path, error: Error) -> Failure {
    let hint = match &error {
        Error::IsSource { .. } => {
            Some(format!("sources are never written to: choose another name, as in -o {}", free_name(target)))
        }
        Error::InSource { path, folder } => {
            let name = path.file_name().unwrap_or(folder.file_name().unwrap_or_default());
            let outside = folder.parent().unwrap_or(folder).join(name);
            let free = if std::fs::symlink_metadata(&outside).is_err() {
                quoted(&native::text(&outside))
            } else {
                free_name(&outside)
            };
            Some(format!("what is written there would be a source too: choose a place outside, as in -o {free}"))
        }
        Error::Twice { .. } => Some("choose another name with -o".into()),
        _ => None,
    };
    let failure = Failure::new(format!("cannot write \"{}\"", native::text(target)), error);
    match hint {
        Some(hint) => failure.hint(hint),
        None => failure,
    }
}

/// A name beside `target` that nothing has, as a shell takes it.
fn free_name(target: &Path) -> String {
    let name = target.file_name().map(native::text).unwrap_or_default();
    let stem = decanter_core::names::stem_of(&name);
    let extension = name.strip_prefix(stem.as_str()).unwrap_or_default();
    let spelled =
        |number: u32| target.with_file_name(native::os(&names::file_name(&format!("{stem} ({number}){extension}"))));
    let free = (2..1000).map(spelled).find(|p| std::fs::symlink_metadata(p).is_err());
    quoted(&native::text(free.unwrap_or_else(|| spelled(1000))))
}

impl Setting<'_> {
    /// Fails if nothing could be written to `target`: asked before anything is read at length.
    pub(crate) fn check_target(&self, target: &Path) -> Result<(), Failure> {
        if !self.dry_run {
            let folder = target.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
            pour::finish_names(folder, self.watch).map_err(|e| refused(target, e))?;
        }
        pour::check_target(target, self.door(), 0, 0).map_err(|e| refused(target, e))
    }

    /// Fails if no files could be written into the folder `target`.
    pub(crate) fn check_folder(&self, target: &Path) -> Result<(), Failure> {
        pour::check_folder(target, self.door()).map_err(|e| refused(target, e))
    }

    /// Writes files that belong together: once all of them are complete, what they were read from is settled and `prove`
    /// accepts them, they get their names. Of a rehearsal only what stands against it is found out.
    ///
    /// # Errors
    /// As [`pour::pour_all`].
    pub(crate) fn pour(
        &self,
        outputs: &[Output<'_>],
        door: Door<'_>,
        prove: &mut dyn FnMut(&[PathBuf]) -> decanter_core::Result<()>,
    ) -> decanter_core::Result<Option<Vec<Poured>>> {
        if self.dry_run {
            return pour::check_targets(outputs, door).map(|_| None);
        }
        let mut proof = |paths: &[PathBuf]| {
            self.settle()?;
            prove(paths)
        };
        pour::pour_all(outputs, door, self.watch, &mut proof).map(Some)
    }

    /// [`Setting::pour`] of one file.
    pub(crate) fn pour_one(
        &self,
        output: Output<'_>,
        door: Door<'_>,
        prove: &mut dyn FnMut(&Path) -> decanter_core::Result<()>,
    ) -> decanter_core::Result<Option<Poured>> {
        let poured = self.pour(&[output], door, &mut |paths| paths.iter().try_for_each(|path| prove(path)))?;
        Ok(poured.and_then(|mut all| all.pop()))
    }

    /// Writes one file. `what` could not be done if the trouble is not with the target.
    pub(crate) fn write(&self, output: Output<'_>, what: &str) -> Result<Option<Poured>, Failure> {
        self.write_by(self.door(), output, what)
    }

    /// [`Setting::write`] by a door of one's own.
    pub(crate) fn write_by(&self, door: Door<'_>, output: Output<'_>, what: &str) -> Result<Option<Poured>, Failure> {
        self.pour_one(output, door, &mut |_| Ok(())).map_err(|e| match e.blame() {
            Blame::Request => refused(output.target, e),
            _ => Failure::new(what, e),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_and_hostile_names() {
        let folder = tempfile::tempdir().unwrap();
        assert_eq!(file(None, "../up\n.iso"), Path::new(".._up_.iso"));
        assert_eq!(file(Some(Path::new("out/")), "a.iso"), Path::new("out/a.iso"));
        assert_eq!(file(Some(folder.path()), "a.iso"), folder.path().join("a.iso"));
        assert_eq!(file(Some(Path::new("b.iso")), "a.iso"), Path::new("b.iso"));
        assert_eq!(stem_of_shown("x/box.zip::in/Kelp Courier.iso"), "Kelp Courier");
        assert_eq!(stem_of_shown("x/box.zip::"), "box");
    }

    #[test]
    fn a_free_name_is_free_and_can_be_pasted() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("a (2).iso"), "").unwrap();
        let name = free_name(&folder.path().join("a.iso"));
        assert!(name.ends_with("/a (3).iso\""), "{name}");
    }
}
