//! The collection as one page that needs nothing else, with a table and an object beside it for other programs.

mod html;

use super::status::{PlaceState, table};
use super::{broke, open};
use crate::picture::Scene;
use crate::{Failure, Setting, locate, picture};
use base64::Engine;
use decanter_cellar::database::{all, first, together};
use decanter_cellar::status::{self, Counts, Row, SetRow};
use decanter_cellar::{Database, Place, Value, now};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Error, native, watch};
use serde::Serialize;
use std::path::Path;
use std::sync::Arc;

/// Rows of a list that the page shows; the table and the object beside it have all.
pub(super) const MOST_ROWS: usize = 1000;
/// Damaged images that are drawn.
const MOST_PICTURES: usize = 12;

/// Everything that a report says.
#[derive(Debug, Serialize)]
pub struct Report {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// When it was made: seconds since 1970.
    pub made: i64,
    /// How many there are of everything.
    pub counts: Counts,
    /// The sets.
    pub sets: Vec<SetRow>,
    /// The places.
    pub places: Vec<PlaceState>,
    /// What has changed since the report before.
    pub since: Option<Since>,
    /// What conversions made of what.
    pub conversions: Vec<Conversion>,
    /// What is damaged.
    pub damaged: Vec<Row>,
    /// Entries that are not here.
    pub missing: Vec<Row>,
    /// Content that is there more than once.
    pub doubles: Vec<Row>,
    /// What no set knows.
    pub unknown: Vec<Row>,
    /// Pictures of damaged images, as PNG.
    #[serde(skip)]
    pub(super) pictures: Vec<(String, String)>,
}

/// What has changed since an earlier report.
#[derive(Debug, Serialize)]
pub struct Since {
    /// When that was made.
    pub made: i64,
    /// Files that were not known then.
    pub new: u64,
    /// Files that have other bytes.
    pub changed: u64,
    /// Files with another name.
    pub moved: u64,
    /// Files that are not there any more.
    pub gone: u64,
    /// What the counts were then.
    pub counts: serde_json::Value,
    /// The first of these files, each with what happened to it.
    pub files: Vec<(String, &'static str)>,
}

/// Sizes before and after the conversions of one kind.
#[derive(Debug, Serialize)]
pub struct Conversion {
    /// What was asked for.
    pub command: String,
    /// How often.
    pub jobs: u64,
    /// Bytes that went in.
    pub before: u64,
    /// Bytes that came out.
    pub after: u64,
}

/// What was written.
#[derive(Debug, Serialize)]
pub struct ReportReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// The files.
    pub files: Vec<String>,
    /// How many there are of everything.
    pub counts: Counts,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// Writes a report to `target`, and `.csv` and `.json` beside it.
///
/// # Errors
/// When the cellar cannot be used, a file is there already, or cannot be written.
pub fn report(target: &Path, setting: &Setting<'_>) -> Result<ReportReport, Failure> {
    let what = format!("cannot write \"{}\"", native::text(target));
    let mut cellar = open("use", setting)?;
    let shown = cellar.location.shown();
    let report = gathered(&mut cellar.db, shown.clone(), setting)?;
    let paths = [target.to_owned(), target.with_extension("csv"), target.with_extension("json")];
    if paths[1] == paths[0] || paths[2] == paths[0] {
        return Err(Failure::usage(what, "a table and an object get the same name with .csv and .json")
            .hint("give it a name that ends in .html"));
    }
    let json = serde_json::to_vec_pretty(&report).unwrap_or_default();
    let contents = [html::page(&report).into_bytes(), csv(&report).into_bytes(), json];
    let blueprints: Vec<Blueprint> = contents.into_iter().map(|bytes| Blueprint::of(Arc::new(Bytes(bytes)))).collect();
    let outputs: Vec<Output<'_>> = blueprints.iter().zip(&paths).map(|(b, path)| Output::new(b, path)).collect();
    if !setting.dry_run {
        decanter_core::pour::pour_all(&outputs, setting.door(), setting.watch, &mut |_| Ok(()))
            .map_err(|e| Failure::new(what.clone(), e))?;
        // A report that is not remembered is one all the same: the next one compares with the one before.
        let counts = serde_json::to_string(&report.counts).unwrap_or_default();
        let sql = "INSERT INTO report (made, counts) VALUES (?1, ?2)";
        let kept = together(cellar.db.as_mut(), |db| db.run(sql, &[report.made.into(), Value::Text(counts)]));
        kept.map_err(broke("the report is written, but the catalogue does not know it"))?;
    }
    Ok(ReportReport {
        schema: "decanter.cellar-report-files/1",
        cellar: shown,
        files: paths.iter().map(native::text).collect(),
        counts: report.counts,
        dry_run: setting.dry_run,
    })
}

fn gathered(db: &mut Box<dyn Database>, cellar: String, setting: &Setting<'_>) -> Result<Report, Failure> {
    let fail = broke("cannot make the report");
    let db = db.as_mut();
    setting.watch.begin("asking the catalogue", None);
    let places = Place::all(db).map_err(&fail)?;
    let damaged = status::damaged(db, None).map_err(&fail)?;
    let mut report = Report {
        schema: "decanter.cellar-report/1",
        cellar,
        made: now(),
        counts: status::counts(db).map_err(&fail)?,
        sets: status::sets(db).map_err(&fail)?,
        since: since(db, &places).map_err(&fail)?,
        conversions: conversions(db).map_err(&fail)?,
        missing: status::missing(db, None).map_err(&fail)?,
        doubles: status::doubles(db).map_err(&fail)?,
        unknown: status::unknown(db).map_err(&fail)?,
        places: places.into_iter().map(PlaceState::of).collect(),
        damaged,
        pictures: Vec::new(),
    };
    setting.watch.end();
    setting.watch.begin("drawing what is damaged", None);
    for row in &report.damaged {
        watch::check(setting.watch).map_err(&fail)?;
        let Some(path) = row.path.as_ref().filter(|_| report.pictures.len() < MOST_PICTURES) else { break };
        if row.kind.is_some()
            && let Some(png) = drawn(path, setting).map_err(&fail)?
        {
            report.pictures.push((path.clone(), base64::engine::general_purpose::STANDARD.encode(png)));
        }
    }
    setting.watch.end();
    Ok(report)
}

/// A picture of a damaged image, if it is one and can be opened as far as that.
fn drawn(path: &str, setting: &Setting<'_>) -> decanter_core::Result<Option<Vec<u8>>> {
    match locate::open(path, "draw", setting) {
        Ok(item) => Scene::of_item(&item).map(|scene| picture::png(&scene)).transpose(),
        Err(failure) if matches!(*failure.cause, Error::Cancelled) => Err(Error::Cancelled),
        // It is told as damaged; there is nothing of it to draw.
        Err(_) => Ok(None),
    }
}

/// What has changed since the last report.
fn since(db: &mut dyn Database, places: &[Place]) -> decanter_core::Result<Option<Since>> {
    let Some(last) = first(db, "SELECT made, counts FROM report ORDER BY id DESC LIMIT 1", &[])? else {
        return Ok(None);
    };
    let made = last[0].int();
    let mut since = Since {
        made,
        new: 0,
        changed: 0,
        moved: 0,
        gone: 0,
        counts: serde_json::from_str(&last[1].text()).unwrap_or_default(),
        files: Vec::new(),
    };
    let sql = "SELECT place, path, added, changed, moved, gone FROM file
        WHERE added > ?1 OR changed > ?1 OR moved > ?1 OR gone > ?1 ORDER BY place, path";
    db.ask(sql, &[made.into()], &mut |row| {
        let is_after = |at: usize| row[at].int() > made;
        let (count, word) = match () {
            // What came and went in between was never seen.
            () if is_after(5) && is_after(2) => return Ok(()),
            () if is_after(5) => (&mut since.gone, "gone"),
            () if is_after(2) => (&mut since.new, "new"),
            () if is_after(3) => (&mut since.changed, "changed"),
            () => (&mut since.moved, "moved"),
        };
        *count += 1;
        if since.files.len() < MOST_ROWS {
            let place = places.iter().find(|p| p.id == row[0].int());
            since.files.push((place.map_or_else(|| row[1].text(), |p| p.path(&row[1].text())), word));
        }
        Ok(())
    })?;
    Ok(Some(since))
}

/// Sizes before and after, as the recorded jobs have them.
fn conversions(db: &mut dyn Database) -> decanter_core::Result<Vec<Conversion>> {
    let sql = "SELECT j.command, count(DISTINCT j.id), sum(CASE WHEN f.is_output = 0 THEN f.size ELSE 0 END),
            sum(CASE WHEN f.is_output = 1 THEN f.size ELSE 0 END)
        FROM job j JOIN job_file f ON f.job = j.id WHERE j.result = 0 GROUP BY j.command ORDER BY j.command";
    all(db, sql, &[], |row| Conversion {
        command: row[0].text(),
        jobs: row[1].unsigned(),
        before: row[2].unsigned(),
        after: row[3].unsigned(),
    })
}

/// One table of everything: which list, then the columns of all of them.
fn csv(report: &Report) -> String {
    let head = ["list", "set", "game", "name", "path", "bytes", "state", "why", "digest"];
    let mut lines: Vec<Vec<String>> = vec![head.iter().map(|&h| h.to_owned()).collect()];
    for set in &report.sets {
        let counts = format!("{} complete, {} in part, {} missing", set.complete, set.partial, set.missing);
        let version = format!("version {}", set.version);
        let cells = ["set", &set.name, "", "", "", &set.bytes.to_string(), &counts, &version, ""];
        lines.push(cells.iter().map(|&c| c.to_owned()).collect());
    }
    let lists = [
        ("damaged", &report.damaged),
        ("missing", &report.missing),
        ("double", &report.doubles),
        ("unknown", &report.unknown),
    ];
    for (list, rows) in lists {
        for row in rows {
            let cell = |column| super::cell(row, column);
            let state = match list {
                "damaged" => cell("damage"),
                "double" => cell("group"),
                _ => String::new(),
            };
            let of = ["set", "game", "name", "path", "bytes"].map(cell);
            let own = [state, cell("why"), cell("digest")];
            lines.push(std::iter::once(list.to_owned()).chain(of).chain(own).collect());
        }
    }
    table(&lines)
}
