use crate::error::{Error, Result};
use crate::source::{Extent, Source, SourceRef, check_range};
use std::sync::{Mutex, PoisonError};

/// Bytes at the beginning that are read once for everybody who looks.
const WINDOW: u64 = 128 << 10;
/// How far into a stream that can only be read forwards a look may reach.
const REACH: u64 = 4 << 20;

/// A source that is looked at to find out what it is. Its beginning is read once, whoever asks for it; of a stream that
/// can only be read forwards the far end stays unread, because a look must not cost a pass over everything.
pub struct Glance {
    inner: SourceRef,
    reach: u64,
    window: Mutex<Option<Window>>,
}

/// The first bytes, as many as can be read, and why there are no more.
struct Window {
    bytes: Vec<u8>,
    why: Option<String>,
}

impl Glance {
    /// A look at `inner`.
    pub fn new(inner: SourceRef) -> Self {
        let reach = if inner.prefers_sequential() { REACH } else { u64::MAX };
        Self { inner, reach, window: Mutex::new(None) }
    }

    /// A look at all of `inner`, however far.
    pub fn far(inner: SourceRef) -> Self {
        Self { inner, reach: u64::MAX, window: Mutex::new(None) }
    }
}

impl Glance {
    /// Reads the first bytes. What is damaged further on does not hide what they say: then fewer of them are held. Where
    /// every read begins anew, as in a compressed stream, the others are not tried again for each format that asks.
    fn look(&self) -> Result<Window> {
        let mut bytes = vec![0; WINDOW.min(self.len()) as usize];
        let mut why = None;
        loop {
            match self.inner.read_at(0, &mut bytes) {
                Ok(()) => return Ok(Window { bytes, why }),
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(e) if self.prefers_sequential() => why = why.or(Some(e.to_string())),
                Err(_) => return Ok(Window { bytes: Vec::new(), why: None }),
            }
            bytes.truncate(bytes.len() / 4);
            if bytes.is_empty() {
                return Ok(Window { bytes, why });
            }
        }
    }
}

impl Source for Glance {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let end = offset + buf.len() as u64;
        if end > self.reach {
            let what = "a look into what can only be unpacked from its beginning";
            return Err(Error::Limit { what, asked: end, limit: self.reach });
        }
        if end > WINDOW {
            return self.inner.read_at(offset, buf);
        }
        let mut window = self.window.lock().unwrap_or_else(PoisonError::into_inner);
        let window = match &mut *window {
            Some(window) => window,
            none => none.insert(self.look()?),
        };
        match (window.bytes.get(offset as usize..end as usize), &window.why) {
            (Some(held), _) => {
                buf.copy_from_slice(held);
                Ok(())
            }
            (None, Some(why)) => Err(Error::Unreadable { why: why.clone() }),
            (None, None) => self.inner.read_at(offset, buf),
        }
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.inner.extent_at(offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicU64, Ordering};

    struct Counted(AtomicU64, bool);

    impl Source for Counted {
        fn len(&self) -> u64 {
            64 << 20
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
            self.0.fetch_add(1, Ordering::Relaxed);
            buf.fill(offset as u8);
            Ok(())
        }
        fn prefers_sequential(&self) -> bool {
            self.1
        }
    }

    #[test]
    fn the_beginning_is_read_once_and_the_far_end_of_a_stream_not_at_all() {
        let stream = Arc::new(Counted(AtomicU64::new(0), true));
        let look = Glance::new(stream.clone());
        for offset in [0, 16, 65_536] {
            look.read_at(offset, &mut [0; 16]).unwrap();
        }
        assert_eq!(stream.0.load(Ordering::Relaxed), 1);
        assert!(matches!(look.read_at(60 << 20, &mut [0; 4]), Err(Error::Limit { .. })));
        assert!(Glance::far(stream.clone()).read_at(60 << 20, &mut [0; 4]).is_ok());
        let file = Glance::new(Arc::new(Counted(AtomicU64::new(0), false)));
        assert!(file.read_at(60 << 20, &mut [0; 4]).is_ok());
    }

    /// A stream that is damaged from some byte on.
    struct Torn(AtomicU64, u64);

    impl Source for Torn {
        fn len(&self) -> u64 {
            1 << 20
        }
        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
            self.0.fetch_add(1, Ordering::Relaxed);
            match offset + buf.len() as u64 > self.1 {
                true => Err(Error::Unreadable { why: "torn".into() }),
                false => {
                    buf.fill(7);
                    Ok(())
                }
            }
        }
        fn prefers_sequential(&self) -> bool {
            true
        }
    }

    #[test]
    fn a_damaged_stream_is_not_unpacked_for_everybody_who_asks() {
        for (whole, held) in [(40_000, 32_768), (3000, 2048), (0, 0)] {
            let stream = Arc::new(Torn(AtomicU64::new(0), whole));
            let look = Glance::new(stream.clone());
            for _ in 0..50 {
                assert!(look.read_at(0, &mut vec![0; held]).is_ok());
                assert_eq!(look.read_at(held as u64, &mut [0]).unwrap_err().to_string(), "torn");
            }
            assert!(stream.0.load(Ordering::Relaxed) < 12, "{}", stream.0.load(Ordering::Relaxed));
        }
    }
}
