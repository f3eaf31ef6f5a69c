//! The same with nothing encrypted in it.

use super::{Run, With, shelf};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{KeyArg, SourcesArg, native};
use crate::render::{Manner, Page, number, size, speed, style};
use clap::Args;
use decanter_core::Algorithm;
use decanter_core::native;
use decanter_jobs::decrypt::DecryptReport;
use decanter_jobs::decrypt::{self, Check};
use decanter_jobs::shelf::{Row, Work};
use decanter_jobs::verify::Verdict;
use decanter_jobs::{Answer, Failure};
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Write the same image with nothing encrypted in it
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter decrypt \"saltmarsh/Kelp Courier.zip\" -o kelp.iso --verify\n\n\
    Only the encrypted regions change; every other byte, the region table included, is carried over.\n\
    The key is proven against the disc's own files before the first byte is written.")]
pub struct Decrypt {
    #[command(flatten)]
    sources: SourcesArg,
    /// The file to write, or the folder for several; - is standard output [default: the source's name, in the current
    /// folder]
    #[arg(short, long, value_name = "FILE|DIR|-")]
    output: Option<PathBuf>,
    /// Digests of what is written, separated by commas: crc32, md5, sha1, sha256
    #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32", hide_short_help = true)]
    algorithm: Vec<Algorithm>,
    /// Hold the source against its description in the same read, and keep the result only if it matches
    #[arg(long)]
    verify: bool,
    /// The description for --verify [default: the one of this disc next to the source]
    #[arg(long, value_name = "FILE", requires = "verify", value_parser = native(), hide_short_help = true)]
    against: Vec<String>,
    /// Decrypt a damaged source, too; the exit code is then 1
    #[arg(long, hide_short_help = true)]
    keep_damage: bool,
    /// Ask no checksum of what the source is taken out of, and no digest that it carries
    #[arg(long, hide_short_help = true)]
    unchecked: bool,
    #[command(flatten)]
    key: KeyArg,
}

impl Run for Decrypt {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, output, algorithm, verify, against, keep_damage, unchecked, key } = self;
        let check = verify.then_some(Check { against });
        let output = output.as_deref();
        let mut setting = with.setting(Some(key))?;
        setting.unchecked = *unchecked;
        let shown = match decrypt::sort_out(&sources.all(&setting)?, sources.how(false, false), &setting)? {
            Work::One(shown) => shown,
            Work::Many(search) => {
                let mut tell = |row: &Row<DecryptReport>| shelf::show_row(with, out, row, &in_short);
                let check = check.as_ref();
                let report =
                    decrypt::decrypt_each(search, output, algorithm, check, *keep_damage, &setting, &mut tell)??;
                return Ok(shelf::conclude(with, out, &report)?);
            }
        };
        if let Some(mut stream) = with.stream(output)? {
            if check.is_some() {
                let why = "--verify keeps the result only if it matches, and standard output keeps nothing";
                return Err(Failure::usage(format!("cannot decrypt \"{shown}\""), why)
                    .hint("give a file with -o")
                    .into());
            }
            let (report, answer) = decrypt::decrypt_onto(&mut stream, &shown, algorithm, *keep_damage, &setting)?;
            with.show_aside(&report, |page| show_decrypt(page, &report, answer, with.took(), with.manner()))?;
            return Ok(code_of_answer(answer));
        }
        let (report, answer) = decrypt::decrypt(&shown, output, algorithm, check.as_ref(), *keep_damage, &setting)?;
        with.show(out, &report, |page| show_decrypt(page, &report, answer, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// What came of one of many sources.
fn in_short(report: &DecryptReport) -> String {
    let verdict = report.verify.as_ref().map(|v| v.verdict);
    match verdict {
        Some(verdict) if verdict != Verdict::Match => {
            format!("not kept: {} is {}", report.source, super::verify::word(verdict).1)
        }
        _ => {
            let matches = if verdict.is_some() { ", MATCH" } else { "" };
            format!("{}  {}{matches}", native::text(&report.target), size(report.bytes))
        }
    }
}

/// Shows what was decrypted.
pub fn show_decrypt(page: &mut Page, report: &DecryptReport, answer: Answer, took: Duration, manner: Manner) {
    if let Some(verify) = &report.verify {
        if answer != Answer::Yes {
            super::verify::show(page, verify, manner);
            let (bad, plain) = (style::BAD, style::PLAIN);
            return page.line(format!(
                "{bad}not kept{plain} {}: the source is not as described",
                native::text(&report.target)
            ));
        }
        super::verify::show_verdict(page, verify, manner);
    }
    let verb = if report.dry_run { "would write" } else { "wrote" };
    page.wrote(verb, native::text(&report.target));
    page.row("from", &report.source);
    page.row(
        "size",
        format!(
            "{} ({} bytes), {} of it decrypted",
            size(report.bytes),
            number(report.bytes),
            size(report.decrypted_bytes)
        ),
    );
    if let Some(origin) = &report.key_origin {
        let proof = report.key_proof.as_deref().map(|p| format!(", proven by {p}")).unwrap_or_default();
        page.row("key", format!("{origin}{proof}"));
    }
    page.digests(&report.digests);
    if !report.dry_run {
        page.row("took", speed(report.bytes, took));
    }
    page.notices(&report.notices, manner)
}
