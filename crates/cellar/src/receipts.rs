//! Receipts: originals that are not kept as they were, and how to get each back.

use crate::database::{Database, all};
use crate::{Value, now, values};
use decanter_core::Result;

/// An original that can be made again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Receipt {
    /// Its number.
    pub id: i64,
    /// The absolute path that it had.
    pub original: String,
    /// Length in bytes.
    pub size: u64,
    /// Its SHA-256.
    pub sha256: Vec<u8>,
    /// Nanoseconds since 1970.
    pub modified: i64,
    /// Its permissions, where the system has some.
    pub mode: Option<i64>,
    /// The absolute path of what is kept.
    pub kept: String,
    /// Its SHA-256.
    pub kept_sha256: Vec<u8>,
    /// JSON: how the original is made of it.
    pub way: String,
    /// Where it was moved to; none if it was removed.
    pub aside: Option<String>,
    /// When it was put away.
    pub made: i64,
}

impl Receipt {
    /// Keeps it; returns its number.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn keep(&self, db: &mut dyn Database) -> Result<i64> {
        let name = |text: &str| Value::Name(text.to_owned());
        db.insert(
            "INSERT INTO receipt (original, size, sha256, modified, mode, kept, kept_sha256, way, aside, made)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            values![
                name(&self.original),
                Value::len(self.size),
                Value::Blob(self.sha256.clone()),
                self.modified,
                Value::number(self.mode),
                name(&self.kept),
                Value::Blob(self.kept_sha256.clone()),
                self.way.as_str(),
                self.aside.as_deref().map_or(Value::Null, name),
                now(),
            ],
        )
    }

    /// The receipts of an original that was not restored yet, the last one first.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn of(db: &mut dyn Database, original: &str) -> Result<Vec<Self>> {
        let sql = "SELECT id, original, size, sha256, modified, mode, kept, kept_sha256, way, aside, made FROM receipt
            WHERE original = ?1 AND restored IS NULL ORDER BY id DESC";
        all(db, sql, values![Value::Name(original.to_owned())], |row| Self {
            id: row[0].int(),
            original: row[1].text(),
            size: row[2].unsigned(),
            sha256: row[3].blob().unwrap_or_default().to_vec(),
            modified: row[4].int(),
            mode: row[5].maybe_int(),
            kept: row[6].text(),
            kept_sha256: row[7].blob().unwrap_or_default().to_vec(),
            way: row[8].text(),
            aside: row[9].maybe_text(),
            made: row[10].int(),
        })
    }

    /// Notes that the original is back.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn set_restored(&self, db: &mut dyn Database) -> Result<()> {
        db.run("UPDATE receipt SET restored = ?1 WHERE id = ?2", values![now(), self.id]).map(|_| ())
    }
}
