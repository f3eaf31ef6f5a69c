use super::SourceRef;
use std::io::{self, Read, Seek, SeekFrom};

/// Bytes that are read ahead for whoever reads byte by byte.
const WINDOW: usize = 64 << 10;

/// A source with a position, for libraries that want a stream. What was read ahead stays when the position moves: some
/// libraries seek before every byte.
pub struct Reader {
    source: SourceRef,
    at: u64,
    window: Vec<u8>,
    window_at: u64,
}

impl Reader {
    /// From byte `at` on.
    pub fn new(source: SourceRef, at: u64) -> Self {
        Self { source, at, window: Vec::new(), window_at: 0 }
    }
}

impl Read for Reader {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let left = self.source.len().saturating_sub(self.at);
        let len = left.min(buf.len() as u64) as usize;
        if len == 0 {
            return Ok(0);
        }
        if len >= WINDOW {
            self.source.read_at(self.at, &mut buf[..len]).map_err(io::Error::other)?;
            self.at += len as u64;
            return Ok(len);
        }
        if !(self.window_at..self.window_at + self.window.len() as u64).contains(&self.at) {
            self.window.resize(left.min(WINDOW as u64) as usize, 0);
            self.window_at = self.at;
            if let Err(e) = self.source.read_at(self.at, &mut self.window) {
                self.window.clear();
                return Err(io::Error::other(e));
            }
        }
        let from = (self.at - self.window_at) as usize;
        let len = len.min(self.window.len().saturating_sub(from));
        buf[..len].copy_from_slice(&self.window[from..from + len]);
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use std::sync::Arc;

    #[test]
    fn reads_and_seeks_in_any_order() {
        let bytes: Vec<u8> = (0..200_000u32).map(|i| (i * 7 + i / 251) as u8).collect();
        let mut reader = Reader::new(Arc::new(Bytes(bytes.clone())), 5);
        for (at, len) in [(5u64, 1usize), (6, 100), (199_990, 50), (0, 70_000), (70_000, 1), (65_536, 3), (300_000, 4)]
        {
            assert_eq!(reader.seek(SeekFrom::Start(at)).unwrap(), at);
            let mut buf = vec![0; len];
            let mut done = 0;
            while done < len {
                match reader.read(&mut buf[done..]).unwrap() {
                    0 => break,
                    more => done += more,
                }
            }
            let from = (at as usize).min(bytes.len());
            assert!(buf[..done] == bytes[from..(from + len).min(bytes.len())], "{at}");
        }
    }
}
