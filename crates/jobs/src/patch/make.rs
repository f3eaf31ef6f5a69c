//! Makes patches, and proves them before they are written.

use super::large::{self, LARGE};
use super::{Side, bytes_of, open_file};
use crate::locate::open_bytes;
use crate::{Failure, Setting, grouped, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::Output;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Notice};
use decanter_formats::patch::{bps, ips, ups, vcdiff};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Formats that patches are made in: id, and how.
type Maker = fn(&[u8], &[u8], &[u8]) -> decanter_core::Result<Vec<u8>>;
const MAKERS: [(&str, Maker); 4] = [
    ("bps", bps::make),
    ("ups", |old, new, _| ups::make(old, new)),
    ("ips", |old, new, _| ips::make(old, new)),
    ("vcdiff", |old, new, _| vcdiff::make(old, new)),
];
/// What to do where a file is too long for one of them.
const IPS_ENDS: &str = "IPS offsets end at 16 MiB: make a BPS patch instead (leave out --format)";
/// Bytes that copiers put before a ROM.
const COPIER: u64 = 512;

/// What was made.
#[derive(Debug, Serialize)]
pub struct MakeReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The file before.
    pub old: String,
    /// The file after.
    pub new: String,
    /// What is known of the file before.
    pub source: Side,
    /// What is known of the file after.
    pub target: Side,
    /// Id of the patch's format.
    pub format: &'static str,
    /// The patch.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub patch: PathBuf,
    /// Its length in bytes; of a large one that is only known once it is written.
    pub bytes: Option<u64>,
    /// What shows that it leads to the new file; nothing where it was not made.
    pub proof: Option<&'static str>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// Makes a patch that leads from `old` to `new`.
///
/// # Errors
/// When the files are too large for the format, or writing fails.
pub fn make(
    old: &str,
    new: &str,
    format: Option<&str>,
    metadata: Option<&Path>,
    output: Option<&Path>,
    setting: &Setting<'_>,
) -> Result<MakeReport, Failure> {
    let what = format!("cannot make a patch from \"{old}\" to \"{new}\"");
    let fail = |e: Error| Failure::new(what.clone(), e);
    // What the patch is to be called says what it is to be, unless something else is asked for.
    let extension = output.and_then(Path::extension).map(|e| e.to_string_lossy().to_lowercase());
    let known = |wanted: &str| MAKERS.iter().find(|(id, _)| *id == wanted);
    let asked_for = match format {
        Some(format) => Some(known(format).ok_or_else(|| {
            Failure::usage(what.clone(), format!("there is no format \"{format}\" of patches"))
                .hint("choose one of bps, ups, ips, vcdiff; bps is the default")
        })?),
        None => extension.and_then(|e| known(&e)),
    };
    let (old_item, old_source) = open_file(old, "compare", setting)?;
    let (new_item, new_source) = open_file(new, "compare", setting)?;
    let lens = [old_source.len(), new_source.len()];
    let (id, maker) = *asked_for.unwrap_or(&MAKERS[0]);
    if metadata.is_some() && id != "bps" {
        return Err(Failure::usage(what, "only BPS patches have room for metadata").hint("leave out --metadata"));
    }
    let metadata = match metadata {
        Some(path) => setting.guard.read(path).map_err(fail)?,
        None => Vec::new(),
    };
    let target = place::file(output, &place::name_beside(&new_item, id, "patch"));
    setting.check_target(&target)?;
    let mut notices: Vec<Notice> = old_item.notices().iter().chain(new_item.notices()).cloned().collect();
    if lens[0].abs_diff(lens[1]) == COPIER {
        notices.push(Notice::new(
            "one file is 512 bytes longer: if that is a copier header, convert one of them first, or the patch carries it",
        ));
    }
    let report = MakeReport {
        schema: "decanter.patch-make/1",
        old: old_item.address,
        new: new_item.address,
        source: Side { bytes: Some(lens[0]), crc32: None },
        target: Side { bytes: Some(lens[1]), crc32: None },
        format: id,
        patch: target.clone(),
        bytes: None,
        proof: None,
        dry_run: setting.dry_run,
        notices,
    };
    if lens.iter().any(|len| *len > LARGE) {
        if id == "ips" {
            let (most, has) = (grouped(ips::MOST as u64), grouped(lens[0].max(lens[1])));
            let why = format!("IPS patches are made of files of up to {most} bytes; one of these has {has}");
            return Err(Failure::usage(what, why).hint(IPS_ENDS));
        }
        if setting.dry_run {
            return Ok(report);
        }
        let files = [&old_source, &new_source];
        let large::Made { source, target, bytes } = large::make(id, files, &metadata, &target, &what, setting)?;
        let proof = Some("read back and applied before it got its name: it leads to the new file");
        return Ok(MakeReport { source, target, bytes, proof, ..report });
    }
    setting.watch.begin(&format!("comparing with {}", new_item.stem), None);
    let (before, after) = std::thread::scope(|scope| {
        let before = scope.spawn(|| bytes_of(&old_source));
        let after = bytes_of(&new_source);
        (before.join(), after)
    });
    let lost = |_| Error::Usage("a reading thread ended early".into());
    let (before, after) = (before.map_err(lost).and_then(|b| b).map_err(&fail)?, after.map_err(&fail)?);
    let patch = maker(&before, &after, &metadata).map_err(|e| match e {
        Error::Limit { .. } if id == "ips" => fail(e).hint(IPS_ENDS),
        e => fail(e),
    })?;
    decanter_core::watch::check(setting.watch).map_err(&fail)?;
    let source: SourceRef = Arc::new(Bytes(patch));
    prove(source.clone(), &old_source, &after, setting).map_err(&fail)?;
    setting.watch.end();
    let report = MakeReport {
        source: Side::of(&before),
        target: Side::of(&after),
        bytes: Some(source.len()),
        proof: Some("applied before it was written: it leads to the new file"),
        ..report
    };
    setting.write(Output::new(&Blueprint::of(source), &target), &what)?;
    Ok(report)
}

/// Reads the patch as anybody would, and applies it.
fn prove(patch: SourceRef, before: &SourceRef, after: &[u8], setting: &Setting<'_>) -> decanter_core::Result<()> {
    let item = open_bytes("patch", patch, setting)?;
    let result = item.opened.holds.patch.map(|p| p.apply(before)).transpose()?;
    let result = result.ok_or_else(|| Error::Usage("what was made is no patch".into()))?;
    let (found, wanted) = (Side::of_source(&result, setting)?, Side::of(after));
    if found == wanted {
        return Ok(());
    }
    Err(Error::Checksum {
        what: "the patch, applied before it was written,".into(),
        expected: wanted.words(),
        found: found.words(),
    })
}
