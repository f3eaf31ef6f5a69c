//! Copies of one dump, held against each other: which sectors they agree on, which each of them lacks, and where they differ.

use crate::{Failure, Item, Setting, grouped, locate};
use decanter_core::error::Blame;
use decanter_core::source::SourceRef;
use decanter_core::view::{Concat, Slice};
use decanter_core::{Error, Result, SECTOR, watch};
use decanter_formats::optical::cd::sector::{self, RAW};
use std::ops::Range;
use std::sync::Arc;

/// The most copies.
pub(super) const MOST_COPIES: usize = 16;
/// Bytes of each copy that are compared at once, about.
const BLOCK: u64 = 4 << 20;
/// Of all sectors that are compared, one of so many may differ before they are taken for dumps of different things.
const LEAST_SHARE: u64 = 20;
/// Stretches in which copies differ.
const MOST_STRETCHES: usize = 100_000;

/// A copy.
pub(super) struct Copy {
    /// As it was typed.
    pub(super) shown: String,
    pub(super) item: Item,
    pub(super) source: SourceRef,
}

impl Copy {
    /// Opens a copy: its bytes, whatever packs them.
    ///
    /// # Errors
    /// When it has none.
    pub(super) fn open(shown: &str, setting: &Setting<'_>) -> std::result::Result<Self, Failure> {
        let item = match locate::open(shown, "repair", setting) {
            // What is too damaged to be known is still a copy.
            Err(f) if f.blame() == Blame::Source => locate::open_lightly(shown, "repair", setting)?,
            opened => opened?,
        };
        let source = item.source.clone().ok_or_else(|| {
            Failure::usage(format!("cannot repair \"{shown}\""), "it is a folder: copies are files")
                .hint("give the images themselves")
        })?;
        Ok(Self { shown: shown.to_owned(), item, source })
    }

    /// Whether a sector of a dump that is not finished was read.
    fn has_read(&self, unit: u64) -> bool {
        self.item.unfinished.as_ref().is_none_or(|map| map.state_of(unit).is_content())
    }
}

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

/// Bytes of a sector of what copies are of.
fn unit_of(copies: &[Copy]) -> u64 {
    let is_raw = copies.iter().any(|copy| {
        let tracks = &copy.item.opened.holds.tracks;
        !tracks.is_empty() && tracks.iter().all(|track| track.sector_len == RAW as u64)
    });
    match is_raw {
        true => RAW as u64,
        false if copies.iter().any(|c| c.item.opened.identity.role.is_image()) => SECTOR,
        // What has no sectors is compared in small pieces.
        false => 512,
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
    let mut own =
        Compared { len, unit, stretches: Vec::new(), blocks: Vec::new(), block, missing: vec![0; copies.len()] };
    let mut tally = Tally::default();
    setting.watch.begin("comparing the copies", Some(len));
    let mut buffers: Vec<Vec<u8>> = vec![Vec::new(); copies.len()];
    let mut at = 0;
    while at < len {
        watch::check(setting.watch)?;
        let here = block.min(len - at);
        let read = read_all(copies, at, here, &mut buffers, setting)?;
        let is_whole = read.iter().all(|has| *has) && copies.iter().all(|copy| copy.item.unfinished.is_none());
        if is_whole && buffers[1..].iter().all(|other| *other == buffers[0]) {
            own.blocks.push(Some(crc32fast::hash(&buffers[0])));
            tally.compared += here.div_ceil(unit);
        } else {
            own.blocks.push(None);
            own.look_closely(copies, at, here, &buffers, &read, &mut tally, setting)?;
        }
        setting.watch.advance(here);
        at += here;
    }
    setting.watch.end();
    tally.judge(&own)?;
    Ok(own)
}

/// How many sectors were compared, and how many of them differ.
#[derive(Default)]
struct Tally {
    compared: u64,
    differing: u64,
    first: Option<u64>,
}

impl Tally {
    /// Fails for dumps of different things.
    fn judge(&self, compared: &Compared) -> Result<()> {
        let wrong = |text: String| Err(Error::WrongDescription { text });
        if self.compared == 0 && compared.len > 0 {
            return wrong("no sector is in two copies, so nothing shows that they are of the same".into());
        }
        if self.differing > 64 && self.differing * LEAST_SHARE > self.compared
            || compared.stretches.len() > MOST_STRETCHES
        {
            return wrong(format!(
                "these are no copies of the same: sector {} is the first that differs, {} of {} do",
                grouped(self.first.unwrap_or(0)),
                grouped(self.differing),
                grouped(self.compared)
            ));
        }
        Ok(())
    }
}

/// Reads the same bytes of all copies at once; which of them could be read as a whole.
fn read_all(copies: &[Copy], at: u64, len: u64, buffers: &mut [Vec<u8>], setting: &Setting<'_>) -> Result<Vec<bool>> {
    let read = |copy: &Copy, buffer: &mut Vec<u8>| -> Result<bool> {
        let there = copy.source.len().saturating_sub(at).min(len);
        buffer.resize(there as usize, 0);
        match copy.source.read_at(at, buffer) {
            Ok(()) => Ok(there == len),
            Err(Error::Cancelled) => Err(Error::Cancelled),
            Err(_) => Ok(false),
        }
    };
    let all = std::thread::scope(|scope| {
        let others: Vec<_> = (copies.iter().zip(buffers.iter_mut()).skip(1))
            .map(|(copy, buffer)| scope.spawn(move || read(copy, buffer)))
            .collect::<Vec<_>>();
        let joined: Vec<Result<bool>> = others
            .into_iter()
            .map(|other| other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            .collect();
        joined
    });
    let mut has = vec![read(&copies[0], &mut buffers[0])?];
    for one in all {
        has.push(one?);
    }
    watch::check(setting.watch)?;
    Ok(has)
}

impl Compared {
    /// Goes through a block sector by sector.
    #[expect(clippy::too_many_arguments, reason = "what was read, and what is counted")]
    fn look_closely(
        &mut self,
        copies: &[Copy],
        at: u64,
        len: u64,
        buffers: &[Vec<u8>],
        read: &[bool],
        tally: &mut Tally,
        setting: &Setting<'_>,
    ) -> Result<()> {
        let mut own: Vec<Option<Vec<u8>>> = vec![None; copies.len()];
        let first = at / self.unit;
        for index in 0..len.div_ceil(self.unit) {
            watch::check(setting.watch)?;
            let unit = first + index;
            let from = index * self.unit;
            let size = self.unit.min(len - from);
            for (number, copy) in copies.iter().enumerate() {
                let is_in = at + from + size <= copy.source.len() && copy.has_read(unit);
                own[number] = match (is_in, read[number]) {
                    (false, _) => None,
                    (true, true) => Some(buffers[number][from as usize..(from + size) as usize].to_vec()),
                    // Something in the block cannot be read; this sector may be.
                    (true, false) => {
                        let mut bytes = vec![0; size as usize];
                        copy.source.read_at(at + from, &mut bytes).is_ok().then_some(bytes)
                    }
                };
                self.missing[number] += u64::from(own[number].is_none());
            }
            self.settle_unit(unit, &own, tally);
        }
        Ok(())
    }

    fn settle_unit(&mut self, unit: u64, own: &[Option<Vec<u8>>], tally: &mut Tally) {
        let mut groups: Vec<Vec<usize>> = Vec::new();
        for (number, bytes) in own.iter().enumerate().filter(|(_, bytes)| bytes.is_some()) {
            match groups.iter_mut().find(|group| own[group[0]] == *bytes) {
                Some(group) => group.push(number),
                None => groups.push(vec![number]),
            }
        }
        let have = groups.iter().map(Vec::len).sum::<usize>();
        tally.compared += u64::from(have > 1);
        if groups.len() > 1 {
            tally.differing += 1;
            tally.first.get_or_insert(unit);
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
        match self.stretches.last_mut() {
            Some(last) if last.first + last.count == unit && last.groups == groups && last.proven == proven => {
                last.count += 1;
            }
            _ => self.stretches.push(Stretch { first: unit, count: 1, groups, proven }),
        }
    }
}

/// The dump that comes of choosing a copy for each stretch; where nothing differs, that is the first that is long enough.
///
/// # Errors
/// When a copy is too short for what is taken from it.
pub(super) fn assembled(copies: &[Copy], compared: &Compared, chosen: &[Option<usize>]) -> Result<SourceRef> {
    let base = copies.iter().position(|copy| copy.source.len() == compared.len).unwrap_or(0);
    let mut parts: Vec<(usize, Range<u64>)> = Vec::new();
    let mut add = |copy: usize, span: Range<u64>| match parts.last_mut() {
        _ if span.is_empty() => {}
        Some(last) if last.0 == copy && last.1.end == span.start => last.1.end = span.end,
        _ => parts.push((copy, span)),
    };
    let mut at = 0;
    for (stretch, copy) in compared.stretches.iter().zip(chosen) {
        let span = compared.span(stretch);
        add(base, at..span.start);
        at = span.end;
        add(copy.unwrap_or(base), span);
    }
    add(base, at..compared.len);
    if let [(only, span)] = parts.as_slice()
        && *span == (0..copies[*only].source.len())
    {
        return Ok(copies[*only].source.clone());
    }
    let slice = |(copy, span): (usize, Range<u64>)| -> Result<SourceRef> {
        Ok(Arc::new(Slice::new(copies[copy].source.clone(), span.start, span.end - span.start)?))
    };
    Ok(Arc::new(Concat::new(parts.into_iter().map(slice).collect::<Result<Vec<_>>>()?)?))
}
