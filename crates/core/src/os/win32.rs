//! The calls of Windows that `std` does not make.

use super::Identity;
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::mem::{size_of, zeroed};
use std::os::windows::ffi::OsStrExt;
use std::os::windows::io::{AsRawHandle, RawHandle};
use std::path::Path;
use std::ptr::{null, null_mut};
use windows_sys::Win32::Storage::FileSystem::{
    BY_HANDLE_FILE_INFORMATION, GetDiskFreeSpaceExW, GetFileInformationByHandle, GetVolumeInformationW,
    GetVolumePathNameW,
};
use windows_sys::Win32::System::Console::{CONSOLE_SCREEN_BUFFER_INFO, GetConsoleScreenBufferInfo};
use windows_sys::Win32::System::IO::DeviceIoControl;
use windows_sys::Win32::System::Ioctl::{
    FILE_ALLOCATED_RANGE_BUFFER, FSCTL_QUERY_ALLOCATED_RANGES, FSCTL_SET_SPARSE, GET_LENGTH_INFORMATION,
    IOCTL_DISK_GET_LENGTH_INFO, IOCTL_STORAGE_GET_DEVICE_NUMBER, STORAGE_DEVICE_NUMBER,
};

/// Characters of the longest path.
const LONGEST: usize = 32_768;

/// Opens a file for reading.
pub(crate) fn open_to_read(path: &Path) -> io::Result<File> {
    File::open(path)
}

/// The length of a drive in bytes; `None` where the driver does not say it.
pub(super) fn device_len(file: &File) -> io::Result<Option<u64>> {
    // SAFETY: an answer of plain numbers, for which any bytes are valid.
    let length: Option<GET_LENGTH_INFORMATION> = unsafe { answer(file, IOCTL_DISK_GET_LENGTH_INFO) };
    Ok(length.and_then(|length| u64::try_from(length.Length).ok()))
}

/// Type and number of a drive; `None` for what is none.
pub(super) fn device_identity(file: &File) -> Option<Identity> {
    // SAFETY: an answer of plain numbers, for which any bytes are valid.
    let device: STORAGE_DEVICE_NUMBER = unsafe { answer(file, IOCTL_STORAGE_GET_DEVICE_NUMBER) }?;
    let number = u64::from(device.DeviceType) << 48 | u64::from(device.DeviceNumber) << 16;
    Some(Identity(u64::MAX, number | u64::from(device.PartitionNumber) & 0xffff))
}

/// What a driver answers to a question without words.
///
/// # Safety
/// Any bytes have to be a valid `T`.
unsafe fn answer<T>(file: &File, question: u32) -> Option<T> {
    // SAFETY: the caller promises that zeros are valid.
    let mut answer: T = unsafe { zeroed() };
    let (mut len, room) = (0, size_of::<T>() as u32);
    // SAFETY: the handle is open; the answer has the room that is named, and lives for the call, which does not go on
    // after it returned, as the file was not opened for that.
    let done = unsafe {
        DeviceIoControl(handle(file), question, null(), 0, (&raw mut answer).cast(), room, &mut len, null_mut())
    };
    (done != 0 && len == room).then_some(answer)
}

fn handle(file: &File) -> RawHandle {
    file.as_raw_handle()
}

/// Volume and number of an open file.
pub(super) fn identity(file: &File) -> io::Result<Identity> {
    let info = information(file)?;
    let index = u64::from(info.nFileIndexHigh) << 32 | u64::from(info.nFileIndexLow);
    Ok(Identity(info.dwVolumeSerialNumber.into(), index))
}

/// Names that an open file has.
pub(super) fn links(file: &File) -> io::Result<u32> {
    information(file).map(|info| info.nNumberOfLinks)
}

fn information(file: &File) -> io::Result<BY_HANDLE_FILE_INFORMATION> {
    // SAFETY: plain numbers, for which zeros are valid.
    let mut info: BY_HANDLE_FILE_INFORMATION = unsafe { zeroed() };
    // SAFETY: the handle is open, and `info` is what is written.
    match unsafe { GetFileInformationByHandle(handle(file), &mut info) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(info),
    }
}

/// Says whether the byte at `offset` lies in a hole, and how many of the next `left` bytes are alike.
///
/// File systems that cannot tell are all data.
pub(crate) fn data_or_hole(file: &File, offset: u64, left: u64) -> (bool, u64) {
    let asked = FILE_ALLOCATED_RANGE_BUFFER { FileOffset: offset as i64, Length: left as i64 };
    let mut first = FILE_ALLOCATED_RANGE_BUFFER { FileOffset: 0, Length: 0 };
    let room = size_of::<FILE_ALLOCATED_RANGE_BUFFER>() as u32;
    let mut len = 0;
    // SAFETY: the handle is open; both buffers have the room that is named, and live for the call.
    let done = unsafe {
        let (question, answer) = ((&raw const asked).cast(), (&raw mut first).cast());
        DeviceIoControl(handle(file), FSCTL_QUERY_ALLOCATED_RANGES, question, room, answer, room, &mut len, null_mut())
    };
    // There may be more ranges than the one that was asked for: that is an error, with the first in place.
    match (len == room, done != 0) {
        (true, _) => {
            let (begin, span) = (first.FileOffset.max(0) as u64, first.Length.max(0) as u64);
            match begin.saturating_sub(offset) {
                0 => (false, begin.saturating_add(span).saturating_sub(offset).clamp(1, left)),
                gap => (true, gap.min(left)),
            }
        }
        // No range at all, and no error: a hole up to the end.
        (false, true) => (true, left),
        (false, false) => (false, left),
    }
}

/// There is no such copy.
pub(crate) fn kernel_copy(_: &File, _: u64, _: &File, _: u64, _: usize) -> io::Result<Option<u64>> {
    Ok(None)
}

/// Lets what is not written in a new file take no room. A file system that knows no holes fills them.
pub(crate) fn allow_holes(file: &File) {
    let mut len = 0;
    // SAFETY: the handle is open; there are no buffers.
    unsafe { DeviceIoControl(handle(file), FSCTL_SET_SPARSE, null(), 0, null_mut(), 0, &mut len, null_mut()) };
}

/// Bytes that this user may still write on the file system of `folder`; `None` where that is not known.
pub fn free_bytes(folder: &Path) -> io::Result<Option<u64>> {
    let mut free = 0;
    // SAFETY: the path ends with a zero, and lives for the call; the other numbers are not asked for.
    match unsafe { GetDiskFreeSpaceExW(wide(folder.as_os_str()).as_ptr(), &mut free, null_mut(), null_mut()) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(Some(free)),
    }
}

fn wide(text: &OsStr) -> Vec<u16> {
    text.encode_wide().chain([0]).collect()
}

/// Gives a file another name, unless something has that name.
pub(crate) fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    super::rename_if_free(from, to)
}

/// What is held of a file in memory stays there.
pub(crate) fn forget(_: &File) {}

/// The file system is not asked for its name.
pub fn volume(_: &Path) -> Option<String> {
    None
}

/// Its name is not asked for: what it cannot hold is refused by its limits.
pub fn file_system(_: &Path) -> Option<&'static str> {
    None
}

/// The most bytes that one file can hold on the file system of `folder`, where that is known to be small.
pub fn largest_file(folder: &Path) -> Option<u64> {
    let mut root = vec![0; LONGEST];
    let mut name = [0; 64];
    // SAFETY: the path ends with a zero; both buffers have the room that is named; what is null is not asked for.
    let done = unsafe {
        GetVolumePathNameW(wide(folder.as_os_str()).as_ptr(), root.as_mut_ptr(), root.len() as u32) != 0
            && GetVolumeInformationW(
                root.as_ptr(),
                null_mut(),
                0,
                null_mut(),
                null_mut(),
                null_mut(),
                name.as_mut_ptr(),
                name.len() as u32,
            ) != 0
    };
    let name = String::from_utf16_lossy(name.split(|unit| *unit == 0).next().unwrap_or_default());
    (done && matches!(name.as_str(), "FAT" | "FAT32")).then_some(u64::from(u32::MAX))
}

/// Brings everything that was written into `folder` to the disk.
pub(crate) fn sync_all_in(folder: &Path) -> io::Result<()> {
    super::sync_each_in(folder)
}

/// Whether this user may make something in `folder` is known when it is made.
pub(crate) fn may_write(_: &Path) -> io::Result<()> {
    Ok(())
}

/// Columns of the terminal that standard output is; `None` where it is none.
pub fn output_width() -> Option<usize> {
    columns(io::stdout().as_raw_handle())
}

/// Columns of the terminal that standard error is; `None` where it is none.
pub fn error_width() -> Option<usize> {
    columns(io::stderr().as_raw_handle())
}

fn columns(stream: RawHandle) -> Option<usize> {
    // SAFETY: plain numbers, for which zeros are valid.
    let mut info: CONSOLE_SCREEN_BUFFER_INFO = unsafe { zeroed() };
    // SAFETY: a handle that is no terminal, or none, is an error; `info` is what is written.
    let done = unsafe { GetConsoleScreenBufferInfo(stream, &mut info) };
    let columns = i32::from(info.srWindow.Right) - i32::from(info.srWindow.Left) + 1;
    (done != 0).then_some(columns).and_then(|columns| usize::try_from(columns).ok()).filter(|columns| *columns > 0)
}

/// Whether a memory image of a process is kept is for the system's own settings to say.
pub fn withhold_memory() {}

/// There are no such limits.
pub fn survive_size_limits() {}

/// There is no way to ask a process to end: whoever started it ends it at once.
pub fn ask_to_end(_: u32) -> bool {
    false
}
