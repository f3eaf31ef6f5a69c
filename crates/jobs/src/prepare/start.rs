//! Start entries for what was made, in a folder of the card: they find their files from where they stand.

use super::making::Prepared;
use super::profile::StartRules;
use crate::deliver::{Manifest, target_of};
use crate::launcher::{self, Options};
use crate::shelf::ShelfReport;
use crate::{Failure, Setting};
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::names;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{native, store};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

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
        for file in [Some(&report.entry), Some(&report.script), report.icon.as_ref()].into_iter().flatten() {
            let fail = |e| Failure::new(format!("cannot read \"{}\" back", native::text(file)), e);
            let source: SourceRef = Arc::new(FileSource::own(file).map_err(fail)?);
            let found = of_source(&source, &[Algorithm::Sha1], setting.watch).map_err(fail)?;
            let below = decanter_core::os::with_slashes(native::text(file.strip_prefix(onto).unwrap_or(file)));
            if let Ok(digest) = <[u8; 20]>::try_from(found[0].bytes.as_slice()) {
                list.0.insert(below, digest);
            }
        }
        written.push(path);
    }
    Ok(written)
}
