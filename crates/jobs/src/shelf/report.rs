//! What came of many sources: a row for each, and totals.

use super::search::{Found, Search};
use crate::{Answer, Failure};
use decanter_core::Error;
use decanter_core::error::Blame;
use serde::Serialize;

/// What came of many sources.
#[derive(Debug, Serialize)]
pub struct ShelfReport<R> {
    /// Layout of this report.
    pub schema: &'static str,
    /// A row for each source.
    pub rows: Vec<Row<R>>,
    /// How many of which kind.
    pub totals: Totals,
    /// True when the user stopped it before all sources had their turn.
    pub stopped: bool,
}

/// What came of one source.
#[derive(Debug, Serialize)]
pub struct Row<R> {
    /// The source.
    pub source: String,
    /// How it ended.
    pub state: State,
    /// Why, where there is something to say.
    pub why: Option<String>,
    /// What to do about it.
    pub hint: Option<String>,
    /// The report of what was done.
    pub result: Option<R>,
    #[serde(skip)]
    blame: Option<Blame>,
}

/// How one source ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It was done.
    Done,
    /// It was done, and something is wrong with what came out.
    Flawed,
    /// Its result is there already.
    Present,
    /// It is nothing that could become that.
    PassedOver,
    /// It could not be done.
    Failed,
}

/// How many rows of which kind.
#[derive(Debug, Default, Clone, Copy, Serialize)]
pub struct Totals {
    /// Done.
    pub done: usize,
    /// Done, with something wrong.
    pub flawed: usize,
    /// There already.
    pub present: usize,
    /// Passed over.
    pub passed_over: usize,
    /// Failed.
    pub failed: usize,
    /// Files in the folders that are nothing that could be taken.
    pub unknown: usize,
    /// Bytes of the sources of what was done.
    pub bytes_before: u64,
    /// Bytes of the results.
    pub bytes_after: u64,
}

/// How a job on one of many sources ended, apart from failing.
pub(crate) enum Outcome<R> {
    /// With a report.
    Done(Done<R>),
    /// Its result is there already; how that is known.
    Present(String),
    /// The same, but something of it is missing for good: what.
    Incomplete(String),
    /// It cannot become that, and was not named by itself: why.
    PassedOver(String),
}

/// What was done.
pub(crate) struct Done<R> {
    pub(crate) report: R,
    pub(crate) answer: Answer,
    pub(crate) before: u64,
    pub(crate) after: u64,
}

impl<R> ShelfReport<R> {
    /// One without rows of its own yet: what could not be looked into has rows.
    pub(crate) fn new(schema: &'static str, search: &mut Search) -> Self {
        let totals = Totals { unknown: search.unknown, ..Totals::default() };
        let mut report = Self { schema, rows: Vec::new(), totals, stopped: false };
        for (source, failure) in search.failed.drain(..) {
            report.failed(&source, failure);
        }
        report
    }

    /// Adds what came of a source, and gives its row back; `None` for one that was stopped.
    pub(crate) fn add(&mut self, found: &Found, outcome: Result<Outcome<R>, Failure>) -> Option<&Row<R>> {
        let source = found.address.clone();
        let row = |state, why, result| Row { source: source.clone(), state, why, hint: None, result, blame: None };
        match outcome {
            Ok(Outcome::Done(done)) => {
                self.totals.bytes_before += done.before;
                self.totals.bytes_after += done.after;
                let (state, count) = match done.answer {
                    Answer::Yes => (State::Done, &mut self.totals.done),
                    _ => (State::Flawed, &mut self.totals.flawed),
                };
                *count += 1;
                let blame = (done.answer == Answer::ReadError).then_some(Blame::Machine);
                self.rows.push(Row { blame, ..row(state, None, Some(done.report)) });
            }
            Ok(Outcome::Present(how)) => {
                self.totals.present += 1;
                self.rows.push(row(State::Present, Some(how), None));
            }
            Ok(Outcome::Incomplete(why)) => {
                self.totals.flawed += 1;
                self.rows.push(row(State::Flawed, Some(why), None));
            }
            Ok(Outcome::PassedOver(why)) => {
                self.totals.passed_over += 1;
                self.rows.push(row(State::PassedOver, Some(why), None));
            }
            Err(failure) if failure.blame() == Blame::Nobody => {
                self.totals.passed_over += 1;
                self.rows.push(row(State::PassedOver, Some(failure.cause.to_string()), None));
            }
            Err(failure) if matches!(*failure.cause, Error::Cancelled) => {
                self.stopped = true;
                return None;
            }
            Err(failure) => self.failed(&source, failure),
        }
        self.rows.last()
    }

    fn failed(&mut self, source: &str, failure: Failure) {
        self.totals.failed += 1;
        let blame = Some(failure.blame());
        let (why, hint) = (Some(failure.cause.to_string()), failure.hint);
        self.rows.push(Row { source: source.to_owned(), state: State::Failed, why, hint, result: None, blame });
    }

    /// What all rows come to: no, if a result is missing or bad.
    pub fn answer(&self) -> Answer {
        let bad = |row: &&Row<R>| matches!(row.state, State::Failed | State::Flawed);
        match self.rows.iter().filter(bad).any(|row| row.blame == Some(Blame::Machine)) {
            true => Answer::ReadError,
            false if self.rows.iter().any(|row| bad(&row)) => Answer::No,
            false => Answer::Yes,
        }
    }
}
