//! FLAC frames (RFC 9639) without the stream header: two channels of 16 bits at 44.1 kHz, as hunks have them.
//!
//! Read with a crate; written with fixed and linear predictors and Rice codes.

mod linear;
mod rice;
mod subframe;

use super::bits::BitWriter;
use claxon::frame::FrameReader;
use crc::{CRC_8_SMBUS, CRC_16_UMTS, Crc, Table};
use std::io::Cursor;
use subframe::Channel;

/// x^8 + x^2 + x + 1, as frame headers have it.
static HEADER_CRC: Crc<u8, Table<16>> = Crc::<u8, Table<16>>::new(&CRC_8_SMBUS);
/// x^16 + x^15 + x^2 + 1, as frames end with.
static FRAME_CRC: Crc<u16, Table<16>> = Crc::<u16, Table<16>>::new(&CRC_16_UMTS);

/// The order of the two bytes of a sample in the unpacked bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Order {
    Little,
    Big,
}

impl Order {
    fn bytes(self, sample: i16) -> [u8; 2] {
        match self {
            Self::Little => sample.to_le_bytes(),
            Self::Big => sample.to_be_bytes(),
        }
    }

    fn sample(self, bytes: [u8; 2]) -> i16 {
        match self {
            Self::Little => i16::from_le_bytes(bytes),
            Self::Big => i16::from_be_bytes(bytes),
        }
    }
}

/// Unpacks frames until `out` is full; returns the bytes of `packed` that they took, or `None` if they are damaged.
pub(super) fn unpack(packed: &[u8], order: Order, out: &mut [u8]) -> Option<usize> {
    let mut frames = FrameReader::new(Cursor::new(packed));
    let (mut at, mut buffer) = (0, Vec::new());
    while at < out.len() {
        let block = frames.read_next_or_eof(buffer).ok()??;
        if block.channels() != 2 || block.duration() == 0 {
            return None;
        }
        let (left, right) = (block.channel(0), block.channel(1));
        for pair in left.iter().zip(right) {
            let Some(place) = out.get_mut(at..at + 4) else { break };
            place[..2].copy_from_slice(&order.bytes(*pair.0 as i16));
            place[2..].copy_from_slice(&order.bytes(*pair.1 as i16));
            at += 4;
        }
        if out.len() - at < 4 && at < out.len() {
            return None;
        }
        buffer = block.into_buffer();
    }
    Some(frames.into_inner().position() as usize)
}

/// Samples of a block at most: of plain FLAC hunks, and of those of CDs. Readers derive the length of blocks from the
/// length of a hunk by halving it down to this, and do not look for another one.
pub(super) const MOST_PLAIN: usize = 2048;
pub(super) const MOST_CD: usize = 2352;

/// Packs `raw`, whole samples of two channels, in blocks of at most `most` samples.
pub(super) fn pack(raw: &[u8], order: Order, most: usize) -> Vec<u8> {
    let samples = raw.len() / 4;
    let mut block = samples;
    while block > most {
        block /= 2;
    }
    let mut packed = Vec::new();
    for (number, bytes) in raw.chunks(block * 4).enumerate() {
        let pairs = bytes.as_chunks::<4>().0;
        let left: Vec<i32> = pairs.iter().map(|p| order.sample([p[0], p[1]]).into()).collect();
        let right: Vec<i32> = pairs.iter().map(|p| order.sample([p[2], p[3]]).into()).collect();
        packed.extend(frame(number as u32, &left, &right));
    }
    packed
}

/// One frame (RFC 9639, 9).
fn frame(number: u32, left: &[i32], right: &[i32]) -> Vec<u8> {
    let side: Vec<i32> = left.iter().zip(right).map(|(l, r)| l - r).collect();
    let middle: Vec<i32> = left.iter().zip(right).map(|(l, r)| (l + r) >> 1).collect();
    let [left, right, side, middle] = [(left, 16), (right, 16), (&side[..], 17), (&middle[..], 16)]
        .map(|(samples, width)| Channel::new(samples, width));
    let both = [(1, &left, &right), (8, &left, &side), (9, &side, &right), (10, &middle, &side)];
    let cost = |(_, a, b): &(u32, &Channel<'_>, &Channel<'_>)| a.bits + b.bits;
    let (assignment, first, second) = both.into_iter().min_by_key(cost).unwrap_or((1, &left, &right));
    let mut bits = BitWriter::default();
    bits.write(0b11_1111_1111_1110, 14);
    bits.write(0, 2);
    // The number of samples follows after the frame number, in 16 bits; 44.1 kHz; 16 bits a sample.
    bits.write(0b0111, 4);
    bits.write(0b1001, 4);
    bits.write(assignment, 4);
    bits.write(0b1000, 4);
    for byte in char::from_u32(number).unwrap_or('\0').to_string().bytes() {
        bits.write(byte.into(), 8);
    }
    bits.write(left.samples.len() as u32 - 1, 16);
    let check = HEADER_CRC.checksum(bits.bytes());
    bits.write(check.into(), 8);
    first.write(&mut bits);
    second.write(&mut bits);
    bits.align();
    let check = FRAME_CRC.checksum(bits.bytes());
    bits.write(check.into(), 16);
    bits.finish()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn silence_worked_out_by_hand() {
        // 16 samples of silence: header, 0, 15, CRC-8, two constants of zero, CRC-16.
        let head = [0xff, 0xf8, 0x79, 0x18, 0x00, 0x00, 0x0f];
        let body = [0x00, 0x00, 0x00, 0x00, 0x00, 0x00];
        let packed = pack(&[0; 64], Order::Big, MOST_PLAIN);
        assert_eq!((&packed[..7], &packed[8..14]), (&head[..], &body[..]));
        assert_eq!(packed[7], HEADER_CRC.checksum(&head));
        let mut out = [1; 64];
        assert_eq!(unpack(&packed, Order::Big, &mut out), Some(packed.len()));
        assert_eq!(out, [0; 64]);
    }

    #[test]
    fn a_tone_becomes_much_shorter() {
        let sample = |i: usize| ((i as f64 / 20.0).sin() * 9000.0) as i16;
        let raw: Vec<u8> = (0..4704).flat_map(|i| [sample(i), sample(i + 3)]).flat_map(i16::to_be_bytes).collect();
        let packed = pack(&raw, Order::Big, MOST_CD);
        assert!(packed.len() * 2 < raw.len(), "{}", packed.len());
        let mut out = vec![0; raw.len()];
        assert_eq!(unpack(&packed, Order::Big, &mut out), Some(packed.len()));
        assert!(out == raw);
    }

    proptest! {
        #[test]
        fn whatever_is_packed_comes_back(raw in proptest::collection::vec(any::<[u8; 4]>(), 1..600), little in any::<bool>()) {
            let order = if little { Order::Little } else { Order::Big };
            let raw = raw.concat();
            let mut out = vec![0; raw.len()];
            let packed = pack(&raw, order, MOST_PLAIN);
            prop_assert_eq!(unpack(&packed, order, &mut out), Some(packed.len()));
            prop_assert_eq!(out, raw);
        }

        /// Sound, as far as two tones and a little noise are that: most of it is told by linear prediction.
        #[test]
        fn sound_comes_back(
            (a, b) in (0.01f64..1.5, 0.01f64..3.0),
            (loud, soft) in (0.0f64..20000.0, 0.0f64..12000.0),
            noise in 0i32..900,
            samples in 40usize..3000,
        ) {
            let sample = |i: usize, shift: f64| {
                let tones = (i as f64 * a + shift).sin() * loud + (i as f64 * b).sin() * soft;
                let hiss = (i as u32).wrapping_mul(0x9e37_79b9) >> 16;
                (tones as i32 + hiss as i32 % (noise + 1)).clamp(-32768, 32767) as i16
            };
            let raw: Vec<u8> = (0..samples).flat_map(|i| [sample(i, 0.0), sample(i, 0.4)]).flat_map(i16::to_le_bytes).collect();
            let mut out = vec![0; raw.len()];
            let packed = pack(&raw, Order::Little, MOST_CD);
            prop_assert_eq!(unpack(&packed, Order::Little, &mut out), Some(packed.len()));
            prop_assert!(out == raw);
        }

        #[test]
        fn no_bytes_can_panic(packed in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = unpack(&packed, Order::Big, &mut [0; 256]);
        }
    }

    /// Readers derive the length of a block from that of the hunk: 4,704 samples of a CD's are halved once, 4,096 of
    /// other bytes once too, and no further. The number of samples less one stands behind the frame number.
    #[test]
    fn blocks_have_the_length_that_readers_expect() {
        let hunk = |bytes: usize| -> Vec<u8> { (0..bytes).map(|i| (i * i / 3 % 251) as u8).collect() };
        let lens = |packed: &[u8]| -> Vec<u32> {
            let mut frames = FrameReader::new(Cursor::new(packed));
            let mut lens = Vec::new();
            while let Ok(Some(block)) = frames.read_next_or_eof(Vec::new()) {
                lens.push(block.duration());
            }
            lens
        };
        let cd = pack(&hunk(8 * 2352), Order::Big, MOST_CD);
        assert_eq!(lens(&cd), [2352, 2352]);
        assert_eq!(cd[5..7], 2351u16.to_be_bytes());
        assert_eq!(lens(&pack(&hunk(4096 * 4), Order::Little, MOST_PLAIN)), [2048, 2048]);
    }
}
