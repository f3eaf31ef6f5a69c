//! Which copy is right where copies differ: by parities that sectors carry, by digests that a description has of parts or of all,
//! and, where nothing proves anything, by what most copies say.

use super::assemble::assembled;
use super::claims::{Claim, Whole, parts};
use super::compare::{Compared, Stretch};
use super::copies::Copy;
use crate::Setting;
use crc32fast::Hasher;
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::expectation::Expectation;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::{Error, Result, watch};
use serde::Serialize;

/// Ways of putting a part together that are tried by its digest.
const MOST_TRIED: usize = 4096;
/// Bytes that are hashed for that at most.
const MOST_HASHED: u64 = 32 << 30;
/// Ways of putting the whole together that are tried by its CRC-32, which takes no reading.
const MOST_BY_CRC: usize = 1 << 22;
/// Sectors that are told apart, where stretches are not right as a whole in any copy: within a part, and within the whole.
const MOST_SPLIT: u64 = 16;
const MOST_SPLIT_WHOLE: u64 = 22;

/// Why a copy was chosen for a stretch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "by", content = "what", rename_all = "kebab-case")]
pub enum By {
    /// Its sectors hold by their own parities; those of the others do not.
    Parity,
    /// A description has a digest of it: of which part.
    Digest(String),
    /// More copies have it than have anything else.
    Majority,
    /// No other copy has these sectors.
    OnlyCopy,
    /// Nothing tells.
    Nothing,
}

impl By {
    /// Whether that is a proof.
    pub(super) fn is_proof(&self) -> bool {
        matches!(self, Self::Parity | Self::Digest(_))
    }
}

/// What was chosen for each stretch.
pub(super) struct Chosen {
    pub(super) compared: Compared,
    /// The group of each stretch, and why; `None` where nothing tells.
    pub(super) groups: Vec<Option<(usize, By)>>,
    /// Parts of a description that hold in no way that was tried.
    pub(super) unsolved: Vec<String>,
    /// The entry of a list that the whole is.
    pub(super) whole: Option<Whole>,
}

impl Chosen {
    /// What follows from the copies alone.
    pub(super) fn begin(compared: Compared) -> Self {
        let group = |stretch: &Stretch| match (stretch.groups.len(), stretch.proven) {
            (1, _) => Some((0, By::OnlyCopy)),
            (_, Some(group)) => Some((group, By::Parity)),
            _ => None,
        };
        let groups = compared.stretches.iter().map(group).collect();
        Self { compared, groups, unsolved: Vec::new(), whole: None }
    }

    /// The copy for each stretch.
    pub(super) fn copies(&self) -> Vec<Option<usize>> {
        let one = |(stretch, group): (&Stretch, &Option<(usize, By)>)| {
            let group = group.as_ref().map_or(0, |(group, _)| *group);
            stretch.groups.get(group).map(|group| group[0])
        };
        self.compared.stretches.iter().zip(&self.groups).map(one).collect()
    }

    /// Chooses a copy whose archive carries a checksum of it that holds.
    ///
    /// # Errors
    /// What the machine fails with; [`Error::Cancelled`].
    pub(super) fn by_archives(&mut self, copies: &[Copy], setting: &Setting<'_>) -> Result<()> {
        if self.groups.iter().all(Option::is_some) {
            return Ok(());
        }
        for (number, copy) in copies.iter().enumerate() {
            let checked: Vec<_> = copy.item.through.iter().filter(|source| source.is_checked()).collect();
            let settled = checked.iter().try_for_each(|source| source.settle(setting.watch));
            match settled {
                Err(e @ (Error::Cancelled | Error::Io { .. })) => return Err(e),
                // It is one of the bad copies.
                Err(_) => continue,
                Ok(()) if checked.is_empty() => continue,
                Ok(()) => {}
            }
            for (stretch, group) in self.compared.stretches.iter().zip(&mut self.groups) {
                let own = stretch.groups.iter().position(|group| group.contains(&number));
                if let Some(own) = own.filter(|_| group.is_none()) {
                    *group =
                        Some((own, By::Digest(format!("the checksum of the archive that copy {} is in", number + 1))));
                }
            }
        }
        Ok(())
    }

    /// Chooses by the digests that a description has of parts, the smallest first.
    ///
    /// # Errors
    /// What the machine fails with; [`decanter_core::Error::Cancelled`].
    pub(super) fn by_parts(&mut self, expectation: &Expectation, copies: &[Copy], setting: &Setting<'_>) -> Result<()> {
        let lead = copies.iter().find(|c| c.item.opened.holds.tree.is_some()).unwrap_or(&copies[0]);
        for claim in parts(expectation, &lead.item.opened, self.compared.len) {
            watch::check(setting.watch)?;
            if self.open_in(&claim).is_empty() {
                continue;
            }
            self.cut(&claim);
            let mut held = self.try_ways(&claim, lead, copies, setting)?;
            if !held && self.split(self.open_in(&claim), MOST_SPLIT) {
                held = self.try_ways(&claim, lead, copies, setting)?;
            }
            if !held {
                self.unsolved.push(claim.name.clone());
            }
        }
        // A part that holds no way for itself may have been right within a larger one.
        self.unsolved.sort();
        self.unsolved.dedup();
        Ok(())
    }

    /// Stretches that a part is hit by, and that are not chosen yet.
    fn open_in(&self, claim: &Claim<'_>) -> Vec<usize> {
        let is_open = |at: &usize| {
            let is_proven = self.groups[*at].as_ref().is_some_and(|(_, by)| by.is_proof());
            let stretch = &self.compared.stretches[*at];
            !is_proven && !stretch.groups.is_empty() && claim.touches(&self.compared.span(stretch))
        };
        (0..self.groups.len()).filter(is_open).collect()
    }

    /// Cuts stretches where a part begins and ends: what lies beyond is not proven by it.
    fn cut(&mut self, claim: &Claim<'_>) {
        let unit = self.compared.unit;
        for at in self.open_in(claim).into_iter().rev() {
            let whole = self.compared.stretches[at].clone();
            let (first, end) = (whole.first, whole.first + whole.count);
            let edges = claim.spans.iter().flat_map(|span| [span.start / unit, span.end.div_ceil(unit)]);
            let mut cuts: Vec<u64> = edges.filter(|edge| (first + 1..end).contains(edge)).collect();
            cuts.sort_unstable();
            cuts.dedup();
            let borders: Vec<u64> = std::iter::once(first).chain(cuts).chain([end]).collect();
            let piece = |pair: &[u64]| Stretch { first: pair[0], count: pair[1] - pair[0], ..whole.clone() };
            let groups = vec![self.groups[at].clone(); borders.len() - 1];
            self.compared.stretches.splice(at..=at, borders.windows(2).map(piece));
            self.groups.splice(at..=at, groups);
        }
    }

    /// Every way of choosing a group for each of these stretches.
    fn ways(&self, open: &[usize], copies: usize) -> Ways {
        Ways::new(open.iter().map(|at| self.compared.stretches[*at].groups.clone()).collect(), copies)
    }

    /// The dump with these groups for these stretches, and what is chosen for the others.
    fn dump(&self, open: &[usize], way: &[usize], copies: &[Copy]) -> Result<SourceRef> {
        let mut chosen = self.copies();
        for (at, group) in open.iter().zip(way) {
            chosen[*at] = self.compared.stretches[*at].groups.get(*group).map(|group| group[0]);
        }
        assembled(copies, &self.compared, &chosen)
    }

    /// Takes these groups for these stretches: a digest of this name proves them.
    fn choose(&mut self, open: &[usize], way: Vec<usize>, name: &str) {
        for (at, group) in open.iter().zip(way) {
            self.groups[*at] = Some((group, By::Digest(name.to_owned())));
        }
    }

    fn try_ways(&mut self, claim: &Claim<'_>, lead: &Copy, copies: &[Copy], setting: &Setting<'_>) -> Result<bool> {
        let open = self.open_in(claim);
        let mut hashed = 0u64;
        for way in self.ways(&open, copies.len()).take(MOST_TRIED) {
            watch::check(setting.watch)?;
            if claim.holds(&self.dump(&open, &way, copies)?, lead, setting)? {
                self.choose(&open, way, &claim.name);
                return Ok(true);
            }
            hashed += claim.bytes();
            if hashed > MOST_HASHED {
                break;
            }
        }
        Ok(false)
    }

    /// Takes stretches apart into sectors, if they are few; whether that was done.
    fn split(&mut self, open: Vec<usize>, most: u64) -> bool {
        let sectors: u64 = open.iter().map(|at| self.compared.stretches[*at].count).sum();
        if sectors > most || sectors == open.len() as u64 {
            return false;
        }
        for at in open.into_iter().rev() {
            let whole = self.compared.stretches[at].clone();
            let one = |index| Stretch { first: whole.first + index, count: 1, ..whole.clone() };
            let groups = vec![self.groups[at].clone(); whole.count as usize];
            self.compared.stretches.splice(at..=at, (0..whole.count).map(one));
            self.groups.splice(at..=at, groups);
        }
        true
    }

    /// Chooses by the digest that a list has of the whole; if no way of taking whole stretches has it, by single sectors.
    ///
    /// # Errors
    /// What reading fails with.
    pub(super) fn by_whole(&mut self, wholes: &[Whole], copies: &[Copy], setting: &Setting<'_>) -> Result<()> {
        self.whole = self.try_wholes(wholes, copies, setting)?;
        if self.whole.is_none() && self.split(self.open(), MOST_SPLIT_WHOLE) {
            self.whole = self.try_wholes(wholes, copies, setting)?;
        }
        if self.whole.is_none() {
            self.unsolved.extend(wholes.iter().take(3).map(|whole| whole.name.clone()));
        }
        Ok(())
    }

    /// Stretches that nothing has proven yet, and of which there is a choice.
    fn open(&self) -> Vec<usize> {
        let is_proven = |at: &usize| self.groups[*at].as_ref().is_some_and(|(_, by)| by.is_proof());
        (0..self.groups.len()).filter(|at| !is_proven(at) && self.compared.stretches[*at].groups.len() > 1).collect()
    }

    /// The entry of a list that one way of choosing gives. A CRC-32 is put together of those of the blocks, so that very many ways
    /// are tried without reading; the strongest digest is asked when it is written.
    fn try_wholes(&mut self, wholes: &[Whole], copies: &[Copy], setting: &Setting<'_>) -> Result<Option<Whole>> {
        let crc = |whole: &Whole| {
            let own = whole.digests.iter().find(|d| d.algorithm == Algorithm::Crc32)?;
            Some(u32::from_be_bytes(own.bytes.as_slice().try_into().ok()?))
        };
        let (with, without): (Vec<&Whole>, Vec<&Whole>) = wholes.iter().partition(|whole| crc(whole).is_some());
        let open = self.open();
        if !with.is_empty() {
            let pieces = self.pieces(copies, setting)?;
            for way in self.ways(&open, copies.len()).take(MOST_BY_CRC) {
                watch::check(setting.watch)?;
                let found = self.crc(&pieces, &open, &way);
                if let Some(whole) = with.iter().find(|whole| crc(whole) == Some(found)) {
                    self.choose(&open, way, &whole.name);
                    return Ok(Some((*whole).clone()));
                }
            }
        }
        if without.is_empty() { Ok(None) } else { self.by_reading(&without, &open, copies, setting) }
    }

    /// The same for lists without CRC-32: each way is read whole.
    fn by_reading(
        &mut self,
        wholes: &[&Whole],
        open: &[usize],
        copies: &[Copy],
        setting: &Setting<'_>,
    ) -> Result<Option<Whole>> {
        let mut algorithms: Vec<Algorithm> = Vec::new();
        for digest in wholes.iter().filter_map(|whole| whole.strongest()) {
            if !algorithms.contains(&digest.algorithm) {
                algorithms.push(digest.algorithm);
            }
        }
        let most = (MOST_HASHED / self.compared.len.max(1)).clamp(1, MOST_TRIED as u64) as usize;
        for way in self.ways(open, copies.len()).take(most) {
            watch::check(setting.watch)?;
            let found = match of_source(&self.dump(open, &way, copies)?, &algorithms, setting.watch) {
                Ok(found) => found,
                Err(e @ (Error::Cancelled | Error::Io { .. })) => return Err(e),
                // What cannot be read is not right.
                Err(_) => continue,
            };
            let is_it = |whole: &&&Whole| whole.strongest().is_some_and(|digest| found.contains(digest));
            if let Some(whole) = wholes.iter().find(is_it) {
                self.choose(open, way, &whole.name);
                return Ok(Some((*whole).clone()));
            }
        }
        Ok(None)
    }

    /// The dump as pieces with their CRC-32: of a stretch one for each group.
    fn pieces(&self, copies: &[Copy], setting: &Setting<'_>) -> Result<Vec<Piece>> {
        let mut pieces = Vec::new();
        let mut at = 0;
        let base = copies.iter().position(|copy| copy.source.len() == self.compared.len).unwrap_or(0);
        let read = |copy: usize, from: u64, to: u64| -> Result<u32> {
            let mut hasher = Hasher::new();
            let mut from = from;
            while from < to {
                watch::check(setting.watch)?;
                let here = (to - from).min(self.compared.block);
                hasher.update(&read_vec(copies[copy].source.as_ref(), from, here, "a stretch", u64::MAX)?);
                from += here;
            }
            Ok(hasher.finalize())
        };
        let same = |from: u64, to: u64, pieces: &mut Vec<Piece>| -> Result<()> {
            let mut from = from;
            while from < to {
                let number = from / self.compared.block;
                let end = ((number + 1) * self.compared.block).min(self.compared.len);
                let is_whole = from == number * self.compared.block && end <= to;
                let known = self.compared.blocks.get(number as usize).copied().flatten().filter(|_| is_whole);
                let end = end.min(to);
                let crc = match known {
                    Some(crc) => crc,
                    None => read(base, from, end)?,
                };
                join(pieces, end - from, crc);
                from = end;
            }
            Ok(())
        };
        for (index, stretch) in self.compared.stretches.iter().enumerate() {
            let span = self.compared.span(stretch);
            same(at, span.start, &mut pieces)?;
            let crcs = match stretch.groups.is_empty() {
                true => vec![0],
                false => stretch.groups.iter().map(|g| read(g[0], span.start, span.end)).collect::<Result<Vec<_>>>()?,
            };
            pieces.push(Piece { len: span.end - span.start, crcs, stretch: Some(index) });
            at = span.end;
        }
        same(at, self.compared.len, &mut pieces)?;
        Ok(pieces)
    }

    fn crc(&self, pieces: &[Piece], open: &[usize], way: &[usize]) -> u32 {
        let mut whole = Hasher::new();
        for piece in pieces {
            let group = match piece.stretch {
                None => 0,
                Some(stretch) => match open.binary_search(&stretch) {
                    Ok(at) => way[at],
                    Err(_) => self.groups[stretch].as_ref().map_or(0, |(group, _)| *group),
                },
            };
            whole.combine(&Hasher::new_with_initial_len(piece.crcs[group.min(piece.crcs.len() - 1)], piece.len));
        }
        whole.finalize()
    }

    /// Where nothing proves anything, takes what more copies have than have anything else.
    pub(super) fn by_majority(&mut self) {
        for (stretch, chosen) in self.compared.stretches.iter().zip(&mut self.groups) {
            if chosen.is_some() || stretch.groups.len() < 2 {
                continue;
            }
            let (first, second) = (stretch.groups[0].len(), stretch.groups[1].len());
            if first > second && first > 1 {
                *chosen = Some((0, By::Majority));
            }
        }
    }
}

/// Adds what all copies have: what follows on more of it becomes one piece, so that trying a way takes no longer for a longer dump.
fn join(pieces: &mut Vec<Piece>, len: u64, crc: u32) {
    match pieces.last_mut() {
        Some(last) if last.stretch.is_none() => {
            let mut joined = Hasher::new_with_initial_len(last.crcs[0], last.len);
            joined.combine(&Hasher::new_with_initial_len(crc, len));
            (last.len, last.crcs[0]) = (last.len + len, joined.finalize());
        }
        _ => pieces.push(Piece { len, crcs: vec![crc], stretch: None }),
    }
}

/// A piece of a dump.
struct Piece {
    len: u64,
    /// One for each group of a stretch; of what all copies have, one.
    crcs: Vec<u32>,
    stretch: Option<usize>,
}

/// Every way of choosing a group for each of some stretches: first one copy for all of them, for each copy, as that is likeliest;
/// then all others.
struct Ways {
    stretches: Vec<Vec<Vec<usize>>>,
    copies: usize,
    at_copy: usize,
    counter: Option<Vec<usize>>,
}

impl Ways {
    fn new(stretches: Vec<Vec<Vec<usize>>>, copies: usize) -> Self {
        let counter = Some(vec![0; stretches.len()]);
        Self { stretches, copies, at_copy: 0, counter }
    }
}

impl Iterator for Ways {
    type Item = Vec<usize>;

    fn next(&mut self) -> Option<Vec<usize>> {
        if self.at_copy < self.copies {
            let copy = self.at_copy;
            self.at_copy += 1;
            let group = |groups: &Vec<Vec<usize>>| groups.iter().position(|g| g.contains(&copy)).unwrap_or(0);
            return Some(self.stretches.iter().map(group).collect());
        }
        let now = self.counter.clone()?;
        let counter = self.counter.as_mut()?;
        let mut is_over = true;
        for (digit, groups) in counter.iter_mut().zip(&self.stretches) {
            *digit += 1;
            if *digit < groups.len() {
                is_over = false;
                break;
            }
            *digit = 0;
        }
        if is_over {
            self.counter = None;
        }
        Some(now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_way_is_tried_and_single_copies_come_first() {
        let two = vec![vec![0], vec![1]];
        let three = vec![vec![1], vec![0], vec![2]];
        let ways: Vec<Vec<usize>> = Ways::new(vec![two, three], 3).collect();
        assert_eq!(ways[..3], [vec![0, 1], vec![1, 0], vec![0, 2]]);
        let mut all = ways[3..].to_vec();
        all.sort();
        all.dedup();
        assert_eq!((ways.len(), all.len()), (9, 6));
        assert_eq!(Ways::new(Vec::new(), 1).count(), 2);
    }
}
