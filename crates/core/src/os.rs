//! What the operating system offers beyond `std`: holes, kernel copies, free space. Every call has a
//! plain way out where the system or the file system cannot do it.

use rustix::fs::{SeekFrom, seek};
use std::fs::File;
use std::io;
use std::path::Path;

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

/// Bytes that this user may still write on the file system of `folder`.
pub(crate) fn free_bytes(folder: &Path) -> io::Result<u64> {
    let stat = rustix::fs::statvfs(folder)?;
    Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// The most bytes that one file can hold on the file system of `folder`, where that is known to be small.
pub(crate) fn largest_file(folder: &Path) -> Option<u64> {
    #[cfg(target_os = "linux")]
    {
        /// `MSDOS_SUPER_MAGIC` of linux/magic.h: FAT12, FAT16 and FAT32.
        const FAT: i64 = 0x4d44;
        let stat = rustix::fs::statfs(folder).ok()?;
        (stat.f_type as i64 == FAT).then_some(u64::from(u32::MAX))
    }
    #[cfg(not(target_os = "linux"))]
    {
        let _ = folder;
        None
    }
}

/// Brings everything written on the file system of the open folder to the disk.
pub(crate) fn sync_file_system(folder: &File) -> io::Result<()> {
    #[cfg(target_os = "linux")]
    {
        Ok(rustix::fs::syncfs(folder)?)
    }
    #[cfg(not(target_os = "linux"))]
    {
        folder.sync_all()
    }
}

/// Whether this user may make something in `folder`.
pub(crate) fn may_write(folder: &Path) -> io::Result<()> {
    use rustix::fs::Access;
    Ok(rustix::fs::access(folder, Access::WRITE_OK | Access::EXEC_OK)?)
}
