//! Copying files out: what is chosen, what is laid over, what is left out, and that nothing else is touched.

use crate::common::{demo, noise, tree, typed, zipped};
use decanter_jobs::extract::{ExtractReport, Options, extract};
use decanter_jobs::{Answer, Setting};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

/// Seconds since 1970 at which a file was changed.
fn changed(path: &Path) -> i64 {
    let time = fs::metadata(path).unwrap().modified().unwrap();
    match time.duration_since(std::time::UNIX_EPOCH) {
        Ok(after) => after.as_secs() as i64,
        Err(before) => -(before.duration().as_secs() as i64),
    }
}

type Files = BTreeMap<String, Vec<u8>>;

fn out(source: &Path, target: &Path, options: &Options) -> (ExtractReport, Answer) {
    extract(&typed(source), Some(target), options, &Setting::new(&())).unwrap_or_else(|f| panic!("{f}"))
}

fn put(folder: &Path, files: &Files) {
    for (path, content) in files {
        let path = folder.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }
}

fn held(folder: &Path) -> Files {
    tree(folder).into_iter().map(|(path, content)| (decanter_core::native::text(&path), content)).collect()
}

fn some_files() -> impl Strategy<Value = Files> {
    let path = "[a-d]{1,2}(/[a-d]{1,2})?\\.[x-z]";
    proptest::collection::btree_map(path, proptest::collection::vec(any::<u8>(), 0..200), 1..12)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn an_overlay_replaces_what_it_has_and_can_be_undone(base in some_files(), fixes in some_files()) {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        put(&at("base"), &base);
        put(&at("fixes"), &fixes);
        let options = Options {
            overlay: vec![typed(&at("fixes"))],
            originals: Some(at("before")),
            ..Options::default()
        };
        let (report, answer) = out(&at("base"), &at("fixed"), &options);
        prop_assert_eq!(answer, Answer::Yes);
        let mut want = base.clone();
        want.extend(fixes.clone());
        prop_assert!(held(&at("fixed")) == want);
        let overlay = report.overlay.unwrap();
        let replaced: Files = base.iter().filter(|(p, b)| fixes.get(*p).is_some_and(|f| f != *b)).map(|(p, b)| (p.clone(), b.clone())).collect();
        let same = base.iter().filter(|(p, b)| fixes.get(*p) == Some(*b)).count();
        prop_assert_eq!(overlay.replaced.len(), replaced.len());
        prop_assert_eq!(overlay.matching.len(), same);
        prop_assert_eq!(overlay.added.len(), fixes.keys().filter(|p| !base.contains_key(*p)).count());
        // What was replaced is kept, and leads back.
        if replaced.is_empty() {
            prop_assert!(!at("before").exists());
        } else {
            prop_assert!(held(&at("before")) == replaced);
            let back = Options { overlay: vec![typed(&at("before"))], ..Options::default() };
            out(&at("fixed"), &at("back"), &back);
            let again = held(&at("back"));
            prop_assert!(base.iter().all(|(p, b)| again.get(p) == Some(b)));
        }
        // Neither of the sources has changed.
        prop_assert!(held(&at("base")) == base && held(&at("fixes")) == fixes);
    }

    #[test]
    fn what_is_chosen_is_what_matches(base in some_files(), pattern in "[a-d*?]{1,3}") {
        let folder = tempfile::tempdir().unwrap();
        put(&folder.path().join("base"), &base);
        let options = Options { only: vec![pattern.clone()], ..Options::default() };
        let target = folder.path().join("out");
        let ended = extract(&typed(&folder.path().join("base")), Some(&target), &options, &Setting::new(&()));
        let found = match ended {
            Ok(_) => held(&target),
            // Nothing fits: that is an error, and no empty folder.
            Err(failure) => {
                prop_assert!(!target.exists(), "{}", failure);
                Files::new()
            }
        };
        prop_assert!(found.iter().all(|(p, b)| base.get(p) == Some(b)), "what comes out is what was there");
        // A pattern that every name fits takes everything.
        if pattern.chars().all(|c| c == '*') {
            prop_assert!(found == base);
        }
    }
}

#[test]
fn a_whole_folder_is_chosen_by_its_name_whatever_its_case() {
    let folder = tempfile::tempdir().unwrap();
    let files: Files = [("GAMES/A.DAT", "a"), ("GAMES/DEEP/B.DAT", "b"), ("OTHER/C.DAT", "c"), ("D.DAT", "d")]
        .map(|(p, c)| (p.to_owned(), c.as_bytes().to_vec()))
        .into();
    put(&folder.path().join("base"), &files);
    for (pattern, want) in
        [("games", 2), ("GAMES/deep", 1), ("*.dat", 4), ("?.DAT", 4), ("other/c.dat", 1), ("GAMES/*", 2)]
    {
        let target = folder.path().join("out");
        let options = Options { only: vec![pattern.into()], ..Options::default() };
        let (report, _) = out(&folder.path().join("base"), &target, &options);
        assert_eq!((report.files, held(&target).len()), (want, want), "{pattern}");
        fs::remove_dir_all(&target).unwrap();
    }
}

#[test]
fn one_damaged_file_is_left_out_and_named_and_the_others_come() {
    let folder = tempfile::tempdir().unwrap();
    let archive = folder.path().join("a.zip");
    let (one, two, three) = (noise(5000, 1), noise(6000, 2), noise(7000, 3));
    zipped(&archive, &[("one.bin", &one), ("two.bin", &two), ("three.bin", &three)]);
    let mut bytes = fs::read(&archive).unwrap();
    let at = bytes.windows(100).position(|w| w == &two[..100]).unwrap();
    bytes[at + 3000] ^= 1;
    fs::write(&archive, bytes).unwrap();
    let (report, answer) = out(&archive, &folder.path().join("out"), &Options::default());
    assert_eq!((answer, report.files), (Answer::No, 2));
    assert_eq!(report.left_out.iter().map(|l| l.path.as_str()).collect::<Vec<_>>(), ["two.bin"]);
    assert!(!report.left_out[0].why.is_empty() && report.advice.is_some());
    let found = held(&folder.path().join("out"));
    assert_eq!(found.keys().map(String::as_str).collect::<Vec<_>>(), ["one.bin", "three.bin"]);
    assert!(found["one.bin"] == one && found["three.bin"] == three);
}

#[test]
fn files_are_held_against_a_description_while_they_are_copied() {
    let folder = tempfile::tempdir().unwrap();
    let put = |from: &Path, name: &str| assert!(fs::copy(from, folder.path().join(name)).is_ok());
    put(&demo().image, "k.iso");
    put(&demo().key, "DCNT-10001.dkey");
    put(&demo().description, "k.ird");
    let source = folder.path().join("k.iso");
    let (report, answer) = out(&source, &folder.path().join("good"), &Options::default());
    assert_eq!((answer, report.left_out.len()), (Answer::Yes, 0));
    assert!(report.against.is_some());
    // A byte of one file, where nothing but the description can tell.
    let item = decanter_jobs::open(&typed(&source), "open", &Setting::new(&())).unwrap();
    let tree = item.opened.holds.tree.as_ref().unwrap();
    let (node, file) =
        tree.files().filter(|(_, f)| f.len > 100_000 && !f.spans.is_empty()).min_by_key(|(_, f)| f.len).unwrap();
    let (path, at) = (node.path.clone(), file.spans[0].start as usize + 50_000);
    drop(item);
    let mut bytes = fs::read(&source).unwrap();
    bytes[at] ^= 1;
    fs::write(&source, bytes).unwrap();
    let (report, answer) = out(&source, &folder.path().join("bad"), &Options::default());
    assert_eq!(answer, Answer::No);
    assert_eq!(report.left_out.iter().map(|l| l.path.as_str()).collect::<Vec<_>>(), [path.as_str()]);
    assert!(!folder.path().join("bad").join(&path).exists());
    // Without a check it comes, and that is told.
    let mut unchecked = Setting::new(&());
    unchecked.unchecked = true;
    let target = folder.path().join("unchecked");
    let (report, answer) = extract(&typed(&source), Some(&target), &Options::default(), &unchecked).unwrap();
    assert!(answer == Answer::Yes && report.against.is_none() && target.join(&path).exists());
    // Asked for a description where there is none, nothing is written.
    fs::remove_file(folder.path().join("k.ird")).unwrap();
    let verified = Options { verify: true, ..Options::default() };
    let target = folder.path().join("verified");
    let failure = extract(&typed(&source), Some(&target), &verified, &Setting::new(&())).unwrap_err();
    assert!(failure.to_string().contains("--against") && !target.exists(), "{failure}");
}

#[cfg(unix)]
#[test]
fn links_stay_in_the_folder_whatever_they_lead_to() {
    let folder = tempfile::tempdir().unwrap();
    let base = folder.path().join("base");
    fs::create_dir_all(base.join("deep")).unwrap();
    fs::write(base.join("deep/file"), "x").unwrap();
    for (target, name) in [
        ("deep/file", "good"),
        ("../deep/file", "deep/also-good"),
        ("/etc/passwd", "absolute"),
        ("../../outside", "up"),
        ("deep/../../outside", "around"),
        ("a-link-to-up", "chain"),
    ] {
        std::os::unix::fs::symlink(target, base.join(name)).unwrap();
    }
    std::os::unix::fs::symlink("..", base.join("a-link-to-up")).unwrap();
    let target = folder.path().join("out");
    let (_, _) = out(&base, &target, &Options::default());
    let root = fs::canonicalize(&target).unwrap();
    let mut todo = vec![target.clone()];
    let mut links = 0;
    while let Some(folder) = todo.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_symlink() {
                links += 1;
                let leads = fs::canonicalize(&path);
                assert!(
                    leads.is_err() || leads.is_ok_and(|p| p.starts_with(&root)),
                    "{}",
                    decanter_core::native::text(&path)
                );
            } else if path.is_dir() {
                todo.push(path);
            }
        }
    }
    assert!(links >= 1 && target.join("good").is_symlink());
}

#[test]
fn what_is_there_already_is_kept_unless_it_is_to_be_replaced() {
    let folder = tempfile::tempdir().unwrap();
    let files: Files = [("a", "new"), ("b", "new")].map(|(p, c)| (p.to_owned(), c.as_bytes().to_vec())).into();
    put(&folder.path().join("base"), &files);
    let target = folder.path().join("out");
    fs::create_dir(&target).unwrap();
    fs::write(target.join("b"), "old").unwrap();
    fs::write(target.join("c"), "kept").unwrap();
    let source = typed(&folder.path().join("base"));
    let failure = extract(&source, Some(&target), &Options::default(), &Setting::new(&())).unwrap_err();
    assert!(failure.to_string().contains("already exists"), "{failure}");
    assert_eq!((fs::read_to_string(target.join("b")).unwrap().as_str(), target.join("a").exists()), ("old", false));
    let mut replacing = Setting::new(&());
    replacing.replace = true;
    extract(&source, Some(&target), &Options::default(), &replacing).unwrap();
    let found = held(&target);
    assert_eq!(
        found.values().map(|v| String::from_utf8_lossy(v).into_owned()).collect::<Vec<_>>(),
        ["new", "new", "kept"]
    );
}

#[test]
fn a_rehearsal_tells_the_same_and_writes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let target: PathBuf = folder.path().join("out");
    let mut rehearsal = Setting::new(&());
    rehearsal.dry_run = true;
    let (dry, _) = extract(&typed(&demo().dvd), Some(&target), &Options::default(), &rehearsal).unwrap();
    assert!(dry.dry_run && !target.exists());
    let (real, _) = out(&demo().dvd, &target, &Options::default());
    assert_eq!((dry.files, dry.bytes), (real.files, real.bytes));
    assert_eq!(held(&target).values().map(|v| v.len() as u64).sum::<u64>(), real.bytes);
}

#[test]
fn files_have_the_times_of_the_disc() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("out");
    out(&demo().dvd, &target, &Options::default());
    let listed = decanter_jobs::list::list(&typed(&demo().dvd), &Setting::new(&())).unwrap();
    let item = decanter_jobs::open(&typed(&demo().dvd), "open", &Setting::new(&())).unwrap();
    let mut compared = 0;
    for (node, _) in item.opened.holds.tree.as_ref().unwrap().files() {
        if let Some(modified) = node.modified {
            assert_eq!(changed(&target.join(&node.path)), modified, "{}", node.path);
            compared += 1;
        }
    }
    assert!(compared > 0 && listed.entries.len() >= compared);
}
