//! One verdict for everything that can be found: what was compared, by whose word, and what the answer is worth.

use crate::common::{demo, noise, typed, zipped};
use decanter_jobs::verify::{FileState, Verdict, VerifyReport, VerifyRun, verify, verify_all};
use decanter_jobs::{Answer, Setting};
use std::fs;
use std::path::{Path, PathBuf};

fn alone(path: &Path) -> VerifyReport {
    verify(&typed(path), &[], &Setting::new(&())).unwrap_or_else(|f| panic!("{f}"))
}

fn against(path: &Path, description: &Path) -> VerifyReport {
    verify(&typed(path), &[typed(description)], &Setting::new(&())).unwrap_or_else(|f| panic!("{f}"))
}

fn all(sources: &[&Path], against: &[&Path]) -> VerifyRun {
    let words = |paths: &[&Path]| paths.iter().map(|p| typed(p)).collect::<Vec<_>>();
    let ended = verify_all::<()>(&words(sources), &words(against), &Setting::new(&()), |_| Ok(()));
    ended.unwrap_or_else(|()| unreachable!("showing a row cannot fail here"))
}

/// A copy of a file in a folder of its own, where nothing lies beside it.
fn apart(path: &Path) -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let copy = folder.path().join(path.file_name().unwrap());
    fs::copy(path, &copy).unwrap();
    (folder, copy)
}

fn change(path: &Path, at: usize) {
    let mut bytes = fs::read(path).unwrap();
    bytes[at] ^= 1;
    fs::write(path, bytes).unwrap();
}

#[test]
fn only_good_verdicts_are_a_yes() {
    for (verdict, is_good) in [
        (Verdict::Match, true),
        (Verdict::Sound, true),
        (Verdict::Readable, true),
        (Verdict::Nothing, false),
        (Verdict::Differs, false),
        (Verdict::Incomplete, false),
        (Verdict::Damaged, false),
    ] {
        assert_eq!(verdict.is_good(), is_good, "{verdict:?}");
    }
}

#[test]
fn a_plain_image_is_readable_and_no_more() {
    let (_folder, path) = apart(&demo().plain);
    let report = alone(&path);
    assert_eq!((report.verdict, report.answer()), (Verdict::Readable, Answer::Yes));
    assert!(report.proofs.is_empty() && report.against.is_none());
    assert!(report.next.contains("--against"), "{}", report.next);
    // A wrong byte in the content of a file is nobody's business without a description.
    let middle = fs::metadata(&path).unwrap().len() as usize / 2;
    change(&path, middle);
    assert_eq!(alone(&path).verdict, Verdict::Readable);
}

#[test]
fn a_description_beside_it_makes_it_match_and_names_what_does_not() {
    let report = alone(&demo().image);
    assert_eq!(report.verdict, Verdict::Match);
    assert!(report.against.is_some() && report.counts.matching > 0 && report.counts.differing == 0);
    let report = against(&demo().damaged, &demo().description);
    assert_eq!((report.verdict, report.answer()), (Verdict::Differs, Answer::No));
    let hit: Vec<_> = report.files.iter().filter(|f| f.state != FileState::Match).collect();
    assert_eq!(hit.len(), 1, "one sector hits one file: {hit:?}");
    let report = against(&demo().short, &demo().description);
    assert_eq!(report.verdict, Verdict::Incomplete);
}

#[test]
fn the_description_of_another_disc_is_refused() {
    let failure = verify(&typed(&demo().dvd), &[typed(&demo().description)], &Setting::new(&())).unwrap_err();
    assert!(failure.to_string().contains("the description of this very disc"), "{failure}");
    let failure = verify(&typed(&demo().dvd), &[typed(&demo().plain)], &Setting::new(&())).unwrap_err();
    assert!(failure.to_string().contains("describes nothing"), "{failure}");
}

#[test]
fn digests_of_its_own_make_it_sound_and_say_what_they_are_of() {
    let report = alone(&demo().bench.drive);
    assert_eq!(report.verdict, Verdict::Sound);
    assert!(!report.proofs.is_empty(), "what proves it is told");
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("box.zip");
    zipped(&path, &[("a.txt", b"salt"), ("b.txt", b"marsh")]);
    let report = alone(&path);
    assert_eq!((report.verdict, report.counts.matching), (Verdict::Sound, 2));
    assert!(report.proofs.iter().any(|p| p.contains("2 checksums of files")), "{:?}", report.proofs);
    let at = fs::read(&path).unwrap().windows(5).position(|w| w == b"marsh").unwrap();
    change(&path, at);
    let report = alone(&path);
    assert_eq!(report.verdict, Verdict::Damaged);
    let states: Vec<_> = report.files.iter().map(|f| f.state).collect();
    assert_eq!(states, [FileState::Match, FileState::Unreadable]);
}

#[test]
fn a_cd_is_held_against_its_own_codes() {
    let good = alone(&demo().cue);
    assert!(good.verdict.is_good(), "{good:?}");
    let bad = alone(&demo().scratched);
    assert_eq!((bad.verdict, bad.answer()), (Verdict::Damaged, Answer::No));
    assert!(bad.files.iter().any(|f| f.state == FileState::Unreadable && !f.suspects.is_empty()), "sectors are named");
}

#[test]
fn what_nothing_can_be_checked_of_is_not_called_good() {
    let folder = tempfile::tempdir().unwrap();
    let empty = folder.path().join("empty");
    fs::create_dir(&empty).unwrap();
    let run = all(&[&empty], &[]);
    assert_eq!((run.sources.len(), run.sources[0].verdict), (1, Verdict::Nothing));
    fs::write(empty.join("notes.bin"), noise(5000, 1)).unwrap();
    let run = all(&[&empty], &[]);
    assert!(run.sources.iter().all(|r| !r.verdict.is_good()), "files of no known kind prove nothing");
    assert_eq!(run.unknown, 1);
    let report = alone(&demo().dat);
    assert!(!report.verdict.is_good(), "a list by itself: {:?}", report.verdict);
}

#[test]
fn every_dump_in_a_folder_has_a_row_and_one_bad_one_is_enough() {
    let folder = tempfile::tempdir().unwrap();
    fs::copy(&demo().dvd, folder.path().join("good.iso")).unwrap();
    fs::create_dir(folder.path().join("deep")).unwrap();
    fs::copy(&demo().drawer.gba, folder.path().join("deep/good.gba")).unwrap();
    let run = all(&[folder.path()], &[]);
    let rows: Vec<_> =
        run.sources.iter().map(|r| (r.source.rsplit('/').next().unwrap(), r.verdict.is_good())).collect();
    assert_eq!(rows, [("good.gba", true), ("good.iso", true)]);
    assert!(run.failed.is_empty() && run.unknown == 0);
    // One that cannot be opened is told, and the others are done.
    fs::write(folder.path().join("bad.zip"), b"PK\x03\x04 and nothing more that could be read").unwrap();
    let scratched = fs::read(&demo().scratched).unwrap();
    fs::write(folder.path().join("scratched.bin"), scratched).unwrap();
    let run = all(&[folder.path()], &[]);
    let bad: Vec<_> = run.sources.iter().filter(|r| !r.verdict.is_good()).collect();
    assert!(
        bad.len() + run.failed.len() >= 2,
        "{:?} {:?}",
        run.failed,
        bad.iter().map(|r| &r.source).collect::<Vec<_>>()
    );
    assert_eq!(run.sources.iter().filter(|r| r.verdict.is_good()).count(), 2);
}

#[test]
fn an_archive_of_dumps_is_gone_through_like_a_folder() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shelf.zip");
    let (dvd, rom) = (fs::read(&demo().dvd).unwrap(), fs::read(&demo().drawer.gba).unwrap());
    zipped(&path, &[("one.iso", &dvd), ("two.gba", &rom)]);
    let run = all(&[&path], &[]);
    let named = |word: &str| run.sources.iter().any(|r| r.source.contains(word));
    assert!(named("one.iso") && named("two.gba"), "{:?}", run.sources.iter().map(|r| &r.source).collect::<Vec<_>>());
    assert!(run.sources.iter().all(|r| r.verdict.is_good()));
}

#[test]
fn a_list_finds_by_content_whatever_the_name_and_tells_what_it_does_not_know() {
    let folder = tempfile::tempdir().unwrap();
    fs::copy(&demo().dvd, folder.path().join("Lamplighter Lane.iso")).unwrap();
    fs::copy(&demo().handheld, folder.path().join("called otherwise.iso")).unwrap();
    fs::write(folder.path().join("unknown.iso"), noise(40_000, 2)).unwrap();
    let run = all(&[folder.path()], &[&demo().dat]);
    let matches = run.matches.unwrap();
    assert_eq!(matches.counts.matching, 1, "{:?}", matches.counts);
    assert!(matches.files.iter().any(|f| f.path.contains("called otherwise")), "{:?}", matches.files);
    assert_eq!(matches.answer(), Answer::No, "something is unknown or called otherwise");
    // Nothing found is no yes.
    let lone = tempfile::tempdir().unwrap();
    fs::write(lone.path().join("x.bin"), noise(1000, 3)).unwrap();
    assert_eq!(all(&[lone.path()], &[&demo().dat]).matches.unwrap().answer(), Answer::No);
    let empty = tempfile::tempdir().unwrap();
    assert_ne!(all(&[empty.path()], &[&demo().dat]).matches.unwrap().answer(), Answer::Yes);
}

#[test]
fn partitions_of_a_drive_are_checked_each() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("drive.img");
    let setting = Setting::new(&());
    let options = decanter_jobs::convert::Options::default();
    decanter_jobs::convert::convert(&typed(&demo().bench.drive), Some("img"), Some(&path), &options, &setting).unwrap();
    let run = all(&[&path], &[]);
    assert!(run.sources.iter().any(|r| r.source.contains("::1")), "a row for the partition");
    assert!(run.sources.iter().all(|r| r.verdict.is_good()));
    // The first entry of the FAT volume's table that leads from one cluster to the next leads nowhere.
    let mut bytes = fs::read(&path).unwrap();
    let start = u32::from_le_bytes(bytes[454..458].try_into().unwrap()) as usize * 512;
    let short = |at: usize| usize::from(u16::from_le_bytes([bytes[at], bytes[at + 1]]));
    let table = start + short(start + 14) * 512;
    let chained = (2..1000).map(|n| table + n * 2).find(|at| (3..0xfff0).contains(&short(*at))).unwrap();
    bytes[chained..chained + 2].copy_from_slice(&[1, 0]);
    fs::write(&path, bytes).unwrap();
    let run = all(&[&path], &[]);
    assert!(run.sources.iter().any(|r| r.verdict == Verdict::Damaged), "{:?}", run.sources);
}

#[test]
fn an_unfinished_dump_is_never_whole() {
    let folder = tempfile::tempdir().unwrap();
    let drive = folder.path().join("d.toml");
    fs::write(
        &drive,
        format!("image = \"{}\"\n[[bad]]\nfirst = 1000\nlast = 1000\n", decanter_core::native::text(&demo().dvd)),
    )
    .unwrap();
    let options = decanter_jobs::dump::Options {
        passes: 1,
        retries: 0,
        twice: false,
        fill_from: Vec::new(),
        plan: None,
        sectors: None,
        sector_len: 2048,
        restart: false,
        picture: None,
        digests: Vec::new(),
    };
    let target = folder.path().join("a.iso");
    decanter_jobs::dump::dump(
        &format!("sim:{}", decanter_core::native::text(&drive)),
        &target,
        &options,
        &Setting::new(&()),
    )
    .unwrap();
    let report = alone(&folder.path().join("a.iso.incomplete"));
    assert!(!report.verdict.is_good() && report.next.contains("decanter"), "{report:?}");
    let mut setting = Setting::new(&());
    setting.incomplete = true;
    let report = verify(&typed(&folder.path().join("a.iso.incomplete")), &[], &setting).unwrap();
    assert!(!report.verdict.is_good(), "zeros may stand for it, and it is not whole all the same");
}

#[test]
fn a_wrong_key_is_an_error_although_a_right_one_lies_beside_it() {
    let mut setting = Setting::new(&());
    setting.key = decanter_core::Key::from_hex("00112233445566778899aabbccddeeff");
    assert!(setting.key.is_some());
    let failure = verify(&typed(&demo().image), &[], &setting).unwrap_err();
    assert!(matches!(*failure.cause, decanter_core::Error::Key(_)), "{failure}");
}

#[test]
fn a_rom_is_judged_by_its_own_sums_and_its_length() {
    let (_folder, path) = apart(&demo().drawer.gba);
    let report = alone(&path);
    assert_eq!(report.verdict, Verdict::Sound);
    assert_eq!(report.proofs, ["1 checksum of a header"], "it says of how little");
    change(&path, 0xa5);
    assert_eq!(alone(&path).verdict, Verdict::Differs);
    let (_folder, path) = apart(&demo().drawer.nds);
    let bytes = fs::read(&path).unwrap();
    // What its header says is used of the chip (offset 80h) is there, or not quite.
    let used = u32::from_le_bytes(bytes[0x80..0x84].try_into().unwrap()) as usize;
    fs::write(&path, &bytes[..used]).unwrap();
    assert_eq!(alone(&path).verdict, Verdict::Sound);
    fs::write(&path, &bytes[..used - 1]).unwrap();
    assert_eq!(alone(&path).verdict, Verdict::Incomplete);
}
