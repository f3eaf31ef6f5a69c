//! From what is typed to what is meant: addresses, containers in containers, what lies beside, and what is refused.

use crate::common::{demo, noise, typed, zip_of};
use decanter_core::Error;
use decanter_core::source::read_vec;
use decanter_jobs::{Item, Setting, identify, list, open};
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

fn opened(address: &str) -> Item {
    open(address, "open", &Setting::new(&())).unwrap_or_else(|f| panic!("{address}: {f}"))
}

fn refused(address: &str) -> String {
    match open(address, "open", &Setting::new(&())) {
        Ok(item) => panic!("{address} is {}", item.opened.identity.kind),
        Err(failure) => failure.to_string(),
    }
}

fn content(item: &Item) -> Vec<u8> {
    let source = item.source.as_ref().unwrap();
    read_vec(source.as_ref(), 0, source.len(), "a source", 64 << 20).unwrap()
}

/// A folder with these files.
fn shelf(files: &[(&str, &[u8])]) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    for (name, bytes) in files {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
    folder
}

fn at(folder: &TempDir, inside: &str) -> String {
    format!("{}/{inside}", decanter_core::native::text(folder.path()))
}

fn disc() -> Vec<u8> {
    fs::read(&demo().dvd).unwrap()
}

fn rom() -> Vec<u8> {
    fs::read(&demo().drawer.gba).unwrap()
}

#[test]
fn an_archive_with_one_image_stands_for_it() {
    let disc = disc();
    let folder = shelf(&[("box.zip", &zip_of(&[("readme.txt", b"hello"), ("in/Lane.iso", &disc)]))]);
    let item = opened(&at(&folder, "box.zip"));
    assert_eq!(
        (item.opened.identity.format, item.stem.as_str()),
        (opened(&typed(&demo().dvd)).opened.identity.format, "Lane")
    );
    assert!(item.address.ends_with("box.zip::in/Lane.iso"), "{}", item.address);
    assert_eq!(item.shown, at(&folder, "box.zip"));
    assert_eq!(item.around.len(), 1, "{:?}", item.around);
    assert!(content(&item) == disc);
    // What is named exactly is the same, and the archive itself can be asked for.
    assert!(content(&opened(&at(&folder, "box.zip::in/Lane.iso"))) == disc);
    let archive = opened(&at(&folder, "box.zip::"));
    assert_eq!((archive.opened.identity.format, archive.around.len()), ("zip", 0));
}

#[test]
fn of_two_images_none_is_chosen() {
    let (disc, other) = (disc(), fs::read(&demo().handheld).unwrap());
    let folder = shelf(&[("two.zip", &zip_of(&[("a.iso", &disc), ("b.iso", &other)]))]);
    assert_eq!(opened(&at(&folder, "two.zip")).opened.identity.format, "zip");
    assert!(content(&opened(&at(&folder, "two.zip::b.iso"))) == other);
    // Beside an image, a ROM is one of its files; of ROMs alone, the only one is meant.
    let rom = rom();
    let folder = shelf(&[
        ("mixed.zip", &zip_of(&[("a.iso", &disc), ("extra.gba", &rom)])),
        ("rom.zip", &zip_of(&[("extra.gba", &rom), ("notes.txt", b"notes")])),
    ]);
    assert!(opened(&at(&folder, "mixed.zip")).address.ends_with("::a.iso"));
    assert!(opened(&at(&folder, "rom.zip")).address.ends_with("::extra.gba"));
}

#[test]
fn a_damaged_image_is_not_passed_over_for_another() {
    let (disc, other) = (disc(), fs::read(&demo().handheld).unwrap());
    let mut bytes = zip_of(&[("a.iso", &disc), ("b.iso", &other)]);
    // The first sectors of one of them: no format knows it by the rest.
    let place = bytes.windows(4096).position(|w| w == &disc[32768..36864]).unwrap();
    bytes[place..place + 6].fill(0xff);
    let folder = shelf(&[("two.zip", &bytes)]);
    let found = open(&at(&folder, "two.zip"), "open", &Setting::new(&()));
    assert!(
        found.is_err() || found.is_ok_and(|item| item.opened.identity.format == "zip"),
        "the other is not shown as its content"
    );
    // What is no image at all, and whole, is no reason to ask.
    let folder = shelf(&[("one.zip", &zip_of(&[("a.bin", &noise(disc.len(), 8)), ("b.iso", &other)]))]);
    assert!(opened(&at(&folder, "one.zip")).address.ends_with("::b.iso"));
}

#[test]
fn containers_stand_in_containers_and_are_named_one_by_one() {
    let disc = disc();
    let inner = zip_of(&[("Lane.iso", &disc)]);
    let folder = shelf(&[("outer.zip", &zip_of(&[("notes.txt", b"x"), ("deep/inner.zip", &inner)]))]);
    let item = opened(&at(&folder, "outer.zip::deep/inner.zip::Lane.iso"));
    assert!(content(&item) == disc);
    assert_eq!(item.around.len(), 2, "{:?}", item.around);
    let list = list::list(&at(&folder, "outer.zip::deep/inner.zip::"), &Setting::new(&())).unwrap();
    assert_eq!(list.entries.iter().map(|e| e.path.as_str()).collect::<Vec<_>>(), ["Lane.iso"]);
    // A file in the image at the end of the way.
    let files = list::list(&at(&folder, "outer.zip::deep/inner.zip::Lane.iso"), &Setting::new(&())).unwrap();
    let some = files.entries.iter().find(|e| e.kind == decanter_jobs::list::EntryKind::File && e.bytes > 0).unwrap();
    let address = at(&folder, &format!("outer.zip::deep/inner.zip::Lane.iso::{}", some.path));
    let digest =
        decanter_jobs::digest::digest(&[address], &[decanter_core::Algorithm::Sha1], false, &Setting::new(&()))
            .unwrap();
    assert_eq!(digest.0.sources[0].bytes, some.bytes);
}

#[test]
fn boxes_in_boxes_end_somewhere() {
    let mut bytes = zip_of(&[("end.txt", b"the end of it")]);
    for _ in 0..40 {
        bytes = zip_of(&[("box.zip", &bytes)]);
    }
    let folder = shelf(&[("boxes.zip", &bytes)]);
    // Whatever the answer, there is one.
    let _ = open(&at(&folder, "boxes.zip"), "open", &Setting::new(&()));
    // What is named step by step is opened step by step.
    let item = opened(&at(&folder, &format!("boxes.zip{}", "::box.zip".repeat(40))));
    assert_eq!((item.opened.identity.format, item.around.len()), ("zip", 40));
}

#[test]
fn names_inside_are_exact_first_and_then_without_their_case() {
    let folder =
        shelf(&[("n.zip", &zip_of(&[("Readme.txt", b"one"), ("README.TXT", b"two"), ("only.BIN", b"three")]))]);
    let bytes = |inside: &str| {
        decanter_jobs::digest::digest(
            &[at(&folder, inside)],
            &[decanter_core::Algorithm::Crc32],
            false,
            &Setting::new(&()),
        )
    };
    let crc = |inside: &str| bytes(inside).unwrap().0.sources[0].digests[0].hex();
    assert_ne!(crc("n.zip::Readme.txt"), crc("n.zip::README.TXT"));
    assert_eq!(crc("n.zip::ONLY.bin"), crc("n.zip::only.BIN"));
    assert!(bytes("n.zip::readme.TXT").is_err(), "two names differ from it in case alone");
}

#[test]
fn what_is_not_there_is_told_with_what_was_asked() {
    let disc = disc();
    let folder = shelf(&[("box.zip", &zip_of(&[("Lane.iso", &disc), ("x/y.txt", b"y")])), ("text.txt", b"words\n")]);
    let told = refused(&at(&folder, "box.zip::Lane.isoo"));
    assert!(told.contains("Lane.isoo"), "{told}");
    let told = refused(&at(&folder, "no such.zip::a"));
    assert!(told.contains("no such.zip") && told.contains("correct the path"), "{told}");
    let told = refused(&at(&folder, "text.txt::inside"));
    assert!(told.contains("text"), "{told}");
    let told = refused(&at(&folder, "box.zip::x/y.txt::z"));
    assert!(told.contains("y.txt") || told.contains("not a format"), "{told}");
    assert!(open("", "open", &Setting::new(&())).is_err());
    assert!(open("::", "open", &Setting::new(&())).is_err());
}

#[cfg(unix)]
#[test]
fn a_name_with_colons_is_taken_as_it_stands_if_it_is_there() {
    let folder = shelf(&[("a::b.iso", &disc())]);
    assert_eq!(opened(&at(&folder, "a::b.iso")).stem, "a::b");
}

#[test]
fn an_entry_of_a_folder_is_as_good_as_its_own_path() {
    let image = fs::read(&demo().image).unwrap();
    let key = fs::read(&demo().key).unwrap();
    let folder = shelf(&[("discs/Kelp Courier.iso", &image), ("discs/DCNT-10001.dkey", &key)]);
    for address in [
        at(&folder, "discs/Kelp Courier.iso"),
        format!("{}::discs/Kelp Courier.iso", decanter_core::native::text(folder.path())),
    ] {
        let item = opened(&address);
        let protection = item.opened.protection.as_ref().unwrap();
        assert!(
            matches!(protection.key, decanter_core::protection::KeyState::Found { .. }),
            "{address}: the key beside it"
        );
    }
    // Nothing above the folder is reached this way.
    let told = refused(&format!("{}/discs::../discs/Kelp Courier.iso", decanter_core::native::text(folder.path())));
    assert!(told.contains(".."), "{told}");
}

#[test]
fn keys_beside_an_archive_count_for_what_is_in_it() {
    let image = fs::read(&demo().image).unwrap();
    let key = fs::read(&demo().key).unwrap();
    let found = |folder: &TempDir, address: &str| {
        let item = opened(&at(folder, address));
        matches!(item.opened.protection.as_ref().unwrap().key, decanter_core::protection::KeyState::Found { .. })
    };
    let beside = shelf(&[("k.zip", &zip_of(&[("K.iso", &image)])), ("DCNT-10001.dkey", &key)]);
    let within = shelf(&[("k.zip", &zip_of(&[("K.iso", &image), ("DCNT-10001.dkey", &key)]))]);
    let shelved = shelf(&[("k.zip", &zip_of(&[("K.iso", &image)])), ("keys/DCNT-10001.dkey", &key)]);
    let around = shelf(&[("titles/k.zip", &zip_of(&[("K.iso", &image)])), ("keys/DCNT-10001.dkey", &key)]);
    let elsewhere = shelf(&[("k.zip", &zip_of(&[("K.iso", &image)])), ("secrets/DCNT-10001.dkey", &key)]);
    assert!(found(&beside, "k.zip") && found(&within, "k.zip"));
    assert!(
        found(&shelved, "k.zip") && found(&around, "titles/k.zip"),
        "a folder of keys beside it, or beside its folder"
    );
    assert!(!found(&elsewhere, "k.zip"), "a folder that was not named is not looked into");
    let mut setting = Setting::new(&());
    setting.key_places.push(elsewhere.path().join("secrets"));
    let item = open(&at(&elsewhere, "k.zip"), "open", &setting).unwrap();
    assert!(matches!(item.opened.protection.unwrap().key, decanter_core::protection::KeyState::Found { .. }));
}

#[test]
fn parts_are_one_image_wherever_one_begins_and_however_many_there_are() {
    let disc = disc();
    let len = disc.len().div_ceil(13);
    let parts: Vec<(String, &[u8])> = disc.chunks(len).enumerate().map(|(n, p)| (format!("d.iso.{n}"), p)).collect();
    let files: Vec<(&str, &[u8])> = parts.iter().map(|(n, p)| (n.as_str(), *p)).collect();
    let folder = shelf(&files);
    for part in ["d.iso.0", "d.iso.7", "d.iso.12"] {
        let item = opened(&at(&folder, part));
        assert!(content(&item) == disc && item.stem == "d", "{part}");
    }
    let folder = shelf(&[("s.zip", &zip_of(&files))]);
    assert!(content(&opened(&at(&folder, "s.zip"))) == disc, "also in an archive");
    // With one of them missing, nothing is sound; and the ones after it are nothing by themselves.
    let folder = shelf(&files);
    fs::remove_file(folder.path().join("d.iso.4")).unwrap();
    let item = opened(&at(&folder, "d.iso.0"));
    assert!(
        item.notices().iter().any(|n| n.is_damage && n.text.contains("there is no d.iso.4")),
        "{:?}",
        item.notices()
    );
    assert!(refused(&at(&folder, "d.iso.6")).contains("there is no d.iso.4"));
}

#[test]
fn the_halves_of_a_sheet_are_found_in_any_case() {
    let sheet = fs::read_to_string(&demo().cue).unwrap();
    let name = sheet.lines().find_map(|l| l.strip_prefix("FILE \"")?.split('"').next()).unwrap();
    let image = fs::read(demo().cue.with_file_name(name)).unwrap();
    let folder = shelf(&[("Disc.CUE", sheet.as_bytes()), (name.to_uppercase().as_str(), &image)]);
    let item = opened(&at(&folder, "Disc.CUE"));
    assert!(!item.opened.holds.tracks.is_empty());
    let folder = shelf(&[("Disc.cue", sheet.as_bytes())]);
    let told = refused(&at(&folder, "Disc.cue"));
    assert!(told.contains(name), "what is missing is named: {told}");
}

#[cfg(unix)]
#[test]
fn pipes_answer_at_once_and_folders_without_anything_are_folders() {
    let folder = tempfile::tempdir().unwrap();
    let pipe = folder.path().join("pipe");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let told = refused(&typed(&pipe));
    assert!(told.contains("a pipe (FIFO)"), "{told}");
    let item = opened(&typed(folder.path()));
    assert_eq!((item.opened.identity.format, item.opened.holds.tree.map_or(9, |t| t.nodes.len())), ("folder", 0));
}

#[test]
fn identify_gives_every_source_an_entry_whatever_is_wrong_with_it() {
    let folder = shelf(&[
        ("empty.iso", b""),
        ("noise.bin", &noise(70_000, 4)),
        ("cut.zip", &zip_of(&[("a.iso", &disc())])[..100_000]),
        ("good.gba", &rom()),
    ]);
    let sources = ["empty.iso", "noise.bin", "cut.zip", "good.gba", "missing.iso"].map(|n| at(&folder, n));
    let (report, answer) = identify::identify(&sources, &Setting::new(&())).unwrap();
    assert_eq!(report.sources.len(), 5);
    let told: Vec<bool> = report.sources.iter().map(|s| s.error.is_some()).collect();
    assert_eq!(told, [true, true, true, false, true]);
    assert_eq!(answer, decanter_jobs::Answer::ReadError, "one of them is not there");
    let why = |n: usize| report.sources[n].error.clone().unwrap();
    assert!(why(0).contains("it is empty") && why(1).contains("noise"), "{} {}", why(0), why(1));
}

#[test]
fn a_stop_is_heard_before_anything_is_opened() {
    struct Stopped;
    impl decanter_core::Watch for Stopped {
        fn cancelled(&self) -> bool {
            true
        }
    }
    let failure = identify::identify(&[typed(&demo().dvd)], &Setting::new(&Stopped)).unwrap_err();
    assert!(matches!(*failure.cause, Error::Cancelled));
}

#[test]
fn what_a_run_reads_is_known_to_its_guard_however_deep_it_stands() {
    let disc = disc();
    let folder = shelf(&[
        ("outer.zip", &zip_of(&[("inner.zip", &zip_of(&[("Lane.iso", &disc)])), ("a.txt", b"a")])),
        ("d.iso.0", &disc[..1 << 20]),
        ("d.iso.1", &disc[1 << 20..]),
        ("free.iso", &disc),
    ]);
    let setting = Setting::new(&());
    open(&at(&folder, "outer.zip::inner.zip::Lane.iso"), "open", &setting).unwrap();
    open(&at(&folder, "d.iso.0"), "open", &setting).unwrap();
    for name in ["outer.zip", "d.iso.0", "d.iso.1"] {
        assert!(setting.guard.check(&folder.path().join(name)).is_err(), "{name} is read, and no target");
    }
    let free: PathBuf = folder.path().join("free.iso");
    assert!(setting.guard.check(&free).is_ok() && setting.guard.check(Path::new("/nowhere/new.iso")).is_ok());
}
