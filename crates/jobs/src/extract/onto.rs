//! One file onto a stream.

use super::{Check, Known, Options, UNSETTLED, open, wanted};
use crate::{Failure, Setting};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Error;
use decanter_core::pour;
use serde::Serialize;
use std::io::Write;

/// What went onto a stream.
#[derive(Debug, Serialize)]
pub struct StreamReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// The path of the file in it.
    pub path: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
}

/// Writes the one file that is chosen onto `out`.
///
/// # Errors
/// When more than one is chosen, or it is damaged; what reading or writing fails with.
pub fn extract_onto(
    out: &mut dyn Write,
    shown: &str,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<StreamReport, Failure> {
    let item = open(shown, setting)?;
    let fail = |e| Failure::new(format!("cannot extract \"{shown}\""), e);
    if options.content_tree {
        let why = "--content-tree lays out a folder, and standard output is none";
        return Err(Failure::usage(format!("cannot extract \"{shown}\""), why).hint("give a folder with -o"));
    }
    let nodes = wanted(&item, options, setting)?;
    let files: Vec<_> = nodes.iter().filter_map(|node| Some((*node, node.file()?))).collect();
    let [(node, file)] = files[..] else {
        let why = format!("{} files are chosen, and standard output takes one", files.len());
        return Err(fail(Error::Usage(why)).hint("choose one with --only PATH, or give a folder with -o"));
    };
    let known = Known::of(&item, options, Check::Before, setting)?;
    if let Some(why) = known.damaged.get(&node.path) {
        return Err(fail(Error::Damaged { what: why.clone() }).hint("--unchecked takes it as it is"));
    }
    let blueprint = Blueprint::of(file.source().map_err(fail)?.clone());
    let expected = known.expected.get(&node.path);
    let algorithm = expected.map(|digest| digest.algorithm);
    let report = StreamReport {
        schema: "decanter.extract-stream/1",
        source: item.address.clone(),
        path: node.path.clone(),
        bytes: blueprint.len(),
        dry_run: setting.dry_run,
    };
    if setting.dry_run {
        return Ok(report);
    }
    setting.watch.begin(&format!("extracting {}", node.name()), Some(blueprint.len()));
    let streamed = pour::onto(out, &blueprint, algorithm.as_slice(), &setting.scratch, setting.watch).map_err(fail)?;
    setting.watch.end();
    setting.settle().map_err(|e| fail(e).hint(UNSETTLED))?;
    if let (Some(expected), Some(found)) = (expected, streamed.digests.first().filter(|found| Some(*found) != expected))
    {
        let what = format!("by the description of the disc {}", node.path);
        return Err(fail(Error::Checksum { what, expected: expected.to_string(), found: found.hex() }));
    }
    Ok(report)
}
