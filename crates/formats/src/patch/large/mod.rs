//! Making patches of files that nobody wants to hold in memory: only the patch itself is held, or, of VCDIFF, not even that.

mod bps;
mod places;
mod search;
mod ups;

pub use bps::make as bps;
pub use ups::make as ups;

pub(in crate::patch) use places::Places;
pub(in crate::patch) use search::{Search, Step};

use super::MOST_PATCH;
use decanter_core::{Error, Result};

/// Fails for a patch that is longer than those that are read.
fn bounded(len: u64) -> Result<()> {
    match len > MOST_PATCH {
        true => Err(Error::Limit { what: "the patch", asked: len, limit: MOST_PATCH }),
        false => Ok(()),
    }
}
