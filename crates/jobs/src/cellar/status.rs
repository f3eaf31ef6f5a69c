//! What the collection has and lacks.

use super::places::is_mounted;
use super::{broke, open};
use crate::{Failure, Setting, nearest};
use decanter_cellar::status::{self, Counts, Row, SetRow};
use decanter_cellar::{Cellar, Place};
use serde::Serialize;

/// What is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asked {
    /// Counts, and the sets.
    All,
    /// Entries that are not here.
    Missing,
    /// Files of which there are several.
    Doubles,
    /// Files that no set knows.
    Unknown,
    /// Files that are damaged.
    Damaged,
}

/// The answer.
#[derive(Debug, Serialize)]
pub struct StatusReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// How many there are of everything.
    pub counts: Counts,
    /// The sets.
    pub sets: Vec<SetRow>,
    /// The places.
    pub places: Vec<PlaceState>,
    /// Which list: `games`, `missing`, `doubles`, `unknown`, `damaged`; none for the whole.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub list: Option<&'static str>,
    /// Its rows.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<Vec<Row>>,
}

/// A place.
#[derive(Debug, Serialize)]
pub struct PlaceState {
    /// Its folder.
    pub root: String,
    /// Whether it is there at the moment.
    pub is_mounted: bool,
    /// When it was last scanned to the end: seconds since 1970.
    pub scanned: Option<i64>,
}

impl PlaceState {
    /// How a place is at the moment.
    pub(super) fn of(place: Place) -> Self {
        Self { is_mounted: is_mounted(&place), scanned: place.scanned, root: place.root }
    }
}

/// Says what the collection has and lacks; of one set only, if one is named.
///
/// # Errors
/// When the cellar cannot be used, or knows no such set.
pub fn status(asked: Asked, set: Option<&str>, setting: &Setting<'_>) -> Result<StatusReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot say how the collection is");
    let db = cellar.db.as_mut();
    let mut sets = status::sets(db).map_err(&fail)?;
    let chosen = chosen(&sets, set)?;
    let rows = match asked {
        Asked::All => match &chosen {
            Some(set) => Some(("games", status::games(db, set).map_err(&fail)?)),
            None => None,
        },
        Asked::Missing => Some(("missing", status::missing(db, chosen.as_ref()).map_err(&fail)?)),
        Asked::Doubles => Some(("doubles", status::doubles(db).map_err(&fail)?)),
        Asked::Unknown => Some(("unknown", status::unknown(db).map_err(&fail)?)),
        Asked::Damaged => Some(("damaged", status::damaged(db, chosen.as_ref()).map_err(&fail)?)),
    };
    let counts = status::counts(db).map_err(&fail)?;
    if let Some(set) = &chosen {
        sets.retain(|s| s.name == set.name);
    }
    let places = places(&mut cellar)?;
    let (list, rows) = rows.map_or((None, None), |(list, rows)| (Some(list), Some(rows)));
    let cellar = cellar.location.shown();
    Ok(StatusReport { schema: "decanter.cellar-status/1", cellar, counts, sets, places, list, rows })
}

/// Names of entries, those that are here or those that are not: a plain list.
///
/// # Errors
/// As [`status`].
pub fn names(is_here: bool, set: Option<&str>, setting: &Setting<'_>) -> Result<Vec<String>, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot say how the collection is");
    let db = cellar.db.as_mut();
    let chosen = chosen(&status::sets(db).map_err(&fail)?, set)?;
    status::entries(db, chosen.as_ref(), is_here).map_err(&fail)
}

fn places(cellar: &mut Cellar) -> Result<Vec<PlaceState>, Failure> {
    let places = Place::all(cellar.db.as_mut()).map_err(broke("cannot say how the collection is"))?;
    Ok(places.into_iter().map(PlaceState::of).collect())
}

/// The set that was named.
fn chosen(sets: &[SetRow], name: Option<&str>) -> Result<Option<SetRow>, Failure> {
    let Some(name) = name else { return Ok(None) };
    if let Some(set) = sets.iter().find(|s| s.name == name) {
        return Ok(Some(set.clone()));
    }
    let what = format!("there is no set \"{name}\"");
    let names: Vec<&str> = sets.iter().map(|s| s.name.as_str()).collect();
    let hint = match nearest(name, names.iter().copied()) {
        Some(near) => format!("did you mean {}?", crate::quoted(near)),
        None if names.is_empty() => "bring one in: decanter cellar match --dat FILE".to_owned(),
        None => "\"decanter cellar status\" lists the sets".to_owned(),
    };
    Err(Failure::usage(what, "no DAT of this name was brought in").hint(hint))
}

/// The columns of a list, in their order.
pub fn columns(list: &str) -> &'static [&'static str] {
    match list {
        "games" => &["set", "game", "parent", "state"],
        "missing" => &["set", "game", "parent", "name", "bytes", "digest"],
        "doubles" => &["group", "path", "bytes", "kind", "digest"],
        "unknown" => &["path", "bytes", "kind", "digest"],
        "damaged" => &["path", "damage", "why", "bytes", "set", "game", "name", "good_copy"],
        _ => &["name", "version", "games", "complete", "partial", "missing", "not_dumped", "entries", "have", "bytes"],
    }
}

/// What a row has in a column.
pub fn cell(row: &Row, column: &str) -> String {
    let text = |value: &Option<String>| value.clone().unwrap_or_default();
    let number = |value: Option<u64>| value.map(|v| v.to_string()).unwrap_or_default();
    match column {
        "path" => text(&row.path),
        "set" => text(&row.set),
        "game" => text(&row.game),
        "parent" => text(&row.parent),
        "name" => text(&row.name),
        "state" => row.state.unwrap_or_default().to_owned(),
        "bytes" => number(row.bytes),
        "digest" => text(&row.digest),
        "kind" => text(&row.kind),
        "damage" => row.damage.unwrap_or_default().to_owned(),
        "why" => text(&row.why),
        "group" => number(row.group),
        "good_copy" => text(&row.good_copy),
        _ => String::new(),
    }
}

/// The list of a report, or its sets, as a table that other programs read: RFC 4180, with a line of names first.
pub fn csv(report: &StatusReport) -> String {
    let columns = columns(report.list.unwrap_or_default());
    let mut lines: Vec<Vec<String>> = vec![columns.iter().map(|&c| c.to_owned()).collect()];
    match &report.rows {
        Some(rows) => lines.extend(rows.iter().map(|row| columns.iter().map(|column| cell(row, column)).collect())),
        None => lines.extend(report.sets.iter().map(|set| {
            let counts =
                [set.games, set.complete, set.partial, set.missing, set.not_dumped, set.entries, set.have, set.bytes];
            [set.name.clone(), set.version.clone()].into_iter().chain(counts.map(|c| c.to_string())).collect()
        })),
    }
    table(&lines)
}

/// Lines of cells as text (RFC 4180, but with plain line ends).
pub(super) fn table(lines: &[Vec<String>]) -> String {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::Any(b'\n')).from_writer(Vec::new());
    for line in lines {
        // Nothing fails in memory, and all lines of a table are of one length.
        let _ = writer.write_record(line);
    }
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}
