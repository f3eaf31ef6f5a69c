//! Order: files get the names and folders that their set, or a template, gives them. First a plan that people read and
//! edit, then what it says, then, if it was a mistake, all of it back.

mod apply;
mod archives;
mod groups;
mod journal;
mod names;
mod plan;
mod repack;
mod step;
mod steps;

pub use apply::{ApplyReport, apply, undo};
pub use plan::{PlanReport, plan};

/// How files are named.
#[derive(Debug, Clone, Default)]
pub struct How {
    /// Names by this template, instead of by the sets.
    pub template: Option<String>,
    /// Where doubles are moved to: a folder below each place. None leaves them where they are.
    pub doubles: Option<String>,
    /// Whether archives become files, or files archives. None leaves both as they are.
    pub archives: Option<Archives>,
}

/// How files are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Archives {
    /// One by one: archives are taken apart.
    Loose,
    /// A zip archive for each game.
    Zip,
}
