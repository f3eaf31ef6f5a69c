//! Copies held against each other, on all processors at once: which sectors they agree on, which each of them lacks, and where they
//! differ.

use super::copies::{Copy, unit_of};
use crate::{Setting, grouped};
use crc32fast::Hasher;
use decanter_core::threads::{self, Shares};
use decanter_core::{Error, Result, watch};
use decanter_formats::optical::cd::sector::{self, RAW};
use std::collections::BTreeMap;
use std::ops::Range;
use std::panic::resume_unwind;
use std::sync::{Mutex, PoisonError};

/// Bytes of each copy that are compared at once, about.
const BLOCK: u64 = 4 << 20;
/// Bytes of each copy that are held at once while all agree: they stay in the cache of a processor.
const NEAR: u64 = 128 << 10;
/// Blocks that are held at once, of all copies together.
const MOST_BLOCKS: usize = 16;
/// Of all sectors that are compared, one of so many may differ before they are taken for dumps of different things.
const LEAST_SHARE: u64 = 20;
/// Stretches in which copies differ.
const MOST_STRETCHES: usize = 100_000;

/// Sectors that stand beside each other, and that the same copies have in the same ways.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Stretch {
    pub(super) first: u64,
    pub(super) count: u64,
    /// Copies that have the same bytes there, the largest group first; what no copy has is no group.
    pub(super) groups: Vec<Vec<usize>>,
    /// The group whose sectors hold by their own parities, where no other does.
    pub(super) proven: Option<usize>,
}

/// What comparing has shown.
#[derive(Default)]
pub(super) struct Compared {
    /// Bytes of the longest copy.
    pub(super) len: u64,
    /// Bytes of a sector.
    pub(super) unit: u64,
    /// Where not all copies have the same.
    pub(super) stretches: Vec<Stretch>,
    /// CRC-32 of each block in which all copies agree.
    pub(super) blocks: Vec<Option<u32>>,
    /// Bytes of a block.
    pub(super) block: u64,
    /// How many sectors each copy lacks.
    pub(super) missing: Vec<u64>,
}

impl Compared {
    /// The bytes that a stretch takes.
    pub(super) fn span(&self, stretch: &Stretch) -> Range<u64> {
        stretch.first * self.unit..((stretch.first + stretch.count) * self.unit).min(self.len)
    }
}

/// Compares all copies, in one read of each.
///
/// # Errors
/// When they are of different things; [`Error::Cancelled`].
pub(super) fn compare(copies: &[Copy], setting: &Setting<'_>) -> Result<Compared> {
    let len = copies.iter().map(|copy| copy.source.len()).max().unwrap_or(0);
    let unit = unit_of(copies);
    let block = BLOCK / unit * unit;
    let compared =
        Compared { len, unit, stretches: Vec::new(), blocks: Vec::new(), block, missing: vec![0; copies.len()] };
    setting.watch.begin("comparing the copies", Some(len));
    let sum = Mutex::new(Sum { compared, ..Sum::default() });
    let shares = Shares::new(len.div_ceil(block), 1);
    // What is unpacked from front to back is read in order, and by one; the copies of a block at the same time then.
    let is_in_order = copies.iter().any(|copy| copy.source.prefers_sequential());
    let most = if is_in_order { 1 } else { MOST_BLOCKS / copies.len() };
    threads::on_some(most, || {
        let mut buffers: Vec<Vec<u8>> = vec![Vec::new(); copies.len()];
        for share in &shares {
            for number in share {
                watch::check(setting.watch)?;
                let look = Look { copies, unit, at: number * block, len: block.min(len - number * block) };
                let found = look.look(&mut buffers, is_in_order, setting)?;
                setting.watch.advance(look.len);
                sum.lock().unwrap_or_else(PoisonError::into_inner).add(number, found)?;
            }
        }
        Ok(())
    })?;
    setting.watch.end();
    let sum = sum.into_inner().unwrap_or_else(PoisonError::into_inner);
    sum.judge()?;
    Ok(sum.compared)
}

/// What one block has shown.
#[derive(Default)]
struct Found {
    /// CRC-32 of what all copies have.
    crc: Option<u32>,
    stretches: Vec<Stretch>,
    missing: Vec<u64>,
    tally: Tally,
}

/// How many sectors were compared, and how many of them differ.
#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    compared: u64,
    differing: u64,
    first: Option<u64>,
}

/// What all blocks have shown, put together in their order.
#[derive(Default)]
struct Sum {
    compared: Compared,
    tally: Tally,
    /// Those that are ready before what comes before them.
    early: BTreeMap<u64, Found>,
}

impl Sum {
    /// Adds what a block has shown.
    ///
    /// # Errors
    /// When copies differ in more places than copies of one thing ever do.
    fn add(&mut self, number: u64, found: Found) -> Result<()> {
        self.early.insert(number, found);
        while let Some(next) = self.early.remove(&(self.compared.blocks.len() as u64)) {
            self.compared.blocks.push(next.crc);
            for (all, own) in self.compared.missing.iter_mut().zip(&next.missing) {
                *all += own;
            }
            next.stretches.into_iter().for_each(|stretch| join(&mut self.compared.stretches, stretch));
            self.tally.compared += next.tally.compared;
            self.tally.differing += next.tally.differing;
            self.tally.first = self.tally.first.or(next.tally.first);
        }
        match self.compared.stretches.len() > MOST_STRETCHES {
            true => Err(self.strangers()),
            false => Ok(()),
        }
    }

    fn strangers(&self) -> Error {
        let text = format!(
            "these are no copies of the same: sector {} is the first that differs, {} of {} do",
            grouped(self.tally.first.unwrap_or(0)),
            grouped(self.tally.differing),
            grouped(self.tally.compared)
        );
        Error::WrongDescription { text }
    }

    /// Fails for dumps of different things.
    fn judge(&self) -> Result<()> {
        if self.tally.compared == 0 && self.compared.len > 0 {
            let text = "no sector is in two copies, so nothing shows that they are of the same".into();
            return Err(Error::WrongDescription { text });
        }
        match self.tally.differing > 64 && self.tally.differing * LEAST_SHARE > self.tally.compared {
            true => Err(self.strangers()),
            false => Ok(()),
        }
    }
}

/// Adds a stretch; one that goes on with the last makes it longer.
fn join(stretches: &mut Vec<Stretch>, next: Stretch) {
    match stretches.last_mut() {
        Some(last)
            if last.first + last.count == next.first && last.groups == next.groups && last.proven == next.proven =>
        {
            last.count += next.count;
        }
        _ => stretches.push(next),
    }
}

/// A block that is looked at.
struct Look<'a> {
    copies: &'a [Copy],
    unit: u64,
    at: u64,
    len: u64,
}

impl Look<'_> {
    /// Compares the block, and sector by sector if not all copies have the same.
    fn look(&self, buffers: &mut [Vec<u8>], is_at_once: bool, setting: &Setting<'_>) -> Result<Found> {
        if !is_at_once && let Some(crc) = self.agreed(buffers)? {
            let tally = Tally { compared: self.len.div_ceil(self.unit), ..Tally::default() };
            return Ok(Found { crc: Some(crc), tally, ..Found::default() });
        }
        let read = self.read_all(buffers, is_at_once)?;
        watch::check(setting.watch)?;
        let is_whole = read.iter().all(|has| *has) && self.copies.iter().all(|copy| copy.item.unfinished.is_none());
        if is_whole && buffers[1..].iter().all(|other| *other == buffers[0]) {
            let tally = Tally { compared: self.len.div_ceil(self.unit), ..Tally::default() };
            return Ok(Found { crc: Some(crc32fast::hash(&buffers[0])), tally, ..Found::default() });
        }
        self.closely(buffers, &read, setting)
    }

    /// The CRC-32 of the block where all copies have the same, read piece by piece; `None` as soon as one has something else.
    fn agreed(&self, buffers: &mut [Vec<u8>]) -> Result<Option<u32>> {
        let has_all = |copy: &Copy| copy.item.unfinished.is_none() && copy.source.len() >= self.at + self.len;
        if !self.copies.iter().all(has_all) {
            return Ok(None);
        }
        let (mut crc, mut at) = (Hasher::new(), 0);
        while at < self.len {
            let here = NEAR.min(self.len - at) as usize;
            for (copy, buffer) in self.copies.iter().zip(&mut *buffers) {
                buffer.resize(here, 0);
                match copy.source.read_at(self.at + at, buffer) {
                    Ok(()) => {}
                    Err(Error::Cancelled) => return Err(Error::Cancelled),
                    // Which sectors it has is asked one by one.
                    Err(_) => return Ok(None),
                }
            }
            if buffers[1..].iter().any(|other| *other != buffers[0]) {
                return Ok(None);
            }
            crc.update(&buffers[0]);
            at += here as u64;
        }
        Ok(Some(crc.finalize()))
    }

    /// Reads the block of all copies; which of them have all of it.
    fn read_all(&self, buffers: &mut [Vec<u8>], is_at_once: bool) -> Result<Vec<bool>> {
        let read = |(copy, buffer): (&Copy, &mut Vec<u8>)| -> Result<bool> {
            let there = copy.source.len().saturating_sub(self.at).min(self.len);
            buffer.resize(there as usize, 0);
            match copy.source.read_at(self.at, buffer) {
                Ok(()) => Ok(there == self.len),
                Err(Error::Cancelled) => Err(Error::Cancelled),
                // It is one of the bad copies; which sectors it has is asked one by one.
                Err(_) => Ok(false),
            }
        };
        let pairs = self.copies.iter().zip(buffers);
        if !is_at_once {
            return pairs.map(read).collect();
        }
        std::thread::scope(|scope| {
            let all: Vec<_> = pairs.map(|pair| scope.spawn(|| read(pair))).collect();
            all.into_iter().map(|one| one.join().unwrap_or_else(|panic| resume_unwind(panic))).collect()
        })
    }

    /// Goes through the block sector by sector.
    fn closely(&self, buffers: &[Vec<u8>], read: &[bool], setting: &Setting<'_>) -> Result<Found> {
        let mut found = Found { missing: vec![0; self.copies.len()], ..Found::default() };
        let mut own: Vec<Option<Vec<u8>>> = vec![None; self.copies.len()];
        for index in 0..self.len.div_ceil(self.unit) {
            watch::check(setting.watch)?;
            let unit = self.at / self.unit + index;
            let from = index * self.unit;
            let size = self.unit.min(self.len - from);
            for (number, copy) in self.copies.iter().enumerate() {
                let is_in = self.at + from + size <= copy.source.len() && copy.has_read(unit);
                own[number] = match (is_in, read[number]) {
                    (false, _) => None,
                    (true, true) => Some(buffers[number][from as usize..(from + size) as usize].to_vec()),
                    // Something in the block cannot be read; this sector may be.
                    (true, false) => {
                        let mut bytes = vec![0; size as usize];
                        match copy.source.read_at(self.at + from, &mut bytes) {
                            Ok(()) => Some(bytes),
                            Err(Error::Cancelled) => return Err(Error::Cancelled),
                            Err(_) => None,
                        }
                    }
                };
                found.missing[number] += u64::from(own[number].is_none());
            }
            self.settle_unit(unit, &own, &mut found);
        }
        Ok(found)
    }

    fn settle_unit(&self, unit: u64, own: &[Option<Vec<u8>>], found: &mut Found) {
        let mut groups: Vec<Vec<usize>> = Vec::new();
        for (number, bytes) in own.iter().enumerate().filter(|(_, bytes)| bytes.is_some()) {
            match groups.iter_mut().find(|group| own[group[0]] == *bytes) {
                Some(group) => group.push(number),
                None => groups.push(vec![number]),
            }
        }
        let have = groups.iter().map(Vec::len).sum::<usize>();
        found.tally.compared += u64::from(have > 1);
        if groups.len() > 1 {
            found.tally.differing += 1;
            found.tally.first.get_or_insert(unit);
        }
        if groups.len() == 1 && have == own.len() {
            return;
        }
        groups.sort_by_key(|group| (std::cmp::Reverse(group.len()), group[0]));
        let holds = |group: &Vec<usize>| {
            let bytes = own[group[0]].as_deref().unwrap_or_default();
            self.unit == RAW as u64
                && bytes.len() == RAW
                && bytes[..12] == sector::SYNC
                && !sector::check(bytes, None).any()
        };
        let holding: Vec<usize> = (0..groups.len()).filter(|g| groups.len() > 1 && holds(&groups[*g])).collect();
        let proven = match holding[..] {
            [one] => Some(one),
            _ => None,
        };
        join(&mut found.stretches, Stretch { first: unit, count: 1, groups, proven });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stretch(first: u64, count: u64, groups: &[&[usize]]) -> Stretch {
        Stretch { first, count, groups: groups.iter().map(|group| group.to_vec()).collect(), proven: None }
    }

    fn sum(blocks: &[(u64, Vec<Stretch>)]) -> Result<Sum> {
        let mut sum = Sum {
            compared: Compared { len: 1 << 20, unit: 512, missing: vec![0; 2], ..Compared::default() },
            ..Sum::default()
        };
        for (number, stretches) in blocks {
            let tally =
                Tally { compared: 100, differing: stretches.len() as u64, first: stretches.first().map(|s| s.first) };
            let missing = vec![0, *number];
            sum.add(*number, Found { crc: Some(*number as u32), stretches: stretches.clone(), missing, tally })?;
        }
        Ok(sum)
    }

    #[test]
    fn blocks_are_put_together_in_their_order_whichever_comes_first() {
        let apart: [&[usize]; 2] = [&[0], &[1]];
        let blocks = [
            (0, vec![stretch(6, 2, &apart)]),
            (1, vec![stretch(8, 1, &apart), stretch(9, 1, &[&[1]])]),
            (2, vec![stretch(20, 1, &apart)]),
        ];
        for order in [[0, 1, 2], [2, 1, 0], [1, 2, 0]] {
            let sum = sum(&order.map(|number| blocks[number].clone())).unwrap();
            let wanted = [stretch(6, 3, &apart), stretch(9, 1, &[&[1]]), stretch(20, 1, &apart)];
            assert_eq!(sum.compared.stretches, wanted, "{order:?}");
            assert_eq!(sum.compared.blocks, [Some(0), Some(1), Some(2)]);
            assert_eq!((sum.compared.missing, sum.tally.first, sum.tally.differing), (vec![0, 3], Some(6), 4));
        }
    }

    #[test]
    fn copies_that_differ_too_often_are_of_different_things() {
        let many = |count: u64| (0..count).map(|n| stretch(n * 2, 1, &[&[0], &[1]])).collect::<Vec<_>>();
        assert!(sum(&[(0, many(64))]).unwrap().judge().is_ok());
        let told = sum(&[(0, many(70))]).unwrap().judge().unwrap_err().to_string();
        assert!(told.contains("no copies of the same") && told.contains("70 of 100"), "{told}");
        // So many that nobody waits for the end.
        assert!(sum(&[(0, many(MOST_STRETCHES as u64 + 1))]).is_err());
        let nothing = Sum { compared: Compared { len: 5, ..Compared::default() }, ..Sum::default() };
        assert!(nothing.judge().unwrap_err().to_string().contains("no sector is in two copies"));
    }
}
