//! What is looked at first: the beginning of a source, read once for all formats that ask.

use crate::error::{Error, Result};
use crate::keyring::Keyring;
use crate::source::{Extent, Source, check_range};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Bytes at the beginning that are held: 64 KiB, and the sector after them, where the discs of one family have their mark.
const WINDOW: u64 = 66 << 10;
/// How far into a stream that can only be read forwards a glance may reach.
const REACH: u64 = 4 << 20;

/// Bytes that stand at a fixed place in every source of a format.
#[derive(Debug, Clone, Copy)]
pub struct Mark {
    /// Byte offset.
    pub at: u64,
    /// What stands there.
    pub bytes: &'static [u8],
}

impl Mark {
    /// One at the very beginning.
    pub const fn first(bytes: &'static [u8]) -> Self {
        Self { at: 0, bytes }
    }
}

/// A source that is looked at to find out what it is.
pub struct Head<'a> {
    source: &'a dyn Source,
    reach: u64,
    window: OnceLock<Window>,
    far: AtomicUsize,
    keys: Option<&'a Keyring>,
    names: &'a [String],
}

/// The first bytes, as many as can be read, and why there are no more.
struct Window {
    bytes: Vec<u8>,
    why: Option<String>,
}

impl<'a> Head<'a> {
    /// A look at `source`, however far.
    pub fn new(source: &'a dyn Source) -> Self {
        Self { source, reach: u64::MAX, window: OnceLock::new(), far: AtomicUsize::new(0), keys: None, names: &[] }
    }

    /// With the user's keys, for formats that nothing but their key tells from noise.
    #[must_use]
    pub fn with_keys(self, keys: &'a Keyring) -> Self {
        Self { keys: Some(keys), ..self }
    }

    /// With what the source is called, the innermost name first.
    #[must_use]
    pub fn with_names(self, names: &'a [String]) -> Self {
        Self { names, ..self }
    }

    /// The user's keys, if they are known.
    pub fn keys(&self) -> Option<&'a Keyring> {
        self.keys
    }

    /// What the source is called; nothing where that is not known.
    pub fn names(&self) -> &'a [String] {
        self.names
    }

    /// A look that must not cost a pass over everything: of a stream that can only be read forwards the far end stays unread.
    pub fn glance(source: &'a dyn Source) -> Self {
        let reach = if source.prefers_sequential() { REACH } else { u64::MAX };
        Self { reach, ..Self::new(source) }
    }

    /// How often somebody read beyond what is held.
    pub fn far_reads(&self) -> usize {
        self.far.load(Ordering::Relaxed)
    }

    /// Whether one of `marks` stands in its place, or there are none.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn has_one_of(&self, marks: &[Mark]) -> Result<bool> {
        if marks.is_empty() {
            return Ok(true);
        }
        for mark in marks.iter().filter(|m| m.at + m.bytes.len() as u64 <= self.len()) {
            let mut found = [0; 16];
            let found = &mut found[..mark.bytes.len().min(16)];
            self.read_at(mark.at, found)?;
            if mark.bytes.starts_with(found) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Reads the first bytes. What is damaged further on does not hide what they say: then fewer of them are held. Where
    /// every read begins anew, as in a compressed stream, the others are not tried again for each format that asks.
    fn look(&self) -> Result<Window> {
        let mut bytes = vec![0; WINDOW.min(self.len()) as usize];
        let mut why = None;
        loop {
            match self.source.read_at(0, &mut bytes) {
                Ok(()) => return Ok(Window { bytes, why }),
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(e) if self.source.prefers_sequential() => why = why.or(Some(e.to_string())),
                Err(_) => return Ok(Window { bytes: Vec::new(), why: None }),
            }
            bytes.truncate(bytes.len() / 4);
            if bytes.is_empty() {
                return Ok(Window { bytes, why });
            }
        }
    }

    fn window(&self) -> Result<&Window> {
        match self.window.get() {
            Some(window) => Ok(window),
            None => {
                let window = self.look()?;
                Ok(self.window.get_or_init(|| window))
            }
        }
    }
}

impl Source for Head<'_> {
    fn len(&self) -> u64 {
        self.source.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let end = offset + buf.len() as u64;
        if end > self.reach {
            let what = "a look into what can only be unpacked from its beginning";
            return Err(Error::Limit { what, asked: end, limit: self.reach });
        }
        if end > WINDOW {
            self.far.fetch_add(1, Ordering::Relaxed);
            return self.source.read_at(offset, buf);
        }
        let window = self.window()?;
        match (window.bytes.get(offset as usize..end as usize), &window.why) {
            (Some(held), _) => {
                buf.copy_from_slice(held);
                Ok(())
            }
            (None, Some(why)) => Err(Error::Unreadable { why: why.clone() }),
            (None, None) => self.source.read_at(offset, buf),
        }
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.source.extent_at(offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.source.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use std::sync::atomic::AtomicU64;

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
        let stream = Counted(AtomicU64::new(0), true);
        let look = Head::glance(&stream);
        for offset in [0, 16, 65_536] {
            look.read_at(offset, &mut [0; 16]).unwrap();
        }
        assert_eq!((stream.0.load(Ordering::Relaxed), look.far_reads()), (1, 0));
        assert!(matches!(look.read_at(60 << 20, &mut [0; 4]), Err(Error::Limit { .. })));
        let far = Head::new(&stream);
        assert!(far.read_at(60 << 20, &mut [0; 4]).is_ok());
        assert_eq!(far.far_reads(), 1);
        let file = Counted(AtomicU64::new(0), false);
        assert!(Head::glance(&file).read_at(60 << 20, &mut [0; 4]).is_ok());
    }

    #[test]
    fn marks_are_looked_for_in_their_places() {
        let source = Bytes(b"..AB".to_vec());
        let head = Head::new(&source);
        let has = |at, bytes| head.has_one_of(&[Mark { at, bytes }]).unwrap();
        assert!(has(2, b"AB") && has(0, b".") && head.has_one_of(&[]).unwrap());
        assert!(!has(1, b"AB") && !has(2, b"ABC") && !has(9, b"A"));
        assert!(head.has_one_of(&[Mark::first(b"no"), Mark { at: 3, bytes: b"B" }]).unwrap());
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
        for (whole, held) in [(20_000, 16_896), (3000, 1056), (0, 0)] {
            let stream = Torn(AtomicU64::new(0), whole);
            let look = Head::glance(&stream);
            for _ in 0..50 {
                assert!(look.read_at(0, &mut vec![0; held]).is_ok());
                assert_eq!(look.read_at(held as u64, &mut [0]).unwrap_err().to_string(), "torn");
            }
            assert!(stream.0.load(Ordering::Relaxed) < 12, "{}", stream.0.load(Ordering::Relaxed));
        }
    }
}
