//! HMAC-SHA256 (FIPS 180-4, RFC 2104) of several blocks of the same length side by side: on processors without instructions
//! for SHA-256, wide words do several at once in little more than the time of one.

use pulp::{Arch, Simd, WithSimd};

/// Lanes at most, whatever the processor has.
const MOST_LANES: usize = 16;
/// Bytes that a round of compression takes.
const CHUNK: usize = 64;

const START: [u32; 8] =
    [0x6a09_e667, 0xbb67_ae85, 0x3c6e_f372, 0xa54f_f53a, 0x510e_527f, 0x9b05_688c, 0x1f83_d9ab, 0x5be0_cd19];

/// The first 32 bits of the fractional parts of the cube roots of the first 64 primes.
const CONSTANTS: [u32; 64] = [
    0x428a_2f98,
    0x7137_4491,
    0xb5c0_fbcf,
    0xe9b5_dba5,
    0x3956_c25b,
    0x59f1_11f1,
    0x923f_82a4,
    0xab1c_5ed5,
    0xd807_aa98,
    0x1283_5b01,
    0x2431_85be,
    0x550c_7dc3,
    0x72be_5d74,
    0x80de_b1fe,
    0x9bdc_06a7,
    0xc19b_f174,
    0xe49b_69c1,
    0xefbe_4786,
    0x0fc1_9dc6,
    0x240c_a1cc,
    0x2de9_2c6f,
    0x4a74_84aa,
    0x5cb0_a9dc,
    0x76f9_88da,
    0x983e_5152,
    0xa831_c66d,
    0xb003_27c8,
    0xbf59_7fc7,
    0xc6e0_0bf3,
    0xd5a7_9147,
    0x06ca_6351,
    0x1429_2967,
    0x27b7_0a85,
    0x2e1b_2138,
    0x4d2c_6dfc,
    0x5338_0d13,
    0x650a_7354,
    0x766a_0abb,
    0x81c2_c92e,
    0x9272_2c85,
    0xa2bf_e8a1,
    0xa81a_664b,
    0xc24b_8b70,
    0xc76c_51a3,
    0xd192_e819,
    0xd699_0624,
    0xf40e_3585,
    0x106a_a070,
    0x19a4_c116,
    0x1e37_6c08,
    0x2748_774c,
    0x34b0_bcb5,
    0x391c_0cb3,
    0x4ed8_aa4a,
    0x5b9c_ca4f,
    0x682e_6ff3,
    0x748f_82ee,
    0x78a5_636f,
    0x84c8_7814,
    0x8cc7_0208,
    0x90be_fffa,
    0xa450_6ceb,
    0xbef9_a3f7,
    0xc671_78f2,
];

/// Where hashing stands once the padded key has gone in, on the inside and on the outside.
#[derive(Clone)]
pub(super) struct States {
    inner: [u32; 8],
    outer: [u32; 8],
}

impl States {
    /// Those of a key of at most 64 bytes.
    pub(super) fn new(key: &[u8]) -> Self {
        let after = |pad: u8| {
            let mut chunk = [pad; CHUNK];
            chunk.iter_mut().zip(key).for_each(|(own, byte)| *own ^= byte);
            let simd = pulp::Scalar::new();
            let mut state = START;
            let words = std::array::from_fn(|t| be(&chunk, 4 * t));
            compress(simd, &mut state, words);
            state
        };
        Self { inner: after(0x36), outer: after(0x5c) }
    }

    /// The codes of all blocks of `len` bytes, a multiple of 64, that `bytes` consist of.
    pub(super) fn codes(&self, bytes: &[u8], len: usize) -> Vec<[u8; 32]> {
        Arch::new().dispatch(Side { states: self, bytes, len })
    }
}

/// The work of [`States::codes`], for whatever the processor has.
struct Side<'a> {
    states: &'a States,
    bytes: &'a [u8],
    len: usize,
}

impl WithSimd for Side<'_> {
    type Output = Vec<[u8; 32]>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Self::Output {
        let lanes = S::U32_LANES.min(MOST_LANES);
        let mut codes = Vec::with_capacity(self.bytes.len() / self.len);
        for some in self.bytes.chunks(lanes * self.len) {
            let count = some.len() / self.len;
            let mut state = self.states.inner.map(|word| simd.splat_u32s(word));
            for at in (0..self.len).step_by(CHUNK) {
                let mut words = [[0u32; MOST_LANES]; 16];
                for (lane, block) in some.chunks_exact(self.len).enumerate() {
                    let chunk = &block[at..at + CHUNK];
                    for (t, word) in words.iter_mut().enumerate() {
                        word[lane] = be(chunk, 4 * t);
                    }
                }
                compress(simd, &mut state, words.map(|word| simd.partial_load_u32s(&word[..lanes])));
            }
            compress(simd, &mut state, padding(simd, &[], self.len));
            let mut outer = self.states.outer.map(|word| simd.splat_u32s(word));
            compress(simd, &mut outer, padding(simd, &state, 0));
            let mut all = [[0u32; MOST_LANES]; 8];
            for (word, out) in outer.iter().zip(&mut all) {
                simd.partial_store_u32s(&mut out[..lanes], *word);
            }
            for lane in 0..count {
                let mut code = [0; 32];
                for (word, bytes) in all.iter().zip(code.chunks_exact_mut(4)) {
                    bytes.copy_from_slice(&word[lane].to_be_bytes());
                }
                codes.push(code);
            }
        }
        codes
    }
}

#[inline(always)]
fn be(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
}

/// The last chunk of a message: `words`, a one, zeros, and the length in bits of the padded key, of `len` bytes and of these.
#[inline(always)]
fn padding<S: Simd>(simd: S, words: &[S::u32s], len: usize) -> [S::u32s; 16] {
    let mut all = [simd.splat_u32s(0); 16];
    all[..words.len()].copy_from_slice(words);
    all[words.len()] = simd.splat_u32s(0x8000_0000);
    let bits = 8 * (CHUNK + len + 4 * words.len()) as u64;
    all[14] = simd.splat_u32s((bits >> 32) as u32);
    all[15] = simd.splat_u32s(bits as u32);
    all
}

/// The 64 rounds.
#[inline(always)]
fn compress<S: Simd>(simd: S, state: &mut [S::u32s; 8], mut words: [S::u32s; 16]) {
    let add = |a, b| simd.add_u32s(a, b);
    let xor3 = |a, b, c| simd.xor_u32s(a, simd.xor_u32s(b, c));
    let [mut a, mut b, mut c, mut d, mut e, mut f, mut g, mut h] = *state;
    for t in 0..64 {
        let word = match t {
            0..16 => words[t],
            _ => {
                let (early, late) = (words[(t + 1) % 16], words[(t + 14) % 16]);
                let small = xor3(rotated(simd, early, 7), rotated(simd, early, 18), shifted(simd, early, 3));
                let other = xor3(rotated(simd, late, 17), rotated(simd, late, 19), shifted(simd, late, 10));
                let word = add(add(words[t % 16], small), add(words[(t + 9) % 16], other));
                words[t % 16] = word;
                word
            }
        };
        let large = xor3(rotated(simd, e, 6), rotated(simd, e, 11), rotated(simd, e, 25));
        let choice = simd.xor_u32s(g, simd.and_u32s(e, simd.xor_u32s(f, g)));
        let one = add(add(add(h, large), add(choice, simd.splat_u32s(CONSTANTS[t]))), word);
        let large = xor3(rotated(simd, a, 2), rotated(simd, a, 13), rotated(simd, a, 22));
        let majority = simd.or_u32s(simd.and_u32s(a, b), simd.and_u32s(c, simd.or_u32s(a, b)));
        let two = add(large, majority);
        (h, g, f, e, d, c, b, a) = (g, f, e, add(d, one), c, b, a, add(one, two));
    }
    for (own, word) in state.iter_mut().zip([a, b, c, d, e, f, g, h]) {
        *own = add(*own, word);
    }
}

#[inline(always)]
fn shifted<S: Simd>(simd: S, word: S::u32s, by: u32) -> S::u32s {
    simd.wrapping_dyn_shr_u32s(word, simd.splat_u32s(by))
}

/// Turned to the right.
#[inline(always)]
fn rotated<S: Simd>(simd: S, word: S::u32s, by: u32) -> S::u32s {
    let left = simd.wrapping_dyn_shl_u32s(word, simd.splat_u32s(32 - by));
    simd.or_u32s(left, simd.wrapping_dyn_shr_u32s(word, simd.splat_u32s(by)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::digest::MacKey;

    #[test]
    fn all_processors_find_what_one_after_the_other_gives() {
        let key: Vec<u8> = (0..32).collect();
        let states = States::new(&key);
        for (count, len) in [(1, 64), (3, 4096), (16, 128), (17, 192), (40, 64)] {
            let bytes: Vec<u8> = (0..count * len).map(|i| (i * 7 + i / 251) as u8).collect();
            let wanted: Vec<[u8; 32]> = bytes.chunks(len).map(|block| MacKey::new(&key).code(block)).collect();
            assert_eq!(states.codes(&bytes, len), wanted, "{count} blocks of {len}");
            let narrow = Side { states: &states, bytes: &bytes, len }.with_simd(pulp::Scalar::new());
            assert_eq!(narrow, wanted, "{count} blocks of {len}, one after the other");
        }
    }
}
