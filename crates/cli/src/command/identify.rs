//! What is it, and what can it become?

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{KeyArg, PasscodeArg, SourcesArg};
use crate::render::page::{Column, Table};
use crate::render::{Manner, Page, count, exact, number, size, style};
use clap::Args;
use decanter_core::SECTOR;
use decanter_core::protection::State;
use decanter_core::tell::with_article;
use decanter_jobs::Padding;
use decanter_jobs::family::{Family, Member};
use decanter_jobs::identify;
use decanter_jobs::identify::{Encryption, IdentifyReport, Identity};
use decanter_jobs::layers::{Layer, system_version};
use decanter_jobs::starter::Starter;
use std::io::Write;
use std::path::PathBuf;

/// Say what a source is, what it needs, what it can become, and what to type next
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter identify \"saltmarsh/Kelp Courier.zip\"\n\n\
    Folders are searched. Up to three sources get a screen each, more of them a table (with -v: screens).")]
pub struct Identify {
    #[command(flatten)]
    sources: SourcesArg,
    /// Draw the one source as a PNG: a map of files, file system, padding, encrypted regions; of a DS ROM, a 3DS or Switch title its icon
    #[arg(long, value_name = "PNG")]
    picture: Option<PathBuf>,
    #[command(flatten)]
    key: KeyArg,
    #[command(flatten)]
    passcode: PasscodeArg,
}

impl Run for Identify {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, picture, key, passcode } = self;
        let setting = with.setting_with_passcode(Some(key), passcode)?;
        let sources = &sources.all(&setting)?;
        if let Some(picture) = picture {
            identify::draw(sources, picture, &setting)?;
        }
        let (report, answer) = identify::identify(sources, &setting)?;
        with.show(out, &report, |page| show(page, &report, with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// More sources than this become a table.
const MOST_SCREENS: usize = 3;
/// Hit files that are named on a screen.
const MOST_NAMED: usize = 10;

/// Shows what sources are.
pub fn show(page: &mut Page, report: &IdentifyReport, manner: Manner) {
    if report.sources.is_empty() {
        return page.line("there are no files to identify");
    }
    if report.sources.len() > MOST_SCREENS && !manner.is_verbose {
        table(page, report);
        show_sets(page, report);
        show_groups(page, report);
        return show_folders(page, report);
    }
    for (index, identity) in report.sources.iter().enumerate() {
        if index > 0 {
            page.blank();
        }
        one(page, identity, manner);
    }
    if report.sources.len() > 1 && !report.titles.is_empty() {
        page.blank();
        show_titles(page, report);
    }
    show_sets(page, report);
    show_groups(page, report);
    show_folders(page, report)
}

/// Titles whose files lie over each other: each layer, what does not fit, and the command that makes one of them.
fn show_sets(page: &mut Page, report: &IdentifyReport) {
    for set in &report.sets {
        page.blank();
        let title =
            if set.title.is_empty() { set.title_id.clone() } else { format!("{} [{}]", set.title, set.title_id) };
        page.line(format!("{}one title: {title}{}", style::BOLD, style::PLAIN));
        for layer in &set.layers {
            page.row(layer.part.word(), format!("{}: {}", layer.source, layer_words(layer)));
        }
        page.row("latest", &set.latest);
        for fault in &set.faults {
            page.row("fault", format!("{}{fault}{}", style::BAD, style::PLAIN));
        }
        for remark in &set.remarks {
            page.row("note", remark);
        }
        if let Some(next) = &set.next {
            page.row("next", format!("{}{next}{}", style::GOOD, style::PLAIN));
        }
    }
}

fn layer_words(layer: &Layer) -> String {
    let version = if layer.app_version.is_empty() { "no version told".into() } else { layer.app_version.clone() };
    let system = match layer.system {
        0 => String::new(),
        number => format!(", needs system {}", system_version(number)),
    };
    let remarks: String = layer.remarks.iter().map(|r| format!("; {r}")).collect();
    format!("{version}, {}{system}{remarks}", count(layer.files, "file"))
}

/// Titles that can be put into one file: a line each, then what there is to know of their parts.
fn show_titles(page: &mut Page, report: &IdentifyReport) {
    if report.titles.is_empty() {
        return;
    }
    let head = ["TITLE", "ID", "BASE", "UPDATE", "ADD-ONS", "STATE"].map(Column::text).to_vec();
    let version =
        |member: &Option<Member>| member.as_ref().map(|m| m.title.version_text.clone()).unwrap_or_else(|| "-".into());
    let row = |family: &Family| {
        let title = family.name.clone().unwrap_or_default();
        let add_ons = if family.add_ons.is_empty() { "-".into() } else { number(family.add_ons.len() as u64) };
        let state = match family.faults.len() {
            0 => "goes together".to_owned(),
            faults => count(faults, "fault"),
        };
        vec![title, family.id.clone(), version(&family.base), version(&family.update), add_ons, state]
    };
    page.table(Table { head, rows: report.titles.iter().map(row).collect() });
    for family in &report.titles {
        let name = family.name.as_deref().unwrap_or(&family.id);
        for fault in &family.faults {
            page.line(format!("  {}fault{}       {name}: {}", style::BAD, style::PLAIN, fault.words()));
        }
        for member in &family.superseded {
            page.line(format!("  superseded  {name}: {} in {}", member.what(), member.source));
        }
        for member in &family.doubled {
            page.line(format!("  doubled     {name}: {} in {}", member.what(), member.source));
        }
    }
}

/// Folders with programs that may be the ones to start.
fn show_folders(page: &mut Page, report: &IdentifyReport) {
    for (folder, starters) in &report.starters {
        page.blank();
        page.line(format!("{}{folder}{}", style::BOLD, style::PLAIN));
        show_starters(page, starters);
    }
}

/// Programs, the likeliest first, with the reasons.
fn show_starters(page: &mut Page, starters: &[Starter]) {
    for (index, starter) in starters.iter().enumerate() {
        let label = if index == 0 { "start" } else { "" };
        page.row(label, format!("{}. {}: {}", index + 1, starter.path, starter.why.join("; ")));
    }
}

/// Titles that belong together.
fn show_groups(page: &mut Page, report: &IdentifyReport) {
    for group in &report.groups {
        let title = if group.title.is_empty() { String::new() } else { format!(", {}", group.title) };
        page.blank();
        page.line(format!("{}belong together: {}{title}{}", style::BOLD, group.name, style::PLAIN));
        for (address, kind) in &group.members {
            page.line(format!("  {address}: {kind}"));
        }
        for missing in &group.missing {
            page.line(format!("  {}missing{}: {missing}", style::BAD, style::PLAIN));
        }
    }
}

fn one(page: &mut Page, identity: &Identity, manner: Manner) {
    page.title(&identity.source);
    page.brief(in_short(identity));
    if let Some(error) = &identity.error {
        page.row("what", &identity.kind);
        page.row("why", error);
        return if let Some(next) = &identity.next {
            page.row("next", next)
        };
    }
    let around: String = identity.inside.iter().rev().map(|k| format!(", in {}", with_article(k))).collect();
    page.row(
        "what",
        format!("{}{}{around}", identity.kind, state(identity).map(|s| format!(", {s}")).unwrap_or_default()),
    );
    for fact in &identity.facts {
        page.row(fact.name, &fact.value);
    }
    page.row("size", size_line(identity));
    if let Some(unread) = identity.unread_sectors {
        let (bad, plain) = (style::BAD, style::PLAIN);
        page.row("dump", format!("{bad}NOT FINISHED{plain}: {} not read yet", count(unread as usize, "sector")));
    }
    if let Some(rom) = &identity.rom {
        crate::render::rom::show(page, rom);
    }
    if identity.hit_count > 0 {
        for (index, path) in identity.hit_files.iter().take(MOST_NAMED).enumerate() {
            page.row(if index == 0 { "hit files" } else { "" }, path);
        }
        if identity.hit_count > MOST_NAMED {
            page.row("", format!("and {} more", number((identity.hit_count - MOST_NAMED) as u64)));
        }
    }
    if let Some(files) = identity.files {
        let folders = identity.folders.unwrap_or_default();
        page.row("holds", format!("{} in {}", count(files, "file"), count(folders, "folder")));
    }
    if let Some(r) = identity.regions.as_ref().filter(|r| r.encrypted > 0 || !identity.is_package) {
        page.row("regions", format!("{} plain, {} encrypted ({})", r.plain, r.encrypted, size(r.encrypted_bytes)));
    }
    if let Some(padding) = &identity.padding {
        show_padding(page, padding);
    }
    if let Some(encryption) = &identity.encryption {
        if manner.is_verbose || encryption.state == State::Unclear {
            page.row("known by", &encryption.evidence);
        }
        page.row("key", key_line(encryption));
    }
    show_starters(page, &identity.starters);
    for becomes in &identity.becomes {
        page.row("becomes", format!("{:<17} {}", becomes.what, becomes.command));
    }
    if let Some(next) = &identity.next {
        page.row("next", format!("{}{next}{}", style::GOOD, style::PLAIN));
    }
    page.notices(&identity.notices, manner)
}

fn show_padding(page: &mut Page, padding: &Padding) {
    if padding.bytes > 0 {
        let kinds: Vec<String> = padding.kinds.iter().map(|(kind, share)| format!("{share} % {kind}")).collect();
        page.row("padding", format!("{} belong to no file: {}", size(padding.bytes), kinds.join(", ")));
    }
    for filler in &padding.filler {
        page.row("filler", format!("{} ({}): {}", filler.path, size(filler.bytes), filler.why));
    }
}

fn state(identity: &Identity) -> Option<&'static str> {
    identity.encryption.as_ref().map(|e| match e.state {
        State::Encrypted => "encrypted",
        State::Decrypted => "decrypted",
        State::Unclear => "not clear whether encrypted",
    })
}

fn size_line(identity: &Identity) -> String {
    let bytes = exact(identity.bytes);
    match identity.promised_bytes {
        Some(promised) if identity.missing_sectors > 0 => format!(
            "{bytes}; {}INCOMPLETE{}: {} of {} missing at its end",
            style::BAD,
            style::PLAIN,
            number(identity.missing_sectors),
            count(promised.div_ceil(SECTOR) as usize, "sector"),
        ),
        Some(_) if identity.is_package && identity.missing_bytes > 0 => format!(
            "{bytes}; {}INCOMPLETE{}: {} missing at its end",
            style::BAD,
            style::PLAIN,
            count(identity.missing_bytes as usize, "byte"),
        ),
        Some(_) if identity.is_package => format!("{bytes}, complete"),
        Some(promised) => format!("{bytes}, complete ({})", count(promised.div_ceil(SECTOR) as usize, "sector")),
        None => bytes,
    }
}

fn key_line(encryption: &Encryption) -> String {
    let (good, bad, plain) = (style::GOOD, style::BAD, style::PLAIN);
    let origin = encryption.key_origin.as_deref().unwrap_or_default();
    match (encryption.key, &encryption.key_proof, &encryption.key_trouble) {
        ("found", Some(proof), _) => format!("{good}found{plain} in {origin}, proven by {proof}"),
        ("unproven", ..) => format!("found in {origin}; nothing on the disc can prove it"),
        (_, _, Some(trouble)) => format!("{bad}{trouble}{plain}"),
        _ => "not needed".into(),
    }
}

/// A source in a line.
fn in_short(identity: &Identity) -> String {
    let why = identity.error.as_deref().map(|why| format!(" ({why})")).unwrap_or_default();
    format!("{}: {}{why}", identity.source, identity.kind)
}

fn table(page: &mut Page, report: &IdentifyReport) {
    report.sources.iter().for_each(|identity| page.brief(in_short(identity)));
    let fact = |identity: &Identity, name: &str| -> String {
        identity.facts.iter().find(|f| f.name == name).map(|f| f.value.clone()).unwrap_or_default()
    };
    let known = report.sources.iter().filter(|i| i.error.is_none());
    let row = |identity: &Identity| {
        let form = identity.rom.as_ref().map(|r| r.form);
        let what = form.or(identity.format).unwrap_or_default().to_owned();
        // Where there is one in words, the title of a header is only its short form.
        let title = Some(fact(identity, "banner")).filter(|t| !t.is_empty()).unwrap_or_else(|| fact(identity, "title"));
        let id = fact(identity, "id");
        vec![identity.source.clone(), what, size(identity.bytes), id, title, short_state(identity)]
    };
    let head = ["SOURCE", "WHAT", "SIZE", "ID", "TITLE", "STATE"].map(Column::text).to_vec();
    // What belongs to a title has its line there.
    let alone = known.clone().filter(|i| i.titles.is_empty());
    page.table(Table { head, rows: alone.map(row).collect() });
    show_titles(page, report);
    let others = report.sources.len() - known.count();
    if others > 0 {
        page.line(format!("{} of no known format; -v tells why", count(others, "more file")));
    }
    page.line(format!("{}; -v shows more of each", count(report.sources.len(), "file")));
}

/// What there is to say of one among many: whether it is encrypted, whole, unfinished, and whether its key is there.
fn short_state(identity: &Identity) -> String {
    let mut words: Vec<String> = state(identity).map(str::to_owned).into_iter().collect();
    if let Some(rom) = &identity.rom {
        words.extend(crate::render::rom::short_state(rom));
    }
    if let Some(unread) = identity.unread_sectors {
        words.push(format!("not finished, {} unread", count(unread as usize, "sector")));
    }
    if identity.missing_sectors > 0 {
        words.push(format!("{} missing", count(identity.missing_sectors as usize, "sector")));
    }
    if identity.is_package && identity.missing_bytes > 0 {
        words.push(format!("{} missing", count(identity.missing_bytes as usize, "byte")));
    }
    if let Some(key) = identity.encryption.as_ref().map(|e| e.key).filter(|k| *k == "missing" || *k == "wrong") {
        words.push(format!("key {key}"));
    }
    words.join(", ")
}
