//! Sets: DAT files as they were imported, version by version.

use crate::database::{Database, all, first};
use crate::files::columns;
use crate::{Value, now, values};
use decanter_core::catalogue::{Catalogue, Sums, key, prefix};
use decanter_core::{Algorithm, Result};
use std::cmp::Ordering;

/// A set that was imported.
#[derive(Debug, Clone)]
pub struct DatRow {
    /// Its number.
    pub id: i64,
    /// What it calls itself.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Where it came from.
    pub path: String,
    /// Whether files are held against it.
    pub is_current: bool,
    /// Whether it is a list of the files of one folder.
    pub is_list: bool,
}

impl DatRow {
    /// All of them, by name, the newest version first.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn all(db: &mut dyn Database) -> Result<Vec<Self>> {
        let sql =
            "SELECT id, name, version, path, is_current, is_list FROM dat ORDER BY name, is_current DESC, id DESC";
        all(db, sql, &[], |row| Self {
            id: row[0].int(),
            name: row[1].text(),
            version: row[2].text(),
            path: row[3].text(),
            is_current: row[4].int() != 0,
            is_list: row[5].int() != 0,
        })
    }
}

/// What came of an import.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Imported {
    /// It is new, and what files are held against.
    New,
    /// This very file was there already.
    Known,
    /// It is kept, but a newer version is what files are held against.
    Older,
}

/// The order in which digests are what entries are found by: those first that every scan makes.
const BY: [Algorithm; 4] = [Algorithm::Sha1, Algorithm::Sha256, Algorithm::Md5, Algorithm::Crc32];

/// The digest that an entry is found by.
pub fn found_by(sums: &Sums) -> Option<(Algorithm, i64)> {
    BY.into_iter().find_map(|a| Some((a, prefix(sums.get(a)?).cast_signed())))
}

/// A set of so many entries is indexed once it is in: sorted as a whole, instead of each entry in its place.
const LARGE: usize = 20_000;

/// Takes a set in, under `name`. Older versions are kept unless it `replaces` them.
///
/// # Errors
/// What the database fails with.
pub fn import(
    db: &mut dyn Database,
    name: &str,
    path: &str,
    digest: &[u8],
    catalogue: &Catalogue,
    replaces: bool,
) -> Result<Imported> {
    let blob = Value::Blob(digest.to_vec());
    let same = first(db, "SELECT id FROM dat WHERE digest = ?1 AND name = ?2", values![blob.clone(), name])?;
    if same.is_some() {
        return Ok(Imported::Known);
    }
    let others: Vec<DatRow> = DatRow::all(db)?.into_iter().filter(|dat| dat.name == name).collect();
    if replaces {
        others.iter().try_for_each(|dat| remove(db, dat.id))?;
    }
    let newer = |dat: &DatRow| by_version(&dat.version, &catalogue.version) == Ordering::Greater;
    let is_current = replaces || !others.iter().any(newer);
    if is_current {
        db.run("UPDATE dat SET is_current = 0 WHERE name = ?1", values![name])?;
    }
    let id = db.insert(
        "INSERT INTO dat (name, version, path, digest, is_list, imported, is_current, games, entries)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
        values![
            name,
            catalogue.version.as_str(),
            Value::Name(path.to_owned()),
            blob,
            i64::from(catalogue.is_list),
            now(),
            i64::from(is_current),
            Value::len(catalogue.games().len() as u64),
            Value::len(catalogue.entries().len() as u64),
        ],
    )?;
    let is_large = catalogue.entries().len() >= LARGE;
    if is_large {
        db.script("DROP INDEX entry_proof; DROP INDEX entry_name")?;
    }
    // Numbers are given out here: one statement an entry, and no answer to wait for.
    let next = |db: &mut dyn Database, table| {
        crate::database::number(db, &format!("SELECT coalesce(max(id), 0) + 1 FROM {table}"), &[])
    };
    let (first_game, first_entry) = (next(db, "game")?, next(db, "entry")?);
    for (number, game) in (first_game..).zip(catalogue.games()) {
        let entries = &catalogue.entries()[game.entries.clone()];
        let wanted = entries.iter().filter(|e| e.status != decanter_core::catalogue::Status::NoDump).count();
        let sql = "INSERT INTO game (id, dat, name, parent, wanted) VALUES (?1, ?2, ?3, ?4, ?5)";
        let parent = Value::maybe(game.parent.as_deref());
        db.run(sql, values![number, id, game.name.as_str(), parent, Value::len(wanted as u64)])?;
    }
    for (number, entry) in (first_entry..).zip(catalogue.entries()) {
        let [crc32, md5, sha1, sha256] = columns(&entry.sums);
        let sql = "INSERT INTO entry (id, dat, game, name, size, crc32, md5, sha1, sha256, status, proof, name_key)
            VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)";
        let values = values![
            number,
            id,
            first_game + i64::from(entry.game),
            &*entry.name,
            entry.len.map_or(Value::Null, Value::len),
            crc32,
            md5,
            sha1,
            sha256,
            entry.status as i64,
            Value::number(found_by(&entry.sums).map(|(_, proof)| proof)),
            Value::bits(key(&entry.name)),
        ];
        db.run(sql, values)?;
    }
    if is_large {
        db.script("CREATE INDEX entry_proof ON entry (proof); CREATE INDEX entry_name ON entry (name_key)")?;
    }
    Ok(if is_current { Imported::New } else { Imported::Older })
}

fn remove(db: &mut dyn Database, dat: i64) -> Result<()> {
    db.run("DELETE FROM hit WHERE entry IN (SELECT id FROM entry WHERE dat = ?1)", values![dat])?;
    for table in ["entry", "game"] {
        db.run(&format!("DELETE FROM {table} WHERE dat = ?1"), values![dat])?;
    }
    db.run("DELETE FROM dat WHERE id = ?1", values![dat]).map(|_| ())
}

/// The digests that are needed to find every entry of the current sets, and that a scan does not make by itself.
///
/// # Errors
/// What the database fails with.
pub fn more_digests(db: &mut dyn Database) -> Result<Vec<Algorithm>> {
    let mut more = Vec::new();
    for (algorithm, stronger) in
        [(Algorithm::Md5, "sha1 IS NULL AND sha256 IS NULL"), (Algorithm::Sha256, "sha1 IS NULL")]
    {
        let name = algorithm.id();
        let sql = format!(
            "SELECT 1 FROM entry WHERE {name} IS NOT NULL AND {stronger} AND dat IN (SELECT id FROM dat WHERE is_current = 1) LIMIT 1"
        );
        if first(db, &sql, &[])?.is_some() {
            more.push(algorithm);
        }
    }
    Ok(more)
}

/// Versions as people count them: numbers in them by their values.
pub fn by_version(one: &str, other: &str) -> Ordering {
    let pieces = |text: &str| -> Vec<(u128, String)> {
        let mut pieces = Vec::new();
        let mut rest = text;
        while let Some(first) = rest.chars().next() {
            let is_digit = first.is_ascii_digit();
            let end = rest.find(|c: char| c.is_ascii_digit() != is_digit).unwrap_or(rest.len());
            let (piece, after) = rest.split_at(end);
            // Longer than any number that is one: compared as text.
            pieces.push(match piece.parse::<u128>() {
                Ok(value) => (value + 1, String::new()),
                Err(_) => (0, piece.to_lowercase()),
            });
            rest = after;
        }
        pieces
    };
    pieces(one).cmp(&pieces(other))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_count_as_people_count() {
        for (older, newer) in
            [("9", "10"), ("2024-01-02", "2024-01-10"), ("", "1"), ("1.2", "1.2.1"), ("20240101-9", "20240101-10")]
        {
            assert_eq!(by_version(older, newer), Ordering::Less, "{older} {newer}");
        }
        assert_eq!(by_version("A", "a"), Ordering::Equal);
    }
}
