//! Which keys are known?

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{KeyArg, PasscodeArg, native};
use crate::render::page::{Column, Table};
use crate::render::{Page, count, style};
use clap::Args;
use decanter_jobs::{Answer, KeysReport, KnownKey};
use std::io::Write;

/// Show which keys are known, from where, and for which of these sources; never their values
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter keys \"saltmarsh/Kelp Courier.iso\" --keys saltmarsh/keys\n\n\
    A key file is named after the disc's id or the image (DCNT-10001.dkey) and holds 32 hexadecimal digits\n\
    or 16 raw bytes; a list has lines like  DCNT10001 = 00112233...  It may lie next to the source.")]
pub struct Keys {
    /// Sources whose keys are looked for
    #[arg(value_name = "SOURCE", value_parser = native())]
    sources: Vec<String>,
    #[command(flatten)]
    key: KeyArg,
    #[command(flatten)]
    passcode: PasscodeArg,
}

impl Run for Keys {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, key, passcode } = self;
        let report = decanter_jobs::keys(sources, &with.setting_with_passcode(Some(key), passcode)?)?;
        with.show(out, &report, |page| show(page, &report))?;
        let lacks = report.sources.iter().any(|s| s.need.is_some());
        Ok(if lacks { 4 } else { code_of_answer(Answer::Yes) })
    }
}

/// Shows which keys are known; never their values.
pub fn show(page: &mut Page, report: &KeysReport) {
    page.line(format!("{} known", count(report.keys.len(), "key")));
    let head = vec![Column::text("NAME"), Column::number("BITS"), Column::text("FROM"), Column::text("OPENS")];
    let row = |key: &KnownKey| {
        let opens = key.opens.clone().unwrap_or_default();
        vec![key.entry.name.clone(), key.entry.bits.to_string(), key.entry.origin.clone(), opens]
    };
    page.table(Table { head, rows: report.keys.iter().map(row).collect() });
    for source in &report.sources {
        let id = source.id.as_deref().map(|id| format!("  ({id})")).unwrap_or_default();
        page.line(format!("{}{}{}{id}", style::BOLD, source.source, style::PLAIN));
        let state = match (source.state, &source.origin, &source.proof, &source.need) {
            (_, Some(origin), Some(proof), _) => format!("found in {origin}, proven by {proof}"),
            (_, Some(origin), None, _) => format!("found in {origin}; nothing on the disc can prove it"),
            (state, _, _, Some(need)) => format!("{}: {need}", state.words()),
            (state, ..) => state.words().to_owned(),
        };
        page.row("key", &state);
    }
    page.line(format!(
        "looked in: {}",
        if report.looked.is_empty() { "no place".into() } else { report.looked.join(", ") }
    ));
    for line in &report.unreadable {
        page.line(format!("{}not a key:{} {line} (a line of a list is NAME = HEX)", style::WARN, style::PLAIN));
    }
}
