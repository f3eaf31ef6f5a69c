//! Views in any stack, each held against plain bytes: whatever is laid over whatever, every read is that of the model, no
//! read is short, and what an extent says of a place is true.

use decanter_core::digest::{self, Algorithm};
use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::head::Head;
use decanter_core::source::{Bytes, FileSource, Place, Source, SourceRef, read_array, read_vec};
use decanter_core::view::{
    Blocks, Blockwise, Cached, Checked, Concat, Fill, Forward, Gaps, Held, Lane, Locked, Overlay, Slice, Spaced, Woven,
    held,
};
use decanter_core::{Error, Guard, Result};
use proptest::prelude::*;
use std::io::{Cursor, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

fn bytes(len: usize, seed: u32) -> Vec<u8> {
    (0..len as u32).map(|i| ((i ^ seed).wrapping_mul(0x9e37_79b9) >> 21) as u8).collect()
}

fn memory(bytes: &[u8]) -> SourceRef {
    Arc::new(Bytes(bytes.to_vec()))
}

/// Blocks of plain bytes, as an unpacker would make them.
struct Plain {
    all: Vec<u8>,
    block: usize,
    made: Arc<AtomicUsize>,
}

impl Blocks for Plain {
    fn len(&self) -> u64 {
        self.all.len() as u64
    }

    fn count(&self) -> usize {
        self.all.len().div_ceil(self.block)
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        let index = offset as usize / self.block;
        (index, (index * self.block) as u64)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        self.made.fetch_add(1, Ordering::Relaxed);
        let end = ((index + 1) * self.block).min(self.all.len());
        Ok(self.all[index * self.block..end].to_vec())
    }
}

fn cached(all: &[u8], block: usize, most: usize) -> (Cached<Plain>, Arc<AtomicUsize>) {
    let made = Arc::new(AtomicUsize::new(0));
    (Cached::new(Plain { all: all.to_vec(), block, made: made.clone() }, most), made)
}

/// A stream that is read from its beginning, as an unpacker gives it.
fn forward(all: &[u8]) -> (Forward, Arc<AtomicUsize>) {
    let (all, begun) = (all.to_vec(), Arc::new(AtomicUsize::new(0)));
    let (len, count) = (all.len() as u64, begun.clone());
    let begin = move || -> Result<Box<dyn Read + Send>> {
        count.fetch_add(1, Ordering::Relaxed);
        Ok(Box::new(Cursor::new(all.clone())))
    };
    (Forward::new("test", len, Box::new(begin)), begun)
}

fn mirrored(block: &mut [u8]) {
    block.chunks_exact_mut(4).for_each(<[u8]>::reverse);
}

fn trouble() -> KeyTrouble {
    KeyTrouble { way: KeyWay::Alone, need: "the disc's key".into(), looked: Vec::new(), wrong: Vec::new() }
}

/// What is laid over a source, with two numbers that say where.
#[derive(Debug, Clone, Copy)]
enum Over {
    Slice,
    Concat,
    Overlay,
    Spaced,
    Lane,
    Woven,
    Blockwise,
    Held,
    Checked,
    Cached,
    Forward,
    Gaps,
    Locked,
}

const ALL: [Over; 13] = [
    Over::Slice,
    Over::Concat,
    Over::Overlay,
    Over::Spaced,
    Over::Lane,
    Over::Woven,
    Over::Blockwise,
    Over::Held,
    Over::Checked,
    Over::Cached,
    Over::Forward,
    Over::Gaps,
    Over::Locked,
];

/// Lays one view over a source, and does the same to plain bytes.
fn lay(over: Over, source: SourceRef, model: Vec<u8>, a: usize, b: usize) -> (SourceRef, Vec<u8>) {
    let len = model.len();
    let (a, b) = (a % (len + 1), b % (len + 1));
    let (from, to) = (a.min(b), a.max(b));
    match over {
        Over::Slice => {
            let view = Slice::new(source, from as u64, (to - from) as u64).unwrap();
            (Arc::new(view), model[from..to].to_vec())
        }
        Over::Concat => {
            let fill: SourceRef = Arc::new(Fill { byte: 0x5a, len: b as u64 });
            let view = Concat::new(vec![source.clone(), fill, source]).unwrap();
            (Arc::new(view), [&model[..], &vec![0x5a; b], &model].concat())
        }
        Over::Overlay => {
            let patch = bytes(to - from, 77);
            let mut own = model;
            own[from..to].copy_from_slice(&patch);
            (Arc::new(Overlay::new(source, vec![(from as u64, memory(&patch))]).unwrap()), own)
        }
        Over::Spaced => {
            let (stride, skip) = (7 + a % 20, b % 5);
            let take = 1 + a % (stride - skip);
            let units = model.chunks_exact(stride).flat_map(|u| u[skip..skip + take].to_vec()).collect();
            (Arc::new(Spaced::new(source, stride as u64, skip as u64, take as u64)), units)
        }
        Over::Lane => {
            let is_odd = a % 2 == 1;
            let own = model.iter().skip(usize::from(is_odd)).step_by(2).copied().collect();
            (Arc::new(Lane::new(source, is_odd)), own)
        }
        Over::Woven => {
            let other = bytes(len, 3);
            let own = model.iter().zip(&other).flat_map(|(x, y)| [*x, *y]).collect();
            (Arc::new(Woven::new(source, memory(&other)).unwrap()), own)
        }
        Over::Blockwise => {
            let mut own = model;
            let whole = own.len() / 4 * 4;
            mirrored(&mut own[..whole]);
            (Arc::new(Blockwise::new(source, 4, mirrored).unwrap()), own)
        }
        Over::Held => (Arc::new(Held::new(source)), model),
        Over::Checked => {
            let crc = crc(&model);
            (Arc::new(Checked::new(source, crc, "what was made")), model)
        }
        Over::Cached => (Arc::new(cached(&model, 1 + a % 300, 1 + b % 4).0), model),
        Over::Forward => (Arc::new(forward(&model).0), model),
        // No gap and no lock: then both hand on everything.
        Over::Gaps => (Arc::new(Gaps::new(source, Vec::new(), 16).unwrap()), model),
        Over::Locked => (Arc::new(Locked::new(source, Arc::new([]), trouble())), model),
    }
}

fn crc(bytes: &[u8]) -> u32 {
    u32::from_str_radix(&digest::of_bytes(Algorithm::Crc32, bytes).hex(), 16).unwrap()
}

/// Holds a source against the bytes that it should have.
fn hold(source: &SourceRef, model: &[u8], reads: &[(usize, usize)], told: &str) {
    let len = model.len();
    assert_eq!(source.len(), len as u64, "{told}");
    assert_eq!(source.is_empty(), model.is_empty(), "{told}");
    for (a, b) in reads.iter().chain(&[(0, len), (0, 0), (len, len)]) {
        let (a, b) = (a % (len + 1), b % (len + 1));
        let (from, to) = (a.min(b), a.max(b));
        // What is in the buffer before is of no account.
        let mut buf = vec![0xaa; to - from];
        source.read_at(from as u64, &mut buf).unwrap_or_else(|e| panic!("{told}: {from}..{to}: {e}"));
        assert!(buf == model[from..to], "{told}: {from}..{to} differs");
    }
    for (offset, more) in [(len as u64, 1), (0, len + 1), (u64::MAX, 1), (u64::MAX - 2, 8)] {
        let past = source.read_at(offset, &mut vec![0; more]);
        assert!(matches!(past, Err(Error::PastEnd { .. })), "{told}: {offset} and {more} bytes: {past:?}");
    }
    let mut at = 0;
    while at < source.len() {
        let extent = source.extent_at(at).unwrap();
        assert!(extent.len > 0 && at + extent.len <= source.len(), "{told}: extent at {at} of {}", extent.len);
        let own = &model[at as usize..(at + extent.len) as usize];
        match extent.place {
            Place::File { file, offset } => {
                let mut there = vec![0; own.len()];
                decanter_core::os::read_exact_at(&file, &mut there, offset).unwrap();
                assert!(there == own, "{told}: the file does not have the bytes at {at}");
            }
            Place::Fill(byte) => assert!(own.iter().all(|b| *b == byte), "{told}: no fill at {at}"),
            Place::Computed => {}
        }
        at += extent.len;
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn any_stack_of_views_reads_as_its_model(
        len in 0usize..3000,
        layers in proptest::collection::vec((0usize..ALL.len(), any::<u16>(), any::<u16>()), 0..5),
        reads in proptest::collection::vec((any::<usize>(), any::<usize>()), 1..12),
        is_file in any::<bool>(),
    ) {
        let mut model = bytes(len, 1);
        // A stretch of zeros, which a file may keep as a hole.
        let middle = len / 3..len / 2;
        model[middle].fill(0);
        let folder = tempfile::tempdir().unwrap();
        let mut source = memory(&model);
        if is_file {
            let path = folder.path().join("base");
            std::fs::write(&path, &model).unwrap();
            source = Arc::new(FileSource::open(&path, &Guard::default()).unwrap());
        }
        let mut told = String::new();
        for (kind, a, b) in layers {
            if model.len() > 40_000 {
                break;
            }
            told = format!("{told} {:?}({a}, {b})", ALL[kind]);
            (source, model) = lay(ALL[kind], source, model, a.into(), b.into());
        }
        hold(&source, &model, &reads, &told);
        let settled = source.settle(&());
        prop_assert!(settled.is_ok(), "{told}");
    }
}

#[test]
fn kept_blocks_are_made_once_on_the_way_and_again_only_when_they_were_dropped() {
    let model = bytes(10_000, 5);
    let (view, made) = cached(&model, 1000, 2);
    let mut buf = vec![0; 10];
    (0..1000).for_each(|i| view.read_at(i * 10, &mut buf).unwrap());
    assert_eq!(made.load(Ordering::Relaxed), 10, "front to back each block is made once");
    view.read_at(9000, &mut buf).unwrap();
    view.read_at(8000, &mut buf).unwrap();
    assert_eq!(made.load(Ordering::Relaxed), 10, "the last two are still there");
    view.read_at(0, &mut buf).unwrap();
    assert_eq!(made.load(Ordering::Relaxed), 11, "the first was dropped");
    view.read_at(8000, &mut buf).unwrap();
    assert_eq!(made.load(Ordering::Relaxed), 11, "the one that was used last is kept");
}

#[test]
fn a_stream_goes_on_where_it_was_and_begins_anew_only_backwards() {
    let model = bytes(300_000, 9);
    let (view, begun) = forward(&model);
    let mut buf = vec![0; 1000];
    for at in [0u64, 1000, 90_000, 250_000] {
        view.read_at(at, &mut buf).unwrap();
        assert!(buf == model[at as usize..at as usize + 1000]);
    }
    assert_eq!(begun.load(Ordering::Relaxed), 1);
    view.read_at(249_999, &mut buf).unwrap();
    assert!(buf == model[249_999..250_999]);
    assert_eq!(begun.load(Ordering::Relaxed), 2);
}

#[test]
fn a_stream_that_ends_too_early_is_damaged_there_and_reads_again_before() {
    let model = bytes(5000, 2);
    let all = model[..4000].to_vec();
    let begin = move || -> Result<Box<dyn Read + Send>> { Ok(Box::new(Cursor::new(all.clone()))) };
    let view = Forward::new("zip", 5000, Box::new(begin));
    let told = view.read_at(3500, &mut [0; 1000]).unwrap_err().to_string();
    assert!(told.contains("damaged near its byte 3500"), "{told}");
    let mut buf = [0; 100];
    view.read_at(100, &mut buf).unwrap();
    assert!(buf == model[100..200]);
    assert!(view.read_at(4000, &mut [0]).is_err());
}

#[test]
fn an_error_of_what_is_packed_passes_through_a_decoder_as_it_is() {
    struct Locks;
    impl Read for Locks {
        fn read(&mut self, _: &mut [u8]) -> std::io::Result<usize> {
            Err(std::io::Error::other(Error::Unreadable { why: "the medium has a scratch".into() }))
        }
    }
    let view = Forward::new("zip", 10, Box::new(|| Ok(Box::new(Locks))));
    assert_eq!(view.read_at(0, &mut [0]).unwrap_err().to_string(), "the medium has a scratch");
}

#[test]
fn what_is_held_is_read_once_and_a_failure_is_not_held() {
    struct Fickle(AtomicUsize);
    impl Source for Fickle {
        fn len(&self) -> u64 {
            4
        }
        fn read_at(&self, _: u64, buf: &mut [u8]) -> Result<()> {
            match self.0.fetch_add(1, Ordering::Relaxed) {
                0 => Err(Error::Unreadable { why: "not now".into() }),
                _ => {
                    buf.fill(7);
                    Ok(())
                }
            }
        }
        fn prefers_sequential(&self) -> bool {
            true
        }
    }
    let inner = Arc::new(Fickle(AtomicUsize::new(0)));
    let view = held(&(inner.clone() as SourceRef));
    assert!(view.read_at(0, &mut [0]).is_err());
    for _ in 0..3 {
        assert_eq!(read_array::<4>(view.as_ref(), 0).unwrap(), [7; 4]);
    }
    assert_eq!(inner.0.load(Ordering::Relaxed), 2);
    // What can be read at random is not copied.
    let plain = memory(&[1, 2, 3]);
    assert!(Arc::ptr_eq(&held(&plain), &plain));
}

#[test]
fn a_glance_into_a_stream_does_not_unpack_all_of_it() {
    let model = vec![3; 6 << 20];
    let (view, _) = forward(&model);
    let glance = Head::glance(&view);
    assert_eq!(read_array::<4>(&glance, 4 << 10).unwrap(), [3; 4]);
    let far = glance.read_at(5 << 20, &mut [0; 16]);
    assert!(matches!(far, Err(Error::Limit { limit, .. }) if limit == 4 << 20), "{far:?}");
    let (view, _) = forward(&model);
    assert!(Head::new(&view).read_at(5 << 20, &mut [0; 16]).is_ok());
}

#[test]
fn damage_behind_the_first_bytes_does_not_hide_them_from_a_glance() {
    let gaps = Gaps::new(memory(&[9; 4096]), vec![1024..2048], 512).unwrap();
    let glance = Head::glance(&gaps);
    assert_eq!(read_array::<16>(&glance, 0).unwrap(), [9; 16]);
    assert!(glance.read_at(1000, &mut [0; 100]).is_err());
    assert_eq!(read_array::<16>(&glance, 3000).unwrap(), [9; 16]);
}

#[test]
fn locked_ranges_ask_for_their_key_and_nothing_else_does() {
    let view = Locked::new(memory(&[1; 100]), Arc::new([10..20, 90..100]), trouble());
    for (from, to, is_open) in [(0u64, 10u64, true), (0, 11, false), (15, 15, true), (20, 90, true), (89, 91, false)] {
        let read = view.read_at(from, &mut vec![0; (to - from) as usize]);
        assert_eq!(read.is_ok(), is_open, "{from}..{to}: {read:?}");
        assert!(is_open || matches!(read, Err(Error::Key(_))));
    }
}

#[test]
fn what_cannot_be_put_together_is_refused() {
    let two = memory(&[1, 2]);
    assert!(matches!(Slice::new(two.clone(), 1, 2), Err(Error::PastEnd { .. })));
    assert!(matches!(Slice::new(two.clone(), u64::MAX, 2), Err(Error::PastEnd { .. })));
    assert!(Woven::new(two.clone(), memory(&[1, 2, 3])).is_err(), "the odd bytes cannot be more");
    assert!(Woven::new(memory(&[1, 2, 3]), two.clone()).is_ok(), "the last byte is an even one");
    assert!(matches!(Blockwise::new(two.clone(), 0, mirrored), Err(Error::Usage(_))));
    let crossed = vec![(0, two.clone()), (1, memory(&[5]))];
    assert!(matches!(Overlay::new(memory(&[0; 8]), crossed), Err(Error::Usage(_))));
    assert!(matches!(Overlay::new(two.clone(), vec![(1, two.clone())]), Err(Error::PastEnd { .. })));
    assert!(matches!(Gaps::new(two, Vec::new(), 0), Err(Error::Usage(_))));
    let endless = |_: u32| -> SourceRef { Arc::new(Fill { byte: 0, len: u64::MAX / 2 + 1 }) };
    assert!(Concat::new((0..3).map(endless).collect()).is_err(), "the length would wrap");
}

#[test]
fn a_length_out_of_a_header_costs_nothing_before_it_is_known_to_be_there() {
    let few = memory(&[0; 16]);
    let asked = read_vec(few.as_ref(), 0, 1 << 40, "a table", 1 << 50);
    assert!(matches!(asked, Err(Error::PastEnd { asked, .. }) if asked == 1 << 40), "{asked:?}");
    let asked = read_vec(few.as_ref(), 0, 8, "a table", 7);
    assert!(matches!(asked, Err(Error::Limit { what: "a table", asked: 8, limit: 7 })), "{asked:?}");
    assert_eq!(read_vec(few.as_ref(), 16, 0, "a table", 7).unwrap(), Vec::<u8>::new());
}
