//! Cabinets, written from the description of their layout.

mod lzx;

pub use lzx::{Lzx, pack};

use miniz_oxide::deflate::compress_to_vec;

/// Bytes that a data block gives.
const FRAME: usize = 32 << 10;

/// How a folder is packed.
#[derive(Debug, Clone, Copy)]
pub enum Method {
    /// As it is.
    Stored,
    /// With MSZIP.
    MsZip,
    /// With LZX.
    Lzx(Lzx),
}

/// A folder: files that are packed together, each with its name and bytes.
pub struct Folder<'a> {
    /// How.
    pub method: Method,
    /// What is in it.
    pub files: Vec<(&'a str, &'a [u8])>,
}

/// What a cabinet has besides folders.
#[derive(Debug, Clone, Default)]
pub struct Around {
    /// Bytes of the reserved areas of header, each folder and each data block.
    pub reserved: Option<(u16, u8, u8)>,
    /// Packed bytes after which the next cabinet of a set begins.
    pub cut_after: Option<usize>,
    /// What the cabinets of a set are called, before their numbers.
    pub name: String,
}

/// A data block that is packed: its bytes, and how many it gives; 0 where it goes on.
struct Block {
    packed: Vec<u8>,
    unpacked: u16,
}

/// A cabinet of these folders; several, if it is to be cut.
pub fn cabinets(folders: &[Folder<'_>], around: &Around) -> Vec<Vec<u8>> {
    let packed: Vec<Vec<Block>> = folders.iter().map(blocks).collect();
    // Pieces of folders, cabinet by cabinet.
    let mut pieces: Vec<Vec<(usize, Vec<Block>)>> = vec![Vec::new()];
    let mut room = around.cut_after.unwrap_or(usize::MAX);
    for (number, blocks) in packed.into_iter().enumerate() {
        let mut own = Vec::new();
        for mut block in blocks {
            while block.packed.len() > room {
                let rest = block.packed.split_off(room);
                own.push(Block { packed: block.packed, unpacked: 0 });
                if let Some(last) = pieces.last_mut() {
                    last.push((number, std::mem::take(&mut own)));
                }
                pieces.push(Vec::new());
                block = Block { packed: rest, unpacked: block.unpacked };
                room = around.cut_after.unwrap_or(usize::MAX);
            }
            room -= block.packed.len();
            own.push(block);
        }
        if let Some(last) = pieces.last_mut() {
            last.push((number, own));
        }
    }
    let last_of: Vec<usize> =
        (0..folders.len()).map(|f| pieces.iter().rposition(|p| p.iter().any(|(n, _)| *n == f)).unwrap_or(0)).collect();
    let first_of: Vec<usize> =
        (0..folders.len()).map(|f| pieces.iter().position(|p| p.iter().any(|(n, _)| *n == f)).unwrap_or(0)).collect();
    let count = pieces.len();
    let cabinet = |(number, pieces): (usize, Vec<(usize, Vec<Block>)>)| {
        let name = |n: usize| format!("{}{}.cab", around.name, n + 1);
        let neighbours =
            [(number > 0).then(|| name(number.wrapping_sub(1))), (number + 1 < count).then(|| name(number + 1))];
        let spans = |folder: usize| (first_of[folder] < number, last_of[folder] > number);
        one(folders, &pieces, number, neighbours, around, &spans)
    };
    pieces.into_iter().enumerate().map(cabinet).collect()
}

fn blocks(folder: &Folder<'_>) -> Vec<Block> {
    let data: Vec<u8> = folder.files.iter().flat_map(|(_, bytes)| bytes.iter().copied()).collect();
    let lens = data.chunks(FRAME).map(|c| c.len() as u16);
    let packed = match folder.method {
        Method::Stored => data.chunks(FRAME).map(<[u8]>::to_vec).collect(),
        Method::MsZip => data.chunks(FRAME).map(|c| [b"CK", compress_to_vec(c, 6).as_slice()].concat()).collect(),
        Method::Lzx(how) => lzx::pack(&data, how),
    };
    packed.into_iter().zip(lens).map(|(packed, unpacked)| Block { packed, unpacked }).collect()
}

fn one(
    folders: &[Folder<'_>],
    pieces: &[(usize, Vec<Block>)],
    number: usize,
    neighbours: [Option<String>; 2],
    around: &Around,
    spans: &dyn Fn(usize) -> (bool, bool),
) -> Vec<u8> {
    let (header_reserve, folder_reserve, block_reserve) = around.reserved.unwrap_or_default();
    let flags = u16::from(neighbours[0].is_some())
        | u16::from(neighbours[1].is_some()) << 1
        | u16::from(around.reserved.is_some()) << 2;
    let mut entries = Vec::new();
    let mut files = 0u16;
    for (index, (folder, _)) in pieces.iter().enumerate() {
        let mut at = 0u32;
        for (name, bytes) in &folders[*folder].files {
            let index = match spans(*folder) {
                (false, false) => index as u16,
                (true, false) => 0xfffd,
                (false, true) => 0xfffe,
                (true, true) => 0xffff,
            };
            let is_utf8 = if name.is_ascii() { 0x20 } else { 0xa0 };
            // 2026-11-23 07:14:04.
            let date: u16 = (2026 - 1980) << 9 | 11 << 5 | 23;
            let time: u16 = 7 << 11 | 14 << 5 | 2;
            entries.extend((bytes.len() as u32).to_le_bytes());
            entries.extend(at.to_le_bytes());
            [index, date, time, is_utf8].iter().for_each(|n| entries.extend(n.to_le_bytes()));
            entries.extend(name.replace('/', "\\").bytes());
            entries.push(0);
            at += bytes.len() as u32;
            files += 1;
        }
    }
    let mut head = Vec::new();
    if around.reserved.is_some() {
        head.extend(header_reserve.to_le_bytes());
        head.extend([folder_reserve, block_reserve]);
        head.extend(vec![0xee; header_reserve.into()]);
    }
    for name in neighbours.iter().flatten() {
        head.extend(name.bytes());
        head.extend([0, b'd', 0]);
    }
    let folders_len = pieces.len() * (8 + usize::from(folder_reserve));
    let files_at = 36 + head.len() + folders_len;
    let mut data_at = files_at + entries.len();
    let mut data = Vec::new();
    for (folder, blocks) in pieces {
        let method = match folders[*folder].method {
            Method::Stored => 0,
            Method::MsZip => 1,
            Method::Lzx(how) => 3 | (how.bits as u16) << 8,
        };
        head.extend((data_at as u32).to_le_bytes());
        head.extend((blocks.len() as u16).to_le_bytes());
        head.extend(u16::to_le_bytes(method));
        head.extend(vec![0xdd; folder_reserve.into()]);
        for block in blocks {
            let packed = block.packed.len() as u16;
            data.extend(sum(&block.packed, packed, block.unpacked).to_le_bytes());
            data.extend(packed.to_le_bytes());
            data.extend(block.unpacked.to_le_bytes());
            data.extend(vec![0xcc; block_reserve.into()]);
            data.extend(&block.packed);
            data_at += 8 + usize::from(block_reserve) + block.packed.len();
        }
    }
    let mut out = b"MSCF\0\0\0\0".to_vec();
    out.extend((data_at as u32).to_le_bytes());
    out.extend([0; 4]);
    out.extend((files_at as u32).to_le_bytes());
    out.extend([0, 0, 0, 0, 3, 1]);
    [pieces.len() as u16, files, flags, 0x5a17, number as u16].iter().for_each(|n| out.extend(n.to_le_bytes()));
    [head, entries, data].iter().for_each(|part| out.extend(part));
    out
}

/// The checksum of a data block.
fn sum(bytes: &[u8], packed: u16, unpacked: u16) -> u32 {
    let mut sum = 0u32;
    for chunk in bytes.chunks(4) {
        sum ^= match chunk.len() {
            4 => u32::from_le_bytes([chunk[0], chunk[1], chunk[2], chunk[3]]),
            _ => chunk.iter().fold(0, |word, byte| word << 8 | u32::from(*byte)),
        };
    }
    sum ^ u32::from(packed) ^ u32::from(unpacked) << 16
}
