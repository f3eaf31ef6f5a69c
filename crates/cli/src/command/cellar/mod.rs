//! The collection.

mod show;
mod status;

use super::{Run, With};
use crate::global::native;
use crate::{Stop, code_of_answer};
use clap::{Args, Subcommand};
use decanter_jobs::cellar::{self, Location};
use decanter_jobs::{Answer, Failure};
use status::Status;
use std::io::Write;

/// Keep a collection: what is where, what it is, whether it is complete, and whether it is still so
#[derive(Debug, Clone, Subcommand)]
#[command(after_help = "Example:  decanter cellar scan --cellar saltmarsh-cellar saltmarsh/shelf\n\n\
    Which cellar: --cellar DIR, or \"cellar = 'DIR'\" in the configuration, or the current folder if it is one.")]
pub enum Cellar {
    New(New),
    Scan(Scan),
    Match(Match),
    Status(Status),
}

/// Make a cellar: a folder with the catalogue of a collection
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar new saltmarsh-cellar\n\n\
    The catalogue is one file (SQLite); docs/cellar.md says what is in it, and how to read it without this program.")]
pub struct New {
    /// The folder; it is made if it is not there
    #[arg(value_name = "DIR", value_parser = native())]
    cellar: String,
}

/// Look through folders: what is new, changed, moved or gone, and what all of it is
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar scan --cellar saltmarsh-cellar saltmarsh/shelf\n\n\
    A file is read if it is new, or its size, time or number on the disk has changed. Archives and compressed\n\
    images are looked through. A scan that was stopped goes on where it was.")]
pub struct Scan {
    /// Folders of the collection, which are known from then on [default: all that are known]
    #[arg(value_name = "FOLDER", value_parser = native())]
    places: Vec<String>,
    /// Read every file, also those that seem to be as they were; what has changed all the same is told
    #[arg(long)]
    deep: bool,
}

/// Bring DAT files in, and hold the collection against them
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter cellar match --cellar saltmarsh-cellar --dat saltmarsh/shelf.dat\n\n\
    A DAT file is known by the name in it. The newest version is what files are held against; older ones are kept,\n\
    unless --replace is given.")]
pub struct Match {
    /// DAT files (repeatable); without any, everything is held against those that are known
    #[arg(long, num_args = 1.., value_name = "FILE", value_parser = native())]
    dat: Vec<String>,
}

impl Cellar {
    /// Whether its output is a list that other programs read.
    pub fn is_list(&self) -> bool {
        matches!(self, Self::Status(status) if status.is_list())
    }
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
                let report = cellar::scan(&scan.places, scan.deep, &setting)?;
                with.show(out, &report, |page| show::scan(page, &report, with.manner(), with.took()))?;
                let is_all = report.unread.is_empty() && report.rotten.is_empty();
                let is_there = report.places.iter().all(|place| place.is_mounted);
                Ok(code_of_answer(if is_all && is_there { Answer::Yes } else { Answer::No }))
            }
            Self::Match(given) => {
                let report = cellar::matches(&given.dat, with.global.replace, &setting)?;
                with.show(out, &report, |page| show::matches(page, &report, with.took()))?;
                Ok(code_of_answer(if report.unread.is_empty() { Answer::Yes } else { Answer::No }))
            }
            Self::Status(status) => status.run(with, out),
        }
    }
}
