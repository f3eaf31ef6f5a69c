//! Everything that `std` does not say in the same words on every system: the only place that asks which system it is.
//!
//! Two things differ. What `std` offers to one family of systems alone is in `unix` or `windows`. What takes a call that
//! `std` does not make at all is in `calls` (Unix) and `win32` (Windows). On a Unix that has not those calls, `plain` takes
//! their place with the feature `std-only`: what cannot be known is not claimed, what cannot be done faster is done plainly.

#[cfg(all(unix, not(feature = "std-only")))]
mod calls;
#[cfg(all(unix, feature = "std-only"))]
mod plain;
#[cfg(unix)]
mod unix;
#[cfg(windows)]
#[allow(unsafe_code, reason = "every call of the system is unsafe; each says why it is sound")]
mod win32;
#[cfg(windows)]
mod windows;

#[cfg(all(unix, not(feature = "std-only")))]
use calls as system;
#[cfg(all(unix, feature = "std-only"))]
use plain as system;
#[cfg(unix)]
use unix as family;
#[cfg(windows)]
use win32 as system;
#[cfg(windows)]
use windows as family;

pub use family::{
    SHELL, device_and_number, is_gone, is_output_missing, is_worn, mode, odd_kind, raw_output, read_exact_at, resolved,
    with_slashes, write_all_at,
};
pub(crate) use family::{
    facts, facts_at, hold, hold_folder, identity_at, is_busy, is_held, link, name_of, open_real, pieces, set_mode,
    sync_folder, touch_folder, units, with_mode,
};
pub(crate) use system::{
    allow_holes, data_or_hole, forget, kernel_copy, may_write, open_to_read, rename_new, sync_all_in,
};
pub use system::{
    ask_to_end, error_width, file_system, free_bytes, largest_file, output_width, survive_size_limits, volume,
    withhold_memory,
};

use std::fs::File;
use std::io::{self, Seek, SeekFrom};

/// Gives a file another name, unless something has that name: asked a moment before, where no call does both.
#[cfg(not(all(target_os = "linux", not(feature = "std-only"))))]
fn rename_if_free(from: &std::path::Path, to: &std::path::Path) -> io::Result<()> {
    match std::fs::symlink_metadata(to) {
        Ok(_) => Err(io::ErrorKind::AlreadyExists.into()),
        Err(_) => std::fs::rename(from, to),
    }
}

/// How a shell takes words.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shell {
    /// As POSIX says, with `$'...'` for what does not show.
    Posix,
    /// As the shells of Windows both do.
    Windows,
}

/// What the system says of something that is open.
#[derive(Debug, Clone, Copy)]
pub struct Facts {
    /// Which file it is, whatever it is called.
    pub identity: Identity,
    /// What it is.
    pub kind: Kind,
    /// Its length in bytes. Of a device 0: [`device_len`] knows.
    pub len: u64,
}

/// Volume and number of a file: on Unix device and inode, on Windows serial number and file index. Of a device, its own
/// number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Identity(pub(crate) u64, pub(crate) u64);

/// What can be opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A device with bytes at offsets: a drive.
    Device,
    /// What has no bytes at offsets, in words.
    Odd(&'static str),
}

/// The length of a device in bytes, which stands nowhere but at its end.
///
/// # Errors
/// What asking or reading fails with.
pub fn device_len(file: &mut File) -> io::Result<u64> {
    match system::device_len(file)? {
        Some(len) => Ok(len),
        None => match file.seek(SeekFrom::End(0))? {
            0 => searched_len(|at| family::read_at(file, &mut [0; UNIT as usize], at)),
            len => Ok(len),
        },
    }
}

/// Brings every file in `folder` to the disk, one after the other, where the system does not do that with all of them.
#[cfg(any(feature = "std-only", not(target_os = "linux")))]
fn sync_each_in(folder: &std::path::Path) -> io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_dir() {
            sync_each_in(&entry.path())?;
        } else if kind.is_file() {
            family::sync_file(&entry.path())?;
        }
    }
    sync_folder(folder)
}

/// The smallest sector that a drive has.
const UNIT: u64 = 512;
/// Longer than any device.
const LONGEST: u64 = 1 << 60;

/// The length of what `read` reads one unit of: where it reads nothing for the first time. A unit that cannot be read is
/// no end: it is an error here, as its place says nothing of what comes after it.
fn searched_len(read: impl Fn(u64) -> io::Result<usize>) -> io::Result<u64> {
    let is_there = |unit: u64| read(unit * UNIT).map(|n| n > 0);
    let (mut there, mut gone) = (0, 1);
    while is_there(gone - 1)? {
        there = gone;
        gone *= 2;
        if gone > LONGEST / UNIT {
            return Err(io::Error::other("it has no end"));
        }
    }
    // There are `there` units at least, and less than `gone`.
    while gone - there > 1 {
        let middle = there + (gone - there) / 2;
        match is_there(middle - 1)? {
            true => there = middle,
            false => gone = middle,
        }
    }
    Ok(there * UNIT)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_length_that_nothing_tells_is_found_by_reading() {
        for units in [0, 1, 2, 3, 4, 5, 63, 64, 65, 1000, 4_700_372] {
            let read = |at: u64| Ok(if at < units * UNIT { UNIT as usize } else { 0 });
            assert_eq!(searched_len(read).unwrap(), units * UNIT, "{units}");
        }
        let bad = |at: u64| if at == 7 * UNIT { Err(io::Error::other("a bad sector")) } else { Ok(1) };
        assert!(searched_len(bad).is_err(), "what cannot be read is no end");
        assert!(searched_len(|_| Ok(1)).is_err(), "neither is nothing an end");
    }

    #[test]
    fn bytes_go_where_they_belong_and_come_from_there() {
        let file = tempfile::tempfile().unwrap();
        write_all_at(&file, b"kelp", 70_000).unwrap();
        write_all_at(&file, b"brine", 3).unwrap();
        let read = |len: usize, at: u64| {
            let mut bytes = vec![0xff; len];
            read_exact_at(&file, &mut bytes, at).map(|()| bytes)
        };
        assert_eq!(read(4, 70_000).unwrap(), b"kelp");
        assert_eq!(read(7, 2).unwrap(), b"\0brine\0");
        assert_eq!(read(2, 70_003).unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
        assert_eq!(file.metadata().unwrap().len(), 70_004);
    }

    #[test]
    fn a_file_is_the_same_by_every_name_and_no_other() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("a"), "kelp").unwrap();
        std::fs::write(at("b"), "kelp").unwrap();
        std::fs::hard_link(at("a"), at("hard")).unwrap();
        let identity = |name: &str| facts_at(&at(name), true).unwrap().identity;
        assert_eq!(identity("a"), identity("hard"));
        assert_ne!(identity("a"), identity("b"));
        let open = facts(&File::open(at("a")).unwrap()).unwrap();
        assert_eq!((open.identity, open.kind, open.len), (identity("a"), Kind::File, 4));
        assert_eq!(facts_at(folder.path(), true).unwrap().kind, Kind::Folder);
    }

    #[test]
    fn what_is_held_is_held_until_it_is_closed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a");
        let file = File::create(&path).unwrap();
        assert!(hold(&file).unwrap() && is_held(&path));
        drop(file);
        assert!(!is_held(&path) && !is_held(&folder.path().join("none")));
        std::fs::create_dir(folder.path().join("f")).unwrap();
        let held = hold_folder(&folder.path().join("f")).unwrap();
        assert!(held.is_some() && is_held(&folder.path().join("f")));
        drop(held);
        assert!(!is_held(&folder.path().join("f")));
    }

    #[test]
    fn everything_in_a_folder_is_flushed_and_its_time_set() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("deep")).unwrap();
        std::fs::write(folder.path().join("deep/a"), "kelp").unwrap();
        sync_all_in(folder.path()).unwrap();
        sync_folder(folder.path()).unwrap();
        let then = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1 << 30);
        touch_folder(&folder.path().join("deep"), then).unwrap();
        assert_eq!(std::fs::metadata(folder.path().join("deep")).unwrap().modified().unwrap(), then);
        may_write(folder.path()).unwrap();
        assert!(free_bytes(folder.path()).unwrap().is_none_or(|free| free > 0));
    }
}
