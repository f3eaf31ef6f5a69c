//! Parts side by side: where digests of several large parts are asked for, each is read, hashed and written by itself, so that
//! one hash does not wait for the other.

use super::Writing;
use super::pipeline::{self, Consumer, Piece, Plan};
use super::sums::{Gauge, PartHashers};
use crate::blueprint::{Blueprint, Content, Part};
use crate::error::{Error, Result};
use crate::source::SourceRef;
use crate::watch::{Notice, Watch};
use std::fs::File;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::thread;

/// Bytes of a part that is worth a lane of its own.
const LARGE: u64 = 8 << 20;
/// Lanes at most: each has blocks of its own.
const MOST_LANES: usize = 4;

/// Parts that follow each other and are written one after the other.
struct Stretch {
    /// Byte of the output at which they begin.
    at: u64,
    len: u64,
    parts: Vec<(usize, SourceRef)>,
    hashers: Vec<(usize, Vec<Gauge>)>,
}

/// What one lane has done.
#[derive(Default)]
struct Done {
    kernel_bytes: u64,
    hole_bytes: u64,
    hashers: Vec<(usize, Vec<Gauge>)>,
}

/// Whether a blueprint has parts that are worth it: nobody looks at all of it in order, and several large parts are hashed.
pub(super) fn is_worth_it(blueprint: &Blueprint) -> bool {
    let is_hashed = |p: &&Part| (!p.measure.is_empty() || p.before.is_some()) && p.len() >= LARGE;
    // What is unpacked from front to back is read once, by one.
    let goes_forward = |p: &Part| matches!(&p.content, Content::Source(s) if s.prefers_sequential());
    let large = blueprint.parts.iter().filter(is_hashed).count();
    large > 1
        && !blueprint.parts.iter().any(goes_forward)
        && blueprint.block_runs.is_empty()
        && blueprint.packed_part().is_none()
}

/// Cuts a run of parts into stretches: each large part that is hashed is one by itself.
fn cut(run: Vec<(usize, SourceRef)>, mut at: u64, measured: &mut PartHashers) -> Vec<Stretch> {
    let mut all: Vec<Stretch> = Vec::new();
    let mut is_open = false;
    for (number, source) in run {
        let len = source.len();
        let own = std::mem::take(&mut measured.hashers[number]);
        let is_large = !own.is_empty() && len >= LARGE;
        let hashers = (!own.is_empty()).then_some((number, own));
        match all.last_mut().filter(|_| is_open && !is_large) {
            Some(last) => {
                last.len += len;
                last.parts.push((number, source));
                last.hashers.extend(hashers);
            }
            None => {
                all.push(Stretch { at, len, parts: vec![(number, source)], hashers: hashers.into_iter().collect() })
            }
        }
        is_open = !is_large;
        at += len;
    }
    all
}

/// Stops all lanes once one has failed.
struct Together<'a> {
    watch: &'a dyn Watch,
    has_failed: AtomicBool,
}

impl Watch for Together<'_> {
    fn advance(&self, bytes: u64) {
        self.watch.advance(bytes);
    }

    fn notice(&self, notice: &Notice) {
        self.watch.notice(notice);
    }

    fn cancelled(&self) -> bool {
        self.has_failed.load(Ordering::Relaxed) || self.watch.cancelled()
    }
}

/// Writes parts that follow each other, from byte `at` of the output on, several at once.
pub(super) fn write(
    run: Vec<(usize, SourceRef)>,
    at: u64,
    measured: &mut PartHashers,
    output: &mut Writing<'_>,
    watch: &dyn Watch,
) -> Result<()> {
    let mut queue = cut(run, at, measured);
    // The longest is begun first: the others fit in beside it.
    queue.sort_by_key(|s| s.len);
    let lanes = crate::threads::available().clamp(1, MOST_LANES).min(queue.len().max(1));
    let queue = Mutex::new(queue);
    let together = Together { watch, has_failed: AtomicBool::new(false) };
    let (file, path) = (output.file, output.path);
    let results: Vec<Result<Done>> = thread::scope(|scope| {
        let run = || {
            let mut done = Done::default();
            loop {
                let Some(next) = queue.lock().unwrap_or_else(PoisonError::into_inner).pop() else { return Ok(done) };
                if let Err(e) = stretch(next, file, path, &mut done, &together) {
                    together.has_failed.store(true, Ordering::Relaxed);
                    return Err(e);
                }
            }
        };
        let threads: Vec<_> = (0..lanes).map(|_| scope.spawn(run)).collect();
        let ended = |t: thread::ScopedJoinHandle<'_, Result<Done>>| {
            t.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        };
        threads.into_iter().map(ended).collect()
    });
    // Lanes that were stopped because of another one say nothing of their own.
    let is_stop = |r: &Result<Done>| matches!(r, Err(Error::Cancelled));
    let (stopped, others): (Vec<_>, Vec<_>) = results.into_iter().partition(is_stop);
    for done in others {
        let done = done?;
        output.kernel_bytes += done.kernel_bytes;
        output.hole_bytes += done.hole_bytes;
        for (number, hashers) in done.hashers {
            measured.hashers[number] = hashers;
        }
    }
    if stopped.is_empty() { Ok(()) } else { Err(Error::Cancelled) }
}

fn stretch(stretch: Stretch, file: &File, path: &Path, done: &mut Done, watch: &dyn Watch) -> Result<()> {
    let Stretch { at, parts, mut hashers, .. } = stretch;
    let plan = Plan::parts(parts, at, !hashers.is_empty());
    let mut output = Writing { file, path, kernel_bytes: 0, hole_bytes: 0 };
    let mut consumers: Vec<Consumer<'_>> = Vec::new();
    if !hashers.is_empty() {
        consumers.push(Box::new(|piece: &Piece| {
            for (_, own) in hashers.iter_mut().filter(|(number, _)| *number == piece.part) {
                own.iter_mut().for_each(|hasher| piece.each_slice(|bytes| hasher.update(bytes)));
            }
        }));
    }
    pipeline::run_with(plan, consumers, watch, &mut |piece| {
        output.piece(&piece)?;
        watch.advance(piece.len());
        Ok(())
    })?;
    done.kernel_bytes += output.kernel_bytes;
    done.hole_bytes += output.hole_bytes;
    done.hashers.append(&mut hashers);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::{Algorithm, of_bytes};
    use crate::source::{Bytes, Source};
    use crate::view::Fill;
    use std::sync::Arc;

    /// Fails when it is read.
    struct Torn(u64);

    impl Source for Torn {
        fn len(&self) -> u64 {
            self.0
        }

        fn read_at(&self, _: u64, _: &mut [u8]) -> Result<()> {
            Err(Error::Unreadable { why: "torn".into() })
        }
    }

    fn bytes(seed: u8, len: usize) -> Vec<u8> {
        (0..len).map(|i| (i >> 9) as u8 ^ seed).collect()
    }

    fn poured(blueprint: &Blueprint) -> (Result<super::super::Poured>, Vec<u8>) {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("out");
        let guard = crate::Guard::default();
        let door = crate::Door { guard: &guard, replace: false };
        let poured = super::super::pour(super::super::Output::new(blueprint, &target), door, &());
        (poured, std::fs::read(&target).unwrap_or_default())
    }

    #[test]
    fn parts_stand_where_they_belong_and_have_their_digests() {
        let lens = [3, LARGE as usize + 5, 100, 0, LARGE as usize * 2, 70_000, LARGE as usize];
        let all: Vec<Vec<u8>> = lens.iter().enumerate().map(|(i, len)| bytes(i as u8, *len)).collect();
        let mut blueprint = Blueprint::new();
        for part in &all {
            let id = blueprint.source(Arc::new(Bytes(part.clone())));
            blueprint.measure(id, Algorithm::Sha256);
        }
        blueprint.fill(0, 9);
        assert!(is_worth_it(&blueprint));
        let (written, found) = poured(&blueprint);
        let mut want = all.concat();
        want.extend([0; 9]);
        assert!(found == want);
        for (digests, part) in written.unwrap().part_digests.iter().zip(&all) {
            assert_eq!(digests[0], of_bytes(Algorithm::Sha256, part));
        }
    }

    #[test]
    fn what_a_part_was_before_is_known_too() {
        for len in [20, LARGE as usize * 2] {
            let old = bytes(7, len);
            let mut new = old.clone();
            new[..10].fill(9);
            let mut blueprint = Blueprint::new();
            let (head, part) = (blueprint.late(64), blueprint.source(Arc::new(Bytes(new.clone()))));
            let other = blueprint.source(Arc::new(Bytes(old.clone())));
            [part, other].into_iter().for_each(|p| blueprint.measure(p, Algorithm::Sha256));
            blueprint.measure_before(part, old[..10].to_vec());
            let both = move |known: &crate::blueprint::Known<'_>| {
                Ok([known.digest(part, Algorithm::Sha256)?, known.digest_before(part)?].concat())
            };
            blueprint.compute(head, &[part], Arc::new(both)).unwrap();
            let (_, found) = poured(&blueprint);
            let want = [of_bytes(Algorithm::Sha256, &new).bytes, of_bytes(Algorithm::Sha256, &old).bytes].concat();
            assert_eq!(found[..64], want);
        }
    }

    #[test]
    fn the_first_failure_is_told_and_nothing_is_kept() {
        let mut blueprint = Blueprint::new();
        for source in [
            Arc::new(Bytes(bytes(1, LARGE as usize))) as SourceRef,
            Arc::new(Torn(LARGE)),
            Arc::new(Fill { byte: 1, len: LARGE }),
        ] {
            let id = blueprint.source(source);
            blueprint.measure(id, Algorithm::Sha256);
        }
        let (written, found) = poured(&blueprint);
        assert!(written.unwrap_err().to_string().contains("torn") && found.is_empty());
    }
}
