//! Corrects what the P and Q parities of a raw sector can correct, and proves it by the EDC.
//!
//! Each code word (ECMA-130, annex A) has two check bytes, so it can correct one wrong byte of its own. Rounds of P and
//! Q go on as long as one of them corrects something: a byte that two words share may be wrong in one and right after
//! the other.

use super::sector::{self, Layout};
use std::sync::LazyLock;

/// Rounds of both parities. Bursts that can be corrected at all are so within a few.
const MOST_ROUNDS: usize = 16;

/// What came of a repair.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// Nothing was wrong.
    Sound,
    /// It was corrected, and the EDC proves it: so many bytes changed.
    Corrected(usize),
    /// Too much is wrong. Nothing was changed.
    Beyond,
}

/// Powers of the primitive element, twice over, and their logarithms.
static LOG: LazyLock<([u8; 510], [u8; 256])> = LazyLock::new(|| {
    let (mut exp, mut log) = ([0u8; 510], [0u8; 256]);
    let mut value = 1u8;
    for power in 0..255 {
        exp[power] = value;
        exp[power + 255] = value;
        log[usize::from(value)] = power as u8;
        value = value << 1 ^ if value & 0x80 != 0 { 0x1d } else { 0 };
    }
    (exp, log)
});

/// Repairs a raw sector that should stand at `number`, if it is known.
pub fn repair(raw: &mut [u8], number: Option<u64>) -> Outcome {
    if !sector::check(raw, number).any() {
        return Outcome::Sound;
    }
    // Zeros satisfy every code, so a sector that was filled with them proves nothing, whatever its header says.
    if raw[..12] != sector::SYNC && raw[16..].iter().all(|&b| b == 0) {
        return Outcome::Beyond;
    }
    let mut best: Option<Vec<u8>> = None;
    for layout in layouts(raw) {
        let mut work = raw.to_vec();
        work[..12].copy_from_slice(&sector::SYNC);
        if let Some(number) = number {
            work[12..15].copy_from_slice(&sector::address(number));
        }
        work[15] = if layout == Layout::Mode1 { 1 } else { 2 };
        if layout != Layout::Form2 {
            correct(&mut work, layout == Layout::Form1);
        }
        if sector::layout(&work) != layout {
            continue;
        }
        let faults = sector::check(&work, number);
        if faults.edc {
            continue;
        }
        if faults.ecc {
            // The EDC proves the data; what is still wrong in the parities can be computed from them.
            sector::seal_parity(&mut work, layout);
        }
        best = Some(work);
        break;
    }
    match best {
        Some(work) => {
            let changed = work.iter().zip(raw.iter()).filter(|(a, b)| a != b).count();
            raw.copy_from_slice(&work);
            if changed == 0 { Outcome::Sound } else { Outcome::Corrected(changed) }
        }
        None => Outcome::Beyond,
    }
}

/// The layouts to try: what the header says first.
fn layouts(raw: &[u8]) -> Vec<Layout> {
    let said = sector::layout(raw);
    let mut all = vec![said, Layout::Mode1, Layout::Form1, Layout::Form2];
    all.retain(|l| matches!(l, Layout::Mode1 | Layout::Form1 | Layout::Form2));
    all.dedup();
    all
}

/// Rounds of P and Q until neither corrects anything any more.
fn correct(raw: &mut [u8], blank_header: bool) {
    let header = [raw[12], raw[13], raw[14], raw[15]];
    if blank_header {
        raw[12..16].fill(0);
    }
    let area = &mut raw[12..2352];
    for _ in 0..MOST_ROUNDS {
        let mut corrected = 0;
        for column in 0..86 {
            corrected += usize::from(word(area, 26, |row| row * 86 + column));
        }
        for diagonal in 0..52 {
            let place = |step: usize| match step {
                0..43 => (diagonal / 2 * 86 + step * 88) % 2236 + diagonal % 2,
                _ => 2236 + (step - 43) * 52 + diagonal,
            };
            corrected += usize::from(word(area, 45, place));
        }
        if corrected == 0 {
            break;
        }
    }
    if blank_header {
        raw[12..16].copy_from_slice(&header);
    }
}

/// Corrects one wrong byte in the code word of `len` bytes whose places `place` tells. True if it did.
fn word(area: &mut [u8], len: usize, place: impl Fn(usize) -> usize) -> bool {
    let (exp, log) = &*LOG;
    let (mut sum, mut weighted) = (0u8, 0u8);
    for step in 0..len {
        let byte = area[place(step)];
        sum ^= byte;
        weighted = weighted << 1 ^ if weighted & 0x80 != 0 { 0x1d } else { 0 } ^ byte;
    }
    if sum == 0 || weighted == 0 {
        // Nothing wrong, or more than one byte.
        return false;
    }
    let distance = (usize::from(log[usize::from(weighted)]) + 255 - usize::from(log[usize::from(sum)])) % 255;
    debug_assert_eq!(exp[distance + usize::from(log[usize::from(sum)])], weighted);
    if distance >= len {
        return false;
    }
    area[place(len - 1 - distance)] ^= sum;
    true
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sealed(layout: Layout, seed: u32) -> Vec<u8> {
        let mut raw: Vec<u8> = (0..sector::RAW as u32).map(|i| (i.wrapping_mul(seed | 1) >> 11) as u8).collect();
        raw[16..24].copy_from_slice(&[0, 0, 8, 0, 0, 0, 8, 0]);
        sector::seal(&mut raw, 4_500, layout);
        raw
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn a_burst_of_a_row_is_corrected(seed: u32, from in 0usize..2352, len in 1usize..80, mode2: bool) {
            let good = sealed(if mode2 { Layout::Form1 } else { Layout::Mode1 }, seed);
            let mut bad = good.clone();
            for byte in bad.iter_mut().skip(from).take(len) {
                *byte ^= 0x55;
            }
            prop_assert!(matches!(repair(&mut bad, Some(4_500)), Outcome::Corrected(_)));
            prop_assert_eq!(bad, good);
        }
    }

    #[test]
    fn what_is_beyond_repair_is_left_alone() {
        let good = sealed(Layout::Mode1, 77);
        let mut bad = good.clone();
        bad[100..1900].fill(0);
        let before = bad.clone();
        assert_eq!(repair(&mut bad, Some(4_500)), Outcome::Beyond);
        assert_eq!(bad, before);
        assert_eq!(repair(&mut good.clone(), Some(4_500)), Outcome::Sound);
        assert_eq!(repair(&mut [0; sector::RAW], Some(4_500)), Outcome::Beyond, "zeros prove nothing");
    }
}
