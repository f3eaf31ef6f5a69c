//! SHA-1 (FIPS 180-4) of the 64 bytes that the debug key stream counts with, for several counters side by side: one digest
//! gives 16 bytes, and one after the other they would take eight times as long as hashing the data itself.

use wide::u32x8;

/// Counters at once.
pub const LANES: usize = 8;

const START: [u32; 5] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476, 0xc3d2_e1f0];

/// The schedule of the second block, which is padding alone: a one, zeros, and the length of 512 bits.
const PADDING: [u32; 80] = {
    let mut words = [0u32; 80];
    words[0] = 0x8000_0000;
    words[15] = 512;
    let mut t = 16;
    while t < 80 {
        words[t] = (words[t - 3] ^ words[t - 8] ^ words[t - 14] ^ words[t - 16]).rotate_left(1);
        t += 1;
    }
    words
};

fn rotated(word: u32x8, by: u32) -> u32x8 {
    word << by | word >> (32 - by)
}

/// Twenty rounds, whose function is `mix`.
#[inline(always)]
fn twenty(state: &mut [u32x8; 5], words: &[u32x8], constant: u32, mix: impl Fn([u32x8; 3]) -> u32x8) {
    let [mut a, mut b, mut c, mut d, mut e] = *state;
    let constant = u32x8::splat(constant);
    for word in words {
        let next = rotated(a, 5) + mix([b, c, d]) + e + *word + constant;
        (e, d, c, b, a) = (d, c, rotated(b, 30), a, next);
    }
    *state = [a, b, c, d, e];
}

/// All 80 rounds over `state`.
fn compress(state: &mut [u32x8; 5], words: &[u32x8; 80]) {
    let before = *state;
    twenty(state, &words[..20], 0x5a82_7999, |[b, c, d]| d ^ b & (c ^ d));
    twenty(state, &words[20..40], 0x6ed9_eba1, |[b, c, d]| b ^ c ^ d);
    twenty(state, &words[40..60], 0x8f1b_bcdc, |[b, c, d]| b & c | d & (b | c));
    twenty(state, &words[60..], 0xca62_c1d6, |[b, c, d]| b ^ c ^ d);
    for (own, old) in state.iter_mut().zip(before) {
        *own += old;
    }
}

/// The first 16 bytes of the digests for the counters from `first` on, one after the other.
pub fn beginnings(seed: &[u8; 16], first: u64) -> [u8; 16 * LANES] {
    let part = |at: usize| u32::from_be_bytes([seed[at], seed[at + 1], seed[at + 2], seed[at + 3]]);
    let counter = |i: usize| first.wrapping_add(i as u64);
    let mut words = [u32x8::splat(0); 80];
    for (slot, at) in [0, 4, 0, 4, 8, 12, 8, 12].into_iter().enumerate() {
        words[slot] = u32x8::splat(part(at));
    }
    words[14] = u32x8::new(std::array::from_fn(|i| (counter(i) >> 32) as u32));
    words[15] = u32x8::new(std::array::from_fn(|i| counter(i) as u32));
    for t in 16..80 {
        words[t] = rotated(words[t - 3] ^ words[t - 8] ^ words[t - 14] ^ words[t - 16], 1);
    }
    let mut state = START.map(u32x8::splat);
    compress(&mut state, &words);
    compress(&mut state, &PADDING.map(u32x8::splat));
    let state = state.map(u32x8::to_array);
    let mut out = [0; 16 * LANES];
    for (lane, bytes) in out.chunks_exact_mut(16).enumerate() {
        for (word, place) in state.iter().zip(bytes.chunks_exact_mut(4)) {
            place.copy_from_slice(&word[lane].to_be_bytes());
        }
    }
    out
}
