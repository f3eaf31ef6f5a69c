//! The image inside, read at random.

use super::codec::Unpacker;
use super::hunks::Hunks;
use crate::noticed::first_of;
use decanter_core::Result;
use decanter_core::error::Blame;
use decanter_core::source::{Source, check_range};
use decanter_core::threads;
use decanter_core::view::{Blocks, Cached};
use decanter_core::watch::{self, Watch};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Bytes of unpacked hunks that are kept for small reads.
const MOST_KEPT: usize = 1 << 20;

/// The image inside.
pub(super) struct View {
    hunks: Arc<Hunks>,
    kept: Cached<Kept>,
}

/// Hunks one by one, for reads of a part of one.
struct Kept(Arc<Hunks>);

impl Blocks for Kept {
    fn len(&self) -> u64 {
        self.0.image_len()
    }

    fn count(&self) -> usize {
        self.0.count() as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        let hunk_len = self.0.hunk_len() as u64;
        (self.0.itself(offset / hunk_len) as usize, offset / hunk_len * hunk_len)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; self.0.hunk_len()];
        self.0.unpack(index as u64, &mut Unpacker::new(), &mut bytes)?;
        Ok(bytes)
    }
}

impl View {
    pub(super) fn new(hunks: Hunks) -> Self {
        let hunks = Arc::new(hunks);
        let most = MOST_KEPT / hunks.hunk_len();
        Self { kept: Cached::new(Kept(hunks.clone()), most), hunks }
    }

    /// Tries every hunk, on all processors: the damaged ones, in words.
    ///
    /// # Errors
    /// What the file is not to blame for: reading failed, the user stopped.
    pub(super) fn damaged_hunks(&self, watch: &dyn Watch) -> Result<Vec<String>> {
        let (next, found) = (AtomicU64::new(0), Mutex::new(Vec::new()));
        let work = || self.try_hunks(&next, &found, watch);
        threads::on_all(work)?;
        Ok(first_of(found.into_inner().unwrap_or_else(PoisonError::into_inner), "hunk"))
    }

    /// Takes hunks off `next` until there are none, and adds those that are damaged to `found`.
    fn try_hunks(&self, next: &AtomicU64, found: &Mutex<Vec<(u64, String)>>, watch: &dyn Watch) -> Result<()> {
        let (mut worker, mut out) = (Unpacker::new(), vec![0; self.hunks.hunk_len()]);
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            if number >= self.hunks.count() {
                return Ok(());
            }
            if number.is_multiple_of(256) {
                watch::check(watch)?;
            }
            match self.hunks.unpack(number, &mut worker, &mut out) {
                Ok(()) => {}
                Err(e) if e.blame() == Blame::Source => {
                    found.lock().unwrap_or_else(PoisonError::into_inner).push((number, e.to_string()))
                }
                Err(e) => return Err(e),
            }
        }
    }
}

impl Source for View {
    fn len(&self) -> u64 {
        self.hunks.image_len()
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let hunk_len = self.hunks.hunk_len();
        while !buf.is_empty() {
            let into = (offset % hunk_len as u64) as usize;
            // Whole hunks go straight to where they belong; of others the part that is asked for.
            let is_whole = into == 0 && buf.len() >= hunk_len;
            let len = if is_whole { buf.len() / hunk_len * hunk_len } else { buf.len().min(hunk_len - into) };
            let (now, later) = buf.split_at_mut(len);
            match is_whole {
                true => self.hunks.unpack_all(offset / hunk_len as u64, now, &self.kept)?,
                false => self.kept.read_at(offset, now)?,
            }
            offset += len as u64;
            buf = later;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::header::Header;
    use super::super::map::Map;
    use super::*;
    use decanter_core::Error;
    use decanter_core::source::{Bytes, SourceRef};
    use proptest::prelude::*;

    const HUNK: usize = 64;

    /// A version 5 image that is not packed, after docs/formats/chd.md: hunks of 64 bytes, by their places in hunks.
    fn image(places: &[u32], len: u64) -> Vec<u8> {
        let mut file = b"MComprHD".to_vec();
        file.extend([&124u32.to_be_bytes()[..], &5u32.to_be_bytes(), &[0; 16], &len.to_be_bytes()].concat());
        file.extend([&124u64.to_be_bytes()[..], &0u64.to_be_bytes()].concat());
        file.extend([(HUNK as u32).to_be_bytes(), (HUNK as u32).to_be_bytes()].concat());
        file.resize(124, 0);
        places.iter().for_each(|place| file.extend(place.to_be_bytes()));
        file.resize(file.len().next_multiple_of(HUNK), 0);
        file
    }

    fn view(file: SourceRef) -> View {
        let header = Header::read(file.as_ref()).unwrap();
        let map = Map::read(file.as_ref(), &header).unwrap();
        View::new(Hunks::new(file, header, map, None))
    }

    /// Three hunks, of which the second was never written, and the last is the first in the file and only in part the image's.
    fn three() -> (Vec<u8>, Vec<u8>) {
        let mut file = image(&[4, 0, 3], 2 * HUNK as u64 + 10);
        assert_eq!(file.len(), 3 * HUNK);
        file.extend([[0xaa; HUNK], [0xbb; HUNK]].concat());
        (file, [&[0xbb; HUNK][..], &[0; HUNK], &[0xaa; 10]].concat())
    }

    proptest! {
        #[test]
        fn any_range_is_that_of_the_image(from in 0usize..138, len in 0usize..138) {
            let (file, image) = three();
            let (view, end) = (view(Arc::new(Bytes(file))), (from + len).min(image.len()));
            let mut read = vec![1; end - from];
            view.read_at(from as u64, &mut read).unwrap();
            prop_assert_eq!(read, &image[from..end]);
        }
    }

    #[test]
    fn what_reaches_past_the_end_is_told_with_its_place() {
        let (file, _) = three();
        let view = view(Arc::new(Bytes(file[..4 * HUNK + 5].to_vec())));
        let told = view.damaged_hunks(&()).unwrap();
        assert_eq!(told.len(), 1, "{told:?}");
        assert!(told[0].contains("hunk 0 (from byte 0x0 of the image)") && told[0].contains("past the end"));
        assert!(view.read_at(0, &mut [0; HUNK]).is_err() && view.read_at(5, &mut [0; 3]).is_err());
        view.read_at(HUNK as u64, &mut [0; HUNK + 10]).unwrap();
    }

    /// A file that counts how many bytes are read of it.
    struct Counting(Bytes, AtomicU64);

    impl Source for Counting {
        fn len(&self) -> u64 {
            self.0.len()
        }

        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
            self.1.fetch_add(buf.len() as u64, Ordering::Relaxed);
            self.0.read_at(offset, buf)
        }
    }

    /// Eight times the same hunk of 4 KiB and one of another kind, packed by this program; and the image.
    fn alike() -> (Vec<u8>, Vec<u8>) {
        use super::super::compose::{Medium, Wish, compose};
        let noise: Vec<u8> = (0..4096u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        let image = [noise.repeat(8), vec![1; 100], vec![2; 3996]].concat();
        let codecs = vec![super::super::codec::Codec::Zstd];
        let wish = Wish { codecs, level: 3, hunk_len: Some(4096), parent: None };
        let (blueprint, _) = compose(&Medium::HardDisk(Arc::new(Bytes(image.clone()))), wish).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let (path, guard) = (folder.path().join("a.chd"), decanter_core::Guard::default());
        let door = decanter_core::Door { guard: &guard, replace: false };
        decanter_core::pour::pour(decanter_core::pour::Output::new(&blueprint, &path), door, &()).unwrap();
        (std::fs::read(&path).unwrap(), image)
    }

    #[test]
    fn hunks_that_are_the_same_are_unpacked_once_however_many_threads_want_them() {
        let (file, image) = alike();
        let counting = Arc::new(Counting(Bytes(file), AtomicU64::new(0)));
        let view = view(counting.clone());
        let before = counting.1.load(Ordering::Relaxed);
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    for (at, len) in [(0, image.len()), (4096, 8192), (10, 5000), (8192, 4096)] {
                        let mut read = vec![0; len];
                        view.read_at(at as u64, &mut read).unwrap();
                        assert!(read == image[at..at + len]);
                    }
                });
            }
        });
        let read = counting.1.load(Ordering::Relaxed) - before;
        // A thread may read the packed bytes of a run before it learns that another has unpacked them.
        assert!(read < 8 * 2 * 4096, "{read} bytes were read of a packed hunk of 4096");
    }

    /// A file on a medium that fails from the hunks on.
    struct Failing(Bytes);

    impl Source for Failing {
        fn len(&self) -> u64 {
            self.0.len()
        }

        fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
            if offset >= 3 * HUNK as u64 {
                return Err(Error::io("read", "disk".as_ref(), std::io::Error::other("worn out")));
            }
            self.0.read_at(offset, buf)
        }
    }

    #[test]
    fn a_medium_that_fails_is_no_damage_of_the_image() {
        let view = view(Arc::new(Failing(Bytes(three().0))));
        assert!(matches!(view.damaged_hunks(&()), Err(Error::Io { .. })));
        struct Stopped;
        impl Watch for Stopped {
            fn cancelled(&self) -> bool {
                true
            }
        }
        assert!(matches!(view.damaged_hunks(&Stopped), Err(Error::Cancelled)));
    }
}
