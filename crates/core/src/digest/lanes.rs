//! SHA-1 (FIPS 180-4) of many short messages side by side, one in each lane of a vector. One message alone cannot be worked on
//! in parallel: each round waits for the one before.

use super::{Algorithm, of_bytes};
use pulp::{Arch, Simd, WithSimd};

/// The state that every digest begins with.
pub const START: [u32; 5] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476, 0xc3d2_e1f0];
/// Of each twenty rounds.
pub const CONSTANTS: [u32; 4] = [0x5a82_7999, 0x6ed9_eba1, 0x8f1b_bcdc, 0xca62_c1d6];

/// Bytes of a block.
const BLOCK: usize = 64;
/// Lanes of the widest vector.
const MOST_LANES: usize = 16;

/// The SHA-1 of each message, in their order.
pub fn sha1_of_many(messages: &[&[u8]]) -> Vec<[u8; 20]> {
    Arch::new().dispatch(Many { messages })
}

/// The work of [`sha1_of_many`], for whatever the processor has.
struct Many<'a> {
    messages: &'a [&'a [u8]],
}

impl WithSimd for Many<'_> {
    type Output = Vec<[u8; 20]>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Vec<[u8; 20]> {
        let mut digests = vec![[0; 20]; self.messages.len()];
        // Messages of about the same length go together: a lane that is done only waits.
        let mut order: Vec<usize> = (0..self.messages.len()).collect();
        order.sort_unstable_by_key(|number| std::cmp::Reverse(self.messages[*number].len()));
        for group in order.chunks(S::U32_LANES.min(MOST_LANES)) {
            // With few of them, one after the other is faster.
            if group.len() <= 3 {
                for number in group {
                    let digest = of_bytes(Algorithm::Sha1, self.messages[*number]);
                    digests[*number].copy_from_slice(&digest.bytes);
                }
                continue;
            }
            side_by_side(simd, self.messages, group, &mut digests);
        }
        digests
    }
}

/// A message, with its last bytes and their padding.
struct Message<'a> {
    bytes: &'a [u8],
    end: [u8; 2 * BLOCK],
    whole: usize,
    blocks: usize,
}

impl<'a> Message<'a> {
    fn of(bytes: &'a [u8]) -> Self {
        let whole = bytes.len() / BLOCK;
        let rest = &bytes[whole * BLOCK..];
        let mut end = [0; 2 * BLOCK];
        end[..rest.len()].copy_from_slice(rest);
        end[rest.len()] = 0x80;
        let blocks = if rest.len() + 9 <= BLOCK { 1 } else { 2 };
        end[blocks * BLOCK - 8..blocks * BLOCK].copy_from_slice(&(bytes.len() as u64 * 8).to_be_bytes());
        Self { bytes, end, whole, blocks: whole + blocks }
    }

    /// The block of this number; behind the last one, whatever.
    fn block(&self, number: usize) -> &[u8] {
        match number.checked_sub(self.whole) {
            None => &self.bytes[number * BLOCK..(number + 1) * BLOCK],
            Some(at) => &self.end[at.min(1) * BLOCK..(at.min(1) + 1) * BLOCK],
        }
    }
}

#[inline(always)]
fn side_by_side<S: Simd>(simd: S, messages: &[&[u8]], group: &[usize], digests: &mut [[u8; 20]]) {
    let lanes: Vec<Message<'_>> = group.iter().map(|number| Message::of(messages[*number])).collect();
    let most = lanes.iter().map(|message| message.blocks).max().unwrap_or(0);
    let mut state = START.map(|word| simd.splat_u32s(word));
    for number in 0..most {
        let mut words = [[0u32; MOST_LANES]; 16];
        for (lane, message) in lanes.iter().enumerate() {
            for (word, bytes) in words.iter_mut().zip(message.block(number).as_chunks::<4>().0) {
                word[lane] = u32::from_be_bytes(*bytes);
            }
        }
        // All of it first, in plain loops: what is a function of its own is made for every processor, and so for none.
        let mut schedule = [simd.splat_u32s(0); 80];
        for t in 0..16 {
            schedule[t] = simd.partial_load_u32s(&words[t][..S::U32_LANES]);
        }
        for t in 16..80 {
            let mixed = simd.xor_u32s(
                simd.xor_u32s(schedule[t - 3], schedule[t - 8]),
                simd.xor_u32s(schedule[t - 14], schedule[t - 16]),
            );
            schedule[t] = rotated(simd, mixed, 1);
        }
        let before = state;
        rounds(simd, &mut state, |t| simd.add_u32s(schedule[t], simd.splat_u32s(CONSTANTS[t / 20])));
        for (word, before) in state.iter_mut().zip(before) {
            *word = simd.add_u32s(*word, before);
        }
        if !lanes.iter().any(|message| message.blocks == number + 1) {
            continue;
        }
        for (at, word) in state.iter().enumerate() {
            let mut all = [0; MOST_LANES];
            simd.partial_store_u32s(&mut all[..S::U32_LANES], *word);
            for ((message, word), own) in lanes.iter().zip(all).zip(group) {
                if message.blocks == number + 1 {
                    digests[*own][4 * at..4 * at + 4].copy_from_slice(&word.to_be_bytes());
                }
            }
        }
    }
}

/// All 80 rounds; the words have the rounds' constants in them.
#[inline(always)]
pub fn rounds<S: Simd>(simd: S, state: &mut [S::u32s; 5], word: impl Fn(usize) -> S::u32s) {
    let choice = |b, c, d| simd.xor_u32s(d, simd.and_u32s(b, simd.xor_u32s(c, d)));
    let parity = |b, c, d| simd.xor_u32s(b, simd.xor_u32s(c, d));
    let majority = |b, c, d| simd.or_u32s(simd.and_u32s(b, c), simd.and_u32s(d, simd.or_u32s(b, c)));
    for t in 0..20 {
        round(simd, state, choice, word(t));
    }
    for t in 20..40 {
        round(simd, state, parity, word(t));
    }
    for t in 40..60 {
        round(simd, state, majority, word(t));
    }
    for t in 60..80 {
        round(simd, state, parity, word(t));
    }
}

#[inline(always)]
fn round<S: Simd>(
    simd: S,
    state: &mut [S::u32s; 5],
    mix: impl Fn(S::u32s, S::u32s, S::u32s) -> S::u32s,
    word: S::u32s,
) {
    let [a, b, c, d, e] = *state;
    let next = simd.add_u32s(simd.add_u32s(rotated(simd, a, 5), mix(b, c, d)), simd.add_u32s(e, word));
    *state = [next, a, rotated(simd, b, 30), c, d];
}

#[inline(always)]
fn rotated<S: Simd>(simd: S, word: S::u32s, by: u32) -> S::u32s {
    let left = simd.wrapping_dyn_shl_u32s(word, simd.splat_u32s(by));
    simd.or_u32s(left, simd.wrapping_dyn_shr_u32s(word, simd.splat_u32s(32 - by)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::hex;

    #[test]
    fn the_examples_of_the_standard() {
        let messages: [&[u8]; 5] = [
            b"abc",
            b"abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq",
            b"",
            &[b'a'; 1_000_000],
            b"The quick brown fox jumps over the lazy dog",
        ];
        let expected = [
            "a9993e364706816aba3e25717850c26c9cd0d89d",
            "84983e441c3bd26ebaae4aa1f95129e5e54670f1",
            "da39a3ee5e6b4b0d3255bfef95601890afd80709",
            "34aa973cd4c4daa4f61eeb2bdbad27316534016f",
            "2fd4e1c67a2d28fced849ee1bb76e7391b93eb12",
        ];
        let found = sha1_of_many(&messages);
        assert_eq!(found.iter().map(|digest| hex(digest)).collect::<Vec<_>>(), expected);
        let narrow = Many { messages: &messages }.with_simd(pulp::Scalar::new());
        assert_eq!(narrow, found, "without wide words");
    }

    proptest::proptest! {
        #[test]
        fn whatever_goes_together(lens in proptest::collection::vec(0usize..400, 0..50)) {
            let messages: Vec<Vec<u8>> =
                lens.iter().enumerate().map(|(n, len)| (0..*len).map(|i| (i * 31 + n * 7) as u8).collect()).collect();
            let borrowed: Vec<&[u8]> = messages.iter().map(Vec::as_slice).collect();
            for (message, found) in messages.iter().zip(sha1_of_many(&borrowed)) {
                proptest::prop_assert_eq!(&of_bytes(Algorithm::Sha1, message).bytes[..], &found[..]);
            }
        }
    }
}
