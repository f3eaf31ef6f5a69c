//! A package of the fourth generation, built step by step after docs/formats/ps4-pkg.md and pfs.md, without the code that is
//! tested: its own HMAC, XTS, CBC, its own inodes and tables.

use aes::cipher::{Array, BlockCipherEncrypt, KeyInit};
use aes::{Aes128Enc, Block};
use decanter_core::digest::{Algorithm, of_bytes};
use std::collections::BTreeMap;
use std::io::Write;

pub const BLOCK: usize = 0x1_0000;
pub const ZEROS: [u8; 32] = [b'0'; 32];
pub const CONTENT_ID: &str = "UP0000-DCNT40001_00-PIERNINE00000000";
const SECTOR: usize = 0x1000;

pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    of_bytes(Algorithm::Sha256, bytes).bytes.try_into().unwrap()
}

/// RFC 2104 by hand.
pub fn hmac(key: &[u8], bytes: &[u8]) -> [u8; 32] {
    let mut own = [0; 64];
    own[..key.len()].copy_from_slice(key);
    let pad = |byte: u8| own.map(|b| b ^ byte).to_vec();
    let inner = sha256(&[pad(0x36), bytes.to_vec()].concat());
    sha256(&[pad(0x5c), inner.to_vec()].concat())
}

fn aes(key: &[u8], block: [u8; 16]) -> [u8; 16] {
    let own = Aes128Enc::new(&Array::from(<[u8; 16]>::try_from(key).unwrap()));
    let mut out: Block = block.into();
    own.encrypt_block(&mut out);
    out.into()
}

fn xor(a: [u8; 16], b: [u8; 16]) -> [u8; 16] {
    std::array::from_fn(|i| a[i] ^ b[i])
}

/// CBC by hand, whole blocks.
fn cbc(key: &[u8], iv: &[u8], bytes: &[u8]) -> Vec<u8> {
    let mut last: [u8; 16] = iv.try_into().unwrap();
    let mut out = Vec::new();
    for block in bytes.chunks(16) {
        last = aes(key, xor(last, block.try_into().unwrap()));
        out.extend(last);
    }
    out
}

/// A sector under XTS by hand.
fn xts(data: &[u8], tweak: &[u8], number: u64, sector: &mut [u8]) {
    let cipher = Aes128Enc::new(&Array::from(<[u8; 16]>::try_from(data).unwrap()));
    let mut mask = u128::from_le_bytes(aes(tweak, u128::from(number).to_le_bytes()));
    for block in sector.chunks_mut(16) {
        let own = u128::from_le_bytes((&*block).try_into().unwrap()) ^ mask;
        let mut out: Block = own.to_le_bytes().into();
        cipher.encrypt_block(&mut out);
        block.copy_from_slice(&(u128::from_le_bytes(out.into()) ^ mask).to_le_bytes());
        mask = (mask << 1) ^ ((mask >> 127) * 0x87);
    }
}

pub fn key(content_id: &str, passcode: &[u8; 32], index: u32) -> [u8; 32] {
    let mut id = content_id.as_bytes().to_vec();
    id.resize(48, 0);
    sha256(&[&sha256(&index.to_be_bytes())[..], &sha256(&id), passcode].concat())
}

/// What a package is to be.
pub struct Wish {
    pub passcode: [u8; 32],
    /// Keys of the image made in the newer way.
    pub newer: bool,
    /// Inodes of the outer image with numbers of 64 bits.
    pub wide: bool,
    /// Blocks of the content in wild order, tables among them, a block that nobody points at.
    pub scattered: bool,
    /// The image with the files deflated, with zlib.
    pub deflated: bool,
    pub seed: [u8; 16],
    /// Id, name, bytes, under which key.
    pub entries: Vec<(u32, &'static str, Vec<u8>, Option<u32>)>,
    pub files: Vec<(&'static str, Vec<u8>)>,
    pub content_flags: u32,
}

impl Default for Wish {
    fn default() -> Self {
        Self {
            passcode: ZEROS,
            newer: false,
            wide: false,
            scattered: false,
            deflated: false,
            seed: seed(),
            entries: vec![
                (0x1000, "param.sfo", sfo(&[("APP_VER", "01.00"), ("CATEGORY", "gd")]), None),
                (0x1200, "icon0.png", vec![0x89; 999], None),
            ],
            files: vec![
                ("Eboot.bin", noise(1, 300_000)),
                ("data/empty", vec![]),
                ("data/Map.dat", vec![5; 65_536]),
                ("data/deep/a.txt", b"tide".to_vec()),
                ("sce_sys/keystone", vec![3; 96]),
            ],
            content_flags: 0x0a00_0000,
        }
    }
}

/// As our own packages have it.
pub fn seed() -> [u8; 16] {
    sha256(format!("seed{CONTENT_ID}").as_bytes())[..16].try_into().unwrap()
}

pub fn noise(seed: u32, len: usize) -> Vec<u8> {
    let mut state = seed;
    let mut next = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 24) as u8
    };
    (0..len).map(|_| next()).collect()
}

/// A parameter file with the ids, and these texts.
pub fn sfo(more: &[(&str, &str)]) -> Vec<u8> {
    let mut all: BTreeMap<&str, &str> =
        BTreeMap::from([("CONTENT_ID", CONTENT_ID), ("TITLE", "Pier Nine"), ("TITLE_ID", "DCNT40001")]);
    all.extend(more.iter().copied());
    let (mut index, mut names, mut values) = (Vec::new(), Vec::new(), Vec::new());
    for (name, value) in &all {
        let len = value.len() as u32 + 1;
        index.extend((names.len() as u16).to_le_bytes());
        index.extend(0x204u16.to_le_bytes());
        index.extend(len.to_le_bytes());
        index.extend(len.next_multiple_of(4).to_le_bytes());
        index.extend((values.len() as u32).to_le_bytes());
        names.extend(name.as_bytes());
        names.push(0);
        values.extend(value.as_bytes());
        values.push(0);
        values.resize(values.len().next_multiple_of(4), 0);
    }
    names.resize(names.len().next_multiple_of(4), 0);
    let at = 20 + index.len() as u32;
    let mut bytes = b"\0PSF\x01\x01\0\0".to_vec();
    for number in [at, at + names.len() as u32, all.len() as u32] {
        bytes.extend(number.to_le_bytes());
    }
    [bytes, index, names, values].concat()
}

fn pad(bytes: &mut Vec<u8>, edge: usize) {
    bytes.resize(bytes.len().next_multiple_of(edge), 0);
}

fn dirent(inode: u32, kind: u32, name: &str) -> Vec<u8> {
    let mut own = Vec::new();
    let len = (16 + name.len() + 1).next_multiple_of(8) as u32;
    for number in [inode, kind, name.len() as u32, len] {
        own.extend(number.to_le_bytes());
    }
    own.extend(name.as_bytes());
    own.resize(len as usize, 0);
    own
}

fn path_hash(path: &str) -> u32 {
    format!("/{path}").bytes().fold(0, |hash: u32, b| hash.wrapping_mul(31).wrapping_add(b.to_ascii_uppercase().into()))
}

/// What all inodes begin with, up to the number of blocks.
fn inode(mode: u16, links: u16, flags: u32, len: u64, len_again: u64) -> Vec<u8> {
    let mut own = Vec::new();
    own.extend(mode.to_le_bytes());
    own.extend(links.to_le_bytes());
    own.extend(flags.to_le_bytes());
    own.extend(len.to_le_bytes());
    own.extend(len_again.to_le_bytes());
    own.resize(0x60, 0);
    own
}

fn head(mode: u16, inodes: u64, blocks: u64, inode_blocks: u64) -> Vec<u8> {
    let mut own = Vec::new();
    for number in [1u64, 20_130_315, 0] {
        own.extend(number.to_le_bytes());
    }
    own.extend([0, 0, 1, 0]);
    own.extend(mode.to_le_bytes());
    own.extend([0, 0]);
    own.extend((BLOCK as u32).to_le_bytes());
    own.extend(0u32.to_le_bytes());
    for number in [1, inodes, blocks, inode_blocks, 0] {
        own.extend(number.to_le_bytes());
    }
    assert_eq!(own.len(), 0x50);
    own
}

/// The plain image: header, inodes, top, paths, folders, files.
pub fn inner(files: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut folders: BTreeMap<String, String> = BTreeMap::new();
    for (path, _) in files {
        for (at, _) in path.match_indices('/') {
            folders.insert(path[..at].to_uppercase(), path[..at].to_owned());
        }
    }
    let mut sorted: Vec<&(&str, Vec<u8>)> = files.iter().collect();
    sorted.sort_by_key(|(path, _)| path.to_uppercase());
    let number_of_folder = |path: &str| match folders.keys().position(|f| *f == path.to_uppercase()) {
        Some(index) => 3 + index as u32,
        None => 2,
    };
    let first_file = 3 + folders.len() as u32;
    let parent = |path: &str| path.rsplit_once('/').map_or("", |(above, _)| above).to_owned();
    let name = |path: &str| path.rsplit('/').next().unwrap().to_owned();
    let mut paths = BTreeMap::new();
    for path in folders.values() {
        paths.insert(path_hash(path), number_of_folder(path) | 0x2000_0000);
    }
    for (index, (path, _)) in sorted.iter().enumerate() {
        paths.insert(path_hash(path), first_file + index as u32);
    }
    let table: Vec<u8> =
        paths.iter().flat_map(|(hash, inode)| [hash.to_le_bytes(), inode.to_le_bytes()].concat()).collect();
    let top = [dirent(1, 2, "flat_path_table"), dirent(2, 3, "uroot")].concat();
    // Content of inodes: mode, links, flags, bytes, length.
    let mut all: Vec<(u16, u16, u32, Vec<u8>, u64)> =
        vec![(0x416d, 1, 0x2_0010, top, BLOCK as u64), (0x816d, 1, 0x2_0010, table.clone(), table.len() as u64)];
    for folder in std::iter::once(String::new()).chain(folders.values().cloned()) {
        let above = if folder.is_empty() { 2 } else { number_of_folder(&parent(&folder)) };
        let own = if folder.is_empty() { 2 } else { number_of_folder(&folder) };
        let mut list = [dirent(own, 4, "."), dirent(above, 5, "..")].concat();
        for path in folders.values().filter(|p| parent(p).to_uppercase() == folder.to_uppercase() && **p != folder) {
            list.extend(dirent(number_of_folder(path), 3, &name(path)));
        }
        for (index, (path, _)) in sorted.iter().enumerate() {
            if parent(path).to_uppercase() == folder.to_uppercase() {
                list.extend(dirent(first_file + index as u32, 2, &name(path)));
            }
        }
        all.push((0x416d, if folder.is_empty() { 3 } else { 2 }, 0x10, list, BLOCK as u64));
    }
    for (_, bytes) in &sorted {
        all.push((0x816d, 1, 0x10, bytes.clone(), bytes.len() as u64));
    }
    let (mut inodes, mut content, mut next) = (Vec::new(), Vec::new(), 2u32);
    for (mode, links, flags, mut bytes, len) in all.iter().cloned() {
        let blocks = bytes.len().div_ceil(BLOCK) as u32;
        inodes.extend(inode(mode, links, flags, len, len));
        inodes.extend(blocks.to_le_bytes());
        for pointer in 0..17u32 {
            let number = match pointer {
                0 if blocks > 0 => next,
                1..12 if pointer < blocks => u32::MAX,
                _ => 0,
            };
            inodes.extend(number.to_le_bytes());
        }
        next += blocks;
        pad(&mut bytes, BLOCK);
        content.extend(bytes);
    }
    assert!(inodes.len() <= BLOCK);
    pad(&mut inodes, BLOCK);
    let mut front = head(8, all.len() as u64, next.into(), 1);
    front.extend(inode(0, 0, 0, BLOCK as u64, BLOCK as u64));
    front.extend(1u64.to_le_bytes());
    front.extend([0; 32]);
    front.extend(1u64.to_le_bytes());
    pad(&mut front, BLOCK);
    front[0x36c] = 1;
    [front, inodes, content].concat()
}

/// The packed form of an image.
pub fn pfsc(image: &[u8], deflated: bool) -> Vec<u8> {
    let count = image.len() / BLOCK;
    let data_at = (0x400 + (count + 1) * 8).next_multiple_of(BLOCK);
    let (mut places, mut data) = (vec![data_at as u64], Vec::<u8>::new());
    for block in image.chunks(BLOCK) {
        let mut packed = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::new(6));
        packed.write_all(block).unwrap();
        let packed = packed.finish().unwrap();
        data.extend(if deflated && packed.len() < BLOCK { &packed[..] } else { block });
        places.push((data_at + data.len()) as u64);
    }
    let mut own = b"PFSC\0\0\0\0\x06\0\0\0".to_vec();
    own.extend((BLOCK as u32).to_le_bytes());
    for number in [BLOCK as u64, 0x400, data_at as u64, image.len() as u64] {
        own.extend(number.to_le_bytes());
    }
    own.resize(0x400, 0);
    own.extend(places.iter().flat_map(|p| p.to_le_bytes()));
    own.resize(data_at, 0);
    own.extend(data);
    own
}

fn pointer(code: &[u8; 32], block: u64, wide: bool) -> Vec<u8> {
    let number = block.to_le_bytes();
    [&code[..], &number[..if wide { 8 } else { 4 }]].concat()
}

/// Keys of an image: for codes, for data, for tweaks.
pub fn image_keys(image_key: &[u8; 32], seed: &[u8; 16], newer: bool) -> ([u8; 32], [u8; 16], [u8; 16]) {
    let own = if newer { hmac(image_key, seed) } else { *image_key };
    let of = |purpose: u32| hmac(&own, &[&purpose.to_le_bytes()[..], seed].concat());
    let both = of(1);
    (of(2), both[16..].try_into().unwrap(), both[..16].try_into().unwrap())
}

/// The signed and encrypted image around `content`. Returns its bytes, and where each block of the content is.
pub fn outer(content: &[u8], unpacked: u64, wish: &Wish, edit: &dyn Fn(&mut Vec<u8>, &[u64])) -> (Vec<u8>, Vec<u64>) {
    let image_key = key(CONTENT_ID, &wish.passcode, 1);
    let (mac, data_key, tweak_key) = image_keys(&image_key, &wish.seed, wish.newer);
    let wide = wish.wide;
    let count = content.len().div_ceil(BLOCK);
    let per = BLOCK / if wide { 40 } else { 36 };
    let tables = match count {
        0..=12 => 0,
        n if n - 12 <= per => 1,
        n => 2 + (n - 12 - per).div_ceil(per),
    };
    // Where everything is.
    let (table_at, places): (Vec<u64>, Vec<u64>) = match wish.scattered {
        false => ((5..5 + tables as u64).collect(), (0..count as u64).map(|n| 5 + tables as u64 + n).collect()),
        true => {
            // Block 5 is nobody's; content from the end to the beginning, the tables behind it.
            let places = (0..count as u64).map(|n| 6 + (count as u64 - 1 - n)).collect();
            ((6 + count as u64..6 + (count + tables) as u64).collect(), places)
        }
    };
    let last = places.iter().chain(&table_at).max().copied().unwrap_or(4);
    let mut image = vec![0; (last as usize + 1) * BLOCK];
    let put = |image: &mut Vec<u8>, at: u64, bytes: &[u8]| {
        image[at as usize * BLOCK..at as usize * BLOCK + bytes.len()].copy_from_slice(bytes);
    };
    for (chunk, at) in content.chunks(BLOCK).zip(&places) {
        put(&mut image, *at, chunk);
    }
    let code = |image: &Vec<u8>, at: u64| hmac(&mac, &image[at as usize * BLOCK..][..BLOCK]);
    let mut pointers: Vec<(u64, [u8; 32])> = places.iter().map(|at| (*at, code(&image, *at))).collect();
    let mut own = vec![(0u64, [0u8; 32]); 17];
    let rest = pointers.split_off(pointers.len().min(12));
    own[..pointers.len()].copy_from_slice(&pointers);
    let table =
        |all: &[(u64, [u8; 32])]| all.iter().flat_map(|(at, code)| pointer(code, *at, wide)).collect::<Vec<u8>>();
    for (index, some) in rest.chunks(per).enumerate() {
        let at = table_at[if index == 0 { 0 } else { index + 1 }];
        put(&mut image, at, &table(some));
        if index == 0 {
            own[12] = (at, code(&image, at));
        }
    }
    if tables > 1 {
        let leaves: Vec<(u64, [u8; 32])> = table_at[2..].iter().map(|at| (*at, code(&image, *at))).collect();
        put(&mut image, table_at[1], &table(&leaves));
        own[13] = (table_at[1], code(&image, table_at[1]));
    }
    put(&mut image, 2, &[dirent(1, 2, "flat_path_table"), dirent(2, 3, "uroot")].concat());
    let hashed = [path_hash("pfs_image.dat").to_le_bytes(), 3u32.to_le_bytes()].concat();
    put(&mut image, 3, &hashed);
    put(&mut image, 4, &[dirent(2, 4, "."), dirent(2, 5, ".."), dirent(3, 2, "pfs_image.dat")].concat());
    let finished = |begin: Vec<u8>, blocks: u64, pointers: &[(u64, [u8; 32])], wide: bool| {
        let mut own = begin;
        own.extend(&blocks.to_le_bytes()[..if wide { 8 } else { 4 }]);
        (0..17).for_each(|i| {
            let (at, code) = pointers.get(i).copied().unwrap_or_default();
            own.extend(pointer(&code, at, wide));
        });
        own
    };
    let single = |image: &Vec<u8>, at: u64| vec![(at, code(image, at))];
    let whole = BLOCK as u64;
    let inodes = [
        finished(inode(0x416d, 1, 0x2_0010, whole, whole), 1, &single(&image, 2), wide),
        finished(inode(0x816d, 1, 0x2_0010, 8, 8), 1, &single(&image, 3), wide),
        finished(inode(0x416d, 3, 0x10, whole, whole), 1, &single(&image, 4), wide),
        finished(inode(0x816d, 1, 0x11, content.len() as u64, unpacked), count as u64, &own, wide),
    ];
    put(&mut image, 1, &inodes.concat());
    edit(&mut image, &places);
    let mode = 0xd | if wide { 2 } else { 0 };
    let mut front = head(mode, 4, last + 1, 1);
    front.extend(finished(inode(0, 0, 0, whole, whole), 1, &single(&image, 1), true));
    front.resize(0x36c, 0);
    front.extend(1u32.to_le_bytes());
    front.extend(wish.seed);
    front.resize(0x5a0, 0);
    let own = hmac(&mac, &front);
    front[0x380..0x3a0].copy_from_slice(&own);
    put(&mut image, 0, &front);
    for (number, sector) in image.chunks_mut(SECTOR).enumerate().skip(BLOCK / SECTOR) {
        // What nobody points at need not be encrypted.
        if !(wish.scattered && number * SECTOR / BLOCK == 5) {
            xts(&data_key, &tweak_key, number as u64, sector);
        }
    }
    (image, places)
}

/// Where the parts of a package are.
pub struct Built {
    pub bytes: Vec<u8>,
    pub image_at: usize,
    /// Where each block of the content is in the image.
    pub places: Vec<u64>,
    /// Where the entries are, by id.
    pub entries: BTreeMap<u32, (usize, usize)>,
}

pub fn package(wish: &Wish) -> Built {
    package_with(wish, &|_| (), &|_, _| ())
}

/// The same with an edit of the packed image, and one of the plain outer image before it is signed by its header.
pub fn package_with(wish: &Wish, packed: &dyn Fn(&mut Vec<u8>), edit: &dyn Fn(&mut Vec<u8>, &[u64])) -> Built {
    let files = inner(&wish.files);
    let mut content = pfsc(&files, wish.deflated);
    packed(&mut content);
    let (image, places) = outer(&content, files.len() as u64, wish, edit);
    container(wish, image, places)
}

fn container(wish: &Wish, image: Vec<u8>, places: Vec<u64>) -> Built {
    let mut id = CONTENT_ID.as_bytes().to_vec();
    id.resize(48, 0);
    let own_key = |index: u32| key(CONTENT_ID, &wish.passcode, index);
    let mut keys = sha256(&id).to_vec();
    for index in 0..7 {
        let own = own_key(index);
        keys.extend(std::array::from_fn::<u8, 32, _>(|i| sha256(&own)[i] ^ own[i]));
    }
    // Nothing under the console's own keys.
    keys.extend([0; 7 * 256]);
    let mut names = vec![0u8];
    // Order of the body: keys, image key, general digests, table, digests, names, files.
    type Part = (u32, u32, u32, u32, Vec<u8>);
    let mut parts: Vec<Part> = vec![
        (0x10, 0, 0x6000_0000, 0, keys),
        (0x20, 0, 0xe000_0000, 0x3000, vec![0; 256]),
        (0x80, 0, 0x6000_0000, 0, vec![0; 0x180]),
        (0x100, 0, 0x6000_0000, 0, Vec::new()),
        (0x1, 0, 0x4000_0000, 0, Vec::new()),
        (0x200, 0, 0x4000_0000, 0, Vec::new()),
    ];
    for (id, name, bytes, under) in &wish.entries {
        let flags = if under.is_some() { 0x8000_0000 } else { 0 };
        parts.push((*id, names.len() as u32, flags, under.unwrap_or(0) << 12, bytes.clone()));
        names.extend(name.as_bytes());
        names.push(0);
    }
    let count = parts.len();
    parts[3].4 = vec![0; count * 32];
    parts[4].4 = vec![0; count * 32];
    parts[5].4 = names;
    let mut at = 0x2000;
    let mut records: Vec<(u32, Vec<u8>, usize, Vec<u8>)> = Vec::new();
    for (id, name_at, flags, under, mut bytes) in parts {
        let mut record = Vec::new();
        for number in [id, name_at, flags, under, at as u32, bytes.len() as u32, 0, 0] {
            record.extend(number.to_be_bytes());
        }
        if flags & 0x8000_0000 != 0 {
            let both = sha256(&[&record[..], &own_key(under >> 12)].concat());
            pad(&mut bytes, 16);
            bytes = cbc(&both[16..], &both[..16], &bytes);
        }
        let len = bytes.len();
        records.push((id, record, at, bytes));
        at = (at + len).next_multiple_of(16);
    }
    let image_at = at.next_multiple_of(0x8_0000);
    records.sort_by_key(|r| r.0);
    let ids: Vec<u32> = records.iter().map(|r| r.0).collect();
    let place = |id: u32| ids.iter().position(|own| *own == id).unwrap();
    let (table, digests, general) = (place(0x100), place(0x1), place(0x80));
    let table_at = records[table].2;
    let lens: Vec<usize> = [0x10, 0x20, 0x80, 0x100, 0x1].iter().map(|id| records[place(*id)].3.len()).collect();

    let mut head = b"\x7fCNT".to_vec();
    for number in [1, 0, 0xf, count as u32, 6 << 16 | count as u32, table_at as u32, lens.iter().sum::<usize>() as u32]
    {
        head.extend(number.to_be_bytes());
    }
    for number in [0x2000u64, (image_at - 0x2000) as u64, 0, 0] {
        head.extend(number.to_be_bytes());
    }
    head.extend(&id);
    for number in [0xf, 0x1a, wish.content_flags, 0, 0, 0, 0, 0, 0, 0, 0, 1] {
        head.extend(u32::to_be_bytes(number));
    }
    assert_eq!(head.len(), 0xa0);
    let image_digest = sha256(&image);
    let mut part = Vec::new();
    for number in [1u32, 1] {
        part.extend(number.to_be_bytes());
    }
    let flags = 0x8000_0000_0000_03ccu64 | if wish.newer { 1 << 61 } else { 0 };
    for number in [flags, image_at as u64, image.len() as u64, 0, 0, (image_at + image.len()) as u64] {
        part.extend(number.to_be_bytes());
    }
    for number in [0x1_0000u32, 0xd_0000] {
        part.extend(number.to_be_bytes());
    }
    part.extend(image_digest);
    part.extend(sha256(&image[..BLOCK]));
    // Content, game, header, parameters.
    let sfo = records.iter().find(|r| r.0 == 0x1000).map(|r| sha256(&r.3)).unwrap_or_default();
    let mut general_bytes = vec![0; 0x180];
    general_bytes[7] = 0x27;
    general_bytes[0x20..0x40].copy_from_slice(&sha256(&[&head[0x40..0x78], &image_digest, &sfo].concat()));
    general_bytes[0x40..0x60].copy_from_slice(&image_digest);
    general_bytes[0x60..0x80].copy_from_slice(&sha256(&[&head[..0x40], &part[..0x80]].concat()));
    general_bytes[0xc0..0xe0].copy_from_slice(&sfo);
    records[general].3 = general_bytes;
    records[table].3 = records.iter().flat_map(|r| r.1.clone()).collect();
    let all_digests: Vec<u8> = records.iter().flat_map(|r| if r.0 == 1 { [0; 32] } else { sha256(&r.3) }).collect();
    records[digests].3 = all_digests;

    let mut bytes = head;
    bytes.resize(image_at, 0);
    bytes[0x400..0x400 + part.len()].copy_from_slice(&part);
    records.iter().for_each(|(_, _, at, own)| bytes[*at..*at + own.len()].copy_from_slice(own));
    let own = |id: u32| records[place(id)].3.clone();
    let first = [own(0x10), own(0x20), own(0x80)].concat();
    let system = sha256(&[first.clone(), own(0x100), own(0x1)].concat());
    let again = sha256(&[first, own(0x100)[..6 * 32].to_vec()].concat());
    let (table, body) = (sha256(&own(0x1)), sha256(&bytes[0x2000..]));
    bytes[0x100..0x180].copy_from_slice(&[system, again, table, body].concat());
    let digest = sha256(&bytes[..0xfe0]);
    bytes[0xfe0..0x1000].copy_from_slice(&digest);
    bytes.extend(image);
    let entries = records.iter().map(|(id, _, at, own)| (*id, (*at, own.len()))).collect();
    Built { bytes, image_at, places, entries }
}

/// What the file in the outer image reads as: the image with the files, unpacked.
pub fn pfsc_file(wish: &Wish) -> Vec<u8> {
    inner(&wish.files)
}
