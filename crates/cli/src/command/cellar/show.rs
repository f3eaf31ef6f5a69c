//! Pages of the collection.

use crate::render::page::{Column, Table};
use crate::render::{Manner, Page, count, number, size, speed, style};
use decanter_jobs::cellar::tidy::{ApplyReport, PlanReport};
use decanter_jobs::cellar::{
    BagReport, CheckReport, Counts, EnqueueReport, HistoryReport, MatchReport, Mismatch, NewReport, ReportReport,
    RestoreReport, RetireReport, ScanReport, SetRow, Unread, WorkReport,
};
use std::time::Duration;

/// What is named one by one, unless everything is asked for.
const MOST_NAMED: usize = 20;

pub fn new(page: &mut Page, report: &NewReport) {
    page.wrote(if report.dry_run { "would make" } else { "made" }, &report.cellar);
    if let Some(catalogue) = &report.catalogue {
        page.row("catalogue", catalogue);
    }
    page.row("next", format!("decanter cellar scan --cellar {} FOLDER...", decanter_jobs::quoted(&report.cellar)));
}

pub fn scan(page: &mut Page, report: &ScanReport, manner: Manner, took: Duration) {
    for place in &report.places {
        let state = match place.is_mounted {
            true => count(place.files as usize, "file"),
            false => format!("not mounted: what is known of it stays ({})", count(place.files as usize, "file")),
        };
        page.row(&place.root, state);
    }
    page.row("met", format!("{}, {}", count(report.files as usize, "file"), size(report.bytes)));
    page.row("read", format!("{} in {}", size(report.bytes_read), speed(report.bytes_read, took)));
    let rows = [
        ("new", report.new),
        ("changed", report.changed),
        ("moved", report.moved),
        ("as before", report.unchanged),
        ("gone", report.gone),
    ];
    for (label, value) in rows {
        if value > 0 {
            page.row(label, number(value));
        }
    }
    if report.links > 0 {
        page.row(
            "passed over",
            format!("{}: what they lead to is no file of this place", count(report.links as usize, "link")),
        );
    }
    if report.matched > 0 {
        page.row("held against sets", count(report.matched, "file"));
    }
    named(page, "rot", &report.rotten, manner);
    unread(page, &report.unread, manner);
    let cellar = format!(" --cellar {}", decanter_jobs::quoted(&report.cellar));
    page.row("next", format!("decanter cellar status{cellar}"));
}

/// What was put into the queue.
pub fn enqueued(page: &mut Page, report: &EnqueueReport) {
    for place in &report.places {
        page.row("enqueued", place);
    }
    if report.files > 0 {
        page.row("to check", count(report.files as usize, "file"));
    }
    for place in &report.under_way {
        page.row("under way", format!("{place}: it is in the queue already"));
    }
    for place in &report.not_mounted {
        page.row("not mounted", place);
    }
    page.row("next", format!("decanter cellar work {} --until-idle", decanter_jobs::quoted(&report.cellar)));
}

/// What a worker did.
pub fn work(page: &mut Page, report: &WorkReport, manner: Manner, took: Duration) {
    page.row("done", count(report.pieces as usize, "piece"));
    if report.files + report.checked > 0 {
        let files = count((report.files + report.checked) as usize, "file");
        page.row("read", format!("{files}, {} in {}", size(report.bytes), speed(report.bytes, took)));
    }
    let rows = [
        ("new", report.new),
        ("changed", report.changed),
        ("moved", report.moved),
        ("gone", report.gone),
        ("checked", report.checked),
        ("taken over", report.taken_over),
    ];
    for (label, value) in rows {
        if value > 0 {
            page.row(label, number(value));
        }
    }
    if report.lost > 0 {
        let pieces = count(report.lost as usize, "piece");
        page.row("not kept", format!("{pieces}: another worker had done it by then; a longer --lease avoids that"));
    }
    if report.matched > 0 {
        page.row("held against sets", count(report.matched, "file"));
    }
    for place in &report.not_here {
        page.row("not here", format!("{place}: it waits for a worker that has it"));
    }
    if report.given_up > 0 {
        let pieces = count(report.given_up as usize, "piece");
        let why = "no worker came to its end; \"decanter cellar scan --enqueue\" tries it anew";
        page.row("given up", format!("{pieces}: {why}"));
    }
    mismatches(page, &report.mismatches);
    named(page, "mended", &report.mended, manner);
    named(page, "rot", &report.rotten, manner);
    unread(page, &report.unread, manner);
    page.row("next", format!("decanter cellar status --cellar {}", decanter_jobs::quoted(&report.cellar)));
}

/// Paths, the first of them or all.
pub fn named(page: &mut Page, label: &str, paths: &[String], manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_NAMED };
    for path in paths.iter().take(most) {
        page.row(format!("{}{label}{}", style::BAD, style::PLAIN), path);
    }
    if paths.len() > most {
        page.row("", format!("and {}; -v names them all", number((paths.len() - most) as u64)));
    }
}

/// What could not be read.
pub fn unread(page: &mut Page, unread: &[Unread], manner: Manner) {
    let lines: Vec<String> = unread.iter().map(|u| format!("{}: {}", u.path, u.why)).collect();
    named(page, "unread", &lines, manner);
}

pub fn matches(page: &mut Page, report: &MatchReport, took: Duration) {
    for dat in &report.dats {
        let version = if dat.version.is_empty() { String::new() } else { format!(", version {}", dat.version) };
        let state = match dat.state {
            "new" => "brought in",
            "known" => "was known already",
            _ => "kept; a newer version is held against",
        };
        page.row(&dat.name, format!("{}{version}: {state}", count(dat.entries, "entry").replace("entrys", "entries")));
    }
    if report.read_again > 0 {
        page.row("read again", count(report.read_again, "file"));
    }
    let took = match took.as_secs_f64() {
        short if short < 0.2 => String::new(),
        long => format!(" in {long:.1} s"),
    };
    page.row("held against sets", format!("{}{took}", count(report.files, "file")));
    page.blank();
    sets(page, &report.sets);
    page.blank();
    counts(page, &report.counts);
    let cellar = decanter_jobs::quoted(&report.cellar);
    page.row(
        "next",
        match () {
            () if report.sets.is_empty() => format!("decanter cellar match --cellar {cellar} --dat FILE"),
            () if report.counts.missing > 0 => format!("decanter cellar status --cellar {cellar} --missing"),
            () => format!("decanter cellar status --cellar {cellar}"),
        },
    );
}

/// The sets, a line each.
pub fn sets(page: &mut Page, sets: &[SetRow]) {
    let mut head = vec![Column::text("SET"), Column::text("VERSION")];
    head.extend(["GAMES", "COMPLETE", "IN PART", "MISSING", "ENTRIES", "HAVE", "SIZE"].map(Column::number));
    let row = |set: &SetRow| {
        let counts = [set.games, set.complete, set.partial, set.missing, set.entries, set.have].map(number);
        [set.name.clone(), set.version.clone()].into_iter().chain(counts).chain([size(set.bytes)]).collect()
    };
    page.table(Table { head, rows: sets.iter().map(row).collect() });
}

/// How many there are of everything.
pub fn counts(page: &mut Page, counts: &Counts) {
    page.row("files", format!("{}, {}", number(counts.files), size(counts.bytes)));
    let rows = [
        ("known", counts.matching, style::GOOD),
        ("other name", counts.renamed, style::WARN),
        ("known bad", counts.known_bad, style::WARN),
        ("damaged", counts.damaged, style::BAD),
        ("unknown", counts.unknown, style::WARN),
        ("doubles", counts.doubles, style::WARN),
        ("missing", counts.missing, style::BAD),
        ("not held yet", counts.open, style::WARN),
    ];
    for (label, value, ink) in rows {
        if value > 0 || label == "known" {
            page.row(label, format!("{ink}{}{}", number(value), style::PLAIN));
        }
    }
}

/// Files that are not as they were.
fn mismatches(page: &mut Page, mismatches: &[Mismatch]) {
    for mismatch in mismatches {
        page.row(format!("{}{}{}", style::BAD, mismatch.damage, style::PLAIN), &mismatch.path);
        page.row("", &mismatch.why);
        page.row(
            "",
            match &mismatch.good_copy {
                Some(copy) => format!("a good copy: {copy}"),
                None => "no other copy is known".into(),
            },
        );
    }
}

/// What a check found.
pub fn check(page: &mut Page, report: &CheckReport, manner: Manner, took: Duration) {
    for place in &report.not_mounted {
        page.row("not mounted", format!("{place}: nothing of it was checked"));
    }
    page.row(
        "read",
        format!("{}, {} in {}", count(report.checked as usize, "file"), size(report.bytes), speed(report.bytes, took)),
    );
    if report.left > 0 {
        page.row("left for next time", number(report.left));
    }
    mismatches(page, &report.mismatches);
    named(page, "mended", &report.mended, manner);
    unread(page, &report.unread, manner);
    if report.mismatches.is_empty() && report.unread.is_empty() {
        page.line("everything that was read is as it was");
    }
}

/// The jobs that led to a file.
pub fn history(page: &mut Page, report: &HistoryReport, manner: Manner) {
    page.title(&report.file);
    if report.jobs.is_empty() {
        page.line("no job that was recorded in this cellar wrote it");
    }
    for job in &report.jobs {
        page.blank();
        page.row("job", format!("{} of {}, exit code {}", job.id, decanter_formats::time::text(job.began), job.result));
        let words: Vec<String> = job.parameters.iter().map(|word| decanter_jobs::typed(word)).collect();
        page.row("typed", format!("decanter {}", words.join(" ")));
        let most = if manner.is_verbose { usize::MAX } else { MOST_NAMED };
        for (label, files) in [("from", &job.inputs), ("made", &job.outputs)] {
            for file in files.iter().take(most) {
                page.row(label, format!("{}, {}", file.path, size(file.bytes)));
            }
            if files.len() > most {
                page.row("", format!("and {}; -v names them all", number((files.len() - most) as u64)));
            }
        }
    }
    page.notices(&report.notices, manner);
}

/// What a plan has.
pub fn plan(page: &mut Page, report: &PlanReport, manner: Manner) {
    page.wrote(if report.dry_run { "would write" } else { "wrote" }, &report.plan);
    page.row("moves", count(report.moves, "file"));
    if report.doubles > 0 {
        page.row("doubles", format!("{} of them", number(report.doubles as u64)));
    }
    if report.unpack + report.pack > 0 {
        let (apart, made) = (count(report.unpack, "archive"), count(report.pack, "archive"));
        page.row("repacks", format!("{apart} taken apart, {made} made"));
    }
    page.row("right already", count(report.right, "file"));
    if report.unnamed > 0 {
        page.row("not named", format!("{}: no set knows them", count(report.unnamed, "file")));
    }
    for place in &report.not_mounted {
        page.row("not mounted", place);
    }
    for place in &report.far {
        page.row("left alone", format!("{place}: names of objects are not changed"));
    }
    named(page, "stays", &report.taken, manner);
    if !report.taken.is_empty() {
        page.row("", "their right name has another file, or no set knows all that is in them");
    }
    let cellar = decanter_jobs::quoted(&report.cellar);
    page.row(
        "next",
        match report.moves + report.unpack + report.pack {
            0 => format!("decanter cellar status --cellar {cellar}"),
            _ => format!("decanter cellar tidy --cellar {cellar} --apply {}", decanter_jobs::quoted(&report.plan)),
        },
    );
}

/// What was done by a plan, or taken back.
pub fn applied(page: &mut Page, report: &ApplyReport, is_undo: bool, manner: Manner) {
    let verb = match (report.dry_run, is_undo) {
        (true, _) => "would move",
        (false, true) => "moved back",
        (false, false) => "moved",
    };
    page.row(verb, count(report.moved, "file"));
    if report.repacked > 0 {
        let old = if is_undo { "what was made of them is gone" } else { "the old ones are in .retired of their place" };
        page.row("repacked", format!("{}; {old}", number(report.repacked as u64)));
    }
    if report.is_completed && !report.dry_run {
        page.row("", "a run that was stopped is complete now");
    }
    if report.folders_removed > 0 {
        page.row("removed", format!("{} that nothing was left in", count(report.folders_removed, "folder")));
    }
    let lines: Vec<String> = report.stays.iter().map(|u| format!("{}: {}", u.path, u.why)).collect();
    named(page, "stays", &lines, manner);
    if !is_undo && !report.dry_run {
        page.row("next", "the same with --undo takes it back");
    }
}

/// The files of a report.
pub fn report(page: &mut Page, report: &ReportReport) {
    for file in &report.files {
        page.wrote(if report.dry_run { "would write" } else { "wrote" }, file);
    }
    counts(page, &report.counts);
}

/// A bag that was made.
pub fn bag(page: &mut Page, report: &BagReport) {
    page.wrote(if report.dry_run { "would make" } else { "made" }, &report.bag);
    page.row("holds", format!("{}, {}", count(report.files as usize, "file"), size(report.bytes)));
    page.row("next", format!("decanter verify {}", decanter_jobs::quoted(&report.bag)));
}

/// Originals that were put away, and those that stay.
pub fn retire(page: &mut Page, report: &RetireReport, manner: Manner) {
    let verb = match (report.dry_run, report.is_removed) {
        (true, _) => "would retire",
        (false, true) => "removed",
        (false, false) => "moved aside",
    };
    for one in &report.retired {
        page.row(format!("{}{verb}{}", style::GOOD, style::PLAIN), format!("{}, {}", one.original, size(one.bytes)));
        page.row("", format!("kept: {}", one.kept));
        page.row("", &one.how);
    }
    let lines: Vec<String> = report.kept.iter().map(|u| format!("{}: {}", u.path, u.why)).collect();
    named(page, "stays", &lines, manner);
    page.row("retired", format!("{}, {}", count(report.retired.len(), "file"), size(report.bytes)));
    if let Some(one) = report.retired.first().filter(|_| !report.dry_run) {
        let cellar = decanter_jobs::quoted(&report.cellar);
        page.row("back", format!("decanter cellar restore --cellar {cellar} {}", decanter_jobs::quoted(&one.original)));
    }
}

/// An original that is back.
pub fn restore(page: &mut Page, report: &RestoreReport) {
    page.wrote(if report.dry_run { "would restore" } else { "restored" }, &report.original);
    page.row(if report.was_aside { "moved from" } else { "made of" }, &report.from);
    page.row("size", size(report.bytes));
}
