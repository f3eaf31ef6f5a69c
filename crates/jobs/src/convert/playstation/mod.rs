//! Packages of two PlayStation generations, and what is wrapped in those of the older one.

pub(crate) mod classics;
pub(crate) mod fourth;
pub(crate) mod package;
mod wrapped;

use super::Options;
use super::choice::{Choice, Kind};
use super::target::Target;
use decanter_core::{Error, Result};
use decanter_formats::package::ps3::content_id;

/// Packages of the family.
pub(super) static TARGETS: [Target; 4] = [classics::TARGET, wrapped::TARGET, package::TARGET, fourth::TARGET];

static CONTENT_ID: Choice = Choice::of(
    "content-id",
    "ID",
    Kind::Text,
    "Content id of a new package, as UP0001-DCNT10001_00-KELPCOURIER00000 [default: that of the PARAM.SFO, else made of its title id and title]",
);
/// What is said where signatures are zeros.
pub(crate) const PLACEHOLDERS: &str =
    "its signatures are placeholders of zeros: modded consoles take it, others do not";

/// The content id that was asked for.
///
/// # Errors
/// What is wrong with it.
fn given_id(options: &Options) -> Result<Option<String>> {
    match options.given.text(&CONTENT_ID) {
        None => Ok(None),
        Some(given) => match content_id::fault(given) {
            Some(fault) => Err(Error::Usage(format!("--content-id {given}: {fault}"))),
            None => Ok(Some(given.to_owned())),
        },
    }
}
