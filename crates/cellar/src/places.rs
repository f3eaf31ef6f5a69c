//! Places: folders that are looked through, and where they were.

use crate::database::{Database, all};
use crate::{Value, now, values};
use decanter_core::Result;

/// A folder of the collection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Number in the catalogue.
    pub id: i64,
    /// Its absolute path.
    pub root: String,
    /// The number of the device that it was on.
    pub device: Option<i64>,
    /// What its file system is called by itself.
    pub volume: Option<String>,
    /// Where that was mounted.
    pub mount: Option<String>,
    /// When the last scan that came to its end did so.
    pub scanned: Option<i64>,
}

impl Place {
    /// Whether it is behind an address.
    pub fn is_far(&self) -> bool {
        self.root.contains("://")
    }

    /// The whole path of what is `below` it.
    pub fn path(&self, below: &str) -> String {
        match self.root.ends_with('/') {
            true => format!("{}{below}", self.root),
            false => format!("{}/{below}", self.root),
        }
    }

    /// All of them, by their paths.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn all(db: &mut dyn Database) -> Result<Vec<Self>> {
        all(db, "SELECT id, root, device, volume, mount, scanned FROM place ORDER BY root", &[], |row| Self {
            id: row[0].int(),
            root: row[1].text(),
            device: row[2].maybe_int(),
            volume: row[3].maybe_text(),
            mount: row[4].maybe_text(),
            scanned: row[5].maybe_int(),
        })
    }

    /// Adds one that has not been scanned yet.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn add(
        db: &mut dyn Database,
        root: &str,
        device: Option<i64>,
        volume: Option<&str>,
        mount: Option<&str>,
    ) -> Result<Self> {
        let id = db.insert(
            "INSERT INTO place (root, device, volume, mount, added) VALUES (?1, ?2, ?3, ?4, ?5)",
            values![
                Value::Name(root.to_owned()),
                Value::number(device),
                Value::maybe(volume),
                Value::maybe(mount),
                now()
            ],
        )?;
        let own = |text: Option<&str>| text.map(str::to_owned);
        Ok(Self { id, root: root.to_owned(), device, volume: own(volume), mount: own(mount), scanned: None })
    }

    /// Notes where it is now, and that a scan begins.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn begin(
        &self,
        db: &mut dyn Database,
        device: Option<i64>,
        volume: Option<&str>,
        mount: Option<&str>,
    ) -> Result<()> {
        let sql = "UPDATE place SET begun = ?1, device = ?2, volume = ?3, mount = ?4 WHERE id = ?5";
        let (device, volume, mount) = (Value::number(device), Value::maybe(volume), Value::maybe(mount));
        db.run(sql, values![now(), device, volume, mount, self.id]).map(|_| ())
    }

    /// Notes that a scan of all of it came to its end.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn end(&self, db: &mut dyn Database) -> Result<()> {
        db.run("UPDATE place SET scanned = ?1 WHERE id = ?2", values![now(), self.id]).map(|_| ())
    }
}
