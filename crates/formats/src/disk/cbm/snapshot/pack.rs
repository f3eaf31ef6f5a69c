//! The packer: literals, and copies of what was unpacked before. What is unpacked may run up to the packed bytes that are
//! still to be read, and never past them.
//!
//! | first byte | then | becomes |
//! | --- | --- | --- |
//! | 01 to 7f | so many bytes | the same bytes |
//! | 80 to bf | a distance less 1 | as many bytes as the byte less 7e, from so far back |
//! | c0 to ff | an address, low byte first | as many bytes as the byte less bd, from there |
//! | 00 | an address | what follows goes there |
//!
//! It ends where the last bytes begin, which are where they belong already.

use super::moment::{LOAD, LOAD_END, MEMORY};
use std::collections::HashMap;
use std::ops::Range;

/// The first address that is packed: the two before are the processor's port.
pub(super) const FIRST: usize = 2;
/// Bytes of a run of literals.
const MOST_LITERALS: usize = 0x7f;
/// Bytes of a near copy (from at most 256 back) and of a far one.
const NEAR: Range<usize> = 2..66;
const FAR: Range<usize> = 3..67;
/// Bytes below which packed memory that can be loaded never reaches.
const MOST_LOADED: usize = MEMORY - LOAD_END + LOAD;
/// Earlier places that are tried at each address.
const MOST_TRIES: usize = 48;

/// A step of unpacking.
#[derive(Debug, Clone, Copy)]
enum Step {
    Literal,
    Copy { from: usize, len: usize },
}

/// Packs all of `memory` but the holes, which are in order; also the address at which unpacking ends.
pub(super) fn pack(memory: &[u8], holes: &[Range<usize>]) -> (Vec<u8>, usize) {
    let mut tail = 0;
    loop {
        let end = MEMORY - tail;
        if let Some(packed) = pack_before(memory, holes, end) {
            return (packed, end);
        }
        tail = (tail * 2).clamp(8, MEMORY - FIRST);
    }
}

/// Packs up to `end`, and adds the rest as it is; `None` if unpacking would overtake what is still to be read.
fn pack_before(memory: &[u8], holes: &[Range<usize>], end: usize) -> Option<Vec<u8>> {
    let starts = std::iter::once(FIRST).chain(holes.iter().map(|h| h.end));
    let ends = holes.iter().map(|h| h.start.min(end)).chain([end]);
    let segments: Vec<Range<usize>> = starts.zip(ends).map(|(from, to)| from..to).collect();
    let mut packed = Vec::new();
    // How far unpacking has come after so many packed bytes.
    let mut reached: Vec<(usize, usize)> = Vec::new();
    for segment in segments.iter().filter(|s| s.start < s.end) {
        packed.push(0);
        packed.extend((segment.start as u16).to_le_bytes());
        let steps = parse(memory, segment.clone(), holes);
        let mut at = segment.start;
        while at < segment.end {
            match steps[at - segment.start] {
                Step::Literal => {
                    let is_literal = |i: &usize| matches!(steps[*i - segment.start], Step::Literal);
                    let len = (at..segment.end).take_while(is_literal).take(MOST_LITERALS).count();
                    packed.push(len as u8);
                    packed.extend(&memory[at..at + len]);
                    at += len;
                }
                Step::Copy { from, len } => {
                    let distance = at - from;
                    if distance <= 256 && NEAR.contains(&len) {
                        packed.extend([0x80 + (len - NEAR.start) as u8, (distance - 1) as u8]);
                    } else {
                        packed.push(0xc0 + (len - FAR.start) as u8);
                        packed.extend((from as u16).to_le_bytes());
                    }
                    at += len;
                }
            }
            reached.push((packed.len(), at));
        }
    }
    packed.extend(&memory[end..]);
    // Longer than what can be loaded: it is refused, however it would unpack.
    let Some(start) = MEMORY.checked_sub(packed.len()).filter(|start| *start > MOST_LOADED) else {
        return Some(packed);
    };
    let overtakes = reached.iter().any(|(read, at)| *at > start + read);
    (!overtakes).then_some(packed)
}

/// The way through a segment that takes the fewest bytes: a step for each address at which one begins.
fn parse(memory: &[u8], segment: Range<usize>, holes: &[Range<usize>]) -> Vec<Step> {
    let copies = find_copies(memory, &segment, holes);
    let len = segment.end - segment.start;
    // The cost of the rest, if a literal run goes on, and if a new step begins.
    let (mut going, mut fresh) = (vec![0u32; len + 1], vec![0u32; len + 1]);
    let mut steps = vec![(Step::Literal, Step::Literal); len];
    for at in (0..len).rev() {
        let (mut best, mut copy) = (u32::MAX, Step::Literal);
        for (from, most) in copies[at].iter().flatten() {
            let is_near = segment.start + at - from <= 256;
            let (lens, cost) = if is_near { (NEAR, 2) } else { (FAR, 3) };
            for own in lens.start..=(*most).min(lens.end - 1).min(len - at) {
                let sum = cost + fresh[at + own];
                if sum < best {
                    (best, copy) = (sum, Step::Copy { from: *from, len: own });
                }
            }
        }
        let literal = 1 + going[at + 1];
        (going[at], steps[at].0) = if best < literal { (best, copy) } else { (literal, Step::Literal) };
        (fresh[at], steps[at].1) = if best < literal + 1 { (best, copy) } else { (literal + 1, Step::Literal) };
    }
    let (mut path, mut at, mut is_going) = (vec![Step::Literal; len], 0, false);
    while at < len {
        let step = if is_going { steps[at].0 } else { steps[at].1 };
        path[at] = step;
        (at, is_going) = match step {
            Step::Literal => (at + 1, true),
            Step::Copy { len, .. } => (at + len, false),
        };
    }
    path
}

/// For each address of the segment the longest near copy and the longest far one: where from, and how long.
fn find_copies(memory: &[u8], segment: &Range<usize>, holes: &[Range<usize>]) -> Vec<[Option<(usize, usize)>; 2]> {
    let mut seen: HashMap<[u8; 2], Vec<usize>> = HashMap::new();
    let mut copies = Vec::with_capacity(segment.len());
    let key = |at: usize| [memory[at], memory[at + 1]];
    for at in FIRST..segment.start.saturating_sub(1) {
        if !holes.iter().any(|h| (h.start.saturating_sub(1)..h.end).contains(&at)) {
            seen.entry(key(at)).or_default().push(at);
        }
    }
    for at in segment.clone() {
        let mut best = [None, None];
        if at + 1 < segment.end {
            let places = seen.entry(key(at)).or_default();
            for &from in places.iter().rev().take(MOST_TRIES) {
                let is_near = at - from <= 256;
                let most = if is_near { NEAR.end } else { FAR.end } - 1;
                let most = most.min(segment.end - at);
                let next_hole = holes.iter().find(|h| from < h.start).map_or(MEMORY, |h| h.start);
                let most = most.min(next_hole - from);
                let len = (0..most).take_while(|i| memory[from + i] == memory[at + i]).count();
                let least = if is_near { NEAR.start } else { FAR.start };
                let slot = &mut best[usize::from(!is_near)];
                if len >= least && slot.is_none_or(|(_, l)| len > l) {
                    *slot = Some((from, len));
                }
                // Nothing is better than the longest near copy.
                if is_near && len + 1 == NEAR.end {
                    break;
                }
            }
            places.push(at);
        }
        copies.push(best);
    }
    copies
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Unpacks in place, as the last stage does.
    fn unpack(packed: &[u8], end: usize, memory: &mut [u8]) {
        let mut read = MEMORY - packed.len();
        memory[read..].copy_from_slice(packed);
        let mut write = FIRST;
        while write != end {
            let mut next = |memory: &[u8]| {
                read += 1;
                usize::from(memory[read - 1])
            };
            match next(memory) {
                0 => write = next(memory) | next(memory) << 8,
                count @ ..0x80 => {
                    for _ in 0..count {
                        memory[write] = next(memory) as u8;
                        write += 1;
                    }
                }
                head => {
                    let (mut from, count) = match head {
                        ..0xc0 => (write - next(memory) - 1, head - 0x80 + NEAR.start),
                        _ => (next(memory) | next(memory) << 8, head - 0xc0 + FAR.start),
                    };
                    for _ in 0..count {
                        memory[write] = memory[from];
                        (write, from) = (write + 1, from + 1);
                    }
                }
            }
        }
    }

    fn check(memory: &[u8], holes: &[Range<usize>]) -> usize {
        let (packed, end) = pack(memory, holes);
        let mut out = vec![0xee; MEMORY];
        if MEMORY - packed.len().min(MEMORY) > MOST_LOADED {
            unpack(&packed, end, &mut out);
            for at in (FIRST..MEMORY).filter(|a| !holes.iter().any(|h| h.contains(a))) {
                assert_eq!(out[at], memory[at], "{at:#x}");
            }
        }
        packed.len()
    }

    #[test]
    fn memory_comes_back_and_becomes_small() {
        let mut memory = vec![0; MEMORY];
        for (at, byte) in memory.iter_mut().enumerate() {
            *byte = match at {
                0x1000..0x3000 => (at.wrapping_mul(2_654_435_761) >> 13) as u8,
                0x4000..0x6000 => (at / 64) as u8,
                0xf000.. => (at.wrapping_mul(40_503) >> 7) as u8,
                _ => 0,
            };
        }
        let len = check(&memory, &[0x100..0x1a0, 0x1f3..0x1f6]);
        assert!(len < 18_000, "{len}");
        check(&memory, &[0x1f3..0x1f6, 0x8000..0x80a0]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(6))]
        #[test]
        fn any_memory_comes_back(seed in any::<u32>(), runs in 1usize..200) {
            let mut memory = vec![0; MEMORY];
            let mut state = seed | 1;
            let mut next = || { state ^= state << 13; state ^= state >> 17; state ^= state << 5; state as usize };
            for _ in 0..runs {
                let (at, len, step) = (next() % MEMORY, next() % 400, next() % 5);
                for i in 0..len.min(MEMORY - at) {
                    memory[at + i] = (i * step + next() % (1 + step)) as u8;
                }
            }
            check(&memory, &[0x100..0x190]);
        }
    }
}
