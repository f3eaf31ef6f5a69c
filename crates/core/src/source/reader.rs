use super::SourceRef;
use std::io::{self, Read};

/// Reads a source front to back, for libraries that want a stream.
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
