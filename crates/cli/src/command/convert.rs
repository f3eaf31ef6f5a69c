//! Another format.

use super::{Run, With, shelf};
use crate::Stop;
use crate::choices::TargetArgs;
use crate::code_of_answer;
use crate::global::{KeyArg, PasscodeArg, SourcesArg, native};
use crate::render::speed;
use crate::render::{Manner, Page, count, exact, lasting, number, size, style};
use clap::Args;
use decanter_core::Algorithm;
use decanter_core::native;
use decanter_core::tell;
use decanter_jobs::convert;
use decanter_jobs::convert::{ConvertReport, RepairReport};
use decanter_jobs::shelf::Row;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Turn a source into another format: rebuild, trim, expand, compress, repair
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter convert \"saltmarsh/Pier Nine Pinball.cue\" --to iso\n           \
    decanter convert \"saltmarsh/Lamplighter Lane.iso\" --to zst --prove\n           \
    decanter convert \"saltmarsh/Pier Nine Pinball (scratched).bin\" --repair -o repaired.bin\n           \
    decanter convert kelp --to iso -o kelp.iso\n           \
    decanter convert \"saltmarsh/drawer/Bramble Run.v64\" --to z64\n           \
    decanter convert \"saltmarsh/drawer/Moth Hour (padded).gba\" --trim -o \"Moth Hour.gba\"\n           \
    decanter convert \"saltmarsh/handheld/Kelp Dash.3ds\" --to cia --keys saltmarsh/handheld/keys\n           \
    decanter convert \"saltmarsh/downloads/Gullwing Rows.iso\" --to god -o installed/\n           \
    decanter convert saltmarsh/machines/*.prg --to d64 --label GAMES -o games.d64\n           \
    decanter convert \"saltmarsh/machines/Tide Table.lha\" --to hdf --start auto\n           \
    decanter convert saltmarsh/machines/lantern.toml --to prg\n           \
    decanter convert \"saltmarsh/machines/Fogbell arcade.chd\" --to img\n\n\
    \"decanter identify SOURCE\" lists what a source can become, \"decanter formats\" what there is.\n\
    ROMs: --trim, --pad, --fill, --join, --odd, --split even-odd keep the form if --to is not given.")]
pub struct Convert {
    #[command(flatten)]
    sources: SourcesArg,
    #[command(flatten)]
    target: TargetArgs,
    /// The file to write, or the folder for several; - is standard output [default: the source's name with the
    /// format's extension, in the current folder]
    #[arg(short, long, value_name = "FILE|DIR|-")]
    output: Option<PathBuf>,
    /// Search folders and archives for sources, also where they would be the content of the result (iso, adf, d64 ...)
    #[arg(long, conflicts_with = "content")]
    each: bool,
    /// Make the files in an archive the content of the result, whatever they are (iso, adf, d64 ...)
    #[arg(long)]
    content: bool,
    /// Read the result back and hold it against the source before it gets its name
    #[arg(long)]
    prove: bool,
    /// A further part of the dump, after SOURCE and those before (repeatable)
    #[arg(long, value_name = "PART", hide_short_help = true)]
    join: Vec<String>,
    /// The chip with the odd bytes; SOURCE is the one with the even bytes
    #[arg(long, value_name = "PART", value_parser = native(), hide_short_help = true)]
    odd: Option<String>,
    /// Take zeros for the sectors that a dump does not have yet, instead of refusing it; the exit code is then 1
    #[arg(long, hide_short_help = true)]
    incomplete: bool,
    /// Make it although the source is damaged; the exit code is then 1
    #[arg(long, hide_short_help = true)]
    keep_damage: bool,
    /// Ask no checksum of what the source is taken out of, and no digest that it carries
    #[arg(long, hide_short_help = true)]
    unchecked: bool,
    /// Digests of what the result holds, separated by commas: crc32, md5, sha1, sha256
    #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32", hide_short_help = true)]
    algorithm: Vec<Algorithm>,
    #[command(flatten)]
    key: KeyArg,
    #[command(flatten)]
    passcode: PasscodeArg,
}

impl Run for Convert {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let mut setting = with.setting_with_passcode(Some(&self.key), &self.passcode)?;
        setting.incomplete = self.incomplete;
        setting.unchecked = self.unchecked;
        let (to, output) = (self.target.to.as_deref(), self.output.as_deref());
        let sources = self.sources.all(&setting)?;
        let mut options = convert::Options {
            given: self.target.given.clone(),
            prove: self.prove,
            join: self.join.clone(),
            odd: self.odd.clone(),
            keep_damage: self.keep_damage,
            more: Vec::new(),
            digests: self.algorithm.clone(),
        };
        let how = self.sources.how(self.each, self.content);
        let shown = match convert::sort_out(&sources, to, output, &options, how, &setting)? {
            convert::Work::One(shown) => shown,
            convert::Work::Together => {
                options.more = sources[1..].to_vec();
                sources[0].clone()
            }
            convert::Work::Many(search) => {
                let mut tell = |row: &Row<ConvertReport>| shelf::show_row(with, out, row, &in_short);
                let report = convert::convert_each(search, to, output, &options, &setting, &mut tell)??;
                return Ok(shelf::conclude(with, out, &report)?);
            }
        };
        let (report, answer) = match with.stream(output)? {
            Some(mut stream) => {
                let (report, answer) = convert::convert_onto(&mut stream, &shown, to, &options, &setting)?;
                with.show_aside(&report, |page| show(page, &report, with.took(), with.manner()))?;
                return Ok(code_of_answer(answer));
            }
            None => convert::convert(&shown, to, output, &options, &setting)?,
        };
        with.show(out, &report, |page| show(page, &report, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// What was made of one of many sources.
fn in_short(report: &ConvertReport) -> String {
    let path = report.files.first().map(|file| native::text(&file.path)).unwrap_or_default();
    let more = if report.files.len() > 1 { format!(" and {} more", report.files.len() - 1) } else { String::new() };
    let (before, after) = (report.bytes_before, report.bytes_after);
    let share =
        tell::share(after, before).filter(|_| before != after).map(|share| format!(", {share}")).unwrap_or_default();
    let proven = if report.proven.as_ref().is_some_and(|p| p.identical) { ", proven" } else { "" };
    format!("{path}{more}  {}{share}{proven}", size(after))
}

/// Things that are told one by one, unless everything is asked for.
const MOST_TOLD: usize = 20;

/// Shows what was converted.
pub fn show(page: &mut Page, report: &ConvertReport, took: Duration, manner: Manner) {
    if let Some(repair) = &report.repair {
        show_repair(page, repair, manner);
    }
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for file in &report.files {
        page.wrote(verb, native::text(&file.path));
        for digest in &file.digests {
            page.row(digest.algorithm.name(), digest.hex());
        }
    }
    if report.files.is_empty() && !report.dry_run {
        page.line(format!("{}{verb}{} standard output", style::GOOD, style::PLAIN));
    }
    page.row("from", &report.source);
    for more in &report.more_sources {
        page.row("", more);
    }
    let (before, after) = (report.bytes_before, report.bytes_after);
    let share = tell::share(after, before).map(|share| format!(": {share}")).unwrap_or_default();
    let holes =
        if report.hole_bytes > 0 { format!(", {} of it holes", size(report.hole_bytes)) } else { String::new() };
    if let Some(about) = &report.about {
        let share = tell::share(about.bytes, before).map(|share| format!(": {share}")).unwrap_or_default();
        page.row("size", format!("{} before, about {} after{share}", size(before), size(about.bytes)));
        page.row("time", format!("about {} ({})", lasting(about.seconds), about.known_by));
    } else if report.dry_run && before == after {
        page.row("size", exact(after));
    } else {
        page.row(
            "size",
            format!(
                "{} ({} bytes) before, {} ({} bytes) after{share}{holes}",
                size(before),
                number(before),
                size(after),
                number(after)
            ),
        );
    }
    for (name, value) in &report.facts {
        page.row(name, value);
    }
    let most = if manner.is_verbose { usize::MAX } else { MOST_TOLD };
    for (index, left) in report.left_out.iter().take(most).enumerate() {
        let label = if index == 0 { "left out" } else { "" };
        page.row(label, format!("{}: {} ({})", left.what, size(left.bytes), left.why));
    }
    if report.left_out.len() > most {
        page.row("", format!("and {} more; -v names them all", number((report.left_out.len() - most) as u64)));
    }
    page.row("keeps", &report.preserved);
    if let Some(proven) = &report.proven {
        let colour = if proven.identical { style::GOOD } else { style::WARN };
        page.row("proof", format!("{colour}{}{}", proven.words, style::PLAIN));
    }
    page.digests(&report.digests);
    if !report.dry_run {
        // What was left out was not read either.
        let left_out: u64 = report.left_out.iter().map(|l| l.bytes).sum();
        page.row("took", speed(before.saturating_sub(left_out).max(after), took));
    }
    page.notices(&report.notices, manner)
}

fn show_repair(page: &mut Page, repair: &RepairReport, manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_TOLD };
    for sector in repair.sectors.iter().take(most) {
        let (colour, word) = match sector.changed_bytes {
            Some(0) => (style::WARN, "as it is"),
            Some(_) => (style::GOOD, "corrected"),
            None => (style::BAD, "uncorrected"),
        };
        let file = sector.file.as_deref().map(|f| format!(", {f}")).unwrap_or_default();
        let changed = sector.changed_bytes.map(|n| format!(", {} changed", count(n, "byte"))).unwrap_or_default();
        page.line(format!(
            "  {colour}{word:<12} {}track {} sector {} ({}){changed}{file}",
            style::PLAIN,
            sector.track,
            sector.sector,
            sector.faults.join(", ")
        ));
    }
    if repair.sectors.len() > most {
        page.line(format!("  and {}; -v names them all", count(repair.sectors.len() - most, "more sector")));
    }
    let beyond = if repair.beyond_count > 0 {
        format!(
            ", {}{} beyond repair{}: dump them again",
            style::BAD,
            count(repair.beyond_count as usize, "sector"),
            style::PLAIN
        )
    } else {
        String::new()
    };
    page.row(
        "repair",
        format!(
            "{} with faults, {} corrected and proven by EDC{beyond}",
            count(repair.faulty as usize, "sector"),
            number(repair.corrected_count)
        ),
    )
}
