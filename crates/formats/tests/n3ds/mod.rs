//! Contents, cartridges and packages of the 3DS family, put together straight from the layouts in docs/formats and
//! sharing nothing with the code under test but SHA-256.

#![allow(dead_code)]

use aes::Aes128;
use cbc::cipher::{Array, BlockModeEncrypt, KeyIvInit, StreamCipher, StreamCipherSeek, consts::U16};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::{Key, Keyring};

pub const TITLE: u64 = 0x0004_0000_0f1e_2d00;
pub const SCRAMBLER: [u8; 16] = *b"scrambler of us.";
pub const SEED: [u8; 16] = *b"a seed of nobody";
pub const SYSTEM_KEY: [u8; 16] = *b"fixed for system";

/// Key X of a slot.
pub fn slot(number: u8) -> [u8; 16] {
    [number; 16]
}

pub fn sha(bytes: &[u8]) -> Vec<u8> {
    of_bytes(Algorithm::Sha256, bytes).bytes
}

/// Bytes that are the same every time.
pub fn noise(seed: u32, len: usize) -> Vec<u8> {
    let mut x = seed.wrapping_mul(2_654_435_769) | 1;
    let mut step = || {
        x ^= x << 13;
        x ^= x >> 17;
        x ^= x << 5;
        (x >> 11) as u8
    };
    (0..len).map(|_| step()).collect()
}

fn padded(mut bytes: Vec<u8>, to: usize) -> Vec<u8> {
    bytes.resize(bytes.len().next_multiple_of(to), 0);
    bytes
}

fn put32(bytes: &mut [u8], at: usize, value: usize) {
    bytes[at..at + 4].copy_from_slice(&(value as u32).to_le_bytes());
}

pub fn key_of(x: [u8; 16], y: [u8; 16]) -> [u8; 16] {
    let n = u128::from_be_bytes;
    (n(x).rotate_left(2) ^ n(y)).wrapping_add(n(SCRAMBLER)).rotate_left(87).to_be_bytes()
}

/// All keys that the samples need.
pub fn keys() -> Keyring {
    let mut ring = Keyring::default();
    let mut add = |name: &str, key: [u8; 16]| ring.add(name, Key::new(key.to_vec()), "the test");
    add("n3ds.scrambler", SCRAMBLER);
    for number in [0x2c, 0x25, 0x18, 0x1b, 0x3d] {
        add(&format!("n3ds.slot0x{number:02X}.x"), slot(number));
    }
    add("n3ds.common.1", *b"common key one Y");
    add("n3ds.fixed.system", SYSTEM_KEY);
    add(&format!("n3ds.seed.{TITLE:016x}"), SEED);
    ring
}

/// A RomFS with "a/ü.bin" (5,000 bytes), "a/b/empty" and "z.bin", in an order that no sorting gives.
pub fn romfs() -> Vec<u8> {
    let name = |text: &str| padded(text.encode_utf16().flat_map(u16::to_le_bytes).collect(), 4);
    let words = |all: &[u32]| -> Vec<u8> { all.iter().flat_map(|w| w.to_le_bytes()).collect() };
    const NO: u32 = u32::MAX;
    let hash = |parent: u32, text: &str| {
        text.encode_utf16().fold(parent ^ 123_456_789, |h, c| h.rotate_right(5) ^ u32::from(c))
    };
    // Folders: the root at 0, "a" at 0x18, "b" at 0x34. Files: "z.bin" at 0, "ü.bin" at 0x2c, "empty" at 0x58.
    let mut folder_buckets = [NO; 3];
    let mut chain = |at: u32, parent: u32, text: &str| {
        let slot = hash(parent, text) as usize % 3;
        std::mem::replace(&mut folder_buckets[slot], at)
    };
    let links = [chain(0, 0, ""), chain(0x18, 0, "a"), chain(0x34, 0x18, "b")];
    let folders = [
        words(&[0, NO, 0x18, 0, links[0], 0]),
        [words(&[0, NO, 0x34, 0x2c, links[1], 2]), name("a")].concat(),
        [words(&[0x18, NO, NO, 0x58, links[2], 2]), name("b")].concat(),
    ]
    .concat();
    let mut file_buckets = [NO; 3];
    let mut chain = |at: u32, parent: u32, text: &str| {
        let slot = hash(parent, text) as usize % 3;
        std::mem::replace(&mut file_buckets[slot], at)
    };
    let links = [chain(0, 0, "z.bin"), chain(0x2c, 0x18, "ü.bin"), chain(0x58, 0x34, "empty")];
    let files = [
        [words(&[0, NO, 5008, 0, 9, 0, links[0], 10]), name("z.bin")].concat(),
        [words(&[0x18, NO, 0, 0, 5000, 0, links[1], 10]), name("ü.bin")].concat(),
        [words(&[0x34, NO, 5024, 0, 0, 0, links[2], 10]), name("empty")].concat(),
    ]
    .concat();
    let (a, b) = (0x28, 0x28 + 12);
    let (c, d) = (b + folders.len(), b + folders.len() + 12);
    let data = (d + files.len()).next_multiple_of(16);
    let header = [0x28, a, 12, b, folders.len(), c, 12, d, files.len(), data].map(|w| w as u32);
    let mut level3 = [words(&header), words(&folder_buckets), folders, words(&file_buckets), files].concat();
    level3.resize(data, 0);
    level3.extend(noise(3, 5000));
    level3.extend([0; 8]);
    level3.extend(b"tide mark");
    let hashes =
        |bytes: &[u8]| -> Vec<u8> { bytes.chunks(0x1000).flat_map(|b| sha(&padded(b.to_vec(), 0x1000))).collect() };
    let level2 = hashes(&level3);
    let level1 = hashes(&level2);
    let master = hashes(&level1);
    let mut out = b"IVFC\0\0\x01\0".to_vec();
    out.extend((master.len() as u32).to_le_bytes());
    for (at, len) in [(0u64, level1.len()), (0x1000, level2.len()), (0x2000, level3.len())] {
        out.extend(at.to_le_bytes());
        out.extend((len as u64).to_le_bytes());
        out.extend([12, 0, 0, 0, 0, 0, 0, 0]);
    }
    out.extend([0x5c, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    out.extend(master);
    [padded(out, 0x1000), padded(level3, 0x1000), padded(level1, 0x1000), padded(level2, 0x1000)].concat()
}

pub fn members() -> [(&'static str, Vec<u8>); 3] {
    [(".code", noise(1, 0x1234)), ("banner", noise(2, 700)), ("icon", icon())]
}

fn icon() -> Vec<u8> {
    let mut icon = vec![0; 0x36c0];
    icon[..4].copy_from_slice(b"SMDH");
    for (at, text) in [(0x208, "Brine"), (0x288, "Brine & Bramble"), (0x388, "Pier")] {
        let units: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        icon[at..at + units.len()].copy_from_slice(&units);
    }
    icon[0x2018] = 6;
    icon
}

/// How a content is made.
#[derive(Clone, Copy)]
pub struct Way {
    /// flags[3]: which second slot.
    pub method: u8,
    pub version: u8,
    pub seeded: bool,
    pub fixed: bool,
    pub title: u64,
    pub encrypted: bool,
    pub with_romfs: bool,
    /// Whether what fills a member up to its unit is under the member's own key.
    pub fills: bool,
}

pub const PLAIN: Way = Way {
    method: 0,
    version: 2,
    seeded: false,
    fixed: false,
    title: TITLE,
    encrypted: false,
    with_romfs: true,
    fills: true,
};

fn ctr(key: [u8; 16], counter: [u8; 16], skip: usize, bytes: &mut [u8]) {
    let mut cipher = ctr::Ctr128BE::<Aes128>::new(&key.into(), &counter.into());
    cipher.seek(skip as u64);
    cipher.apply_keystream(bytes);
}

fn chained(key: [u8; 16], iv: [u8; 16], bytes: &[u8]) -> Vec<u8> {
    let mut out = bytes.to_vec();
    let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(&mut out);
    cbc::Encryptor::<Aes128>::new(&key.into(), &iv.into()).encrypt_blocks(blocks);
    out
}

/// A content, and the same with nothing encrypted in it.
pub fn content(way: Way) -> (Vec<u8>, Vec<u8>) {
    let mut h = [noise(9, 0x100), vec![0; 0x100]].concat();
    h[0x100..0x104].copy_from_slice(b"NCCH");
    h[0x108..0x110].copy_from_slice(&(way.title + 1).to_le_bytes());
    h[0x110..0x114].copy_from_slice(&[b'S', b'P', way.version, 0]);
    h[0x118..0x120].copy_from_slice(&way.title.to_le_bytes());
    h[0x150..0x15a].copy_from_slice(b"CTR-P-BRNE");
    let mut extended = noise(5, 0x800);
    extended[..0x10].copy_from_slice(b"brine\0\0\0\0\0\0\0\0\0\0\0");
    put32(&mut extended, 0x1c0, 0x10000);
    put32(&mut extended, 0x1c4, 0);
    put32(&mut extended, 0x208, 2);
    put32(&mut h, 0x180, 0x400);
    h[0x160..0x180].copy_from_slice(&sha(&extended[..0x400]));
    // Logo at 0xa00, ExeFS at 0xc00.
    let logo = noise(6, 0x200);
    put32(&mut h, 0x198, 5);
    put32(&mut h, 0x19c, 1);
    h[0x130..0x150].copy_from_slice(&sha(&logo));
    let mut exefs = vec![0; 0x200];
    for (index, (name, bytes)) in members().iter().enumerate() {
        let at = index * 16;
        exefs[at..at + name.len()].copy_from_slice(name.as_bytes());
        let offset = exefs.len() - 0x200;
        put32(&mut exefs, at + 8, offset);
        put32(&mut exefs, at + 12, bytes.len());
        exefs[0x200 - 32 * (index + 1)..0x200 - 32 * index].copy_from_slice(&sha(bytes));
        exefs.extend(bytes);
        exefs = padded(exefs, 0x200);
    }
    put32(&mut h, 0x1a0, 6);
    put32(&mut h, 0x1a4, exefs.len() / 0x200);
    put32(&mut h, 0x1a8, 1);
    h[0x1c0..0x1e0].copy_from_slice(&sha(&exefs[..0x200]));
    let mut body = [extended, logo, exefs.clone()].concat();
    let mut romfs_at = 0;
    if way.with_romfs {
        let romfs = romfs();
        body = padded([vec![0; 0x200], body].concat(), 0x1000)[0x200..].to_vec();
        romfs_at = 0x200 + body.len();
        put32(&mut h, 0x1b0, romfs_at / 0x200);
        put32(&mut h, 0x1b4, romfs.len() / 0x200);
        put32(&mut h, 0x1b8, 1);
        h[0x1e0..0x200].copy_from_slice(&sha(&romfs[..0x200]));
        body.extend(romfs);
    }
    put32(&mut h, 0x104, (0x200 + body.len()) / 0x200);
    (h[0x18c], h[0x18d]) = (1, 3);
    let mut clear = [h.clone(), body.clone()].concat();
    clear[0x18f] = 4;
    if !way.encrypted {
        return (clear.clone(), clear);
    }
    h[0x18b] = way.method;
    h[0x18f] = u8::from(way.fixed) | if way.seeded { 0x20 } else { 0 };
    if way.seeded {
        let check = sha(&[&SEED[..], &way.title.to_le_bytes()].concat());
        h[0x114..0x118].copy_from_slice(&check[..4]);
        clear[0x114..0x118].copy_from_slice(&check[..4]);
    }
    let y: [u8; 16] = h[..16].try_into().unwrap();
    let y2: [u8; 16] = if way.seeded { sha(&[y, SEED].concat())[..16].try_into().unwrap() } else { y };
    let second = match way.method {
        0 => 0x2c,
        1 => 0x25,
        10 => 0x18,
        _ => 0x1b,
    };
    let (first, second) = match (way.fixed, way.title >> 32 & 0x10) {
        (true, 0) => ([0; 16], [0; 16]),
        (true, _) => (SYSTEM_KEY, SYSTEM_KEY),
        _ => (key_of(slot(0x2c), y), key_of(slot(second), y2)),
    };
    let counter = |part: u8, at: usize| -> [u8; 16] {
        let id = way.title + 1;
        let mut counter = [0; 16];
        if way.version == 1 {
            counter[..8].copy_from_slice(&id.to_le_bytes());
            counter[12..].copy_from_slice(&(at as u32).to_be_bytes());
        } else {
            counter[..8].copy_from_slice(&id.to_be_bytes());
            counter[8] = part;
        }
        counter
    };
    let mut out = [h, body].concat();
    ctr(first, counter(1, 0x200), 0, &mut out[0x200..0xa00]);
    let c = counter(2, 0xc00);
    ctr(first, c, 0, &mut out[0xc00..0xe00]);
    let mut at = 0x200;
    for (name, bytes) in members() {
        let (end, next) = (at + bytes.len(), at + bytes.len().next_multiple_of(0x200));
        let own = if name == ".code" { second } else { first };
        let filled = if way.fills { own } else { first };
        ctr(own, c, at, &mut out[0xc00 + at..0xc00 + end]);
        ctr(filled, c, end, &mut out[0xc00 + end..0xc00 + next]);
        at = next;
    }
    if way.with_romfs {
        ctr(second, counter(3, romfs_at), 0, &mut out[romfs_at..]);
    }
    (out, clear)
}

/// A cartridge image with these partitions.
pub fn cartridge(partitions: &[(usize, &[u8])], full_units: usize) -> Vec<u8> {
    let mut out = [noise(7, 0x100), vec![0; 0x1100], vec![0xff; 0x4000 - 0x1200]].concat();
    out[0x100..0x104].copy_from_slice(b"NCSD");
    put32(&mut out, 0x104, full_units);
    out[0x108..0x110].copy_from_slice(&TITLE.to_le_bytes());
    (out[0x18c], out[0x18d]) = (1, 1);
    out[0x310..0x312].copy_from_slice(&0x0410u16.to_le_bytes());
    let copy = partitions[0].1[0x100..0x200].to_vec();
    out[0x1100..0x1200].copy_from_slice(&copy);
    for (index, bytes) in partitions {
        let at = out.len();
        put32(&mut out, 0x120 + index * 8, at / 0x200);
        put32(&mut out, 0x124 + index * 8, bytes.len() / 0x200);
        out.extend_from_slice(bytes);
    }
    out
}

/// A package with these contents, under a title key or not.
pub fn package(contents: &[(u16, &[u8])], encrypted: bool) -> Vec<u8> {
    let title_key = *b"title key of us.";
    let common = key_of(slot(0x3d), *b"common key one Y");
    let mut iv = [0; 16];
    iv[..8].copy_from_slice(&TITLE.to_be_bytes());
    let coded = chained(common, iv, &title_key);
    let mut ticket = vec![0; 0x350];
    ticket[..4].copy_from_slice(&[0, 1, 0, 4]);
    ticket[0x1bf..0x1cf].copy_from_slice(&coded);
    ticket[0x1dc..0x1e4].copy_from_slice(&TITLE.to_be_bytes());
    ticket[0x1f1] = 1;
    let mut bitmap = vec![0; 0x2000];
    let (mut records, mut body) = (Vec::new(), Vec::new());
    for (index, bytes) in contents {
        bitmap[usize::from(index / 8)] |= 0x80 >> (index % 8);
        records.extend([0, 0, 0, *index as u8]);
        records.extend(index.to_be_bytes());
        records.extend(u16::from(encrypted).to_be_bytes());
        records.extend((bytes.len() as u64).to_be_bytes());
        records.extend(sha(bytes));
        let mut iv = [0; 16];
        iv[..2].copy_from_slice(&index.to_be_bytes());
        match encrypted {
            true => body.extend(chained(title_key, iv, bytes)),
            false => body.extend_from_slice(bytes),
        }
    }
    let mut metadata = vec![0; 0xb04];
    metadata[..4].copy_from_slice(&[0, 1, 0, 4]);
    metadata[0x18c..0x194].copy_from_slice(&TITLE.to_be_bytes());
    metadata[0x1dc..0x1e0].copy_from_slice(&[4, 0x10, 0, contents.len() as u8]);
    metadata[0x207] = contents.len() as u8;
    let hash = sha(&records);
    metadata[0x208..0x228].copy_from_slice(&hash);
    let hash = sha(&metadata[0x204..0xb04]);
    metadata[0x1e4..0x204].copy_from_slice(&hash);
    metadata.extend(records);
    let certificates = noise(8, 0xa00);
    let mut header = vec![0; 0x20];
    for (at, len) in [(0, 0x2020), (8, 0xa00), (0xc, 0x350), (0x10, metadata.len()), (0x18, body.len())] {
        put32(&mut header, at, len);
    }
    let header = [header, bitmap].concat();
    [padded(header, 64), padded(certificates, 64), padded(ticket, 64), padded(metadata, 64), body].concat()
}
