//! What the tests of the jobs share: one small demo collection, and noise that is the same every time.

use decanter_demo::{Collection, Wish, make};
use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use tempfile::TempDir;

/// The demo collection, 6 MiB large. Tests must not write into it.
pub fn demo() -> &'static Collection {
    static DEMO: OnceLock<(TempDir, Collection)> = OnceLock::new();
    let (_, collection) = DEMO.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let made = make(folder.path(), Wish { size: 6 << 20, dense: false, replace: false }, &()).unwrap();
        (folder, made)
    });
    collection
}

/// Files below a folder, by relative path.
pub fn tree(root: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut todo = vec![root.to_owned()];
    while let Some(folder) = todo.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                todo.push(path);
            } else {
                found.insert(path.strip_prefix(root).unwrap().to_owned(), fs::read(&path).unwrap_or_default());
            }
        }
    }
    found
}

/// Bytes that look random.
pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut x = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut next = || {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        x
    };
    (0..len.div_ceil(8)).flat_map(|_| next().to_le_bytes()).take(len).collect()
}

/// A path as the user types it.
pub fn typed(path: &Path) -> String {
    decanter_core::native::text(path)
}

/// A zip archive of these entries, stored.
pub fn zip_of(entries: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, bytes) in entries {
        writer.start_file(*name, stored).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// The same as a file.
pub fn zipped(path: &Path, entries: &[(&str, &[u8])]) {
    fs::write(path, zip_of(entries)).unwrap();
}

/// What is chosen of a target's options.
pub fn given(words: &[(&str, &str)]) -> decanter_jobs::convert::Options {
    let given = decanter_jobs::convert::table::chosen(words).unwrap();
    decanter_jobs::convert::Options { given, ..Default::default() }
}
