//! The values in force.

use super::{Run, With};
use crate::Stop;
use crate::config::Origin;
use crate::global::When;
use crate::render::Page;
use clap::Args;
use decanter_core::native;
use decanter_jobs::cellar::Location;
use serde::Serialize;
use std::io::Write;

/// Show which settings are in force, and where each comes from
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter config\n\n\
    The configuration file is text (TOML); every line may be left out:\n\n\
    \x20 keys = [\"/museum/keys\"]      files and folders with keys; relative to the file's own folder\n\
    \x20 cellar = \"/museum/cellar\"    the collection that jobs are recorded in\n\
    \x20 color = \"auto\"               auto, always, never\n\
    \x20 jobs = 2                     files or sources that are worked on at once\n\
    \x20 language = \"de\"              titles in this language, where a source has them\n\
    \x20 [launch.fogbell]             ways to start things: \"decanter launcher --help\"")]
pub struct Config {}

/// What is in force.
#[derive(Serialize)]
struct ConfigReport {
    schema: &'static str,
    /// The configuration file, and whether it is there.
    path: Option<String>,
    is_there: bool,
    keys: Vec<(String, Origin)>,
    cellar: (Option<String>, Origin),
    color: (When, Origin),
    jobs: (usize, Origin),
    language: (Option<String>, Origin),
    launchers: Vec<String>,
}

impl Run for Config {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let settled = with.settled;
        let report = ConfigReport {
            schema: "decanter.config/1",
            path: settled.path.as_deref().map(native::text),
            is_there: settled.has_file,
            keys: settled.key_places.iter().map(|(place, origin)| (native::text(place), *origin)).collect(),
            cellar: (settled.cellar.0.as_ref().map(Location::shown), settled.cellar.1),
            color: settled.color,
            jobs: (with.setting(None)?.jobs, settled.jobs.1),
            language: settled.language.clone(),
            launchers: settled.launch.keys().cloned().collect(),
        };
        with.show(out, &report, |page| show(page, &report))?;
        Ok(0)
    }
}

/// Where a value comes from, in words.
fn origin(origin: Origin, option: &str, variable: &str) -> String {
    match origin {
        Origin::Option => format!("(given with {option})"),
        Origin::Environment => format!("(from {variable})"),
        Origin::Configuration => "(from the file)".into(),
        Origin::Default => "(default)".into(),
    }
}

fn show(page: &mut Page, report: &ConfigReport) {
    let there = if report.is_there { "" } else { " (there is none: the defaults are in force)" };
    page.row("file", format!("{}{there}", report.path.as_deref().unwrap_or("no folder for configurations is known")));
    for (index, (place, from)) in report.keys.iter().enumerate() {
        let label = if index == 0 { "keys" } else { "" };
        page.row(label, format!("{place} {}", origin(*from, "--keys", "DECANTER_KEYS")));
    }
    let cellar = match (&report.cellar.0, report.cellar.1) {
        (Some(cellar), Origin::Default) => format!("{cellar} (the current folder)"),
        (cellar, from) => format!("{} {}", cellar.as_deref().unwrap_or("none"), origin(from, "--cellar", "")),
    };
    page.row("cellar", cellar);
    let color = match report.color.0 {
        When::Auto => "auto",
        When::Always => "always",
        When::Never => "never",
    };
    page.row("color", format!("{color} {}", origin(report.color.1, "--color", "NO_COLOR")));
    page.row("jobs", format!("{} {}", report.jobs.0, origin(report.jobs.1, "--jobs", "")));
    let language =
        report.language.0.as_deref().unwrap_or("none: titles are told in the language that a source has first");
    page.row("language", format!("{language} {}", origin(report.language.1, "", "LC_ALL, LC_MESSAGES or LANG")));
    if !report.launchers.is_empty() {
        page.row("launchers", report.launchers.join(", "));
    }
}
