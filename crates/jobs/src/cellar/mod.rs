//! The collection: what is where, what it is, what is known of it, and whether it is still so.

mod bag;
mod check;
mod history;
mod matches;
mod places;
mod prov;
mod report;
mod retire;
mod scan;
mod status;
pub mod tidy;
mod work;

pub use bag::{BagReport, bag};
pub use check::{CheckReport, Mismatch, Which, check};
pub use decanter_cellar::status::{Counts, Row, SetRow};
pub use decanter_cellar::{Location, now};
pub use history::{Done, HistoryReport, history, record};
pub use matches::{DatReport, MatchReport, matches};
pub use places::{NewReport, new};
pub use prov::prov;
pub use report::{ReportReport, report};
pub use retire::{RestoreReport, RetireReport, restore, retire};
pub use scan::{How, PlaceReport, ScanReport, Unread, scan};
pub use status::{Asked, StatusReport, cell, columns, csv, names, status};
pub use work::{EnqueueReport, WorkReport, Working, enqueue_check, enqueue_scan, work};

use crate::{Failure, Setting};
use decanter_cellar::Cellar;
use decanter_core::Error;

/// Opens the cellar of this run.
///
/// # Errors
/// When none was named, or it is not there, damaged, of a newer program, or in use for too long.
pub fn open(verb: &str, setting: &Setting<'_>) -> Result<Cellar, Failure> {
    let what = format!("cannot {verb} the cellar");
    let Some(location) = &setting.cellar else {
        return Err(Failure::usage(what, "none was named, and the current folder is none").hint(
            "give it with --cellar DIR, or \"cellar = 'DIR'\" in the configuration; \"decanter cellar new DIR\" makes one",
        ));
    };
    Cellar::open(location.clone()).map_err(|e| failed(format!("{what} \"{}\"", location.shown()), location, e))
}

/// A catalogue that failed, with what to do about it.
fn failed(what: String, location: &Location, error: Error) -> Failure {
    let hint = match &error {
        Error::Unsupported { .. } => {
            Some("use the newer program for it; docs/cellar.md says how to read it without".to_owned())
        }
        Error::Io { source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
            Some(format!("make it first: decanter cellar new {}", crate::quoted(&location.shown())))
        }
        Error::Unreadable { .. } => {
            Some("a copy of the catalogue may be whole; docs/cellar.md says how to get out what can be read".to_owned())
        }
        _ => None,
    };
    let failure = Failure::new(what, error);
    match hint {
        Some(hint) => failure.hint(hint),
        None => failure,
    }
}

use scan::RETIRED;

/// What the catalogue failed with in the middle of something.
pub(crate) fn broke(what: &str) -> impl Fn(Error) -> Failure + '_ {
    move |e| Failure::new(what, e)
}

/// What is said of a file that has other bytes and the same time.
pub(crate) const ROT: &str = "its bytes have changed, and its time has not: the disk or memory has altered it";
