//! Unix, with the calls that `std` does not make. Each has a plain way out where the system or the file system cannot.

use rustix::fs::{Access, OFlags, SeekFrom, seek};
use rustix::process::{Resource, Rlimit, setrlimit};
use std::fs::{File, OpenOptions};
use std::io;
use std::os::fd::AsFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// Opens a file for reading. A pipe that nobody writes to would keep an ordinary open waiting: this one does not wait.
pub(crate) fn open_to_read(path: &Path) -> io::Result<File> {
    OpenOptions::new().read(true).custom_flags(OFlags::NONBLOCK.bits() as i32).open(path)
}

/// Its end says it.
pub(super) fn device_len(_: &File) -> io::Result<Option<u64>> {
    Ok(None)
}

/// Says whether the byte at `offset` lies in a hole, and how many of the next `left` bytes are alike.
///
/// File systems that cannot tell are all data.
pub(crate) fn data_or_hole(file: &File, offset: u64, left: u64) -> (bool, u64) {
    let span = |end: u64| (end - offset).min(left).max(1);
    match seek(file, SeekFrom::Data(offset)) {
        Ok(data) if data > offset => (true, span(data)),
        Ok(_) => match seek(file, SeekFrom::Hole(offset)) {
            Ok(hole) if hole > offset => (false, span(hole)),
            _ => (false, left),
        },
        // Nothing but a hole up to the end.
        Err(rustix::io::Errno::NXIO) => (true, left),
        Err(_) => (false, left),
    }
}

/// Copies up to `len` bytes between files inside the kernel, shared instead of copied where the file
/// system can. Returns the bytes done, or `None` where this pair of files cannot be copied that way.
pub(crate) fn kernel_copy(from: &File, from_at: u64, to: &File, to_at: u64, len: usize) -> io::Result<Option<u64>> {
    #[cfg(target_os = "linux")]
    {
        use rustix::io::Errno;
        let (mut a, mut b) = (from_at, to_at);
        match rustix::fs::copy_file_range(from, Some(&mut a), to, Some(&mut b), len) {
            Ok(0) => Ok(None),
            Ok(done) => Ok(Some(done as u64)),
            Err(Errno::XDEV | Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP | Errno::PERM | Errno::TXTBSY) => Ok(None),
            Err(Errno::INTR) => Ok(Some(0)),
            Err(e) => Err(e.into()),
        }
    }
    #[cfg(not(target_os = "linux"))]
    {
        let _ = (from, from_at, to, to_at, len);
        Ok(None)
    }
}

/// What is not written in a new file takes no room, without a word.
pub(crate) fn allow_holes(_: &File) {}

/// Bytes that this user may still write on the file system of `folder`; `None` where that is not known.
pub fn free_bytes(folder: &Path) -> io::Result<Option<u64>> {
    let stat = rustix::fs::statvfs(folder)?;
    Ok(Some(stat.f_bavail.saturating_mul(stat.f_frsize)))
}

/// What the file system of `folder` calls itself, wherever it is mounted: the same after every start. `None` where it has
/// no such name.
pub fn volume(folder: &Path) -> Option<String> {
    let stat = rustix::fs::statvfs(folder).ok()?;
    (stat.f_fsid != 0).then(|| format!("{:016x}", stat.f_fsid))
}

/// The most bytes that one file can hold on the file system of `folder`, where that is known to be small.
pub fn largest_file(folder: &Path) -> Option<u64> {
    (file_system(folder) == Some("FAT")).then_some(u64::from(u32::MAX))
}

/// Gives a file another name, unless something has that name.
pub(crate) fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    #[cfg(target_os = "linux")]
    {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        Ok(renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE)?)
    }
    #[cfg(not(target_os = "linux"))]
    {
        super::rename_if_free(from, to)
    }
}

/// Drops what is held of a file in memory, where the system does that.
pub(crate) fn forget(file: &File) {
    #[cfg(target_os = "linux")]
    {
        // If it is held nevertheless, reading it is only faster.
        let _ = rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::DontNeed);
    }
    #[cfg(not(target_os = "linux"))]
    {
        let _ = file;
    }
}

/// The file system of `folder`, by its usual name; `None` where that is not known.
pub fn file_system(folder: &Path) -> Option<&'static str> {
    #[cfg(target_os = "linux")]
    {
        /// Magic numbers of linux/magic.h and of the drivers themselves.
        const KNOWN: [(u32, &str); 9] = [
            (0x4d44, "FAT"),
            (0x2011_bab0, "exFAT"),
            (0x5346_544e, "NTFS"),
            (0x7366_746e, "NTFS"),
            (0xef53, "ext"),
            (0x9123_683e, "btrfs"),
            (0x5846_5342, "XFS"),
            (0x0102_1994, "tmpfs"),
            (0x794c_7630, "overlay"),
        ];
        let kind = rustix::fs::statfs(folder).ok()?.f_type as u32;
        KNOWN.iter().find(|(number, _)| *number == kind).map(|(_, name)| *name)
    }
    #[cfg(not(target_os = "linux"))]
    {
        let _ = folder;
        None
    }
}

/// Brings everything that was written into `folder` to the disk: where the system can, with all of its file system at
/// once.
pub(crate) fn sync_all_in(folder: &Path) -> io::Result<()> {
    #[cfg(target_os = "linux")]
    {
        Ok(rustix::fs::syncfs(File::open(folder)?)?)
    }
    #[cfg(not(target_os = "linux"))]
    {
        super::sync_each_in(folder)
    }
}

/// Whether this user may make something in `folder`.
pub(crate) fn may_write(folder: &Path) -> io::Result<()> {
    Ok(rustix::fs::access(folder, Access::WRITE_OK | Access::EXEC_OK)?)
}

/// Columns of the terminal that standard output is; `None` where it is none.
pub fn output_width() -> Option<usize> {
    columns(io::stdout().as_fd())
}

/// Columns of the terminal that standard error is; `None` where it is none.
pub fn error_width() -> Option<usize> {
    columns(io::stderr().as_fd())
}

fn columns(stream: impl AsFd) -> Option<usize> {
    let columns = rustix::termios::tcgetwinsize(stream).ok()?.ws_col;
    (columns > 0).then_some(columns.into())
}

/// Forbids a memory image of the process: it would have the user's keys in it. Where the system cannot promise that there
/// is none, nothing else is lost.
pub fn withhold_memory() {
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
    #[cfg(target_os = "linux")]
    {
        let _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
    }
}

/// Asks a process to end, as a user would; false where it could not be asked, as one that is gone.
pub fn ask_to_end(process: u32) -> bool {
    let pid = i32::try_from(process).ok().and_then(rustix::process::Pid::from_raw);
    pid.is_some_and(|pid| rustix::process::kill_process(pid, rustix::process::Signal::TERM).is_ok())
}

/// Makes a limit on the size of files an error of the write that meets it, not the end of the process.
pub fn survive_size_limits() {
    let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, Arc::new(AtomicBool::new(false)));
}
