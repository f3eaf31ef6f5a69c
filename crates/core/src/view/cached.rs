use crate::error::Result;
use crate::source::{Source, check_range};
use std::collections::HashSet;
use std::sync::{Arc, Condvar, Mutex, PoisonError};

/// A source in blocks that are made as a whole: decompressed ones.
pub trait Blocks: Send + Sync {
    /// Length of the source in bytes.
    fn len(&self) -> u64;
    /// True when it has no bytes.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// Number of blocks.
    fn count(&self) -> usize;
    /// The block that holds the byte at `offset`, and the offset of its first byte.
    fn find(&self, offset: u64) -> (usize, u64);
    /// Makes block `index`.
    ///
    /// # Errors
    /// When it cannot be read, or is damaged.
    fn make(&self, index: usize) -> Result<Vec<u8>>;
}

/// Keeps the last few blocks of a source, so that reading it front to back makes each of them once.
///
/// A thread that needs a block that another thread is making makes the next one meanwhile: several readers of
/// neighbouring bytes keep all processors busy.
pub struct Cached<B> {
    blocks: B,
    most: usize,
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Default)]
struct State {
    /// Blocks that are there, the one used last at the end.
    ready: Vec<(usize, Arc<Vec<u8>>)>,
    busy: HashSet<usize>,
}

impl<B: Blocks> Cached<B> {
    /// `blocks` with at most `most` of them in memory.
    pub fn new(blocks: B, most: usize) -> Self {
        Self { blocks, most: most.max(1), state: Mutex::default(), changed: Condvar::new() }
    }

    /// Whether a block is there already.
    pub fn has(&self, index: usize) -> bool {
        let state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.ready.iter().any(|(ready, _)| *ready == index)
    }

    /// Fills `out` with block `index`: with what is there, or what another thread is making; else with what `make` puts there,
    /// which is then kept for others.
    ///
    /// # Errors
    /// What `make` fails with.
    pub fn copy_or_make(
        &self,
        index: usize,
        out: &mut [u8],
        make: &mut dyn FnMut(&mut [u8]) -> Result<()>,
    ) -> Result<()> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some((_, block)) = state.ready.iter().find(|(ready, _)| *ready == index) {
                let block = block.clone();
                drop(state);
                out.copy_from_slice(&block);
                return Ok(());
            }
            if state.busy.insert(index) {
                break;
            }
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        drop(state);
        // Whatever happens, those who wait go on.
        let busy = Busy { cached: self, index };
        make(out)?;
        let block = Arc::new(out.to_vec());
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        while state.ready.len() >= self.most {
            state.ready.remove(0);
        }
        state.ready.push((index, block));
        drop(state);
        drop(busy);
        Ok(())
    }

    fn block(&self, index: usize) -> Result<Arc<Vec<u8>>> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(place) = state.ready.iter().position(|(i, _)| *i == index) {
                let entry = state.ready.remove(place);
                let block = entry.1.clone();
                state.ready.push(entry);
                return Ok(block);
            }
            let make = if state.busy.contains(&index) {
                let room = self.most.saturating_sub(state.busy.len());
                let mut ahead = (index + 1..self.blocks.count()).take(room);
                ahead.find(|i| !state.busy.contains(i) && state.ready.iter().all(|(r, _)| r != i))
            } else {
                Some(index)
            };
            let Some(make) = make else {
                state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
                continue;
            };
            state.busy.insert(make);
            drop(state);
            let busy = Busy { cached: self, index: make };
            let made = self.blocks.make(make);
            // From here on nothing can go wrong between the block and those who wait for it.
            std::mem::forget(busy);
            state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
            state.busy.remove(&make);
            self.changed.notify_all();
            match made {
                Ok(block) => {
                    while state.ready.len() >= self.most {
                        state.ready.remove(0);
                    }
                    state.ready.push((make, Arc::new(block)));
                }
                // What was made ahead may never be asked for: who asks for it meets the error.
                Err(e) if make == index => return Err(e),
                Err(_) => {}
            }
        }
    }
}

/// A block that is being made: even if that ends in a panic, those who wait for it go on.
struct Busy<'a, B: Blocks> {
    cached: &'a Cached<B>,
    index: usize,
}

impl<B: Blocks> Drop for Busy<'_, B> {
    fn drop(&mut self) {
        self.cached.state.lock().unwrap_or_else(PoisonError::into_inner).busy.remove(&self.index);
        self.cached.changed.notify_all();
    }
}

impl<B: Blocks> Source for Cached<B> {
    fn len(&self) -> u64 {
        self.blocks.len()
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        while !buf.is_empty() {
            let (index, start) = self.blocks.find(offset);
            let block = self.block(index)?;
            let from = (offset - start) as usize;
            let len = buf.len().min(block.len().saturating_sub(from));
            // A block that is shorter than its index says would loop for ever.
            check_range(block.len() as u64, from as u64, len.max(1) as u64)?;
            let (now, later) = buf.split_at_mut(len);
            now.copy_from_slice(&block[from..from + len]);
            offset += len as u64;
            buf = later;
        }
        Ok(())
    }
}
