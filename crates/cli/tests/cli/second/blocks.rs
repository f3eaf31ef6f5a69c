//! Images in packed blocks: CISO with raw deflate, ZISO with LZ4 blocks.

use super::little;
use crate::support::{folder, noise, run};
use std::io::Read;

/// An LZ4 block, along its public description: a token, literals, an offset, a match.
fn lz4(mut block: &[u8], len: usize) -> Vec<u8> {
    fn take<'a>(block: &mut &'a [u8], len: usize) -> &'a [u8] {
        let (own, rest) = block.split_at(len);
        *block = rest;
        own
    }
    fn length(block: &mut &[u8], first: u8) -> usize {
        let mut len = usize::from(first);
        let mut last = if first == 15 { 255 } else { 0 };
        while last == 255 {
            last = take(block, 1)[0];
            len += usize::from(last);
        }
        len
    }
    let mut out = Vec::new();
    while out.len() < len {
        let token = take(&mut block, 1)[0];
        let literals = length(&mut block, token >> 4);
        out.extend(take(&mut block, literals));
        if out.len() >= len {
            break;
        }
        let offset = usize::from(u16::from_le_bytes(take(&mut block, 2).try_into().unwrap()));
        let copied = length(&mut block, token & 15) + 4;
        for _ in 0..copied {
            out.push(out[out.len() - offset]);
        }
    }
    assert_eq!(out.len(), len);
    out
}

/// The image in a file of blocks.
fn unpacked(file: &[u8], magic: &[u8], unpack: impl Fn(&[u8], usize) -> Vec<u8>) -> Vec<u8> {
    assert_eq!(&file[..4], magic);
    let (len, block) = (little(file, 8) as usize, little(file, 16) as usize);
    assert_eq!((little(file, 12), little(file, 16), file[20]), (0, 2048, 1));
    let align = file[21];
    let mut out = Vec::new();
    for number in 0..len.div_ceil(block) {
        let word = |at: usize| little(file, 24 + at * 4);
        let place = |at: usize| ((word(at) & 0x7fff_ffff) as usize) << align;
        let content = &file[place(number)..place(number + 1)];
        let here = block.min(len - out.len());
        // The highest bit says that a block is as it is.
        out.extend(if word(number) >> 31 == 1 { content[..here].to_vec() } else { unpack(content, here) });
    }
    assert_eq!(out.len(), len);
    out
}

#[test]
fn packed_blocks_are_those_of_the_image() {
    let folder = folder();
    // Noise that does not pack, zeros, text, and a little of each in one block.
    let text: Vec<u8> = b"low tide at nine, high tide at three; ".iter().copied().cycle().take(200_000).collect();
    let mut image = [noise(100_000, 3), vec![0; 300_000], text, noise(1000, 4), vec![7; 90_000]].concat();
    image.resize(image.len().next_multiple_of(2048), 1);
    std::fs::write(folder.path().join("plain.bin"), &image).unwrap();
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    // What packs is a disc image: the files of one hold the bytes.
    std::fs::create_dir(folder.path().join("src")).unwrap();
    std::fs::write(folder.path().join("src/TIDE.BIN"), &image).unwrap();
    run(folder.path(), &["convert", "src", "--to", "iso", "-o", "disc.iso"]).expect(0);
    run(folder.path(), &["convert", "disc.iso", "--to", "cso", "-o", "disc.cso"]).expect(0);
    run(folder.path(), &["convert", "disc.iso", "--to", "zso", "-o", "disc.zso"]).expect(0);
    let inflated = |block: &[u8], len: usize| {
        let mut out = vec![0; len];
        flate2::read::DeflateDecoder::new(block).read_exact(&mut out).unwrap();
        out
    };
    let (disc, cso, zso) = (read("disc.iso"), read("disc.cso"), read("disc.zso"));
    assert!(unpacked(&cso, b"CISO", inflated) == disc && cso.len() < disc.len() / 2);
    assert!(unpacked(&zso, b"ZISO", lz4) == disc && zso.len() < disc.len() / 2);
}
