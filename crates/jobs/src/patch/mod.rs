//! Patches: what they are, applying them, making them.

mod apply;
mod large;
mod make;
mod many;
mod show;

pub use apply::{Applied, ApplyReport, Options, apply, apply_onto};
pub use make::{MakeReport, make};
pub use many::{Pairs, Work, apply_each, sort_out};
pub use show::{ShowReport, Touched, show};

use crate::{Failure, Item, Setting, locate};
use decanter_core::Result;
use decanter_core::patch::{End, Patch};
use decanter_core::source::{SourceRef, read_vec};
use decanter_formats::patch::MOST_FILE;
use serde::Serialize;
use std::sync::Arc;

/// One end of a patch.
#[derive(Debug, Clone, Copy, Serialize, PartialEq, Eq)]
pub struct Side {
    /// Length in bytes, where known.
    pub bytes: Option<u64>,
    /// CRC-32, where known.
    #[serde(serialize_with = "as_hex")]
    pub crc32: Option<u32>,
}

fn as_hex<S: serde::Serializer>(crc: &Option<u32>, serializer: S) -> std::result::Result<S::Ok, S::Error> {
    match crc {
        Some(crc) => serializer.serialize_some(&format!("{crc:08x}")),
        None => serializer.serialize_none(),
    }
}

impl From<End> for Side {
    fn from(end: End) -> Self {
        Self { bytes: end.len, crc32: end.crc32 }
    }
}

impl Side {
    /// What is known of these bytes.
    fn of(bytes: &[u8]) -> Self {
        Self { bytes: Some(bytes.len() as u64), crc32: Some(crc32fast::hash(bytes)) }
    }

    /// What is known of a source, which is read for it.
    fn of_source(source: &SourceRef, setting: &Setting<'_>) -> Result<Self> {
        let crc32 = decanter_core::digest::crc32(source, setting.watch)?;
        Ok(Self { bytes: Some(source.len()), crc32: Some(crc32) })
    }

    /// Whether what is known of both is the same.
    fn fits(self, found: Self) -> bool {
        let same = |a: Option<u64>, b: Option<u64>| a.is_none() || b.is_none() || a == b;
        same(self.bytes, found.bytes) && same(self.crc32.map(u64::from), found.crc32.map(u64::from))
    }

    /// The same in words.
    pub fn words(self) -> String {
        let bytes = self.bytes.map(|b| format!("{} bytes", crate::grouped(b)));
        let crc = self.crc32.map(|c| format!("CRC-32 {c:08x}"));
        match (bytes, crc) {
            (Some(bytes), Some(crc)) => format!("{bytes} with {crc}"),
            (Some(one), None) | (None, Some(one)) => one,
            (None, None) => "anything: the format has no checksums".into(),
        }
    }
}

/// Opens a patch.
pub(crate) fn open(
    shown: &str,
    verb: &str,
    setting: &Setting<'_>,
) -> std::result::Result<(Item, Arc<dyn Patch>), Failure> {
    let item = locate::open(shown, verb, setting)?;
    match &item.opened.holds.patch {
        Some(patch) => {
            let patch = patch.clone();
            Ok((item, patch))
        }
        None => {
            let kind = crate::failure::with_article(&item.opened.identity.kind);
            Err(Failure::usage(format!("cannot {verb} \"{shown}\""), format!("it is {kind}, and no patch"))
                .hint("IPS, UPS and BPS patches are read; the file that is patched comes first, then the patches"))
        }
    }
}

/// A file that is patched or compared: known no further than that takes.
fn open_file(shown: &str, verb: &str, setting: &Setting<'_>) -> std::result::Result<(Item, SourceRef), Failure> {
    let item = locate::open_lightly(shown, verb, setting)?;
    let source = item.source.clone().ok_or_else(|| {
        Failure::usage(format!("cannot {verb} \"{shown}\""), "it has no bytes of its own").hint("give a file")
    })?;
    Ok((item, source))
}

/// All bytes of a file.
fn bytes_of(source: &SourceRef) -> Result<Vec<u8>> {
    read_vec(source.as_ref(), 0, source.len(), "a file that is patched", MOST_FILE)
}
