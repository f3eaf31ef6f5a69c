//! A UDF 1.02 volume beside another file system: both describe the same files, in the same sectors.
//!
//! | sectors | content |
//! | ---: | --- |
//! | 19 to 21 | recognition: BEA01, NSR02, TEA01 |
//! | 32 to 47, 48 to 63 | volume descriptors, and their reserve |
//! | 64, 65 | integrity descriptor, terminator |
//! | 256, last | anchors |
//! | 257 to the last but one | the partition: file set, file entries, folders; then whatever the other file system has |

use super::descriptor::{crc_of, tag};
use decanter_core::SECTOR;

/// First sector of the partition.
pub const PARTITION: u64 = 257;
/// Where the three recognition structures stand.
const RECOGNITION: u64 = 19;
const MAIN: u64 = 32;
const RESERVE: u64 = 48;
const SEQUENCE_SECTORS: u32 = 16;
const INTEGRITY: u64 = 64;
const ANCHOR: u64 = 256;
/// Revision, as descriptors give it.
const REVISION: u16 = 0x0102;
/// The longest extent that is a multiple of a block.
const MOST_EXTENT: u64 = 0x3fff_f800;
/// Read and execute, for everybody (ECMA-167, 4/14.9.5).
const PERMISSIONS: u32 = 0x14a5;

/// A folder of the volume; the first is the root.
pub struct Folder {
    /// Number of the folder around it; the root is its own.
    pub parent: usize,
    /// Its name.
    pub name: String,
    /// When it was last changed, in seconds since 1970.
    pub modified: Option<i64>,
    /// Numbers of the folders in it.
    pub folders: Vec<usize>,
    /// Numbers of the files in it.
    pub files: Vec<usize>,
}

/// A file of the volume.
pub struct File {
    /// Its name.
    pub name: String,
    /// When it was last changed, in seconds since 1970.
    pub modified: Option<i64>,
    /// Length in bytes.
    pub len: u64,
    /// Sector of its first byte. It lies in one piece.
    pub sector: u64,
}

/// A volume in the making.
pub struct Bridge<'a> {
    /// Volume identifier.
    pub label: &'a str,
    /// The folders.
    pub folders: &'a [Folder],
    /// The files.
    pub files: &'a [File],
    /// When the volume was made, in seconds since 1970.
    pub date: Option<i64>,
}

impl Bridge<'_> {
    /// Blocks that file set, entries and folders take from [`PARTITION`] on.
    pub fn blocks(&self) -> u64 {
        let folders: u64 = (0..self.folders.len()).map(|f| 1 + self.folder_blocks(f)).sum();
        2 + folders + self.files.len() as u64
    }

    fn folder_blocks(&self, folder: usize) -> u64 {
        let f = &self.folders[folder];
        let names =
            f.folders.iter().map(|&i| &self.folders[i].name).chain(f.files.iter().map(|&i| &self.files[i].name));
        let bytes: usize = 40 + names.map(|n| (38 + identifier(n).len()).next_multiple_of(4)).sum::<usize>();
        (bytes as u64).div_ceil(SECTOR)
    }

    /// The block of each folder's entry, then of each file's.
    fn places(&self) -> (Vec<u64>, Vec<u64>) {
        let mut next = 2;
        let mut folders = Vec::new();
        for folder in 0..self.folders.len() {
            folders.push(next);
            next += 1 + self.folder_blocks(folder);
        }
        let files = (0..self.files.len() as u64).map(|f| next + f).collect();
        (folders, files)
    }

    /// Hands every sector to `put`, but for those of files; `total` is the number of sectors of the whole image.
    pub fn write(&self, total: u64, put: &mut dyn FnMut(u64, &[u8])) {
        for (index, id) in [b"BEA01", b"NSR02", b"TEA01"].into_iter().enumerate() {
            put(RECOGNITION + index as u64, &[&[0][..], id, &[1]].concat());
        }
        let blocks = total - 1 - PARTITION;
        for start in [MAIN, RESERVE] {
            for (index, bytes) in self.sequence(blocks).into_iter().enumerate() {
                let at = start + index as u64;
                put(at, &sealed(bytes.0, at, bytes.1));
            }
        }
        put(INTEGRITY, &sealed(9, INTEGRITY, self.integrity(blocks)));
        put(INTEGRITY + 1, &sealed(tag::TERMINATING, INTEGRITY + 1, Body::new(512)));
        put(ANCHOR, &anchor(ANCHOR));
        let (folders, files) = self.places();
        put(PARTITION, &sealed(tag::FILE_SET, 0, self.file_set(folders[0])));
        put(PARTITION + 1, &sealed(tag::TERMINATING, 1, Body::new(512)));
        for (index, folder) in self.folders.iter().enumerate() {
            let block = folders[index];
            let bytes = self.folder_bytes(index, &folders, &files);
            let links = 1 + folder.folders.len() as u16;
            let extent = [(block + 1, bytes.len() as u64)];
            put(
                PARTITION + block,
                &entry(block, 4, links, folder.modified, bytes.len() as u64, &extent, unique(block, index == 0)),
            );
            put(PARTITION + block + 1, &bytes);
        }
        for (file, &block) in self.files.iter().zip(&files) {
            let mut extents = Vec::new();
            let mut done = 0;
            while done < file.len {
                let len = MOST_EXTENT.min(file.len - done);
                extents.push((file.sector - PARTITION + done / SECTOR, len));
                done += len;
            }
            put(PARTITION + block, &entry(block, 5, 1, file.modified, file.len, &extents, unique(block, false)));
        }
    }

    /// Tag identifiers and contents of the volume descriptors (ECMA-167, 3/10; UDF 1.02, 2.2).
    fn sequence(&self, blocks: u64) -> Vec<(u16, Body)> {
        let mut primary = Body::new(512);
        primary.dstring(24, 32, self.label);
        for at in [56, 58] {
            primary.u16(at, 1);
        }
        for at in [60, 62] {
            primary.u16(at, 2);
        }
        for at in [64, 68] {
            primary.u32(at, 1);
        }
        // The first sixteen characters should be unique; what is made the same every time cannot be.
        primary.dstring(72, 128, &format!("0000000000000000{}", self.label));
        primary.charset(200);
        primary.charset(264);
        primary.date(376, self.date);
        primary.regid(388, b"*Decanter", &[]);
        let mut information = Body::new(512);
        information.u32(16, 1);
        information.regid(20, b"*UDF LV Info", &REVISION.to_le_bytes());
        information.charset(52);
        information.dstring(116, 128, self.label);
        information.regid(352, b"*Decanter", &[]);
        let mut partition = Body::new(512);
        partition.u32(16, 2);
        partition.u16(20, 1);
        partition.regid(24, b"+NSR02", &[]);
        partition.u32(184, 1);
        partition.u32(188, PARTITION as u32);
        partition.u32(192, blocks as u32);
        partition.regid(196, b"*Decanter", &[]);
        let mut logical = Body::new(446);
        logical.u32(16, 3);
        logical.charset(20);
        logical.dstring(84, 128, self.label);
        logical.u32(212, SECTOR as u32);
        logical.domain(216);
        logical.u32(248, 2 * SECTOR as u32);
        logical.u32(264, 6);
        logical.u32(268, 1);
        logical.regid(272, b"*Decanter", &[]);
        logical.u32(432, 2 * SECTOR as u32);
        logical.u32(436, INTEGRITY as u32);
        logical.0[440..446].copy_from_slice(&[1, 6, 1, 0, 0, 0]);
        let mut unallocated = Body::new(24);
        unallocated.u32(16, 4);
        vec![
            (tag::PRIMARY, primary),
            (4, information),
            (tag::PARTITION, partition),
            (tag::LOGICAL_VOLUME, logical),
            (7, unallocated),
            (tag::TERMINATING, Body::new(512)),
        ]
    }

    fn integrity(&self, blocks: u64) -> Body {
        let mut body = Body::new(134);
        body.date(16, self.date);
        body.u32(28, 1);
        body.u32(40, PARTITION as u32 + self.blocks() as u32);
        body.u32(72, 1);
        body.u32(76, 46);
        body.u32(84, blocks as u32);
        body.regid(88, b"*Decanter", &[]);
        body.u32(120, self.files.len() as u32);
        body.u32(124, self.folders.len() as u32);
        for at in [128, 130, 132] {
            body.u16(at, REVISION);
        }
        body
    }

    fn file_set(&self, root: u64) -> Body {
        let mut body = Body::new(512);
        body.date(16, self.date);
        for at in [28, 30] {
            body.u16(at, 3);
        }
        for at in [32, 36] {
            body.u32(at, 1);
        }
        body.charset(48);
        body.dstring(112, 128, self.label);
        body.charset(240);
        body.dstring(304, 32, self.label);
        body.u32(400, SECTOR as u32);
        body.u32(404, root as u32);
        body.domain(416);
        body
    }

    /// The file identifiers of a folder (ECMA-167, 4/14.4), the one of its parent first.
    fn folder_bytes(&self, index: usize, folders: &[u64], files: &[u64]) -> Vec<u8> {
        let folder = &self.folders[index];
        let mut list = vec![(Vec::new(), 0x0a, folders[folder.parent], folder.parent == 0)];
        list.extend(folder.folders.iter().map(|&f| (identifier(&self.folders[f].name), 2, folders[f], false)));
        list.extend(folder.files.iter().map(|&f| (identifier(&self.files[f].name), 0, files[f], false)));
        let mut bytes = Vec::new();
        for (name, characteristics, block, is_root) in list {
            let mut body = Body::new((38 + name.len()).next_multiple_of(4));
            body.u16(16, 1);
            body.0[18] = characteristics;
            body.0[19] = name.len() as u8;
            body.u32(20, SECTOR as u32);
            body.u32(24, block as u32);
            body.u32(32, unique(block, is_root) as u32);
            body.0[38..38 + name.len()].copy_from_slice(&name);
            let at = folders[index] + 1 + bytes.len() as u64 / SECTOR;
            bytes.extend(sealed(tag::FILE_IDENTIFIER, at, body));
        }
        bytes
    }
}

/// The unique id of an entry; the root's is 0, others begin at 16 (UDF 1.02, 3.2.1.1).
fn unique(block: u64, is_root: bool) -> u64 {
    if is_root { 0 } else { block + 16 }
}

fn entry(
    block: u64,
    kind: u8,
    links: u16,
    modified: Option<i64>,
    len: u64,
    extents: &[(u64, u64)],
    id: u64,
) -> Vec<u8> {
    let mut body = Body::new(176 + extents.len() * 8);
    body.u16(20, 4);
    body.u16(24, 1);
    body.0[27] = kind;
    body.u32(36, u32::MAX);
    body.u32(40, u32::MAX);
    body.u32(44, PERMISSIONS);
    body.u16(48, links);
    body.u64(56, len);
    body.u64(64, len.div_ceil(SECTOR));
    for at in [72, 84, 96] {
        body.date(at, modified);
    }
    body.u32(108, 1);
    body.regid(128, b"*Decanter", &[]);
    body.u64(160, id);
    body.u32(172, extents.len() as u32 * 8);
    for (index, (at, len)) in extents.iter().enumerate() {
        body.u32(176 + index * 8, *len as u32);
        body.u32(180 + index * 8, *at as u32);
    }
    sealed(tag::FILE_ENTRY, block, body)
}

/// An anchor in sector `at`.
pub fn anchor(at: u64) -> Vec<u8> {
    let mut body = Body::new(512);
    for (place, start) in [(16, MAIN), (24, RESERVE)] {
        body.u32(place, SEQUENCE_SECTORS * SECTOR as u32);
        body.u32(place + 4, start as u32);
    }
    sealed(tag::ANCHOR, at, body)
}

/// A name in OSTA compressed Unicode.
fn identifier(name: &str) -> Vec<u8> {
    let narrow: Option<Vec<u8>> = name.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
    match narrow {
        Some(bytes) => [&[8][..], &bytes].concat(),
        None => [16].into_iter().chain(name.encode_utf16().flat_map(u16::to_be_bytes)).collect(),
    }
}

/// A descriptor without its tag.
struct Body(Vec<u8>);

impl Body {
    fn new(len: usize) -> Self {
        Self(vec![0; len])
    }

    fn put(&mut self, at: usize, bytes: &[u8]) {
        self.0[at..at + bytes.len()].copy_from_slice(bytes);
    }

    fn u16(&mut self, at: usize, value: u16) {
        self.put(at, &value.to_le_bytes());
    }

    fn u32(&mut self, at: usize, value: u32) {
        self.put(at, &value.to_le_bytes());
    }

    fn u64(&mut self, at: usize, value: u64) {
        self.put(at, &value.to_le_bytes());
    }

    fn charset(&mut self, at: usize) {
        self.put(at + 1, b"OSTA Compressed Unicode");
    }

    fn regid(&mut self, at: usize, id: &[u8], suffix: &[u8]) {
        self.put(at + 1, id);
        self.put(at + 24, suffix);
    }

    fn domain(&mut self, at: usize) {
        self.regid(at, b"*OSTA UDF Compliant", &[&REVISION.to_le_bytes()[..], &[3]].concat());
    }

    /// A text in a field of `len` bytes, cut to what fits.
    fn dstring(&mut self, at: usize, len: usize, text: &str) {
        let mut bytes = identifier(text);
        bytes.truncate(if bytes[0] == 16 { (len - 1) | 1 } else { len - 1 }.min(len - 1));
        self.put(at, &bytes);
        self.0[at + len - 1] = bytes.len() as u8;
    }

    fn date(&mut self, at: usize, seconds: Option<i64>) {
        let ((year, month, day), (hour, minute, second)) = crate::time::date(seconds.unwrap_or(0));
        // Type 1: local time, of a zone that is zero minutes away from UTC.
        self.put(at, &0x1000u16.to_le_bytes());
        self.put(at + 2, &(year as i16).to_le_bytes());
        self.put(at + 4, &[month, day, hour, minute, second]);
    }
}

/// A descriptor with its tag (ECMA-167, 3/7.2).
fn sealed(id: u16, location: u64, body: Body) -> Vec<u8> {
    let mut bytes = body.0;
    let crc = crc_of(&bytes[16..]);
    let len = bytes.len() as u16 - 16;
    bytes[..2].copy_from_slice(&id.to_le_bytes());
    bytes[2..4].copy_from_slice(&2u16.to_le_bytes());
    bytes[8..10].copy_from_slice(&crc.to_le_bytes());
    bytes[10..12].copy_from_slice(&len.to_le_bytes());
    bytes[12..16].copy_from_slice(&(location as u32).to_le_bytes());
    bytes[4] = bytes[..16].iter().enumerate().filter(|(i, _)| *i != 4).fold(0u8, |s, (_, b)| s.wrapping_add(*b));
    bytes
}
