//! What a catalogue needs of a database. Statements are written once: places are `?1`, `?2` ..., and nothing is used that
//! only one database understands.

use crate::Value;
use decanter_core::Result;

/// What is done with each row of an answer.
pub type Each<'a> = &'a mut dyn FnMut(&[Value]) -> Result<()>;

/// One connection to a database.
pub trait Database: Send {
    /// Runs a statement; returns how many rows it changed.
    ///
    /// # Errors
    /// When the database refuses it, or is busy for too long.
    fn run(&mut self, sql: &str, values: &[Value]) -> Result<usize>;

    /// Runs an `INSERT` into a table whose first column is its number; returns that number, or 0 if nothing was inserted.
    ///
    /// # Errors
    /// As [`Database::run`].
    fn insert(&mut self, sql: &str, values: &[Value]) -> Result<i64>;

    /// Asks, and hands on each row.
    ///
    /// # Errors
    /// As [`Database::run`], and what `each` fails with.
    fn ask(&mut self, sql: &str, values: &[Value], each: Each<'_>) -> Result<()>;

    /// Runs several statements without values.
    ///
    /// # Errors
    /// As [`Database::run`].
    fn script(&mut self, sql: &str) -> Result<()>;

    /// Takes more memory, where that helps: one large piece of work follows, and nothing else runs.
    ///
    /// # Errors
    /// As [`Database::run`].
    fn widen(&mut self) -> Result<()>;

    /// Begins a transaction that writes: it waits for others that do.
    ///
    /// # Errors
    /// When another writes for too long.
    fn begin(&mut self) -> Result<()>;

    /// Ends a transaction; what was written stays.
    ///
    /// # Errors
    /// When it cannot be made to stay.
    fn commit(&mut self) -> Result<()>;

    /// Ends a transaction; what was written in it is gone.
    ///
    /// # Errors
    /// When the database cannot do it.
    fn undo(&mut self) -> Result<()>;

    /// The version of the schema; 0 for none.
    ///
    /// # Errors
    /// When it cannot be asked.
    fn version(&mut self) -> Result<i64>;

    /// Sets the version of the schema, within a transaction.
    ///
    /// # Errors
    /// As [`Database::run`].
    fn set_version(&mut self, version: i64) -> Result<()>;

    /// An expression for the time that all who use the database have in common: milliseconds since 1970.
    fn clock(&self) -> &'static str;

    /// What a query ends with that takes rows for itself, and passes by those that others are about to take.
    fn passing_locked(&self) -> &'static str;
}

/// Does `work` in one transaction: all of it stays, or nothing.
///
/// # Errors
/// What `work` fails with, and what the database does.
pub fn together<T>(db: &mut dyn Database, work: impl FnOnce(&mut dyn Database) -> Result<T>) -> Result<T> {
    db.begin()?;
    match work(db) {
        Ok(done) => {
            db.commit()?;
            Ok(done)
        }
        Err(e) => {
            // The first error says why.
            let _ = db.undo();
            Err(e)
        }
    }
}

/// The first row of an answer.
///
/// # Errors
/// As [`Database::ask`].
pub fn first(db: &mut dyn Database, sql: &str, values: &[Value]) -> Result<Option<Vec<Value>>> {
    let mut row = None;
    db.ask(sql, values, &mut |found| {
        if row.is_none() {
            row = Some(found.to_vec());
        }
        Ok(())
    })?;
    Ok(row)
}

/// Every row of an answer, each as `read` makes it.
///
/// # Errors
/// As [`Database::ask`].
pub fn all<T>(db: &mut dyn Database, sql: &str, values: &[Value], read: impl Fn(&[Value]) -> T) -> Result<Vec<T>> {
    let mut rows = Vec::new();
    db.ask(sql, values, &mut |row| {
        rows.push(read(row));
        Ok(())
    })?;
    Ok(rows)
}

/// The first number of an answer; 0 for none.
///
/// # Errors
/// As [`Database::ask`].
pub fn number(db: &mut dyn Database, sql: &str, values: &[Value]) -> Result<i64> {
    Ok(first(db, sql, values)?.map_or(0, |row| row[0].int()))
}
