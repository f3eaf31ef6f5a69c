//! Writing, as a whole: any blueprint becomes the bytes that it describes, in a file, in memory and as a source; any folder
//! appears as a whole or not at all; names from anywhere stay where they belong.

use decanter_core::blueprint::{Blueprint, PartId};
use decanter_core::digest::{Algorithm, of_bytes, of_source};
use decanter_core::names::{Namer, file_name};
use decanter_core::pour::{self, Output, Partial, Stage, check_target, check_targets, pour, pour_all, to_memory};
use decanter_core::source::{Bytes, FileSource, SourceRef, read_vec};
use decanter_core::{Door, Error, Guard, native};
use proptest::prelude::*;
use std::collections::HashSet;
use std::fs;
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, LazyLock};

fn door(replace: bool) -> Door<'static> {
    static GUARD: LazyLock<Guard> = LazyLock::new(Guard::default);
    Door { guard: &GUARD, replace }
}

fn bytes(len: usize, seed: u32) -> Vec<u8> {
    (0..len as u32).map(|i| ((i ^ seed).wrapping_mul(0x9e37_79b9) >> 19) as u8).collect()
}

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(folder).unwrap().map(|e| native::text(e.unwrap().file_name())).collect();
    names.sort();
    names
}

/// A part of a blueprint: what it is, and how long.
type Part = (u8, usize);

/// A blueprint of these parts, and the bytes that it describes. Some come from a file, some from memory; late parts carry
/// the digest of the part before them.
fn described(folder: &Path, parts: &[Part]) -> (Blueprint, Vec<u8>) {
    let (mut blueprint, mut model) = (Blueprint::new(), Vec::new());
    let mut last: Option<(PartId, Vec<u8>)> = None;
    for (index, (kind, len)) in parts.iter().enumerate() {
        let own = bytes(*len, index as u32);
        let (part, own) = match kind % 4 {
            0 => (blueprint.source(Arc::new(Bytes(own.clone()))), own),
            1 => {
                let path = folder.join(format!("part-{index}"));
                fs::write(&path, &own).unwrap();
                (blueprint.source(Arc::new(FileSource::own(&path).unwrap())), own)
            }
            2 => {
                let byte = if kind & 8 == 0 { 0 } else { 0xe5 };
                (blueprint.fill(byte, *len as u64), vec![byte; *len])
            }
            _ => match &last {
                Some((part, before)) => {
                    let part = *part;
                    blueprint.measure(part, Algorithm::Sha1);
                    let late = blueprint.late(20);
                    let make = move |known: &decanter_core::blueprint::Known<'_>| {
                        Ok(known.digest(part, Algorithm::Sha1)?.to_vec())
                    };
                    blueprint.compute(late, &[part], Arc::new(make)).unwrap();
                    // What is late is not asked for by another late part here.
                    model.extend(of_bytes(Algorithm::Sha1, before).bytes);
                    continue;
                }
                None => continue,
            },
        };
        model.extend_from_slice(&own);
        last = Some((part, own));
    }
    (blueprint, model)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]
    #[test]
    fn any_blueprint_becomes_the_bytes_that_it_describes(
        parts in proptest::collection::vec((any::<u8>(), 0usize..150_000), 0..8),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let (blueprint, model) = described(folder.path(), &parts);
        prop_assert_eq!(blueprint.len(), model.len() as u64);
        let target = folder.path().join("out.bin");
        let poured = pour(Output::new(&blueprint, &target).with_digests(&Algorithm::ALL), door(false), &()).unwrap();
        prop_assert!(fs::read(&target).unwrap() == model);
        prop_assert_eq!(poured.bytes, model.len() as u64);
        for digest in &poured.digests {
            prop_assert_eq!(digest.hex(), of_bytes(digest.algorithm, &model).hex());
        }
        prop_assert!(poured.hole_bytes + poured.kernel_bytes <= poured.bytes);
        prop_assert!(to_memory(&blueprint, model.len() as u64, &()).unwrap() == model);
        if !model.is_empty() {
            let limit = model.len() as u64 - 1;
            let refused = matches!(to_memory(&blueprint, limit, &()), Err(Error::Limit { .. }));
            prop_assert!(refused, "memory has a limit");
        }
        // Where nothing is late, it can be read before it is written.
        if let Ok(source) = blueprint.as_source() {
            let read = read_vec(source.as_ref(), 0, source.len(), "all of it", u64::MAX).unwrap();
            prop_assert!(read == model);
            let digests = of_source(&source, &[Algorithm::Crc32], &()).unwrap();
            prop_assert_eq!(digests[0].hex(), of_bytes(Algorithm::Crc32, &model).hex());
        }
        // Nothing hidden is left beside it.
        prop_assert!(names(folder.path()).iter().all(|n| n == "out.bin" || n.starts_with("part-")));
    }

    #[test]
    fn any_name_stays_in_its_folder_and_no_two_are_one(
        paths in proptest::collection::vec("[a-cA-C./\\\\: \u{7}\u{e9}*]{0,14}", 1..30),
        is_strict in any::<bool>(),
    ) {
        let mut namer = Namer::new(is_strict);
        let mut met = HashSet::new();
        for path in &paths {
            let named = namer.file(path);
            let parts: Vec<Component<'_>> = named.path.components().collect();
            prop_assert!(!parts.is_empty() && parts.iter().all(|c| matches!(c, Component::Normal(_))), "{:?}", named);
            let text = native::text(&named.path);
            prop_assert!(!text.chars().any(char::is_control), "{:?}", text);
            if is_strict {
                prop_assert!(!text.contains(['<', '>', ':', '"', '|', '?', '*', '\\']), "{:?}", text);
            }
            let key = if is_strict { text.to_lowercase() } else { text.clone() };
            prop_assert!(met.insert(key), "{:?} is given twice", text);
            prop_assert_eq!(named.renamed, text != path.trim_end_matches('/'));
        }
    }

    #[test]
    fn any_word_makes_a_file_name(word in "\\PC{0,300}") {
        let name = file_name(&word);
        prop_assert!(!name.is_empty() && name.len() <= 255 && !name.contains('/'), "{:?}", name);
        prop_assert!(name != "." && name != "..");
        prop_assert_eq!(file_name(&name), name.clone(), "a safe name is left as it is");
        prop_assert!(Path::new("in").join(&name).starts_with("in"));
    }
}

#[test]
fn sixteen_thousand_alike_get_numbers_in_no_time() {
    let mut namer = Namer::new(true);
    let mut met = HashSet::new();
    for number in 0..16_000 {
        let spelled = if number % 2 == 0 { "GAME/SAME.DAT" } else { "GAME/same.dat" };
        assert!(met.insert(namer.file(spelled).path));
    }
    assert!(met.contains(Path::new("GAME/SAME (16000).DAT")) || met.contains(Path::new("GAME/same (16000).dat")));
}

#[test]
fn names_of_255_bytes_keep_their_extension_and_their_number() {
    let long = format!("{}.iso", "é".repeat(200));
    let name = file_name(&long);
    assert!(name.len() <= 255 && name.ends_with(".iso"), "{name}");
    let mut namer = Namer::new(false);
    let (first, second) = (namer.file(&long).path, namer.file(&long).path);
    assert_ne!(first, second);
    assert!(native::text(&second).len() <= 255 && native::text(&second).ends_with(" (2).iso"), "{second:?}");
}

fn small(content: &[u8]) -> Blueprint {
    Blueprint::of(Arc::new(Bytes(content.to_vec())) as SourceRef)
}

#[test]
fn outputs_of_one_run_never_share_a_path() {
    let folder = tempfile::tempdir().unwrap();
    let (a, b) = (small(b"one"), small(b"two"));
    let at = |name: &str| folder.path().join(name);
    let same = [(&a, at("x.bin")), (&b, folder.path().join("./x.bin"))];
    let list: Vec<Output<'_>> = same.iter().map(|(b, p)| Output::new(b, p)).collect();
    assert!(matches!(check_targets(&list, door(true)), Err(Error::Twice { .. })));
    assert!(matches!(pour_all(&list, door(true), &(), &mut |_| Ok(())), Err(Error::Twice { .. })));
    assert!(names(folder.path()).is_empty());
    let other = [(&a, at("x.bin")), (&b, at("y.bin"))];
    let list: Vec<Output<'_>> = other.iter().map(|(b, p)| Output::new(b, p)).collect();
    pour_all(&list, door(false), &(), &mut |_| Ok(())).unwrap();
    assert_eq!(names(folder.path()), ["x.bin", "y.bin"]);
}

#[test]
fn a_proof_that_fails_leaves_no_output_at_all() {
    let folder = tempfile::tempdir().unwrap();
    let (a, b) = (small(b"one"), small(b"two"));
    let paths = [folder.path().join("a"), folder.path().join("b")];
    fs::write(&paths[1], "what was there").unwrap();
    let list = [Output::new(&a, &paths[0]), Output::new(&b, &paths[1])];
    let mut seen = Vec::new();
    let failed = pour_all(&list, door(true), &(), &mut |files| {
        seen = files.iter().map(|f| fs::read(f).unwrap()).collect();
        Err(Error::Unreadable { why: "it is not what it should be".into() })
    });
    assert!(failed.is_err());
    assert_eq!(seen, [b"one", b"two"], "the proof sees what was written");
    assert_eq!(names(folder.path()), ["b"]);
    assert_eq!(fs::read(&paths[1]).unwrap(), b"what was there");
}

#[test]
fn targets_are_refused_before_the_work() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    fs::write(at("there"), "x").unwrap();
    fs::create_dir(at("folder")).unwrap();
    assert!(matches!(check_target(&at("there"), door(false), 1, 1), Err(Error::Exists { .. })));
    assert!(check_target(&at("there"), door(true), 1, 1).is_ok());
    assert!(check_target(&at("folder"), door(true), 1, 1).is_err(), "a folder is not replaced by a file");
    assert!(check_target(&at("there/below"), door(true), 1, 1).is_err(), "a file is no folder");
    if cfg!(not(feature = "std-only")) {
        assert!(matches!(check_target(&at("new"), door(false), 1, u64::MAX / 2), Err(Error::NoSpace { .. })));
    }
    assert!(check_target(&at("new/folders/deep"), door(false), 1, 1).is_ok(), "missing folders are made");
    assert!(!at("new").exists(), "but not for having asked");
    assert!(names(folder.path()) == ["folder", "there"]);
}

#[cfg(unix)]
#[test]
fn a_link_in_the_place_of_a_target_is_replaced_and_not_followed() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    fs::write(at("kept"), "kept").unwrap();
    std::os::unix::fs::symlink("kept", at("link")).unwrap();
    assert!(pour(Output::new(&small(b"new"), &at("link")), door(false), &()).is_err());
    pour(Output::new(&small(b"new"), &at("link")), door(true), &()).unwrap();
    assert_eq!((fs::read(at("kept")).unwrap(), fs::read(at("link")).unwrap()), (b"kept".to_vec(), b"new".to_vec()));
}

#[test]
fn two_writers_of_one_target_do_not_meet() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("x.iso");
    let first = Partial::open(&target, door(false), false, 100, 100).unwrap();
    assert!(matches!(Partial::open(&target, door(false), true, 100, 100), Err(Error::Busy { .. })));
    first.write(b"half", 0).unwrap();
    assert!(!target.exists() && first.path().exists());
    drop(first);
    let again = Partial::open(&target, door(false), true, 100, 100).unwrap();
    assert_eq!(again.len_before(), 100);
    let read = fs::read(again.path()).unwrap();
    assert_eq!(&read[..4], b"half");
    again.finish().unwrap();
    assert!(target.exists() && names(folder.path()) == ["x.iso"]);
}

#[test]
fn a_folder_appears_with_everything_in_it_or_not_at_all() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("out");
    let write = |stage: &mut Stage<'_>, path: &str, content: &[u8]| {
        stage.write(Path::new(path), &small(content), None, &[], &()).unwrap();
        stage.add(PathBuf::from(path));
    };
    {
        let mut stage = Stage::new(&target, door(false), &()).unwrap();
        stage.make_folder(Path::new("deep/er")).unwrap();
        write(&mut stage, "deep/er/a.txt", b"a");
        assert!(!target.exists() || names(&target).iter().all(|n| n.starts_with('.')), "nothing is seen before");
    }
    assert!(!target.exists(), "what was not finished is gone");
    let mut stage = Stage::new(&target, door(false), &()).unwrap();
    stage.make_folder(Path::new("deep/er")).unwrap();
    write(&mut stage, "deep/er/a.txt", b"a");
    write(&mut stage, "b.txt", b"b");
    stage.commit(&[]).unwrap();
    assert_eq!(fs::read(target.join("deep/er/a.txt")).unwrap(), b"a");
    assert_eq!(names(&target), ["b.txt", "deep"]);
    assert_eq!(names(folder.path()), ["out"]);
}

#[test]
fn leftovers_of_runs_that_were_killed_are_found_by_their_names_alone() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("mine.part"), "a file of the user's").unwrap();
    fs::write(folder.path().join("disc.iso"), "x").unwrap();
    assert!(pour::leftovers(folder.path()).unwrap().is_empty(), "what others call .part is theirs");
}

#[cfg(unix)]
#[test]
fn what_is_written_is_readable_by_whom_the_user_allows() {
    let folder = tempfile::tempdir().unwrap();
    let plain = folder.path().join("plain");
    fs::write(&plain, "x").unwrap();
    let target = folder.path().join("poured");
    pour(Output::new(&small(b"y"), &target), door(false), &()).unwrap();
    use std::os::unix::fs::PermissionsExt;
    let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(&target), mode(&plain), "as any program would have made it");
}

#[cfg(unix)]
#[test]
fn a_program_may_be_started_and_other_files_may_not() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let (text, target) = (small(b"#!/bin/sh\n"), folder.path().join("start"));
    let mode = |output: Output<'_>| {
        pour(output, door(true), &()).unwrap();
        fs::metadata(&target).unwrap().permissions().mode() & 0o111
    };
    assert_eq!(mode(Output::new(&text, &target)), 0);
    assert_ne!(mode(Output::new(&text, &target).executable()), 0);
}
