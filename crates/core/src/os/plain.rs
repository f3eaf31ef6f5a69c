//! No more than what `std` offers, with the feature `std-only`: for a Unix that has not the calls of the others, and for proof
//! that Decanter does all its work without them.

use super::family;
use std::fs::{self, File};
use std::io::{self, ErrorKind};
use std::path::Path;

/// Opens a file for reading. What would keep it waiting is not opened.
pub(crate) fn open_to_read(path: &Path) -> io::Result<File> {
    match family::odd_kind(fs::metadata(path)?.file_type()) {
        Some(odd) => Err(io::Error::new(ErrorKind::InvalidInput, odd)),
        None => File::open(path),
    }
}

/// Its end says it.
pub(super) fn device_len(_: &File) -> io::Result<Option<u64>> {
    Ok(None)
}

/// Nothing tells of holes: everything is data.
pub(crate) fn data_or_hole(_: &File, _: u64, left: u64) -> (bool, u64) {
    (false, left)
}

/// Nothing is copied but through memory.
pub(crate) fn kernel_copy(_: &File, _: u64, _: &File, _: u64, _: usize) -> io::Result<Option<u64>> {
    Ok(None)
}

/// What is not written in a new file takes no room where the system has it so.
pub(crate) fn allow_holes(_: &File) {}

/// Nothing tells of free space: a full disk is an error of the write that meets it.
pub fn free_bytes(_: &Path) -> io::Result<Option<u64>> {
    Ok(None)
}

/// Nothing tells what a file system calls itself.
pub fn volume(_: &Path) -> Option<String> {
    None
}

/// Nothing tells which file system it is. One that holds no such file refuses when the file is given its length, before
/// the first byte.
pub fn largest_file(_: &Path) -> Option<u64> {
    None
}

/// Gives a file another name, unless something has that name.
pub(crate) fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    super::rename_if_free(from, to)
}

/// What is held of a file in memory stays there.
pub(crate) fn forget(_: &File) {}

/// Nothing tells which file system it is.
pub fn file_system(_: &Path) -> Option<&'static str> {
    None
}

/// Brings everything that was written into `folder` to the disk.
pub(crate) fn sync_all_in(folder: &Path) -> io::Result<()> {
    super::sync_each_in(folder)
}

/// Whether something may be made in `folder`: whether anybody may.
pub(crate) fn may_write(folder: &Path) -> io::Result<()> {
    match fs::metadata(folder)?.permissions().readonly() {
        true => Err(ErrorKind::PermissionDenied.into()),
        false => Ok(()),
    }
}

/// Nothing tells how wide a terminal is.
pub fn output_width() -> Option<usize> {
    None
}

/// Nothing tells how wide a terminal is.
pub fn error_width() -> Option<usize> {
    None
}

/// There is no way to forbid a memory image.
pub fn withhold_memory() {}

/// There is no way to make a limit on the size of files an error.
pub fn survive_size_limits() {}

/// There is no way to ask a process to end: whoever started it ends it at once.
pub fn ask_to_end(_: u32) -> bool {
    false
}
