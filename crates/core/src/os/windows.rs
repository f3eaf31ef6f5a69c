//! What `std` offers on Windows alone.
//!
//! There, what is open is held: a file that one run has open cannot be opened by a second one that asks to have it alone. So
//! nothing is locked, and [`is_held`] asks to have it alone. (A lock would keep this run itself from reading what it wrote.)

use super::{Facts, Identity, Kind, Shell, win32};
use std::ffi::{OsStr, OsString};
use std::fs::{self, File, FileTimes, FileType, Metadata, OpenOptions};
use std::io::{self, ErrorKind};
use std::os::windows::ffi::{OsStrExt, OsStringExt};
use std::os::windows::fs::{FileExt, OpenOptionsExt};
use std::os::windows::io::{AsHandle, AsRawHandle};
use std::path::{Component, Path, PathBuf, Prefix};
use std::time::SystemTime;
use windows_sys::Win32::Foundation::{
    ERROR_CRC, ERROR_DEVICE_NOT_CONNECTED, ERROR_GEN_FAILURE, ERROR_INVALID_PARAMETER, ERROR_IO_DEVICE,
    ERROR_MEDIA_CHANGED, ERROR_NO_MEDIA_IN_DRIVE, ERROR_NO_SUCH_DEVICE, ERROR_NOT_READY, ERROR_READ_FAULT,
    ERROR_SECTOR_NOT_FOUND, ERROR_SHARING_VIOLATION,
};
use windows_sys::Win32::Storage::FileSystem::{
    FILE_FLAG_BACKUP_SEMANTICS, FILE_FLAG_OPEN_REPARSE_POINT, FILE_SHARE_DELETE, FILE_SHARE_READ, FILE_WRITE_ATTRIBUTES,
};

/// The shell that commands are printed for.
pub const SHELL: Shell = Shell::Windows;
/// Sectors of drives, the likeliest first: a drive reads whole ones only.
const UNITS: [u64; 3] = [2048, 512, 4096];

/// Fills `buf` from byte `offset` on.
///
/// # Errors
/// What reading fails with; `UnexpectedEof` where the file ends before.
pub fn read_exact_at(file: &File, buf: &mut [u8], offset: u64) -> io::Result<()> {
    let mut done = 0;
    while done < buf.len() {
        match read_at(file, &mut buf[done..], offset + done as u64) {
            Ok(0) => return Err(ErrorKind::UnexpectedEof.into()),
            Ok(read) => done += read,
            Err(e) if e.kind() == ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(())
}

/// Reads what one call reads from byte `offset` on.
pub(super) fn read_at(file: &File, buf: &mut [u8], offset: u64) -> io::Result<usize> {
    match file.seek_read(buf, offset) {
        // What is no whole sector of a drive has to be cut out of whole ones.
        Err(e) if is(&e, ERROR_INVALID_PARAMETER) => {
            UNITS.iter().find_map(|unit| cut(file, buf, offset, *unit)).unwrap_or(Err(e))
        }
        result => result,
    }
}

fn cut(file: &File, buf: &mut [u8], offset: u64, unit: u64) -> Option<io::Result<usize>> {
    let first = offset / unit * unit;
    let last = (offset + buf.len() as u64).next_multiple_of(unit);
    let mut whole = vec![0; (last - first) as usize];
    let skip = (offset - first) as usize;
    match file.seek_read(&mut whole, first) {
        Ok(read) => {
            let read = read.saturating_sub(skip).min(buf.len());
            buf[..read].copy_from_slice(&whole[skip..skip + read]);
            Some(Ok(read))
        }
        Err(e) if is(&e, ERROR_INVALID_PARAMETER) => None,
        Err(e) => Some(Err(e)),
    }
}

fn is(error: &io::Error, code: u32) -> bool {
    error.raw_os_error() == Some(code as i32)
}

/// Writes all bytes, from byte `offset` on.
///
/// # Errors
/// What writing fails with.
pub fn write_all_at(file: &File, mut bytes: &[u8], mut offset: u64) -> io::Result<()> {
    while !bytes.is_empty() {
        match file.seek_write(bytes, offset) {
            Ok(0) => return Err(ErrorKind::WriteZero.into()),
            Ok(written) => {
                bytes = &bytes[written..];
                offset += written as u64;
            }
            Err(e) if e.kind() == ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(())
}

/// What the system says of an open file.
pub(crate) fn facts(file: &File) -> io::Result<Facts> {
    match file.metadata() {
        Ok(meta) => {
            let kind = if meta.is_dir() { Kind::Folder } else { Kind::File };
            Ok(Facts { identity: win32::identity(file)?, kind, len: meta.len() })
        }
        // Of a drive there is no more than its number.
        Err(e) => match win32::device_identity(file) {
            Some(identity) => Ok(Facts { identity, kind: Kind::Device, len: 0 }),
            None => Err(e),
        },
    }
}

/// What the system says of what is at `path`, or, with `follow`, of what a link there leads to.
pub(crate) fn facts_at(path: &Path, follow: bool) -> io::Result<Facts> {
    let link = if follow { 0 } else { FILE_FLAG_OPEN_REPARSE_POINT };
    facts(&OpenOptions::new().access_mode(0).custom_flags(FILE_FLAG_BACKUP_SEMANTICS | link).open(path)?)
}

/// The device and the number there of the file of which `meta` speaks: what is known of a file does not say it here.
pub fn device_and_number(_: &Metadata) -> Option<(u64, u64)> {
    None
}

/// Which file it is of which `meta` speaks, found at `path`.
pub(crate) fn identity_at(path: &Path, meta: &Metadata) -> io::Result<Identity> {
    Ok(facts_at(path, !meta.is_symlink())?.identity)
}

/// What has no bytes at offsets, in words: nothing that a folder holds here.
pub fn odd_kind(_: FileType) -> Option<&'static str> {
    None
}

/// Opens what is at `path` for this run alone, but never through a link.
pub(crate) fn open_real(options: &OpenOptions, path: &Path) -> io::Result<File> {
    let file = options
        .clone()
        .custom_flags(FILE_FLAG_OPEN_REPARSE_POINT)
        .share_mode(FILE_SHARE_READ | FILE_SHARE_DELETE)
        .open(path)?;
    match file.metadata()?.is_symlink() {
        true => Err(io::Error::new(ErrorKind::InvalidInput, "it is a link")),
        false => Ok(file),
    }
}

/// Whether a file could not be opened because somebody else has it.
pub(crate) fn is_busy(error: &io::Error) -> bool {
    is(error, ERROR_SHARING_VIOLATION)
}

/// Holds an open file for this run, until it is closed. `false` when another run has removed it.
pub(crate) fn hold(file: &File) -> io::Result<bool> {
    Ok(win32::links(file)? > 0)
}

/// Holds a folder for this run, until what is returned is closed.
pub(crate) fn hold_folder(path: &Path) -> io::Result<Option<File>> {
    OpenOptions::new().read(true).custom_flags(FILE_FLAG_BACKUP_SEMANTICS).open(path).map(Some)
}

/// Whether somebody holds it. What cannot be opened counts as held: it is left alone.
pub(crate) fn is_held(path: &Path) -> bool {
    match OpenOptions::new().read(true).share_mode(0).custom_flags(FILE_FLAG_BACKUP_SEMANTICS).open(path) {
        Ok(_) => false,
        Err(e) => e.kind() != ErrorKind::NotFound,
    }
}

/// Makes a rename in `folder` last: the file systems here keep a journal of names.
pub(crate) fn sync_folder(_: &Path) -> io::Result<()> {
    Ok(())
}

/// Brings a file that was written to the disk, which takes the right to write it.
pub(super) fn sync_file(path: &Path) -> io::Result<()> {
    OpenOptions::new().write(true).open(path)?.sync_all()
}

/// Who may do what with it, as a number: the system has no such numbers.
pub fn mode(_: &Metadata) -> Option<u32> {
    None
}

/// Sets who may do what with it: the system has no such numbers.
pub(crate) fn set_mode(_: &Path, _: u32) -> io::Result<()> {
    Ok(())
}

/// Sets when a folder was changed last.
pub(crate) fn touch_folder(folder: &Path, time: SystemTime) -> io::Result<()> {
    let opened =
        OpenOptions::new().access_mode(FILE_WRITE_ATTRIBUTES).custom_flags(FILE_FLAG_BACKUP_SEMANTICS).open(folder)?;
    opened.set_times(FileTimes::new().set_modified(time))
}

/// Makes a symbolic link at `at` that leads to `to`, which the system allows to some users only.
pub(crate) fn link(to: &OsStr, at: &Path) -> io::Result<()> {
    let whole = at.parent().unwrap_or(Path::new("")).join(to);
    match whole.is_dir() {
        true => std::os::windows::fs::symlink_dir(to, at),
        false => std::os::windows::fs::symlink_file(to, at),
    }
}

/// What is built gets the rights of the folder that it is in.
pub(crate) fn with_mode<'b, 'a, 'c>(
    builder: &'c mut tempfile::Builder<'a, 'b>,
    _: u32,
) -> &'c mut tempfile::Builder<'a, 'b> {
    builder
}

/// The path with all links resolved, spelled as people spell it.
///
/// # Errors
/// When it is not there.
pub fn resolved(path: &Path) -> io::Result<PathBuf> {
    let whole = fs::canonicalize(path)?;
    let mut components = whole.components();
    let Some(Component::Prefix(prefix)) = components.next() else { return Ok(whole) };
    Ok(match prefix.kind() {
        Prefix::VerbatimDisk(letter) => Path::new(&format!("{}:", char::from(letter))).join(components.as_path()),
        Prefix::VerbatimUNC(server, share) => {
            let mut plain = OsString::from(r"\\");
            plain.push(server);
            plain.push(r"\");
            plain.push(share);
            PathBuf::from(plain).join(components.as_path())
        }
        _ => whole,
    })
}

/// Whether an error of reading says that a device, or what was in it, is no longer there.
pub fn is_gone(error: &io::Error) -> bool {
    let gone = [
        ERROR_NOT_READY,
        ERROR_NO_SUCH_DEVICE,
        ERROR_DEVICE_NOT_CONNECTED,
        ERROR_NO_MEDIA_IN_DRIVE,
        ERROR_MEDIA_CHANGED,
    ];
    gone.into_iter().any(|code| is(error, code))
}

/// Whether an error of reading is what a worn medium or a loose plug gives.
pub fn is_worn(error: &io::Error) -> bool {
    let worn = [ERROR_CRC, ERROR_SECTOR_NOT_FOUND, ERROR_READ_FAULT, ERROR_GEN_FAILURE, ERROR_IO_DEVICE];
    worn.into_iter().any(|code| is(error, code))
}

/// Standard output without anything in between, for bytes that are no text.
///
/// # Errors
/// When it is closed.
pub fn raw_output() -> io::Result<File> {
    io::stdout().as_handle().try_clone_to_owned().map(File::from)
}

/// Whether there is no standard output.
pub fn is_output_missing() -> bool {
    io::stdout().as_raw_handle().is_null()
}

/// A path with `/` between its names, which the system takes as well: no name holds the other one.
pub fn with_slashes(path: String) -> String {
    if path.contains('\\') { path.replace('\\', "/") } else { path }
}

/// A name in characters, with the halves of characters that stand alone in it.
pub(crate) fn pieces(name: &OsStr) -> Vec<Result<char, u16>> {
    char::decode_utf16(name.encode_wide()).map(|c| c.map_err(|half| half.unpaired_surrogate())).collect()
}

/// A character in the units that names are made of here: UTF-16.
pub(crate) fn units(c: char) -> Vec<u16> {
    c.encode_utf16(&mut [0; 2]).to_vec()
}

/// The name of such pieces.
pub(crate) fn name_of(pieces: impl Iterator<Item = Result<char, u16>>) -> OsString {
    let mut wide = Vec::new();
    for piece in pieces {
        match piece {
            Ok(c) => wide.extend(units(c)),
            // The byte of a name from another system: no name here can hold it.
            Err(byte) if byte < 0x100 => wide.extend(units(char::REPLACEMENT_CHARACTER)),
            Err(half) => wide.push(half),
        }
    }
    OsString::from_wide(&wide)
}
