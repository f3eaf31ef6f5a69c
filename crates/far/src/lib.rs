//! Sources that are not on this machine: objects behind addresses, read in ranges, several at once, with read-ahead, and with a
//! check that nobody has changed them meanwhile.

#![cfg_attr(not(test), warn(clippy::disallowed_methods))]

mod ahead;
mod object;
mod web;

pub use web::Web;
