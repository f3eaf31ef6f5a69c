//! Programs of the 360 generation in every form that they are stored in: name and picture are read out of each.

use aes::Aes128Enc;
use aes::cipher::{Array, BlockCipherEncrypt, KeyInit};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::Bytes;
use decanter_core::{Key, Keyring};
use decanter_demo::cabinet::{Lzx, pack};
use decanter_formats::REGISTRY;
use std::sync::Arc;

const TITLE: u32 = 0x5350_0019;
const BASE: u32 = 0x8200_0000;
const RESOURCE_AT: usize = 0x1_9000;
const IMAGE: usize = 0x2_4100;
/// The key of all programs, and that of this one.
const KEYS: [[u8; 16]; 2] = [*b"saltmarsh pier 9", *b"gullwing rows, 1"];

/// The program as a console loads it.
fn image() -> Vec<u8> {
    let texts = [b"XSTR\0\0\0\x01\0\0\0\x11\0\x01\x80\0\0\x0d".as_slice(), b"Gullwing Rows"].concat();
    let mut resource = b"XDBF\0\x01\0\0\0\0\0\x01\0\0\0\x01\0\0\0\0\0\0\0\0".to_vec();
    resource.extend([0, 3, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, texts.len() as u8]);
    resource.extend(texts);
    let mut image: Vec<u8> = (0..IMAGE as u32).map(|n| ((n / 50) ^ (n % 7)) as u8).collect();
    image[0x2000..0x8000].fill(0);
    image[RESOURCE_AT..RESOURCE_AT + resource.len()].copy_from_slice(&resource);
    image
}

fn cbc(bytes: &mut [u8], key: [u8; 16]) {
    let cipher = Aes128Enc::new(&Array::from(key));
    let mut last = [0; 16];
    for block in bytes.chunks_exact_mut(16) {
        block.iter_mut().zip(last).for_each(|(byte, before)| *byte ^= before);
        let mut own = Array::from(<[u8; 16]>::try_from(&*block).unwrap());
        cipher.encrypt_block(&mut own);
        block.copy_from_slice(&own);
        last = own.into();
    }
}

/// A program: what stands behind its header of how it is stored, and its data.
fn program(packing: u16, more: &[u8], mut data: Vec<u8>, is_encrypted: bool) -> Vec<u8> {
    let mut bodies: Vec<(u32, Vec<u8>)> = Vec::new();
    let execution = [1u32, 0x2000_0000, 0x2000_0000, TITLE].iter().flat_map(|n| n.to_be_bytes());
    bodies.push((0x0004_0006, execution.chain([2, 0, 1, 1, 0, 0, 0, 0]).collect()));
    let mut list = 20u32.to_be_bytes().to_vec();
    list.extend(b"53500019");
    list.extend((BASE + RESOURCE_AT as u32).to_be_bytes());
    list.extend(78u32.to_be_bytes());
    bodies.push((0x0000_02ff, list));
    let mut stored = (8 + more.len() as u32).to_be_bytes().to_vec();
    stored.extend(u16::from(is_encrypted).to_be_bytes());
    stored.extend(packing.to_be_bytes());
    stored.extend(more);
    bodies.push((0x0000_03ff, stored));
    let (mut table, mut behind, mut at) = (Vec::new(), Vec::new(), 0x18 + 8 * 3);
    for (key, body) in bodies {
        table.extend([key.to_be_bytes(), (at as u32).to_be_bytes()].concat());
        at += body.len();
        behind.extend(body);
    }
    let mut bytes = b"XEX2\0\0\0\0\0\0\x10\0\0\0\0\0".to_vec();
    bytes.extend([at as u32, 3].iter().flat_map(|n| n.to_be_bytes()));
    bytes.extend([table, behind].concat());
    bytes.resize(0x1000, 0);
    bytes[at + 4..at + 8].copy_from_slice(&(IMAGE as u32).to_be_bytes());
    bytes[at + 0x110..at + 0x114].copy_from_slice(&BASE.to_be_bytes());
    if is_encrypted {
        let mut wrapped = Array::from(KEYS[1]);
        Aes128Enc::new(&Array::from(KEYS[0])).encrypt_block(&mut wrapped);
        bytes[at + 0x150..at + 0x160].copy_from_slice(&wrapped);
        data.resize(data.len().next_multiple_of(16), 0);
        cbc(&mut data, KEYS[1]);
    }
    bytes.extend(data);
    bytes
}

/// Packed in two blocks: what stands behind the header, and the data.
fn packed() -> (Vec<u8>, Vec<u8>) {
    let chunks = pack(&image(), Lzx { bits: 15, calls: true, is_mixed: true });
    let block = |chunks: &[Vec<u8>], next: &[u8]| {
        let mut bytes = next.to_vec();
        for chunk in chunks {
            bytes.extend((chunk.len() as u16).to_be_bytes());
            bytes.extend(chunk);
        }
        bytes.extend([0; 30]);
        bytes
    };
    let link =
        |block: &[u8]| [(block.len() as u32).to_be_bytes().to_vec(), of_bytes(Algorithm::Sha1, block).bytes].concat();
    let second = block(&chunks[2..], &[0; 24]);
    let first = block(&chunks[..2], &link(&second));
    ([0x8000u32.to_be_bytes().to_vec(), link(&first)].concat(), [first, second].concat())
}

fn open(bytes: Vec<u8>, key: Option<[u8; 16]>) -> Opened {
    let mut keys = Keyring::default();
    if let Some(key) = key {
        keys.add("x360.xex.key", Key::new(key.to_vec()), "made up");
    }
    Opener::new(&REGISTRY, &keys).open(Arc::new(Bytes(bytes))).unwrap()
}

#[test]
fn every_form_says_its_name() {
    let image = image();
    let mut pieces = image[..0x2000].to_vec();
    pieces.extend(&image[0x8000..]);
    let list: Vec<u8> = [0x2000u32, 0x6000, (IMAGE - 0x8000) as u32, 0].iter().flat_map(|n| n.to_be_bytes()).collect();
    let (link, data) = packed();
    let forms = [(0, Vec::new(), image, "not compressed"), (1, list, pieces, "zeros left out"), (2, link, data, "LZX")];
    for (packing, more, data, words) in forms {
        let opened = open(program(packing, &more, data.clone(), false), None);
        assert_eq!(opened.identity.title.as_deref(), Some("Gullwing Rows"), "{words}");
        assert!(
            opened.get("program").unwrap().starts_with("not encrypted, ")
                && opened.get("program").unwrap().contains(words)
        );
        let closed = program(packing, &more, data, true);
        let opened = open(closed.clone(), Some(KEYS[0]));
        assert_eq!(opened.identity.title.as_deref(), Some("Gullwing Rows"), "{words}, encrypted");
        let without = open(closed, None);
        assert_eq!((without.identity.title.as_deref(), without.told.notices.len()), (None, 0));
        assert_eq!(without.get("id"), Some("SP-025 (53500019)"));
    }
}

#[test]
fn a_wrong_key_and_damage_are_told_and_the_rest_is_there() {
    let (link, data) = packed();
    let opened = open(program(2, &link, data.clone(), true), Some(KEYS[1]));
    assert!(opened.told.notices[0].text.contains("the block at 0x0 of the program should have SHA-1"));
    assert_eq!(opened.get("id"), Some("SP-025 (53500019)"));
    let mut hit = data;
    let last = hit.len() - 40;
    hit[last] ^= 1;
    let opened = open(program(2, &link, hit, false), None);
    assert!(opened.told.notices[0].text.starts_with("its names and pictures cannot be read: the block at 0x"));
}
