//! Start entries: a shell script that does everything, and a desktop entry for front ends that read those. Which program opens
//! what is the user's to say. Both find their file from where they stand, so that a card can be carried elsewhere.

mod entry;
mod many;
mod one;
mod script;

pub use crate::launch::Starter;
pub use many::{launcher_each, sort_out};
pub use one::{LauncherReport, Options, launcher};
