//! The passes: large reads forward first, then narrower and from the other side, until nothing is missing.

use super::drive::{Drive, Trouble};
use super::map::{Map, State};
use crossbeam_channel::{Receiver, Sender, bounded};
use decanter_core::digest::{Digest, Hasher};
use decanter_core::pour::Partial;
use decanter_core::{Error, Result, Watch};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Bytes of a large read.
const STRETCH: u64 = 1 << 20;
/// Blocks on their way to the disk and to the digests.
const QUEUE: usize = 8;
/// Time between two savings of the map.
const SAVE_EVERY: Duration = Duration::from_secs(5);
/// Sectors that fail one after the other before the first pass leaves the rest of a stretch for later.
const MOST_FAILING: u64 = 32;

/// How hard to try.
#[derive(Debug, Clone, Copy)]
pub struct Effort {
    /// Passes over what is missing, the first included.
    pub passes: u32,
    /// Tries of each sector in a later pass.
    pub retries: u32,
    /// Every sector is read until two reads agree.
    pub twice: bool,
}

/// Why reading ended.
#[derive(Debug)]
pub enum End {
    /// Every pass was made, or nothing is missing any more.
    Done,
    /// The drive is gone.
    Gone {
        /// The sector that was asked for.
        sector: u64,
        /// What the system says.
        why: String,
    },
}

/// A run of passes, and what it works on.
pub struct Reading<'a> {
    pub drive: &'a mut dyn Drive,
    pub output: &'a Partial,
    pub map: &'a mut Map,
    pub map_path: &'a Path,
    pub effort: Effort,
    pub watch: &'a dyn Watch,
    /// Sectors whose two reads did not agree at first.
    pub unstable: u64,
    /// Blocks that were sent on their way.
    pub sent: u64,
}

/// A block on its way. When nobody needs it any more, its memory goes back to be read into again.
struct Block {
    bytes: Vec<u8>,
    home: Sender<Vec<u8>>,
}

impl Drop for Block {
    fn drop(&mut self) {
        // Nobody may be reading any more: then the memory is simply freed.
        let _ = self.home.try_send(std::mem::take(&mut self.bytes));
    }
}

/// Blocks on their way: to the disk, and to the digests.
struct Flow<'a> {
    write: &'a Sender<(u64, Arc<Block>)>,
    spare: &'a Receiver<Vec<u8>>,
    home: Sender<Vec<u8>>,
    /// Blocks that were written.
    written: &'a AtomicU64,
    /// Whether writing failed.
    failed: &'a AtomicBool,
}

impl Reading<'_> {
    /// Makes the passes. The digests are those of the whole output if the first pass found no gap.
    ///
    /// # Errors
    /// What writing fails with, and [`Error::Cancelled`]; the map is saved in every case.
    pub fn run(&mut self, hashers: Vec<Hasher>) -> Result<(End, Option<Vec<Digest>>)> {
        let output = self.output;
        let (send, blocks) = bounded::<(u64, Arc<Block>)>(QUEUE);
        let (give_back, spare) = bounded::<Vec<u8>>(QUEUE * 2 + 4);
        let sector_len = self.map.sector_len;
        let count = AtomicU64::new(0);
        let stopped = AtomicBool::new(false);
        let (written, failed) = (&count, &stopped);
        std::thread::scope(|scope| {
            let mut lanes = Vec::new();
            let mut results = Vec::new();
            for mut hasher in hashers {
                let (send, receive) = bounded::<(u64, Arc<Block>)>(QUEUE);
                lanes.push(send);
                results.push(scope.spawn(move || {
                    let mut next = 0;
                    for (at, block) in receive {
                        if at == next {
                            hasher.update(&block.bytes);
                            next += block.bytes.len() as u64;
                        }
                    }
                    (next, hasher.finish())
                }));
            }
            let writer = scope.spawn(move || -> Result<()> {
                for (at, block) in blocks {
                    lanes.iter().for_each(|lane| {
                        let _ = lane.send((at, block.clone()));
                    });
                    output.write(&block.bytes, at).inspect_err(|_| failed.store(true, Ordering::Release))?;
                    written.fetch_add(1, Ordering::Release);
                }
                Ok(())
            });
            let flow = Flow { write: &send, spare: &spare, home: give_back, written, failed };
            let end = self.passes(&flow);
            drop(send);
            let done = writer.join().unwrap_or_else(|_| Err(Error::Usage("the writing thread ended early".into())));
            let whole = self.map.sectors * sector_len;
            let digests: Vec<Option<Digest>> =
                results.into_iter().map(|r| r.join().ok().filter(|(seen, _)| *seen == whole).map(|(_, d)| d)).collect();
            // What was not written was not read either.
            done?;
            self.output.flush()?;
            self.map.save(self.map_path)?;
            Ok((end?, digests.into_iter().collect()))
        })
    }

    fn passes(&mut self, flow: &Flow<'_>) -> Result<End> {
        for pass in 0..self.effort.passes {
            let gaps = self.map.gaps();
            if gaps.is_empty() {
                break;
            }
            let bytes = self.map.missing() * self.map.sector_len;
            self.watch.begin(&format!("pass {}", self.map.passes + 1), Some(bytes));
            let end = match pass {
                0 => self.forward(flow)?,
                // From the other side, and then forward again: a drive may lock on where it could not before.
                _ => self.singly(flow, pass % 2 == 1)?,
            };
            self.watch.end();
            if let Some(end) = end {
                return Ok(end);
            }
            self.map.passes += 1;
            self.save(flow)?;
        }
        Ok(End::Done)
    }

    /// Large reads; a stretch that fails is halved down to single sectors.
    fn forward(&mut self, flow: &Flow<'_>) -> Result<Option<End>> {
        let len = self.map.sector_len;
        let most = STRETCH / len;
        let mut saved = Instant::now();
        for gap in self.map.gaps() {
            let mut at = gap.first;
            while at < gap.first + gap.count {
                self.check()?;
                let count = most.min(gap.first + gap.count - at);
                let mut failing = 0;
                if let Some(end) = self.halving(flow, at, count, &mut failing)? {
                    return Ok(Some(end));
                }
                at += count;
                if saved.elapsed() > SAVE_EVERY {
                    self.save(flow)?;
                    saved = Instant::now();
                }
            }
        }
        Ok(None)
    }

    fn halving(&mut self, flow: &Flow<'_>, first: u64, count: u64, failing: &mut u64) -> Result<Option<End>> {
        if *failing >= MOST_FAILING {
            self.map.set(first, count, State::Missing);
            self.watch.advance(count * self.map.sector_len);
            return Ok(None);
        }
        match self.read(flow, first, count)? {
            Ok(()) => {
                *failing = 0;
                Ok(None)
            }
            Err(Trouble::Gone(why)) => Ok(Some(End::Gone { sector: first, why })),
            Err(Trouble::Medium) if count == 1 => {
                *failing += 1;
                self.map.set(first, 1, State::Missing);
                self.watch.advance(self.map.sector_len);
                self.tell();
                Ok(None)
            }
            Err(Trouble::Medium) => {
                self.check()?;
                let half = count / 2;
                match self.halving(flow, first, half, failing)? {
                    Some(end) => Ok(Some(end)),
                    None => self.halving(flow, first + half, count - half, failing),
                }
            }
        }
    }

    /// Single sectors, each tried some times.
    fn singly(&mut self, flow: &Flow<'_>, backward: bool) -> Result<Option<End>> {
        let mut sectors: Vec<u64> = self.map.gaps().iter().flat_map(|r| r.first..r.first + r.count).collect();
        if backward {
            sectors.reverse();
        }
        let mut saved = Instant::now();
        for sector in sectors {
            for _ in 0..self.effort.retries.max(1) {
                self.check()?;
                match self.read(flow, sector, 1)? {
                    Ok(()) => break,
                    Err(Trouble::Gone(why)) => return Ok(Some(End::Gone { sector, why })),
                    Err(Trouble::Medium) => self.map.set(sector, 1, State::Missing),
                }
            }
            if !self.map.state_of(sector).is_there() {
                self.watch.advance(self.map.sector_len);
            }
            self.tell();
            if saved.elapsed() > SAVE_EVERY {
                self.save(flow)?;
                saved = Instant::now();
            }
        }
        Ok(None)
    }

    /// Reads some sectors and sends them on their way. The outer error is ours, the inner one the drive's.
    fn read(&mut self, flow: &Flow<'_>, first: u64, count: u64) -> Result<std::result::Result<(), Trouble>> {
        let len = self.map.sector_len;
        let mut block = flow.spare.try_recv().unwrap_or_default();
        block.resize((count * len) as usize, 0);
        if let Err(trouble) = self.drive.read(first, &mut block) {
            return Ok(Err(trouble));
        }
        if self.effort.twice
            && let Err(trouble) = self.agree(first, &mut block)
        {
            return Ok(Err(trouble));
        }
        let ended = |_| Error::Usage("the writing thread ended early".into());
        flow.write.send((first * len, Arc::new(Block { bytes: block, home: flow.home.clone() }))).map_err(ended)?;
        self.sent += 1;
        self.map.set(first, count, State::Read);
        self.watch.advance(count * len);
        Ok(Ok(()))
    }

    /// Reads again, and once more where the two do not agree, until two reads of each sector do.
    fn agree(&mut self, first: u64, block: &mut [u8]) -> std::result::Result<(), Trouble> {
        let len = self.map.sector_len as usize;
        let mut again = vec![0; block.len()];
        self.drive.read(first, &mut again)?;
        for (index, (one, other)) in block.chunks_mut(len).zip(again.chunks(len)).enumerate() {
            if one == other {
                continue;
            }
            self.unstable += 1;
            let mut seen = vec![one.to_vec(), other.to_vec()];
            let mut found = None;
            for _ in 0..self.effort.retries.max(2) {
                let mut third = vec![0; len];
                self.drive.read(first + index as u64, &mut third)?;
                if seen.contains(&third) {
                    found = Some(third);
                    break;
                }
                seen.push(third);
            }
            match found {
                Some(bytes) => one.copy_from_slice(&bytes),
                None => return Err(Trouble::Medium),
            }
        }
        Ok(())
    }

    fn tell(&self) {
        let missing: u64 = self.map.in_state(State::Missing).iter().map(|r| r.count).sum();
        self.watch.item(&format!("{missing} sectors missing"));
    }

    fn check(&mut self) -> Result<()> {
        decanter_core::watch::check(self.watch)
    }

    /// Saves the map, once everything that it calls read is on the disk.
    fn save(&mut self, flow: &Flow<'_>) -> Result<()> {
        while flow.written.load(Ordering::Acquire) < self.sent {
            // The writing thread may have failed: sending to it tells, and is what happens next.
            if flow.failed.load(Ordering::Acquire) {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(1));
        }
        self.output.flush()?;
        self.map.save(self.map_path)
    }
}
