//! Drives in hunks: partitions, file systems, one folder out of many, fixes laid over, differences, damage.

use crate::support::{demo, folder, run, text, tree};
use std::fs;
use std::process::Command;

#[test]
fn one_folder_of_a_compressed_drive_with_fixes_laid_over() {
    let (bench, folder) = (&demo().bench, folder());
    let inside = format!("{}::1::GAMES/FOGBELL", text(&bench.drive));
    run(folder.path(), &["identify", text(&bench.drive)])
        .expect(0)
        .says("1: FAT16 file system FOGBELL")
        .says("GAMES/FOGBELL (what runs at start names it");
    run(folder.path(), &["extract", &inside, "-o", "plain"]).expect(0);
    let words = ["extract", &inside, "-o", "fixed", "--overlay", text(&bench.fixes), "--originals", "before"];
    run(folder.path(), &words).expect(0).says("1 replaced, 1 new, 1 the same already").says("LEVELS/PIER02.DAT");
    // Again, to the same; and back.
    let once = tree(&folder.path().join("fixed"));
    run(folder.path(), &[&words[..], &["--replace"]].concat()).expect(0);
    assert!(tree(&folder.path().join("fixed")) == once);
    run(folder.path(), &["extract", "fixed", "-o", "undone", "--overlay", "before"]).expect(0);
    let mut undone = tree(&folder.path().join("undone"));
    undone.retain(|(name, _)| name != "FIXES.TXT");
    assert!(undone == tree(&folder.path().join("plain")));
    let json = run(folder.path(), &["extract", &inside, "--overlay", text(&bench.fixes), "--dry-run", "--json"])
        .expect(0)
        .json();
    assert_eq!(json["overlay"]["replaced"][0], "LEVELS/PIER02.DAT");
}

#[test]
fn drives_become_hunks_and_come_back() {
    let (bench, folder) = (&demo().bench, folder());
    run(folder.path(), &["verify", text(&bench.drive)]).expect(0).says("1 of 1 digest holds");
    run(folder.path(), &["convert", text(&bench.drive), "--to", "img", "-o", "drive.img", "--prove"]).expect(0);
    for codecs in ["zstd", "zlib,lzma,flac", "flac"] {
        run(
            folder.path(),
            &["convert", "drive.img", "--to", "chd", "--codecs", codecs, "-o", "c.chd", "--replace", "--prove"],
        )
        .expect(0);
        run(folder.path(), &["verify", "c.chd"]).expect(0).says("SOUND");
    }
    // A difference holds what was changed, and needs its parent.
    let mut image = fs::read(folder.path().join("drive.img")).unwrap();
    image[20_000_000..20_000_100].fill(7);
    fs::write(folder.path().join("changed.img"), &image).unwrap();
    run(folder.path(), &["convert", "changed.img", "--to", "chd", "--parent", "c.chd", "-o", "d.chd"]).expect(0);
    assert!(fs::metadata(folder.path().join("d.chd")).unwrap().len() < 2000);
    run(folder.path(), &["verify", "d.chd"]).expect(0);
    run(folder.path(), &["convert", "d.chd", "--to", "img", "-o", "again.img"]).expect(0);
    assert!(fs::read(folder.path().join("again.img")).unwrap() == image);
    fs::remove_file(folder.path().join("c.chd")).unwrap();
    run(folder.path(), &["identify", "d.chd"]).expect(3).says("only the difference to another CHD");
    run(folder.path(), &["convert", "drive.img", "--to", "chd", "--codecs", "lzip"])
        .expect(2)
        .says("there is no codec");
    run(folder.path(), &["convert", "drive.img", "--to", "chd", "--hunk", "1000"]).expect(2).says("whole units");
}

#[test]
fn cds_and_dvds_become_hunks_too() {
    let (d, folder) = (demo(), folder());
    run(folder.path(), &["convert", text(&d.cue), "--to", "chd", "-o", "cd.chd", "--prove"]).expect(0).says("3 tracks");
    run(folder.path(), &["verify", "cd.chd"]).expect(0).says("1,730 in 3 tracks");
    run(folder.path(), &["convert", "cd.chd", "--to", "cd-raw", "-o", "pinball.bin"]).expect(0);
    let original = d.cue.with_extension("bin");
    assert!(fs::read(folder.path().join("pinball.bin")).unwrap() == fs::read(original).unwrap());
    let sheet = fs::read_to_string(folder.path().join("pinball.cue")).unwrap();
    assert_eq!(sheet.replace("pinball.bin", "Pier Nine Pinball.bin"), fs::read_to_string(&d.cue).unwrap());
    run(folder.path(), &["convert", text(&d.dvd), "--to", "chd", "--codecs", "zlib", "-o", "dvd.chd"])
        .expect(0)
        .says("a DVD");
    run(folder.path(), &["identify", "dvd.chd"]).expect(0).says("in a CHD compressed image");
    run(folder.path(), &["convert", "dvd.chd", "--to", "iso", "-o", "lane.iso"]).expect(0);
    assert!(fs::read(folder.path().join("lane.iso")).unwrap() == fs::read(&d.dvd).unwrap());
}

#[test]
fn damage_in_a_compressed_drive_is_named() {
    let (bench, folder) = (&demo().bench, folder());
    let bytes = fs::read(&bench.drive).unwrap();
    let write = |name: &str, change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = bytes.clone();
        change(&mut bytes);
        fs::write(folder.path().join(name), bytes).unwrap();
    };
    write("hit.chd", &|b| b[200_000] ^= 1);
    run(folder.path(), &["verify", "hit.chd"]).expect(1).says("hunk").says("damaged").says("DAMAGED");
    write("cut.chd", &|b| b.truncate(100_000));
    run(folder.path(), &["verify", "cut.chd"]).expect(3).says("hunk map lies past the end");
    write("codec.chd", &|b| b[16..20].copy_from_slice(b"avhu"));
    run(folder.path(), &["identify", "codec.chd"]).expect(0).says("\"avhu\"");
    write("map.chd", &|b| {
        let end = b.len();
        b[end - 40] ^= 0x10;
    });
    run(folder.path(), &["identify", "map.chd"]).expect(3).says("hunk map is damaged");
    write("meta.chd", &|b| b[145] ^= 1);
    run(folder.path(), &["verify", "meta.chd"]).expect(1).says("header or metadata are damaged");
}

/// Whether a general tool is there; without it the test says that it did not run.
fn has(tool: &str) -> bool {
    let found = Command::new(tool).arg("--version").output().is_ok();
    if !found {
        eprintln!("SKIPPED: {tool} is not installed");
    }
    found
}

#[test]
fn file_systems_of_general_tools_come_out_file_by_file() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir_all(at("src/Long folder name/deep")).unwrap();
    for (name, len) in
        [("A.TXT", 0), ("Brine and Bramble, a longer name.dat", 70_000), ("Long folder name/deep/x", 300_001)]
    {
        let bytes: Vec<u8> = (0..len).map(|i: u32| (i % 241 + i / 4096) as u8).collect();
        fs::write(at("src").join(name), bytes).unwrap();
    }
    let wanted = tree(&at("src"));
    let image = |name: &str, mib: u64| fs::File::create(at(name)).unwrap().set_len(mib << 20).unwrap();
    let tool = |program: &str, words: &[&str]| {
        let path = "/usr/sbin:/sbin:/usr/bin:/bin";
        let done = Command::new(program).args(words).current_dir(folder.path()).env("PATH", path).output();
        done.is_ok_and(|o| o.status.success())
    };
    let mut ran = 0;
    if has("/usr/sbin/mkfs.fat") && has("mcopy") {
        for (width, mib) in [("12", 3), ("16", 20), ("32", 70)] {
            image("fat.img", mib);
            assert!(tool("mkfs.fat", &["-F", width, "fat.img"]));
            assert!(tool(
                "mcopy",
                &[
                    "-s",
                    "-i",
                    "fat.img",
                    "src/A.TXT",
                    "src/Brine and Bramble, a longer name.dat",
                    "src/Long folder name",
                    "::/"
                ]
            ));
            run(folder.path(), &["extract", "fat.img", "-o", "fat", "--replace"]).expect(0);
            assert!(tree(&at("fat")) == wanted, "FAT{width}");
            run(folder.path(), &["verify", "fat.img"]).expect(0).says("4 of 4 checks hold");
            fs::remove_file(at("fat.img")).unwrap();
            ran += 1;
        }
    }
    if has("/usr/sbin/mkfs.ext4") {
        for kind in ["mkfs.ext4", "mkfs.ext2"] {
            image("ext.img", 16);
            assert!(tool(kind, &["-q", "-F", "-d", "src", "ext.img"]));
            run(folder.path(), &["extract", "ext.img", "-o", "ext", "--replace"]).expect(0);
            assert!(tree(&at("ext")) == wanted, "{kind}");
            fs::remove_file(at("ext.img")).unwrap();
            ran += 1;
        }
    }
    if has("/usr/sbin/mkntfs") && has("/usr/sbin/ntfscp") {
        image("ntfs.img", 16);
        assert!(tool("mkntfs", &["-q", "-F", "-f", "ntfs.img"]));
        for (from, to) in [("src/Brine and Bramble, a longer name.dat", "Brine.dat"), ("src/A.TXT", "A.TXT")] {
            assert!(tool("ntfscp", &["-q", "-f", "ntfs.img", from, to]));
        }
        run(folder.path(), &["extract", "ntfs.img", "-o", "ntfs"]).expect(0);
        assert!(
            fs::read(at("ntfs/Brine.dat")).unwrap()
                == fs::read(at("src/Brine and Bramble, a longer name.dat")).unwrap()
        );
        let mut bytes = fs::read(at("ntfs.img")).unwrap();
        // Record 3 of the table, the state of the volume: the flag of one that was not shut down.
        let table = u64::from_le_bytes(bytes[48..56].try_into().unwrap()) as usize * usize::from(bytes[13]) * 512;
        let record = table + 3 * 1024;
        let state = (record + 56..record + 1000).step_by(8).find(|i| bytes[*i..*i + 4] == [0x70, 0, 0, 0]).unwrap();
        bytes[state + 24 + 10] |= 1;
        fs::write(at("dirty.img"), bytes).unwrap();
        run(folder.path(), &["identify", "dirty.img"]).expect(0).says("was not shut down");
        ran += 1;
    }
    eprintln!("{ran} file systems were made by general tools");
}

#[test]
fn partitions_past_the_end_are_named() {
    let (bench, folder) = (&demo().bench, folder());
    run(folder.path(), &["convert", text(&bench.drive), "--to", "img", "-o", "drive.img"]).expect(0);
    let mut bytes = fs::read(folder.path().join("drive.img")).unwrap();
    bytes[462..478].copy_from_slice(&[0, 0, 0, 0, 0x0c, 0, 0, 0, 0, 0, 0, 1, 0, 0x10, 0, 0]);
    bytes.truncate(8 << 20);
    fs::write(folder.path().join("short.img"), bytes).unwrap();
    let said = run(folder.path(), &["identify", "short.img"]).expect(0);
    said.says("partition 1 ends at byte").says("bytes past the end of the drive");
    run(folder.path(), &["list", "short.img"]).expect(0).says("it begins at byte");
    run(folder.path(), &["extract", "short.img::1::GAMES", "-o", "games"]).expect(0);
}
