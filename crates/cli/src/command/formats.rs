//! What can be read and written.

use super::{Run, With};
use crate::Stop;
use crate::render::Page;
use crate::render::style;
use clap::Args;
use decanter_jobs::formats::{self, FormatDetail, FormatsReport};
use std::io::Write;

/// List the formats that can be read, and what can be made of them; tell all of one
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter formats\n           decanter formats chd")]
pub struct Formats {
    /// The one to tell all of: its id, or its extension
    #[arg(value_name = "ID")]
    id: Option<String>,
}

impl Run for Formats {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        match &self.id {
            Some(id) => {
                let detail = formats::one(id)?;
                with.show(out, &detail, |page| show_one(page, &detail))?;
            }
            None => {
                let report = formats::formats();
                with.show(out, &report, |page| show(page, &report))?;
            }
        }
        Ok(0)
    }
}

/// Shows one format.
pub fn show_one(page: &mut Page, detail: &FormatDetail) {
    let name = detail.read.as_ref().map(|f| f.name).or(detail.written.as_ref().map(|t| t.what)).unwrap_or_default();
    page.title(format!("{}: {name}", detail.id));
    match &detail.read {
        Some(format) => page.row("read", format.reads),
        None if detail.see.is_empty() => page.row("read", "not by this name"),
        None => page.row("read", format!("as what it holds; see \"decanter formats {}\"", detail.see[0])),
    }
    if let Some(format) = &detail.read {
        page.row("extensions", format.extensions.iter().map(|e| format!(".{e}")).collect::<Vec<_>>().join(" "));
    }
    match &detail.written {
        Some(target) => page.row("written", format!("{}, of {}", target.what, target.made_of)),
        None => page.row("written", "no"),
    }
    if let Some(extension) = &detail.extension {
        page.row("new files", extension);
    }
    for (index, option) in detail.options.iter().enumerate() {
        page.row(if index == 0 { "options" } else { "" }, format!("{}: {}", option.name, option.help));
    }
    for (index, doubt) in detail.doubts.iter().enumerate() {
        page.row(if index == 0 { "doubts" } else { "" }, doubt);
    }
    page.row("layout", detail.pages.join(", "));
    page.row("example", &detail.example);
}

/// Shows the formats.
pub fn show(page: &mut Page, report: &FormatsReport) {
    let (bold, plain) = (style::BOLD, style::PLAIN);
    for format in &report.formats {
        let extensions: Vec<String> = format.extensions.iter().map(|e| format!(".{e}")).collect();
        page.line(format!("{bold}{:<9}{plain} {:<28} {}", format.id, format.name, extensions.join(" ")));
        page.line(format!("          {}", format.reads));
    }
    page.blank();
    page.line("What \"decanter convert SOURCE --to ...\" makes, and of what:");
    for target in &report.targets {
        page.line(format!("{bold}{:<9}{plain} {}, of {}", target.id, target.what, target.made_of));
    }
    page.blank();
    page.line(
        "Everything is recognised by its content; extensions do not matter. \"decanter formats ID\" tells all of one.",
    )
}
