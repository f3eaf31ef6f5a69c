//! The files of a result: where the main one goes, the parts that it is split into, the one beside it.

use super::Options;
use super::WrittenFile;
use super::choice::Split;
use super::made::Made;
use super::shared::SPLIT;
use super::table;
use super::target::Target;
use crate::{Item, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{self, Digest};
use decanter_core::native;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::view::{Concat, Lane, Slice, Woven};
use decanter_core::{Error, Result};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Parts that a result is split into.
const MOST_PARTS: u64 = 10_000;
/// The same for a folder of parts, whose names have two digits.
const MOST_IN_FOLDER: u64 = 100;

/// What stands behind the name of a package in that of the folder with its data files.
const DATA: &str = ".data";

/// The main file of the result.
pub(super) fn main_path(item: &Item, target: &Target, output: Option<&Path>, options: &Options) -> PathBuf {
    if let Some(own) = target.place.map(|place| place(item, options)) {
        return match output {
            Some(path) if place::is_folder(path) => path.join(own),
            Some(path) => path.to_owned(),
            None => own,
        };
    }
    let is_joined = !options.join.is_empty() || options.odd.is_some();
    let chosen = table::choices().into_iter().filter(|c| options.given.has(c)).find_map(|c| c.word);
    let word = chosen.or(is_joined.then_some("joined")).unwrap_or("converted");
    let main = place::file(output, &place::name_beside(item, target.extension, word));
    // Of a pair, either is a name for both.
    match target.pair.is_some_and(|pair| main.extension().is_some_and(|e| e.eq_ignore_ascii_case(pair))) {
        true => main.with_extension(target.extension),
        false => main,
    }
}

/// The files to write: the main one, in parts if asked for, and the one beside it.
pub(super) fn outputs(
    made: &Made,
    main: &Path,
    target: &Target,
    options: &Options,
) -> Result<Vec<(Blueprint, PathBuf)>> {
    let mut outputs = Vec::new();
    match options.given.split(&SPLIT) {
        Some(Split::EvenOdd) => {
            let whole = made.blueprint.as_source()?;
            for (extension, is_odd) in [("even", false), ("odd", true)] {
                let lane = Lane::new(whole.clone(), is_odd);
                outputs.push((Blueprint::of(Arc::new(lane)), main.with_extension(extension)));
            }
        }
        Some(Split::Size(most)) if made.blueprint.len() > most => {
            let whole = made.blueprint.as_source().map_err(|_| {
                Error::Usage("a compressed result cannot be split: its length is known only in the end".into())
            })?;
            let parts = whole.len().checked_div(most).unwrap_or(u64::MAX);
            let most_parts = if target.splits_into_folder { MOST_IN_FOLDER } else { MOST_PARTS };
            if parts >= most_parts {
                let why = format!("parts of {most} bytes would be more than {most_parts}");
                return Err(Error::Usage(format!("{why}: --split takes the size of a part, as in 4GiB-1")));
            }
            // Parts that sort in their order.
            let width = whole.len().div_ceil(most).saturating_sub(1).to_string().len();
            let mut at = 0;
            while at < whole.len() {
                let len = most.min(whole.len() - at);
                let path = if target.splits_into_folder {
                    main.join(format!("{:02}", outputs.len()))
                } else {
                    let mut name = main.as_os_str().to_owned();
                    name.push(format!(".{:0width$}", outputs.len()));
                    PathBuf::from(name)
                };
                outputs.push((Blueprint::of(Arc::new(Slice::new(whole.clone(), at, len)?)), path));
                at += len;
            }
        }
        _ => outputs.push((made.blueprint.clone(), main.to_owned())),
    }
    let mut folder = main.as_os_str().to_owned();
    folder.push(DATA);
    outputs.extend(made.data.iter().map(|(name, b)| (b.clone(), Path::new(&folder).join(name))));
    if let Some(beside) = &made.beside {
        let name = main.file_name().map(native::text).unwrap_or_default();
        let bytes = decanter_core::source::Bytes((beside.bytes)(&name));
        outputs.push((Blueprint::of(Arc::new(bytes)), main.with_extension(beside.extension)));
    }
    Ok(outputs)
}

/// The digests of what was taken apart, put together again.
pub(super) fn digests_of(files: &[WrittenFile], options: &Options) -> Result<Vec<Digest>> {
    let open = |f: &WrittenFile| Ok(Arc::new(FileSource::own(&f.path)?) as SourceRef);
    let parts = files.iter().map(open).collect::<Result<Vec<_>>>()?;
    let whole: SourceRef = match (options.given.split(&SPLIT), parts.as_slice()) {
        (Some(Split::EvenOdd), [even, odd]) => Arc::new(Woven::new(even.clone(), odd.clone())?),
        _ => Arc::new(Concat::new(parts)?),
    };
    digest::of_source(&whole, &options.digests, &())
}
