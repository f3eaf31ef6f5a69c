//! Streams that do not say how long their content is: unpacked once to know it, which checks every checksum in them too.

use decanter_core::source::{Bytes, Reader, Source, SourceRef};
use decanter_core::view::{Forward, MOST_HELD};
use decanter_core::{Error, Result, Watch, tell, watch};
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{self, Read};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};

/// Bytes that are unpacked at once.
const BLOCK: usize = 256 << 10;
/// Bytes at the beginning and the end of a stream that it is known again by.
const EDGE: u64 = 64 << 10;
/// Streams whose lengths are remembered.
const MOST_KNOWN: usize = 4096;

/// A stream that is being unpacked.
pub(crate) type Unpacked = Box<dyn Read + Send>;
/// Begins to unpack a stream.
pub(crate) type Unpack = fn(Reader) -> io::Result<Unpacked>;

/// Lengths of long contents, by what their streams begin and end with: a file is opened more than once in a run, and
/// unpacking it takes a while. A length that is not right any more is met by the reader, who goes on to the end.
static KNOWN: LazyLock<Mutex<HashMap<u64, u64>>> = LazyLock::new(Mutex::default);

/// What is in the stream `source` of the format `id`; `is_checked` says whether the stream has checksums of it.
///
/// # Errors
/// [`Error::Damaged`] where it is damaged or cut; [`Error::Cancelled`].
pub(crate) fn measured(
    id: &'static str,
    source: &SourceRef,
    is_checked: bool,
    unpack: Unpack,
    watch: &dyn Watch,
) -> Result<SourceRef> {
    let inner = content(id, source, unpack, watch)?;
    Ok(if is_checked { Arc::new(Proven(inner)) } else { inner })
}

/// Bytes whose checksums were all found to hold when they were measured.
struct Proven(SourceRef);

impl Source for Proven {
    fn len(&self) -> u64 {
        self.0.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.0.read_at(offset, buf)
    }

    fn prefers_sequential(&self) -> bool {
        self.0.prefers_sequential()
    }

    fn is_checked(&self) -> bool {
        true
    }
}

fn content(id: &'static str, source: &SourceRef, unpack: Unpack, watch: &dyn Watch) -> Result<SourceRef> {
    let mark = mark(id, source.as_ref())?;
    let known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner).get(&mark).copied();
    let len = match known {
        Some(len) => len,
        None => match unpacked_once(id, source, unpack, watch)? {
            Measured::Held(bytes) => return Ok(Arc::new(Bytes(bytes))),
            Measured::Long(len) => {
                let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
                if known.len() < MOST_KNOWN {
                    known.insert(mark, len);
                }
                len
            }
        },
    };
    let own = source.clone();
    let begin = Box::new(move || {
        let started = unpack(Reader::new(own.clone(), 0));
        started.map_err(|e| told(id, &e, 0))
    });
    Ok(Arc::new(Forward::new(id, len, begin)))
}

/// What measuring found.
enum Measured {
    /// All of it: it is short.
    Held(Vec<u8>),
    /// Its length.
    Long(u64),
}

fn unpacked_once(id: &'static str, source: &SourceRef, unpack: Unpack, watch: &dyn Watch) -> Result<Measured> {
    let (mut held, mut len) = (Some(Vec::new()), 0u64);
    let mut block = vec![0; BLOCK];
    let mut reader = unpack(Reader::new(source.clone(), 0)).map_err(|e| told(id, &e, 0))?;
    loop {
        watch::check(watch)?;
        watch::going_on()?;
        let read = match reader.read(&mut block) {
            Ok(0) => break,
            Ok(read) => read,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => continue,
            Err(e) => return Err(told(id, &e, len)),
        };
        len += read as u64;
        match held.as_mut().filter(|_| len <= MOST_HELD) {
            Some(held) => held.extend_from_slice(&block[..read]),
            None => held = None,
        }
    }
    Ok(held.map_or(Measured::Long(len), Measured::Held))
}

/// Why unpacking ended at byte `at` of the content.
fn told(id: &'static str, error: &io::Error, at: u64) -> Error {
    if let Some(own) = error.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
        // What the packed bytes themselves are read with tells more than the decoder can.
        return Error::Damaged { what: own.to_string() };
    }
    match error.kind() {
        io::ErrorKind::UnexpectedEof => Error::Damaged {
            what: format!("the {id} ends too early, after {} of its content", tell::count(at, "byte", "bytes")),
        },
        io::ErrorKind::OutOfMemory => Error::unsupported(id, "a dictionary of more than 128 MiB"),
        _ => Error::Damaged {
            what: format!("the {id} cannot be unpacked beyond {} ({error})", tell::count(at, "byte", "bytes")),
        },
    }
}

/// What a stream is known again by.
fn mark(id: &str, source: &dyn Source) -> Result<u64> {
    let len = source.len();
    let edge = EDGE.min(len);
    let mut bytes = vec![0; edge as usize];
    let mut hasher = DefaultHasher::new();
    (id, len).hash(&mut hasher);
    for at in [0, len - edge] {
        source.read_at(at, &mut bytes)?;
        bytes.hash(&mut hasher);
    }
    Ok(hasher.finish())
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::read_vec;

    #[test]
    fn short_content_is_held_and_a_cut_is_told_with_its_place() {
        let whole: Unpack = |reader| Ok(Box::new(reader));
        let source: SourceRef = Arc::new(Bytes(b"kelp and tide".to_vec()));
        let found = measured("test", &source, false, whole, &()).unwrap();
        assert_eq!(read_vec(found.as_ref(), 5, 8, "x", 100).unwrap(), b"and tide");
        let cut: Unpack = |reader| Ok(Box::new(reader.chain(Failing(io::ErrorKind::UnexpectedEof))));
        let why = measured("test", &source, false, cut, &()).err().unwrap().to_string();
        assert!(why.contains("too early, after 13 bytes"), "{why}");
        let damaged: Unpack = |reader| Ok(Box::new(reader.chain(Failing(io::ErrorKind::InvalidData))));
        assert!(measured("test", &source, true, damaged, &()).err().unwrap().to_string().contains("beyond 13 bytes"));
    }

    struct Failing(io::ErrorKind);

    impl Read for Failing {
        fn read(&mut self, _: &mut [u8]) -> io::Result<usize> {
            Err(self.0.into())
        }
    }
}
