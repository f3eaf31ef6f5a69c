//! Images in chunks, unpacked by general decoders alone.

use super::{bytes, le32, written};
use decanter_core::digest::Algorithm;
use decanter_core::source::{Bytes, SourceRef};
use decanter_formats::chunked::cso::{self, Coding};
use decanter_formats::chunked::zst::{self, Choice};
use proptest::prelude::*;
use std::io::Read;
use std::sync::Arc;

const BLOCK: usize = 2048;

/// An image of which some sectors pack well and others not at all.
fn image(sectors: usize, seed: u64) -> Vec<u8> {
    let mut image = bytes(sectors * BLOCK, seed);
    for sector in (0..sectors).filter(|s| !(s * 7 + seed as usize).is_multiple_of(3)) {
        let value = (sector % 5) as u8;
        image[sector * BLOCK..(sector + 1) * BLOCK]
            .iter_mut()
            .enumerate()
            .for_each(|(i, b)| *b = (i / 64) as u8 ^ value);
    }
    image
}

/// Unpacks by the index: the header has 24 bytes, then an entry a block and the end; the top bit means stored.
fn unpacked(packed: &[u8], unpack: &dyn Fn(&[u8]) -> Vec<u8>) -> Vec<u8> {
    let len = u64::from_le_bytes(packed[8..16].try_into().unwrap()) as usize;
    assert_eq!((le32(packed, 16), packed[20]), (BLOCK, 1));
    let shift = packed[21];
    let blocks = len.div_ceil(BLOCK);
    let entry = |n: usize| le32(packed, 24 + n * 4);
    let place = |n: usize| (entry(n) & 0x7fff_ffff) << shift;
    assert_eq!(place(0), 24 + (blocks + 1) * 4, "the first block follows the index");
    assert_eq!(place(blocks), packed.len(), "the last entry is the end");
    let mut image = Vec::new();
    for block in 0..blocks {
        let own = &packed[place(block)..place(block + 1)];
        let plain = if entry(block) & 0x8000_0000 != 0 { own.to_vec() } else { unpack(own) };
        assert_eq!(plain.len(), BLOCK.min(len - block * BLOCK), "block {block}");
        assert!(own.len() <= BLOCK, "nothing grows");
        image.extend(plain);
    }
    image
}

fn inflate(packed: &[u8]) -> Vec<u8> {
    let mut plain = Vec::new();
    flate2::read::DeflateDecoder::new(packed).read_to_end(&mut plain).unwrap();
    plain
}

fn source(image: &[u8]) -> SourceRef {
    Arc::new(Bytes(image.to_vec()))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(30))]
    #[test]
    fn general_decoders_unpack_what_was_packed(sectors in 1usize..120, seed in any::<u32>(), level in 1i32..10) {
        let image = image(sectors, seed.into());
        let packed = written(&cso::compose(source(&image), Coding::Deflate, level).unwrap());
        prop_assert_eq!(&packed[..4], b"CISO");
        prop_assert!(unpacked(&packed, &inflate) == image);
        let packed = written(&cso::compose(source(&image), Coding::Lz4, level).unwrap());
        prop_assert_eq!(&packed[..4], b"ZISO");
        let lz4 = |own: &[u8]| lz4_flex::block::decompress(own, BLOCK).unwrap();
        prop_assert!(unpacked(&packed, &lz4) == image);
    }

    #[test]
    fn a_plain_zstd_decoder_gives_the_file_back(sectors in 1usize..300, seed in any::<u32>(), level in 1i32..6) {
        let image = image(sectors, seed.into());
        let choice = Choice { level, long: false };
        let made = zst::compose(source(&image), choice, "Lane.iso", "test", &[Algorithm::Crc32]).unwrap();
        let packed = written(&made);
        prop_assert!(zstd::decode_all(&packed[..]).unwrap() == image);
        // The table at the end: its mark, and so many frames, whose lengths add up.
        let end = packed.len();
        prop_assert_eq!(le32(&packed, end - 4), 0x8f92_eab1, "the mark of a seekable file");
        let (frames, flags) = (le32(&packed, end - 9), packed[end - 5]);
        let width = if flags & 0x80 != 0 { 12 } else { 8 };
        let table = end - 9 - frames * width;
        prop_assert_eq!(le32(&packed, table - 8), 0x184d_2a5e, "the table is a frame that decoders pass over");
        prop_assert_eq!(le32(&packed, table - 4), frames * width + 9);
        let plain: usize = (0..frames).map(|n| le32(&packed, table + n * width + 4)).sum();
        prop_assert!(plain >= image.len());
    }
}
