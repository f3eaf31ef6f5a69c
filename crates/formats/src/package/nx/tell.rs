//! What is said of the titles in a package or a gamecard image.

use super::cnmt::Role;
use super::contents::{self, Bases, Contents, Title};
use super::nacp::{self, LANGUAGES, Nacp};
use super::title::{self, Kind};
use decanter_core::error::KeyTrouble;
use decanter_core::label::Label;
use decanter_core::opened::{Opened, Region, TitlePart};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tell::{count, grouped, size};
use decanter_core::title::HeldTitle;
use decanter_core::tree::Tree;
use decanter_core::{Error, Result};
use std::sync::Arc;

/// The largest icon.
const MOST_ICON: u64 = 4 << 20;
/// Strays that are named.
const MOST_NAMED: usize = 3;

/// Control data of a title, with its icon.
pub struct Control {
    /// Names, version, languages.
    pub nacp: Nacp,
    /// An icon as it stands in its file: a JPEG.
    pub icon: Option<SourceRef>,
}

/// The control data of a title; `None` where it has none that can be read, with the reason where there is one to tell.
///
/// # Errors
/// What the machine is to blame for.
pub fn control(contents: &Contents, title: &Title) -> Result<(Option<Control>, Option<String>)> {
    let Some(index) = title.file_of(Role::Control) else { return Ok((None, None)) };
    let read = || -> Result<Option<Control>> {
        let nca = contents.nca(index)?;
        if nca.trouble().is_some() {
            return Ok(None);
        }
        let nodes = nca.nodes("", None, &mut Vec::new())?;
        let file = |end: &str| nodes.iter().find(|n| n.name().ends_with(end)).and_then(|n| n.file());
        let Some(names) = file(nacp::FILE) else { return Ok(None) };
        let bytes = read_vec(names.source()?.as_ref(), 0, names.len, "control data", nacp::LEN as u64)?;
        let icon = nodes.iter().find(|n| n.name().starts_with("icon_")).and_then(|n| n.file());
        let icon = icon.filter(|f| f.len <= MOST_ICON).and_then(|f| f.source().ok()).cloned();
        Ok(Some(Control { nacp: Nacp::parse(&bytes)?, icon }))
    };
    match read() {
        Ok(control) => Ok((control, None)),
        Err(Error::Key(_)) => Ok((None, None)),
        Err(e @ (Error::Io { .. } | Error::Cancelled)) => Err(e),
        Err(e) => Ok((None, Some(format!("the control data of {} cannot be read: {e}", title.name())))),
    }
}

/// What a package of these titles is called: "base, update and 2 add-ons".
pub fn kinds(titles: &[Title]) -> String {
    let of = |kind: Kind| titles.iter().filter(|t| t.cnmt.kind == kind).count() as u64;
    let others = titles.len() as u64 - of(Kind::Base) - of(Kind::Update) - of(Kind::AddOn);
    let mut parts = Vec::new();
    for (n, one, many) in [
        (of(Kind::Base), "base", "bases"),
        (of(Kind::Update), "update", "updates"),
        (of(Kind::AddOn), "add-on", "add-ons"),
        (others, "other title", "other titles"),
    ] {
        match n {
            0 => {}
            1 if titles.len() == 1 => parts.push(one.to_owned()),
            n => parts.push(count(n, one, many)),
        }
    }
    match parts.split_last() {
        None => "nothing".into(),
        Some((last, [])) => last.clone(),
        Some((last, before)) => format!("{} and {last}", before.join(", ")),
    }
}

/// Which part of its title a package is that holds all of these.
fn part(titles: &[Title]) -> TitlePart {
    titles.first().map_or(TitlePart::Other, |t| t.cnmt.kind.part())
}

/// Says everything that is known of the titles; tells what is missing.
///
/// # Errors
/// What the machine is to blame for.
pub(super) fn tell(opened: &mut Opened, contents: &Contents, others: &Bases) -> Result<()> {
    // The newest update says what users see; then the base.
    let shown = contents.titles.iter().rev().filter(|t| t.cnmt.kind == Kind::Update).chain(&contents.titles);
    let mut named = None;
    for title in shown {
        let (found, why) = control(contents, title)?;
        if let Some(why) = why {
            opened.damage(why);
        }
        named = found;
        if named.is_some() {
            break;
        }
    }
    let bases: Vec<u64> = {
        let mut all: Vec<u64> = contents.titles.iter().map(|t| t.cnmt.base_id()).collect();
        all.sort_unstable();
        all.dedup();
        all
    };
    if let Some(first) = named.as_ref().filter(|_| bases.len() == 1).and_then(|c| c.nacp.first()) {
        opened.titled(first.title.clone());
        opened.fact("publisher", first.publisher.clone());
    }
    if let [only] = contents.titles.as_slice() {
        opened.identified(title::shown(only.cnmt.title_id));
    } else if let [base] = bases.as_slice() {
        opened.identified(title::shown(*base));
    }
    if let [base] = bases.as_slice() {
        opened.belonging(format!("titles of {}", title::shown(*base)), part(&contents.titles));
    }
    for title in &contents.titles {
        tell_title(opened, contents, title);
    }
    if let Some(control) = named {
        opened.fact("version", control.nacp.version.clone());
        opened.fact("languages", control.nacp.spoken().join(", "));
        if bases.len() == 1 {
            opened.told.label = Some(label(control));
        }
    }
    opened.holds.titles = contents.titles.iter().map(|t| held(contents, t)).collect();
    tell_tickets(opened, contents);
    tell_faults(opened, contents);
    let digests = contents::digests(contents, others)?;
    for (name, base) in &digests.without_base {
        let base = title::shown(*base);
        opened
            .notice(format!("the files of {name} are over the base {base}: --with BASE lists, copies and checks them"));
    }
    opened.proof.sealed.extend(digests.sealed);
    opened.proof.settled.extend(contents.settled());
    opened.proof.settled.extend(digests.faults);
    opened.holds.keys = Some(Arc::new(contents.keys.clone()));
    Ok(())
}

/// One title: its id, version, what it needs, its contents.
fn tell_title(opened: &mut Opened, contents: &Contents, title: &Title) {
    let cnmt = &title.cnmt;
    let number = match cnmt.kind {
        Kind::AddOn => format!("number {}, ", title::number(cnmt.title_id)),
        _ => String::new(),
    };
    let (bytes, version) = (title.bytes(), title::version(cnmt.version));
    opened.fact(cnmt.kind.name(), format!("{}, {number}{version}, {}", title::shown(cnmt.title_id), size(bytes)));
    if let Some(system) = cnmt.system {
        opened.fact("needs system", title::system(system));
    }
    if let Some(needs) = cnmt.needs.filter(|n| *n > 0) {
        opened.fact("needs update", title::version(needs));
    }
    for (record, file) in cnmt.records.iter().zip(&title.files) {
        let crypto = match file {
            None => "not there".to_owned(),
            Some(index) => match contents.nca(*index) {
                Ok(nca) => {
                    let key = nca.trouble().map_or("", |t| if t.wrong.is_empty() { " (missing)" } else { " (wrong)" });
                    format!("{}{key}", contents::crypto(nca))
                }
                Err(e) => format!("cannot be opened: {e}"),
            },
        };
        opened.fact("content", format!("{}: {} bytes, {crypto}", record.name(), grouped(record.len)));
    }
}

/// What is known of a title for putting it together with others.
fn held(contents: &Contents, title: &Title) -> HeldTitle {
    let cnmt = &title.cnmt;
    HeldTitle {
        id: title::shown(cnmt.title_id),
        family: title::shown(cnmt.base_id()),
        part: cnmt.kind.part(),
        number: (cnmt.kind == Kind::AddOn).then(|| title::number(cnmt.title_id)),
        version: cnmt.version,
        version_text: title::version(cnmt.version),
        needs: cnmt.needs.filter(|n| *n > 0),
        missing: title.missing().map(|r| format!("{} ({})", r.file_name(), r.name())).collect(),
        mark: contents.files[title.meta].name.to_ascii_lowercase(),
        bytes: title.bytes(),
    }
}

fn label(control: Control) -> Label {
    let titles = control.nacp.names.iter().map(|n| (LANGUAGES[n.language].2, n.title.clone())).collect();
    let packed = control.icon.into_iter().map(|icon| ("icon", icon)).collect();
    Label { titles, pictures: Vec::new(), packed }
}

fn tell_tickets(opened: &mut Opened, contents: &Contents) {
    let good = contents.tickets.iter().filter_map(|(index, t)| Some((index, t.as_ref().ok()?)));
    let (personal, common): (Vec<_>, Vec<_>) = good.partition(|(_, t)| t.is_personal);
    if !common.is_empty() {
        opened.fact("tickets", count(common.len() as u64, "for everybody", "for everybody"));
    }
    for (index, _) in personal {
        let name = &contents.files[*index].name;
        opened.notice(format!("the ticket {name} is for one console only: its title key is not opened"));
    }
}

fn tell_faults(opened: &mut Opened, contents: &Contents) {
    for (index, why) in &contents.failed {
        opened.damage(format!("the list of contents {} cannot be read: {why}", contents.files[*index].name));
    }
    for title in &contents.titles {
        for record in title.missing() {
            opened.damage(format!(
                "{}: {} ({}) is listed and not there",
                title.name(),
                record.file_name(),
                record.name()
            ));
        }
        let gone =
            title.cnmt.records.iter().zip(&title.files).filter(|(r, f)| f.is_none() && r.may_be_missing()).count();
        if gone > 0 {
            let what = count(gone as u64, "delta fragment is", "delta fragments are");
            opened.notice(format!("{}: {what} listed and not there, which is allowed", title.name()));
        }
    }
    let strays = contents.strays();
    // Where a list cannot be read, nobody knows what it names.
    if !strays.is_empty() && contents.trouble.is_none() && contents.failed.is_empty() {
        let names: Vec<&str> = strays.iter().take(MOST_NAMED).map(|f| f.name.as_str()).collect();
        let more = strays.len().saturating_sub(MOST_NAMED);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let what = count(strays.len() as u64, "file that no list names", "files that no list names");
        opened.notice(format!("{what}: {}{more}", names.join(", ")));
    }
    for (index, held) in contents.files.iter().enumerate().filter(|(_, f)| f.missing() > 0) {
        // As long as its header is there, it says what it is.
        let what = contents.nca(index).map_or_else(|_| String::new(), |n| format!(" ({})", n.header.kind().name()));
        let (missing, len) = (grouped(held.missing()), grouped(held.len()));
        opened.damage(format!("{}{what} is cut short: {missing} of its {len} bytes are missing", held.name));
    }
}

/// How the contents together are encrypted, and how it stands with their keys.
pub(super) fn protection(contents: &Contents) -> Option<Protection> {
    let mut trouble: Option<KeyTrouble> = contents.trouble.clone();
    let (mut origins, mut proof) = (Vec::new(), None);
    let mut is_coded = trouble.is_some();
    for title in &contents.titles {
        for index in title.files.iter().flatten() {
            match contents.nca(*index) {
                Ok(nca) => match nca.key.clone() {
                    KeyState::NotNeeded => {}
                    KeyState::Found { origin, proof: by } => {
                        is_coded = true;
                        origins.extend(origin.split(", ").map(str::to_owned));
                        proof = proof.or(by.map(|_| "hashes of its contents".to_owned()));
                    }
                    KeyState::Trouble(own) => {
                        is_coded = true;
                        trouble.get_or_insert(own);
                    }
                },
                Err(Error::Key(own)) => {
                    trouble.get_or_insert(own);
                }
                // What is damaged is told by its list.
                Err(_) => {}
            }
        }
    }
    if !is_coded {
        return None;
    }
    // Lists first, then as many tickets as there are.
    origins.sort();
    origins.dedup();
    let (tickets, mut origins): (Vec<String>, Vec<String>) =
        origins.into_iter().partition(|o| o.starts_with("the ticket "));
    match tickets.as_slice() {
        [] => {}
        [one] => origins.push(one.clone()),
        many => origins.push(count(many.len() as u64, "ticket", "tickets")),
    }
    let key = match trouble {
        Some(trouble) => KeyState::Trouble(trouble),
        None => KeyState::Found { origin: origins.join(", "), proof },
    };
    let (unseal, seal, has_clear_form, clear, clear_as_it_is) = (None, None, false, None, None);
    let evidence = "its contents have encrypted headers and sections".into();
    Some(Protection { state: State::Encrypted, evidence, key, unseal, seal, has_clear_form, clear, clear_as_it_is })
}

/// The stretches of a package that its files take.
pub(super) fn regions(contents: &Contents) -> Vec<Region> {
    let is_coded = |name: &str| contents::has_extension(name, "nca");
    contents.files.iter().map(|f| Region { range: f.range.clone(), encrypted: is_coded(&f.name) }).collect()
}

/// Lets the files of the titles be asked for under readable names; `others` may have the bases of updates.
pub(super) fn add_readable(opened: &mut Opened, contents: Contents, others: Bases) {
    opened.holds.more = Some(Arc::new(move || {
        let mut notices = Vec::new();
        let nodes = contents.readable(&others, &mut notices)?;
        Ok((Tree { nodes }, notices))
    }));
}
