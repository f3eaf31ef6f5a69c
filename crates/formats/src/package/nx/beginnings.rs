//! The hashes that a file system of the hashed kind has of the beginnings of its files.

use super::partition::Partition;
use super::sha256;
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::{Error, Result};

/// The largest header of a file system that is hashed.
const MOST_HASHED: u64 = 64 << 20;
const MATTERS: &str = "emulators and consoles may refuse the card: dump it again";

/// The hashes that a file system of the hashed kind has of the beginnings of its files; nothing for the plain kind.
///
/// # Errors
/// What the machine is to blame for.
pub fn hashed(partition: &Partition, source: &SourceRef) -> Result<Vec<Settled>> {
    let mut faults = Vec::new();
    let mut any = false;
    for entry in &partition.entries {
        let Some((len, hash)) = entry.hashed else { continue };
        any = true;
        match beginning(source.as_ref(), entry.range.start, len) {
            Ok(found) if found == hash => {}
            Ok(_) => faults.push(format!("the beginning of {} does not have its hash", entry.name)),
            Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
            Err(e) => faults.push(format!("{}: {e}", entry.name)),
        }
    }
    Ok(any.then(|| Settled::of("beginnings of files", &faults, MATTERS).by_digests()).into_iter().collect())
}

fn beginning(source: &dyn Source, at: u64, len: u64) -> Result<[u8; 32]> {
    Ok(sha256(&read_vec(source, at, len, "the hashed beginning of a file", MOST_HASHED)?))
}
