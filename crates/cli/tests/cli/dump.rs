//! Dumping from simulated drives: scratches, resume, other copies, drives that vanish, plans, pictures.

use crate::support::{demo, folder, run, text};
use std::path::Path;

/// A drive with the demo's DVD in it.
fn drive(folder: &Path, name: &str, faults: &str) -> String {
    let toml = format!("image = \"{}\"\n{faults}", demo().dvd.display());
    std::fs::write(folder.join(name), toml).unwrap();
    format!("sim:{name}")
}

fn is_the_disc(path: &Path) {
    assert!(std::fs::read(path).unwrap() == std::fs::read(&demo().dvd).unwrap());
}

#[test]
fn a_perfect_drive_is_read_in_one_pass() {
    let folder = folder();
    let drive = drive(folder.path(), "d.toml", "");
    let report = run(folder.path(), &["dump", &drive, "-o", "a.iso", "-a", "crc32,sha1", "--json"]).expect(0).json();
    assert_eq!(
        (&report["complete"], &report["passes"], &report["missing_sectors"]),
        (&true.into(), &1.into(), &0.into())
    );
    is_the_disc(&folder.path().join("a.iso"));
    let sums = run(folder.path(), &["digest", "a.iso", "-a", "sha1", "--json"]).expect(0).json();
    assert_eq!(report["digests"][1]["hex"], sums["sources"][0]["digests"][0]["hex"]);
    // A file is a drive too, and what is there is not replaced.
    run(folder.path(), &["dump", "a.iso", "-o", "b.iso"]).expect(0).says("PS2 disc image, LAMPLIGHTER, DCET-20007");
    run(folder.path(), &["dump", "a.iso", "-o", "b.iso"]).expect(2).says("already exists");
}

#[test]
fn a_scratch_stays_missing_until_another_drive_has_it() {
    let folder = folder();
    let one = drive(
        folder.path(),
        "one.toml",
        "[[bad]]\nfirst = 2100\nlast = 2123\n[[flaky]]\nfirst = 4000\nlast = 4003\nanswers_on = 3\n",
    );
    let first = run(folder.path(), &["dump", &one, "-o", "a.iso", "--picture", "map.png"]);
    first.expect(1).says("INCOMPLETE").says("sectors 2100 to 2123").says("STREETS/STREET4.TEX").says("clean the disc");
    assert!(!folder.path().join("a.iso").exists());
    let map = std::fs::read_to_string(folder.path().join("a.iso.map")).unwrap();
    assert!(map.contains("\n2100 2123 missing\n") && map.contains("\n2124 "), "{map}");
    let first_map = std::fs::read(folder.path().join("map.png")).unwrap();
    assert!(first_map.starts_with(b"\x89PNG"));
    // The very same command goes on, and draws its picture anew; another dump does not take its name.
    run(folder.path(), &["dump", &one, "-o", "a.iso", "--picture", "map.png", "--passes", "1"]).expect(1);
    run(folder.path(), &["dump", &one, "-o", "other.iso", "--picture", "map.png"]).expect(2).says("already exists");
    run(folder.path(), &["identify", "a.iso.incomplete", "--picture", "look.png"]).expect(0);
    let two = drive(folder.path(), "two.toml", "[[bad]]\nfirst = 10\nlast = 11\n");
    run(folder.path(), &["dump", &two, "-o", "b.iso", "--passes", "1"]).expect(1);
    let filled = run(
        folder.path(),
        &["dump", &one, "-o", "a.iso", "--passes", "0", "--fill-from", "b.iso.incomplete", "--json"],
    );
    let report = filled.expect(0).json();
    assert_eq!((&report["resumed"], &report["fills"][0]["filled"]), (&true.into(), &24.into()));
    is_the_disc(&folder.path().join("a.iso"));
    run(folder.path(), &["verify", "a.iso", "--against", text(&demo().dat)])
        .expect(0)
        .says("should be called Lamplighter Lane.iso");
    // The map that stays beside it shows in its picture, too.
    run(folder.path(), &["identify", "a.iso", "--picture", "id.png"]).expect(0);
}

#[test]
fn a_drive_that_vanishes_is_gone_on_with() {
    let folder = folder();
    let gone = drive(folder.path(), "d.toml", "vanishes_at = 3000\n");
    run(folder.path(), &["dump", &gone, "-o", "a.iso"])
        .expect(5)
        .says("the drive no longer answers")
        .says("goes on where it stopped");
    assert!(!folder.path().join("a.iso").exists());
    let back = drive(folder.path(), "d.toml", "");
    run(folder.path(), &["dump", &back, "-o", "a.iso"]).expect(0).says("going on with an earlier run");
    is_the_disc(&folder.path().join("a.iso"));
}

#[test]
fn another_disc_is_refused_wherever_it_comes_from() {
    let folder = folder();
    let scratched = drive(folder.path(), "d.toml", "[[bad]]\nfirst = 2100\nlast = 2101\n");
    run(folder.path(), &["dump", &scratched, "-o", "a.iso", "--passes", "1"]).expect(1);
    let mut other = std::fs::read(&demo().dvd).unwrap();
    other[17 * 2048 + 60] ^= 1;
    std::fs::write(folder.path().join("other.iso"), &other).unwrap();
    let fill = ["dump", &scratched, "-o", "a.iso", "--fill-from", "other.iso", "--passes", "0"];
    run(folder.path(), &fill).expect(4).says("sector 17 is the first that differs");
    run(folder.path(), &["dump", "other.iso", "-o", "a.iso"]).expect(4).says("not the one that was begun with");
    let swapped = format!("[swapped]\nimage = \"{}\"\nfrom_sector = 4000\n", folder.path().join("other.iso").display());
    let swapped = drive(folder.path(), "s.toml", &swapped);
    run(folder.path(), &["dump", &swapped, "-o", "c.iso"]).expect(4).says("not the one that was begun with");
    assert!(!folder.path().join("c.iso").exists());
}

#[test]
fn copies_that_disagree_are_told() {
    let folder = folder();
    let scratched = drive(folder.path(), "d.toml", "[[bad]]\nfirst = 2100\nlast = 2101\n");
    run(folder.path(), &["dump", &scratched, "-o", "a.iso", "--passes", "1"]).expect(1);
    let mut other = std::fs::read(&demo().dvd).unwrap();
    other[5000 * 2048] ^= 1;
    std::fs::write(folder.path().join("other.iso"), &other).unwrap();
    let fill = ["dump", &scratched, "-o", "a.iso", "--fill-from", "other.iso", "--passes", "0"];
    run(folder.path(), &fill).expect(0).says("the copies disagree").says("sector 5000");
    is_the_disc(&folder.path().join("a.iso"));
}

#[test]
fn wrong_bytes_are_caught_by_reading_twice() {
    let folder = folder();
    let faults = "[[wrong_once]]\nfirst = 300\nlast = 309\n";
    let drive = drive(folder.path(), "d.toml", faults);
    run(folder.path(), &["dump", &drive, "-o", "once.iso"]).expect(0);
    assert!(std::fs::read(folder.path().join("once.iso")).unwrap() != std::fs::read(&demo().dvd).unwrap());
    run(folder.path(), &["dump", &drive, "-o", "twice.iso", "--twice"])
        .expect(0)
        .says("10 sectors gave other bytes at first");
    is_the_disc(&folder.path().join("twice.iso"));
}

#[test]
fn a_plan_is_written_edited_and_followed() {
    let folder = folder();
    let short = drive(folder.path(), "d.toml", "reported_sectors = 3000\n");
    run(folder.path(), &["dump", &short, "--plan", "new", "-o", "plan.toml"]).expect(0).says("reports 3,000 sectors");
    let full = std::fs::metadata(&demo().dvd).unwrap().len() / 2048;
    let plan = format!(
        "sectors = {full}\n[[region]]\nfirst = 0\ncount = 1000\naction = \"fill\"\n[[region]]\nfirst = 1000\ncount = {}\naction = \"read\"\n",
        full - 1000
    );
    std::fs::write(folder.path().join("plan.toml"), &plan).unwrap();
    run(folder.path(), &["dump", &short, "--plan", "plan.toml", "-o", "p.iso"]).expect(0);
    let (planned, whole) = (std::fs::read(folder.path().join("p.iso")).unwrap(), std::fs::read(&demo().dvd).unwrap());
    assert!(planned[..1000 * 2048].iter().all(|&b| b == 0) && planned[1000 * 2048..] == whole[1000 * 2048..]);
    std::fs::write(folder.path().join("plan.toml"), plan.replace("first = 1000", "first = 999")).unwrap();
    run(folder.path(), &["dump", &short, "--plan", "plan.toml", "-o", "q.iso"])
        .expect(2)
        .says("region 2 begins at sector 999");
    // The size that the drive reports is too small: it can be overridden.
    run(folder.path(), &["dump", &short, "--sectors", &full.to_string(), "-o", "s.iso"]).expect(0);
    is_the_disc(&folder.path().join("s.iso"));
}

#[test]
fn what_is_no_drive_is_told_with_what_was_meant() {
    let folder = folder();
    let drive = drive(folder.path(), "d.toml", "");
    let path = drive.strip_prefix("sim:").unwrap();
    let dump = |name: &str| run(folder.path(), &["dump", name, "-o", "x.iso"]);
    dump(path).expect(2).says(&format!("did you mean {drive}?"));
    dump("sim:nix.toml").expect(5).says("cannot open the simulated drive \"sim:nix.toml\"").says("does not exist");
    dump("sim:.").expect(5).says("name the file in it that describes the drive");
    let wrong = |text: &str| {
        std::fs::write(folder.path().join("w.toml"), text).unwrap();
        dump("sim:w.toml").expect(2)
    };
    wrong("image = 5\n").says("line 1: ").says("expected text in quotes");
    wrong("image = \"a\"\nsectr_bytes = 3\n").says("line 2: ").says("the nearest one is \"sector_bytes\"");
    run(folder.path(), &["dump", &drive, "-o", "x.iso", "--passes", "many"])
        .expect(2)
        .says("it takes a whole number from 0 to 1,000");
    assert!(!folder.path().join("x.iso").exists());
}

#[test]
fn a_plan_speaks_of_hidden_partitions_only_where_there_may_be_one() {
    let folder = folder();
    let plan = |name: &str| {
        run(folder.path(), &["dump", name, "--plan", "new", "-o", "plan.toml", "--replace"]).expect(0);
        std::fs::read_to_string(folder.path().join("plan.toml")).unwrap()
    };
    assert!(!plan(&drive(folder.path(), "dvd.toml", "")).contains("Xbox"), "the disc of another console");
    std::fs::write(folder.path().join("unknown.bin"), vec![7; 2048 * 40]).unwrap();
    std::fs::write(folder.path().join("u.toml"), "image = \"unknown.bin\"\n").unwrap();
    assert!(plan("sim:u.toml").contains("a full Xbox 360 disc"), "it may be anything");
}

#[test]
fn a_cartridge_takes_no_options_of_discs() {
    let folder = folder();
    let reader = format!("sim:{}", demo().drawer.reader.display());
    let options: [&[&str]; 5] =
        [&["--plan", "new"], &["--passes", "4"], &["--sectors", "3"], &["--twice"], &["--fill-from", "x"]];
    for option in options {
        let line = [&["dump", &reader, "-o", "x.gb"], option].concat();
        run(folder.path(), &line).expect(2).says("is for discs, this is a cartridge reader").says(option[0]);
    }
    assert!(!folder.path().join("x.gb").exists());
}
