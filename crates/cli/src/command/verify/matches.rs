//! Many files against lists, as text.

use crate::render::{Manner, Page, count, number, size, style};
use decanter_jobs::verify::catalogue::{MatchReport, MatchState, MatchedFile};

/// Files that are named one by one, unless everything is asked for.
const MOST_FILES: usize = 40;

/// Shows what came of holding files against DAT files and lists: first what is wrong, last the verdict.
pub fn show(page: &mut Page, report: &MatchReport, manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_FILES };
    let told = |f: &&MatchedFile| manner.is_verbose || f.state != MatchState::Match || f.through.is_some();
    for file in report.files.iter().filter(told).take(most) {
        show_file(page, file);
    }
    let more = report.files.iter().filter(told).count().saturating_sub(most);
    if more > 0 {
        page.line(format!("  and {}; -v names them all", count(more, "more file")));
    }
    for entry in report.missing.iter().take(most) {
        let game = if entry.game.is_empty() { String::new() } else { format!(" (of {})", entry.game) };
        let bytes = entry.bytes.map(|b| format!(", {}", size(b))).unwrap_or_default();
        page.line(format!("  {}missing{}      {}{game}{bytes}", style::BAD, style::PLAIN, entry.name));
    }
    if report.missing.len() > most {
        page.line(format!("  and {} missing; -v names them all", number((report.missing.len() - most) as u64)));
    }
    page.row("against", report.against.join(", "));
    let counts = &report.counts;
    let parts = [
        (counts.matching, "match"),
        (counts.renamed, "right content under another name"),
        (counts.known_bad, "known bad"),
        (counts.differing, "differ"),
        (counts.missing, "missing"),
        (counts.unknown, "unknown"),
        (counts.unreadable, "unreadable"),
    ];
    let told: Vec<String> =
        parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{} {what}", number(*n as u64))).collect();
    page.row("files", &if told.is_empty() { "none".into() } else { told.join(", ") });
    let games = report.games_complete + report.games_partial;
    if games > 1 || report.games_absent > 0 {
        let absent = if report.games_absent > 0 {
            format!("; of {} nothing is here", count(report.games_absent, "other"))
        } else {
            String::new()
        };
        page.row(
            "games",
            format!(
                "{} complete, {} in part{absent}",
                number(report.games_complete as u64),
                number(report.games_partial as u64)
            ),
        );
    }
    let (colour, words) = match report.all_match {
        _ if report.files.is_empty() => (style::WARN, "NOTHING to verify"),
        true => (style::GOOD, "MATCH: the content of every file is known to be good"),
        false => (style::BAD, "NO: not everything is known to be good"),
    };
    page.row("verdict", format!("{colour}{words}{}", style::PLAIN));
    page.row("next", &report.next)
}

fn show_file(page: &mut Page, file: &MatchedFile) {
    let (colour, word) = match file.state {
        MatchState::Match => (style::GOOD, "match"),
        MatchState::OtherName => (style::WARN, "other name"),
        MatchState::KnownBad => (style::BAD, "known bad"),
        MatchState::Differs => (style::BAD, "differs"),
        MatchState::Unknown => (style::WARN, "unknown"),
        MatchState::Unreadable => (style::BAD, "unreadable"),
    };
    page.line(format!("  {colour}{word:<12} {}{}", style::PLAIN, file.path));
    let parent = file.parent.as_deref().map(|p| format!(", a variant of {p}")).unwrap_or_default();
    let of_game = file.game.as_deref().map(|g| format!(", of {g}{parent}")).unwrap_or_default();
    match (&file.state, &file.name) {
        (MatchState::OtherName, Some(name)) => page.row("", format!("should be called {name}{of_game}")),
        (MatchState::KnownBad, Some(name)) => page.row("", format!("a bad dump of {name}{of_game}")),
        _ => {}
    }
    if let Some(through) = &file.through {
        page.row("", format!("looked through {through}"));
    }
    if let Some(expected) = &file.expected {
        let found = file.digests.iter().find(|d| d.algorithm == expected.algorithm);
        let found = found.map(|d| format!(", has {}", d.hex())).unwrap_or_default();
        page.row("", format!("{} should be {}{found}", expected.algorithm.name(), expected.hex()));
    }
    if let Some(note) = &file.note {
        page.row("", note)
    }
}
