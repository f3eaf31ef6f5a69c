//! What `std` offers on Unix alone.

use super::{Facts, Identity, Kind, Shell};
use std::ffi::{OsStr, OsString};
use std::fs::{self, File, FileTimes, FileType, Metadata, OpenOptions, Permissions, TryLockError};
use std::io::{self, ErrorKind};
use std::os::fd::AsFd;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// The shell that commands are printed for.
pub const SHELL: Shell = Shell::Posix;

/// Fills `buf` from byte `offset` on.
///
/// # Errors
/// What reading fails with; `UnexpectedEof` where the file ends before.
pub fn read_exact_at(file: &File, buf: &mut [u8], offset: u64) -> io::Result<()> {
    file.read_exact_at(buf, offset)
}

/// Reads what one call reads from byte `offset` on.
pub(super) fn read_at(file: &File, buf: &mut [u8], offset: u64) -> io::Result<usize> {
    file.read_at(buf, offset)
}

/// Writes all bytes, from byte `offset` on.
///
/// # Errors
/// What writing fails with.
pub fn write_all_at(file: &File, bytes: &[u8], offset: u64) -> io::Result<()> {
    file.write_all_at(bytes, offset)
}

/// What the system says of an open file.
pub(crate) fn facts(file: &File) -> io::Result<Facts> {
    Ok(facts_of(&file.metadata()?))
}

/// What the system says of what is at `path`, or, with `follow`, of what a link there leads to.
pub(crate) fn facts_at(path: &Path, follow: bool) -> io::Result<Facts> {
    let meta = if follow { fs::metadata(path) } else { fs::symlink_metadata(path) };
    Ok(facts_of(&meta?))
}

/// The device and the number there of the file of which `meta` speaks: two names with the same are one file.
pub fn device_and_number(meta: &Metadata) -> Option<(u64, u64)> {
    Some((meta.dev(), meta.ino()))
}

/// Which file it is of which `meta` speaks, found at `path`.
pub(crate) fn identity_at(_: &Path, meta: &Metadata) -> io::Result<Identity> {
    Ok(facts_of(meta).identity)
}

fn facts_of(meta: &Metadata) -> Facts {
    let kind = meta.file_type();
    // Of a device the number of the device itself: it may have a name in many folders.
    let identity = match kind.is_block_device() || kind.is_char_device() {
        true => Identity(u64::MAX, meta.rdev()),
        false => Identity(meta.dev(), meta.ino()),
    };
    let (kind, len) = match odd_kind(kind) {
        Some(odd) => (Kind::Odd(odd), 0),
        None if kind.is_block_device() => (Kind::Device, 0),
        None if kind.is_dir() => (Kind::Folder, 0),
        None => (Kind::File, meta.len()),
    };
    Facts { identity, kind, len }
}

/// What has no bytes at offsets, in words.
pub fn odd_kind(kind: FileType) -> Option<&'static str> {
    if kind.is_fifo() {
        Some("a pipe (FIFO)")
    } else if kind.is_socket() {
        Some("a socket")
    } else if kind.is_char_device() {
        Some("a character device")
    } else {
        None
    }
}

/// Opens what is at `path`, but never through a link.
pub(crate) fn open_real(options: &OpenOptions, path: &Path) -> io::Result<File> {
    let link = || io::Error::new(ErrorKind::InvalidInput, "it is a link");
    if fs::symlink_metadata(path).is_ok_and(|meta| meta.is_symlink()) {
        return Err(link());
    }
    let file = options.open(path)?;
    // Somebody may have put a link there in between: then what stands there is not what was opened.
    match facts_at(path, false)?.identity == facts(&file)?.identity {
        true => Ok(file),
        false => Err(link()),
    }
}

/// Whether a file could not be opened because somebody else has it: no such thing happens here.
pub(crate) fn is_busy(_: &io::Error) -> bool {
    false
}

/// Holds an open file for this run, until it is closed. `false` when another run holds it, or has removed it.
pub(crate) fn hold(file: &File) -> io::Result<bool> {
    match file.try_lock() {
        Err(TryLockError::WouldBlock) => return Ok(false),
        // File systems without locks do without.
        Ok(()) | Err(TryLockError::Error(_)) => {}
    }
    Ok(file.metadata()?.nlink() > 0)
}

/// Holds a folder for this run, until what is returned is closed. `None` when another run holds it.
pub(crate) fn hold_folder(path: &Path) -> io::Result<Option<File>> {
    let folder = File::open(path)?;
    Ok(hold(&folder)?.then_some(folder))
}

/// Whether somebody holds it. What cannot be opened counts as held: it is left alone.
pub(crate) fn is_held(path: &Path) -> bool {
    match File::open(path) {
        Ok(file) => matches!(file.try_lock(), Err(TryLockError::WouldBlock)),
        Err(e) => e.kind() != ErrorKind::NotFound,
    }
}

/// Makes a rename in `folder` last.
pub(crate) fn sync_folder(folder: &Path) -> io::Result<()> {
    match File::open(folder)?.sync_all() {
        // Some file systems cannot flush a folder; the file itself is safe by then.
        Err(e) if e.kind() != ErrorKind::InvalidInput => Err(e),
        _ => Ok(()),
    }
}

/// Brings a file that was written to the disk.
#[cfg(any(feature = "std-only", not(target_os = "linux")))]
pub(super) fn sync_file(path: &Path) -> io::Result<()> {
    File::open(path)?.sync_all()
}

/// Who may do what with it, as a number; `None` where the system has no such numbers.
pub fn mode(meta: &Metadata) -> Option<u32> {
    Some(meta.mode() & 0o7777)
}

/// Sets who may do what with it.
pub(crate) fn set_mode(path: &Path, mode: u32) -> io::Result<()> {
    fs::set_permissions(path, Permissions::from_mode(mode))
}

/// Sets when a folder was changed last.
pub(crate) fn touch_folder(folder: &Path, time: SystemTime) -> io::Result<()> {
    File::open(folder)?.set_times(FileTimes::new().set_modified(time))
}

/// Makes a symbolic link at `at` that leads to `to`.
pub(crate) fn link(to: &OsStr, at: &Path) -> io::Result<()> {
    std::os::unix::fs::symlink(to, at)
}

/// Makes what is built readable, writable and executable for those that `mode` names, as far as the user's mask allows.
pub(crate) fn with_mode<'b, 'a, 'c>(
    builder: &'c mut tempfile::Builder<'a, 'b>,
    mode: u32,
) -> &'c mut tempfile::Builder<'a, 'b> {
    builder.permissions(Permissions::from_mode(mode))
}

/// The path with all links resolved.
///
/// # Errors
/// When it is not there.
pub fn resolved(path: &Path) -> io::Result<PathBuf> {
    fs::canonicalize(path)
}

/// Whether an error of reading says that a device, or what was in it, is no longer there: ENXIO, ENODEV, ENOMEDIUM.
pub fn is_gone(error: &io::Error) -> bool {
    matches!(error.raw_os_error(), Some(6 | 19 | 123))
}

/// Whether an error of reading is what a worn medium or a loose plug gives: EIO.
pub fn is_worn(error: &io::Error) -> bool {
    error.raw_os_error() == Some(5)
}

/// Standard output without anything in between, for bytes that are no text.
///
/// # Errors
/// When it is closed.
pub fn raw_output() -> io::Result<File> {
    io::stdout().as_fd().try_clone_to_owned().map(File::from)
}

/// Whether there is no standard output. The library of the language opens one where there is none, before anything of a
/// program is asked: whoever starts it has to know.
pub fn is_output_missing() -> bool {
    false
}

/// A path with `/` between its names, as it is.
pub fn with_slashes(path: String) -> String {
    path
}

/// A name in characters, with the bytes between them that are none.
pub(crate) fn pieces(name: &OsStr) -> Vec<Result<char, u16>> {
    let chunks = name.as_bytes().utf8_chunks();
    let pieces = chunks.flat_map(|chunk| {
        let odd = chunk.invalid().iter().map(|byte| Err(u16::from(*byte)));
        chunk.valid().chars().map(Ok).chain(odd)
    });
    pieces.collect()
}

/// A character in the units that names are made of here: bytes.
pub(crate) fn units(c: char) -> Vec<u16> {
    c.to_string().bytes().map(u16::from).collect()
}

/// The name of such pieces.
pub(crate) fn name_of(pieces: impl Iterator<Item = Result<char, u16>>) -> OsString {
    let mut bytes = Vec::new();
    for piece in pieces {
        match piece.map_err(u8::try_from) {
            Ok(c) => bytes.extend(c.encode_utf8(&mut [0; 4]).bytes()),
            Err(Ok(byte)) => bytes.push(byte),
            // A unit of another system has no byte here.
            Err(Err(_)) => bytes.extend(char::REPLACEMENT_CHARACTER.encode_utf8(&mut [0; 4]).bytes()),
        }
    }
    OsString::from_vec(bytes)
}
