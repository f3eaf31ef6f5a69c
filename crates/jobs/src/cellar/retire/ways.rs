//! Ways to make an original again from what is kept.

use crate::merge;
use crate::{Setting, locate};
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::view::{Concat, Fill};
use decanter_core::{Error, Result, native};
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::sync::Arc;

/// How an original is made of what is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "way", rename_all = "lowercase")]
pub(super) enum Way {
    /// It has the same bytes.
    Copy,
    /// It holds the original: as the only image in it, or at an address.
    Inside {
        /// As `extract` takes it.
        address: String,
    },
    /// It is the original without the padding at its end.
    Pad {
        /// How many bytes of padding.
        bytes: u64,
        /// Which byte.
        fill: u8,
    },
    /// It was merged of the original and others.
    Unmerge {
        /// The name that the original has when it is taken apart.
        name: String,
    },
}

impl Way {
    /// In words, with the command that does it.
    pub(super) fn words(&self, kept: &str) -> String {
        let kept = crate::quoted(kept);
        match self {
            Self::Copy => format!("the same bytes: cp {kept} ORIGINAL"),
            // The container itself is meant: an image in it is not looked through for its files.
            Self::Inside { address } => match address.rsplit_once("::") {
                Some((outer, inner)) => {
                    let (outer, inner) = (crate::quoted(&format!("{outer}::")), crate::quoted(inner));
                    format!("inside it: decanter extract {outer} --only {inner}")
                }
                None => format!("inside it: decanter extract {}", crate::quoted(&format!("{address}::"))),
            },
            Self::Pad { bytes, fill } => {
                format!("it with {} more bytes of value {fill:#04x} at its end", crate::grouped(*bytes))
            }
            Self::Unmerge { name } => format!("taken apart: decanter unmerge {kept}, then \"{name}\""),
        }
    }

    /// The bytes of the original, made of what is kept; `scratch` is a folder for what cannot be read in place.
    pub(super) fn source(&self, kept: &str, scratch: &Path, setting: &Setting<'_>) -> Result<SourceRef> {
        match self {
            Self::Copy => Ok(Arc::new(FileSource::own(&native::path(kept))?)),
            Self::Inside { address } => inside(address, setting),
            Self::Pad { bytes, fill } => {
                let own: SourceRef = Arc::new(FileSource::own(&native::path(kept))?);
                let padding: SourceRef = Arc::new(Fill { byte: *fill, len: *bytes });
                Ok(Arc::new(Concat::new(vec![own, padding])?))
            }
            Self::Unmerge { name } => {
                let path = scratch.join(native::path(name));
                if path.symlink_metadata().is_err() {
                    apart(kept, scratch, setting)?;
                }
                Ok(Arc::new(FileSource::own(&path)?))
            }
        }
    }
}

/// The bytes at an address; of one that is looked through, those of the image in it.
fn inside(address: &str, setting: &Setting<'_>) -> Result<SourceRef> {
    match address.contains("::") {
        true => locate::bytes(address, setting),
        false => {
            let item = locate::open(address, "open", setting).map_err(|f| *f.cause)?;
            item.source.ok_or_else(|| Error::Usage("it has no bytes of its own".into()))
        }
    }
}

/// Takes a merged file apart; the names of what came out.
fn apart(kept: &str, scratch: &Path, setting: &Setting<'_>) -> Result<Vec<String>> {
    let (report, _) = merge::unmerge(kept, Some(scratch), setting).map_err(|f| *f.cause)?;
    let name = |path: std::path::PathBuf| path.file_name().map(native::text);
    Ok(report.results.into_iter().filter_map(|row| row.path.and_then(name)).collect())
}

/// What an original is: its length and SHA-256.
pub(super) struct Wanted {
    pub(super) size: u64,
    pub(super) sha256: Vec<u8>,
}

/// Whether a source has the bytes of an original.
pub(super) fn is_it(source: &SourceRef, wanted: &Wanted, setting: &Setting<'_>) -> Result<bool> {
    if source.len() != wanted.size {
        return Ok(false);
    }
    let found = of_source(source, &[Algorithm::Sha256], setting.watch)?;
    Ok(found.first().is_some_and(|digest| digest.bytes == wanted.sha256))
}

/// A way to make an original of one candidate, proven by doing it. `hint` is an address in it that is said to be the original.
///
/// # Errors
/// Only when the user stops: what cannot be read is no way.
pub(super) fn find(kept: &str, hint: Option<&str>, wanted: &Wanted, setting: &Setting<'_>) -> Result<Option<Way>> {
    let path = native::path(kept);
    let Ok(meta) = std::fs::metadata(&path) else { return Ok(None) };
    let mut ways = Vec::new();
    match hint {
        Some(address) => ways.push(Way::Inside { address: address.to_owned() }),
        None if meta.len() == wanted.size => ways.push(Way::Copy),
        None => {
            ways.push(Way::Inside { address: kept.to_owned() });
            if meta.len() < wanted.size {
                let bytes = wanted.size - meta.len();
                ways.extend([0xff, 0x00].map(|fill| Way::Pad { bytes, fill }));
            }
        }
    }
    for way in ways {
        let proven = way.source(kept, &setting.scratch, setting).and_then(|source| is_it(&source, wanted, setting));
        match proven {
            Ok(true) => return Ok(Some(way)),
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            Ok(false) | Err(_) => {}
        }
    }
    if hint.is_some() {
        return Ok(None);
    }
    let folder = tempfile::tempdir_in(&setting.scratch).map_err(|e| Error::io("write", &setting.scratch, e))?;
    let names = match apart(kept, folder.path(), setting) {
        Ok(names) => names,
        Err(Error::Cancelled) => return Err(Error::Cancelled),
        // It is no merged file.
        Err(_) => return Ok(None),
    };
    for name in names {
        let source: SourceRef = Arc::new(FileSource::own(&folder.path().join(native::path(&name)))?);
        if is_it(&source, wanted, setting)? {
            return Ok(Some(Way::Unmerge { name }));
        }
    }
    Ok(None)
}
