//! The collection.

mod show;
mod status;

use super::{Run, With};
use crate::global::{duration, native};
use crate::{Stop, code_of_answer};
use clap::{Args, Subcommand, ValueEnum};
use decanter_jobs::cellar::tidy::{self, How};
use decanter_jobs::cellar::{self, Location, Which};
use decanter_jobs::{Answer, Failure};
use status::Status;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Keep a collection: what is where, what it is, whether it is complete, and whether it is still so
#[derive(Debug, Clone, Subcommand)]
#[command(after_help = "Example:  decanter cellar scan --cellar saltmarsh-cellar saltmarsh/shelf\n\n\
    Which cellar: --cellar DIR, or \"cellar = 'DIR'\" in the configuration, or the current folder.")]
pub enum Cellar {
    New(New),
    Scan(Scan),
    Work(Work),
    Match(Match),
    Status(Status),
    Check(Check),
    Tidy(Tidy),
    Report(Report),
    Retire(Retire),
    Restore(Restore),
    Bag(Bag),
    History(History),
}

/// Make a cellar: a folder with the catalogue of a collection, or a catalogue at a server
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar new saltmarsh-cellar\n\n\
    The catalogue is one file (SQLite), or a database of a PostgreSQL server that many machines share:\n\
    postgres://USER@HOST/NAME. docs/cellar.md says what is in it, and how to read it by hand.")]
pub struct New {
    /// The folder, or the address of the database; it is made if it is not there
    #[arg(value_name = "DIR|URL", value_parser = native())]
    cellar: String,
}

/// Look through folders: what is new, changed, moved or gone, and what all of it is
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar scan --cellar saltmarsh-cellar saltmarsh/shelf\n\n\
    A file is read if it is new, or its size, time or number on the disk has changed. Archives and\n\
    compressed images are looked through. A scan that was stopped goes on where it was.")]
pub struct Scan {
    /// Folders of the collection, or s3://BUCKET/FOLDER/, which are known from then on [default: all that are known]
    #[arg(value_name = "FOLDER", value_parser = native())]
    places: Vec<String>,
    /// Read every file, also those that seem to be as they were; what has changed all the same is told
    #[arg(long)]
    deep: bool,
    /// The folders are on another disk than before: take them as they are now
    #[arg(long, requires = "places")]
    other_disk: bool,
    /// Only put the work into the queue of the cellar, for "decanter cellar work"
    #[arg(long)]
    enqueue: bool,
}

/// Do what is in the queue of a cellar, together with other machines
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:\n  \
    decanter cellar scan --cellar saltmarsh-cellar --enqueue saltmarsh/shelf\n  \
    decanter cellar work saltmarsh-cellar --until-idle\n\n\
    With a cellar at a server, postgres://USER@HOST/NAME, any number of machines work at the same time,\n\
    each on places that it has under the same path. What a worker that dies had in hand goes to another.")]
pub struct Work {
    /// The cellar [default: as for every command]
    #[arg(value_name = "DIR|URL", value_parser = native())]
    queue: Option<String>,
    /// End once nothing is left to do, instead of waiting for more
    #[arg(long)]
    until_idle: bool,
    /// Give a piece of work to another worker if nothing was heard of its own for this time
    #[arg(long, value_name = "TIME", value_parser = lease, default_value = "20s")]
    lease: Duration,
}

/// Bring DAT files in, and hold the collection against them
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar match --cellar saltmarsh-cellar --dat saltmarsh/shelf.dat\n\n\
    A DAT file is known by the name in it. The newest version is what files are held against; older\n\
    ones are kept, unless --replace is given.")]
pub struct Match {
    /// DAT files (repeatable); without any, everything is held against those that are known
    #[arg(long, num_args = 1.., value_name = "FILE", value_parser = native())]
    dat: Vec<String>,
}

/// Read files again, those first that were not read for longest, and tell which are not as they were
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar check --cellar saltmarsh-cellar --for 1h\n\n\
    rot: the bytes have changed and the file's time has not; edited: both have. Either is told again\n\
    until the file is as it was, or a scan finds it changed. A time is a number with s, m, h or d.")]
pub struct Check {
    /// Only files of these places [default: all]
    #[arg(value_name = "FOLDER", value_parser = native())]
    places: Vec<String>,
    /// Stop after this time
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    most: Option<Duration>,
    /// Only this share of all files, those that were not read for longest
    #[arg(long, value_name = "PERCENT", value_parser = percent)]
    sample: Option<f64>,
    /// Only files that were not read for this time
    #[arg(long, value_name = "TIME", value_parser = duration)]
    older_than: Option<Duration>,
    /// Only put the work into the queue of the cellar, for "decanter cellar work"
    #[arg(long, conflicts_with = "most")]
    enqueue: bool,
}

/// Give files the names and folders of their sets: first a plan to read and edit, then what it says
#[derive(Debug, Clone, Args)]
#[command(group = clap::ArgGroup::new("step").required(true))]
#[command(after_help = "Examples:\n  \
    decanter cellar tidy --cellar saltmarsh-cellar --plan tidy.toml\n  \
    decanter cellar tidy --cellar saltmarsh-cellar --apply tidy.toml\n  \
    decanter cellar tidy --cellar saltmarsh-cellar --undo tidy.toml\n\n\
    A template names what is known: {system} {title} {region} {id} {ext} {set} {game} {name} {stem},\n\
    as in \"{system}/{title} ({region}) [{id}].{ext}\". A run that was stopped is completed by the same\n\
    command.")]
pub struct Tidy {
    /// Write a plan: what would be called how
    #[arg(long, value_name = "FILE", group = "step")]
    plan: Option<PathBuf>,
    /// Do what a plan says
    #[arg(long, value_name = "FILE", group = "step")]
    apply: Option<PathBuf>,
    /// Take back what was done by a plan
    #[arg(long, value_name = "FILE", group = "step")]
    undo: Option<PathBuf>,
    /// Names by this template instead of by the sets
    #[arg(long, value_name = "TEMPLATE", requires = "plan")]
    template: Option<String>,
    /// Take archives apart, or make one of the files of each game; the old ones go into .retired of their place
    #[arg(long, value_name = "HOW", requires = "plan", value_enum)]
    archives: Option<Archives>,
    /// Move doubles into this folder below their place
    #[arg(long, value_name = "FOLDER", requires = "plan")]
    doubles: Option<String>,
}

/// How files are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Archives {
    /// One by one
    Loose,
    /// A zip archive for each game
    Zip,
}

/// Write the state of the collection as a page for a browser, with a table and an object beside it
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar report --cellar saltmarsh-cellar -o report.html\n\n\
    The page needs nothing else: no network, no other file. It can be sorted and printed. The same\n\
    name with .csv and .json has every row.")]
pub struct Report {
    /// The page
    #[arg(short, long, value_name = "FILE.html")]
    output: PathBuf,
}

/// Put copies of files into a bag (BagIt, RFC 8493): a folder that any program can check in thirty years
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar bag -o fogbell-bag saltmarsh/fogbell.gb saltmarsh/drawer\n\n\
    Manifests have SHA-256 and SHA-512. \"decanter verify BAG\" checks a bag, whoever made it.")]
pub struct Bag {
    /// Files, folders, or what is inside them
    #[arg(required = true, value_name = "SOURCE", value_parser = native())]
    sources: Vec<String>,
    /// The folder that becomes the bag
    #[arg(short, long, value_name = "DIR")]
    output: PathBuf,
}

/// Put originals away once it is proven that what is kept makes them again, byte for byte
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar retire --cellar saltmarsh-cellar saltmarsh/lane.iso\n\n\
    An original may go if the same bytes are kept elsewhere, in an archive or a compressed image,\n\
    without their padding, or in a merged file: each is tried. What nothing makes again is named, and\n\
    stays. A receipt in the cellar says how to get each back; \"decanter cellar restore PATH\" does it.")]
pub struct Retire {
    /// Files, or folders of them
    #[arg(required = true, value_name = "SOURCE", value_parser = native())]
    sources: Vec<String>,
    /// Remove the originals, instead of moving them into the folder .retired of their place
    #[arg(long)]
    remove: bool,
}

/// Bring an original back that was retired
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar restore --cellar saltmarsh-cellar saltmarsh/lane.iso")]
pub struct Restore {
    /// The path that it had
    #[arg(value_name = "ORIGINAL", value_parser = native())]
    original: String,
}

/// Tell what a file was made of, back to the first sources
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar history --cellar saltmarsh-cellar lane.zst\n\n\
    Every job that writes is recorded when a cellar is given with --cellar or named in the configuration.")]
pub struct History {
    /// The file
    #[arg(value_name = "FILE", value_parser = native())]
    file: String,
    /// As PROV-JSON (W3C), for other programs
    #[arg(long, conflicts_with = "json")]
    prov: bool,
}

/// A time that is long enough to be heard of in.
fn lease(text: &str) -> Result<Duration, String> {
    let time = duration(text)?;
    if time >= Duration::from_secs(1) { Ok(time) } else { Err("it takes at least 1s".into()) }
}

/// A share: `1%`, `0.5%`, `10`.
fn percent(text: &str) -> Result<f64, String> {
    let value: f64 = text.trim_end_matches('%').parse().map_err(|_| "it takes a share, as in 1%".to_owned())?;
    match value > 0.0 && value <= 100.0 {
        true => Ok(value),
        false => Err("it takes more than 0% and no more than 100%".into()),
    }
}

impl Cellar {
    /// Whether its output is a list that other programs read.
    pub fn is_list(&self) -> bool {
        matches!(self, Self::Status(status) if status.is_list())
            || matches!(self, Self::History(history) if history.prov)
    }
}

/// Tells what was put into the queue.
fn enqueued(with: &With<'_>, out: &mut dyn Write, report: &cellar::EnqueueReport) -> Result<u8, Stop> {
    with.show(out, report, |page| show::enqueued(page, report))?;
    Ok(code_of_answer(if report.not_mounted.is_empty() { Answer::Yes } else { Answer::No }))
}

impl Run for Cellar {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let setting = with.setting(None)?;
        match self {
            Self::New(new) => {
                let what = || format!("cannot make a cellar in \"{}\"", new.cellar);
                let location = Location::typed(&new.cellar).map_err(|e| Failure::new(what(), e))?;
                let report = cellar::new(&location, &setting)?;
                with.show(out, &report, |page| show::new(page, &report))?;
                Ok(0)
            }
            Self::Scan(scan) => {
                let how = cellar::How { is_deep: scan.deep, is_on_other_disk: scan.other_disk };
                if scan.enqueue {
                    return enqueued(with, out, &cellar::enqueue_scan(&scan.places, how, &setting)?);
                }
                let report = cellar::scan(&scan.places, how, &setting)?;
                with.show(out, &report, |page| show::scan(page, &report, with.manner(), with.took()))?;
                let is_all = report.unread.is_empty() && report.rotten.is_empty();
                let is_there = report.places.iter().all(|place| place.is_mounted);
                Ok(code_of_answer(if is_all && is_there { Answer::Yes } else { Answer::No }))
            }
            Self::Work(given) => {
                let mut setting = setting;
                if let Some(text) = &given.queue {
                    let told = |e| Failure::new(format!("cannot use \"{}\"", decanter_core::address::plain(text)), e);
                    setting.cellar = Some(Location::typed(text).map_err(told)?);
                }
                let how = cellar::Working { until_idle: given.until_idle, lease: given.lease };
                let report = cellar::work(how, &setting)?;
                with.show(out, &report, |page| show::work(page, &report, with.manner(), with.took()))?;
                let is_good = report.mismatches.is_empty()
                    && report.rotten.is_empty()
                    && report.unread.is_empty()
                    && report.not_here.is_empty()
                    && report.given_up == 0;
                Ok(code_of_answer(if is_good { Answer::Yes } else { Answer::No }))
            }
            Self::Match(given) => {
                let report = cellar::matches(&given.dat, with.global.replace, &setting)?;
                with.show(out, &report, |page| show::matches(page, &report, with.took()))?;
                Ok(code_of_answer(if report.unread.is_empty() { Answer::Yes } else { Answer::No }))
            }
            Self::Status(status) => status.run(with, out),
            Self::Check(given) => {
                let which = Which {
                    places: given.places.clone(),
                    most_time: given.most,
                    percent: given.sample,
                    older_than: given.older_than,
                };
                if given.enqueue {
                    return enqueued(with, out, &cellar::enqueue_check(&which, &setting)?);
                }
                let report = cellar::check(&which, &setting)?;
                with.show(out, &report, |page| show::check(page, &report, with.manner(), with.took()))?;
                let is_good = report.mismatches.is_empty() && report.unread.is_empty();
                Ok(code_of_answer(if is_good { Answer::Yes } else { Answer::No }))
            }
            Self::Tidy(given) => {
                if let Some(plan) = &given.plan {
                    let archives = given.archives.map(|archives| match archives {
                        Archives::Loose => tidy::Archives::Loose,
                        Archives::Zip => tidy::Archives::Zip,
                    });
                    let how = How { template: given.template.clone(), doubles: given.doubles.clone(), archives };
                    let report = tidy::plan(plan, &how, &setting)?;
                    with.show(out, &report, |page| show::plan(page, &report, with.manner()))?;
                    return Ok(0);
                }
                let (report, is_undo) = match (&given.apply, &given.undo) {
                    (Some(plan), _) => (tidy::apply(plan, &setting)?, false),
                    (None, Some(plan)) => (tidy::undo(plan, &setting)?, true),
                    (None, None) => return Ok(2),
                };
                with.show(out, &report, |page| show::applied(page, &report, is_undo, with.manner()))?;
                Ok(code_of_answer(if report.stays.is_empty() { Answer::Yes } else { Answer::No }))
            }
            Self::Report(given) => {
                let report = cellar::report(&given.output, &setting)?;
                with.show(out, &report, |page| show::report(page, &report))?;
                Ok(0)
            }
            Self::Bag(given) => {
                let report = cellar::bag(&given.sources, &given.output, &setting)?;
                with.show(out, &report, |page| show::bag(page, &report))?;
                Ok(0)
            }
            Self::Retire(given) => {
                let report = cellar::retire(&given.sources, given.remove, &setting)?;
                with.show(out, &report, |page| show::retire(page, &report, with.manner()))?;
                Ok(code_of_answer(if report.kept.is_empty() { Answer::Yes } else { Answer::No }))
            }
            Self::Restore(given) => {
                let report = cellar::restore(&given.original, &setting)?;
                with.show(out, &report, |page| show::restore(page, &report))?;
                Ok(0)
            }
            Self::History(given) => {
                let report = cellar::history(&given.file, &setting)?;
                if given.prov {
                    crate::render::json(out, &cellar::prov(&report))?;
                } else {
                    with.show(out, &report, |page| show::history(page, &report, with.manner()))?;
                }
                Ok(code_of_answer(if report.jobs.is_empty() { Answer::No } else { Answer::Yes }))
            }
        }
    }
}
