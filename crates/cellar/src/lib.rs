//! The catalogue of a collection: what is where, what it is, what is known of it. It knows no formats and reads no dumps;
//! jobs fill it, and ask it.
//!
//! Layout of the tables, and how to get on without this program: docs/cellar.md.

#![cfg_attr(not(test), warn(clippy::disallowed_methods))]

pub mod database;
pub mod dats;
pub mod files;
mod history;
pub mod matching;
mod places;
mod receipts;
mod schema;
mod sqlite;
pub mod status;
mod value;

pub use database::Database;
pub use history::{Job, JobFile};
pub use places::Place;
pub use receipts::Receipt;
pub use value::Value;

use decanter_core::{Error, Result, native};
use sqlite::Sqlite;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// The file of the catalogue in the folder of a cellar.
pub const FILE_NAME: &str = "catalogue.sqlite";

/// Which cellar.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Location {
    /// A folder with the catalogue in it.
    Folder(PathBuf),
}

impl Location {
    /// What was typed: a folder, or the address of a server.
    ///
    /// # Errors
    /// [`Error::Usage`] for an address of a kind that is not known.
    pub fn typed(text: &str) -> Result<Self> {
        match text.split_once("://") {
            Some((scheme, _)) => Err(Error::Usage(format!("{scheme}:// is no place for a cellar; give a folder"))),
            None => Ok(Self::Folder(native::path(text))),
        }
    }

    /// The folder, if it is one.
    pub fn folder(&self) -> Option<&Path> {
        let Self::Folder(folder) = self;
        Some(folder)
    }

    /// As people read it: without a password.
    pub fn shown(&self) -> String {
        let Self::Folder(folder) = self;
        native::text(folder)
    }

    /// Whether a cellar is there.
    ///
    /// # Errors
    /// When that cannot be told.
    pub fn is_there(&self) -> Result<bool> {
        let Self::Folder(folder) = self;
        let path = folder.join(FILE_NAME);
        match path.symlink_metadata() {
            Ok(_) => Ok(true),
            Err(e) if matches!(e.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => Ok(false),
            Err(e) => Err(Error::io("open", &path, e)),
        }
    }
}

/// A cellar that is open.
pub struct Cellar {
    /// Where it is.
    pub location: Location,
    /// Its catalogue.
    pub db: Box<dyn Database>,
}

impl Cellar {
    /// Makes one; the folder has to be there.
    ///
    /// # Errors
    /// [`Error::Exists`] where there is one; what the database fails with.
    pub fn create(location: Location) -> Result<Self> {
        let Location::Folder(folder) = &location;
        let path = folder.join(FILE_NAME);
        if location.is_there()? {
            return Err(Error::Exists { path });
        }
        let mut db: Box<dyn Database> = Box::new(Sqlite::open(&path, true, false)?);
        schema::migrate(db.as_mut(), true)?;
        Ok(Self { location, db })
    }

    /// Opens one that is there.
    ///
    /// # Errors
    /// [`Error::Io`] where there is none, or it is in use for too long; [`Error::Unsupported`] for one of a newer program.
    pub fn open(location: Location) -> Result<Self> {
        Self::opened(location, false)
    }

    /// The same for what must not be held up: it gives up soon when another program writes.
    ///
    /// # Errors
    /// As [`Cellar::open`].
    pub fn open_soon(location: Location) -> Result<Self> {
        Self::opened(location, true)
    }

    fn opened(location: Location, is_hurried: bool) -> Result<Self> {
        let Location::Folder(folder) = &location;
        let path = folder.join(FILE_NAME);
        if !location.is_there()? {
            return Err(Error::io("open", &path, std::io::ErrorKind::NotFound.into()));
        }
        let mut db: Box<dyn Database> = Box::new(Sqlite::open(&path, false, is_hurried)?);
        schema::migrate(db.as_mut(), false)?;
        Ok(Self { location, db })
    }
}

/// The time, as the catalogue has it: seconds since 1970, UTC.
pub fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs().cast_signed())
}
