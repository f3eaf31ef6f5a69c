//! Pieces of work that wait for whoever has time: many programs, on as many machines as there are, take them one by one. A
//! piece is taken for a while (a lease, by the clock of the database) that is renewed as long as its worker lives; a piece
//! whose lease is over is taken by another. What came of a piece is written in the transaction that removes it, by the one who
//! holds it, and so once.

use crate::database::{Database, all, first, number, together};
use crate::{Value, values};
use decanter_core::Result;
use std::time::Duration;

/// Workers that a piece is given to: what none of so many came to the end of is given up.
pub const MOST_TRIES: i64 = 5;

/// What is to be done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A folder is looked into.
    Folder,
    /// Files are read, and kept as they are.
    Read,
    /// Files are read, and held against what is known of them.
    Check,
    /// All of a run is done: what belongs to its end.
    End,
}

impl Kind {
    fn of(code: i64) -> Self {
        match code {
            0 => Self::Folder,
            1 => Self::Read,
            2 => Self::Check,
            _ => Self::End,
        }
    }
}

/// A piece of work.
#[derive(Debug, Clone)]
pub struct Piece {
    /// Its number.
    pub id: i64,
    /// The run that it belongs to.
    pub run: i64,
    /// What is to be done.
    pub kind: Kind,
    /// The number of the place that it is about.
    pub place: i64,
    /// On what: JSON, as the kind has it.
    pub what: String,
    /// Whose turn it is: 1 for the first worker.
    pub tries: i64,
}

/// The number of a new run.
///
/// # Errors
/// What the database fails with.
pub fn new_run(db: &mut dyn Database) -> Result<i64> {
    number(db, "SELECT coalesce(max(run), 0) + 1 FROM task", &[])
}

/// Puts a piece at the end of the queue.
///
/// # Errors
/// What the database fails with.
pub fn add(db: &mut dyn Database, run: i64, kind: Kind, place: i64, what: &str) -> Result<()> {
    let sql = "INSERT INTO task (run, kind, place, what) VALUES (?1, ?2, ?3, ?4)";
    db.run(sql, values![run, kind as i64, place, what]).map(|_| ())
}

/// Takes the first piece that nobody has, about one of these places.
///
/// # Errors
/// What the database fails with.
pub fn take(db: &mut dyn Database, worker: &str, lease: Duration, places: &[i64]) -> Result<Option<Piece>> {
    if places.is_empty() {
        return Ok(None);
    }
    let (clock, passing) = (db.clock(), db.passing_locked());
    let places: Vec<String> = places.iter().map(i64::to_string).collect();
    let sql = format!(
        "UPDATE task SET worker = ?1, lease = {clock} + ?2, tries = tries + 1 WHERE id = (
            SELECT id FROM task WHERE (lease IS NULL OR lease < {clock}) AND tries < {MOST_TRIES} AND place IN ({})
            ORDER BY id LIMIT 1 {passing})
         RETURNING id, run, kind, place, what, tries",
        places.join(", ")
    );
    let taken = all(db, &sql, values![worker, millis(lease)], |row| Piece {
        id: row[0].int(),
        run: row[1].int(),
        kind: Kind::of(row[2].int()),
        place: row[3].int(),
        what: row[4].text(),
        tries: row[5].int(),
    })?;
    Ok(taken.into_iter().next())
}

/// Holds what a worker has for another while.
///
/// # Errors
/// What the database fails with.
pub fn renew(db: &mut dyn Database, worker: &str, lease: Duration) -> Result<()> {
    let sql = format!("UPDATE task SET lease = {} + ?2 WHERE worker = ?1", db.clock());
    db.run(&sql, values![worker, millis(lease)]).map(|_| ())
}

/// Gives back what a worker has, as if it had not been taken.
///
/// # Errors
/// What the database fails with.
pub fn give_back(db: &mut dyn Database, worker: &str) -> Result<()> {
    let sql = "UPDATE task SET worker = NULL, lease = NULL, tries = tries - 1 WHERE worker = ?1";
    db.run(sql, values![worker]).map(|_| ())
}

/// Writes what came of a piece and removes it, in one transaction. `None` if another worker has it by now: then nothing of it
/// stays. The last piece of a run leaves one for its end, with `end` as what it is about.
///
/// # Errors
/// What the database fails with, and `write`.
pub fn once<T>(
    db: &mut dyn Database,
    piece: &Piece,
    worker: &str,
    end: &str,
    write: impl FnOnce(&mut dyn Database) -> Result<T>,
) -> Result<Option<T>> {
    together(db, |db| match finish(db, piece, worker)? {
        false => Ok(None),
        true => {
            let done = write(db)?;
            let left = number(db, "SELECT count(*) FROM task WHERE run = ?1", values![piece.run])?;
            if left == 0 && piece.kind != Kind::End {
                add(db, piece.run, Kind::End, piece.place, end)?;
            }
            Ok(Some(done))
        }
    })
}

/// Removes a piece; false if another worker has it.
fn finish(db: &mut dyn Database, piece: &Piece, worker: &str) -> Result<bool> {
    Ok(db.run("DELETE FROM task WHERE id = ?1 AND worker = ?2", values![piece.id, worker])? > 0)
}

/// How the queue stands.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Standing {
    /// Pieces that wait, or are in somebody's hands.
    pub open: u64,
    /// Pieces that too many workers did not come to the end of.
    pub given_up: u64,
}

/// How the queue stands for pieces about some places; for all, if none are given.
///
/// # Errors
/// What the database fails with.
pub fn standing(db: &mut dyn Database, places: Option<&[i64]>) -> Result<Standing> {
    let clock = db.clock();
    let wanted = match places {
        None => "1 = 1".to_owned(),
        Some([]) => return Ok(Standing::default()),
        Some(places) => {
            let places: Vec<String> = places.iter().map(i64::to_string).collect();
            format!("place IN ({})", places.join(", "))
        }
    };
    let is_over = format!("tries >= {MOST_TRIES} AND (lease IS NULL OR lease < {clock})");
    let all = number(db, &format!("SELECT count(*) FROM task WHERE {wanted}"), &[])?.unsigned_abs();
    let given_up = number(db, &format!("SELECT count(*) FROM task WHERE {wanted} AND {is_over}"), &[])?.unsigned_abs();
    Ok(Standing { open: all.saturating_sub(given_up), given_up })
}

/// Whether pieces of a kind of work on a place are in the queue: looking through it, or checking it.
///
/// # Errors
/// What the database fails with.
pub fn is_under_way(db: &mut dyn Database, place: i64, is_check: bool) -> Result<bool> {
    let kinds = if is_check { "(2)" } else { "(0, 1)" };
    let sql = format!("SELECT count(*) FROM task WHERE place = ?1 AND kind IN {kinds} AND tries < {MOST_TRIES}");
    Ok(number(db, &sql, values![place])? > 0)
}

/// Takes away what was given up on a place: it is enqueued anew.
///
/// # Errors
/// What the database fails with.
pub fn forget_given_up(db: &mut dyn Database, place: i64) -> Result<()> {
    let sql = format!(
        "DELETE FROM task WHERE place = ?1 AND tries >= {MOST_TRIES} AND (lease IS NULL OR lease < {})",
        db.clock()
    );
    db.run(&sql, values![place]).map(|_| ())
}

/// Notes on which machine a place was enqueued: elsewhere its disk has another number.
///
/// # Errors
/// What the database fails with.
pub fn set_machine(db: &mut dyn Database, place: i64, machine: &str) -> Result<()> {
    let sql =
        "INSERT INTO setting (name, value) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET value = excluded.value";
    db.run(sql, values![format!("machine of place {place}").as_str(), machine]).map(|_| ())
}

/// The machine on which a place was enqueued.
///
/// # Errors
/// What the database fails with.
pub fn machine(db: &mut dyn Database, place: i64) -> Result<Option<String>> {
    let sql = "SELECT value FROM setting WHERE name = ?1";
    Ok(first(db, sql, values![format!("machine of place {place}").as_str()])?.map(|row| row[0].text()))
}

fn millis(time: Duration) -> Value {
    Value::Int(i64::try_from(time.as_millis()).unwrap_or(i64::MAX / 2))
}
