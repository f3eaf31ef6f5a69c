//! A signed and encrypted image around another one.

use super::{BLOCK, Heading, List, close, filled, header};
use crate::package::ps4::pfs::ID;
use crate::package::ps4::pfs::header::{ENCRYPTED, SIGNED};
use crate::package::ps4::pfs::inode::{
    DIRECT, FILE, FOLDER, INDIRECT, INTERNAL, Inode, PACKED, Pointer, READ_ONLY, READABLE, Shape,
};
use crate::package::ps4::pfs::key::{self, Derivation};
use crate::package::ps4::pfs::mac::Mac;
use crate::package::ps4::pfs::paths::{self, Target};
use crate::package::ps4::pfs::walk::{self, ITSELF, PARENT, PATHS, ROOT};
use decanter_core::keyring::Key;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::{Concat, Fill};
use decanter_core::{Error, Result};
use std::sync::Arc;

/// What the image with the files is called in the one around it.
pub const INSIDE: &str = "pfs_image.dat";
/// How its inodes are laid out.
const SHAPE: Shape = Shape { is_signed: true, is_wide: false };
/// Inodes: the top, the table of paths, the root, the file.
const ROOT_INODE: u32 = 2;
const FILE_INODE: u32 = 3;
/// Blocks: header, inodes, top, paths, root; then come tables and content.
const INODES_AT: u64 = 1;
const TABLES_AT: u64 = 5;

/// An image, ready to be written.
pub struct Image {
    /// Its bytes.
    pub source: SourceRef,
    /// The block that is not encrypted: the header.
    pub first_block: Vec<u8>,
}

/// Pointers of a table.
fn in_table() -> usize {
    BLOCK as usize / SHAPE.pointer()
}

/// Lays an image out around `content`, whose blocks have `codes`; unpacked it has `unpacked_len` bytes.
pub(super) fn lay(
    content: &SourceRef,
    unpacked_len: u64,
    codes: Vec<[u8; 32]>,
    mac: &Mac,
    image_key: &Key,
    seed: [u8; 16],
) -> Result<Image> {
    let count = codes.len();
    let tables = Tables::count(count)?;
    let data_at = TABLES_AT + tables as u64;
    if data_at + count as u64 > u64::from(u32::MAX) {
        return Err(Error::unsupported(ID, format!("an image of {count} blocks")));
    }
    let pointer = |(index, code): (usize, &[u8; 32])| Pointer { block: data_at + index as u64, code: Some(*code) };
    let all: Vec<Pointer> = codes.iter().enumerate().map(pointer).collect();
    let Tables { pointers, bytes: tables } = Tables::of(&all, mac);
    drop((all, codes));

    let (paths, _) = paths::compose([(INSIDE, Target { inode: FILE_INODE, is_folder: false })].into_iter());
    let mut top = List::default();
    top.add(1, walk::FILE, PATHS);
    top.add(ROOT_INODE, walk::FOLDER, ROOT);
    let mut root = List::default();
    root.add(ROOT_INODE, ITSELF, ".");
    root.add(ROOT_INODE, PARENT, "..");
    root.add(FILE_INODE, walk::FILE, INSIDE);
    let paths_len = paths.len() as u64;
    let [top, paths, root] = [top.0, paths, root.0].map(filled);
    let single = |mode: u16, flags: u32, links: u16, at: u64, bytes: &[u8], len: u64| {
        let mut pointers = [Pointer { block: 0, code: Some([0; 32]) }; DIRECT + INDIRECT];
        pointers[0] = Pointer { block: at, code: Some(mac.code(bytes)) };
        let mode = mode | READABLE;
        Inode { mode, links, flags, len, len_again: len, blocks: 1, times: 0, pointers }
    };
    let inodes = [
        single(FOLDER, INTERNAL | READ_ONLY, 1, 2, &top, BLOCK),
        single(FILE, INTERNAL | READ_ONLY, 1, 3, &paths, paths_len),
        single(FOLDER, READ_ONLY, 3, 4, &root, BLOCK),
        Inode {
            mode: FILE | READABLE,
            links: 1,
            flags: PACKED | READ_ONLY,
            len: content.len(),
            len_again: unpacked_len,
            blocks: count as u64,
            times: 0,
            pointers,
        },
    ];
    let inodes = filled(inodes.iter().flat_map(|inode| inode.compose(SHAPE)).collect());
    let mut own = single(0, 0, 0, INODES_AT, &inodes, BLOCK);
    own.mode = 0;
    let blocks = data_at + count as u64;
    let heading = Heading { mode: SIGNED | ENCRYPTED, inodes: 4, blocks, table: &own, seed: Some(seed) };
    let mut first_block = header(&heading);
    close(&mut first_block, mac);
    let front = [first_block.clone(), inodes, top, paths, root, tables].concat();
    let rest = count as u64 * BLOCK - content.len();
    let plain: SourceRef = Arc::new(Concat::new(vec![
        Arc::new(Bytes(front)) as SourceRef,
        content.clone(),
        Arc::new(Fill { byte: 0, len: rest }),
    ])?);
    let xts = key::cipher(image_key, &seed, Derivation::Plain)?;
    Ok(Image { source: key::turned(&plain, BLOCK, xts, true)?, first_block })
}

/// Tables of pointers behind those of the inode: one with pointers to content, then one with pointers to such.
struct Tables {
    pointers: [Pointer; DIRECT + INDIRECT],
    bytes: Vec<u8>,
}

impl Tables {
    /// Blocks of tables for so many blocks of content.
    fn count(blocks: usize) -> Result<usize> {
        let each = in_table();
        Ok(match blocks.saturating_sub(DIRECT) {
            0 => 0,
            more if more <= each => 1,
            more if more <= each + each * each => 2 + (more - each).div_ceil(each),
            _ => return Err(Error::unsupported(ID, format!("a file of {blocks} blocks"))),
        })
    }

    fn of(all: &[Pointer], mac: &Mac) -> Self {
        let mut pointers = [Pointer { block: 0, code: Some([0; 32]) }; DIRECT + INDIRECT];
        let (direct, more) = all.split_at(all.len().min(DIRECT));
        pointers[..direct.len()].copy_from_slice(direct);
        let mut bytes = Vec::new();
        let mut add = |at: u64, pointers: &[Pointer]| -> Pointer {
            let table = filled(pointers.iter().flat_map(|p| SHAPE.write(p)).collect());
            let code = mac.code(&table);
            bytes.push((at, table));
            Pointer { block: at, code: Some(code) }
        };
        let (single, more) = more.split_at(more.len().min(in_table()));
        if !single.is_empty() {
            pointers[DIRECT] = add(TABLES_AT, single);
        }
        if !more.is_empty() {
            // The outer one stands in front of those that it points at.
            let leaves: Vec<Pointer> =
                more.chunks(in_table()).enumerate().map(|(i, own)| add(TABLES_AT + 2 + i as u64, own)).collect();
            pointers[DIRECT + 1] = add(TABLES_AT + 1, &leaves);
        }
        bytes.sort_by_key(|(at, _)| *at);
        Self { pointers, bytes: bytes.into_iter().flat_map(|(_, table)| table).collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_stand_where_pointers_lead() {
        let mac = Mac::new(&Key::new(b"made up".to_vec()));
        let all: Vec<Pointer> =
            (0..12 + 1820 + 1820 + 5u64).map(|n| Pointer { block: 100 + n, code: Some([n as u8; 32]) }).collect();
        for (count, wanted) in [(12, 0), (13, 1), (12 + 1820, 1), (12 + 1821, 3), (all.len(), 4)] {
            let made = Tables::of(&all[..count], &mac);
            assert_eq!((made.bytes.len() >> 16, Tables::count(count).unwrap()), (wanted, wanted), "{count}");
        }
        let made = Tables::of(&all, &mac);
        assert_eq!(made.pointers[..14].iter().map(|p| p.block).collect::<Vec<_>>()[11..], [111, 5, 6]);
        // The outer table is block 6: its second entry leads to block 8, whose last entry is the last block.
        let at = (1 << 16) + 36;
        assert_eq!(made.bytes[at + 32..at + 36], [8, 0, 0, 0]);
        assert_eq!(made.bytes[at..at + 32], mac.code(&made.bytes[3 << 16..4 << 16]));
        let last = (3 << 16) + 4 * 36 + 32;
        assert_eq!(made.bytes[last..last + 4], (100 + all.len() as u32 - 1).to_le_bytes());
    }
}
