//! What came of a plan that was followed.

use super::making::Prepared;
use super::plan::LeftOut;
use crate::Answer;
use crate::deliver::Card;
use crate::shelf::ShelfReport;
use decanter_core::Notice;
use serde::Serialize;
use std::path::PathBuf;

/// What came of a plan.
#[derive(Debug, Serialize)]
pub struct FollowReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The profile that it was for.
    pub profile: String,
    /// The card.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub onto: PathBuf,
    /// What it can hold.
    pub card: Card,
    /// A row for each entry of the plan.
    pub made: ShelfReport<Prepared>,
    /// What is not made, and why.
    pub left_out: Vec<LeftOut>,
    /// Start entries that were written, below the card.
    pub starts: Vec<String>,
    /// The list of what is there; nothing where nothing is.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub list: Option<PathBuf>,
    /// The sheet.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub sheet: PathBuf,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

impl FollowReport {
    /// What all of it comes to.
    pub fn answer(&self) -> Answer {
        self.made.answer()
    }

    /// Whether the user stopped it.
    pub fn is_stopped(&self) -> bool {
        self.made.stopped
    }
}
