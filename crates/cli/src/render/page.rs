//! A page: what a report says to people, described once. How it looks is the business of whoever renders it.

use super::{Manner, style};
use decanter_core::{Digest, Notice};

/// What stands on a page, from top to bottom. Texts are one line each, and may hold colours ([`super::style::Ink`]).
#[derive(Debug, Default)]
pub struct Page {
    pub(super) parts: Vec<Part>,
}

/// A part of a page.
#[derive(Debug, PartialEq)]
pub enum Part {
    /// What the following is about.
    Title(String),
    /// A line of text.
    Line(String),
    /// What something is called, and its value. One without a label goes on with the one before.
    Row(String, String),
    /// Columns with a head.
    Table(Table),
    /// Room between two things.
    Blank,
    /// A result in a line, for who wants no more than that.
    Brief(String),
    /// What was noticed on the way. It stays apart from what may be piped on.
    Notices(Vec<Notice>),
}

/// Rows of cells under a head.
#[derive(Debug, PartialEq)]
pub struct Table {
    /// What is in each column.
    pub head: Vec<Column>,
    /// The cells, one row after the other.
    pub rows: Vec<Vec<String>>,
}

/// A column of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// What is in it.
    pub name: &'static str,
    /// Whether its cells are numbers, which end at the same place.
    pub is_number: bool,
}

impl Column {
    /// One of texts.
    pub fn text(name: &'static str) -> Self {
        Self { name, is_number: false }
    }

    /// One of numbers.
    pub fn number(name: &'static str) -> Self {
        Self { name, is_number: true }
    }
}

impl Page {
    /// Says what the following is about.
    pub fn title(&mut self, text: impl AsRef<str>) {
        self.parts.push(Part::Title(text.as_ref().to_owned()));
    }

    /// Adds a line.
    pub fn line(&mut self, text: impl AsRef<str>) {
        self.parts.push(Part::Line(text.as_ref().to_owned()));
    }

    /// Adds a value with what it is called.
    pub fn row(&mut self, label: impl AsRef<str>, value: impl AsRef<str>) {
        self.parts.push(Part::Row(label.as_ref().to_owned(), value.as_ref().to_owned()));
    }

    /// Adds a table, unless it has no rows.
    pub fn table(&mut self, table: Table) {
        if !table.rows.is_empty() {
            self.parts.push(Part::Table(table));
        }
    }

    /// Says that something was written, or would be.
    pub fn wrote(&mut self, verb: &str, what: impl AsRef<str>) {
        let what = what.as_ref();
        self.line(format!("{}{verb}{} {what}", style::GOOD, style::PLAIN));
        self.brief(what);
    }

    /// Says a result in a line, for who wants no more than that: with `--quiet` it stands for all of the page.
    pub fn brief(&mut self, text: impl AsRef<str>) {
        self.parts.push(Part::Brief(text.as_ref().to_owned()));
    }

    /// Keeps only the results in a line, where there are some.
    pub fn shorten(&mut self) {
        if self.parts.iter().any(|part| matches!(part, Part::Brief(_))) {
            self.parts.retain(|part| matches!(part, Part::Brief(_)));
            self.parts.iter_mut().for_each(|part| {
                if let Part::Brief(text) = part {
                    *part = Part::Line(std::mem::take(text));
                }
            });
        }
    }

    /// Leaves room.
    pub fn blank(&mut self) {
        self.parts.push(Part::Blank);
    }

    /// Adds a row for each digest of what was written.
    pub fn digests(&mut self, digests: &[Digest]) {
        digests.iter().for_each(|digest| self.row(digest.algorithm.name(), digest.hex()));
    }

    /// Adds what was noticed on the way, unless nothing of that is to be told.
    pub fn notices(&mut self, notices: &[Notice], manner: Manner) {
        if !manner.is_quiet && !notices.is_empty() {
            self.parts.push(Part::Notices(notices.to_vec()));
        }
    }
}
