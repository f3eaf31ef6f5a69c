//! Patches.

use super::{Run, With, shelf};
use crate::Stop;
use crate::global::{SourcesArg, native};
use crate::render::speed;
use crate::render::{Manner, Page, exact, number, size, style};
use clap::Subcommand;
use decanter_core::Algorithm;
use decanter_core::native;
use decanter_core::tell;
use decanter_jobs::patch;
use decanter_jobs::patch::{ApplyReport, MakeReport, ShowReport};
use decanter_jobs::shelf::Row;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Apply patches to a file, make them, or show what they do
#[derive(Debug, Clone, Subcommand)]
pub enum Patch {
    /// Apply patches to a file, in the order given; the file is checked before, the result after
    #[command(
        after_help = "Examples:  decanter patch apply saltmarsh/drawer/Fogbell.gb saltmarsh/drawer/Fogbell.bps -o new.gb\n           \
        decanter patch apply new.gb saltmarsh/drawer/Fogbell.ups --undo -o again.gb\n\n\
        The file comes first, then its IPS, UPS, BPS or VCDIFF patches; - is standard input. Of folders, archives and several\n\
        files, each patch is applied to the file that it is for, known by its checksums or else by its name.\n\n\
        The source is never changed. If a patch expects the ROM with a header, in another byte order, trimmed or\n\
        padded, the error says so, and which command fits."
    )]
    Apply {
        #[command(flatten)]
        sources: SourcesArg,
        /// The file to write, or the folder for several; - is standard output [default: the source's name with those
        /// of the patches, in the current folder]
        #[arg(short, long, value_name = "FILE|DIR|-")]
        output: Option<PathBuf>,
        /// Go back from the patched file to the one before (UPS)
        #[arg(long)]
        undo: bool,
        /// Patch this form of the ROM: sfc, smc, nes, nes-bare, md, smd, z64, v64, n64
        #[arg(long = "as", value_name = "FORM")]
        form: Option<String>,
        /// Digests of the result, separated by commas: crc32, md5, sha1, sha256
        #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
        algorithm: Vec<Algorithm>,
    },
    /// Make a patch that leads from one file to another; it is proven before it is written
    #[command(after_help = "Example:  decanter patch make saltmarsh/drawer/Fogbell.gb new.gb -o change.bps\n\n\
        bps finds what was moved, and carries checksums; ups leads both ways; ips has neither, and ends at\n\
        16 MiB; vcdiff (RFC 3284) finds what was moved, and is read by programs of other fields.")]
    Make {
        /// The file before
        #[arg(value_name = "OLD", value_parser = native())]
        old: String,
        /// The file after
        #[arg(value_name = "NEW", value_parser = native())]
        new: String,
        /// The patch to write [default: the name of NEW, in the current folder]
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Format of the patch: bps, ups, ips or vcdiff [default: what the name given with -o ends with, or bps]
        #[arg(long, value_name = "FORMAT")]
        format: Option<String>,
        /// Put the text of this file into the patch as metadata (bps)
        #[arg(long, value_name = "FILE")]
        metadata: Option<PathBuf>,
    },
    /// Show what a patch touches, and which files it expects and leads to
    #[command(
        after_help = "Example:  decanter patch show saltmarsh/drawer/Fogbell.bps\n\n-v lists every stretch that it touches."
    )]
    Show {
        /// An IPS, UPS, BPS or VCDIFF patch
        #[arg(value_name = "PATCH", value_parser = native())]
        patch: String,
    },
}

/// What came of one patch of many.
fn in_short(report: &ApplyReport) -> String {
    let proven = if report.patches.iter().all(|p| p.proven == Some(true)) { ", proven" } else { "" };
    format!("{}  {}{proven}", native::text(&report.target), size(report.bytes))
}

impl Run for Patch {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        match self {
            Self::Apply { sources, output, undo, form, algorithm } => {
                let options = patch::Options { undo: *undo, form: form.clone(), digests: algorithm.clone() };
                let (setting, output) = (with.setting_with_pipe()?, output.as_deref());
                let words = sources.all(&setting)?;
                let (rom, patches) = match patch::sort_out(&words, &options, sources.how(false, false), &setting)? {
                    patch::Work::One { file, patches } => (file, patches),
                    patch::Work::Many(pairs) => {
                        let mut tell = |row: &Row<ApplyReport>| shelf::show_row(with, out, row, &in_short);
                        let report = patch::apply_each(pairs, output, &options, &setting, &mut tell)??;
                        return Ok(shelf::conclude(with, out, &report)?);
                    }
                };
                if let Some(mut stream) = with.stream(output)? {
                    let report = patch::apply_onto(&mut stream, &rom, &patches, &options, &setting)?;
                    with.show_aside(&report, |page| show_applied(page, &report, with.took(), with.manner()))?;
                    return Ok(0);
                }
                let report = patch::apply(&rom, &patches, output, &options, &setting)?;
                with.show(out, &report, |page| show_applied(page, &report, with.took(), with.manner()))?;
            }
            Self::Make { old, new, output, format, metadata } => {
                let report = patch::make(
                    old,
                    new,
                    format.as_deref(),
                    metadata.as_deref(),
                    output.as_deref(),
                    &with.setting_with_pipe()?,
                )?;
                with.show(out, &report, |page| show_made(page, &report, with.took(), with.manner()))?;
            }
            Self::Show { patch } => {
                let report = patch::show(patch, &with.setting_with_pipe()?)?;
                with.show(out, &report, |page| show(page, &report, with.manner()))?;
            }
        }
        Ok(0)
    }
}

/// Stretches that are told one by one, unless everything is asked for.
const MOST_TOUCHED: usize = 10;
/// Characters of metadata that are shown.
const MOST_METADATA: usize = 400;

/// Shows what a patch does.
pub fn show(page: &mut Page, report: &ShowReport, manner: Manner) {
    page.title(&report.patch);
    page.row("what", &report.kind);
    page.row("size", exact(report.bytes));
    page.row("expects", report.source.words());
    page.row("leads to", report.target.words());
    page.row("records", number(report.records));
    let stretches = tell::count(report.touched.len() as u64, "stretch", "stretches");
    page.row("touches", format!("{} bytes of the result, in {stretches}", number(report.touched_bytes)));
    let most = if manner.is_verbose { usize::MAX } else { MOST_TOUCHED };
    for touched in report.touched.iter().take(most) {
        page.row(
            "",
            format!(
                "{:#010x} to {:#010x}  {:>9} bytes",
                touched.offset,
                touched.offset + touched.bytes - 1,
                number(touched.bytes)
            ),
        );
    }
    if report.touched.len() > most {
        page.row("", format!("and {} more; -v names them all", number((report.touched.len() - most) as u64)));
    }
    page.row("undo", if report.can_undo { "it leads back too: patch apply --undo" } else { "it does not lead back" });
    if let Some(metadata) = &report.metadata {
        // What an author put in may try to steer the terminal.
        let shown: String = metadata.chars().map(|c| if c.is_control() && c != '\n' { '.' } else { c }).collect();
        let most = if manner.is_verbose { usize::MAX } else { MOST_METADATA };
        let cut: String = shown.chars().take(most).collect();
        page.row("metadata", cut.trim_end().replace('\n', "\n               "));
    }
    page.notices(&report.notices, manner)
}

/// Shows what was patched.
pub fn show_applied(page: &mut Page, report: &ApplyReport, took: Duration, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    page.wrote(verb, native::text(&report.target));
    let form = report.form.as_deref().map(|f| format!(", as {f}")).unwrap_or_default();
    page.row("from", format!("{}{form}", report.source));
    for patch in &report.patches {
        let proof = match patch.proven {
            Some(_) => format!("{}file before and result are as it says{}", style::GOOD, style::PLAIN),
            None => "without checksums".into(),
        };
        page.row(if report.undone { "undone" } else { "patch" }, format!("{} ({}): {proof}", patch.patch, patch.kind));
    }
    page.row("size", exact(report.bytes));
    if let Some(kind) = &report.kind {
        page.row("what", kind);
    }
    for check in report.rom.iter().flat_map(|r| &r.checks) {
        let words = if check.is_right {
            format!("{} is right", check.name)
        } else {
            format!("{} is {}, it should be {}", check.name, check.stored, check.right)
        };
        page.row("checksum", &words);
    }
    page.digests(&report.digests);
    if !report.dry_run {
        page.row("took", speed(report.bytes, took));
    }
    page.notices(&report.notices, manner)
}

/// Shows what was made.
pub fn show_made(page: &mut Page, report: &MakeReport, took: Duration, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    page.wrote(verb, native::text(&report.patch));
    page.row("from", format!("{} ({})", report.old, report.source.words()));
    page.row("to", format!("{} ({})", report.new, report.target.words()));
    match report.bytes {
        Some(bytes) => page.row("size", format!("{}, {}", exact(bytes), report.format)),
        None => page.row("size", format!("known once it is made, {}", report.format)),
    }
    if let Some(proof) = report.proof {
        page.row("proof", format!("{}{proof}{}", style::GOOD, style::PLAIN));
    }
    page.row("took", format!("{:.1} s", took.as_secs_f64()));
    page.notices(&report.notices, manner)
}
