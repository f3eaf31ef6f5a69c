//! The sheet of a run: one page that is kept with the card, with what was made, what it keeps and how that was proven, what was
//! left out and why, and what is left to do on the machine.

use super::making::Prepared;
use super::platform::Platform;
use super::report::FollowReport;
use crate::grouped;
use crate::html::{Cell, bytes, document, number, plain, table};
use crate::shelf::{Row, State};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use decanter_core::native;
use decanter_core::tell::{share, size};
use std::collections::BTreeMap;

/// Bytes of pictures that a page carries at most: what comes after has none.
pub(super) const MOST_PICTURES: usize = 8 << 20;

/// The whole page.
pub(super) fn page(report: &FollowReport) -> String {
    let title = format!("What was made for {}", report.profile);
    let onto = plain(&native::text(&report.onto));
    let mut body =
        format!("<header><h1>{}</h1><p>{onto} &middot; {}</p></header>\n<main>\n", plain(&title), card(report));
    body.push_str(&tiles(report));
    body.push_str(&todo(report));
    body.push_str(&failed(report));
    body.push_str(&made(report));
    body.push_str(&left_out(report));
    body.push_str(&check(report));
    document(&title, &body)
}

fn card(report: &FollowReport) -> String {
    let largest = report.card.largest_file.map(|most| format!(", a file has {} at most", size(most)));
    plain(&format!("{}{}", report.card.file_system, largest.unwrap_or_default()))
}

fn results(report: &FollowReport) -> impl Iterator<Item = (&Row<Prepared>, &Prepared)> {
    report.made.rows.iter().filter_map(|row| Some((row, row.result.as_ref()?)))
}

/// The counts, large.
fn tiles(report: &FollowReport) -> String {
    let totals = &report.made.totals;
    let tile = |class: &str, value: String, label: &str| {
        format!("<div class=\"tile {class}\"><b>{value}</b><span>{label}</span></div>\n")
    };
    let count = |n: usize| grouped(n as u64);
    let (before, after) = results(report).fold((0, 0), |(b, a), (_, p)| (b + p.bytes_before, a + p.bytes_after));
    let mut out = String::from("<div class=\"tiles\">\n");
    out.push_str(&tile("good", count(totals.done), "made"));
    if totals.present > 0 {
        out.push_str(&tile("good", count(totals.present), "there already"));
    }
    let state = |n: usize| if n > 0 { "bad" } else { "good" };
    out.push_str(&tile(state(totals.failed + totals.flawed), count(totals.failed + totals.flawed), "failed or flawed"));
    out.push_str(&tile(
        if report.left_out.is_empty() { "good" } else { "warn" },
        count(report.left_out.len()),
        "left out",
    ));
    out.push_str(&tile("", size(before), "before"));
    let of = share(after, before).map_or_else(|| "after".to_owned(), |share| format!("after, {share}"));
    out.push_str(&tile("", size(after), &of));
    out + "</div>\n"
}

/// What is left to do, once for each platform.
fn todo(report: &FollowReport) -> String {
    let mut by_platform: BTreeMap<&str, &str> = BTreeMap::new();
    for (_, prepared) in results(report).filter(|(_, p)| !p.then.is_empty()) {
        by_platform.insert(&prepared.platform, &prepared.then);
    }
    if by_platform.is_empty() && report.starts.is_empty() {
        return String::new();
    }
    let mut out = String::from("<section><h2>On the machine</h2>\n<ul>\n");
    for (platform, then) in by_platform {
        out.push_str(&format!("<li><b>{}</b>: {}</li>\n", plain(name(platform)), plain(then)));
    }
    if let Some(first) = report.starts.first() {
        let count = grouped(report.starts.len() as u64);
        out.push_str(&format!("<li>Start entries: {count}, the first is {}</li>\n", plain(first)));
    }
    out + "</ul></section>\n"
}

fn name(platform: &str) -> &str {
    Platform::named(platform).map_or(platform, |platform| platform.name)
}

/// What was made or was there, with pictures.
fn made(report: &FollowReport) -> String {
    let mut room = MOST_PICTURES;
    let rows = results(report).map(|(row, prepared)| {
        let picture = prepared.picture.as_ref().filter(|png| png.len() <= room);
        room -= picture.map_or(0, |png| png.len());
        let picture = picture.map_or(String::new(), |png| {
            let (alt, data) = (plain(&prepared.title), STANDARD.encode(png));
            format!("<img class=\"icon\" alt=\"{alt}\" src=\"data:image/png;base64,{data}\">")
        });
        let state = match row.state {
            State::Flawed => "<b class=\"bad\">flawed</b> ",
            State::Present => "there already; ",
            _ => "",
        };
        let notes: String = prepared.notices.iter().map(|note| format!("<br>{}", plain(note))).collect();
        let way = prepared.way.join(", then ");
        vec![
            Cell::Raw(picture),
            Cell::Text(prepared.title.clone()),
            Cell::Text(name(&prepared.platform).into()),
            Cell::Text(prepared.path.clone()),
            Cell::Text(way),
            Cell::Text(prepared.keeps.into()),
            bytes(prepared.bytes_before),
            bytes(prepared.bytes_after),
            Cell::Raw(format!("{state}{}{notes}", plain(&prepared.proof))),
        ]
    });
    let head = ["", "Title", "Platform", "Path", "Way", "Keeps", "Before", "After", "Proof"];
    let rows: Vec<Vec<Cell>> = rows.collect();
    let count = grouped(rows.len() as u64);
    format!("<section><h2>Made <small>{count}</small></h2>\n{}</section>\n", table("made", &head, rows.into_iter()))
}

/// What failed.
fn failed(report: &FollowReport) -> String {
    let failed: Vec<&Row<Prepared>> = report.made.rows.iter().filter(|row| row.state == State::Failed).collect();
    if failed.is_empty() {
        return String::new();
    }
    let row = |row: &&Row<Prepared>| {
        vec![
            Cell::Text(row.source.clone()),
            Cell::Text(row.why.clone().unwrap_or_default()),
            Cell::Text(row.hint.clone().unwrap_or_default()),
        ]
    };
    let count = grouped(failed.len() as u64);
    let table = table("failed", &["Source", "Why", "What helps"], failed.iter().map(row));
    format!("<section><h2>Failed <small>{count}</small></h2>\n{table}</section>\n")
}

fn left_out(report: &FollowReport) -> String {
    if report.left_out.is_empty() {
        return "<section><h2>Left out <small>nothing</small></h2></section>\n".into();
    }
    let row = |left: &super::plan::LeftOut| {
        vec![
            Cell::Text(left.source.clone()),
            Cell::Text(left.why.clone()),
            Cell::Text(left.next.clone().unwrap_or_default()),
        ]
    };
    let count = grouped(report.left_out.len() as u64);
    let table = table("left", &["Source", "Why", "What helps"], report.left_out.iter().map(row));
    format!("<section><h2>Left out <small>{count}</small></h2>\n{table}</section>\n")
}

/// How the card is checked later, and the digests of all files.
fn check(report: &FollowReport) -> String {
    let files = results(report).flat_map(|(_, prepared)| &prepared.files);
    let row = |file: &super::making::PreparedFile| {
        vec![Cell::Text(file.path.clone()), number(file.bytes), Cell::Text(file.sha1.clone())]
    };
    let rows: Vec<Vec<Cell>> = files.map(row).collect();
    let count = grouped(rows.len() as u64);
    format!(
        "<section><h2>Files <small>{count}</small></h2>\n<p>Whether they are still as they were put there: \
         <code>decanter deliver --check CARD</code>, or <code>sha1sum -c</code> with the list beside this page.</p>\n{}</section>\n",
        table("files", &["Path", "Bytes", "SHA-1"], rows.into_iter())
    )
}
