//! Sources that are not on this machine: objects behind addresses, read in ranges, several at once, with read-ahead, and with a
//! check that nobody has changed them meanwhile. Outputs go to stores of objects, complete or not there.

#![cfg_attr(not(test), warn(clippy::disallowed_methods))]

mod ahead;
mod bucket;
mod index;
mod object;
mod objects;
mod upload;
mod wait;
mod web;

pub use bucket::Access;
pub use objects::Objects;
pub use web::Web;
