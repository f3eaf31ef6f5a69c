use crate::error::{Error, Result};
use crate::source::{Source, check_range};
use crate::watch;
use std::io::Read;
use std::sync::{Mutex, PoisonError};

/// Bytes that are passed over at once.
const SKIP: usize = 64 << 10;

/// Begins to unpack from the beginning.
pub type Begin = Box<dyn Fn() -> Result<Box<dyn Read + Send>> + Send + Sync>;

/// A stream that can only be unpacked from its beginning, as a source: read forwards it costs one pass, read backwards
/// it begins anew.
pub struct Forward {
    format: &'static str,
    begin: Begin,
    len: u64,
    going: Mutex<Option<(u64, Box<dyn Read + Send>)>>,
}

impl Forward {
    /// A stream of `format` that unpacks to `len` bytes.
    pub fn new(format: &'static str, len: u64, begin: Begin) -> Self {
        Self { format, begin, len, going: Mutex::new(None) }
    }

    fn fill(&self, reader: &mut dyn Read, buf: &mut [u8], at: u64) -> Result<()> {
        reader.read_exact(buf).map_err(|e| match e.downcast::<Error>() {
            // What the packed bytes themselves are read with tells more than the decoder can.
            Ok(own) => own,
            Err(e) => Error::malformed(self.format, format!("what is packed is damaged near its byte {at} ({e})"), 0),
        })
    }
}

impl Source for Forward {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut going = self.going.lock().unwrap_or_else(PoisonError::into_inner);
        let (mut at, mut reader) = match going.take().filter(|(at, _)| *at <= offset) {
            Some(going) => going,
            None => (0, (self.begin)()?),
        };
        let mut skipped = vec![0; if at < offset { SKIP } else { 0 }];
        while at < offset {
            watch::going_on()?;
            let now = SKIP.min((offset - at) as usize);
            self.fill(reader.as_mut(), &mut skipped[..now], at)?;
            at += now as u64;
        }
        self.fill(reader.as_mut(), buf, at)?;
        *going = Some((at + buf.len() as u64, reader));
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_order_gives_the_bytes() {
        let bytes: Vec<u8> = (0..200_000u32).map(|i| (i * 7 + i / 251) as u8).collect();
        let own = bytes.clone();
        let begin: Begin = Box::new(move || Ok(Box::new(std::io::Cursor::new(own.clone()))));
        let view = Forward::new("test", 200_100, begin);
        for (at, len) in [(0usize, 10usize), (150_000, 50), (5, 100), (199_990, 10)] {
            let mut buf = vec![0; len];
            view.read_at(at as u64, &mut buf).unwrap();
            assert!(buf == bytes[at..at + len]);
        }
        assert!(view.read_at(199_990, &mut [0; 100]).is_err(), "it ends before its length");
    }
}
