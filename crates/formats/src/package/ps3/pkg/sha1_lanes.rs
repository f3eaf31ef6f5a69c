//! SHA-1 (FIPS 180-4) of the 64 bytes that the debug key stream counts with, for several counters side by side: one digest
//! gives 16 bytes, and one after the other they would take eight times as long as hashing the data itself.

/// Counters at once: as many as a wide register has words.
pub const LANES: usize = 8;

type Word = [u32; LANES];

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

#[inline(always)]
fn each(f: impl Fn(usize) -> u32) -> Word {
    std::array::from_fn(f)
}

/// The function and the constant of round `t`.
#[inline(always)]
fn mixed(t: usize, b: u32, c: u32, d: u32) -> u32 {
    match t / 20 {
        0 => (b & c | !b & d).wrapping_add(0x5a82_7999),
        1 => (b ^ c ^ d).wrapping_add(0x6ed9_eba1),
        2 => (b & c | b & d | c & d).wrapping_add(0x8f1b_bcdc),
        _ => (b ^ c ^ d).wrapping_add(0xca62_c1d6),
    }
}

/// All 80 rounds over `state`; `word` gives the word of a round.
#[inline(always)]
fn compress(state: &mut [Word; 5], mut word: impl FnMut(usize) -> Word) {
    let [mut a, mut b, mut c, mut d, mut e] = *state;
    for t in 0..80 {
        let w = word(t);
        let next = each(|i| {
            let sum = a[i].rotate_left(5).wrapping_add(mixed(t, b[i], c[i], d[i]));
            sum.wrapping_add(e[i]).wrapping_add(w[i])
        });
        (e, d, c, b, a) = (d, c, each(|i| b[i].rotate_left(30)), a, next);
    }
    for (own, new) in state.iter_mut().zip([a, b, c, d, e]) {
        *own = each(|i| own[i].wrapping_add(new[i]));
    }
}

/// The first 16 bytes of the digests for the counters from `first` on, one after the other.
pub fn beginnings(seed: &[u8; 16], first: u64) -> [u8; 16 * LANES] {
    let part = |at: usize| u32::from_be_bytes([seed[at], seed[at + 1], seed[at + 2], seed[at + 3]]);
    let counter = |i: usize| first.wrapping_add(i as u64);
    let mut words = [[0; LANES]; 16];
    for (slot, at) in [0, 4, 0, 4, 8, 12, 8, 12].into_iter().enumerate() {
        words[slot] = [part(at); LANES];
    }
    words[14] = each(|i| (counter(i) >> 32) as u32);
    words[15] = each(|i| counter(i) as u32);
    let mut state = START.map(|word| [word; LANES]);
    compress(&mut state, |t| {
        if t >= 16 {
            words[t % 16] = each(|i| {
                let all = words[(t + 13) % 16][i] ^ words[(t + 8) % 16][i] ^ words[(t + 2) % 16][i] ^ words[t % 16][i];
                all.rotate_left(1)
            });
        }
        words[t % 16]
    });
    compress(&mut state, |t| [PADDING[t]; LANES]);
    let mut out = [0; 16 * LANES];
    for (lane, bytes) in out.chunks_exact_mut(16).enumerate() {
        for (word, place) in state.iter().zip(bytes.chunks_exact_mut(4)) {
            place.copy_from_slice(&word[lane].to_be_bytes());
        }
    }
    out
}
