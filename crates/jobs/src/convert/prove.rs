//! Reads a result back, before it gets its name, and holds it against what it was made of.

use super::choice::Split;
use super::made::Back;
use super::packed;
use crate::grouped;
use crate::{Item, Setting};
use decanter_core::compare::first_difference;
use decanter_core::format::Beside;
use decanter_core::role::Role;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::view::{Concat, Woven};
use decanter_core::{Error, Result};
use decanter_formats::optical::cd::{RawSectors, sector::RAW};
use decanter_formats::package::x360::svod;
use serde::Serialize;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

/// What reading back has shown.
#[derive(Debug, Clone, Serialize)]
pub struct Proof {
    /// Whether converting back gives what the source has.
    pub identical: bool,
    /// The same in words.
    pub words: String,
}

impl Proof {
    fn of(words: impl Into<String>) -> Self {
        Self { identical: true, words: words.into() }
    }
}

/// Reads the result back.
///
/// # Errors
/// [`Error::Checksum`] when the result is not what it should be.
pub(super) fn prove(
    back: &Back,
    paths: &[PathBuf],
    split: Option<Split>,
    item: &Item,
    setting: &Setting<'_>,
) -> Result<Proof> {
    let from_medium = |path: &PathBuf| -> Result<SourceRef> {
        let written = FileSource::own(path)?;
        // What is read back should come from there, and not from memory.
        written.to_medium()?;
        Ok(Arc::new(written))
    };
    let parts = paths.iter().map(from_medium).collect::<Result<Vec<_>>>()?;
    let written: SourceRef = match (split, parts.as_slice()) {
        (Some(Split::EvenOdd), [even, odd]) => Arc::new(Woven::new(even.clone(), odd.clone())?),
        _ => Arc::new(Concat::new(parts.clone())?),
    };
    let names = [item.stem.clone()];
    let opener = setting.opener(&item.keyring).with_names(&names);
    match back {
        Back::Bytes(wanted) => {
            let opened = opener.open(written.clone()).ok();
            let found = opened.as_ref().and_then(packed::content).unwrap_or(written);
            setting.watch.begin("proving", Some(wanted.len()));
            match first_difference(wanted.as_ref(), found.as_ref(), setting.watch)? {
                None => Ok(Proof::of(format!("read back: all {} bytes are identical", grouped(wanted.len())))),
                Some(at) => Err(differs(at)),
            }
        }
        Back::RawSectors(original, kind, first) => {
            let again: SourceRef = Arc::new(RawSectors::new(written, *kind, *first));
            setting.watch.begin("proving", Some(original.len()));
            Ok(match first_difference(original.as_ref(), again.as_ref(), setting.watch)? {
                None => {
                    Proof::of("identical bytes after converting back: all sectors made anew are those of the source")
                }
                Some(at) => Proof {
                    identical: false,
                    words: format!(
                        "converting back does not give identical bytes: sector {} has a header, subheader or code of its own",
                        first + at / RAW as u64
                    ),
                },
            })
        }
        Back::Tracks(wanted) => {
            let opened = opener.open(written)?;
            setting.watch.begin("proving", Some(wanted.iter().map(|t| t.source.len()).sum()));
            for (index, track) in wanted.iter().enumerate() {
                let found = opened.holds.tracks.get(index).map(|t| &t.source);
                let differs_at = match found {
                    Some(found) => first_difference(track.source.as_ref(), found.as_ref(), setting.watch)?,
                    None => Some(0),
                };
                if let Some(at) = differs_at {
                    return Err(differs(at));
                }
            }
            Ok(Proof::of(format!("read back: all bytes of {} tracks are identical", wanted.len())))
        }
        Back::Rom(body) => {
            let opened = opener.open(written.clone()).ok();
            // A form that is not known by itself begins, or ends, with nothing but the ROM.
            let found = opened.and_then(|o| o.holds.rom).map_or(written, |rom| rom.body);
            setting.watch.begin("proving", Some(body.len()));
            match first_difference(body.as_ref(), found.as_ref(), setting.watch)? {
                None => Ok(Proof::of(format!("read back: all {} bytes of the ROM are identical", grouped(body.len())))),
                Some(at) => Err(differs(at)),
            }
        }
        Back::Seals => {
            let opened = opener.open(written)?;
            let sum = opened.proof.sealed.iter().map(|s| s.source.len()).sum();
            setting.watch.begin("proving", Some(sum));
            let count = crate::verify::prove(&opened, setting)?;
            Ok(Proof::of(format!("read back: all {count} digests that it carries hold")))
        }
        Back::Disc(wanted) => {
            let beside = DataFiles(parts.iter().skip(1).cloned().collect());
            let package = parts.first().ok_or_else(|| Error::Usage("there is no package".into()))?.clone();
            let opened = opener.with_beside(&beside).open(package)?;
            let found = opened.holds.tree.clone().unwrap_or_default();
            setting.watch.begin("proving", Some(wanted.files().map(|(_, f)| f.len).sum::<u64>() * 2));
            let count = same_files(wanted, &found, setting)?;
            let checks = crate::verify::prove(&opened, setting)?;
            Ok(Proof::of(format!(
                "read back: all {count} files are identical, every block has its digest, and all {checks} checks hold"
            )))
        }
        Back::Files(wanted) => {
            let opened = opener.open(written)?;
            let found = opened.holds.tree.clone().unwrap_or_default();
            let bytes = wanted.files().map(|(_, f)| f.len).sum::<u64>();
            setting.watch.begin("proving", Some(bytes * 2));
            let count = same_files(wanted, &found, setting)?;
            if opened.identity.role != Role::Package {
                return Ok(Proof::of(format!("read back: all {count} files are identical")));
            }
            let seals = crate::verify::prove(&opened, setting)?;
            Ok(Proof::of(format!(
                "read back: all {count} files are identical, and all {seals} digests and checks hold"
            )))
        }
    }
}

/// The data files of a package that has not its name yet.
struct DataFiles(Vec<SourceRef>);

impl Beside for DataFiles {
    fn find(&self, _name: &str) -> Result<Option<(String, SourceRef)>> {
        Ok(None)
    }

    fn folder(&self, name: &str) -> Result<Option<(String, Tree)>> {
        let node = |(index, source): (usize, &SourceRef)| {
            Node::new(svod::data_name(index as u64), Kind::File(File::of(source.clone())), None)
        };
        Ok(Some((name.to_owned(), Tree { nodes: self.0.iter().enumerate().map(node).collect() })))
    }
}

fn differs(at: u64) -> Error {
    Error::Checksum {
        what: "the result, read back,".into(),
        expected: "the bytes of the source".into(),
        found: format!("other bytes from offset {at:#x} on; nothing was kept"),
    }
}

/// How many files both trees have, all of which are the same.
///
/// # Errors
/// [`Error::Checksum`] for one that is not there, or has other bytes; what reading fails with.
pub(crate) fn same_files(wanted: &Tree, found: &Tree, setting: &Setting<'_>) -> Result<usize> {
    // There may be very many: each is found at once where it is spelled as it was.
    let by_path: HashMap<&str, &File> = found.files().map(|(node, file)| (node.path.as_str(), file)).collect();
    let mut count = 0;
    for (node, file) in wanted.files() {
        let exact = by_path.get(node.path.as_str()).copied();
        let same = match exact.or_else(|| found.find(&node.path)?.file()) {
            Some(other) => {
                first_difference(file.source()?.as_ref(), other.source()?.as_ref(), setting.watch)?.is_none()
            }
            None => false,
        };
        if !same {
            return Err(Error::Checksum {
                what: format!("{}, read back,", node.path),
                expected: "the content of the source".into(),
                found: "another one; nothing was kept".into(),
            });
        }
        count += 1;
    }
    Ok(count)
}
