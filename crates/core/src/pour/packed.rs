//! Packed parts: every thread reads a batch and packs it; the batches are written in order as they come.

use super::Writing;
use super::sums::Gauge;
use crate::blueprint::Packer;
use crate::digest::Hasher;
use crate::error::{Error, Result};
use crate::source::SourceRef;
use crate::threads;
use crate::watch::{self, Watch};
use crossbeam_channel::bounded;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;

/// Threads that pack at most.
const MOST_THREADS: usize = 32;

/// Who sees the bytes before and after packing.
pub(super) struct Look<'a> {
    pub(super) raw: &'a mut [Gauge],
    pub(super) packed: &'a mut [Hasher],
}

/// All of `source` is to be packed into the output, from byte `start` on.
pub(super) struct Work<'a, 'f> {
    pub(super) source: &'a SourceRef,
    pub(super) packer: &'a dyn Packer,
    pub(super) output: &'a mut Writing<'f>,
    pub(super) start: u64,
    pub(super) look: Look<'a>,
    pub(super) watch: &'a dyn Watch,
}

/// What was written.
pub(super) struct Done {
    pub(super) bytes: u64,
    pub(super) marks: Vec<u32>,
}

/// A batch that was packed.
struct Batch {
    index: u64,
    raw_len: u64,
    packed: Vec<u8>,
    marks: Vec<u32>,
}

/// The same on the thread that asks for it.
fn one_by_one(work: Work<'_, '_>) -> Result<Done> {
    let Work { source, packer, output, start, look, watch } = work;
    let (mut worker, mut weeder) = (packer.worker()?, packer.weeder());
    let mut done = Done { bytes: 0, marks: Vec::new() };
    let (mut raw, mut packed, mut marks) = (Vec::new(), Vec::new(), Vec::new());
    let mut at = 0;
    while at < source.len() {
        watch::check(watch)?;
        raw.resize((packer.batch_len() as u64).min(source.len() - at) as usize, 0);
        source.read_at(at, &mut raw)?;
        look.raw.iter_mut().for_each(|h| h.update(&raw));
        packed.clear();
        marks.clear();
        worker.pack(at, &raw, &mut packed, &mut marks)?;
        if let Some(weeder) = &mut weeder {
            weeder.weed(&mut packed, &mut marks)?;
        }
        look.packed.iter_mut().for_each(|h| h.update(&packed));
        output.write(&packed, start + done.bytes)?;
        done.bytes += packed.len() as u64;
        done.marks.extend_from_slice(&marks);
        at += raw.len() as u64;
        watch.advance(raw.len() as u64);
    }
    Ok(done)
}

/// Does it on as many threads as there are.
pub(super) fn write(work: Work<'_, '_>) -> Result<Done> {
    let batch_len = work.packer.batch_len() as u64;
    let count = work.source.len().div_ceil(batch_len);
    let threads = threads::available().min(MOST_THREADS).min(count.max(1) as usize);
    if threads == 1 {
        return one_by_one(work);
    }
    let Work { source, packer, output, start, look, watch } = work;
    let in_turn = source.prefers_sequential() || !look.raw.is_empty();
    let next = AtomicU64::new(0);
    let stop = AtomicBool::new(false);
    // Who holds this reads the next batch, and lets the digests see it: in order, with one buffer a thread.
    let turn = Mutex::new(look.raw);
    let packed_hashers = look.packed;
    // A thread takes an empty batch before it takes a number, so the lowest number always has one.
    let (give, free) = bounded::<Batch>(threads + 1);
    for _ in 0..threads + 1 {
        let _ = give.send(Batch { index: 0, raw_len: 0, packed: Vec::new(), marks: Vec::new() });
    }
    let (send, results) = bounded::<Result<Batch>>(threads + 1);
    let mut done = Done { bytes: 0, marks: Vec::new() };
    let mut weeder = packer.weeder();
    let result = thread::scope(|scope| {
        for _ in 0..threads {
            let (free, send, next, stop, turn) = (free.clone(), send.clone(), &next, &stop, &turn);
            scope.spawn(move || {
                let run = || -> Result<()> {
                    let mut worker = packer.worker()?;
                    let mut raw = Vec::new();
                    while let Ok(mut batch) = free.recv() {
                        let held = in_turn.then(|| turn.lock().unwrap_or_else(PoisonError::into_inner));
                        batch.index = next.fetch_add(1, Ordering::Relaxed);
                        if batch.index >= count || stop.load(Ordering::Relaxed) {
                            return Ok(());
                        }
                        let offset = batch.index * batch_len;
                        batch.raw_len = batch_len.min(source.len() - offset);
                        raw.resize(batch.raw_len as usize, 0);
                        source.read_at(offset, &mut raw)?;
                        if let Some(mut hashers) = held {
                            hashers.iter_mut().for_each(|h| h.update(&raw));
                        }
                        batch.packed.clear();
                        batch.marks.clear();
                        worker.pack(offset, &raw, &mut batch.packed, &mut batch.marks)?;
                        if send.send(Ok(batch)).is_err() {
                            return Ok(());
                        }
                    }
                    Ok(())
                };
                if let Err(e) = run() {
                    stop.store(true, Ordering::Relaxed);
                    let _ = send.send(Err(e));
                }
            });
        }
        drop((send, free));
        let mut waiting: BTreeMap<u64, Batch> = BTreeMap::new();
        let mut wanted = 0;
        let mut take = || -> Result<()> {
            while wanted < count {
                watch::check(watch)?;
                let batch = match results.recv() {
                    Ok(batch) => batch?,
                    Err(_) => return Err(Error::Usage("packing ended before all of the source was packed".into())),
                };
                waiting.insert(batch.index, batch);
                while let Some(mut batch) = waiting.remove(&wanted) {
                    if let Some(weeder) = &mut weeder {
                        weeder.weed(&mut batch.packed, &mut batch.marks)?;
                    }
                    packed_hashers.iter_mut().for_each(|h| h.update(&batch.packed));
                    output.write(&batch.packed, start + done.bytes)?;
                    done.bytes += batch.packed.len() as u64;
                    done.marks.extend_from_slice(&batch.marks);
                    watch.advance(batch.raw_len);
                    wanted += 1;
                    let _ = give.send(batch);
                }
            }
            Ok(())
        };
        let result = take();
        stop.store(true, Ordering::Relaxed);
        // Whoever waits for an empty batch, or to hand one over, is let go.
        drop((give, results));
        result
    });
    result.map(|()| done)
}
