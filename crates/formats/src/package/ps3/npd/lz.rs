//! The compression of blocks: a range coder with adaptive bits over literals and matches. Layout: docs/formats/edat.md.

use super::ID;
use decanter_core::{Error, Result};

/// Models of bits: those of literals, distances, and lengths.
const MODELS: usize = 0xcc8;
/// How many of them begin even; the others are never used.
const EVEN: usize = 0xca8;
const DISTANCE_CLASSES: usize = 0x7f1;
const DISTANCES: usize = 0x928;
const IS_MATCH: usize = 0xb68;
const LENGTHS: usize = 0xba8;
/// Models between the classes of short matches and those of longer ones.
const SHORT: usize = 0xf8;
/// Lengths of which the model of distances is another one.
const MOST_SHORT: usize = 2;
/// A length that ends the block.
const END: usize = 0xff;
/// Bytes before the coded ones: how literals are modelled, and the first four.
const HEAD: usize = 5;

struct Decoder<'a> {
    input: &'a [u8],
    at: usize,
    range: u32,
    code: u32,
    models: Box<[u8; MODELS]>,
}

fn damaged(what: &'static str) -> Error {
    Error::Unreadable { why: format!("{ID}: a compressed block is damaged: {what}") }
}

impl Decoder<'_> {
    fn refill(&mut self) -> Result<()> {
        if self.range >> 24 == 0 {
            self.range <<= 8;
            let next = *self.input.get(self.at).ok_or_else(|| damaged("it ends too early"))?;
            self.code = self.code << 8 | u32::from(next);
            self.at += 1;
        }
        Ok(())
    }

    /// A bit of the model at `place`, which learns from it.
    fn bit(&mut self, place: usize) -> Result<usize> {
        self.refill()?;
        let model = self.models.get_mut(place).ok_or_else(|| damaged("a model that is none"))?;
        let bound = (self.range >> 8) * u32::from(*model);
        *model -= *model >> 3;
        if self.code < bound {
            self.range = bound;
            *model += 31;
            return Ok(1);
        }
        self.code -= bound;
        self.range -= bound;
        Ok(0)
    }

    /// A number of `bits` more binary digits than one, the middle ones without a model; and the last digit but two.
    fn number(&mut self, models: usize, bits: usize, step: usize) -> Result<(usize, usize)> {
        let mut value = 1;
        for _ in 3..=bits.min(4) {
            value = value << 1 | self.bit(models + 3 * step + usize::from(step == 1))?;
        }
        if bits >= 5 {
            self.refill()?;
            for _ in 5..=bits {
                value <<= 1;
                self.range >>= 1;
                if self.code < self.range {
                    value |= 1;
                } else {
                    self.code -= self.range;
                }
            }
        }
        let flag = self.bit(models)?;
        value = value << 1 | flag;
        for n in 1..=bits.min(2) {
            value = value << 1 | self.bit(models + n * step)?;
        }
        Ok((value, flag))
    }
}

/// Unpacks a block of at most `most` bytes.
///
/// # Errors
/// [`Error::Unreadable`] when it leads outside itself, or is longer.
pub fn unpack(input: &[u8], most: usize) -> Result<Vec<u8>> {
    let Some((head, _)) = input.split_at_checked(HEAD) else { return Err(damaged("it has no beginning")) };
    let code = u32::from_be_bytes([head[1], head[2], head[3], head[4]]);
    let shift = head[0];
    if shift > 0x80 {
        let stored = (code as usize <= most).then(|| input.get(HEAD..HEAD + code as usize)).flatten();
        return stored.map(<[u8]>::to_vec).ok_or_else(|| damaged("a stored one that is too long"));
    }
    let mut models = Box::new([0; MODELS]);
    models[..EVEN].fill(0x80);
    let mut own = Decoder { input, at: HEAD, range: u32::MAX, code, models };
    let mut out: Vec<u8> = Vec::new();
    let mut state = 0usize;
    loop {
        let mut place = IS_MATCH + state;
        if own.bit(place)? == 0 {
            state = state.saturating_sub(1);
            if out.len() == most {
                return Ok(out);
            }
            let before = usize::from(out.last().copied().unwrap_or(0));
            let context = ((out.len() & 7) << 8 | before).checked_shr(shift.into()).unwrap_or(0) & 7;
            let mut value = 1;
            while value >> 8 == 0 {
                value = value << 1 | own.bit(context * 0xff + value - 1)?;
            }
            out.push(value as u8);
            continue;
        }
        let (mut class, mut length) = (None::<usize>, 1);
        loop {
            place += 8;
            let flag = own.bit(place)?;
            class = if flag == 1 { Some(class.map_or(0, |c| c + 1)) } else { class };
            if flag == 0 || class == Some(6) {
                break;
            }
        }
        let mut classes = DISTANCE_CLASSES + class.map_or(0, |c| c + 1) - 1;
        if let Some(class) = class {
            let models = LENGTHS + (class << 5 | (out.len() << class & 3) << 3 | state & 7);
            length = own.number(models, class, 8)?.0;
            if length == END {
                return Ok(out);
            }
        }
        let mut bound = 0x160;
        if length <= MOST_SHORT {
            classes += SHORT;
            bound = 0x40;
        }
        let (mut shift, mut distance) = (1usize, 1);
        let (past, flag) = loop {
            let past = (shift << 4) as isize - bound;
            let flag = own.bit(classes + (shift << 3))?;
            shift = shift << 1 | flag;
            if past >= 0 {
                break (past as usize, flag);
            }
        };
        if past > 0 || flag == 1 {
            let past = if flag == 0 { past - 8 } else { past };
            distance = own.number(DISTANCES + past, past / 8, 1)?.0;
        }
        let from = out.len().checked_sub(distance).ok_or_else(|| damaged("a match before its beginning"))?;
        if out.len() + length + 1 > most {
            return Err(damaged("it is longer than a block"));
        }
        for n in 0..=length {
            out.push(out[from + n]);
        }
        state = ((out.len() + 1) & 1) + 6;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The way there, for literals, the shortest match, and the end.
    struct Encoder {
        out: Vec<u8>,
        low: u32,
        range: u32,
        models: Box<[u8; MODELS]>,
        done: Vec<u8>,
        state: usize,
        shift: u8,
    }

    impl Encoder {
        fn new(shift: u8) -> Self {
            let mut models = Box::new([0; MODELS]);
            models[..EVEN].fill(0x80);
            Self { out: vec![shift], low: 0, range: u32::MAX, models, done: Vec::new(), state: 0, shift }
        }

        fn add(&mut self, bound: u32) {
            let (low, carries) = self.low.overflowing_add(bound);
            self.low = low;
            for byte in self.out.iter_mut().rev().take_while(|_| carries) {
                *byte = byte.wrapping_add(1);
                if *byte != 0 {
                    break;
                }
            }
        }

        fn refill(&mut self) {
            if self.range >> 24 == 0 {
                self.out.push((self.low >> 24) as u8);
                (self.low, self.range) = (self.low << 8, self.range << 8);
            }
        }

        fn bit(&mut self, place: usize, bit: bool) {
            self.refill();
            let model = &mut self.models[place];
            let bound = (self.range >> 8) * u32::from(*model);
            *model -= *model >> 3;
            if bit {
                *model += 31;
                self.range = bound;
            } else {
                self.range -= bound;
                self.add(bound);
            }
        }

        fn literal(&mut self, byte: u8) {
            self.bit(IS_MATCH + self.state, false);
            self.state = self.state.saturating_sub(1);
            let before = usize::from(self.done.last().copied().unwrap_or(0));
            let context = ((self.done.len() & 7) << 8 | before) >> self.shift & 7;
            let mut value = 1;
            for n in (0..8).rev() {
                let bit = byte >> n & 1 == 1;
                self.bit(context * 0xff + value - 1, bit);
                value = value << 1 | usize::from(bit);
            }
            self.done.push(byte);
        }

        /// The last byte, twice more.
        fn twice(&mut self) {
            self.bit(IS_MATCH + self.state, true);
            self.bit(IS_MATCH + self.state + 8, false);
            for shift in [1usize, 2, 4] {
                self.bit(DISTANCE_CLASSES - 1 + SHORT + (shift << 3), false);
            }
            let last = *self.done.last().unwrap();
            self.done.extend([last, last]);
            self.state = ((self.done.len() + 1) & 1) + 6;
        }

        fn end(&mut self) {
            self.bit(IS_MATCH + self.state, true);
            (1..=7).for_each(|n| self.bit(IS_MATCH + self.state + 8 * n, true));
            let models = LENGTHS + (6 << 5 | (self.done.len() << 6 & 3) << 3 | self.state & 7);
            [24, 24].into_iter().for_each(|n| self.bit(models + n, true));
            self.refill();
            self.range >>= 2;
            [0, 8, 16].into_iter().for_each(|n| self.bit(models + n, true));
        }

        fn finish(mut self) -> Vec<u8> {
            self.out.extend(self.low.to_be_bytes());
            self.out
        }
    }

    #[test]
    fn stored_blocks_have_their_length_before_them() {
        assert_eq!(unpack(b"\xff\0\0\0\x04tide", 100).unwrap(), b"tide");
        assert!(unpack(b"\xff\0\0\0\x05tide", 100).is_err() && unpack(b"\xff\0\0\0\x04tide", 3).is_err());
        assert!(unpack(b"\xff\0\0", 9).is_err() && unpack(b"", 9).is_err());
    }

    proptest! {
        #[test]
        fn what_was_coded_comes_out(bytes in proptest::collection::vec(any::<u8>(), 1..300), shift in 0u8..12, every in 2usize..9) {
            let mut encoder = Encoder::new(shift);
            for (n, byte) in bytes.iter().enumerate() {
                encoder.literal(*byte);
                if n % every == 0 {
                    encoder.twice();
                }
            }
            let done = encoder.done.clone();
            encoder.end();
            let packed = encoder.finish();
            prop_assert_eq!(unpack(&packed, done.len() + 9).unwrap(), done.clone());
            // A block that is full ends there.
            prop_assert!(unpack(&packed, done.len() - 1).map_or(0, |out| out.len()) < done.len());
        }

        #[test]
        fn any_bytes_are_a_block_or_an_error(bytes in proptest::collection::vec(any::<u8>(), 0..400), shift in 0u8..0x82) {
            let mut bytes = bytes;
            if let Some(first) = bytes.first_mut() {
                *first = shift;
            }
            if let Ok(out) = unpack(&bytes, 4096) {
                prop_assert!(out.len() <= 4096);
            }
        }
    }
}
