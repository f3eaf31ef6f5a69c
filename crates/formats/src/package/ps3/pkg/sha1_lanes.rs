//! SHA-1 (FIPS 180-4) of the 64 bytes that the debug key stream counts with, for several counters side by side: one digest
//! gives 16 bytes, and one after the other they would take eight times as long as hashing the data itself.
//!
//! Neighbouring counters differ in four bits, and the schedule of SHA-1 is linear: it is worked out once for sixteen
//! counters, and what those bits change in it stands in a table. The second block is padding alone, whose schedule is known.

use decanter_core::digest::lanes::{CONSTANTS, START, rounds};
use pulp::{Arch, Simd, WithSimd};

/// Counters that share a schedule.
const SHARED: usize = 16;
/// Bytes of the stream that they give.
const STRETCH: usize = 16 * SHARED;

const fn schedule(mut words: [u32; 80]) -> [u32; 80] {
    let mut t = 16;
    while t < 80 {
        words[t] = (words[t - 3] ^ words[t - 8] ^ words[t - 14] ^ words[t - 16]).rotate_left(1);
        t += 1;
    }
    words
}

/// The schedule of the second block, which is a one, zeros, and the length of 512 bits, with the rounds' constants added.
const PADDING: [u32; 80] = {
    let mut words = [0u32; 80];
    words[0] = 0x8000_0000;
    words[15] = 512;
    let mut words = schedule(words);
    let mut t = 0;
    while t < 80 {
        words[t] = words[t].wrapping_add(CONSTANTS[t / 20]);
        t += 1;
    }
    words
};

/// What the lowest four bits of the counter change in the schedule of the first block.
static LOW_BITS: [[u32; SHARED]; 80] = {
    let mut all = [[0; SHARED]; 80];
    let mut low = 0;
    while low < SHARED {
        let mut words = [0u32; 80];
        words[15] = low as u32;
        let words = schedule(words);
        let mut t = 0;
        while t < 80 {
            all[t][low] = words[t];
            t += 1;
        }
        low += 1;
    }
    all
};

/// Puts the stream of `seed` over `bytes`, the first of which stands at `offset` of the area.
pub fn apply(seed: &[u8; 16], offset: u64, bytes: &mut [u8]) {
    Arch::new().dispatch(Over { seed, offset, bytes });
}

/// The work of [`apply`], for whatever the processor has.
struct Over<'a> {
    seed: &'a [u8; 16],
    offset: u64,
    bytes: &'a mut [u8],
}

impl WithSimd for Over<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) {
        let part =
            |at: usize| u32::from_be_bytes([self.seed[at], self.seed[at + 1], self.seed[at + 2], self.seed[at + 3]]);
        let mut words = [0u32; 80];
        for (slot, at) in [0, 4, 0, 4, 8, 12, 8, 12].into_iter().enumerate() {
            words[slot] = part(at);
        }
        let mut counter = self.offset / STRETCH as u64 * SHARED as u64;
        let mut skip = (self.offset % STRETCH as u64) as usize;
        let mut bytes = self.bytes;
        while !bytes.is_empty() {
            words[14] = (counter >> 32) as u32;
            words[15] = counter as u32;
            let stream = stretch(simd, &schedule(words));
            let (now, later) = bytes.split_at_mut(bytes.len().min(STRETCH - skip));
            now.iter_mut().zip(&stream[skip..]).for_each(|(byte, key)| *byte ^= key);
            (bytes, skip) = (later, 0);
            counter = counter.wrapping_add(SHARED as u64);
        }
    }
}

/// The first 16 bytes of the digests of sixteen counters, the first of which has the schedule `words`.
#[inline(always)]
fn stretch<S: Simd>(simd: S, words: &[u32; 80]) -> [u8; STRETCH] {
    let mut out = [0; STRETCH];
    for (low, out) in (0..SHARED).step_by(S::U32_LANES).zip(out.chunks_exact_mut(16 * S::U32_LANES)) {
        let mut state = START.map(|word| simd.splat_u32s(word));
        rounds(simd, &mut state, |t| {
            let low_bits = simd.partial_load_u32s(&LOW_BITS[t][low..low + S::U32_LANES]);
            simd.add_u32s(simd.xor_u32s(simd.splat_u32s(words[t]), low_bits), simd.splat_u32s(CONSTANTS[t / 20]))
        });
        for (word, start) in state.iter_mut().zip(START) {
            *word = simd.add_u32s(*word, simd.splat_u32s(start));
        }
        let before = state;
        rounds(simd, &mut state, |t| simd.splat_u32s(PADDING[t]));
        for (at, (word, before)) in state.iter().zip(before).enumerate().take(4) {
            let mut lanes = [0; SHARED];
            simd.partial_store_u32s(&mut lanes[..S::U32_LANES], simd.add_u32s(*word, before));
            for (digest, word) in out.chunks_exact_mut(16).zip(lanes) {
                digest[4 * at..4 * at + 4].copy_from_slice(&word.to_be_bytes());
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn processors_without_wide_words_find_the_same() {
        for (offset, len) in [(0, 700), (5, 3), (250, 40), ((1u64 << 36) - 100, 400)] {
            let (mut wide, mut narrow) = (vec![0; len], vec![0; len]);
            apply(b"saltmarsh-pier-9", offset, &mut wide);
            Over { seed: b"saltmarsh-pier-9", offset, bytes: &mut narrow }.with_simd(pulp::Scalar::new());
            assert_eq!(wide, narrow, "{offset}");
        }
    }
}
