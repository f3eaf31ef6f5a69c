//! The catalogue in a file of its own: SQLite, with a log beside it, so that many read while one writes.

use crate::database::{Database, Each};
use crate::{Value, value};
use decanter_core::{Error, Result, native};
use rusqlite::config::DbConfig;
use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{Connection, ErrorCode, OpenFlags, ToSql};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long a connection waits for another one that writes. Nobody holds the catalogue for longer than a moment.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long one waits that must not hold its job up.
const SHORT_PATIENCE: Duration = Duration::from_secs(3);
/// Statements that are kept ready.
const STATEMENTS: usize = 64;

/// A connection to the file.
pub struct Sqlite {
    connection: Connection,
    path: PathBuf,
}

impl Sqlite {
    /// Opens the file at `path`, which has to be there unless it `is_new`; one that `is_hurried` does not wait long for others.
    ///
    /// # Errors
    /// [`Error::Io`] when it cannot be opened or is in use for too long, [`Error::Unreadable`] for what is no catalogue.
    pub fn open(path: &Path, is_new: bool, is_hurried: bool) -> Result<Self> {
        let mut flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        if is_new {
            flags |= OpenFlags::SQLITE_OPEN_CREATE;
        }
        let told = |e| told(path, &e);
        let connection = Connection::open_with_flags(path, flags).map_err(told)?;
        connection.busy_timeout(if is_hurried { SHORT_PATIENCE } else { PATIENCE }).map_err(told)?;
        connection.set_prepared_statement_cache_capacity(STATEMENTS);
        // The page cache is bounded (KiB, hence the sign); what is sorted on disk is not held in memory.
        let settings = "PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; PRAGMA foreign_keys = OFF;
            PRAGMA cache_size = -16384; PRAGMA temp_store = FILE; PRAGMA mmap_size = 0;";
        connection.execute_batch(settings).map_err(told)?;
        // A statement stays as it was planned, whatever the values: planning takes longer than asking.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map_err(told)?;
        Ok(Self { connection, path: path.to_owned() })
    }
}

/// What the database says, by who is to blame.
fn told(path: &Path, error: &rusqlite::Error) -> Error {
    let code = error.sqlite_error_code();
    match code {
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            Error::Unreadable { why: format!("{} is damaged, or no catalogue: {error}", native::text(path)) }
        }
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            Error::io("use", path, std::io::Error::other("another program has been writing to it for too long"))
        }
        Some(ErrorCode::DiskFull) => Error::io("write", path, std::io::ErrorKind::StorageFull.into()),
        Some(ErrorCode::ReadOnly | ErrorCode::PermissionDenied) => {
            Error::io("write", path, std::io::ErrorKind::PermissionDenied.into())
        }
        Some(ErrorCode::CannotOpen) if !path.exists() => Error::io("open", path, std::io::ErrorKind::NotFound.into()),
        Some(ErrorCode::CannotOpen | ErrorCode::SystemIoFailure) => {
            Error::io("use", path, std::io::Error::other(error.to_string()))
        }
        _ => Error::Unreadable { why: format!("{} does not hold what a catalogue holds: {error}", native::text(path)) },
    }
}

impl ToSql for Value {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self {
            Self::Null => ToSqlOutput::Borrowed(ValueRef::Null),
            Self::Int(value) => ToSqlOutput::Borrowed(ValueRef::Integer(*value)),
            Self::Text(text) => ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes())),
            Self::Name(name) => match native::os(name).into_string() {
                Ok(text) => ToSqlOutput::Owned(text.into()),
                Err(odd) => ToSqlOutput::Owned(odd.into_encoded_bytes().into()),
            },
            Self::Blob(bytes) => ToSqlOutput::Borrowed(ValueRef::Blob(bytes)),
        })
    }
}

fn of_column(value: ValueRef<'_>) -> Value {
    match value {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(value) => Value::Int(value),
        // No column holds one; what somebody wrote by hand is rounded.
        ValueRef::Real(value) => Value::Int(value as i64),
        ValueRef::Text(bytes) => Value::Text(String::from_utf8_lossy(bytes).into_owned()),
        ValueRef::Blob(bytes) => Value::Blob(bytes.to_vec()),
    }
}

impl Database for Sqlite {
    fn run(&mut self, sql: &str, values: &[Value]) -> Result<usize> {
        let mut statement = self.connection.prepare_cached(sql).map_err(|e| told(&self.path, &e))?;
        statement.execute(rusqlite::params_from_iter(values)).map_err(|e| told(&self.path, &e))
    }

    fn insert(&mut self, sql: &str, values: &[Value]) -> Result<i64> {
        match self.run(sql, values)? {
            0 => Ok(0),
            _ => Ok(self.connection.last_insert_rowid()),
        }
    }

    fn ask(&mut self, sql: &str, values: &[value::Value], each: Each<'_>) -> Result<()> {
        let told = |e| told(&self.path, &e);
        let mut statement = self.connection.prepare_cached(sql).map_err(told)?;
        let columns = statement.column_count();
        let mut rows = statement.query(rusqlite::params_from_iter(values)).map_err(told)?;
        let mut read = Vec::with_capacity(columns);
        while let Some(row) = rows.next().map_err(told)? {
            read.clear();
            for column in 0..columns {
                read.push(of_column(row.get_ref(column).map_err(told)?));
            }
            each(&read)?;
        }
        Ok(())
    }

    fn script(&mut self, sql: &str) -> Result<()> {
        self.connection.execute_batch(sql).map_err(|e| told(&self.path, &e))
    }

    fn widen(&mut self) -> Result<()> {
        self.script("PRAGMA cache_size = -131072")
    }

    fn begin(&mut self) -> Result<()> {
        self.script("BEGIN IMMEDIATE")
    }

    fn commit(&mut self) -> Result<()> {
        self.script("COMMIT")
    }

    fn undo(&mut self) -> Result<()> {
        self.script("ROLLBACK")
    }

    fn version(&mut self) -> Result<i64> {
        crate::database::number(self, "PRAGMA user_version", &[])
    }

    fn set_version(&mut self, version: i64) -> Result<()> {
        self.script(&format!("PRAGMA user_version = {version}"))
    }

    fn clock(&self) -> &'static str {
        "CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER)"
    }

    fn passing_locked(&self) -> &'static str {
        // Whoever writes is alone.
        ""
    }
}
