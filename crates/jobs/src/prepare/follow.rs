//! A plan, followed: what the card cannot hold is told before the first byte; what was done before is found there; what was
//! made is read back and listed.

use super::making::{Prepared, one};
use super::plan::{LeftOut, Make, Plan};
use super::report::FollowReport;
use super::sheet;
use super::start;
use crate::deliver::{self, Card, MANIFEST, Manifest};
use crate::shelf::{self, Done, Found, Outcome, Row, Search, ShelfReport, State, Turn};
use crate::{Failure, Setting, quoted};
use decanter_core::blueprint::Blueprint;
use decanter_core::guard::Door;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Error, Notice, native, tell};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// What the sheet is called, at the top of the card.
pub const SHEET: &str = "decanter sheet.html";
/// Misfits that are named.
const MOST_NAMED: usize = 10;

/// How a plan is followed.
#[derive(Debug, Clone, Default)]
pub struct Following {
    /// Make what there is room for, in the order of the plan, instead of refusing all of it.
    pub what_fits: bool,
    /// An image of a card, whose limits are taken instead of those of the folder.
    pub like: Option<String>,
    /// Where the sheet goes; on the card if nothing is said.
    pub sheet: Option<PathBuf>,
}

/// Follows a plan onto a card; `tell` is given every row in the order of the plan.
///
/// # Errors
/// When the card is not there or cannot hold it: before the first byte. What fails later is a row.
pub(super) fn follow<E>(
    mut plan: Plan,
    onto: &Path,
    how: &Following,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<Prepared>) -> Result<(), E>,
) -> Result<Result<FollowReport, E>, Failure> {
    let what = format!("cannot prepare \"{}\"", native::text(onto));
    let fail = |e: Error| Failure::new(what.clone(), e);
    if plan.make.is_empty() {
        return Err(Failure::usage(what, "the plan makes nothing")
            .hint("its left-out entries say why; decanter prepare SOURCE --for PROFILE"));
    }
    let card = Card::open(&what, onto, how.like.as_deref(), setting)?;
    let list =
        Manifest::read(onto).map_err(|e| fail(e).hint("remove or mend that list, and go on"))?.unwrap_or_default();
    check_fit(&plan, &card).map_err(|(why, hint)| Failure::usage(what.clone(), why).hint(hint))?;
    let crowded = make_room(&mut plan, &card, onto, how.what_fits)
        .map_err(|(why, hint)| Failure::usage(what.clone(), why).hint(hint))?;
    let mut notices = Vec::new();
    if !crowded.is_empty() {
        let text = format!(
            "there is no room for {}",
            tell::count(crowded.len() as u64, "entry of the plan", "entries of the plan")
        );
        notices.push(Notice::new(text));
    }
    plan.left_out.extend(crowded);
    let list = Mutex::new(list);
    let pictures = AtomicUsize::new(0);
    let entries: HashMap<PathBuf, &Make> = plan.make.iter().map(|m| (native::path(&m.path), m)).collect();
    let mut search = Search { found: plan.make.iter().map(found).collect(), ..Search::default() };
    let mut made = ShelfReport::new("decanter.prepare-each/1", &mut search);
    let job = |found: &Found, setting: &Setting<'_>, _: &Turn<'_>| {
        let Some(entry) = entries.get(&found.below) else { return Ok(Outcome::PassedOver("it left the plan".into())) };
        let (mut prepared, answer) = one(entry, onto, setting)?;
        // A sheet has room for so many; of a hundred thousand none else is kept in memory.
        let len = prepared.picture.as_ref().map_or(0, Vec::len);
        if pictures.fetch_add(len, Ordering::Relaxed) + len > sheet::MOST_PICTURES {
            prepared.picture = None;
        }
        let mut list = list.lock().unwrap_or_else(PoisonError::into_inner);
        list.0.extend(prepared.files.iter().map(|file| (file.path.clone(), file.digest)));
        drop(list);
        let (before, after) = (prepared.bytes_before, prepared.bytes_after);
        Ok(Outcome::Done(Done { report: prepared, answer, before, after }))
    };
    let told = shelf::run(&search.found, "preparing", setting, &job, &mut made, tell);
    count_present(&mut made);
    let mut report = FollowReport {
        schema: "decanter.prepare/1",
        profile: plan.profile.clone(),
        onto: onto.to_owned(),
        card,
        made,
        left_out: plan.left_out.clone(),
        starts: Vec::new(),
        list: Some(onto.join(MANIFEST)),
        sheet: how.sheet.clone().unwrap_or_else(|| onto.join(SHEET)),
        dry_run: setting.dry_run,
        notices,
    };
    if !setting.dry_run {
        let mut list = list.into_inner().unwrap_or_else(PoisonError::into_inner);
        if let Some(rules) = &plan.start {
            report.starts = start::write(rules, &report.made, onto, &mut list, setting)?;
        }
        // What is there is on the list, even if the rest could not be made.
        match report.list.as_ref().filter(|_| !list.0.is_empty()) {
            Some(target) => write(list.text().into_bytes(), target, &what, setting)?,
            None => report.list = None,
        }
        write(sheet::page(&report).into_bytes(), &report.sheet, &what, setting)?;
    }
    Ok(told.map(|()| report))
}

fn write(bytes: Vec<u8>, target: &Path, what: &str, setting: &Setting<'_>) -> Result<(), Failure> {
    let blueprint = Blueprint::of(Arc::new(Bytes(bytes)));
    let door = Door { guard: &setting.guard, replace: true };
    setting.write_by(door, Output::new(&blueprint, target), what).map(|_| ())
}

fn found(entry: &Make) -> Found {
    let bytes = entry.bytes.max(entry.about_bytes);
    Found { address: entry.source.clone(), below: native::path(&entry.path), bytes, is_named: true }
}

/// What stood there already is told as such.
fn count_present(made: &mut ShelfReport<Prepared>) {
    for row in made.rows.iter_mut().filter(|row| row.state == State::Done) {
        if row.result.as_ref().is_some_and(|prepared| prepared.was_there) {
            row.state = State::Present;
            made.totals.done -= 1;
            made.totals.present += 1;
        }
    }
}

/// Why something does not fit, and what to do.
type Misfit = (String, String);

/// Whether the card can hold each of the results by itself.
fn check_fit(plan: &Plan, card: &Card) -> Result<(), Misfit> {
    let mut wrong: Vec<String> = Vec::new();
    for make in &plan.make {
        if let Some(fault) = card.misnamed(&make.path) {
            wrong.push(format!("\"{}\": {fault}", make.path));
        }
        let splits = make.with.contains_key("split");
        if let Some(most) =
            card.largest_file.filter(|most| make.about_bytes > *most && !splits && make.way != ["extract"])
        {
            let (len, most) = (tell::size(make.about_bytes), tell::size(most));
            wrong.push(format!(
                "\"{}\" would have about {len}, a file on {} has {most} at most",
                make.path, card.file_system
            ));
        }
    }
    if wrong.is_empty() {
        return Ok(());
    }
    let more = wrong.len().saturating_sub(MOST_NAMED);
    wrong.truncate(MOST_NAMED);
    if more > 0 {
        wrong.push(format!("and {more} more"));
    }
    let hint =
        "take these out of the plan, or change their paths; or say it in the profile (card, names), and plan again";
    Err((wrong.join("\n  "), hint.into()))
}

/// Takes out of the plan what there is no room for, if that was asked for; else it is an error that says what would fit.
fn make_room(plan: &mut Plan, card: &Card, onto: &Path, what_fits: bool) -> Result<Vec<LeftOut>, Misfit> {
    let Some(free) = card.free_bytes else { return Ok(Vec::new()) };
    let is_there = |make: &Make| std::fs::symlink_metadata(deliver::target_of(onto, &make.path)).is_ok();
    let needs = |make: &Make| if is_there(make) { 0 } else { Card::room_for(std::iter::once(make.about_bytes)) };
    let room = free.saturating_sub(plan.leave);
    let needed: u64 = plan.make.iter().map(needs).fold(0, u64::saturating_add);
    if needed <= room {
        return Ok(Vec::new());
    }
    let (mut used, mut fits) = (0u64, Vec::new());
    for make in &plan.make {
        let own = needs(make);
        let does = used.saturating_add(own) <= room;
        used += if does { own } else { 0 };
        fits.push(does);
    }
    let count = fits.iter().filter(|does| **does).count();
    if !what_fits {
        let kept =
            if plan.leave > 0 { format!(", of which {} are kept free", tell::size(plan.leave)) } else { String::new() };
        let first: Vec<&str> =
            plan.make.iter().zip(&fits).filter(|(_, does)| !**does).map(|(m, _)| m.path.as_str()).take(3).collect();
        let why = format!(
            "about {} are needed, {} are free{kept}; in the order of the plan {count} of {} fit, the first that does not is \"{}\"",
            tell::size(needed),
            tell::size(free),
            plan.make.len(),
            first.first().copied().unwrap_or_default()
        );
        let hint = format!(
            "make room in {}, take what you need least out of the plan, or add --what-fits",
            quoted(&native::text(onto))
        );
        return Err((why, hint));
    }
    let mut crowded = Vec::new();
    let mut at = 0;
    plan.make.retain(|make| {
        at += 1;
        let stays = fits[at - 1];
        if !stays {
            let why = format!("no room: about {} are needed", tell::size(make.about_bytes));
            crowded.push(LeftOut {
                source: make.source.clone(),
                why,
                next: Some("take a larger card, or less".into()),
            });
        }
        stays
    });
    Ok(crowded)
}
