use super::SourceRef;
use std::io::{self, Read, Seek, SeekFrom};

/// A source with a position, for libraries that want a stream.
pub struct Reader {
    source: SourceRef,
    at: u64,
}

impl Reader {
    /// From byte `at` on.
    pub fn new(source: SourceRef, at: u64) -> Self {
        Self { source, at }
    }
}

impl Read for Reader {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = (self.source.len().saturating_sub(self.at)).min(buf.len() as u64) as usize;
        self.source.read_at(self.at, &mut buf[..len]).map_err(io::Error::other)?;
        self.at += len as u64;
        Ok(len)
    }
}

impl Seek for Reader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let target = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.source.len().checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = target.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.at)
    }
}
