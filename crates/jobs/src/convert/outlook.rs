//! What a conversion would come to: asked by whoever chooses between several, before anything is written.

use super::laid::Laid;
use super::made::Back;
use super::parts;
use super::target::Target;
use super::{Options, many, present};
use crate::{Answer, Failure, Item, Setting};
use decanter_core::source::SourceRef;
use std::path::{Path, PathBuf};

/// What a result would be.
pub(crate) struct Outlook {
    /// Whether converting back gives the bytes of the source; else its files are kept.
    pub(crate) keeps_bytes: bool,
    /// Bytes of the result, of which packed ones may become fewer.
    pub(crate) bytes: u64,
    /// The bytes of its longest file, as far as that is known.
    pub(crate) longest: u64,
    /// What is packed, where that is so.
    pub(crate) packed: Vec<SourceRef>,
    /// What it is called below a folder that is given.
    pub(crate) place: PathBuf,
}

/// What a source would become; nothing is written.
///
/// # Errors
/// When it does not fit, or is damaged.
pub(crate) fn outlook(
    item: &Item,
    target: &Target,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<Outlook, Failure> {
    Laid::check(item, target, options, setting)?;
    let laid = Laid::unasked(item, target, options, setting)?;
    let place = parts::main_path(item, target, Some(Path::new("./")), options);
    let place = place.strip_prefix(".").map(Path::to_owned).unwrap_or(place);
    let outputs = laid.outputs(&place)?;
    let made = &laid.made;
    Ok(Outlook {
        keeps_bytes: matches!(made.back, Back::Bytes(_) | Back::Tracks(_) | Back::Rom(_)),
        bytes: made.bytes_after(),
        longest: outputs.iter().map(|(blueprint, _)| blueprint.len()).max().unwrap_or(0),
        packed: made.packed(item.source.as_ref()),
        place,
    })
}

/// The bytes of a result without writing it: for what goes on from there. `None` where they are known only in the end.
pub(crate) fn view(item: &Item, target: &Target, options: &Options, setting: &Setting<'_>) -> Option<SourceRef> {
    Laid::check(item, target, options, setting).ok()?;
    let laid = Laid::unasked(item, target, options, setting).ok()?;
    let is_one = laid.made.beside.is_none() && laid.made.data.is_empty();
    laid.made.blueprint.as_source().ok().filter(|_| is_one)
}

/// Whether a source is that already, if nothing about it is to be changed.
pub(crate) fn is_already(item: &Item, target: &Target) -> bool {
    many::is_already(item, target, &Options::default())
}

/// Whether the result stands at `main` already, and how that is known.
///
/// # Errors
/// When something else does.
pub(crate) fn is_there(
    item: &Item,
    target: &Target,
    main: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<Option<(String, Answer)>, Failure> {
    Laid::check(item, target, options, setting)?;
    present::is_there(item, target, main, options, setting)
}

/// The files of a result at `main`.
///
/// # Errors
/// When it cannot be laid out.
pub(crate) fn files(
    item: &Item,
    target: &Target,
    main: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<Vec<PathBuf>, Failure> {
    let outputs = Laid::unasked(item, target, options, setting)?.outputs(main)?;
    Ok(outputs.into_iter().map(|(_, path)| path).collect())
}
