//! Patches between files that nobody wants to hold in memory: written as they are made, and proven by what was written.

use super::Side;
use crate::locate::open_bytes;
use crate::{Failure, Setting};
use decanter_core::Error;
use decanter_core::blueprint::Blueprint;
use decanter_core::compare::first_difference;
use decanter_core::digest::Algorithm;
use decanter_core::error::Blame;
use decanter_core::pour::Output;
use decanter_core::source::{Bytes, FileSource, SourceRef};
use decanter_formats::patch::large;
use decanter_formats::patch::vcdiff::Maker;
use std::path::Path;
use std::sync::Arc;

/// Files that are longer are not held.
pub(super) const LARGE: u64 = 64 << 20;

/// What was made.
pub(super) struct Made {
    pub(super) source: Side,
    pub(super) target: Side,
    pub(super) bytes: Option<u64>,
}

/// Makes the patch `patch`, of the format `id`.
///
/// # Errors
/// What reading and writing fail with; when the patch does not lead to the new file, which would be a mistake of ours.
pub(super) fn make(
    id: &str,
    files: [&SourceRef; 2],
    metadata: &[u8],
    patch: &Path,
    what: &str,
    setting: &Setting<'_>,
) -> Result<Made, Failure> {
    let [old, new] = files;
    let fail = |e: Error| match e {
        Error::Limit { what: "the patch", .. } => Failure::new(what, e)
            .hint("so much is new that the patch could not be held: make a VCDIFF patch, --format vcdiff"),
        e => Failure::new(what, e),
    };
    let mut blueprint = Blueprint::new();
    let (part, mut sums) = match id {
        "vcdiff" => {
            setting.watch.begin("looking where everything stands in the file before", Some(old.len()));
            let maker = Maker::new(old.clone(), setting.watch).map_err(fail)?;
            setting.watch.end();
            let crc32 = maker.crc32();
            blueprint.source(Arc::new(Bytes(Maker::header())));
            let part = blueprint.packed(new.clone(), Arc::new(maker));
            // What goes in is measured while it is compared.
            blueprint.measure(part, Algorithm::Crc32);
            setting.watch.begin("comparing both files", Some(new.len()));
            (Some(part), [Some(crc32), None])
        }
        id => {
            // Of BPS the file before is read for itself before.
            let bytes = if id == "bps" { old.len() + new.len() } else { old.len().max(new.len()) };
            setting.watch.begin("comparing both files", Some(bytes));
            let made = match id {
                "bps" => large::bps(old, new, metadata, setting.watch),
                _ => large::ups(old, new, setting.watch),
            };
            let (bytes, sums) = made.map_err(fail)?;
            setting.watch.end();
            blueprint.source(Arc::new(Bytes(bytes)));
            setting.watch.begin("writing the patch", Some(blueprint.len()));
            (None, sums.map(Some))
        }
    };
    let output = Output::new(&blueprint, patch);
    let poured = setting.pour_one(output, setting.door(), &mut |path| {
        setting.watch.end();
        prove(path, old, new, setting)
    });
    let poured = poured.map_err(|e| match e.blame() {
        Blame::Request => crate::place::refused(patch, e),
        _ => fail(e),
    })?;
    if let Some(part) = part {
        let digests = poured.iter().filter_map(|poured| poured.part_digests.get(part.index())).flatten();
        let crc32 = digests.map(|digest| digest.bytes.as_slice().try_into().map(u32::from_be_bytes)).next();
        sums[1] = crc32.transpose().map_err(|_| fail(Error::Usage("a CRC-32 that has not four bytes".into())))?;
    }
    let side = |file: &SourceRef, crc32| Side { bytes: Some(file.len()), crc32 };
    let bytes = poured.map(|poured| poured.bytes);
    Ok(Made { source: side(old, sums[0]), target: side(new, sums[1]), bytes })
}

/// Reads what was written as anybody would, applies it, and holds what comes of it against the new file, byte by byte.
fn prove(path: &Path, old: &SourceRef, new: &SourceRef, setting: &Setting<'_>) -> decanter_core::Result<()> {
    let item = open_bytes("patch", Arc::new(FileSource::own(path)?), setting)?;
    let result = item.opened.holds.patch.map(|patch| patch.apply(old)).transpose()?;
    let result = result.ok_or_else(|| Error::Usage("what was made is no patch".into()))?;
    setting.watch.begin("applying the patch", Some(new.len()));
    let differs = first_difference(result.as_ref(), new.as_ref(), setting.watch)?;
    setting.watch.end();
    match differs {
        None => Ok(()),
        Some(at) => Err(Error::Checksum {
            what: "the patch, applied before it got its name,".into(),
            expected: "the new file".into(),
            found: format!("something else from byte {at} on; nothing was kept"),
        }),
    }
}
