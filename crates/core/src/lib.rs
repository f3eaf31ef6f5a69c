//! The ground floor of Decanter: bytes that can be read at any offset, views on them, trees of named
//! files, descriptions of outputs, and the one piece of code that writes outputs.
//!
//! The data's way is the same for every command:
//!
//! ```text
//! path ─ open ─▶ Source ─ detect ─▶ Format::open ─▶ Tree or inner Source ─▶ Blueprint ─ pour ─▶ file + report
//! ```
//!
//! Nothing here prints, reads the environment or ends the process; what is worth telling goes through
//! a [`Watch`] or comes back in a result.

#![cfg_attr(not(test), warn(clippy::disallowed_methods))]

pub mod address;
pub mod blueprint;
pub mod catalogue;
pub mod compare;
pub mod depot;
pub mod digest;
pub mod error;
pub mod expectation;
pub mod format;
pub mod guard;
pub mod head;
pub mod keyring;
pub mod label;
pub mod names;
pub mod native;
pub mod opened;
pub mod os;
pub mod patch;
#[allow(clippy::disallowed_methods, reason = "the only code that writes")]
pub mod pour;
pub mod protection;
pub mod role;
pub mod rom;
pub mod seal;
pub mod source;
pub mod split;
pub mod store;
pub mod tell;
pub mod threads;
pub mod title;
pub mod track;
pub mod trail;
pub mod transform;
pub mod tree;
pub mod view;
pub mod watch;

pub use blueprint::Blueprint;
pub use digest::{Algorithm, Digest};
pub use error::{Error, Result};
pub use format::{Format, Opener, Registry};
pub use guard::{Door, Guard};
pub use head::{Head, Mark};
pub use keyring::{Key, Keyring};
pub use opened::Opened;
pub use source::{Extent, Place, Source, SourceRef};
pub use tree::{Node, Tree};
pub use watch::{Notice, Watch};

/// Bytes in the logical sector of every optical disc that Decanter reads (ECMA-119, 6.1.2; ECMA-167).
pub const SECTOR: u64 = 2048;
