//! Empty memory cards of the PS2, with the codes of their pages. Layout: docs/formats/ps2-card.md. Little-endian.

use decanter_core::Result;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::{Concat, Fill};
use std::sync::Arc;

/// Bytes of a page, of the codes behind it, and the pages of a card.
const PAGE: usize = 512;
const SPARE: usize = 16;
const PAGES: usize = 16_384;
/// Bytes of a card.
pub const LEN: u64 = (PAGES * (PAGE + SPARE)) as u64;
/// What the first page begins with.
pub const MAGIC: &[u8; 28] = b"Sony PS2 Memory Card Format ";
/// Bytes that each code is of.
const CHUNK: usize = 128;
/// Pages of a cluster, and clusters of a card.
const IN_CLUSTER: usize = 2;
const CLUSTERS: u32 = 8192;
/// The cluster that lists those of the table, those themselves, and where files begin: all counted from the card's first.
const LIST: u32 = 8;
const TABLE: std::ops::Range<u32> = 9..41;
/// Clusters for files, counted from the end of the table; the last two blocks are kept for repairs.
const FOR_FILES: u32 = 8135;
const REPAIRS: [u32; 2] = [1023, 1022];
/// Entries of the table.
const FREE: u32 = 0x7fff_ffff;
const LAST: u32 = 0xffff_ffff;
/// A folder that is there and may be read, written and entered; and the one above it, which is hidden.
const FOLDER: u16 = 0x8427;
const ABOVE: u16 = 0xa426;
/// Where a name stands in an entry of a folder.
const NAME_AT: usize = 0x40;
/// Midnight of 2000-01-01, as entries have it: an empty card of today is one of tomorrow, byte for byte.
const DATE: [u8; 8] = [0, 0, 0, 0, 1, 1, 0xd0, 0x07];

/// An empty card.
///
/// # Errors
/// Never: the parts have lengths of their own.
pub fn empty() -> Result<SourceRef> {
    let mut pages = vec![[0xff; PAGE]; TABLE.end as usize * IN_CLUSTER];
    pages[0] = superblock();
    let mut written = vec![0];
    let mut put = |cluster: u32, bytes: Vec<u8>| {
        for (at, half) in bytes.chunks_exact(PAGE).enumerate() {
            let page = cluster as usize * IN_CLUSTER + at;
            if page == pages.len() {
                pages.push([0; PAGE]);
            }
            pages[page].copy_from_slice(half);
            written.push(page);
        }
    };
    let words = |words: &mut dyn Iterator<Item = u32>| -> Vec<u8> { words.flat_map(u32::to_le_bytes).collect() };
    let in_cluster = (PAGE * IN_CLUSTER / 4) as u32;
    put(LIST, words(&mut (0..in_cluster).map(|n| TABLE.clone().nth(n as usize).unwrap_or(LAST))));
    for (index, cluster) in TABLE.enumerate() {
        let first = index as u32 * in_cluster;
        put(
            cluster,
            words(&mut (first..first + in_cluster).map(|number| match number {
                1..FOR_FILES => FREE,
                _ => LAST,
            })),
        );
    }
    put(TABLE.end, [entry(FOLDER, 2, "."), entry(ABOVE, 0, "..")].concat());
    let mut bytes = Vec::with_capacity(pages.len() * (PAGE + SPARE));
    for (number, page) in pages.iter().enumerate() {
        bytes.extend(page);
        match written.contains(&number) {
            true => {
                page.chunks_exact(CHUNK).for_each(|chunk| bytes.extend(code(chunk)));
                bytes.resize(bytes.len() + SPARE - PAGE / CHUNK * 3, 0);
            }
            false => bytes.resize(bytes.len() + SPARE, 0xff),
        }
    }
    let rest = LEN - bytes.len() as u64;
    Ok(Arc::new(Concat::new(vec![Arc::new(Bytes(bytes)), Arc::new(Fill { byte: 0xff, len: rest })])?))
}

/// What the first page says of the card.
fn superblock() -> [u8; PAGE] {
    let mut bytes = MAGIC.to_vec();
    bytes.extend(b"1.2.0.0\0\0\0\0\0");
    [PAGE as u16, IN_CLUSTER as u16, 16, 0xff00].iter().for_each(|word| bytes.extend(word.to_le_bytes()));
    let words = [CLUSTERS, TABLE.end, FOR_FILES, 0, REPAIRS[0], REPAIRS[1], 0, 0, LIST];
    words.iter().for_each(|word| bytes.extend(word.to_le_bytes()));
    // Places for more lists, which a card of this size does not need; then bad blocks, of which there are none.
    bytes.resize(0xd0, 0);
    bytes.resize(0x150, 0xff);
    bytes.extend([2, 0x2b]);
    std::array::from_fn(|at| bytes.get(at).copied().unwrap_or(0))
}

/// An entry of the root folder.
fn entry(mode: u16, len: u32, name: &str) -> Vec<u8> {
    let mut bytes = u32::from(mode).to_le_bytes().to_vec();
    bytes.extend(len.to_le_bytes());
    bytes.extend(DATE);
    bytes.extend([0; 8]);
    bytes.extend(DATE);
    bytes.resize(NAME_AT, 0);
    bytes.extend(name.as_bytes());
    bytes.resize(PAGE, 0);
    bytes
}

/// The code of 128 bytes: parities of their columns, and of the numbers of bytes with an odd count of ones.
fn code(chunk: &[u8]) -> [u8; 3] {
    const COLUMNS: [u8; 7] = [0x55, 0x33, 0x0f, 0x00, 0xaa, 0xcc, 0xf0];
    let is_odd = |byte: u8| byte.count_ones() % 2 == 1;
    let mut code = [0x77, 0x7f, 0x7f];
    for (number, &byte) in chunk.iter().enumerate() {
        for (bit, mask) in COLUMNS.iter().enumerate() {
            code[0] ^= u8::from(is_odd(byte & mask)) << bit;
        }
        if is_odd(byte) {
            code[1] ^= !(number as u8) & 0x7f;
            code[2] ^= number as u8;
        }
    }
    code
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::digest::hex;

    /// Worked out by hand: nothing, one bit of the first byte, one of the last.
    #[test]
    fn codes_of_single_bits() {
        let with = |at: usize, byte: u8| {
            let mut chunk = [0; CHUNK];
            chunk[at] = byte;
            code(&chunk)
        };
        assert_eq!((with(0, 0), with(0, 1), with(127, 0x80)), ([0x77, 0x7f, 0x7f], [0x70, 0, 0x7f], [7, 0x7f, 0]));
        assert_eq!(code(&[0xff; CHUNK]), [0x77, 0x7f, 0x7f]);
    }

    #[test]
    fn an_empty_card_by_its_layout() {
        let card = empty().unwrap();
        assert_eq!(card.len(), 8_650_752);
        let at = |page: u64, offset: u64, len: usize| {
            let mut bytes = vec![0; len];
            card.read_at(page * 528 + offset, &mut bytes).unwrap();
            hex(&bytes)
        };
        assert_eq!(at(0, 0x28, 8), "0002020010 00 00ff".replace(' ', ""));
        assert_eq!(at(0, 0x30, 0x18), "0020000029000000c71f000000000000ff030000fe030000");
        assert_eq!((at(0, 0x50, 8), at(0, 0x150, 2)), ("0800000000000000".into(), "022b".into()));
        // The rest of the first block is as it was erased, its codes too.
        assert_eq!((at(1, 508, 20), at(83, 0, 2)), ("ff".repeat(20), "26a4".into()));
        assert_eq!((at(16, 0, 8), at(16, 0x7c, 8)), ("090000000a000000".into(), "28000000ffffffff".into()));
        assert_eq!(at(18, 0, 8), "ffffffffffffff7f", "the root folder, and a free cluster");
        // Entry 8,134 is the last one that files may have: cluster 40, page 81, number 70 on it.
        assert_eq!(at(81, 70 * 4, 8), "ffffff7fffffffff");
        assert_eq!(at(82, 0, 8), "2784000002000000");
        assert_eq!(at(82, 0x40, 2), "2e00");
        assert_eq!(at(16_383, 0, 4), "ffffffff");
    }
}
