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
mod postgres;
pub mod queue;
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

use decanter_core::address::plain;
use decanter_core::{Error, Result, native};
use postgres::Postgres;
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
    /// A database of a server, by its address, `postgres://USER@HOST/NAME`.
    Server(String),
}

impl Location {
    /// What was typed: a folder, or the address of a server.
    ///
    /// # Errors
    /// [`Error::Usage`] for an address of a kind that is not known.
    pub fn typed(text: &str) -> Result<Self> {
        match text.split_once("://") {
            Some(("postgres" | "postgresql", _)) => {
                postgres::check_address(text)?;
                Ok(Self::Server(text.to_owned()))
            }
            Some((scheme, _)) => {
                let why = format!("{scheme}:// is no place for a cellar; give a folder, or postgres://USER@HOST/NAME");
                Err(Error::Usage(why))
            }
            None => Ok(Self::Folder(native::path(text))),
        }
    }

    /// The folder, if it is one.
    pub fn folder(&self) -> Option<&Path> {
        match self {
            Self::Folder(folder) => Some(folder),
            Self::Server(_) => None,
        }
    }

    /// The file of the catalogue, or what stands for it.
    fn file(&self) -> PathBuf {
        match self {
            Self::Folder(folder) => folder.join(FILE_NAME),
            Self::Server(address) => PathBuf::from(plain(address)),
        }
    }

    /// As people read it: without a password.
    pub fn shown(&self) -> String {
        match self {
            Self::Folder(folder) => native::text(folder),
            Self::Server(address) => plain(address),
        }
    }

    /// Whether a cellar is there.
    ///
    /// # Errors
    /// When that cannot be told.
    pub fn is_there(&self) -> Result<bool> {
        let path = match self {
            Self::Folder(folder) => folder.join(FILE_NAME),
            Self::Server(address) => {
                let Some(mut db) = Postgres::open_if_there(address, false)? else { return Ok(false) };
                return Ok(db.version()? != 0);
            }
        };
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
        if location.is_there()? {
            return Err(Error::Exists { path: location.file() });
        }
        let mut db: Box<dyn Database> = match &location {
            Location::Folder(_) => Box::new(Sqlite::open(&location.file(), true, false)?),
            Location::Server(address) => Box::new(Postgres::open(address, true, false)?),
        };
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
        let is_none = || Error::io("open", &location.file(), std::io::ErrorKind::NotFound.into());
        let mut db: Box<dyn Database> = match &location {
            Location::Folder(_) if !location.is_there()? => return Err(is_none()),
            Location::Folder(_) => Box::new(Sqlite::open(&location.file(), false, is_hurried)?),
            Location::Server(address) => {
                let mut db = Postgres::open_if_there(address, is_hurried)?.ok_or_else(is_none)?;
                if db.version()? == 0 {
                    return Err(is_none());
                }
                Box::new(db)
            }
        };
        schema::migrate(db.as_mut(), false)?;
        Ok(Self { location, db })
    }
}

/// The time, as the catalogue has it: seconds since 1970, UTC.
pub fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs().cast_signed())
}
