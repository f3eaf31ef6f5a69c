//! Sources that are not on this machine: every job takes them by their address, with what lies beside them.

use crate::common::{demo, tree, typed, zip_of};
use decanter_core::digest::Algorithm;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::store::{Met, MetKind, Store};
use decanter_core::{Error, Result};
use decanter_jobs::verify::{Verdict, verify, verify_all};
use decanter_jobs::{Setting, convert, digest, extract, identify, open};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

const SCHEME: &str = "pier://";

/// A shelf somewhere else: files by their whole addresses.
#[derive(Default)]
struct Elsewhere {
    files: BTreeMap<String, Vec<u8>>,
    opened: AtomicUsize,
}

impl Elsewhere {
    fn with(files: &[(&str, Vec<u8>)]) -> Arc<Self> {
        let files = files.iter().map(|(name, bytes)| (format!("{SCHEME}{name}"), bytes.clone())).collect();
        Arc::new(Self { files, opened: AtomicUsize::new(0) })
    }

    /// Paths below a folder, with the folders on the way.
    fn below(&self, folder: &str) -> BTreeSet<String> {
        let folder = format!("{}/", folder.trim_end_matches('/'));
        let rest = self.files.keys().filter_map(|path| path.strip_prefix(&folder));
        rest.flat_map(|rest| rest.match_indices('/').map(|(at, _)| rest[..at].to_owned()).chain([rest.to_owned()]))
            .collect()
    }
}

impl Store for Elsewhere {
    fn has(&self, path: &str) -> bool {
        path.starts_with(SCHEME)
    }

    fn is_folder(&self, path: &str) -> Result<bool> {
        match (self.files.contains_key(path), self.below(path).is_empty()) {
            (true, _) => Ok(false),
            (false, false) => Ok(true),
            (false, true) => Err(Error::io("open", path.as_ref(), std::io::ErrorKind::NotFound.into())),
        }
    }

    fn open(&self, path: &str) -> Result<SourceRef> {
        self.opened.fetch_add(1, Ordering::Relaxed);
        let bytes = self.files.get(path).ok_or(std::io::ErrorKind::NotFound);
        Ok(Arc::new(Bytes(bytes.map_err(|kind| Error::io("open", path.as_ref(), kind.into()))?.clone())))
    }

    fn names(&self, folder: &str, most: usize) -> Vec<String> {
        self.below(folder).into_iter().filter(|p| !p.contains('/')).take(most).collect()
    }

    fn walk(&self, folder: &str, met: &mut dyn FnMut(Met) -> Result<()>) -> Result<()> {
        for below in self.below(folder) {
            let path = format!("{}/{below}", folder.trim_end_matches('/'));
            let kind = if self.files.contains_key(&path) { MetKind::File } else { MetKind::Folder };
            met(Met { path, below, kind, listed: None })?;
        }
        Ok(())
    }

    fn local(&self, _: &str) -> Option<PathBuf> {
        None
    }
}

fn setting(store: &Arc<Elsewhere>) -> Setting<'static> {
    let mut setting = Setting::new(&());
    setting.stores.push(store.clone());
    setting
}

/// The demo's encrypted disc with its key beside it, the same disc in an archive, a split one, and a damaged one.
fn shelf() -> Arc<Elsewhere> {
    let disc = fs::read(&demo().image).unwrap();
    let mut damaged = disc.clone();
    let middle = damaged.len() / 2;
    damaged[middle] ^= 1;
    let half = disc.len() / 2;
    let key = fs::read(&demo().key).unwrap();
    let name = demo().key.file_name().unwrap().to_str().unwrap();
    let description = fs::read(&demo().description).unwrap();
    Elsewhere::with(&[
        ("shelf/disc.iso", disc.clone()),
        ("shelf/in/box.zip", zip_of(&[("inner.iso", &disc), ("note.txt", b"kelp")])),
        ("shelf/in/half.iso.0", disc[..half].to_vec()),
        ("shelf/in/half.iso.1", disc[half..].to_vec()),
        ("shelf/bad/disc.iso", damaged),
        ("shelf/bad/disc.ird", description.clone()),
        ("shelf/disc.ird", description),
        (&format!("shelf/{name}"), key.clone()),
        (&format!("shelf/bad/{name}"), key),
    ])
}

#[test]
fn a_disc_elsewhere_is_opened_with_the_key_beside_it() {
    let store = shelf();
    let setting = setting(&store);
    let item = open("pier://shelf/disc.iso", "open", &setting).unwrap_or_else(|f| panic!("{f}"));
    assert_eq!((item.stem.as_str(), item.opened.get("id")), ("disc", Some("DCNT-10001")));
    let report = verify("pier://shelf/disc.iso", &[], &setting).unwrap_or_else(|f| panic!("{f}"));
    assert_eq!(report.verdict, Verdict::Match, "the description beside it was found: {}", report.next);
    let bad = verify("pier://shelf/bad/disc.iso", &[], &setting).unwrap_or_else(|f| panic!("{f}"));
    assert!(!bad.verdict.is_good());
    let gone = open("pier://shelf/gone.iso", "open", &setting).err().unwrap();
    assert!(gone.to_string().contains("pier://shelf/gone.iso"));
}

#[test]
fn archives_and_parts_elsewhere_are_looked_through() {
    let store = shelf();
    let setting = setting(&store);
    let item = open("pier://shelf/in/box.zip", "open", &setting).unwrap_or_else(|f| panic!("{f}"));
    assert_eq!(item.address, "pier://shelf/in/box.zip::inner.iso");
    let note = open("pier://shelf::in/box.zip::note.txt", "open", &setting);
    assert!(note.is_err_and(|f| f.to_string().contains("note.txt")), "it is reached, and is of no known format");
    let half = open("pier://shelf/in/half.iso.1", "open", &setting).unwrap_or_else(|f| panic!("{f}"));
    let len = fs::metadata(&demo().image).unwrap().len();
    assert_eq!((half.stem.as_str(), half.source.unwrap().len()), ("half", len));
}

#[test]
fn a_folder_elsewhere_is_gone_through() {
    let store = shelf();
    let setting = setting(&store);
    let (report, _) = identify::identify(&["pier://shelf".into()], &setting).unwrap_or_else(|f| panic!("{f}"));
    let paths: Vec<&str> = report.sources.iter().map(|s| s.source.as_str()).collect();
    assert!(
        paths.contains(&"pier://shelf/in/box.zip::inner.iso") && paths.contains(&"pier://shelf/bad/disc.iso"),
        "{paths:?}"
    );
    assert!(!paths.contains(&"pier://shelf/in/half.iso.1"), "only the first part is a source");
    let sums = digest::digest(&["pier://shelf/in".into()], &[Algorithm::Crc32], false, &setting);
    let (sums, failed) = sums.unwrap_or_else(|f| panic!("{f}"));
    assert_eq!((sums.sources.len(), failed.len()), (3, 0));
    let run = verify_all::<()>(&["pier://shelf".into()], &[], &setting, |_| Ok(())).unwrap();
    let good = run.sources.iter().filter(|r| r.verdict.is_good()).count();
    assert!(good >= 2 && good < run.sources.len());
}

#[test]
fn lists_are_held_against_files_elsewhere() {
    let disc = fs::read(&demo().plain).unwrap();
    let sha1 = decanter_core::digest::of_source(&(Arc::new(Bytes(disc.clone())) as SourceRef), &[Algorithm::Sha1], &());
    let list = format!("{}  good.iso\n{}  none.iso\n", sha1.unwrap()[0].hex(), "0".repeat(40));
    let files =
        [("set/good.iso", disc.clone()), ("set/other.iso", disc[1..].to_vec()), ("list.sha1", list.into_bytes())];
    let store = Elsewhere::with(&files);
    let setting = setting(&store);
    let run = verify_all::<()>(&["pier://set".into()], &["pier://list.sha1".into()], &setting, |_| Ok(())).unwrap();
    let matches = run.matches.unwrap();
    assert_eq!((matches.counts.matching, matches.missing.len()), (1, 1));
}

#[test]
fn what_is_elsewhere_becomes_what_is_here() {
    let store = shelf();
    let setting = setting(&store);
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("disc.zst");
    let options = convert::Options { prove: true, ..Default::default() };
    convert::convert("pier://shelf/disc.iso", Some("zst"), Some(&target), &options, &setting)
        .unwrap_or_else(|f| panic!("{f}"));
    let back = open(&typed(&target), "open", &setting).unwrap_or_else(|f| panic!("{f}"));
    assert_eq!(back.opened.get("id"), Some("DCNT-10001"));
    let out = folder.path().join("out");
    let options = extract::Options { verify: true, ..Default::default() };
    extract::extract("pier://shelf/disc.iso", Some(&out), &options, &setting).unwrap_or_else(|f| panic!("{f}"));
    let here = folder.path().join("here");
    extract::extract(&typed(&demo().image), Some(&here), &options, &Setting::new(&()))
        .unwrap_or_else(|f| panic!("{f}"));
    assert!(tree(&out) == tree(&here), "the same files as from this machine");
    assert!(store.opened.load(Ordering::Relaxed) < 60, "small files beside it are opened once a folder");
}
