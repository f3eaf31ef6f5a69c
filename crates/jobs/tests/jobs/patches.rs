//! Patches of any two files, both ways; saves that go in and out; and what does not fit.

use crate::common::{demo, noise, typed};
use decanter_jobs::patch::{Options, apply, make, show};
use decanter_jobs::{Setting, save};
use proptest::prelude::*;
use std::fs;
use std::path::{Path, PathBuf};

/// A changed copy: bytes put in, taken out, moved and replaced.
fn edited(old: &[u8], edits: &[(u8, usize, usize)]) -> Vec<u8> {
    let mut new = old.to_vec();
    for (kind, at, len) in edits {
        let at = at % (new.len() + 1);
        let len = len % 300;
        let end = (at + len).min(new.len());
        match kind % 5 {
            0 => drop(new.splice(at..at, noise(len, at as u64))),
            1 => drop(new.drain(at..end)),
            2 => new[at..end].fill(0x11),
            3 => {
                let moved: Vec<u8> = new.drain(at..end).collect();
                let to = new.len() / 2;
                new.splice(to..to, moved);
            }
            _ => new[at..end].iter_mut().for_each(|b| *b ^= 0x40),
        }
    }
    new
}

fn put(folder: &Path, name: &str, bytes: &[u8]) -> PathBuf {
    let path = folder.join(name);
    fs::write(&path, bytes).unwrap();
    path
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn a_patch_of_any_two_files_leads_from_one_to_the_other_and_back(
        len in 1usize..20_000,
        edits in proptest::collection::vec((any::<u8>(), any::<usize>(), any::<usize>()), 0..12),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let (old, setting) = (noise(len, 21), Setting::new(&()));
        let new = edited(&old, &edits);
        let old_path = put(folder.path(), "old.bin", &old);
        let new_path = put(folder.path(), "new.bin", &new);
        for format in ["bps", "ups", "ips", "vcdiff"] {
            let patch = folder.path().join(format!("p.{format}"));
            let report = make(&typed(&old_path), &typed(&new_path), Some(format), None, Some(&patch), &setting);
            let report = match report {
                Ok(report) => report,
                // IPS has no word for a file that becomes empty, nor for one that is cut and has no records.
                Err(failure) if format == "ips" || new.is_empty() && format != "vcdiff" => {
                    prop_assert!(!failure.to_string().is_empty() && !patch.exists());
                    continue;
                }
                Err(failure) => panic!("{format}: {failure}"),
            };
            prop_assert_eq!(&report.patch, &patch);
            let out = folder.path().join(format!("out-{format}.bin"));
            apply(&typed(&old_path), &[typed(&patch)], Some(&out), &Options::default(), &setting).unwrap();
            prop_assert!(fs::read(&out).unwrap() == new, "{}", format);
            // Where a patch knows what it is for, another file is refused and leaves nothing.
            let other = put(folder.path(), "other.bin", &noise(len + 3, 99));
            let wrong = folder.path().join(format!("wrong-{format}.bin"));
            let refused =
                apply(&typed(&other), &[typed(&patch)], Some(&wrong), &Options::default(), &setting);
            prop_assert!(matches!(format, "ips" | "vcdiff") || refused.is_err() && !wrong.exists(), "{}", format);
            if !matches!(format, "ips" | "vcdiff") && old != new {
                let back = folder.path().join(format!("back-{format}.bin"));
                let undo = Options { undo: true, ..Options::default() };
                match apply(&typed(&new_path), &[typed(&patch)], Some(&back), &undo, &setting) {
                    Ok(_) => prop_assert!(fs::read(&back).unwrap() == old, "{}", format),
                    // Of the two only one leads back by itself.
                    Err(failure) => prop_assert!(format == "bps" && !back.exists(), "{}: {}", format, failure),
                }
            }
        }
    }

    #[test]
    fn a_changed_patch_is_an_error_or_makes_the_same_file(
        format in 0usize..2,
        at in any::<usize>(),
        bit in 0u32..8,
    ) {
        let folder = tempfile::tempdir().unwrap();
        let setting = Setting::new(&());
        let old = noise(5000, 1);
        let new = edited(&old, &[(0, 100, 50), (2, 3000, 200), (1, 4000, 30)]);
        let old_path = put(folder.path(), "old.bin", &old);
        let new_path = put(folder.path(), "new.bin", &new);
        let name = ["bps", "ups"][format];
        let patch = folder.path().join("p");
        make(&typed(&old_path), &typed(&new_path), Some(name), None, Some(&patch), &setting).unwrap();
        let mut bytes = fs::read(&patch).unwrap();
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        fs::write(&patch, bytes).unwrap();
        let out = folder.path().join("out.bin");
        let ended = apply(&typed(&old_path), &[typed(&patch)], Some(&out), &Options::default(), &setting);
        prop_assert!(ended.is_err(), "{} with byte {} changed was taken", name, at);
        prop_assert!(!out.exists());
    }
}

#[test]
fn a_patch_says_what_it_is_for() {
    let setting = Setting::new(&());
    for patch in &demo().drawer.patches {
        let report = show(&typed(patch), &setting).unwrap();
        assert!(!report.kind.is_empty() && report.touched_bytes > 0, "{}", patch.display());
    }
}

#[test]
fn several_patches_follow_each_other() {
    let folder = tempfile::tempdir().unwrap();
    let setting = Setting::new(&());
    let steps: Vec<Vec<u8>> = (0..4).map(|n| edited(&noise(4000, 5), &[(0, 100, n * 20), (2, 2000, n * 10)])).collect();
    let paths: Vec<PathBuf> =
        steps.iter().enumerate().map(|(n, b)| put(folder.path(), &format!("{n}.bin"), b)).collect();
    let mut patches = Vec::new();
    for pair in paths.windows(2) {
        let patch = folder.path().join(format!("{}.bps", patches.len()));
        make(&typed(&pair[0]), &typed(&pair[1]), None, None, Some(&patch), &setting).unwrap();
        patches.push(typed(&patch));
    }
    let out = folder.path().join("out.bin");
    apply(&typed(&paths[0]), &patches, Some(&out), &Options::default(), &setting).unwrap();
    assert!(fs::read(&out).unwrap() == steps[3]);
    // In another order the second one does not fit what the first one made.
    patches.swap(0, 1);
    let wrong = folder.path().join("wrong.bin");
    let failure = apply(&typed(&paths[0]), &patches, Some(&wrong), &Options::default(), &setting).unwrap_err();
    assert!(!wrong.exists() && !failure.to_string().is_empty());
}

#[test]
fn a_save_comes_back_as_it_went_out() {
    let folder = tempfile::tempdir().unwrap();
    let setting = Setting::new(&());
    let shown = save::show(&typed(&demo().drawer.save), Some(&typed(&demo().drawer.gb)), &setting).unwrap();
    assert!(!shown.may_be.is_empty() && shown.memory.is_some());
    let raw = folder.path().join("raw.sav");
    let options = save::Options { rom: Some(typed(&demo().drawer.gb)), ..save::Options::default() };
    save::export(&typed(&demo().drawer.save), &raw, &options, &setting).unwrap();
    let again = folder.path().join("again.sav");
    fs::copy(&demo().drawer.save, folder.path().join("into.sav")).unwrap();
    let into = typed(&folder.path().join("into.sav"));
    save::import(&typed(&raw), Some(&into), &again, &options, &setting).unwrap();
    let (first, second) = (fs::read(&demo().drawer.save).unwrap(), fs::read(&again).unwrap());
    assert!(first == second, "{} and {} bytes", first.len(), second.len());
    // A save is never written over.
    assert!(save::export(&typed(&demo().drawer.save), &raw, &options, &setting).is_err());
    let mut replacing = Setting::new(&());
    replacing.replace = true;
    assert!(
        save::export(&typed(&demo().drawer.save), &raw, &options, &replacing).is_err(),
        "not even when it was said"
    );
}
