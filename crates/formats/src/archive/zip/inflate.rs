//! A deflate stream (RFC 1951) as a source: read forwards it costs one pass, read backwards it goes on from the
//! nearest checkpoint.

use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::{Error, Result};
use miniz_oxide::inflate::TINFLStatus;
use miniz_oxide::inflate::core::inflate_flags::TINFL_FLAG_HAS_MORE_INPUT;
use miniz_oxide::inflate::core::{DecompressorOxide, decompress};
use std::sync::Mutex;

/// Bytes of output that are kept; a power of two, as the decoder wraps around in it.
const RING: usize = 256 << 10;
/// How far back a deflate stream can refer (RFC 1951, 2).
const WINDOW: usize = 32 << 10;
/// Compressed bytes that are read at once.
const INPUT: usize = 64 << 10;
/// Bytes of output between two checkpoints at first.
const FIRST_SPACING: u64 = 4 << 20;
/// Checkpoints that are kept at most: about 43 KiB each, so 11 MiB. When there are more, every other one is
/// dropped and the spacing doubles.
const MOST_CHECKPOINTS: usize = 256;

/// The inflated bytes of a deflate stream.
pub struct Inflate {
    stream: SourceRef,
    len: u64,
    state: Mutex<State>,
}

struct State {
    decoder: Box<DecompressorOxide>,
    ring: Vec<u8>,
    /// Bytes inflated so far.
    out: u64,
    /// Bytes before `out` that the ring still holds.
    kept: usize,
    /// Bytes of the stream that the decoder has taken.
    taken: u64,
    input: Vec<u8>,
    /// Offset of `input` in the stream.
    input_at: u64,
    checkpoints: Vec<Checkpoint>,
    spacing: u64,
}

struct Checkpoint {
    out: u64,
    taken: u64,
    decoder: Box<DecompressorOxide>,
    window: Box<[u8]>,
}

impl Inflate {
    /// The stream in `stream`, which inflates to `len` bytes.
    pub fn new(stream: SourceRef, len: u64) -> Self {
        let state = State {
            decoder: Box::default(),
            ring: Vec::new(),
            out: 0,
            kept: 0,
            taken: 0,
            input: Vec::new(),
            input_at: 0,
            checkpoints: Vec::new(),
            spacing: FIRST_SPACING,
        };
        Self { stream, len, state: Mutex::new(state) }
    }
}

impl Source for Inflate {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut state = self.state.lock().unwrap_or_else(|e| e.into_inner());
        state.seek(offset);
        while !buf.is_empty() {
            if offset < state.out {
                let done = state.copy(offset, buf);
                offset += done as u64;
                buf = &mut buf[done..];
            } else {
                state.step(self.stream.as_ref(), self.len)?;
            }
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        true
    }
}

impl State {
    /// Makes sure that going on from here leads to `offset`, by the shortest way.
    fn seek(&mut self, offset: u64) {
        let here = (self.out - self.kept as u64 <= offset).then_some(self.out);
        let nearest = self.checkpoints.iter().rposition(|c| c.out <= offset);
        match nearest {
            // On from here, unless a checkpoint lies in between.
            Some(index) if here.is_none_or(|here| here < self.checkpoints[index].out) => self.restore(index),
            None if here.is_none() => self.rewind(),
            _ => {}
        }
    }

    fn rewind(&mut self) {
        self.decoder.init();
        (self.out, self.kept, self.taken) = (0, 0, 0);
    }

    fn restore(&mut self, index: usize) {
        let checkpoint = &self.checkpoints[index];
        *self.decoder = (*checkpoint.decoder).clone();
        self.out = checkpoint.out;
        self.taken = checkpoint.taken;
        self.kept = checkpoint.window.len();
        let start = self.out - self.kept as u64;
        for (i, &byte) in checkpoint.window.iter().enumerate() {
            self.ring[(start + i as u64) as usize % RING] = byte;
        }
    }

    /// Copies what the ring holds from `offset` on; `offset` must be within it.
    fn copy(&self, offset: u64, buf: &mut [u8]) -> usize {
        let at = offset as usize % RING;
        let here = ((self.out - offset) as usize).min(buf.len()).min(RING - at);
        buf[..here].copy_from_slice(&self.ring[at..at + here]);
        here
    }

    /// Inflates on, up to the end of the ring.
    fn step(&mut self, stream: &dyn Source, len: u64) -> Result<()> {
        if self.ring.is_empty() {
            self.ring = vec![0; RING];
        }
        let buffered = self.input_at + self.input.len() as u64;
        if !(self.input_at..buffered).contains(&self.taken) {
            let left = stream.len() - self.taken;
            self.input.resize(left.min(INPUT as u64) as usize, 0);
            stream.read_at(self.taken, &mut self.input)?;
            self.input_at = self.taken;
        }
        let input = &self.input[(self.taken - self.input_at) as usize..];
        let more = self.taken + (input.len() as u64) < stream.len();
        let flags = if more { TINFL_FLAG_HAS_MORE_INPUT } else { 0 };
        let at = self.out as usize % RING;
        let (status, read, written) = decompress(&mut self.decoder, input, &mut self.ring, at, flags);
        self.taken += read as u64;
        self.out += written as u64;
        self.kept = (self.kept + written).min(RING);
        let wrong = |what: &'static str| Err(Error::malformed("zip", what, self.taken));
        match status {
            TINFLStatus::HasMoreOutput | TINFLStatus::NeedsMoreInput if read + written > 0 => {}
            TINFLStatus::Done if self.out >= len => {}
            TINFLStatus::Done => return wrong("the compressed data ends before the entry does"),
            TINFLStatus::NeedsMoreInput | TINFLStatus::FailedCannotMakeProgress => {
                return wrong("the compressed data is cut short");
            }
            _ => return wrong("the compressed data is damaged"),
        }
        let last = self.checkpoints.last().map_or(0, |c| c.out);
        if self.out >= last + self.spacing && !matches!(status, TINFLStatus::Done) {
            self.checkpoint();
        }
        Ok(())
    }

    fn checkpoint(&mut self) {
        let kept = self.kept.min(WINDOW);
        let start = self.out - kept as u64;
        let window = (0..kept as u64).map(|i| self.ring[(start + i) as usize % RING]).collect();
        self.checkpoints.push(Checkpoint { out: self.out, taken: self.taken, decoder: self.decoder.clone(), window });
        if self.checkpoints.len() > MOST_CHECKPOINTS {
            let mut odd = false;
            self.checkpoints.retain(|_| {
                odd = !odd;
                !odd
            });
            self.spacing *= 2;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use flate2::Compression;
    use flate2::write::DeflateEncoder;
    use proptest::prelude::*;
    use std::io::Write;
    use std::sync::{Arc, LazyLock};

    /// Bytes with long-range repeats, so that checkpoints without their window would show.
    fn sample(len: usize) -> Vec<u8> {
        let mut x = 1u32;
        (0..len)
            .map(|i| {
                x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                if i % 40_000 < 30_000 { (i % 251) as u8 } else { (x >> 24) as u8 }
            })
            .collect()
    }

    fn deflate(data: &[u8]) -> SourceRef {
        let mut encoder = DeflateEncoder::new(Vec::new(), Compression::fast());
        encoder.write_all(data).unwrap();
        Arc::new(Bytes(encoder.finish().unwrap()))
    }

    static LARGE: LazyLock<(Vec<u8>, SourceRef)> = LazyLock::new(|| {
        let data = sample(12_000_000);
        let stream = deflate(&data);
        (data, stream)
    });

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn reads_in_any_order_are_the_bytes(reads in proptest::collection::vec((0usize..12_000_000, 1usize..300_000), 1..8)) {
            let (data, stream) = &*LARGE;
            let view = Inflate::new(stream.clone(), data.len() as u64);
            for (at, len) in reads {
                let len = len.min(data.len() - at);
                let mut buf = vec![0; len];
                view.read_at(at as u64, &mut buf).unwrap();
                prop_assert!(buf == data[at..at + len]);
            }
        }

        #[test]
        fn damaged_streams_are_errors_not_panics(at in 0usize..5_000, value in any::<u8>(), cut in 0usize..5_000) {
            let data = sample(50_000);
            let mut stream = vec![0; deflate(&data).len() as usize];
            deflate(&data).read_at(0, &mut stream).unwrap();
            let n = stream.len();
            stream[at % n] ^= value;
            stream.truncate(cut % n);
            let view = Inflate::new(Arc::new(Bytes(stream)), data.len() as u64);
            prop_assert!(view.read_at(0, &mut vec![0; data.len()]).is_err());
        }
    }

    #[test]
    fn checkpoints_thin_out_instead_of_growing_without_end() {
        let data = vec![7u8; 80 << 20];
        let view = Inflate::new(deflate(&data), data.len() as u64);
        view.state.lock().unwrap().spacing = 128 << 10;
        let mut last = [0];
        view.read_at(data.len() as u64 - 1, &mut last).unwrap();
        let state = view.state.lock().unwrap();
        assert!(state.checkpoints.len() <= MOST_CHECKPOINTS && state.spacing > 128 << 10);
        assert!(state.checkpoints.windows(2).all(|w| w[0].out < w[1].out));
    }
}
