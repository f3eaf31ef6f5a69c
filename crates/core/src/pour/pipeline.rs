//! Bytes on the move: some threads read and decrypt, one takes the blocks in order, others hash.
//!
//! Memory is bounded by a pool of blocks. A reader takes its block from the pool *before* it takes the next
//! step, so the earliest unread step always has one and nothing can wait in a circle. A block is a loan: it goes
//! home when it is dropped, whoever drops it. Nobody waits for one thing only: whoever waits also sees the end.

use crate::error::Result;
use crate::source::{Place, SourceRef};
use crate::transform::Transform;
use crate::watch::{self, Watch};
use crossbeam_channel::{Receiver, Sender, bounded, select_biased};
use std::collections::BTreeMap;
use std::fs::File;
use std::ops::Range;
use std::sync::{Arc, Mutex};
use std::thread;

/// Bytes in a block: large enough for the disk, a multiple of every sector size.
pub const BLOCK: usize = 1 << 20;
/// Bytes in a block of a small plan: there is not enough to do to make up for memory that is touched for the first time.
const SMALL_BLOCK: usize = 256 << 10;
/// Bytes of the largest small plan.
const SMALL_PLAN: u64 = 64 << 20;
/// Blocks in the pool of one pipeline: enough for every reader and consumer to hold one, few enough to stay in the
/// processor's cache.
const POOL: usize = 8;
/// Pieces that may wait for one consumer.
const QUEUE: usize = 3;
/// Bytes that the kernel is asked to copy, or a fill to stand for, at once: between two of them the user may stop.
const LONG_STEP: u64 = 16 << 20;
/// Threads that read at most; more of them only wait for the one that writes.
const MOST_READERS: usize = 4;

/// Memory on loan from the pool: it goes home when it is dropped.
struct Loan {
    bytes: Vec<u8>,
    home: Sender<Vec<u8>>,
}

impl Drop for Loan {
    fn drop(&mut self) {
        // There is a place in the pool for every loan, so this never waits; of a pool that is gone it is simply freed.
        let _ = self.home.try_send(std::mem::take(&mut self.bytes));
    }
}

/// Bytes that were read, on loan from the pool.
pub struct Block {
    stored: Loan,
    clear: Option<Vec<u8>>,
    len: usize,
}

impl Block {
    /// The bytes as the source has them.
    pub fn stored(&self) -> &[u8] {
        &self.stored.bytes[..self.len]
    }

    /// The bytes after the plan's transform; the same where there is none.
    pub fn clear(&self) -> &[u8] {
        self.clear.as_ref().map_or(&self.stored.bytes, |c| c)[..self.len].as_ref()
    }
}

/// A piece of an output, in order.
#[derive(Clone)]
pub struct Piece {
    /// Byte offset in the output.
    pub at: u64,
    /// Number of the part it belongs to.
    pub part: usize,
    /// Its bytes.
    pub data: Data,
}

/// The bytes of a piece.
#[derive(Clone)]
pub enum Data {
    /// In memory.
    Block(Arc<Block>),
    /// So many bytes of one value.
    Fill(u8, u64),
    /// In a file, for the kernel to copy: file, offset, length.
    Kernel(Arc<File>, u64, u64),
}

impl Piece {
    /// Length in bytes.
    pub fn len(&self) -> u64 {
        match &self.data {
            Data::Block(b) => b.len as u64,
            Data::Fill(_, len) | Data::Kernel(_, _, len) => *len,
        }
    }

    /// True when it has no bytes.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Calls `take` with the transformed bytes, slice by slice. Pieces that the kernel copies have none: a plan
    /// makes them only when nobody wants to see the bytes.
    pub fn each_slice(&self, take: impl FnMut(&[u8])) {
        self.slices(Block::clear, take);
    }

    /// Calls `take` with the bytes as stored, slice by slice.
    pub fn each_stored_slice(&self, take: impl FnMut(&[u8])) {
        self.slices(Block::stored, take);
    }

    fn slices(&self, form: fn(&Block) -> &[u8], mut take: impl FnMut(&[u8])) {
        match &self.data {
            Data::Block(block) => take(form(block)),
            Data::Fill(byte, len) => {
                let chunk = [*byte; 1 << 14];
                let mut left = *len;
                while left > 0 {
                    let now = left.min(chunk.len() as u64);
                    take(&chunk[..now as usize]);
                    left -= now;
                }
            }
            Data::Kernel(..) => {}
        }
    }
}

/// Sees every piece, in order, on a thread of its own.
pub type Consumer<'a> = Box<dyn FnMut(&Piece) + Send + 'a>;

/// One source, or several one after the other, still to be read.
pub struct Plan {
    /// Part number, source, and the byte range of the source that is wanted.
    parts: Vec<(usize, SourceRef, Range<u64>)>,
    transform: Option<Arc<dyn Transform>>,
    /// True when every byte has to pass through memory, because somebody looks at it.
    look: bool,
    /// True when it has so little to read that small blocks do.
    is_small: bool,
    current: usize,
    into: u64,
    at: u64,
}

/// What a reader does next.
struct Step {
    at: u64,
    part: usize,
    source: SourceRef,
    offset: u64,
    len: u64,
    place: Place,
}

impl Plan {
    /// All bytes of the `parts`, given with their numbers, one after the other; the first stands at byte `at` of the
    /// output. With `look`, holes aside, every byte passes through memory.
    pub(crate) fn parts(parts: Vec<(usize, SourceRef)>, at: u64, look: bool) -> Self {
        let whole = |(n, s): (usize, SourceRef)| {
            let len = s.len();
            (n, s, 0..len)
        };
        let parts: Vec<_> = parts.into_iter().map(whole).collect();
        let is_small = parts.iter().map(|(_, _, r)| r.end - r.start).sum::<u64>() <= SMALL_PLAN;
        Self { parts, transform: None, look, is_small, current: 0, into: 0, at }
    }

    /// The bytes of `range` of one source, all through memory; pieces carry offsets in the source.
    pub fn over(source: SourceRef, range: Range<u64>) -> Self {
        let at = range.start;
        let is_small = range.end - range.start <= SMALL_PLAN;
        Self { parts: vec![(0, source, range)], transform: None, look: true, is_small, current: 0, into: 0, at }
    }

    /// The same, with each block also seen through `transform`. Sources of this kind have to begin and end on
    /// the transform's sector edges.
    pub fn with_transform(self, transform: Option<Arc<dyn Transform>>) -> Self {
        Self { transform, ..self }
    }

    /// Bytes in all.
    pub fn len(&self) -> u64 {
        self.parts.iter().map(|(_, _, r)| r.end - r.start).sum()
    }

    /// True when there is nothing to read.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn is_sequential(&self) -> bool {
        self.parts.iter().any(|(_, s, _)| s.prefers_sequential())
    }

    fn next_step(&mut self) -> Result<Option<Step>> {
        let block = if self.is_small { SMALL_BLOCK } else { BLOCK } as u64;
        loop {
            let Some((part, source, range)) = self.parts.get(self.current) else { return Ok(None) };
            let offset = range.start + self.into;
            if offset >= range.end {
                self.current += 1;
                self.into = 0;
                continue;
            }
            let extent = source.extent_at(offset)?.at_most(range.end - offset);
            let (place, most) = match extent.place {
                Place::Fill(byte) if self.keeps_fill(offset, extent.len) => (Place::Fill(byte), LONG_STEP),
                Place::File { file, offset } if !self.look => (Place::File { file, offset }, LONG_STEP),
                _ => (Place::Computed, block),
            };
            // Blocks of looked-at bytes keep to a grid, so that they begin on sector edges.
            let len = match place {
                Place::Computed => (range.end - offset).min(most - offset % most),
                Place::Fill(_) if self.transform.is_some() => extent.len.min(most) / BLOCK as u64 * BLOCK as u64,
                _ => extent.len.min(most),
            };
            let len = self.up_to_next_place(source, offset, len, &place)?;
            let step = Step { at: self.at, part: *part, source: source.clone(), offset, len, place };
            self.into += len;
            self.at += len;
            return Ok(Some(step));
        }
    }

    /// A computed step stops where something that need not pass through memory begins.
    fn up_to_next_place(&self, source: &SourceRef, offset: u64, len: u64, place: &Place) -> Result<u64> {
        if !matches!(place, Place::Computed) || self.transform.is_some() {
            return Ok(len);
        }
        let mut done = 0;
        while done < len {
            let extent = source.extent_at(offset + done)?;
            let apart = match extent.place {
                Place::Fill(_) => extent.len >= BLOCK as u64 / 4,
                Place::File { .. } => !self.look,
                Place::Computed => false,
            };
            if apart && done > 0 {
                return Ok(done);
            }
            done = done.saturating_add(extent.len);
        }
        Ok(len)
    }

    /// Whether a fill may stay one. Seen through a transform it may be anything; and where there is one, steps
    /// keep to the grid of blocks.
    fn keeps_fill(&self, offset: u64, len: u64) -> bool {
        match &self.transform {
            Some(t) => {
                offset.is_multiple_of(BLOCK as u64)
                    && len >= BLOCK as u64
                    && !t.touches(offset..offset + len.min(LONG_STEP))
            }
            None => true,
        }
    }
}

impl Step {
    fn perform(self, transform: Option<&dyn Transform>, mut stored: Loan) -> Result<Piece> {
        let data = match self.place {
            Place::Fill(byte) => Data::Fill(byte, self.len),
            Place::File { file, offset } => Data::Kernel(file, offset, self.len),
            Place::Computed => {
                let len = self.len as usize;
                if stored.bytes.len() < len {
                    stored.bytes.resize(len, 0);
                }
                self.source.read_at(self.offset, &mut stored.bytes[..len])?;
                let range = self.offset..self.offset + self.len;
                let clear = transform.filter(|t| t.touches(range)).map(|t| {
                    let mut clear = stored.bytes[..len].to_vec();
                    t.apply(self.offset, &mut clear);
                    clear
                });
                Data::Block(Arc::new(Block { stored, clear, len }))
            }
        };
        Ok(Piece { at: self.at, part: self.part, data })
    }
}

/// Runs a plan: calls `sink` with every piece in order, on the calling thread.
///
/// # Errors
/// The first error in the order of the output: of reading, of `sink`, or [`crate::Error::Cancelled`];
/// [`crate::Error::Io`] when no thread can be started.
pub fn run(plan: Plan, watch: &dyn Watch, sink: &mut dyn FnMut(Piece) -> Result<()>) -> Result<()> {
    let cores = crate::threads::available();
    // In a small plan the thread that writes is busy all the time: a processor is left to it.
    let spare = if plan.is_small { cores.saturating_sub(1) } else { cores };
    let readers = if plan.is_sequential() { 1 } else { spare.clamp(1, MOST_READERS) };
    run_on(readers, plan, watch, sink)
}

/// Whether a plan is not worth threads of its own, or may not have any.
fn is_inline(plan: &Plan) -> bool {
    plan.len() <= BLOCK as u64 || crate::threads::available() == 1
}

/// [`run`], with so many readers.
fn run_on(readers: usize, mut plan: Plan, watch: &dyn Watch, sink: &mut dyn FnMut(Piece) -> Result<()>) -> Result<()> {
    let (home, pool) = bounded(POOL);
    if is_inline(&plan) {
        while let Some(step) = plan.next_step()? {
            watch::check(watch)?;
            let loan = Loan { bytes: pool.try_recv().unwrap_or_default(), home: home.clone() };
            sink(step.perform(plan.transform.as_deref(), loan)?)?;
        }
        return Ok(());
    }
    for _ in 0..POOL {
        // Blocks grow to their size when they are first used.
        let _ = home.send(Vec::new());
    }
    let transform = plan.transform.clone();
    let steps = Mutex::new((0u64, plan));
    let (tx, rx) = bounded(POOL);
    // Nothing is ever sent here: that it closes is the end, which whoever waits for a block sees.
    let (going, ended) = bounded::<()>(0);
    thread::scope(|scope| {
        for _ in 0..readers {
            let reader = Reader { pool: pool.clone(), home: home.clone(), ended: ended.clone(), tx: tx.clone() };
            let (steps, transform) = (&steps, transform.as_deref());
            let started = thread::Builder::new().spawn_scoped(scope, move || reader.read(steps, transform));
            // The end is told by dropping `going`: readers that were started leave.
            started.map_err(|source| crate::Error::Io { op: "start a thread", path: None, offset: None, source })?;
        }
        drop(tx);
        let result = deliver(rx, watch, sink);
        drop(going);
        result
    })
}

type Numbered = (u64, Result<Piece>);

/// A thread that reads, and what it waits for.
struct Reader {
    pool: Receiver<Vec<u8>>,
    home: Sender<Vec<u8>>,
    ended: Receiver<()>,
    tx: Sender<Numbered>,
}

impl Reader {
    /// A block, or nothing once the end has come.
    fn borrow(&self) -> Option<Loan> {
        select_biased! {
            recv(self.ended) -> _ => None,
            recv(self.pool) -> bytes => Some(Loan { bytes: bytes.ok()?, home: self.home.clone() }),
        }
    }

    fn read(self, steps: &Mutex<(u64, Plan)>, transform: Option<&dyn Transform>) {
        while let Some(loan) = self.borrow() {
            let (number, step) = {
                let mut steps = steps.lock().unwrap_or_else(|e| e.into_inner());
                let number = steps.0;
                steps.0 += 1;
                (number, steps.1.next_step())
            };
            let piece = match step {
                Ok(Some(step)) => step.perform(transform, loan),
                Ok(None) => return,
                Err(e) => Err(e),
            };
            let failed = piece.is_err();
            if self.tx.send((number, piece)).is_err() || failed {
                return;
            }
        }
    }
}

/// Puts pieces back in order and hands them on.
fn deliver(rx: Receiver<Numbered>, watch: &dyn Watch, sink: &mut dyn FnMut(Piece) -> Result<()>) -> Result<()> {
    let mut early = BTreeMap::new();
    let mut next = 0;
    for (number, piece) in &rx {
        early.insert(number, piece);
        while let Some(piece) = early.remove(&next) {
            watch::check(watch)?;
            sink(piece?)?;
            next += 1;
        }
    }
    // Readers end after an error, so one that is left over stands behind a gap of its own making.
    early.into_values().try_for_each(|piece| piece.map(|_| ()))
}

/// Runs a plan, and shows every piece to each of the consumers before `sink` gets it. Consumers of more than
/// one block work on threads of their own; all have seen everything when this returns.
///
/// # Errors
/// As [`run`].
pub fn run_with<'c>(
    plan: Plan,
    mut consumers: Vec<Consumer<'c>>,
    watch: &dyn Watch,
    sink: &mut dyn FnMut(Piece) -> Result<()>,
) -> Result<()> {
    if consumers.is_empty() {
        return run(plan, watch, sink);
    }
    if is_inline(&plan) {
        return run(plan, watch, &mut |piece| {
            consumers.iter_mut().for_each(|c| c(&piece));
            sink(piece)
        });
    }
    thread::scope(|scope| {
        let mut lanes: Vec<Sender<Piece>> = Vec::new();
        for mut consumer in consumers {
            let (tx, rx) = bounded::<Piece>(QUEUE);
            let started =
                thread::Builder::new().spawn_scoped(scope, move || rx.iter().for_each(|piece| consumer(&piece)));
            started.map_err(|source| crate::Error::Io { op: "start a thread", path: None, offset: None, source })?;
            lanes.push(tx);
        }
        run(plan, watch, &mut |piece| {
            for lane in &lanes {
                // A lane ends early only if its consumer panicked, which the scope reports.
                let _ = lane.send(piece.clone());
            }
            sink(piece)
        })
    })
}

/// Runs a plan for the consumers alone, and counts bytes on `watch`.
///
/// # Errors
/// As [`run`].
pub fn read_into(plan: Plan, consumers: Vec<Consumer<'_>>, watch: &dyn Watch) -> Result<()> {
    run_with(plan, consumers, watch, &mut |piece| {
        watch.advance(piece.len());
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::{Source, check_range};
    use std::sync::atomic::{AtomicU64, Ordering};
    use std::time::Duration;

    /// Counts bytes as its content; slow at some places, so that threads meet in ever other orders.
    struct Slow(u64, u64);

    impl Source for Slow {
        fn len(&self) -> u64 {
            self.0
        }

        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
            check_range(self.0, offset, buf.len() as u64)?;
            if (offset >> 18).wrapping_mul(self.1).is_multiple_of(7) {
                thread::sleep(Duration::from_micros(300));
            }
            buf.fill(offset as u8);
            Ok(())
        }
    }

    struct StopAt(u64, AtomicU64);

    impl Watch for StopAt {
        fn cancelled(&self) -> bool {
            self.1.fetch_add(1, Ordering::Relaxed) >= self.0
        }
    }

    /// Each early stop has to come back: by an error of whoever takes the pieces, by a read that fails, by the user.
    #[test]
    fn two_hundred_early_stops_come_back() {
        let (done, ended) = bounded::<u64>(1);
        thread::spawn(move || {
            let mut seed = 9u64;
            for round in 0..200 {
                seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                let after = (seed >> 40) % 60;
                let source: SourceRef = Arc::new(Slow(80 << 20, seed | 1));
                let readers = [1, 2, 8][round as usize % 3];
                let consumers = (0..round % 3).map(|_| Box::new(|_: &Piece| ()) as Consumer<'_>).collect::<Vec<_>>();
                let watch = StopAt(if round % 2 == 0 { after } else { u64::MAX }, AtomicU64::new(0));
                let mut left = after;
                let mut held = Vec::new();
                let mut sink = |piece: Piece| {
                    // Whoever takes pieces may keep some of them for a while.
                    held.push(piece);
                    held.truncate(2);
                    left = left.checked_sub(1).ok_or_else(|| crate::Error::Usage("the disk is full".into()))?;
                    Ok(())
                };
                let plan = Plan::over(source.clone(), 0..source.len());
                let result = match consumers.is_empty() {
                    true => run_on(readers, plan, &watch, &mut sink),
                    false => run_with(plan, consumers, &watch, &mut sink),
                };
                assert!(result.is_err(), "round {round}");
            }
            let _ = done.send(200);
        });
        assert_eq!(ended.recv_timeout(Duration::from_secs(120)), Ok(200), "a stop did not come back");
    }
}
