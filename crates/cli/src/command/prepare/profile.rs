//! Profiles of machines.

use crate::Stop;
use crate::code_of_answer;
use crate::command::{Run, With};
use crate::global::native;
use crate::render::page::{Column, Table};
use crate::render::{Page, style};
use clap::Subcommand;
use decanter_core::native;
use decanter_jobs::prepare::{self, CheckedProfile, NewProfile, ShownProfile};
use decanter_jobs::quoted;
use std::io::Write;
use std::path::PathBuf;

/// Profiles: what a machine loads, and how its card is laid out
#[derive(Debug, Clone, Subcommand)]
pub enum Profiles {
    /// Write a profile of your own, as a copy of one that is there
    #[command(after_help = "Example:  decanter prepare profile new handheld -o mine.toml")]
    New {
        /// A profile that ships, or a file
        #[arg(value_name = "NAME|FILE", value_parser = native())]
        like: String,
        /// The profile to write
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
    },
    /// Explain a profile; without one, list those that ship
    #[command(after_help = "Example:  decanter prepare profile show handheld")]
    Show {
        /// A profile that ships, or a file
        #[arg(value_name = "NAME|FILE", value_parser = native())]
        profile: Option<String>,
    },
    /// Check a profile: everything that is wrong with it at once
    #[command(after_help = "Example:  decanter prepare profile check handheld")]
    Check {
        /// A file, or a profile that ships
        #[arg(value_name = "NAME|FILE", value_parser = native())]
        profile: String,
    },
}

impl Run for Profiles {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let setting = with.setting(None)?;
        match self {
            Self::New { like, output } => {
                let report = prepare::new_profile(like, output, &setting)?;
                with.show(out, &report, |page| show_new(page, &report))?;
                Ok(0)
            }
            Self::Show { profile: Some(profile) } => {
                let report = prepare::show_profile(profile, &setting)?;
                with.show(out, &report, |page| show(page, &report, profile))?;
                Ok(0)
            }
            Self::Show { profile: None } => {
                let list = prepare::profile_names();
                let report = serde_json::json!({ "schema": "decanter.profiles/1", "profiles": list });
                with.show(out, &report, |page| {
                    list.iter().for_each(|(name, about)| page.row(name, about));
                    page.row("next", "decanter prepare profile show NAME");
                })?;
                Ok(0)
            }
            Self::Check { profile } => {
                let (report, answer) = prepare::check_profile(profile, &setting)?;
                with.show(out, &report, |page| show_check(page, &report))?;
                Ok(code_of_answer(answer))
            }
        }
    }
}

fn show_new(page: &mut Page, report: &NewProfile) {
    page.wrote(if report.dry_run { "would write" } else { "wrote" }, native::text(&report.target));
    page.row("like", &report.like);
    page.row("next", format!("decanter prepare profile check {}", quoted(&native::text(&report.target))));
}

fn show(page: &mut Page, report: &ShownProfile, named: &str) {
    let profile = &report.profile;
    page.title(&profile.name);
    if !profile.about.is_empty() {
        page.row("machine", &profile.about);
    }
    if let Some(largest) = &profile.card.largest_file {
        page.row("largest file", String::from(largest.clone()));
    }
    if let Some(leave) = &profile.card.leave {
        page.row("kept free", String::from(leave.clone()));
    }
    page.row("names", format!("{}, at most {} characters", profile.names.template, profile.names.longest));
    if profile.choose.one_each {
        page.row("copies", "of each title only the best");
    }
    if !profile.choose.regions.is_empty() {
        page.row("regions", profile.choose.regions.join(", "));
    }
    if !profile.choose.languages.is_empty() {
        page.row("languages", profile.choose.languages.join(", "));
    }
    page.row("goes first", report.first);
    let with =
        |list: &[(String, String)]| list.iter().map(|(n, v)| format!("{n} = {v}")).collect::<Vec<_>>().join(", ");
    page.table(Table {
        head: vec![
            Column::text("platform"),
            Column::text("folder"),
            Column::text("forms, the best first"),
            Column::text("with"),
        ],
        rows: (report.loads.iter())
            .map(|loads| {
                let forms: Vec<&str> = loads.forms.iter().map(|(form, _)| form.as_str()).collect();
                vec![loads.platform.into(), loads.folder.clone(), forms.join(", "), with(&loads.with)]
            })
            .collect(),
    });
    page.row("next", format!("decanter prepare SOURCE --for {}", quoted(named)));
}

fn show_check(page: &mut Page, report: &CheckedProfile) {
    match report.faults.is_empty() {
        true => {
            page.line(format!("{}{}{} is right", style::GOOD, report.profile, style::PLAIN));
            page.row("takes", report.platforms.join(", "));
            page.row("next", format!("decanter prepare SOURCE --for {}", quoted(&report.profile)));
        }
        false => {
            page.line(format!("{}{}{} cannot be used", style::BAD, report.profile, style::PLAIN));
            report.faults.iter().for_each(|fault| page.line(format!("  {fault}")));
            page.row("next", "correct that, and check it again");
        }
    }
}
