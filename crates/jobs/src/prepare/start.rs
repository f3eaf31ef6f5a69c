//! Start entries for what was made, in a folder of the card: they find their files from where they stand.

use super::making::{Prepared, listed};
use super::profile::StartRules;
use crate::deliver::{Manifest, target_of};
use crate::launcher::{self, Options};
use crate::shelf::ShelfReport;
use crate::{Failure, Setting};
use decanter_core::names;
use decanter_core::store;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Writes an entry for everything that was made and has a program; their paths below the card.
///
/// # Errors
/// What writing fails with.
pub(super) fn write(
    rules: &StartRules,
    made: &ShelfReport<Prepared>,
    onto: &Path,
    list: &mut Manifest,
    setting: &Setting<'_>,
) -> Result<Vec<String>, Failure> {
    let mut written = Vec::new();
    // Entries hang on nothing but what is there: they are made anew each time.
    let mut setting = setting.for_one(setting.watch);
    setting.replace = true;
    for prepared in made.rows.iter().filter_map(|row| row.result.as_ref()) {
        let Some(starter) = rules.starter(&prepared.platform) else { continue };
        // Of a sheet and its tracks, the sheet.
        let main = prepared.files.iter().find(|f| f.path.ends_with(".cue")).or_else(|| prepared.files.first());
        let Some(main) = main else { continue };
        let stem = names::stem_of(store::name_of(&prepared.path));
        let path = store::join(rules.folder.trim_matches('/'), &format!("{stem} ({}).desktop", prepared.platform));
        let options = Options { name: Some(prepared.title.clone()), with: Some("it".into()), ..Options::default() };
        let known = BTreeMap::from([("it".to_owned(), starter)]);
        let report =
            launcher::launcher(&target_of(onto, &main.path), &target_of(onto, &path), &options, &known, &setting)?;
        let files: Vec<PathBuf> = [report.entry, report.script].into_iter().chain(report.icon).collect();
        list.0.extend(listed(&files, onto, &setting)?.into_iter().map(|file| (file.path, file.digest)));
        written.push(path);
    }
    Ok(written)
}
