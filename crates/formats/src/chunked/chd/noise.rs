//! Hunks that nothing makes shorter: encrypted and compressed bytes. They are found out in a fraction of the time that trying
//! takes.

/// How far the counts of byte values may be from even: chi-squared with 255 degrees of freedom is 255 on average, and more
/// than this for one in 20,000 hunks of true noise.
const MOST_UNEVEN: f64 = 350.0;
/// Shorter ones are tried: too few bytes to tell.
const LEAST: usize = 4096;

/// Whether a hunk looks like noise in both ways that codecs live by: its byte values are even, and nothing repeats. `room` is
/// memory to work with.
pub(super) fn is_noise(raw: &[u8], room: &mut Vec<u8>) -> bool {
    raw.len() >= LEAST && is_even(raw) && !repeats(raw, room)
}

fn is_even(raw: &[u8]) -> bool {
    // Four tables, as the same one would be waited for.
    let mut counts = [[0u32; 256]; 4];
    for bytes in raw.as_chunks::<4>().0 {
        for (table, byte) in counts.iter_mut().zip(bytes) {
            table[usize::from(*byte)] += 1;
        }
    }
    let expected = (raw.len() / 4 * 4) as f64 / 256.0;
    let sum = |value: usize| f64::from(counts.iter().map(|table| table[value]).sum::<u32>());
    (0..256).map(|value| (sum(value) - expected).powi(2) / expected).sum::<f64>() < MOST_UNEVEN
}

fn repeats(raw: &[u8], room: &mut Vec<u8>) -> bool {
    room.resize(lz4_flex::block::get_maximum_output_size(raw.len()), 0);
    let len = lz4_flex::block::compress_into(raw, room);
    room.clear();
    len.is_ok_and(|len| len < raw.len())
}

#[cfg(test)]
mod tests {
    fn noise(len: usize) -> Vec<u8> {
        let mut state = 0x9e37_79b9_7f4a_7c15u64;
        let mut next = || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state
        };
        (0..len / 8).flat_map(|_| next().to_le_bytes()).collect()
    }

    #[test]
    fn noise_is_told_from_everything_that_packs() {
        let is_noise = |raw: &[u8]| super::is_noise(raw, &mut Vec::new());
        for len in [4096, 65_536] {
            assert!(is_noise(&noise(len)), "{len}");
            let mut half = noise(len);
            half[len / 2..].fill(0);
            assert!(!is_noise(&half), "half of it zeros");
            let mut twice = noise(len / 2);
            twice.extend_from_within(..);
            assert!(!is_noise(&twice), "the same twice");
            // Every value as often as every other, one after the other.
            let even: Vec<u8> = (0..len).map(|i| i as u8).collect();
            assert!(!is_noise(&even));
            let text: Vec<u8> = noise(len).iter().map(|b| b'a' + b % 26).collect();
            assert!(!is_noise(&text), "few values");
            // Sound: samples that wander, in 16 bits.
            let sample = |i: usize| ((f64::from(i as u32) / 9.0).sin() * 30_000.0) as i16;
            let wave: Vec<u8> = (0..len / 2).flat_map(|i| sample(i).to_le_bytes()).collect();
            assert!(!is_noise(&wave), "sound");
        }
        assert!(!is_noise(&noise(64)), "too little to tell");
    }
}
