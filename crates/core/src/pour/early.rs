//! Brings what is written to the disk while more is written, so that the end need not wait for all of it.

use crate::error::{Error, Result};
use crossbeam_channel::{RecvTimeoutError, bounded};
use std::fs::File;
use std::path::Path;
use std::thread;
use std::time::Duration;

/// Files that are shorter are on the disk soon enough.
const LARGE: u64 = 32 << 20;
/// How long is written before it is brought to the disk.
const PAUSE: Duration = Duration::from_millis(30);

/// Runs `write`, which fills `file` with about `len` bytes, and meanwhile brings them to the disk.
///
/// # Errors
/// What `write` fails with; [`Error::Io`] when the disk does not take the bytes: a later flush would not tell of it again.
pub(super) fn while_writing<T>(file: &File, path: &Path, len: u64, write: impl FnOnce() -> Result<T>) -> Result<T> {
    if len < LARGE {
        return write();
    }
    // Nothing is ever sent here: that it closes is the end.
    let (going, ended) = bounded::<()>(0);
    thread::scope(|scope| {
        let bring = move || -> std::io::Result<()> {
            while ended.recv_timeout(PAUSE) == Err(RecvTimeoutError::Timeout) {
                file.sync_data()?;
            }
            Ok(())
        };
        let bringing = thread::Builder::new().spawn_scoped(scope, bring);
        let bringing =
            bringing.map_err(|source| Error::Io { op: "start a thread", path: None, offset: None, source })?;
        let written = write();
        drop(going);
        let brought = bringing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        let written = written?;
        brought.map_err(|e| Error::io("write", path, e))?;
        Ok(written)
    })
}

/// Runs `prove`, and of about `len` bytes meanwhile `bring`, which brings what was written to the disk: reading it back takes its time
/// anyway.
///
/// # Errors
/// What `prove` fails with, or else `bring`.
pub(super) fn while_proving(
    len: u64,
    bring: &(dyn Fn() -> Result<()> + Sync),
    prove: impl FnOnce() -> Result<()>,
) -> Result<()> {
    if len < LARGE {
        return prove();
    }
    thread::scope(|scope| {
        let bringing = thread::Builder::new().spawn_scoped(scope, bring);
        let bringing =
            bringing.map_err(|source| Error::Io { op: "start a thread", path: None, offset: None, source })?;
        let proven = prove();
        let brought = bringing.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        proven.and(brought)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn what_is_written_is_handed_on_and_so_is_a_failure() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("out");
        let file = File::create(&path).unwrap();
        for len in [0, LARGE] {
            let wrote = while_writing(&file, &path, len, || {
                (&file).write_all(b"kelp").map_err(|e| Error::io("write", &path, e))?;
                thread::sleep(PAUSE * 2);
                Ok(7)
            });
            assert_eq!(wrote.unwrap(), 7);
            let failed: Result<()> = while_writing(&file, &path, len, || Err(Error::Cancelled));
            assert!(matches!(failed, Err(Error::Cancelled)));
        }
        assert_eq!(std::fs::read(&path).unwrap(), b"kelpkelp");
    }

    #[test]
    fn a_proof_and_a_disk_that_fail_are_both_told() {
        let full = || Err(Error::io("flush", "out".as_ref(), std::io::ErrorKind::StorageFull.into()));
        let wrong = || Err(Error::Usage("it is something else".into()));
        for (len, told) in [(0, None), (LARGE, Some("flush"))] {
            let failed = while_proving(len, &full, || Ok(())).err().map(|e| e.to_string());
            // Of what is short the disk is asked later.
            assert_eq!(failed.is_some_and(|why| why.contains(told.unwrap_or_default())), told.is_some());
            assert!(while_proving(len, &full, wrong).unwrap_err().to_string().contains("something else"));
            assert!(while_proving(len, &|| Ok(()), || Ok(())).is_ok());
        }
    }
}
