//! A package against the digests that it carries: one read of each content, stored bytes and plaintext hashed side by side.

use super::{Counts, Verdict, VerifyReport};
use crate::identify::quoted;
use crate::{Item, Setting, grouped};
use decanter_core::digest::{Algorithm, Hasher};
use decanter_core::format::Opened;
use decanter_core::pour::pipeline::{self, Consumer, Piece, Plan};
use decanter_core::seal::{Expected, Seal, Sealed};
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use serde::Serialize;

/// Digests of blocks that are read in one go.
const DIGESTS_AT_ONCE: u64 = 4096;

/// What came of one digest, or of one thing that headers say of each other.
#[derive(Debug, Serialize)]
pub struct SealReport {
    /// The stretch it belongs to: "content 0", "the game"; empty for what is of the whole.
    pub of: String,
    /// What was sealed.
    pub name: String,
    /// Where it begins in that stretch, and how many bytes it has; `None` for what takes headers only.
    pub range: Option<(u64, u64)>,
    /// What came of it.
    pub state: SealState,
    /// More on that.
    pub note: Option<String>,
    /// What it means if it does not hold; `None` if it means nothing to those who load it.
    pub matters: Option<&'static str>,
}

/// What came of a digest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum SealState {
    /// It holds.
    Holds,
    /// It does not.
    Differs,
    /// The source ends before.
    Cut,
    /// The key is missing or wrong.
    Locked,
}

impl SealReport {
    /// Whether it does not hold, and that matters.
    pub(crate) fn is_bad(&self) -> bool {
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
    filled: u64,
    number: u64,
    held: Vec<u8>,
    bad: u64,
    first_bad: u64,
}

impl<'a> Work<'a> {
    fn new(seal: &'a Seal) -> Self {
        let blocks = match &seal.expected {
            Expected::Digest(_) => None,
            Expected::Blocks { digests, block } => {
                Some(Blocks { digests, block: *block, filled: 0, number: 0, held: Vec::new(), bad: 0, first_bad: 0 })
            }
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

    fn finish(mut self) -> Result<(SealState, Option<String>)> {
        if let Some(e) = self.failed {
            return Err(e);
        }
        match (&self.seal.expected, self.blocks) {
            (Expected::Digest(expected), _) => {
                let found = self.hasher.finish();
                Ok(match found == *expected {
                    true => (SealState::Holds, None),
                    false => (SealState::Differs, Some(format!("{found} instead of {}", expected.hex()))),
                })
            }
            (_, Some(mut blocks)) => {
                if blocks.filled > 0 {
                    self.hasher.update(&vec![0; (blocks.block - blocks.filled) as usize]);
                    blocks.end(&mut self.hasher)?;
                }
                let first = self.seal.range.start + blocks.first_bad * blocks.block;
                Ok(match blocks.bad {
                    0 => (SealState::Holds, None),
                    bad => {
                        let text = format!("{} of {} blocks differ, the first at {first:#x}", grouped(bad), grouped(blocks.number));
                        (SealState::Differs, Some(text))
                    }
                })
            }
            _ => Ok((SealState::Holds, None)),
        }
    }
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
            if self.bad == 0 {
                self.first_bad = self.number;
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
        Expected::Digest(digest) => digest.algorithm,
        Expected::Blocks { .. } => Algorithm::Sha256,
    }
}

/// Everything that a package says of itself, checked.
///
/// # Errors
/// What reading fails with.
pub(crate) fn seals_of(opened: &Opened, setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    let mut seals = Vec::new();
    for settled in &opened.settled {
        seals.push(SealReport {
            of: String::new(),
            name: settled.name.clone(),
            range: None,
            state: if settled.holds { SealState::Holds } else { SealState::Differs },
            note: settled.note.clone(),
            matters: settled.matters,
        });
    }
    for sealed in &opened.sealed {
        seals.extend(check_sealed(sealed, setting)?);
    }
    Ok(seals)
}

/// Checks a package, and says what came of it.
pub(super) fn check(item: &Item, setting: &Setting<'_>) -> Result<VerifyReport> {
    let seals = seals_of(&item.opened, setting)?;
    let source_len = item.source.as_ref().map_or(0, |s| s.len());
    let missing = item.opened.promised_len.map_or(0, |p| p.saturating_sub(source_len));
    let locked = seals.iter().any(|s| s.state == SealState::Locked);
    let verdict = if missing > 0 || seals.iter().any(|s| s.state == SealState::Cut) {
        Verdict::Incomplete
    } else if seals.iter().any(SealReport::is_bad) {
        Verdict::Damaged
    } else {
        Verdict::Sound
    };
    if locked && verdict == Verdict::Sound {
        let trouble = item.opened.sealed.iter().find_map(|s| s.trouble.clone());
        if let Some(trouble) = trouble {
            return Err(trouble.into());
        }
    }
    let source = quoted(&item.shown);
    let next = match verdict {
        Verdict::Incomplete => format!("{} bytes are missing at its end: copy or dump it again", grouped(missing)),
        Verdict::Damaged => "dump or copy it again; what matters, and to whom, stands above".into(),
        _ => format!("its own digests prove it whole, not known: decanter verify {source} --against DAT holds it against a known dump"),
    };
    Ok(VerifyReport {
        source: item.address.clone(),
        against: None,
        verdict,
        counts: Counts::default(),
        files: Vec::new(),
        rom: None,
        roms: Vec::new(),
        seals,
        ranges: Vec::new(),
        digests: Vec::new(),
        next,
        notices: item.notices().to_vec(),
    })
}

/// All digests of one stretch, in one read of it.
fn check_sealed(sealed: &Sealed, setting: &Setting<'_>) -> Result<Vec<SealReport>> {
    let len = sealed.source.len();
    let early = |seal: &Seal| {
        let locked = seal.of_plaintext && sealed.locked.iter().any(|l| l.start < seal.range.end && seal.range.start < l.end);
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
        pipeline::read_into(plan, consumers, setting.watch)?;
    }
    let (mut stored, mut clear) = (stored.into_iter(), clear.into_iter());
    let mut reports = Vec::new();
    for seal in &sealed.seals {
        let (state, note) = match early(seal) {
            Some(SealState::Locked) => (SealState::Locked, sealed.trouble.as_ref().map(ToString::to_string)),
            Some(state) => (state, Some(format!("it ends at {:#x}, what is there at {len:#x}", seal.range.end))),
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
            state,
            note,
            matters: Some(seal.matters),
        });
    }
    Ok(reports)
}
