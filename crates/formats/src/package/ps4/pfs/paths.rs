//! The flat table of paths: by the hash of its path a console finds the inode of a file without going through folders.

use super::raw;
use std::collections::HashMap;
use zerocopy::{FromBytes, IntoBytes};

/// In an entry: the inode is that of a folder.
pub(super) const IS_FOLDER: u32 = 0x2000_0000;
/// In an entry: several paths have this hash, and the rest is an offset in the resolver of collisions.
pub(super) const IS_SHARED: u32 = 0x8000_0000;
/// Bytes behind the last of several paths of one hash.
pub(super) const END_OF_SHARED: usize = 0x18;

/// The letters of a path as hashes and comparisons see them: without case.
pub fn folded(path: &str) -> String {
    path.to_ascii_uppercase()
}

/// The hash of a path with `/` between its names and none in front.
pub fn hash(path: &str) -> u32 {
    let add = |hash: u32, byte: u8| hash.wrapping_mul(31).wrapping_add(byte.to_ascii_uppercase().into());
    path.bytes().fold(add(0, b'/'), add)
}

/// A path in the table: its inode, and whether that is a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Target {
    pub(super) inode: u32,
    pub(super) is_folder: bool,
}

impl Target {
    /// As an entry has it.
    fn entry(self) -> u32 {
        self.inode | if self.is_folder { IS_FOLDER } else { 0 }
    }
}

/// The table, and the resolver of collisions: empty where there are none.
pub(super) fn compose<'a>(paths: impl Iterator<Item = (&'a str, Target)>) -> (Vec<u8>, Vec<u8>) {
    let mut all: Vec<(u32, &str, Target)> = paths.map(|(path, target)| (hash(path), path, target)).collect();
    all.sort_unstable_by_key(|(hash, path, _)| (*hash, *path));
    let (mut table, mut shared) = (Vec::with_capacity(all.len() * size_of::<raw::Path>()), Vec::new());
    for alike in all.chunk_by(|a, b| a.0 == b.0) {
        let inode = match alike {
            [(.., only)] => only.entry(),
            _ => {
                let at = shared.len() as u32;
                for (_, path, target) in alike {
                    let kind = if target.is_folder { super::walk::FOLDER } else { super::walk::FILE };
                    shared.extend(super::walk::entry(target.inode, kind, &format!("/{path}")));
                }
                shared.extend([0; END_OF_SHARED]);
                at | IS_SHARED
            }
        };
        table.extend(raw::Path { hash: alike[0].0.into(), inode: inode.into() }.as_bytes());
    }
    (table, shared)
}

/// Whether a table is that of these hashes and targets, sorted by their hashes, none of which is shared.
pub(super) fn is_exact(table: &[u8], sorted: impl ExactSizeIterator<Item = (u32, Target)>) -> bool {
    table.len() == sorted.len() * size_of::<raw::Path>()
        && sorted.zip(table.chunks_exact(size_of::<raw::Path>())).all(|((hash, target), bytes)| {
            let own = raw::Path { hash: hash.into(), inode: target.entry().into() };
            own.as_bytes() == bytes
        })
}

/// What is wrong with a table, where these are the paths of the image.
pub(super) fn faults(table: &[u8], paths: &HashMap<u32, (&str, Target)>, count: usize) -> Vec<String> {
    let mut faults = Vec::new();
    let entries: Vec<(u32, u32)> = (table.chunks_exact(size_of::<raw::Path>()))
        .filter_map(|bytes| raw::Path::read_from_bytes(bytes).ok())
        .map(|entry| (entry.hash.get(), entry.inode.get()))
        .collect();
    if entries.windows(2).any(|w| w[0].0 >= w[1].0) {
        faults.push("it is not sorted by its hashes: a console does not find all of them".into());
    }
    let shared = entries.iter().filter(|(_, inode)| inode & IS_SHARED != 0).count();
    if shared == 0 && entries.len() != count {
        faults.push(format!("it has {} entries for {count} files and folders", entries.len()));
    }
    for (hash, inode) in entries.into_iter().filter(|(_, inode)| inode & IS_SHARED == 0) {
        let own = Target { inode: inode & !IS_FOLDER, is_folder: inode & IS_FOLDER != 0 };
        match paths.get(&hash) {
            None => faults.push(format!("its hash {hash:08x} is that of no path")),
            Some((path, target)) if *target != own => {
                faults.push(format!("it says inode {} of {path}, its folder says {}", own.inode, target.inode));
            }
            Some(_) => {}
        }
    }
    faults
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: '/' is 47; 'A' 65: 47 * 31 + 65 = 1522; 'B' 66: 1522 * 31 + 66 = 47248.
    #[test]
    fn a_hash_is_that_of_capital_letters_behind_a_slash() {
        assert_eq!((hash(""), hash("a"), hash("ab"), hash("AB")), (47, 1522, 47248, 47248));
        // Forty letters make it go round: 31 times as much each time, modulo 2 to the 32nd.
        let mut wanted: u64 = 47;
        (0..40).for_each(|_| wanted = (wanted * 31 + 90) % (1 << 32));
        assert_eq!(u64::from(hash(&"z".repeat(40))), wanted);
    }

    /// 'B' + 31 * 'A' is 'A' + 31 + 31 * 'A' minus 31: "Ab" and "aC" minus one: two paths of one hash are made by hand.
    #[test]
    fn paths_of_one_hash_share_an_entry() {
        // 'A' * 31 + 'Z' = 65 * 31 + 90 = 2105; 'B' * 31 + ';' = 66 * 31 + 59 = 2105.
        assert_eq!(hash("AZ"), hash("B;"));
        let file = |inode| Target { inode, is_folder: false };
        let all = [("AZ", file(4)), ("B;", file(5)), ("c", Target { inode: 6, is_folder: true })];
        let (table, shared) = compose(all.into_iter());
        let entries: Vec<u32> = table.chunks_exact(8).map(|e| u32::from_le_bytes([e[4], e[5], e[6], e[7]])).collect();
        assert_eq!(entries, [6 | IS_FOLDER, IS_SHARED]);
        assert_eq!(&shared[..20], b"\x04\0\0\0\x02\0\0\0\x03\0\0\0\x18\0\0\0/AZ\0");
        assert_eq!((&shared[24..28], shared.len()), (&[5, 0, 0, 0][..], 24 + 24 + END_OF_SHARED));
    }
}
