//! Digests in one read.

use super::{Run, With};
use crate::Stop;
use crate::code_of;
use crate::global::SourcesArg;
use crate::render;
use crate::render::{Page, number};
use clap::Args;
use clap::ValueEnum;
use decanter_core::Algorithm;
use decanter_formats::record::sums;
use decanter_jobs::digest;
use decanter_jobs::digest::DigestReport;
use std::io::Write;

/// Compute CRC-32, MD5, SHA-1 and SHA-256 in one read
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter digest \"saltmarsh/Kelp Courier.iso\"\n           \
    decanter digest --style sums *.iso > SHA256SUMS\n\n\
    The bytes are those of exactly what you name: use box.zip::disc.iso for an image in an archive.\n\
    Of a folder every file below it has its own digests.\n\
    --style sums prints lines that sha256sum --check and cksum --check read; with it, SHA-256 is the\n\
    default, and several algorithms give tagged lines.")]
pub struct Digest {
    #[command(flatten)]
    sources: SourcesArg,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    style: Style,
    /// Which digests, separated by commas: crc32, md5, sha1, sha256 [default: all]
    #[arg(short, long, value_delimiter = ',', value_name = "LIST")]
    algorithm: Vec<Algorithm>,
    /// Take zeros for the sectors that a dump does not have yet, instead of refusing it; the exit code is then 1
    #[arg(long)]
    incomplete: bool,
}

impl Run for Digest {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, style, algorithm, incomplete } = self;
        let algorithms = match (algorithm.as_slice(), style) {
            ([], Style::Table) => Algorithm::ALL.to_vec(),
            ([], Style::Sums) => vec![Algorithm::Sha256],
            (some, _) => some.to_vec(),
        };
        let mut setting = with.setting(None)?;
        setting.incomplete = *incomplete;
        let (report, failures) = digest::digest(&sources.all(&setting)?, &algorithms, *style == Style::Sums, &setting)?;
        for failure in &failures {
            render::error(failure)?;
        }
        with.show(out, &report, |page| show(page, &report, *style))?;
        let code = failures.iter().map(|f| code_of(&f.cause)).max();
        Ok(code.unwrap_or(0).max(u8::from(report.sources.iter().any(|s| s.missing_sectors > 0))))
    }
}

impl Digest {
    /// Whether its output is a list that other programs read.
    pub fn is_list(&self) -> bool {
        self.style == Style::Sums
    }
}

/// How digests are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Style {
    /// All digests of a source below its name
    Table,
    /// Lines for sha256sum --check and cksum --check
    Sums,
}

/// Shows digests.
pub fn show(page: &mut Page, report: &DigestReport, layout: Style) {
    for (index, source) in report.sources.iter().enumerate() {
        match layout {
            Style::Table => {
                if index > 0 {
                    page.blank();
                }
                page.title(&source.source);
                page.row("bytes", number(source.bytes));
                for digest in &source.digests {
                    page.row(digest.algorithm.name(), digest.hex());
                }
            }
            Style::Sums => {
                let (mark, name) = sums::escaped(&source.source);
                for digest in &source.digests {
                    if source.digests.len() == 1 {
                        page.line(format!("{mark}{}  {name}", digest.hex()));
                    } else {
                        page.line(format!("{mark}{} ({name}) = {}", tag(digest.algorithm), digest.hex()));
                    }
                }
            }
        }
    }
}

/// The tag of the BSD form.
fn tag(algorithm: Algorithm) -> &'static str {
    match algorithm {
        Algorithm::Crc32 => "CRC32",
        Algorithm::Md5 => "MD5",
        Algorithm::Sha1 => "SHA1",
        Algorithm::Sha256 => "SHA256",
        Algorithm::Sha512 => "SHA512",
    }
}
