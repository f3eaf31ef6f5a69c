//! One source held against one expectation.

use super::RangeState;
use super::form::{self, Form, Region};
use super::settle;
use super::suspects::{self, Suspect};
use super::sweep::{self, Check, Lane, Outcome};
use super::verdict::{Finding, Findings};
use super::{Counts, FileReport, FileState, RangeReport, Verdict, VerifyReport};
use crate::Item;
use crate::grouped;
use crate::quoted;
use decanter_core::digest::{self, Digest, Hasher};
use decanter_core::expectation::{Expectation, ExpectedFile, RangeCheck};
use decanter_core::pour::pipeline::{Consumer, Piece};
use decanter_core::protection::{KeyState, State};
use decanter_core::transform::Transform;
use decanter_core::tree::{Content, File, Node};
use decanter_core::{Error, Notice, Result, SECTOR, SourceRef, Watch, tell};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// Differing files whose sectors are looked through.
const MOST_LOOKED_THROUGH: usize = 64;

/// A file of the source with what it should be.
struct Subject<'a> {
    node: &'a Node,
    file: &'a File,
    expected: Option<&'a ExpectedFile>,
    found: Option<Digest>,
    trouble: Option<Error>,
}

/// A stretch with what it should be, and what was found in either form.
struct Stretch<'a> {
    name: &'a str,
    span: Range<u64>,
    check: &'a RangeCheck,
    stored: Option<Outcome>,
    turned: Option<Outcome>,
    is_encrypted: bool,
}

/// Everything that is compared.
pub(super) struct Comparison<'a> {
    item: &'a Item,
    expectation: &'a Expectation,
    subjects: Vec<Subject<'a>>,
    /// Described files that are not in the source.
    missing: Vec<&'a ExpectedFile>,
    stretches: Vec<Stretch<'a>>,
    unseal: Option<Arc<dyn Transform>>,
    seal: Option<Arc<dyn Transform>>,
}

impl<'a> Comparison<'a> {
    pub(super) fn new(item: &'a Item, expectation: &'a Expectation) -> Self {
        let (subjects, missing) = pair(item, expectation);
        let protection = item.opened.protection.as_ref();
        let overlaps = |r: &Range<u64>| {
            item.opened.extent.regions.iter().any(|x| x.encrypted && x.range.start < r.end && r.start < x.range.end)
        };
        let stretch = |r: &'a decanter_core::expectation::ExpectedRange| {
            let span = r.offset..r.offset.saturating_add(r.len);
            Stretch { name: &r.name, is_encrypted: overlaps(&span), span, check: &r.check, stored: None, turned: None }
        };
        // A folder has no sectors: only its files can be compared.
        let ranges = if item.source.is_some() { expectation.ranges.as_slice() } else { &[] };
        Self {
            item,
            expectation,
            subjects,
            missing,
            stretches: ranges.iter().map(stretch).collect(),
            unseal: protection.and_then(|p| p.unseal.clone()),
            seal: protection.and_then(|p| p.seal.clone()),
        }
    }

    fn len(&self) -> u64 {
        self.item.source.as_ref().map_or(0, |s| s.len())
    }

    /// Reads the source once. Where that fails, or a file cannot be read in the order of the disc, files are read one by one.
    pub(super) fn run(
        &mut self,
        more: Vec<Consumer<'_>>,
        watch: &dyn Watch,
        sink: &mut dyn FnMut(Piece) -> Result<()>,
    ) -> Result<()> {
        let writes = !more.is_empty();
        match self.sweep(more, watch, sink) {
            // Say which files are hit by the read error, unless an output depends on every byte.
            Err(
                Error::Io { op: "read", .. }
                | Error::Unreadable { .. }
                | Error::Damaged { .. }
                | Error::Checksum { .. },
            ) if !writes => {}
            other => other?,
        }
        for subject in &mut self.subjects {
            if subject.found.is_some() || subject.expected.is_none() {
                continue;
            }
            let Content::Whole(source) = &subject.file.content else { continue };
            let algorithm = subject.expected.map(|e| e.digest.algorithm).into_iter().collect::<Vec<_>>();
            match digest::of_source(source, &algorithm, &form::CancelOnly(watch)) {
                Ok(mut digests) => subject.found = digests.pop(),
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(e) => subject.trouble = Some(e),
            }
        }
        Ok(())
    }

    fn sweep(
        &mut self,
        more: Vec<Consumer<'_>>,
        watch: &dyn Watch,
        sink: &mut dyn FnMut(Piece) -> Result<()>,
    ) -> Result<()> {
        let Some(source) = &self.item.source else { return Ok(()) };
        let len = self.len();
        let mut in_order = Vec::new();
        let mut file_checks = Vec::new();
        for (index, subject) in self.subjects.iter().enumerate() {
            let Some(expected) = subject.expected else { continue };
            let spans = &subject.file.spans;
            if matches!(subject.file.content, Content::Whole(_)) && !spans.is_empty() && sweep::is_ascending(spans) {
                in_order.push(index);
                file_checks.push(Check::hash(spans.clone(), Hasher::new(expected.digest.algorithm)));
            }
        }
        let (mut stored_checks, mut stored_of) = (Vec::new(), Vec::new());
        let (mut turned_checks, mut turned_of) = (Vec::new(), Vec::new());
        let turns = self.unseal.is_some() || self.seal.is_some();
        let transform = self.unseal.clone().or(self.seal.clone());
        let learned = match &transform {
            Some(transform) => form::learn(source, transform, &self.regions(len), watch)?,
            None => None,
        };
        for (index, stretch) in self.stretches.iter().enumerate().filter(|(_, s)| s.span.end <= len) {
            match stretch.check {
                RangeCheck::Bytes(bytes) => stored_checks.push(Check::compare(stretch.span.clone(), bytes.clone())),
                RangeCheck::EitherForm(d) => {
                    let is_turned = turns && stretch.is_encrypted;
                    if learned.as_ref().is_some_and(|l| l.index == index) {
                        continue;
                    }
                    let check = || Check::hash(vec![stretch.span.clone()], Hasher::new(d.algorithm));
                    let form = learned.as_ref().map(|l| l.form).filter(|_| is_turned);
                    if is_turned && form != Some(Form::Stored) {
                        turned_checks.push(check());
                        turned_of.push(index);
                    }
                    if form == Some(Form::Turned) {
                        continue;
                    }
                    stored_checks.push(check());
                }
            }
            stored_of.push(index);
        }
        // Files are always compared decrypted; that is the turned form only of an encrypted image.
        let files_turned = self.unseal.is_some();
        let lanes =
            vec![Lane::new(file_checks, files_turned), Lane::new(stored_checks, false), Lane::new(turned_checks, true)];
        let results = sweep::sweep(source, transform.clone(), lanes, more, watch, sink)?;
        let mut results = results.into_iter();
        let mut take = || results.next().unwrap_or_default();
        for (index, outcome) in in_order.into_iter().zip(take()) {
            if let Some(Outcome::Digest(digest)) = outcome {
                self.subjects[index].found = Some(digest);
            }
        }
        for (index, outcome) in stored_of.into_iter().zip(take()) {
            self.stretches[index].stored = outcome;
        }
        for (index, outcome) in turned_of.into_iter().zip(take()) {
            self.stretches[index].turned = outcome;
        }
        if let (Some(learned), Some(transform)) = (learned, &transform) {
            self.make_sure(learned, source, transform, watch)?;
        }
        Ok(())
    }

    /// The encrypted stretches that are described in one form or the other.
    fn regions(&self, len: u64) -> Vec<Region<'_>> {
        let all = self.stretches.iter().enumerate().filter(|(_, s)| s.is_encrypted && s.span.end <= len);
        let region = |(index, s): (usize, &Stretch<'a>)| match s.check {
            RangeCheck::EitherForm(expected) => Some(Region { index, span: s.span.clone(), expected }),
            RangeCheck::Bytes(_) => None,
        };
        all.filter_map(region).collect()
    }

    /// Takes over what was learned; what is not as described in that form is looked at in the other one, too: nothing differs
    /// that was not compared in both.
    fn make_sure(
        &mut self,
        learned: form::Learned,
        source: &SourceRef,
        transform: &Arc<dyn Transform>,
        watch: &dyn Watch,
    ) -> Result<()> {
        let (other, len) = (if learned.form == Form::Stored { Form::Turned } else { Form::Stored }, self.len());
        let mut late = Vec::new();
        for Region { index, span, expected } in self.regions(len).into_iter().filter(|r| r.index != learned.index) {
            let stretch = &self.stretches[index];
            let found = if learned.form == Form::Stored { &stretch.stored } else { &stretch.turned };
            if !matches!(found, Some(Outcome::Digest(found)) if found == expected) {
                late.push((index, form::hash(source, transform, &span, other, expected.algorithm, watch)?));
            }
        }
        for (index, digest) in late {
            let outcome = Some(Outcome::Digest(digest));
            match other {
                Form::Stored => self.stretches[index].stored = outcome,
                Form::Turned => self.stretches[index].turned = outcome,
            }
        }
        let stretch = &mut self.stretches[learned.index];
        match learned.form {
            Form::Stored => stretch.stored = Some(learned.outcome),
            Form::Turned => stretch.turned = Some(learned.outcome),
        }
        Ok(())
    }

    /// Draws the conclusions.
    pub(super) fn report(self, name: &str, watch: &dyn Watch) -> Result<VerifyReport> {
        let ranges: Vec<RangeReport> =
            self.stretches.iter().map(|s| s.report(self.len(), &self.item.opened.protection)).collect();
        let mut files = Vec::with_capacity(self.subjects.len());
        let mut looked_through = 0;
        for subject in &self.subjects {
            let mut report = subject.report();
            if report.state == FileState::Differs
                && !subject.file.spans.is_empty()
                && looked_through < MOST_LOOKED_THROUGH
            {
                looked_through += 1;
                self.add_suspects(&mut report, subject, watch)?;
            }
            files.push(report);
        }
        files.extend(self.missing.iter().map(|e| missing_report(e)));
        let regions_prove_all = !ranges.is_empty()
            && ranges.iter().all(|r| r.state == RangeState::Match)
            && self.expectation.ranges.iter().any(|r| r.name.starts_with("region"));
        let mut report = VerifyReport::of(self.item, String::new());
        report.against = Some(name.to_owned());
        self.judge(&files, &ranges, regions_prove_all, &mut report.findings)?;
        if regions_prove_all && files.iter().any(|f| f.state == FileState::Locked) {
            report.notices.push(Notice::new(
                "every region matches as it stands on the disc, which proves its files too; they were not decrypted",
            ));
        }
        if let Some(extra) = self.expectation.len.and_then(|l| self.len().checked_sub(l)).filter(|&e| e > 0) {
            report
                .notices
                .push(Notice::new(format!("{} bytes follow after the end of what is described", grouped(extra))));
        }
        settle::conclude(&mut report);
        if report.verdict == Verdict::Sound {
            let matching = files.iter().filter(|f| f.state == FileState::Match).count() as u64;
            let unchecked = ranges.iter().filter(|r| r.state == RangeState::Unchecked).count() as u64;
            report.proofs.push(tell::count(matching, "file is as described", "files are as described"));
            report.proofs.push(tell::count(unchecked, "region could not be compared", "regions could not be compared"));
        }
        report.next = self.next(report.verdict);
        report.counts = Counts::of(&files);
        (report.files, report.ranges) = (files, ranges);
        Ok(report)
    }

    /// What the comparison says.
    fn judge(
        &self,
        files: &[FileReport],
        ranges: &[RangeReport],
        regions_prove_all: bool,
        findings: &mut Findings,
    ) -> Result<()> {
        let any = |state| files.iter().any(|f| f.state == state);
        let range = |state| ranges.iter().any(|r| r.state == state);
        let is_short = self.item.source.is_some() && self.expectation.len.is_some_and(|l| l > self.len());
        if is_short || range(RangeState::Cut) {
            findings.add(Finding::Short);
        }
        let differs = any(FileState::Differs) || any(FileState::Missing) || any(FileState::Unreadable);
        if differs || range(RangeState::Differs) || (any(FileState::Unexpected) && !regions_prove_all) {
            findings.add(Finding::Differs);
        }
        // The description may hold digests of decrypted regions: without the key there is no answer.
        if any(FileState::Locked)
            && !regions_prove_all
            && !findings.has(Finding::Short)
            && !findings.has(Finding::Differs)
            && let Some(KeyState::Trouble(trouble)) = self.item.opened.protection.as_ref().map(|p| &p.key)
        {
            return Err(trouble.clone().into());
        }
        findings.add(Finding::Described);
        // What could not be compared is not proven, whatever else is.
        if range(RangeState::Unchecked) {
            findings.add(Finding::Unproven);
        }
        Ok(())
    }

    fn is_locked(&self) -> bool {
        matches!(self.item.opened.protection.as_ref().map(|p| &p.key), Some(KeyState::Trouble(_)))
    }

    fn next(&self, verdict: Verdict) -> String {
        let source = quoted(&self.item.shown);
        let encrypted = self.item.opened.protection.as_ref().is_some_and(|p| p.clear.is_some());
        match verdict {
            Verdict::Incomplete => {
                let missing = self.expectation.len.unwrap_or_default().saturating_sub(self.len()).div_ceil(SECTOR);
                format!(
                    "{} missing at its end: copy or dump it again",
                    tell::count(missing, "sector is", "sectors are")
                )
            }
            Verdict::Match if self.item.source.is_none() => "nothing; the folder holds what the disc holds".into(),
            Verdict::Match if self.is_locked() => {
                "it is proven; to decrypt or extract it, give the key with --key HEX".into()
            }
            Verdict::Match if encrypted => format!("decanter decrypt {source}, or decanter extract {source}"),
            Verdict::Match => format!("decanter extract {source}"),
            Verdict::Sound => "give the key with --key HEX: its encrypted regions can only be compared with it".into(),
            _ if self.item.source.is_none() => "copy the files that differ again".into(),
            _ => "dump the disc again, cleaned, or on another drive; files that match can be extracted with --only"
                .into(),
        }
    }

    fn add_suspects(&self, report: &mut FileReport, subject: &Subject<'_>, watch: &dyn Watch) -> Result<()> {
        let Some(source) = &self.item.source else { return Ok(()) };
        report.suspects = suspects::find(source, self.unseal.as_deref(), &subject.file.spans, watch)?;
        if report.suspects.is_empty() {
            let (first, last) = (subject.file.spans.first(), subject.file.spans.last());
            if let Some((first, last)) = first.zip(last) {
                let (first, last) = (first.start / SECTOR, last.end.saturating_sub(1) / SECTOR);
                report.note = Some(format!("somewhere in sectors {first} to {last}: its bytes do not show where"));
            }
        }
        Ok(())
    }
}

/// Puts every file of the source together with what is expected of it: by its place on the disc, else by its path.
fn pair<'a>(item: &'a Item, expectation: &'a Expectation) -> (Vec<Subject<'a>>, Vec<&'a ExpectedFile>) {
    let by_offset: HashMap<u64, usize> =
        expectation.files.iter().enumerate().filter_map(|(i, e)| Some((e.offset?, i))).collect();
    let by_path: HashMap<String, usize> =
        expectation.files.iter().enumerate().filter_map(|(i, e)| Some((e.path.as_ref()?.to_lowercase(), i))).collect();
    let mut used = vec![false; expectation.files.len()];
    let mut subjects = Vec::new();
    for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
        // In an image that was rebuilt, files keep their paths, not their places; a description without names has only places.
        let by_place = || {
            let index = by_offset.get(&file.spans.first().filter(|_| file.len > 0)?.start)?;
            expectation.files[*index].path.is_none().then_some(index)
        };
        let index = by_path.get(&node.path.to_lowercase()).or_else(by_place).copied();
        if let Some(index) = index {
            used[index] = true;
        }
        let expected = index.map(|i| &expectation.files[i]);
        subjects.push(Subject { node, file, expected, found: None, trouble: None });
    }
    let missing = expectation.files.iter().zip(used).filter(|(_, used)| !used).map(|(e, _)| e).collect();
    (subjects, missing)
}

/// The digests that a description has for the files of a source, by their paths there.
pub(super) fn digests(item: &Item, expectation: &Expectation) -> HashMap<String, Digest> {
    let (subjects, _) = pair(item, expectation);
    subjects.into_iter().filter_map(|s| Some((s.node.path.clone(), s.expected?.digest.clone()))).collect()
}

impl Subject<'_> {
    fn report(&self) -> FileReport {
        let mut report = FileReport {
            path: self.node.path.clone(),
            state: FileState::Unexpected,
            bytes: self.file.len,
            expected: self.expected.map(|e| e.digest.clone()),
            found: self.found.clone(),
            sector: self.file.spans.first().map(|s| s.start / SECTOR),
            suspects: Vec::new(),
            note: None,
            is_read_error: matches!(self.trouble, Some(Error::Io { .. })),
        };
        (report.state, report.note) = match (&self.file.content, self.expected, &self.found) {
            (Content::Cut { missing }, _, _) => {
                report.suspects = self.cut_suspects(*missing);
                (
                    FileState::Unreadable,
                    Some(format!(
                        "{} of {} bytes are missing at the end of the image",
                        grouped(*missing),
                        grouped(self.file.len)
                    )),
                )
            }
            (Content::Broken(why), _, _) => (FileState::Unreadable, Some(why.clone())),
            // An empty file has nothing to describe.
            (_, None, _) if self.file.len == 0 => (FileState::Match, None),
            (_, None, _) => (FileState::Unexpected, None),
            (Content::Locked(_), _, _) => (FileState::Locked, None),
            (_, Some(expected), Some(found)) if expected.digest == *found => (FileState::Match, None),
            (_, Some(_), Some(_)) => (FileState::Differs, None),
            (_, Some(_), None) => (FileState::Unreadable, self.trouble.as_ref().map(Error::to_string)),
        };
        report
    }

    fn cut_suspects(&self, missing: u64) -> Vec<Suspect> {
        let Some(last) = self.file.spans.last() else { return Vec::new() };
        let first = last.end.saturating_sub(missing).max(last.start) / SECTOR;
        vec![Suspect { first, last: (last.end - 1) / SECTOR, why: "missing: the image ends before that".into() }]
    }
}

fn missing_report(expected: &ExpectedFile) -> FileReport {
    let sector = expected.offset.map(|o| o / SECTOR);
    let path = expected.path.clone().unwrap_or_else(|| format!("file at sector {}", sector.unwrap_or_default()));
    FileReport {
        path,
        state: FileState::Missing,
        bytes: expected.len.unwrap_or_default(),
        expected: Some(expected.digest.clone()),
        found: None,
        sector,
        suspects: Vec::new(),
        note: None,
        is_read_error: false,
    }
}

impl Stretch<'_> {
    fn report(&self, len: u64, protection: &Option<decanter_core::protection::Protection>) -> RangeReport {
        let (state, note) = self.state(len, protection);
        RangeReport {
            name: self.name.to_owned(),
            first_sector: self.span.start / SECTOR,
            sectors: (self.span.end - self.span.start).div_ceil(SECTOR),
            state,
            note,
        }
    }

    fn state(
        &self,
        len: u64,
        protection: &Option<decanter_core::protection::Protection>,
    ) -> (RangeState, Option<String>) {
        if self.span.end > len {
            return (
                RangeState::Cut,
                Some({
                    let missing = (self.span.end - len.max(self.span.start)).div_ceil(SECTOR);
                    format!("{} missing", tell::count(missing, "sector is", "sectors are"))
                }),
            );
        }
        let expected = match self.check {
            RangeCheck::Bytes(_) => {
                return match &self.stored {
                    Some(Outcome::Differing(sectors)) if sectors.is_empty() => (RangeState::Match, None),
                    Some(Outcome::Differing(sectors)) => {
                        let shown: Vec<String> = sectors.iter().take(8).map(u64::to_string).collect();
                        let more = if sectors.len() > 8 { " ..." } else { "" };
                        (RangeState::Differs, Some(format!("sectors {}{more}", shown.join(", "))))
                    }
                    _ => (RangeState::Unchecked, Some("it could not be read".into())),
                };
            }
            RangeCheck::EitherForm(expected) => expected,
        };
        let is = |outcome: &Option<Outcome>| matches!(outcome, Some(Outcome::Digest(d)) if d == expected);
        let state = protection.as_ref().map(|p| p.state);
        let turned = if state == Some(State::Decrypted) { "as on the disc" } else { "decrypted" };
        match (self.is_encrypted, &self.stored) {
            // One form is enough, where it was learned which one is described.
            (true, None) if is(&self.turned) => (RangeState::Match, Some(turned.into())),
            (_, None) => (RangeState::Unchecked, Some("it could not be read".into())),
            (false, _) if is(&self.stored) => (RangeState::Match, None),
            (false, _) => (RangeState::Differs, None),
            (true, _) if is(&self.stored) => (
                RangeState::Match,
                Some(if state == Some(State::Decrypted) { "decrypted" } else { "as on the disc" }.into()),
            ),
            (true, _) if is(&self.turned) => (RangeState::Match, Some(turned.into())),
            // Only one form could be computed, and the digest may be of the other one.
            (true, _) if self.turned.is_none() => (RangeState::Unchecked, Some("its other form needs the key".into())),
            (true, _) => (RangeState::Differs, Some("it matches in neither form".into())),
        }
    }
}
