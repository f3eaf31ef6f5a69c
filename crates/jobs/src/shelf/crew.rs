//! Several sources at once: as many as there are workers and room in memory, told in the order in which they were found.

use super::search::Found;
use crate::{Failure, Setting};
use crossbeam_channel::unbounded;
use decanter_core::{Error, Notice, Watch, native};
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};

/// Bytes of sources that are worked on at once; a longer one is worked on alone, with all there is.
const BUDGET: u64 = 64 << 20;

/// What stands between the workers: room in memory, names that are given away in order.
struct Shared {
    /// The number of the next source: whoever takes it keeps the others waiting until there is room for it, so that one
    /// before another is at work before it, too.
    next: Mutex<usize>,
    free: Mutex<u64>,
    freed: Condvar,
    /// Whose turn it is to choose a name, and who has which.
    names: Mutex<(usize, HashMap<String, String>)>,
    turned: Condvar,
}

/// The turn of one source: results get their names in the order of sources, however fast each of them is.
pub(crate) struct Turn<'a> {
    shared: &'a Shared,
    number: usize,
    address: &'a str,
}

impl Turn<'_> {
    /// Takes the first of `names` that the result of no source before has, in whatever case.
    ///
    /// # Errors
    /// When all of them are taken.
    pub(crate) fn claim(&self, candidates: Vec<PathBuf>) -> Result<PathBuf, Failure> {
        let mut names = self.shared.names.lock().unwrap_or_else(PoisonError::into_inner);
        while names.0 < self.number {
            names = self.shared.turned.wait(names).unwrap_or_else(PoisonError::into_inner);
        }
        let key = |target: &Path| native::text(target.components().collect::<PathBuf>()).to_lowercase();
        let free = candidates.iter().find(|target| !names.1.contains_key(&key(target))).cloned();
        let first = candidates.first().map(|target| (target.clone(), names.1.get(&key(target)).cloned()));
        if let Some(free) = &free {
            names.1.insert(key(free), self.address.to_owned());
        }
        self.pass_on(names);
        free.ok_or_else(|| {
            let (target, owner) = first.unwrap_or_default();
            let what = format!("cannot write \"{}\"", native::text(target));
            Failure::usage(what, format!("the result of \"{}\" has this name", owner.unwrap_or_default()))
                .hint("work on it by itself, with a name of its own: -o")
        })
    }

    fn pass_on(&self, mut names: std::sync::MutexGuard<'_, (usize, HashMap<String, String>)>) {
        names.0 = names.0.max(self.number + 1);
        self.shared.turned.notify_all();
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        // One that never came to a name lets the next one choose, once those before have.
        let mut names = self.shared.names.lock().unwrap_or_else(PoisonError::into_inner);
        while names.0 < self.number {
            names = self.shared.turned.wait(names).unwrap_or_else(PoisonError::into_inner);
        }
        self.pass_on(names);
    }
}

/// What is done with one source.
pub(crate) type Job<'a, T> = dyn Fn(&Found, &Setting<'_>, &Turn<'_>) -> T + Sync + 'a;

/// Works on all sources, several at once, and tells what came of each in their order. Stops after the first that `tell`
/// does not want, and when the user asks for it.
///
/// # Errors
/// What `tell` fails with.
pub(crate) fn work<T: Send, E>(
    all: &[Found],
    phase: &str,
    setting: &Setting<'_>,
    one: &Job<'_, T>,
    tell: &mut dyn FnMut(&Found, T) -> Result<(), E>,
) -> Result<(), E> {
    let shared = Shared {
        next: Mutex::default(),
        free: Mutex::new(BUDGET),
        freed: Condvar::new(),
        names: Mutex::default(),
        turned: Condvar::new(),
    };
    let stop = AtomicBool::new(false);
    let progress = Overall::new(phase, all, setting.watch);
    let (give, results) = unbounded::<(usize, T)>();
    std::thread::scope(|scope| {
        for _ in 0..setting.jobs.clamp(1, all.len().max(1)) {
            let give = give.clone();
            scope.spawn(|| {
                let give = give;
                loop {
                    let mut next = shared.next.lock().unwrap_or_else(PoisonError::into_inner);
                    let number = *next;
                    let Some(found) = all.get(number) else { break };
                    *next += 1;
                    let room = Room::of(found.bytes.clamp(1, BUDGET), &shared);
                    drop(next);
                    let turn = Turn { shared: &shared, number, address: &found.address };
                    if stop.load(Ordering::Relaxed) || setting.watch.cancelled() {
                        continue;
                    }
                    let is_alone = room.bytes == BUDGET || setting.jobs == 1 || all.len() == 1;
                    let watch = One { overall: &progress, is_alone, number };
                    let result = one(found, &setting.for_one(&watch), &turn);
                    progress.done(found, is_alone);
                    // Whoever takes the results is there until all have been given.
                    let _ = give.send((number, result));
                }
            });
        }
        drop(give);
        let mut waiting = BTreeMap::new();
        let mut told = 0;
        let mut failed = None;
        for (number, result) in results {
            waiting.insert(number, result);
            while let Some(result) = waiting.remove(&told).filter(|_| failed.is_none()) {
                if let Err(e) = tell(&all[told], result) {
                    stop.store(true, Ordering::Relaxed);
                    failed = Some(e);
                }
                told += 1;
            }
        }
        setting.watch.end();
        failed.map_or(Ok(()), Err)
    })
}

/// Room in memory, given back in the end.
struct Room<'a> {
    bytes: u64,
    shared: &'a Shared,
}

impl<'a> Room<'a> {
    fn of(bytes: u64, shared: &'a Shared) -> Self {
        let mut free = shared.free.lock().unwrap_or_else(PoisonError::into_inner);
        while *free < bytes {
            free = shared.freed.wait(free).unwrap_or_else(PoisonError::into_inner);
        }
        *free -= bytes;
        Self { bytes, shared }
    }
}

impl Drop for Room<'_> {
    fn drop(&mut self) {
        *self.shared.free.lock().unwrap_or_else(PoisonError::into_inner) += self.bytes;
        self.shared.freed.notify_all();
    }
}

/// How far all of it is.
struct Overall<'a> {
    phase: &'a str,
    watch: &'a dyn Watch,
    count: usize,
    total: u64,
    /// Bytes that are done, and whether that is what is shown.
    state: Mutex<(u64, bool)>,
}

impl<'a> Overall<'a> {
    fn new(phase: &'a str, all: &[Found], watch: &'a dyn Watch) -> Self {
        let total = all.iter().map(bytes_of).sum();
        Self { phase, watch, count: all.len(), total, state: Mutex::default() }
    }

    /// One more is done. What is worked on alone shows its own progress; many small ones show theirs together.
    fn done(&self, found: &Found, was_alone: bool) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.0 += bytes_of(found);
        if was_alone {
            // One that failed has not ended what it showed.
            self.watch.end();
            return;
        }
        match state.1 {
            true => self.watch.advance(bytes_of(found)),
            false => {
                self.watch.begin(&format!("{} {} sources", self.phase, self.count), Some(self.total));
                self.watch.advance(state.0);
                state.1 = true;
            }
        }
    }

    /// Something else is shown for a while.
    fn rest(&self) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if state.1 {
            self.watch.end();
            state.1 = false;
        }
    }
}

fn bytes_of(found: &Found) -> u64 {
    if found.bytes == u64::MAX { 0 } else { found.bytes }
}

/// The progress of one source among many.
struct One<'a> {
    overall: &'a Overall<'a>,
    is_alone: bool,
    number: usize,
}

impl Watch for One<'_> {
    fn begin(&self, phase: &str, total: Option<u64>) {
        if self.is_alone {
            self.overall.rest();
            self.overall.watch.begin(&format!("{} of {}: {phase}", self.number + 1, self.overall.count), total);
        }
    }

    fn advance(&self, bytes: u64) {
        if self.is_alone {
            self.overall.watch.advance(bytes);
        }
    }

    fn item(&self, name: &str) {
        if self.is_alone {
            self.overall.watch.item(name);
        }
    }

    fn end(&self) {
        if self.is_alone {
            self.overall.watch.end();
        }
    }

    fn notice(&self, notice: &Notice) {
        self.overall.watch.notice(notice);
    }

    fn unread(&self, path: &str, error: &Error) {
        self.overall.watch.unread(path, error);
    }

    fn cancelled(&self) -> bool {
        self.overall.watch.cancelled()
    }
}
