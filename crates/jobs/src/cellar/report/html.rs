//! What the page of a collection says.

use super::{MOST_ROWS, Report, Row};
use crate::grouped;
use crate::html::{Cell, bytes, document, number, plain, table, text};
use decanter_core::tell::size;
use decanter_formats::time;

/// A time as people read it.
fn moment(seconds: i64) -> String {
    format!("{} UTC", time::text(seconds))
}

/// A section with a list; what it leaves out is said.
fn list(id: &str, title: &str, says: &str, head: &[&str], rows: &[Row], cells: impl Fn(&Row) -> Vec<Cell>) -> String {
    let count = grouped(rows.len() as u64);
    if rows.is_empty() {
        return format!("<section><h2 id=\"{id}-h\">{title} <small>none</small></h2></section>\n");
    }
    let more = match rows.len() > MOST_ROWS {
        true => format!(
            "<p class=\"more\">The first {} of {count}: the table and the object beside this page have all.</p>",
            grouped(MOST_ROWS as u64)
        ),
        false => String::new(),
    };
    let table = table(id, head, rows.iter().take(MOST_ROWS).map(cells));
    format!("<section><h2 id=\"{id}-h\">{title} <small>{count}</small></h2>\n<p>{says}</p>\n{table}{more}</section>\n")
}

/// The whole page.
pub(super) fn page(report: &Report) -> String {
    let when = moment(report.made);
    let mut body =
        format!("<header><h1>The collection</h1><p>{} &middot; {when}</p></header>\n<main>\n", plain(&report.cellar));
    body.push_str(&tiles(report));
    body.push_str(&sets(report));
    body.push_str(&places(report));
    body.push_str(&since(report));
    body.push_str(&damaged(report));
    body.push_str(&list(
        "missing",
        "Missing",
        "What the sets have and the collection has not.",
        &["Set", "Game", "Name", "Size"],
        &report.missing,
        |row| vec![text(&row.set), text(&row.game), text(&row.name), bytes(row.bytes.unwrap_or(0))],
    ));
    body.push_str(&list(
        "doubles",
        "Doubles",
        "Rows of one group have the same content.",
        &["Group", "Path", "Size", "Kind"],
        &report.doubles,
        |row| vec![number(row.group.unwrap_or(0)), text(&row.path), bytes(row.bytes.unwrap_or(0)), text(&row.kind)],
    ));
    body.push_str(&list(
        "unknown",
        "Unknown",
        "What no set knows: new, altered, or of a set that is not here.",
        &["Path", "Size", "Kind"],
        &report.unknown,
        |row| vec![text(&row.path), bytes(row.bytes.unwrap_or(0)), text(&row.kind)],
    ));
    body.push_str(&conversions(report));
    document("The collection", &body)
}

/// The counts, large.
fn tiles(report: &Report) -> String {
    let c = &report.counts;
    let tile = |class: &str, label: &str, value: u64, link: &str| {
        let label = match link {
            "" => label.to_owned(),
            link => format!("<a href=\"#{link}-h\">{label}</a>"),
        };
        format!("<div class=\"tile {class}\"><b>{}</b><span>{label}</span></div>\n", grouped(value))
    };
    let state = |value: u64, class: &'static str| if value > 0 { class } else { "good" };
    let mut out = String::from("<div class=\"tiles\">\n");
    out.push_str(&format!(
        "<div class=\"tile\"><b>{}</b><span>in {} files</span></div>\n",
        size(c.bytes),
        grouped(c.files)
    ));
    out.push_str(&tile("good", "known", c.matching + c.renamed, ""));
    out.push_str(&tile(state(c.damaged, "bad"), "damaged", c.damaged, "damaged"));
    out.push_str(&tile(state(c.missing, "warn"), "missing", c.missing, "missing"));
    out.push_str(&tile(state(c.unknown, "warn"), "unknown", c.unknown, "unknown"));
    out.push_str(&tile(state(c.doubles, "warn"), "doubles", c.doubles, "doubles"));
    if c.open > 0 {
        out.push_str(&tile("warn", "not held against sets", c.open, ""));
    }
    out.push_str("</div>\n");
    out
}

fn sets(report: &Report) -> String {
    if report.sets.is_empty() {
        return "<section><h2>Sets <small>none</small></h2><p>No DAT file was brought in yet.</p></section>\n".into();
    }
    let bar = |set: &crate::cellar::SetRow| {
        let all = (set.complete + set.partial + set.missing).max(1) as f64;
        let share = |value: u64| format!("{:.3}", value as f64 * 100.0 / all);
        let (complete, partial) = (share(set.complete), share(set.partial));
        Cell::Raw(format!(
            "<div class=\"bar\" title=\"{complete} % complete\"><i class=\"c\" style=\"width:{complete}%\"></i>\
             <i class=\"p\" style=\"width:{partial}%\"></i></div>"
        ))
    };
    let row = |set: &crate::cellar::SetRow| {
        vec![
            Cell::Text(set.name.clone()),
            Cell::Text(set.version.clone()),
            bar(set),
            number(set.games),
            number(set.complete),
            number(set.partial),
            number(set.missing),
            number(set.entries),
            number(set.have),
            bytes(set.bytes),
        ]
    };
    let head = ["Set", "Version", "Coverage", "Games", "Complete", "In part", "Missing", "Entries", "Have", "Size"];
    format!("<section><h2>Sets</h2>\n{}</section>\n", table("sets", &head, report.sets.iter().map(row)))
}

fn places(report: &Report) -> String {
    let row = |place: &super::PlaceState| {
        let scanned = place.scanned.map_or_else(|| "not to its end".to_owned(), moment);
        let state = if place.is_mounted { "there" } else { "not mounted" };
        vec![Cell::Text(place.root.clone()), Cell::Text(state.into()), Cell::Text(scanned)]
    };
    let head = ["Place", "State", "Scanned"];
    format!("<section><h2>Places</h2>\n{}</section>\n", table("places", &head, report.places.iter().map(row)))
}

fn since(report: &Report) -> String {
    let Some(since) = &report.since else { return String::new() };
    let when = moment(since.made);
    let words = [("new", since.new), ("changed", since.changed), ("moved", since.moved), ("gone", since.gone)];
    let told: Vec<String> =
        words.iter().filter(|(_, n)| *n > 0).map(|(word, n)| format!("{} {word}", grouped(*n))).collect();
    let told = if told.is_empty() { "nothing has changed".to_owned() } else { told.join(", ") };
    let mut out = format!("<section><h2>Since the report of {when}</h2><p>{told}</p>\n");
    if !since.files.is_empty() {
        let row = |(path, word): &(String, &'static str)| vec![Cell::Text((*word).into()), Cell::Text(path.clone())];
        out.push_str(&table("since", &["What", "Path"], since.files.iter().map(row)));
    }
    out.push_str("</section>\n");
    out
}

fn damaged(report: &Report) -> String {
    let mut out = list(
        "damaged",
        "Damaged",
        "What cannot be read, has changed without its time, or differs from its set.",
        &["Path", "Damage", "Why", "Size", "A good copy"],
        &report.damaged,
        |row| {
            let damage = Cell::Text(row.damage.unwrap_or_default().into());
            vec![text(&row.path), damage, text(&row.why), bytes(row.bytes.unwrap_or(0)), text(&row.good_copy)]
        },
    );
    for (path, png) in &report.pictures {
        let path = plain(path);
        out.push_str(&format!(
            "<figure><img alt=\"the sectors of {path}\" src=\"data:image/png;base64,{png}\"><figcaption>{path}</figcaption></figure>\n"
        ));
    }
    out
}

fn conversions(report: &Report) -> String {
    if report.conversions.is_empty() {
        return String::new();
    }
    let row = |c: &super::Conversion| {
        let share = c.after as f64 * 100.0 / c.before.max(1) as f64;
        let percent = if c.before > 0 { format!("{share:.1} %") } else { String::new() };
        vec![Cell::Text(c.command.clone()), number(c.jobs), bytes(c.before), bytes(c.after), Cell::Text(percent)]
    };
    let head = ["Job", "How often", "Before", "After", "Share"];
    format!(
        "<section><h2>Sizes before and after</h2><p>Of the jobs that were recorded.</p>\n{}</section>\n",
        table("conversions", &head, report.conversions.iter().map(row))
    )
}
