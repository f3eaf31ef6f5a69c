//! The plan: what would be moved where, as text that people read and edit.

use super::How;
use super::archives::{self, Pack, Repacks, Unpack};
use super::names::{Known, by_set, by_template, check_template};
use crate::cellar::places::is_mounted;
use crate::cellar::{broke, open};
use crate::{Failure, Setting};
use decanter_cellar::database::all;
use decanter_cellar::matching::Verdict;
use decanter_cellar::{Database, Place};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{native, watch};
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::Arc;
use toml::Spanned;

/// What a plan says.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Plan {
    /// Layout of the file.
    pub(super) schema: String,
    /// What is moved, in this order.
    #[serde(default, rename = "move")]
    pub(super) moves: Vec<Spanned<Move>>,
    /// Archives whose files are taken out, before that.
    #[serde(default)]
    pub(super) unpack: Vec<Spanned<Unpack>>,
    /// Archives that are made, before that.
    #[serde(default)]
    pub(super) pack: Vec<Spanned<Pack>>,
}

/// A file that gets another name.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Move {
    /// The folder that both names are below.
    pub(super) place: String,
    /// The name that it has.
    pub(super) from: String,
    /// The name that it gets.
    pub(super) to: String,
    /// Its length when the plan was made.
    pub(super) bytes: u64,
    /// Its time then, in nanoseconds since 1970.
    pub(super) modified: i64,
    /// Why.
    #[serde(default)]
    pub(super) why: String,
}

/// The layout that this program writes.
pub(super) const SCHEMA: &str = "decanter.tidy/1";

const HEAD: &str = "# What \"decanter cellar tidy --apply\" will do with this file, and --undo will take back.\n\
    # Change a \"to\", or take a block out: what is not here stays as it is. All names are below \"place\".\n\n";

/// What came of planning.
#[derive(Debug, Serialize)]
pub struct PlanReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// The plan.
    pub plan: String,
    /// Files that would get another name.
    pub moves: usize,
    /// Those of them that are doubles.
    pub doubles: usize,
    /// Archives that would be taken apart.
    pub unpack: usize,
    /// Archives that would be made.
    pub pack: usize,
    /// Files that have the right name already.
    pub right: usize,
    /// Files that neither a set nor the template names.
    pub unnamed: usize,
    /// Files whose right name another one has: they stay.
    pub taken: Vec<String>,
    /// Places that are not there at the moment: nothing of them is in the plan.
    pub not_mounted: Vec<String>,
    /// Places behind addresses: nothing is moved there.
    pub far: Vec<String>,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// Makes a plan, and writes it to `target`.
///
/// # Errors
/// When the cellar cannot be used, the template names what nothing has, or the file is there already.
pub fn plan(target: &Path, how: &How, setting: &Setting<'_>) -> Result<PlanReport, Failure> {
    let what = format!("cannot write the plan \"{}\"", native::text(target));
    if let Some(template) = &how.template {
        check_template(template)?;
    }
    if let Some(folder) = &how.doubles {
        check_template(folder)?;
    }
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot plan");
    let db = cellar.db.as_mut();
    let mut report = PlanReport {
        schema: "decanter.cellar-plan/1",
        cellar: cellar.location.shown(),
        plan: native::text(target),
        moves: 0,
        doubles: 0,
        unpack: 0,
        pack: 0,
        right: 0,
        unnamed: 0,
        taken: Vec::new(),
        not_mounted: Vec::new(),
        far: Vec::new(),
        dry_run: setting.dry_run,
    };
    let (mut moves, mut blocks) = (Vec::new(), Vec::new());
    for place in Place::all(db).map_err(&fail)? {
        watch::check(setting.watch).map_err(&fail)?;
        if place.is_far() {
            report.far.push(place.root.clone());
            continue;
        }
        if !is_mounted(&place) {
            report.not_mounted.push(place.root.clone());
            continue;
        }
        let (own, repacks) = of_place(db, &place, how, &mut report).map_err(&fail)?;
        moves.extend(own);
        report.unpack += repacks.unpack.len();
        report.pack += repacks.pack.len();
        report.taken.extend(repacks.stay);
        blocks.push((repacks.unpack, repacks.pack));
    }
    report.moves = moves.len();
    let mut text = format!("{HEAD}schema = \"{SCHEMA}\"\n");
    let written = |e: toml::ser::Error| Failure::usage(what.clone(), e.to_string());
    for (unpack, pack) in &blocks {
        let unpack = unpack.iter().map(|one| Block { unpack: vec![one], pack: Vec::new() });
        let pack = pack.iter().map(|one| Block { unpack: Vec::new(), pack: vec![one] });
        for block in unpack.chain(pack) {
            text.push_str(&format!("\n{}", toml::to_string(&block).map_err(written)?));
        }
    }
    for one in &moves {
        let table = toml::to_string(one).map_err(written)?;
        text.push_str(&format!("\n[[move]]\n{table}"));
    }
    if !setting.dry_run {
        let blueprint = Blueprint::of(Arc::new(Bytes(text.into_bytes())));
        setting.write(Output::new(&blueprint, target), &what)?;
    }
    Ok(report)
}

/// What is to be moved in one place.
fn of_place(
    db: &mut dyn Database,
    place: &Place,
    how: &How,
    report: &mut PlanReport,
) -> decanter_core::Result<(Vec<Move>, Repacks)> {
    struct Row {
        id: i64,
        known: Known,
        bytes: u64,
        modified: i64,
        sha1: Option<Vec<u8>>,
        verdict: Verdict,
        entry: Option<i64>,
        holds: bool,
        is_through: bool,
    }
    let sql = "SELECT id, path, kind, title, title_id, size, modified, sha1, verdict, entry, holds, facts, through, format FROM file
        WHERE place = ?1 AND gone IS NULL AND trouble = 0 ORDER BY path";
    let rows = all(db, sql, &[place.id.into()], |row| {
        let facts: serde_json::Value =
            row[11].maybe_text().and_then(|f| serde_json::from_str(&f).ok()).unwrap_or_default();
        Row {
            id: row[0].int(),
            known: Known {
                path: row[1].text(),
                system: row[2].maybe_text(),
                title: row[3].maybe_text(),
                id: row[4].maybe_text(),
                region: facts.get("region").and_then(|r| r.as_str()).map(str::to_owned),
                ..Known::default()
            },
            bytes: row[5].unsigned(),
            modified: row[6].int(),
            sha1: row[7].blob().map(<[u8]>::to_vec),
            verdict: Verdict::of(row[8].int()),
            entry: row[9].maybe_int(),
            holds: row[10].int() != 0,
            is_through: row[12].maybe_text().is_some(),
        }
    })?;
    let here: HashSet<String> = rows.iter().map(|row| row.known.path.to_lowercase()).collect();
    let repacks = match how.archives {
        Some(archives) => archives::of_place(db, place, archives, &here)?,
        None => Repacks::default(),
    };
    let mut given: HashMap<String, (String, Option<Vec<u8>>)> = HashMap::new();
    let mut wanted = Vec::new();
    for mut row in rows.into_iter().filter(|row| !repacks.used.contains(&row.known.path)) {
        let entry = match (row.verdict, row.holds) {
            (Verdict::Match | Verdict::OtherName, _) => row.entry,
            (Verdict::SeeMembers, true) => entry_of_members(db, row.id)?,
            _ => None,
        };
        if let Some(entry) = entry {
            row.known.take_entry(db, entry)?;
            row.known.is_around = row.verdict == Verdict::SeeMembers || row.is_through && row.holds;
        }
        let to = match &how.template {
            Some(template) => Some(by_template(template, &row.known)).filter(|to| !to.is_empty()),
            None => by_set(&row.known),
        };
        match to {
            Some(to) => wanted.push((row.known.path, to, row.bytes, row.modified, row.sha1)),
            None => report.unnamed += 1,
        }
    }
    // Those that have their name keep it, whoever comes before.
    wanted.sort_by_key(|(from, to, ..)| from != to);
    let mut moves: Vec<Move> = Vec::new();
    for (from, to, bytes, modified, sha1) in wanted {
        let mut add = |to: String, why: &str| {
            let (place, why) = (place.root.clone(), why.to_owned());
            moves.push(Move { place, from: from.clone(), to, bytes, modified, why });
        };
        let key = to.to_lowercase();
        match given.get(&key) {
            None => {
                given.insert(key, (from.clone(), sha1));
                match from == to {
                    true => report.right += 1,
                    false => add(to, if how.template.is_some() { "named by the template" } else { "named by its set" }),
                }
            }
            Some((_, other)) if sha1.is_some() && *other == sha1 => match &how.doubles {
                Some(folder) if !from.starts_with(&format!("{folder}/")) => {
                    add(format!("{}/{from}", folder.trim_end_matches('/')), DOUBLE);
                }
                _ => report.taken.push(place.path(&from)),
            },
            Some(_) => report.taken.push(place.path(&from)),
        }
    }
    // A name is free if nothing has it, or what has it goes away. What finds none stays, and so keeps its own from others.
    loop {
        let leaving: HashSet<String> = moves.iter().map(|m| m.from.to_lowercase()).collect();
        let is_free = |m: &Move| {
            let key = m.to.to_lowercase();
            !here.contains(&key) || leaving.contains(&key)
        };
        let is_free = |m: &Move| is_free(m) && !repacks.given.contains(&m.to.to_lowercase());
        let (free, taken): (Vec<Move>, Vec<Move>) = moves.into_iter().partition(is_free);
        moves = free;
        report.taken.extend(taken.iter().map(|m| place.path(&m.from)));
        if taken.is_empty() {
            break;
        }
    }
    report.doubles += moves.iter().filter(|m| m.why == DOUBLE).count();
    Ok((moves, repacks))
}

/// A block of a plan, as text.
#[derive(Serialize)]
struct Block<'a> {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    unpack: Vec<&'a Unpack>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pack: Vec<&'a Pack>,
}

/// Why a double is moved.
const DOUBLE: &str = "a double";

/// The entry that the members of a file stand for: that of the first, if all that are known are of one game.
fn entry_of_members(db: &mut dyn Database, file: i64) -> decanter_core::Result<Option<i64>> {
    let sql = "SELECT m.entry, e.game FROM member m JOIN entry e ON e.id = m.entry
        WHERE m.file = ?1 AND m.verdict IN (1, 2) ORDER BY m.id";
    let found = all(db, sql, &[file.into()], |row| (row[0].int(), row[1].int()))?;
    let first = found.first().copied();
    Ok(first.filter(|(_, game)| found.iter().all(|(_, other)| other == game)).map(|(entry, _)| entry))
}
