//! Dumps of drives with any faults, stopped and gone on with in any order: what a map says was read is what the medium has,
//! what it does not say is not there, and a result gets its name only when nothing is missing.

use crate::common::noise;
use decanter_core::{Error, Watch};
use decanter_jobs::dump::map::{Map, State};
use decanter_jobs::dump::{Options, dump, new_plan};
use decanter_jobs::{Answer, Setting};
use proptest::prelude::*;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use tempfile::TempDir;

const SECTOR: u64 = 2048;

/// A medium, and drives that read it.
struct Bench {
    folder: TempDir,
    medium: Vec<u8>,
}

impl Bench {
    fn new(sectors: u64) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let medium = noise((sectors * SECTOR) as usize, 11);
        fs::write(folder.path().join("medium.bin"), &medium).unwrap();
        Self { folder, medium }
    }

    fn at(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// A drive with these lines in its description.
    fn drive(&self, faults: &str) -> String {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        let path = self.at(&format!("drive-{}.toml", NEXT.fetch_add(1, Ordering::Relaxed)));
        fs::write(&path, format!("image = \"medium.bin\"\n{faults}")).unwrap();
        format!("sim:{}", decanter_core::native::text(&path))
    }

    fn sector(&self, number: u64) -> &[u8] {
        &self.medium[(number * SECTOR) as usize..((number + 1) * SECTOR) as usize]
    }

    /// Holds what an unfinished dump has, by its own map, against the medium.
    fn hold(&self, image: &Path) -> Map {
        let map = Map::beside(image).unwrap().expect("a map beside an unfinished dump");
        let bytes = fs::read(image).unwrap();
        for sector in 0..map.sectors {
            let own = bytes.get((sector * SECTOR) as usize..((sector + 1) * SECTOR) as usize);
            if map.state_of(sector).is_content() {
                assert!(
                    own == Some(self.sector(sector)),
                    "sector {sector} is said to be read, and is not the medium's"
                );
            }
        }
        map
    }
}

fn options() -> Options {
    Options {
        passes: 2,
        retries: 2,
        twice: false,
        fill_from: Vec::new(),
        plan: None,
        sectors: None,
        sector_len: SECTOR,
        restart: false,
        picture: None,
        digests: Vec::new(),
    }
}

/// Stops after so many bytes.
struct Stops {
    left: AtomicU64,
}

impl Watch for Stops {
    fn advance(&self, bytes: u64) {
        let _ = self.left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| Some(left.saturating_sub(bytes)));
    }

    fn cancelled(&self) -> bool {
        self.left.load(Ordering::Relaxed) == 0
    }
}

fn bad(ranges: &[(u64, u64)], last: u64) -> String {
    let one = |(first, count): &(u64, u64)| {
        let (first, end) = (first % (last + 1), (first % (last + 1) + count).min(last));
        format!("[[bad]]\nfirst = {first}\nlast = {end}\n")
    };
    ranges.iter().map(one).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(25))]
    #[test]
    fn a_dump_may_be_stopped_and_gone_on_with_as_often_as_one_likes(
        sectors in 20u64..400,
        runs in proptest::collection::vec((proptest::collection::vec((any::<u64>(), 0u64..9), 0..4), 1u64..600), 1..5),
    ) {
        let bench = Bench::new(sectors);
        let target = bench.at("disc.iso");
        let unfinished = bench.at("disc.iso.incomplete");
        for (scratches, stop_after) in runs {
            let drive = bench.drive(&bad(&scratches, sectors - 1));
            let watch = Stops { left: AtomicU64::new(stop_after * SECTOR) };
            let ended = dump(&drive, &target, &options(), &Setting::new(&watch));
            if target.exists() {
                prop_assert!(ended.is_ok_and(|(report, answer)| report.complete && answer == Answer::Yes));
                break;
            }
            match ended {
                Ok((report, answer)) => {
                    prop_assert!(!report.complete && answer != Answer::Yes && report.missing_sectors > 0);
                    let map = bench.hold(&unfinished);
                    prop_assert_eq!(map.missing(), report.missing_sectors);
                }
                Err(failure) => {
                    // Nothing on it may have been read yet when it was stopped; else there is a map.
                    prop_assert!(matches!(*failure.cause, Error::Cancelled), "{}", failure);
                    if unfinished.exists() {
                        bench.hold(&unfinished);
                    }
                }
            }
        }
        // A drive without faults makes it whole, if it is not yet.
        match dump(&bench.drive(""), &target, &options(), &Setting::new(&())) {
            Ok((report, answer)) => prop_assert!(report.complete && answer == Answer::Yes),
            Err(failure) => prop_assert!(matches!(*failure.cause, Error::Exists { .. }), "{}", failure),
        }
        prop_assert!(fs::read(&target).unwrap() == bench.medium);
        prop_assert!(!unfinished.exists());
    }

    #[test]
    fn two_scratched_discs_give_what_either_has(
        one in proptest::collection::vec((0u64..300, 0u64..6), 0..5),
        two in proptest::collection::vec((40u64..300, 0u64..6), 0..5),
    ) {
        let bench = Bench::new(300);
        // The first sectors carry the name of the disc: without them nothing shows that both are the same.
        let one: Vec<_> = one.into_iter().map(|(first, n)| (40 + first % 260, n)).collect();
        let hit = |ranges: &[(u64, u64)], sector: u64| ranges.iter().any(|(first, n)| (*first..=(first + n).min(299)).contains(&sector));
        let copies = [("a.iso", &one), ("b.iso", &two)].map(|(name, scratches)| {
            let target = bench.at(name);
            let drive = bench.drive(&bad(scratches, 299));
            dump(&drive, &target, &Options { passes: 1, ..options() }, &Setting::new(&())).unwrap();
            let unfinished = bench.at(&format!("{name}.incomplete"));
            if unfinished.exists() { unfinished } else { target }
        });
        if !copies[0].ends_with("a.iso.incomplete") {
            return Ok(());
        }
        let wish = Options { passes: 0, fill_from: vec![decanter_core::native::text(&copies[1])], ..options() };
        let (report, _) = dump(&bench.drive(&bad(&one, 299)), &bench.at("a.iso"), &wish, &Setting::new(&())).unwrap();
        let lost: Vec<u64> = (0..300).filter(|s| hit(&one, *s) && hit(&two, *s)).collect();
        prop_assert_eq!(report.missing_sectors, lost.len() as u64);
        if lost.is_empty() {
            prop_assert!(fs::read(bench.at("a.iso")).unwrap() == bench.medium);
        } else {
            let map = bench.hold(&copies[0]);
            let gaps: Vec<u64> = map.gaps().iter().flat_map(|r| r.first..r.first + r.count).collect();
            prop_assert_eq!(gaps, lost);
        }
    }
}

#[test]
fn sectors_that_a_plan_leaves_blank_are_no_content_and_reading_them_later_makes_them_some() {
    let bench = Bench::new(100);
    let (drive, target) = (bench.drive("[[bad]]\nfirst = 90\nlast = 90\n"), bench.at("p.iso"));
    let plan = |blank: &str| {
        let text = format!(
            "sectors = 100\n[[region]]\nfirst = 0\ncount = 40\naction = \"read\"\n[[region]]\nfirst = 40\ncount = 20\naction = \"{blank}\"\n[[region]]\nfirst = 60\ncount = 40\naction = \"read\"\n"
        );
        fs::write(bench.at("plan.toml"), text).unwrap();
        Options { plan: Some(bench.at("plan.toml")), ..options() }
    };
    let (report, answer) = dump(&drive, &target, &plan("fill"), &Setting::new(&())).unwrap();
    assert_eq!((report.missing_sectors, answer), (1, Answer::No));
    let map = bench.hold(&bench.at("p.iso.incomplete"));
    assert!(
        !map.state_of(50).is_content() && map.state_of(50).is_there(),
        "zeros by a plan are there, and are no content"
    );
    assert_eq!(map.in_state(State::Blank).iter().map(|r| r.count).sum::<u64>(), 20);
    // The same plan with the region to be read opens it again; nothing that was read is read or named anew.
    let (report, _) = dump(&bench.drive(""), &target, &plan("read"), &Setting::new(&())).unwrap();
    assert!(report.complete && report.resumed, "{report:?}");
    assert!(fs::read(&target).unwrap() == bench.medium);
}

#[test]
fn a_copy_that_a_plan_left_blank_gives_only_what_was_read() {
    let bench = Bench::new(100);
    let text = "sectors = 100\n[[region]]\nfirst = 0\ncount = 50\naction = \"read\"\n[[region]]\nfirst = 50\ncount = 50\naction = \"fill\"\n";
    fs::write(bench.at("half.toml"), text).unwrap();
    let half = Options { plan: Some(bench.at("half.toml")), ..options() };
    let other = bench.at("half.iso");
    dump(&bench.drive(""), &other, &half, &Setting::new(&())).unwrap();
    let scratched = bench.drive("[[bad]]\nfirst = 45\nlast = 55\n");
    dump(&scratched, &bench.at("own.iso"), &options(), &Setting::new(&())).unwrap();
    let wish = Options { passes: 0, fill_from: vec![decanter_core::native::text(&other)], ..options() };
    let (report, answer) = dump(&scratched, &bench.at("own.iso"), &wish, &Setting::new(&())).unwrap();
    assert_eq!((report.fills[0].filled, report.missing_sectors, answer), (5, 6, Answer::No));
    bench.hold(&bench.at("own.iso.incomplete"));
}

#[test]
fn what_a_map_claims_beyond_its_file_was_not_read() {
    let bench = Bench::new(200);
    let target = bench.at("d.iso");
    let scratched = bench.drive("[[bad]]\nfirst = 199\nlast = 199\n");
    dump(&scratched, &target, &options(), &Setting::new(&())).unwrap();
    let unfinished = bench.at("d.iso.incomplete");
    let file = fs::File::options().write(true).open(&unfinished).unwrap();
    file.set_len(100 * SECTOR + 7).unwrap();
    drop(file);
    let mut map = Map::beside(&unfinished).unwrap().unwrap();
    map.cut_to(100 * SECTOR + 7);
    assert_eq!((map.missing(), map.gaps()[0].first), (100, 100));
    let (report, _) = dump(&bench.drive(""), &target, &options(), &Setting::new(&())).unwrap();
    assert!(report.complete && fs::read(&target).unwrap() == bench.medium);
}

#[cfg(unix)]
#[test]
fn an_unfinished_file_that_no_map_of_ours_describes_is_left_alone() {
    let bench = Bench::new(50);
    let target = bench.at("x.iso");
    for content in ["somebody's notes", ""] {
        fs::write(bench.at("x.iso.incomplete"), content).unwrap();
        let failure = dump(&bench.drive(""), &target, &options(), &Setting::new(&())).unwrap_err();
        assert!(failure.to_string().contains("x.iso.incomplete"), "{failure}");
        assert_eq!(fs::read_to_string(bench.at("x.iso.incomplete")).unwrap(), content);
    }
    // A link to the medium itself, too.
    fs::remove_file(bench.at("x.iso.incomplete")).unwrap();
    std::os::unix::fs::symlink("medium.bin", bench.at("x.iso.incomplete")).unwrap();
    assert!(dump(&bench.drive(""), &target, &options(), &Setting::new(&())).is_err());
    assert!(fs::read(bench.at("medium.bin")).unwrap() == bench.medium);
}

#[test]
fn to_begin_anew_has_to_be_asked_for_where_the_disc_is_another_one() {
    let bench = Bench::new(80);
    let target = bench.at("r.iso");
    let scratched = bench.drive("[[bad]]\nfirst = 3\nlast = 3\n");
    dump(&scratched, &target, &options(), &Setting::new(&())).unwrap();
    let other = noise(80 * SECTOR as usize, 99);
    fs::write(bench.at("medium.bin"), &other).unwrap();
    let failure = dump(&bench.drive(""), &target, &options(), &Setting::new(&())).unwrap_err();
    assert!(matches!(*failure.cause, Error::WrongDescription { .. }), "{failure}");
    let anew = Options { restart: true, ..options() };
    let (report, answer) = dump(&bench.drive(""), &target, &anew, &Setting::new(&())).unwrap();
    assert!(report.complete && !report.resumed && answer == Answer::Yes);
    assert!(fs::read(&target).unwrap() == other);
}

#[test]
fn two_reads_that_differ_are_settled_by_a_third() {
    let bench = Bench::new(60);
    let drive = bench.drive("[[wrong_once]]\nfirst = 40\nlast = 44\n");
    let twice = Options { twice: true, ..options() };
    let (report, answer) = dump(&drive, &bench.at("t.iso"), &twice, &Setting::new(&())).unwrap();
    assert_eq!((report.unstable_sectors, answer), (5, Answer::Yes));
    assert!(fs::read(bench.at("t.iso")).unwrap() == bench.medium);
}

#[test]
fn sectors_of_other_lengths_are_counted_in_their_own_unit() {
    let bench = Bench::new(40);
    let drive = bench.drive("sector_bytes = 512\n[[bad]]\nfirst = 9\nlast = 9\n");
    let wish = Options { sector_len: 512, ..options() };
    let (report, _) = dump(&drive, &bench.at("s.img"), &wish, &Setting::new(&())).unwrap();
    assert_eq!((report.sectors, report.missing_sectors, report.missing[0].first), (160, 1, 9));
    let map = Map::beside(&bench.at("s.img.incomplete")).unwrap().unwrap();
    assert_eq!(map.sector_len, 512);
    let bytes = fs::read(bench.at("s.img.incomplete")).unwrap();
    assert!(bytes[..9 * 512] == bench.medium[..9 * 512] && bytes[10 * 512..] == bench.medium[10 * 512..]);
}

#[test]
fn a_plan_that_was_written_can_be_followed() {
    let bench = Bench::new(90);
    let drive = bench.drive("reported_sectors = 70\n");
    let (text, path) = new_plan(&drive, Some(90), SECTOR, &bench.at("new.toml"), &Setting::new(&())).unwrap();
    assert!(text.contains("reports 70 sectors") && text.contains("sectors = 90"), "{text}");
    let wish = Options { plan: Some(path), ..options() };
    let (report, answer) = dump(&drive, &bench.at("n.iso"), &wish, &Setting::new(&())).unwrap();
    assert!(report.complete && answer == Answer::Yes);
    assert!(fs::read(bench.at("n.iso")).unwrap() == bench.medium);
}

#[test]
fn a_rehearsal_reads_nothing_and_leaves_nothing() {
    let bench = Bench::new(30);
    let mut setting = Setting::new(&());
    setting.dry_run = true;
    let (report, _) = dump(&bench.drive("vanishes_at = 0\n"), &bench.at("d.iso"), &options(), &setting).unwrap();
    assert!(report.dry_run && report.sectors == 30);
    let left: Vec<_> = fs::read_dir(bench.folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert!(left.iter().all(|n| !n.to_string_lossy().starts_with("d.iso")), "{left:?}");
}
