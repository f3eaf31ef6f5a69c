//! A package against the digests that it carries: one read of each content, stored bytes and plaintext hashed side by side.

use super::VerifyReport;
use super::report::{SealReport, SealState};
use super::verdict::Finding;
use crate::quoted;
use crate::{Item, Setting, grouped};
use decanter_core::digest::{Algorithm, Hasher};
use decanter_core::error::Blame;
use decanter_core::opened::{Inspect, Opened};
use decanter_core::pour::pipeline::{self, Consumer, Piece, Plan};
use decanter_core::protection::KeyState;
use decanter_core::seal::{Expected, Seal, Sealed, Settled};
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// Digests of blocks that are read in one go.
const DIGESTS_AT_ONCE: u64 = 4096;
/// Blocks that are kept by number, and files that are named for them.
const MOST_BLOCKS: usize = 256;
const MOST_FILES: usize = 20;

impl SealReport {
    /// What headers, or checks of a structure, say.
    fn of_settled(settled: Settled) -> Self {
        Self {
            of: String::new(),
            name: settled.name,
            range: None,
            state: if settled.holds { SealState::Holds } else { SealState::Differs },
            note: settled.note,
            files: Vec::new(),
            matters: settled.matters,
            is_digest: settled.is_digest,
        }
    }

    /// Whether it does not hold, and that matters.
    fn is_bad(&self) -> bool {
        self.state == SealState::Differs && self.matters.is_some()
    }
}

/// A digest on the way.
struct Work<'a> {
    seal: &'a Seal,
    hasher: Hasher,
    blocks: Option<Blocks<'a>>,
    failed: Option<Error>,
}

/// Digests of blocks on the way.
struct Blocks<'a> {
    digests: &'a SourceRef,
    block: u64,
    is_filled_up: bool,
    filled: u64,
    number: u64,
    held: Vec<u8>,
    bad: u64,
    /// Numbers of the first ones that do not hold.
    bad_blocks: Vec<u64>,
}

impl<'a> Work<'a> {
    fn new(seal: &'a Seal) -> Self {
        let blocks = match &seal.expected {
            Expected::Digest(_) | Expected::Beginning(_) => None,
            Expected::Blocks { digests, block, is_filled_up } => Some(Blocks {
                digests,
                block: *block,
                is_filled_up: *is_filled_up,
                filled: 0,
                number: 0,
                held: Vec::new(),
                bad: 0,
                bad_blocks: Vec::new(),
            }),
        };
        Self { seal, hasher: Hasher::new(algorithm(seal)), blocks, failed: None }
    }

    /// Takes what it needs of the bytes at `at`.
    fn take(&mut self, at: u64, bytes: &[u8]) {
        let range = &self.seal.range;
        let (from, to) = (range.start.max(at), range.end.min(at + bytes.len() as u64));
        if from >= to || self.failed.is_some() {
            return;
        }
        let mut bytes = &bytes[(from - at) as usize..(to - at) as usize];
        let Some(blocks) = &mut self.blocks else {
            self.hasher.update(bytes);
            return;
        };
        while !bytes.is_empty() {
            let (now, later) = bytes.split_at(bytes.len().min((blocks.block - blocks.filled) as usize));
            self.hasher.update(now);
            blocks.filled += now.len() as u64;
            bytes = later;
            if blocks.filled == blocks.block
                && let Err(e) = blocks.end(&mut self.hasher)
            {
                self.failed = Some(e);
                return;
            }
        }
    }

    fn finish(mut self) -> Result<Outcome> {
        if let Some(e) = self.failed {
            return Err(e);
        }
        match (&self.seal.expected, self.blocks) {
            (Expected::Digest(expected) | Expected::Beginning(expected), _) => {
                let found = self.hasher.finish();
                let holds = match self.seal.expected {
                    Expected::Beginning(_) => found.bytes.starts_with(&expected.bytes),
                    _ => found == *expected,
                };
                Ok(match holds {
                    true => Outcome::holds(),
                    false => Outcome::differs(format!("{found} instead of {}", expected.hex()), Vec::new()),
                })
            }
            (_, Some(mut blocks)) => {
                if blocks.filled > 0 {
                    if blocks.is_filled_up {
                        self.hasher.update(&vec![0; (blocks.block - blocks.filled) as usize]);
                    }
                    blocks.end(&mut self.hasher)?;
                }
                let Some(first) = blocks.bad_blocks.first() else { return Ok(Outcome::holds()) };
                let at = |number: &u64| self.seal.range.start + number * blocks.block;
                let (bad, all) = (grouped(blocks.bad), grouped(blocks.number));
                let text = format!("{bad} of {all} blocks differ, the first at {:#x}", at(first));
                let hit: Vec<Range<u64>> = blocks.bad_blocks.iter().map(|b| at(b)..at(b) + blocks.block).collect();
                Ok(Outcome::differs(text, files_in(self.seal, &hit)))
            }
            _ => Ok(Outcome::holds()),
        }
    }
}

/// What came of one digest.
struct Outcome {
    state: SealState,
    note: Option<String>,
    files: Vec<String>,
}

impl Outcome {
    fn holds() -> Self {
        Self { state: SealState::Holds, note: None, files: Vec::new() }
    }

    fn differs(note: String, files: Vec<String>) -> Self {
        Self { state: SealState::Differs, note: Some(note), files }
    }
}

/// The files that stand in these stretches, by name.
fn files_in(seal: &Seal, hit: &[Range<u64>]) -> Vec<String> {
    let Some(inside) = &seal.inside else { return Vec::new() };
    let is_hit = |range: &Range<u64>| hit.iter().any(|h| h.start < range.end && range.start < h.end);
    inside().into_iter().filter(|(range, _)| is_hit(range)).map(|(_, name)| name).take(MOST_FILES).collect()
}

impl Blocks<'_> {
    /// A block is complete: its digest is held against the one that is stored.
    fn end(&mut self, hasher: &mut Hasher) -> Result<()> {
        let found = std::mem::replace(hasher, Hasher::new(Algorithm::Sha256)).finish();
        let within = (self.number % DIGESTS_AT_ONCE) as usize * 32;
        if within == 0 {
            let at = self.number * 32;
            let len = (self.digests.len() - at.min(self.digests.len())).min(DIGESTS_AT_ONCE * 32);
            self.held.resize(len as usize, 0);
            self.digests.read_at(at, &mut self.held)?;
        }
        if self.held.get(within..within + 32) != Some(&found.bytes[..]) {
            if self.bad_blocks.len() < MOST_BLOCKS {
                self.bad_blocks.push(self.number);
            }
            self.bad += 1;
        }
        self.number += 1;
        self.filled = 0;
        Ok(())
    }
}

fn algorithm(seal: &Seal) -> Algorithm {
    match &seal.expected {
        Expected::Digest(digest) | Expected::Beginning(digest) => digest.algorithm,
        Expected::Blocks { .. } => Algorithm::Sha256,
    }
}

/// Everything that a package says of itself, checked.
///
/// # Errors
/// What reading fails with.
fn seals_of(opened: &Opened, setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    seals_with(opened, &[], setting)
}

/// The same with what every reading checks anyway.
fn all_seals_of(opened: &Opened, setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    seals_with(opened, &opened.proof.on_reading, setting)
}

fn seals_with(opened: &Opened, more: &[Inspect], setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    let mut seals: Vec<SealReport> = opened.proof.settled.iter().cloned().map(SealReport::of_settled).collect();
    for inspect in opened.proof.inspections.iter().chain(more) {
        seals.extend(inspect(setting.watch)?.into_iter().map(SealReport::of_settled));
    }
    seals.extend(check_all(&opened.proof.sealed, setting)?);
    Ok(seals)
}

/// Stretches that are read at once at most: each has blocks of its own.
const MOST_AT_ONCE: usize = 4;

/// The digests of all stretches, in their order; several are read at once, so that no hash waits for another.
fn check_all(all: &[Sealed], setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    // What is unpacked from front to back is read by one.
    let goes_forward = all.iter().any(|s| s.source.prefers_sequential());
    let lanes = if goes_forward { 1 } else { setting.jobs.clamp(1, MOST_AT_ONCE).min(all.len().max(1)) };
    if lanes == 1 {
        let found = all.iter().map(|sealed| check_sealed(sealed, setting)).collect::<Result<Vec<_>>>()?;
        return Ok(found.into_iter().flatten().collect());
    }
    // The longest first: the others fit in beside it.
    let mut order: Vec<usize> = (0..all.len()).collect();
    order.sort_by_key(|&i| std::cmp::Reverse(all[i].source.len()));
    let (next, has_failed) = (AtomicUsize::new(0), AtomicBool::new(false));
    let done: Mutex<Vec<(usize, Result<Vec<SealReport>>)>> = Mutex::default();
    std::thread::scope(|scope| {
        for _ in 0..lanes {
            scope.spawn(|| {
                while let Some(&index) = order.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if has_failed.load(Ordering::Relaxed) {
                        return;
                    }
                    let checked = check_sealed(&all[index], setting);
                    has_failed.fetch_or(checked.is_err(), Ordering::Relaxed);
                    done.lock().unwrap_or_else(PoisonError::into_inner).push((index, checked));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(index, _)| *index);
    let found = done.into_iter().map(|(_, checked)| checked).collect::<Result<Vec<_>>>()?;
    Ok(found.into_iter().flatten().collect())
}

/// Fails unless everything that matters holds in a result that was read back; else says how much there was.
///
/// # Errors
/// [`Error::Checksum`], and what reading fails with.
pub(crate) fn prove(opened: &Opened, setting: &Setting<'_>) -> Result<usize> {
    let seals = all_seals_of(opened, setting)?;
    let is_wrong = |s: &&SealReport| s.is_bad() || s.state == SealState::Cut;
    match seals.iter().find(is_wrong) {
        None => Ok(seals.iter().filter(|s| s.state == SealState::Holds).count()),
        Some(bad) => Err(Error::Checksum {
            what: format!("the result, read back: {} {}", bad.of, bad.name),
            expected: "the digest that it carries".into(),
            found: bad.note.clone().unwrap_or_default(),
        }),
    }
}

/// Something wrong with a source.
pub(crate) struct Damage {
    /// What, in words.
    pub(crate) what: String,
    /// The stretch of it that digests belong to; empty for what its structure says.
    pub(crate) of: String,
    /// The files that it hits, where that can be told.
    pub(crate) files: Vec<String>,
    /// Whether a digest of content does not hold.
    pub(crate) is_digest: bool,
}

/// Everything that a source says of itself and that does not hold.
///
/// # Errors
/// What reading fails with.
pub(crate) fn damage(opened: &Opened, setting: &Setting<'_>) -> Result<Vec<Damage>> {
    if !opened.proof.sealed.is_empty() || !opened.proof.inspections.is_empty() {
        setting.watch.begin("checking its own digests", None);
    }
    let seals = seals_of(opened, setting)?;
    setting.watch.end();
    let told = |s: SealReport| {
        let of = if s.of.is_empty() { String::new() } else { format!("{}: ", s.of) };
        let note = s.note.as_deref().unwrap_or("it does not hold");
        let what = format!("{of}{}: {note}", s.name);
        Damage { what, of: s.of, files: s.files, is_digest: s.is_digest }
    };
    Ok(seals.into_iter().filter(SealReport::is_bad).map(told).collect())
}

/// Adds what a source says of itself to what reading it has shown.
pub(super) fn add(report: &mut VerifyReport, item: &Item, setting: &Setting<'_>) -> Result<()> {
    let seals = all_seals_of(&item.opened, setting)?;
    if seals.iter().any(SealReport::is_bad) {
        let next = "what is damaged, and what that hits, stands above; \"decanter extract\" takes what is whole";
        report.findings.next(Finding::Broken, next);
    }
    if seals.iter().any(|s| s.state == SealState::Cut) {
        report.findings.next(Finding::Short, "it ends before what it says of itself: copy or dump it again");
    }
    for what in &item.opened.proof.untried {
        report.findings.next(Finding::Untried, what.clone());
    }
    report.seals.extend(seals);
    Ok(())
}

/// Checks a package, and says what came of it.
pub(super) fn check(item: &Item, setting: &Setting<'_>) -> Result<VerifyReport> {
    let seals = all_seals_of(&item.opened, setting)?;
    let source_len = item.source.as_ref().map_or(0, |s| s.len());
    let missing = item.opened.extent.promised_len.map_or(0, |p| p.saturating_sub(source_len));
    let source = quoted(&item.shown);
    let mut report = VerifyReport::of(
        item,
        format!(
            "its own digests prove it whole, not known: decanter verify {source} --against DAT holds it against a known dump"
        ),
    );
    let (is_short, is_bad) = (seals.iter().any(|s| s.state == SealState::Cut), seals.iter().any(SealReport::is_bad));
    if missing > 0 || is_short {
        let next = format!("{} bytes are missing at its end: copy or dump it again", grouped(missing));
        report.findings.next(Finding::Short, next);
    }
    if is_bad {
        report.findings.next(Finding::Broken, "dump or copy it again; what matters, and to whom, stands above");
    }
    // What is under a missing key was not compared, even if nobody knows how much that is.
    if let Some(KeyState::Trouble(trouble)) = item.opened.protection.as_ref().map(|p| &p.key)
        && missing == 0
        && !is_short
        && !is_bad
    {
        return Err(trouble.clone().into());
    }
    for what in &item.opened.proof.untried {
        report.findings.next(Finding::Untried, what.clone());
    }
    report.seals = seals;
    Ok(report)
}

/// What is to be said of a stretch that cannot be read to its end: none of its digests holds, and what is damaged.
fn examined(sealed: &Sealed, error: &Error, setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    let mut found = match &sealed.examine {
        Some(examine) => examine(setting.watch)?,
        None => Vec::new(),
    };
    if found.is_empty() {
        found.push(error.to_string());
    }
    let report = |seal: &Seal| SealReport {
        of: sealed.name.clone(),
        name: seal.name.clone(),
        range: Some((seal.range.start, seal.range.end - seal.range.start)),
        state: SealState::Differs,
        note: found.first().cloned(),
        files: found.iter().skip(1).cloned().collect(),
        matters: Some(seal.matters),
        is_digest: true,
    };
    Ok(sealed.seals.iter().map(report).collect())
}

/// All digests of one stretch, in one read of it.
fn check_sealed(sealed: &Sealed, setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    let len = sealed.source.len();
    let early = |seal: &Seal| {
        let locked =
            seal.of_plaintext && sealed.locked.iter().any(|l| l.start < seal.range.end && seal.range.start < l.end);
        match (locked, seal.range.end > len) {
            (true, _) => Some(SealState::Locked),
            (false, true) => Some(SealState::Cut),
            _ => None,
        }
    };
    let mut stored: Vec<Work<'_>> = Vec::new();
    let mut clear: Vec<Work<'_>> = Vec::new();
    for seal in sealed.seals.iter().filter(|s| early(s).is_none()) {
        if seal.of_plaintext { clear.push(Work::new(seal)) } else { stored.push(Work::new(seal)) }
    }
    if !stored.is_empty() || !clear.is_empty() {
        let mut consumers: Vec<Consumer<'_>> = Vec::new();
        if !stored.is_empty() {
            consumers.push(Box::new(|piece: &Piece| {
                let mut at = piece.at;
                piece.each_stored_slice(|bytes| {
                    stored.iter_mut().for_each(|w| w.take(at, bytes));
                    at += bytes.len() as u64;
                });
            }));
        }
        if !clear.is_empty() {
            consumers.push(Box::new(|piece: &Piece| {
                let mut at = piece.at;
                piece.each_slice(|bytes| {
                    clear.iter_mut().for_each(|w| w.take(at, bytes));
                    at += bytes.len() as u64;
                });
            }));
        }
        let plan = Plan::over(sealed.source.clone(), 0..len).with_transform(sealed.transform.clone());
        match pipeline::read_into(plan, consumers, setting.watch) {
            Err(e) if e.blame() == Blame::Source && sealed.examine.is_some() => return examined(sealed, &e, setting),
            read => read?,
        }
    }
    let (mut stored, mut clear) = (stored.into_iter(), clear.into_iter());
    let mut reports = Vec::new();
    for seal in &sealed.seals {
        let outcome = match early(seal) {
            Some(SealState::Locked) => Outcome {
                state: SealState::Locked,
                note: sealed.trouble.as_ref().map(ToString::to_string),
                files: Vec::new(),
            },
            Some(state) => Outcome {
                state,
                note: Some(format!("it ends at {:#x}, what is there at {len:#x}", seal.range.end)),
                files: Vec::new(),
            },
            None => match if seal.of_plaintext { clear.next() } else { stored.next() } {
                Some(work) => work.finish()?,
                None => continue,
            },
        };
        let range = Some((seal.range.start, seal.range.end - seal.range.start));
        reports.push(SealReport {
            of: sealed.name.clone(),
            name: seal.name.clone(),
            range,
            state: outcome.state,
            note: outcome.note,
            files: outcome.files,
            matters: Some(seal.matters),
            is_digest: true,
        });
    }
    Ok(reports)
}
