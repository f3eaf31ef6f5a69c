//! Home computers and the arcade cabinet: programs, a running moment, an archive, a drive in hunks, and fixes for it.

use crate::content::{Noise, letter, route};
use decanter_core::Result;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::view::{Concat, Fill};
use decanter_formats::chunked::chd::{Codec, Medium, Wish, compose};
use std::sync::Arc;

/// The names of the five programs, and how many blocks of noise follow their code.
pub(crate) const PROGRAMS: [(&str, usize); 5] = [
    ("Lantern Post.prg", 0),
    ("Kelp Courier the Return.prg", 9),
    ("Kelp Courier the Return II.prg", 14),
    ("Brine Racer.prg", 22),
    ("Moth Parade.prg", 31),
];

/// The code of the programs: fills the screen's first line with the title, colours the border, and returns.
///
/// `LDX #0; loop: LDA text,X; BEQ done; STA $0400,X; LDA #7; STA $D800,X; INX; BNE loop; done: LDA #6; STA $D020; RTS`
fn program(title: &str, blocks: usize) -> Vec<u8> {
    let mut bytes = vec![0x01, 0x08, 0x0b, 0x08, 0x0a, 0x00, 0x9e, b'2', b'0', b'6', b'1', 0, 0, 0];
    let text = 2061 + 24u16;
    let [low, high] = text.to_le_bytes();
    bytes.extend([
        0xa2, 0x00, 0xbd, low, high, 0xf0, 0x0b, 0x9d, 0x00, 0x04, 0xa9, 0x07, 0x9d, 0x00, 0xd8, 0xe8, 0xd0, 0xf0,
    ]);
    bytes.extend([0xa9, 0x06, 0x8d, 0x20, 0xd0, 0x60]);
    // Letters as the screen has them: A is 1.
    bytes.extend(title.to_uppercase().bytes().map(|b| if b.is_ascii_uppercase() { b - 64 } else { b }));
    bytes.push(0);
    let noise = Noise { seed: title.len() as u64, magic: b"", len: blocks as u64 * 254 };
    bytes.extend(read_vec(&noise, 0, noise.len, "noise", 1 << 20).unwrap_or_default());
    bytes
}

/// The five programs, by their file names.
pub(crate) fn programs() -> Vec<(&'static str, Vec<u8>)> {
    PROGRAMS.iter().map(|(name, blocks)| (*name, program(name.trim_end_matches(".prg"), *blocks))).collect()
}

/// The memory of a machine in the middle of Lantern Post.
pub(crate) fn memory() -> Vec<u8> {
    let mut memory = vec![0; 0x1_0000];
    let own = program("Lantern Post", 0);
    memory[0x0801..0x0801 + own.len() - 2].copy_from_slice(&own[2..]);
    memory[0x0400..0x07e8].fill(0x20);
    for (at, byte) in b"LANTERN POST".iter().enumerate() {
        memory[0x0400 + at] = byte & 0x3f;
    }
    for (number, place) in (0..12).zip((0x2000..0x9000).step_by(0x900)) {
        let level = route(number);
        memory[place..place + 0x800].copy_from_slice(&level[..0x800]);
    }
    let noise = Noise { seed: 64, magic: b"", len: 0x600 };
    let noise = read_vec(&noise, 0, 0x600, "noise", 1 << 16).unwrap_or_default();
    memory[0xc000..0xc600].copy_from_slice(&noise);
    memory
}

/// Its colours: yellow in the first line, light blue below.
pub(crate) fn colours() -> Vec<u8> {
    (0..1024).map(|i| if i < 40 { 7 } else { 14 }).collect()
}

/// What describes the moment.
pub(crate) const MOMENT: &str = "\
# Lantern Post, stopped while it was writing its title.
memory = \"lantern.ram\"
colours = \"lantern.col\"

[processor]
pc = 0x080f
a = 0x07
x = 0x0c
y = 0x00
sp = 0xf4
p = 0x24
port = 0x37

[vic]
registers = \"00000000 00000000 00000000 00000000 001b0000 00000800 15000000 00000000 06060000\"

[sid]
registers = \"25110041 00f00000 00000000 00000000 00000000 00000000 0f\"

[cia1]
registers = \"7fff ff00 9542 ffff 0000 0000 0000 0108\"
mask = 1
";

/// CRC-16 as LHA has it.
fn crc16(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte), |c: u16, _| if c & 1 == 1 { c >> 1 ^ 0xa001 } else { c >> 1 })
    })
}

/// A stream of -lh5- whose codes all have eight bits: packed by the rules, but not shorter.
fn lh5(raw: &[u8]) -> Vec<u8> {
    let (mut bits, mut held, mut count) = (Vec::new(), 0u64, 0u32);
    let mut put = |value: u64, len: u32| {
        held = held << len | value;
        count += len;
        while count >= 8 {
            count -= 8;
            bits.push((held >> count) as u8);
            held &= (1 << count) - 1;
        }
    };
    for piece in raw.chunks(60_000) {
        // The number of codes; one length of lengths (10, which stands for 8); 256 codes; no distances.
        for (value, len) in [(piece.len() as u64, 16), (0, 5), (10, 5), (256, 9), (0, 4), (0, 4)] {
            put(value, len);
        }
        piece.iter().for_each(|b| put((*b).into(), 8));
    }
    put(0, 7);
    bits
}

/// A member of an archive, with a header of level 0 as the Amiga writes it.
fn member(name: &str, raw: &[u8], comment: &str, protection: u8) -> Vec<u8> {
    let packed = lh5(raw);
    let mut head = b"-lh5-".to_vec();
    head.extend((packed.len() as u32).to_le_bytes());
    head.extend((raw.len() as u32).to_le_bytes());
    // 2026-11-02 19:30:00, as DOS counts.
    head.extend((30u16 << 5 | 19 << 11).to_le_bytes());
    head.extend((2u16 | 11 << 5 | 46 << 9).to_le_bytes());
    head.extend([protection, 0]);
    let mut full = name.as_bytes().to_vec();
    if !comment.is_empty() {
        full.push(0);
        full.extend(comment.bytes());
    }
    head.push(full.len() as u8);
    head.extend(full);
    head.extend(crc16(raw).to_le_bytes());
    head.push(b'A');
    let sum = head.iter().fold(0u8, |s, b| s.wrapping_add(*b));
    [&[head.len() as u8, sum][..], &head, &packed].concat()
}

/// An executable of the Amiga that opens a library and ends; `len` bytes of data follow.
fn executable(version: u8, len: u64) -> Vec<u8> {
    let mut bytes = Vec::new();
    let noise = Noise { seed: version.into(), magic: b"", len };
    let mut code = vec![
        0x2c, 0x78, 0x00, 0x04, 0x43, 0xfa, 0x00, 0x0e, 0x70, version, 0x4e, 0xae, 0xfd, 0xd8, 0x70, 0, 0x4e, 0x75,
    ];
    code.extend(b"intuition.library\0");
    code.extend(read_vec(&noise, 0, len, "noise", 1 << 20).unwrap_or_default());
    code.resize(code.len().next_multiple_of(4), 0);
    let words = code.len() as u32 / 4;
    for word in [0x3f3, 0, 1, 0, 0, words, 0x3e9, words] {
        bytes.extend(u32::to_be_bytes(word));
    }
    bytes.extend(code);
    bytes.extend(0x3f2u32.to_be_bytes());
    bytes
}

/// The archive of an Amiga game.
pub(crate) fn archive() -> Vec<u8> {
    let mut icon = vec![0; 78];
    icon[..4].copy_from_slice(&[0xe3, 0x10, 0, 1]);
    icon[48] = 3;
    let mut bytes = member("TideTable\\TideTable", &executable(37, 70_000), "the game itself", 0x40);
    bytes.extend(member("TideTable\\TideTable.info", &icon, "", 0));
    bytes.extend(member("TideTable\\Install", &executable(34, 1_200), "", 0x40));
    bytes.extend(member("TideTable\\ReadMe", b"Tide Table, 1993.\nOpen the drawer and start TideTable.\n", "", 0));
    for number in 0..4 {
        bytes.extend(member(&format!("TideTable\\Maps\\Tide{number}"), &route(number), "", 0x10));
    }
    bytes.push(0);
    bytes
}

/// The same texts in an archive of the other kind: stored, one member a group.
pub(crate) fn letters() -> Vec<u8> {
    let mut bytes = b"LZX\0\0\0\0\0\0\0".to_vec();
    for number in 0..3 {
        let (name, raw) = (format!("Letters/{number}.xml"), letter(number));
        let mut head = [0; 31];
        (head[0], head[10], head[15], head[30]) = (0x0f, 10, 10, name.len() as u8);
        head[2..6].copy_from_slice(&(raw.len() as u32).to_le_bytes());
        head[6..10].copy_from_slice(&(raw.len() as u32).to_le_bytes());
        head[18..22].copy_from_slice(&(2u32 << 27 | 10 << 23 | 56 << 17 | 19 << 12 | 30 << 6).to_be_bytes());
        head[22..26].copy_from_slice(&of_bytes(Algorithm::Crc32, &raw).bytes.iter().rev().copied().collect::<Vec<_>>());
        let own = [&head[..], name.as_bytes()].concat();
        let mut crc = of_bytes(Algorithm::Crc32, &own).bytes;
        crc.reverse();
        head[26..30].copy_from_slice(&crc);
        bytes.extend([&head[..], name.as_bytes(), &raw].concat());
    }
    bytes
}

/// Fixes for the program on the arcade drive, by their paths.
pub(crate) fn fixes() -> Vec<(&'static str, Vec<u8>)> {
    vec![
        ("LEVELS/PIER02.DAT", [route(2), b"the gate opens now".to_vec()].concat()),
        ("LEVELS/PIER03.DAT", route(3)),
        ("FIXES.TXT", b"PIER02.DAT: the gate at the end of the pier opens again.\r\n".to_vec()),
    ]
}

/// Sectors before the partition, and of the whole drive.
const PARTITION: u64 = 63;
const DRIVE: u64 = 32 << 11;
/// Sectors of a cluster, of a table, and of the root folder.
const CLUSTER: u64 = 4;
const TABLE: u64 = 64;
const ROOT: u64 = 32;

/// The arcade cabinet's drive: one partition of FAT16, in hunks.
///
/// # Errors
/// What laying it out fails with.
pub(crate) fn drive() -> Result<Blueprint> {
    let mut files: Vec<(&str, Vec<u8>)> = vec![
        ("AUTOEXEC.BAT", b"@ECHO OFF\r\nCD \\GAMES\\FOGBELL\r\nFOGBELL.EXE\r\n".to_vec()),
        ("COMMAND.COM", read_vec(&Noise { seed: 5, magic: b"\xe9", len: 9_000 }, 0, 9_000, "noise", 1 << 20)?),
        (
            "GAMES/FOGBELL/FOGBELL.EXE",
            read_vec(&Noise { seed: 8, magic: b"MZ", len: 420_000 }, 0, 420_000, "noise", 1 << 20)?,
        ),
    ];
    let names =
        ["GAMES/FOGBELL/LEVELS/PIER01.DAT", "GAMES/FOGBELL/LEVELS/PIER02.DAT", "GAMES/FOGBELL/LEVELS/PIER03.DAT"];
    files.extend(names.iter().enumerate().map(|(i, name)| (*name, route(i + 1))));
    let volume = Volume::new(&files);
    let mut head = vec![0; 512];
    head[446..462].copy_from_slice(&[0x80, 1, 1, 0, 0x06, 15, 63, 63, PARTITION as u8, 0, 0, 0, 0, 0, 0, 0]);
    head[458..462].copy_from_slice(&((DRIVE - PARTITION) as u32).to_le_bytes());
    head[510..].copy_from_slice(&[0x55, 0xaa]);
    let len = volume.0.len() as u64;
    let parts: Vec<SourceRef> = vec![
        Arc::new(Bytes(head)),
        Arc::new(Fill { byte: 0, len: (PARTITION - 1) * 512 }),
        Arc::new(Bytes(volume.0)),
        Arc::new(Fill { byte: 0, len: (DRIVE - PARTITION) * 512 - len }),
    ];
    let whole: SourceRef = Arc::new(Concat::new(parts)?);
    let codecs = ["zlib", "lzma"].iter().filter_map(|name| Codec::named(name, false)).collect();
    let wish = Wish { codecs, level: 3, hunk_len: None, parent: None };
    compose(&Medium::HardDisk(whole), wish).map(|(blueprint, _)| blueprint)
}

/// A FAT16 volume in memory, as far as it is used.
struct Volume(Vec<u8>);

impl Volume {
    fn new(files: &[(&str, Vec<u8>)]) -> Self {
        let data_at = (1 + TABLE + ROOT) as usize * 512;
        let mut bytes = vec![0; data_at];
        bytes[..3].copy_from_slice(&[0xeb, 0x3c, 0x90]);
        bytes[3..11].copy_from_slice(b"SALTMRSH");
        bytes[11..13].copy_from_slice(&512u16.to_le_bytes());
        (bytes[13], bytes[14], bytes[16], bytes[21], bytes[22]) = (CLUSTER as u8, 1, 1, 0xf8, TABLE as u8);
        bytes[17..19].copy_from_slice(&((ROOT * 16) as u16).to_le_bytes());
        bytes[32..36].copy_from_slice(&((DRIVE - PARTITION) as u32).to_le_bytes());
        bytes[38] = 0x29;
        bytes[43..54].copy_from_slice(b"FOGBELL    ");
        bytes[54..62].copy_from_slice(b"FAT16   ");
        bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
        bytes[512..516].copy_from_slice(&[0xf8, 0xff, 0xff, 0xff]);
        let mut volume = Self(bytes);
        volume.entry(512 * (1 + TABLE as usize), b"FOGBELL    ", 0x08, 0, 0);
        // Folders get a cluster each; nothing here has more than 64 entries.
        let mut folders: Vec<(String, usize, u16)> = vec![(String::new(), 512 * (1 + TABLE as usize), 0)];
        for (path, content) in files {
            for (at, _) in path.match_indices('/') {
                let path = &path[..at];
                if folders.iter().all(|(p, ..)| p != path) {
                    let parent = folders
                        .iter()
                        .position(|(p, ..)| *p == path.rsplit_once('/').map_or("", |(f, _)| f))
                        .unwrap_or(0);
                    let (place, above) = (folders[parent].1, folders[parent].2);
                    let cluster = volume.add(&vec![0; CLUSTER as usize * 512]);
                    volume.entry(place, &short(path), 0x10, cluster, 0);
                    let own = volume.0.len() - CLUSTER as usize * 512;
                    volume.entry(own, b".          ", 0x10, cluster, 0);
                    volume.entry(own, b"..         ", 0x10, above, 0);
                    folders.push((path.to_owned(), own, cluster));
                }
            }
            let parent = path.rsplit_once('/').map_or("", |(f, _)| f);
            let place = folders.iter().find(|(p, ..)| p == parent).map_or(0, |(_, place, _)| *place);
            let cluster = volume.add(content);
            volume.entry(place, &short(path), 0x20, cluster, content.len() as u32);
        }
        volume
    }

    /// Adds content in clusters of its own; returns the first.
    fn add(&mut self, content: &[u8]) -> u16 {
        let (data_at, len) = ((1 + TABLE + ROOT) as usize * 512, CLUSTER as usize * 512);
        let first = ((self.0.len() - data_at) / len + 2) as u16;
        let count = content.len().div_ceil(len) as u16;
        self.0.extend(content);
        self.0.resize(data_at + (self.0.len() - data_at).next_multiple_of(len), 0);
        for own in first..first + count {
            let next = if own + 1 == first + count { 0xffff } else { own + 1 };
            let at = 512 + usize::from(own) * 2;
            self.0[at..at + 2].copy_from_slice(&next.to_le_bytes());
        }
        first
    }

    /// Writes an entry into the first free place of a folder.
    fn entry(&mut self, folder: usize, name: &[u8; 11], attributes: u8, cluster: u16, len: u32) {
        let at = (folder..).step_by(32).find(|at| self.0[*at] == 0).unwrap_or(folder);
        let entry = &mut self.0[at..at + 32];
        entry[..11].copy_from_slice(name);
        entry[11] = attributes;
        // 1998-05-01 12:00:00.
        entry[22..26].copy_from_slice(&[0x00, 0x60, 0xa1, 0x24]);
        entry[26..28].copy_from_slice(&cluster.to_le_bytes());
        entry[28..].copy_from_slice(&len.to_le_bytes());
    }
}

/// The last name of a path as eight and three letters.
fn short(path: &str) -> [u8; 11] {
    let name = path.rsplit('/').next().unwrap_or(path);
    let (stem, extension) = name.rsplit_once('.').unwrap_or((name, ""));
    let mut own = [b' '; 11];
    own[..stem.len()].copy_from_slice(stem.as_bytes());
    own[8..8 + extension.len()].copy_from_slice(extension.as_bytes());
    own
}

/// A disk with the first programs, one of whose sectors could not be read, as its error bytes tell.
///
/// # Errors
/// What laying it out fails with.
pub(crate) fn damaged_disk() -> Result<Vec<u8>> {
    use decanter_formats::disk::cbm::{NewFile, compose, petscii};
    let own = |(name, content): (&str, Vec<u8>)| NewFile {
        name: petscii::typeable(name.trim_end_matches(".prg")).into_bytes(),
        kind: 2,
        content,
    };
    let files: Vec<NewFile> = programs().into_iter().filter(|(name, _)| !name.contains("II")).map(own).collect();
    let mut bytes = compose("d64", &files, "STORAGE UNIT 9", "SP")?.bytes;
    let mut errors = vec![1; 683];
    // Track 19, sector 10: in the middle of the longest program.
    errors[357 + 10 + 19] = 5;
    bytes.extend(errors);
    Ok(bytes)
}
