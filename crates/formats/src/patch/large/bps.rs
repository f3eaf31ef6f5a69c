//! BPS patches of files of any length: what is found on all processors is written in its order.

use super::{Places, Search, Step, bounded};
use crate::patch::bps::Writer;
use crc32fast::Hasher;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::threads::{self, Shares};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

/// Bytes of the file after that a thread goes through at a time.
const BATCH: u64 = 4 << 20;

/// What a batch is made of.
struct Found {
    steps: Vec<Step>,
    /// Bytes that the file before does not have, one step after the other.
    literals: Vec<u8>,
    crc: Hasher,
}

/// What is written so far, and what comes later and is ready.
struct Written {
    writer: Writer,
    crc: Hasher,
    next: u64,
    early: BTreeMap<u64, Found>,
    /// Bytes of the patch that are held, also of what comes later.
    held: u64,
}

impl Written {
    /// Takes a batch in.
    fn add(&mut self, number: u64, found: Found) -> Result<()> {
        self.held += found.literals.len() as u64;
        bounded(self.held)?;
        self.early.insert(number, found);
        while let Some(found) = self.early.remove(&self.next) {
            let mut literals = &found.literals[..];
            for step in found.steps {
                match step {
                    Step::Literal(len) => {
                        let (own, rest) = literals.split_at(len);
                        self.writer.literal(own);
                        literals = rest;
                    }
                    Step::Copy(place, len) => self.writer.source(place, len as u64),
                }
            }
            self.crc.combine(&found.crc);
            self.next += 1;
            bounded(self.writer.len())?;
        }
        Ok(())
    }
}

/// Makes a patch that leads from `old` to `new`; gives also the checksums of both.
///
/// # Errors
/// [`Error::Limit`] for a patch of more than a GiB, which nobody could read; what reading fails with; [`Error::Cancelled`].
pub fn make(old: &SourceRef, new: &SourceRef, metadata: &[u8], watch: &dyn Watch) -> Result<(Vec<u8>, [u32; 2])> {
    let places = Places::of(old, watch)?;
    let writer = Writer::new([old.len(), new.len()], metadata);
    let written = Written { writer, crc: Hasher::new(), next: 0, early: BTreeMap::new(), held: 0 };
    let written = Mutex::new(written);
    let shares = Shares::new(new.len().div_ceil(BATCH), 1);
    threads::on_all(|| {
        for number in (&shares).flatten() {
            watch::check(watch)?;
            let at = number * BATCH;
            let raw = read_vec(new.as_ref(), at, BATCH.min(new.len() - at), "the file after", BATCH)?;
            let mut found = Found { steps: Vec::new(), literals: Vec::new(), crc: Hasher::new() };
            found.crc.update(&raw);
            let mut done = 0;
            Search::new(old.as_ref(), &places, &raw, at).go(&mut |step| {
                let len = match step {
                    Step::Literal(len) => {
                        found.literals.extend_from_slice(&raw[done..done + len]);
                        len
                    }
                    Step::Copy(_, len) => len,
                };
                done += len;
                found.steps.push(step);
            })?;
            watch.advance(raw.len() as u64);
            written.lock().unwrap_or_else(PoisonError::into_inner).add(number, found)?;
        }
        Ok(())
    })?;
    let written = written.into_inner().unwrap_or_else(PoisonError::into_inner);
    if !written.early.is_empty() {
        return Err(Error::Usage("a part of the file after was not looked at".into()));
    }
    let sums = [places.crc32(), written.crc.finalize()];
    Ok((written.writer.finish(sums), sums))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::patch::bps::Bps;
    use crate::patch::testing::{applied, noise};
    use decanter_core::Keyring;
    use decanter_core::format::{Format, Opener};
    use decanter_core::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn made(old: &[u8], new: &[u8]) -> Vec<u8> {
        let [old, new]: [SourceRef; 2] = [old, new].map(|bytes| Arc::new(Bytes(bytes.to_vec())) as SourceRef);
        let (patch, sums) = make(&old, &new, b"", &()).unwrap();
        assert_eq!(patch[patch.len() - 12..patch.len() - 4], sums.map(u32::to_le_bytes).concat());
        patch
    }

    fn turned(patch: Vec<u8>, old: &[u8]) -> Vec<u8> {
        let keys = Keyring::default();
        let opened = Bps.open(Arc::new(Bytes(patch)), &Opener::new(&crate::REGISTRY, &keys)).unwrap();
        applied(opened.holds.patch.unwrap().as_ref(), old)
    }

    #[test]
    fn a_patch_by_hand() {
        // 100 bytes as they are, and seven that are new.
        let old = noise(3, 100);
        let new = [&old[..], b"Fogbell"].concat();
        let patch = made(&old, &new);
        // Lengths 100 and 107, no metadata; same, 100: 99 << 2 = 396 = 12 + 3 * 128, of which one is counted by there being a second
        // byte; new, seven: 6 << 2 | 1.
        let mut expected = b"BPS1\xe4\xeb\x80\x0c\x82\x99Fogbell".to_vec();
        expected.extend([&old, &new].map(|file| crc32fast::hash(file).to_le_bytes()).concat());
        expected.extend(crc32fast::hash(&expected).to_le_bytes());
        assert_eq!(patch, expected);
        assert!(turned(patch, &old) == new);
    }

    #[test]
    fn copies_go_on_from_batch_to_batch() {
        let mut state = 7u64;
        let mut step = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as u8
        };
        let old: Vec<u8> = (0..3 * BATCH).map(|_| step()).collect();
        let new = [&old[BATCH as usize..], &old[..BATCH as usize]].concat();
        let patch = made(&old, &new);
        assert!(patch.len() < 80, "two copies, {} bytes", patch.len());
        assert!(turned(patch, &old) == new);
    }

    proptest! {
        #[test]
        fn it_leads_to_the_new_file(
            seed in any::<u32>(),
            cuts in proptest::collection::vec((0usize..9_000, 0usize..9_000, proptest::collection::vec(any::<u8>(), 0..99)), 0..8),
        ) {
            let old = noise(seed, 9_000);
            let mut new = Vec::new();
            for (from, len, bytes) in cuts {
                new.extend_from_slice(&old[from..(from + len).min(old.len())]);
                new.extend(bytes);
            }
            prop_assert!(turned(made(&old, &new), &old) == new);
        }
    }
}
