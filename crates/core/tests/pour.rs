//! Pour and the views, on real files.

use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::pour::{Output, Stage, pour};
use decanter_core::source::{Bytes, FileSource, Source, SourceRef};
use decanter_core::transform::Transform;
use decanter_core::view::{Ciphered, Concat, Direction, Fill, Overlay, SectorCbc, Slice};
use decanter_core::{Door, Error, Guard, Key, Result, Watch};
use proptest::prelude::*;
use std::fs;
use std::ops::Range;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, LazyLock};

fn noise(len: usize, seed: u32) -> Vec<u8> {
    let mut x = seed | 1;
    let next = |_| {
        x ^= x << 13;
        x ^= x >> 17;
        x ^= x << 5;
        (x >> 8) as u8
    };
    (0..len).map(next).collect()
}

fn memory(bytes: Vec<u8>) -> SourceRef {
    Arc::new(Bytes(bytes))
}

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        fs::read_dir(folder).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

/// A source that fails, or stops the work, at some offset.
struct Faulty {
    len: u64,
    fails_at: u64,
}

impl Source for Faulty {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        if offset + buf.len() as u64 > self.fails_at {
            let source = std::io::Error::other("the drive has gone");
            return Err(Error::io_at("read", Path::new("/dev/pier9"), offset, source));
        }
        buf.fill(7);
        Ok(())
    }
}

/// Asks for a stop once so many bytes are done.
struct StopAfter(u64, AtomicU64);

impl Watch for StopAfter {
    fn advance(&self, bytes: u64) {
        self.1.fetch_add(bytes, Ordering::Relaxed);
    }

    fn cancelled(&self) -> bool {
        self.1.load(Ordering::Relaxed) >= self.0
    }
}

fn door(replace: bool) -> Door<'static> {
    static GUARD: LazyLock<Guard> = LazyLock::new(Guard::default);
    Door { guard: &GUARD, replace }
}

#[test]
fn what_is_poured_is_what_was_described() {
    let folder = tempfile::tempdir().unwrap();
    let (a, b) = (noise(3_500_000, 1), noise(1_234_567, 2));
    let mut blueprint = Blueprint::new();
    blueprint.source(memory(a.clone()));
    blueprint.fill(0, 300_000);
    blueprint.source(memory(b.clone()));
    blueprint.fill(0xff, 70_000);
    let want = [a, vec![0; 300_000], b, vec![0xff; 70_000]].concat();
    let target = folder.path().join("out.bin");
    let poured = pour(Output::new(&blueprint, &target).with_digests(&Algorithm::ALL), door(false), &()).unwrap();
    assert!(fs::read(&target).unwrap() == want);
    let digests: Vec<_> = Algorithm::ALL.iter().map(|&x| of_bytes(x, &want)).collect();
    assert_eq!(poured.digests, digests);
    assert_eq!((poured.bytes, poured.hole_bytes), (want.len() as u64, 300_000));
    assert_eq!(names(folder.path()), ["out.bin"]);
}

#[test]
fn late_parts_are_written_back_in_the_order_of_their_needs() {
    let folder = tempfile::tempdir().unwrap();
    let body = noise(2_000_000, 3);
    let mut blueprint = Blueprint::new();
    // The seal covers the header, which covers the body: both stand before what they cover.
    let (seal, header) = (blueprint.late(20), blueprint.late(32));
    let content = blueprint.source(memory(body.clone()));
    blueprint.measure(header, Algorithm::Sha1);
    blueprint.measure(content, Algorithm::Sha256);
    blueprint.compute(seal, &[header], Arc::new(move |k| Ok(k.digest(header, Algorithm::Sha1)?.to_vec()))).unwrap();
    blueprint
        .compute(header, &[content], Arc::new(move |k| Ok(k.digest(content, Algorithm::Sha256)?.to_vec())))
        .unwrap();
    assert!(blueprint.as_source().is_err() && blueprint.compute(content, &[], Arc::new(|_| Ok(vec![]))).is_err());
    let target = folder.path().join("sealed");
    let poured = pour(Output::new(&blueprint, &target).with_digests(&[Algorithm::Md5]), door(false), &()).unwrap();
    let header = of_bytes(Algorithm::Sha256, &body).bytes;
    let seal = of_bytes(Algorithm::Sha1, &header).bytes;
    let want = [seal, header, body].concat();
    assert!(fs::read(&target).unwrap() == want);
    assert_eq!(poured.digests, [of_bytes(Algorithm::Md5, &want)]);
}

#[test]
fn late_parts_that_need_each_other_are_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let mut blueprint = Blueprint::new();
    let (first, second) = (blueprint.late(1), blueprint.late(1));
    assert!(pour(Output::new(&blueprint, &folder.path().join("x")), door(false), &()).is_err(), "not computed at all");
    blueprint.compute(first, &[second], Arc::new(|_| Ok(vec![0]))).unwrap();
    blueprint.compute(second, &[first], Arc::new(|_| Ok(vec![0]))).unwrap();
    assert!(pour(Output::new(&blueprint, &folder.path().join("x")), door(false), &()).is_err());
    assert!(names(folder.path()).is_empty());
}

#[test]
fn an_existing_target_is_only_replaced_on_request() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("out");
    fs::write(&target, "old").unwrap();
    let blueprint = Blueprint::of(memory(b"new".to_vec()));
    assert!(matches!(pour(Output::new(&blueprint, &target), door(false), &()), Err(Error::Exists { .. })));
    assert_eq!(fs::read(&target).unwrap(), b"old");
    pour(Output::new(&blueprint, &target), door(true), &()).unwrap();
    assert_eq!(fs::read(&target).unwrap(), b"new");
    fs::create_dir(folder.path().join("dir")).unwrap();
    assert!(matches!(
        pour(Output::new(&blueprint, &folder.path().join("dir")), door(true), &()),
        Err(Error::Exists { .. })
    ));
}

#[test]
fn a_read_error_or_a_stop_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("out");
    for fails_at in [0, 1, 5_000_000, 40_000_000] {
        let blueprint = Blueprint::of(Arc::new(Faulty { len: 50_000_000, fails_at }));
        let error =
            pour(Output::new(&blueprint, &target).with_digests(&[Algorithm::Md5]), door(false), &()).unwrap_err();
        assert!(matches!(error, Error::Io { op: "read", offset: Some(o), .. } if o <= fails_at), "{error}");
        assert!(names(folder.path()).is_empty());
    }
    let blueprint = Blueprint::of(Arc::new(Faulty { len: 50_000_000, fails_at: u64::MAX }));
    let stop = StopAfter(10_000_000, AtomicU64::new(0));
    assert!(matches!(pour(Output::new(&blueprint, &target), door(false), &stop), Err(Error::Cancelled)));
    assert!(names(folder.path()).is_empty());
}

#[test]
fn too_little_room_is_told_before_the_first_byte() {
    let folder = tempfile::tempdir().unwrap();
    let blueprint = Blueprint::of(Arc::new(Fill { byte: 1, len: 1 << 60 }));
    let error = pour(Output::new(&blueprint, &folder.path().join("x")), door(false), &()).unwrap_err();
    match error {
        Error::NoSpace { needed, .. } => assert_eq!(needed, 1 << 60),
        // Where nothing tells of free space, no file system here holds such a file.
        Error::Io { op: "reserve", .. } if cfg!(feature = "std-only") => {}
        error => panic!("{error}"),
    }
    assert!(names(folder.path()).is_empty());
}

#[test]
fn holes_stay_holes_and_file_bytes_stay_in_the_kernel() {
    let folder = tempfile::tempdir().unwrap();
    let sparse = folder.path().join("sparse");
    let file = fs::File::create(&sparse).unwrap();
    file.set_len(512 << 20).unwrap();
    decanter_core::os::write_all_at(&file, &noise(4 << 20, 4), 100 << 20).unwrap();
    let source: SourceRef = Arc::new(FileSource::own(&sparse).unwrap());
    let target = folder.path().join("copy");
    let poured = pour(Output::new(&Blueprint::of(source.clone()), &target), door(false), &()).unwrap();
    let copied = poured.kernel_bytes;
    assert!(copied == 4 << 20 || copied == 0, "{copied} bytes were copied by the kernel");
    let all = Algorithm::Crc32;
    let copy: SourceRef = Arc::new(FileSource::own(&target).unwrap());
    let digest = |s: &SourceRef| decanter_core::digest::of_source(s, &[all], &()).unwrap();
    assert_eq!(digest(&source), digest(&copy));
    // Only a system that tells of holes can keep them.
    #[cfg(all(unix, not(feature = "std-only")))]
    {
        let blocks = |path| std::os::unix::fs::MetadataExt::blocks(&fs::metadata(path).unwrap());
        if blocks(&sparse) < 100_000 {
            assert!(blocks(&target) <= blocks(&sparse) + 64, "the copy is not sparse");
        }
    }
}

#[cfg(unix)]
#[test]
fn a_stage_appears_as_a_whole_and_never_through_a_link() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("game");
    let write = |replace: bool, files: &[&str]| -> Result<()> {
        let mut stage = Stage::new(&target, door(replace), &())?;
        for name in files {
            let path = Path::new(name);
            stage.make_folder(path.parent().unwrap())?;
            stage.write(path, &Blueprint::of(memory(name.as_bytes().to_vec())), Some(1_000_000_000), &[], &())?;
            stage.add(path.to_owned());
        }
        stage.commit(&[(Path::new("sub").to_owned(), Some(1_000_000_001))])
    };
    write(false, &["sub/a"]).unwrap();
    assert_eq!(fs::read(target.join("sub/a")).unwrap(), b"sub/a");
    let then = |path: &str| fs::metadata(target.join(path)).unwrap().modified().unwrap();
    let since = |path: &str| then(path).duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    assert_eq!((since("sub/a"), since("sub")), (1_000_000_000, 1_000_000_001));
    assert!(matches!(write(false, &["sub/a"]), Err(Error::Exists { .. })));
    write(true, &["sub/a", "sub/b"]).unwrap();
    assert_eq!(names(&target.join("sub")), ["a", "b"]);
    // A link to a folder elsewhere: nothing may be written behind it.
    let elsewhere = tempfile::tempdir().unwrap();
    fs::remove_dir_all(target.join("sub")).unwrap();
    std::os::unix::fs::symlink(elsewhere.path(), target.join("sub")).unwrap();
    assert!(matches!(write(true, &["sub/c"]), Err(Error::Exists { .. })));
    assert!(names(elsewhere.path()).is_empty());
    assert_eq!(names(folder.path()), ["game"], "no stage is left behind");
}

/// FIPS 197, appendix C.1: with sector number 0 the initialisation vector is zero, so the first block is plain AES.
#[test]
fn the_cipher_is_aes_128_cbc_by_sector() {
    let key = Key::new((0..16).collect());
    let whole: Arc<[Range<u64>]> = Arc::from([0..4096]);
    let seal = SectorCbc::new(&key, Direction::Encrypt, 2048, whole).unwrap();
    let mut sectors = vec![0u8; 4096];
    let block: Vec<u8> = (0..16).map(|i| i * 0x11).collect();
    sectors[..16].copy_from_slice(&block);
    // In sector 1 the initialisation vector is 1: the same block again once that is taken off.
    sectors[2048..2064].copy_from_slice(&block);
    sectors[2063] ^= 1;
    seal.apply(0, &mut sectors);
    let want = [0x69, 0xc4, 0xe0, 0xd8, 0x6a, 0x7b, 0x04, 0x30, 0xd8, 0xcd, 0xb7, 0x80, 0x70, 0xb4, 0xc5, 0x5a];
    assert_eq!(sectors[..16], want);
    assert_eq!(sectors[2048..2064], want);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn views_read_the_same_whatever_the_cut(
        cuts in proptest::collection::vec(1usize..9_000, 1..8),
        patch_at in 0usize..20_000,
        patch_len in 1usize..5_000,
        first in 0u64..6,
        sectors in 1u64..4,
        reads in proptest::collection::vec((0usize..40_000, 0usize..9_000), 1..12),
    ) {
        // The reference is a vector; the views are parts joined, patched, and encrypted in one range of sectors.
        let len = 40 * 1024;
        let mut want = noise(len, 9);
        let mut parts: Vec<SourceRef> = Vec::new();
        let mut at = 0;
        for cut in cuts {
            let end = (at + cut).min(len);
            parts.push(memory(want[at..end].to_vec()));
            at = end;
        }
        parts.push(memory(want[at..].to_vec()));
        let joined: SourceRef = Arc::new(Concat::new(parts).unwrap());
        let patch = noise(patch_len, 5);
        want[patch_at..patch_at + patch_len].copy_from_slice(&patch);
        let patched: SourceRef = Arc::new(Overlay::new(joined, vec![(patch_at as u64, memory(patch))]).unwrap());
        let range = first * 2048..(first + sectors) * 2048;
        let cbc = SectorCbc::new(&Key::new(vec![3; 16]), Direction::Encrypt, 2048, Arc::from([range.clone()])).unwrap();
        cbc.apply(range.start, &mut want[range.start as usize..range.end as usize]);
        let view: SourceRef = Arc::new(Ciphered::new(patched, Arc::new(cbc)));
        for (from, size) in reads {
            let (from, size) = (from.min(len), size.min(len - from.min(len)));
            let mut buf = vec![0; size];
            view.read_at(from as u64, &mut buf).unwrap();
            prop_assert!(buf == want[from..from + size]);
            let slice = Slice::new(view.clone(), from as u64, size as u64).unwrap();
            let mut again = vec![0; size];
            slice.read_at(0, &mut again).unwrap();
            prop_assert!(again == buf);
            prop_assert!(slice.read_at(1, &mut again).is_err() || size == 0);
        }
        prop_assert!(Slice::new(view, 1, len as u64).is_err());
    }
}

/// One level of a hash tree over a run of parts, a sum over all of it, and the same in memory.
#[test]
fn blocks_of_a_run_are_hashed_and_late_parts_add_up() {
    let folder = tempfile::tempdir().unwrap();
    let mut blueprint = Blueprint::new();
    let header = blueprint.late(96);
    let first = blueprint.source(Arc::new(Bytes(vec![7; 5000])));
    blueprint.fill(0, 100);
    let last = blueprint.source(Arc::new(Bytes(vec![9; 4000])));
    blueprint.source(Arc::new(Bytes(vec![1; 333])));
    let run = blueprint.measure_blocks(first, last, 4096).unwrap();
    blueprint.compute(header, &[last], Arc::new(move |known| Ok(known.blocks(run).to_vec()))).unwrap();
    assert!(blueprint.measure_blocks(header, last, 4096).is_err(), "bytes of late parts do not pass by");

    let poured =
        pour(Output::new(&blueprint, &folder.path().join("a")).with_digests(&[Algorithm::Crc32]), door(false), &())
            .unwrap();
    let written = std::fs::read(&poured.path).unwrap();
    let mut run = [vec![7; 5000], vec![0; 100], vec![9; 4000]].concat();
    run.resize(3 * 4096, 0);
    let wanted: Vec<u8> = run.chunks(4096).flat_map(|b| of_bytes(Algorithm::Sha256, b).bytes).collect();
    assert_eq!(written[..96], wanted);
    assert_eq!(poured.digests, [of_bytes(Algorithm::Crc32, &written)]);
    assert_eq!(decanter_core::pour::to_memory(&blueprint, 1 << 20, &()).unwrap(), written);
    assert!(decanter_core::pour::to_memory(&blueprint, 100, &()).is_err());
}

#[test]
fn what_has_to_hold_is_checked_before_the_name_is_given() {
    let folder = tempfile::tempdir().unwrap();
    let mut blueprint = Blueprint::new();
    let first = blueprint.source(Arc::new(Bytes(vec![7; 3 << 20])));
    let last = blueprint.source(Arc::new(Bytes(vec![8; 5])));
    let run = blueprint.measure_whole(first, last).unwrap();
    let whole = of_bytes(Algorithm::Sha256, &[vec![7; 3 << 20], vec![8; 5]].concat()).bytes;
    let mut good = blueprint.clone();
    let refuse = || Err(Error::Unreadable { why: "it is another".into() });
    good.check(Arc::new(move |known| if known.blocks(run) == whole { Ok(()) } else { refuse() }));
    pour(Output::new(&good, &folder.path().join("good")), door(false), &()).unwrap();
    blueprint.check(Arc::new(move |known| if known.blocks(run) == [0; 32] { Ok(()) } else { refuse() }));
    assert!(pour(Output::new(&blueprint, &folder.path().join("bad")), door(false), &()).is_err());
    assert!(decanter_core::pour::to_memory(&blueprint, 1 << 30, &()).is_err());
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left of the other");
}
