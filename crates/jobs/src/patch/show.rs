//! What a patch touches and expects.

use super::{Side, open};
use crate::{Failure, Setting};
use decanter_core::Notice;
use serde::Serialize;

/// What a patch is.
#[derive(Debug, Serialize)]
pub struct ShowReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The patch.
    pub patch: String,
    /// What it is.
    pub kind: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// The file that it expects.
    pub source: Side,
    /// The file that it leads to.
    pub target: Side,
    /// Whether it leads back too.
    pub can_undo: bool,
    /// Records or instructions.
    pub records: u64,
    /// Bytes of the result that may be others than before.
    pub touched_bytes: u64,
    /// Where they are, in the result.
    pub touched: Vec<Touched>,
    /// Text that the author put in.
    pub metadata: Option<String>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A stretch that a patch touches.
#[derive(Debug, Serialize)]
pub struct Touched {
    /// First byte.
    pub offset: u64,
    /// How many.
    pub bytes: u64,
}

/// Shows a patch.
///
/// # Errors
/// When it is none, or its own checksum does not hold.
pub fn show(shown: &str, setting: &Setting<'_>) -> Result<ShowReport, Failure> {
    let (item, patch) = open(shown, "show", setting)?;
    let touched: Vec<Touched> =
        patch.touches().into_iter().map(|r| Touched { offset: r.start, bytes: r.end - r.start }).collect();
    let metadata = patch.metadata();
    Ok(ShowReport {
        schema: "decanter.patch-show/1",
        patch: item.address.clone(),
        kind: item.opened.identity.kind.clone(),
        bytes: item.source.as_ref().map_or(0, |s| s.len()),
        source: patch.source().into(),
        target: patch.target().into(),
        can_undo: patch.can_undo(),
        records: patch.records(),
        touched_bytes: touched.iter().map(|t| t.bytes).sum(),
        touched,
        metadata: (!metadata.is_empty()).then(|| String::from_utf8_lossy(metadata).into_owned()),
        notices: item.opened.told.notices,
    })
}
