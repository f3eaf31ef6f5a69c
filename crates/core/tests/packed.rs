//! Packed parts, several outputs at once, files that stay unfinished, and blocks that are kept.

use decanter_core::blueprint::{Blueprint, PackWorker, Packer};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::pour::{self, Output, Partial};
use decanter_core::source::{Bytes, Source, SourceRef};
use decanter_core::view::{Blocks, Cached};
use decanter_core::{Door, Error, Guard, Result};
use proptest::prelude::*;
use std::fs;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};

fn door(replace: bool) -> Door<'static> {
    static GUARD: LazyLock<Guard> = LazyLock::new(Guard::default);
    Door { guard: &GUARD, replace }
}

/// Packs by leaving every byte out that is the same as the one before it: simple, and of a length nobody knows before.
struct Squeeze(usize);

impl Packer for Squeeze {
    fn batch_len(&self) -> usize {
        self.0
    }

    fn worker(&self) -> Result<Box<dyn PackWorker>> {
        Ok(Box::new(SqueezeWorker))
    }
}

struct SqueezeWorker;

impl PackWorker for SqueezeWorker {
    fn pack(&mut self, _at: u64, raw: &[u8], packed: &mut Vec<u8>, marks: &mut Vec<u32>) -> Result<()> {
        if raw.first() == Some(&0xee) {
            return Err(Error::Usage("a worker that fails".into()));
        }
        let bytes = squeezed(raw);
        marks.push(bytes.len() as u32);
        packed.extend(bytes);
        Ok(())
    }
}

fn squeezed(raw: &[u8]) -> Vec<u8> {
    let mut bytes = raw.to_vec();
    bytes.dedup();
    bytes
}

/// A header that knows how long each packed chunk is, the packed bytes, and a tail.
fn blueprint(data: &[u8], batch: usize) -> Blueprint {
    let mut blueprint = Blueprint::new();
    let count = data.len().div_ceil(batch);
    let head = blueprint.late(4 * count as u64 + 4);
    let body = blueprint.packed(Arc::new(Bytes(data.to_vec())), Arc::new(Squeeze(batch)));
    blueprint.measure(body, Algorithm::Crc32);
    blueprint.source(Arc::new(Bytes(b"tail".to_vec())));
    let make = move |known: &decanter_core::blueprint::Known<'_>| {
        let mut bytes = known.digest(body, Algorithm::Crc32)?.to_vec();
        known.marks(body).iter().for_each(|m| bytes.extend(m.to_le_bytes()));
        Ok(bytes)
    };
    blueprint.compute(head, &[body], Arc::new(make)).unwrap();
    blueprint
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
#[test]
    fn packed_chunks_stand_in_order_behind_a_header_that_knows_them(
        data in proptest::collection::vec(0u8..4, 0..5000),
        batch in 1usize..700,
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("out");
        let poured = pour::pour(Output::new(&blueprint(&data, batch), &path).with_digests(&[Algorithm::Sha1]), door(false), &()).unwrap();
        let mut wanted = of_bytes(Algorithm::Crc32, &data).bytes;
        let chunks: Vec<Vec<u8>> = data.chunks(batch).map(squeezed).collect();
        chunks.iter().for_each(|c| wanted.extend((c.len() as u32).to_le_bytes()));
        wanted.extend(chunks.concat());
        wanted.extend(b"tail");
        let found = fs::read(&path).unwrap();
        prop_assert_eq!(poured.bytes, found.len() as u64);
        prop_assert_eq!(&poured.digests[0], &of_bytes(Algorithm::Sha1, &wanted));
        prop_assert!(found == wanted);
    }
}

#[test]
fn a_worker_that_fails_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let mut data = vec![1; 10_000];
    data[5000] = 0xee;
    let result = pour::pour(Output::new(&blueprint(&data, 1000), &folder.path().join("out")), door(false), &());
    assert!(matches!(result, Err(Error::Usage(why)) if why.contains("fails")));
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
}

#[test]
fn outputs_that_belong_together_appear_together_or_not_at_all() {
    let folder = tempfile::tempdir().unwrap();
    let (a, b) = (folder.path().join("a"), folder.path().join("b"));
    let part = |text: &str| Blueprint::of(Arc::new(Bytes(text.as_bytes().to_vec())));
    let (one, two) = (part("one"), part("two"));
    let list = [Output::new(&one, &a), Output::new(&two, &b)];
    let mut seen: Vec<PathBuf> = Vec::new();
    let refused = pour::pour_all(&list, door(false), &(), &mut |paths| {
        seen = paths.to_vec();
        assert_eq!(fs::read(&paths[1]).unwrap(), b"two");
        Err(Error::Usage("not good enough".into()))
    });
    assert!(refused.is_err() && seen.len() == 2);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
    pour::pour_all(&list, door(false), &(), &mut |_| Ok(())).unwrap();
    assert_eq!((fs::read(&a).unwrap(), fs::read(&b).unwrap()), (b"one".to_vec(), b"two".to_vec()));
    fs::remove_file(&a).unwrap();
    assert!(matches!(pour::pour_all(&list, door(false), &(), &mut |_| Ok(())), Err(Error::Exists { .. })));
    assert!(!a.exists(), "b is there, so a is not written either");
}

#[test]
fn a_partial_file_says_so_until_it_is_finished() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("disc.iso");
    let partial = Partial::open(&target, door(false), false, 8192, 8192).unwrap();
    partial.write(b"second", 4096).unwrap();
    assert_eq!(partial.path(), folder.path().join("disc.iso.incomplete"));
    drop(partial);
    assert!(!target.exists());
    let again = Partial::open(&target, door(false), true, 8192, 8192).unwrap();
    again.write(b"first", 0).unwrap();
    again.finish().unwrap();
    let bytes = fs::read(&target).unwrap();
    assert_eq!((bytes.len(), &bytes[..5], &bytes[4096..4102]), (8192, &b"first"[..], &b"second"[..]));
    assert!(!Partial::path_of(&target).exists());
    assert!(matches!(Partial::open(&target, door(false), false, 8192, 8192), Err(Error::Exists { .. })));
    assert!(Partial::open(&target, door(true), false, 8192, 8192).is_ok());
}

/// Blocks of 1,000 bytes that count how often they are made; the seventh is damaged.
struct Made(Arc<AtomicUsize>);

impl Blocks for Made {
    fn len(&self) -> u64 {
        9_500
    }

    fn count(&self) -> usize {
        10
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        ((offset / 1000) as usize, offset / 1000 * 1000)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        self.0.fetch_add(1, Ordering::Relaxed);
        match index {
            7 => Err(Error::Unreadable { why: "block 7".into() }),
            9 => Ok(vec![9; 500]),
            _ => Ok(vec![index as u8; 1000]),
        }
    }
}

#[test]
fn blocks_are_made_once_while_they_are_kept_and_damage_costs_only_itself() {
    let count = Arc::new(AtomicUsize::new(0));
    let view = Cached::new(Made(count.clone()), 3);
    let mut buf = vec![0; 2500];
    view.read_at(500, &mut buf).unwrap();
    assert!(
        buf[..500].iter().all(|&b| b == 0)
            && buf[500..1500].iter().all(|&b| b == 1)
            && buf[1500..].iter().all(|&b| b == 2)
    );
    view.read_at(1000, &mut buf[..2000]).unwrap();
    assert_eq!(count.load(Ordering::Relaxed), 3, "all three were kept");
    assert!(view.read_at(6999, &mut [0; 2]).is_err());
    view.read_at(6999, &mut [0; 1]).unwrap();
    view.read_at(9499, &mut [0; 1]).unwrap();
    assert!(matches!(view.read_at(9499, &mut [0; 2]), Err(Error::PastEnd { .. })));
}

#[test]
fn many_readers_of_kept_blocks_see_the_same_bytes() {
    let view: SourceRef = Arc::new(Cached::new(Made(Arc::new(AtomicUsize::new(0))), 2));
    std::thread::scope(|scope| {
        for reader in 0..8u64 {
            let view = &view;
            scope.spawn(move || {
                for step in 0..200 {
                    let at = (reader * 977 + step * 431) % 6_900;
                    let mut buf = [0xff; 100];
                    view.read_at(at, &mut buf).unwrap();
                    let wanted: Vec<u8> = (at..at + 100).map(|o| (o / 1000) as u8).collect();
                    assert_eq!(buf[..], wanted);
                }
            });
        }
    });
}
