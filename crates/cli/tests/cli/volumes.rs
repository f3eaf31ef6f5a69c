//! Volumes that general tools made, and then damaged: what those tools find, `verify` finds too; what is good stays good.

use crate::support::{folder, run, tool, tree};
use std::fs;
use std::path::Path;
use std::process::Command;

#[test]
fn blocks_with_two_owners_break_both_files_of_an_ext_volume() {
    let folder = folder();
    fs::create_dir_all(folder.path().join("src/d")).unwrap();
    for (name, len) in [("a", 100_000), ("d/b", 50_000), ("c", 300_000)] {
        let bytes: Vec<u8> = (0..len as u32).map(|i| (i.wrapping_mul(0x9e37_79b9) >> 13) as u8).collect();
        fs::write(folder.path().join("src").join(name), bytes).unwrap();
    }
    fs::hard_link(folder.path().join("src/a"), folder.path().join("src/other")).unwrap();
    for kind in ["ext2", "ext4"] {
        let words = ["-q", "-t", kind, "-b", "1024", "-d", "src", "v.img", "8M"];
        if tool("mke2fs", &words, folder.path()).is_none() {
            return;
        }
        run(folder.path(), &["verify", "v.img"]).expect(0).says("READABLE");
        run(folder.path(), &["extract", "v.img", "-o", kind]).expect(0);
        let (want, found) = (tree(&folder.path().join("src")), tree(&folder.path().join(kind)));
        assert!(want == found, "names of one file share its blocks rightly");
        fs::rename(folder.path().join("v.img"), folder.path().join(format!("{kind}.img"))).unwrap();
    }
    let Some(block) = tool("debugfs", &["-R", "bmap /a 3", "ext2.img"], folder.path()) else { return };
    fs::copy(folder.path().join("ext2.img"), folder.path().join("links.img")).unwrap();
    tool("debugfs", &["-w", "-R", &format!("sif /c block[2] {block}"), "ext2.img"], folder.path());
    run(folder.path(), &["verify", "ext2.img"]).expect(1).says("DAMAGED").says(&format!("block {block} belongs to"));
    run(folder.path(), &["extract", "ext2.img", "-o", "out"]).expect(1).says("3 files left out");
    assert_eq!(tree(&folder.path().join("out")).len(), 1);
    tool("debugfs", &["-w", "-R", "sif /a links_count 7", "links.img"], folder.path());
    run(folder.path(), &["verify", "links.img"]).expect(1).says("7 names lead to it, and 2 do");
}

/// Kinds of ext volumes, as mke2fs is asked for them.
const KINDS: [(&str, &[&str]); 11] = [
    ("blocks", &["-t", "ext2"]),
    ("first", &["-t", "ext2", "-r", "0"]),
    ("journal", &["-t", "ext3", "-J", "size=1"]),
    ("sums", &["-t", "ext4", "-J", "size=1"]),
    ("no-sums", &["-t", "ext4", "-O", "^metadata_csum,^has_journal"]),
    ("group-sums", &["-t", "ext4", "-O", "^metadata_csum,uninit_bg", "-J", "size=1"]),
    ("inline", &["-t", "ext4", "-O", "inline_data", "-J", "size=1"]),
    ("clusters", &["-t", "ext4", "-O", "bigalloc", "-C", "4096", "-J", "size=1"]),
    ("apart", &["-t", "ext4", "-O", "^flex_bg", "-J", "size=1", "-g", "2048"]),
    ("meta", &["-t", "ext4", "-O", "meta_bg,^resize_inode", "-J", "size=1", "-g", "1024"]),
    ("folded", &["-t", "ext4", "-O", "casefold", "-E", "encoding=utf8", "-J", "size=1"]),
];

/// A folder with a file of every sort, to fill volumes with; content is a byte that metadata does not have.
fn fill(folder: &Path) {
    fs::create_dir_all(folder.join("src/d/e")).unwrap();
    fs::create_dir_all(folder.join("src/large")).unwrap();
    for (name, len) in [("a", 100_000), ("d/b", 50_000), ("d/e/c", 3000), ("empty", 0)] {
        fs::write(folder.join("src").join(name), vec![0xee; len]).unwrap();
    }
    for number in 0..300 {
        fs::write(folder.join(format!("src/large/a-name-of-some-length-{number:04}")), []).unwrap();
    }
    std::os::unix::fs::symlink("d/b", folder.join("src/link")).unwrap();
    std::os::unix::fs::symlink("l".repeat(200), folder.join("src/long-link")).unwrap();
    fs::hard_link(folder.join("src/a"), folder.join("src/other")).unwrap();
}

/// Makes a volume of a kind, with trees over its large folders; false, told loudly, if it cannot be made here.
fn ext(folder: &Path, name: &str, options: &[&str]) -> bool {
    let image = format!("{name}.img");
    let words = [&["-q", "-F", "-b", "1024"], options, &["-d", "src", &image, "8M"]].concat();
    if tool("mke2fs", &words, folder).is_none() {
        return false;
    }
    // It ends with 1 when it has put folders in order.
    Command::new("/usr/sbin/e2fsck").args(["-fyD", &image]).current_dir(folder).output().is_ok()
}

/// What the tool's own check says of a volume; `None` if it is content.
fn complaints(folder: &Path, checker: &str, image: &str) -> Option<String> {
    let option = if checker == "e2fsck" { "-fn" } else { "-n" };
    let output = Command::new(Path::new("/usr/sbin").join(checker)).args([option, image]).current_dir(folder).output();
    let output = output.unwrap();
    (!output.status.success()).then(|| String::from_utf8_lossy(&output.stdout).into_owned())
}

#[test]
fn good_ext_volumes_of_every_kind_are_read_and_called_so() {
    let folder = folder();
    fill(folder.path());
    for (name, options) in KINDS {
        if !ext(folder.path(), name, options) {
            return;
        }
        let image = format!("{name}.img");
        assert_eq!(complaints(folder.path(), "e2fsck", &image), None, "{name}");
        run(folder.path(), &["verify", &image]).expect(0).says("4 of 4 checks hold").says("READABLE");
        run(folder.path(), &["extract", &image, "-o", name]).expect(0);
        assert!(tree(&folder.path().join("src")) == tree(&folder.path().join(name)), "{name}");
    }
}

#[test]
fn every_sort_of_damage_to_an_ext_volume_is_told() {
    let folder = folder();
    fill(folder.path());
    if !ext(folder.path(), "good", &["-t", "ext4", "-O", "^metadata_csum,^has_journal"]) {
        return;
    }
    let cases = [
        ("clri /d/b", "which is not in use"),
        ("unlink /d/b", "no name leads to inode"),
        ("unlink /d/e", "hangs from no other folder"),
        ("sif /a size 5", "it has blocks beyond its end"),
        ("sif /a blocks 3", "it takes another number of blocks than it says"),
        ("sif /a dtime 77", "has the time of its deletion"),
        ("sif /a mode 0", "its kind is none"),
        ("sif /d links_count 9", "says that 9 names lead to it, and 3 do"),
        ("sif /d/e size 2048", "the length of a folder is not that of its blocks"),
        ("sif /a block[5] 99999999", "its tree of extents"),
        ("sif /d/e/c file_acl 7000", "it takes another number of blocks than it says"),
        ("freeb 30 1", "is free in its map, and is in use"),
        ("setb 7900 5", "is taken in its map, and belongs to nothing"),
        ("freei /a", "is free in its map, and is in use"),
        ("ssv inodes_count 77", "inodes and groups do not agree"),
        ("set_bg 0 free_inodes_count 3", "says 3 free inodes"),
        ("set_bg 0 used_dirs_count 3", "says 3 folders"),
        ("link /d /d2", "stands in two folders"),
    ];
    for (request, words) in cases {
        fs::copy(folder.path().join("good.img"), folder.path().join("bad.img")).unwrap();
        tool("debugfs", &["-w", "-R", request, "bad.img"], folder.path());
        assert!(complaints(folder.path(), "e2fsck", "bad.img").is_some(), "{request} does no damage");
        let told = run(folder.path(), &["verify", "bad.img"]);
        assert!(told.code == 1 && told.out.contains(words), "{request}: \"{words}\" is missing: {told:?}");
    }
}

/// Numbers that look random and are the same every time.
fn numbers(mut seed: u64) -> impl FnMut(usize) -> usize {
    move |below| {
        seed = seed.wrapping_mul(0x5851_f42d_4c95_7f2d).wrapping_add(0x1405_7b7e_f767_814f);
        (seed >> 33) as usize % below
    }
}

/// Damages metadata of `good` at a few places.
fn damaged(good: &[u8], seed: u64) -> Vec<u8> {
    let mut bytes = good.to_vec();
    let mut next = numbers(seed);
    let is_metadata = |cell: &[u8]| cell.iter().any(|b| *b != 0) && cell.iter().filter(|b| **b == 0xee).count() < 8;
    let cells: Vec<usize> = (512..good.len()).step_by(32).filter(|at| is_metadata(&good[*at..at + 32])).collect();
    for _ in 0..=next(2) {
        let at = cells[next(cells.len())] + next(32);
        bytes[at] = match next(3) {
            0 => bytes[at] ^ (1 << next(8)),
            1 => next(256) as u8,
            _ => 0,
        };
    }
    bytes
}

/// Holds `verify` against a checker over damaged copies of a volume. `matters` tells the complaints that are about files,
/// folders or allocation.
fn hold_against(folder: &Path, checker: &str, image: &str, seeds: u64, matters: &[&str]) {
    let good = fs::read(folder.join(image)).unwrap();
    for seed in 0..seeds {
        fs::write(folder.join("bad.img"), damaged(&good, seed)).unwrap();
        let Some(found) = complaints(folder, checker, "bad.img") else { continue };
        if matters.iter().any(|m| found.contains(m)) {
            let told = run(folder, &["verify", "bad.img"]);
            assert!(told.code != 0, "{image}, damage {seed}: {checker} says {found}, and verify {told:?}");
        }
    }
}

#[test]
fn what_the_checker_of_ext_finds_is_never_called_good() {
    let folder = folder();
    fill(folder.path());
    let matters = [
        "bitmap differences",
        "count wrong for group",
        "invalid block",
        "deleted/unused inode",
        "Unconnected directory",
        "Unattached inode",
        "ref count is",
        "i_size is",
        "i_blocks is",
        "Multiply-claimed",
        "does not match",
        "illegal characters",
        "incorrect filetype",
        "corrupted",
        "invalid mode",
    ];
    for (name, options) in KINDS {
        if !ext(folder.path(), name, options) {
            return;
        }
        hold_against(folder.path(), "e2fsck", &format!("{name}.img"), 12, &matters);
    }
}

#[test]
fn what_the_checker_of_fat_finds_is_never_called_good() {
    let folder = folder();
    fs::create_dir_all(folder.path().join("src/dir/sub")).unwrap();
    for (name, len) in [("a.bin", 60_000), ("dir/a long name.txt", 5000), ("dir/sub/x", 30), ("empty", 0)] {
        fs::write(folder.path().join("src").join(name), vec![0xee; len]).unwrap();
    }
    for (width, kib) in [("12", "1440"), ("16", "9000"), ("32", "36000")] {
        let image = format!("f{width}.img");
        if tool("mkfs.fat", &["-C", "-F", width, &image, kib], folder.path()).is_none() {
            return;
        }
        if tool("mcopy", &["-s", "-i", &image, "src/a.bin", "src/dir", "src/empty", "::"], folder.path()).is_none() {
            return;
        }
        run(folder.path(), &["verify", &image]).expect(0).says("4 of 4 checks hold");
        let matters = ["cluster", "size", "FATs differ", "Reclaim", "Start"];
        hold_against(folder.path(), "fsck.fat", &image, 30, &matters);
    }
}

#[test]
fn records_folders_and_maps_of_an_ntfs_volume_are_held_together() {
    let folder = folder();
    fs::write(folder.path().join("vol.img"), []).unwrap();
    fs::File::options().write(true).open(folder.path().join("vol.img")).unwrap().set_len(8 << 20).unwrap();
    let words = ["-q", "-F", "-f", "-c", "4096", "vol.img"];
    if tool("mkntfs", &words, folder.path()).is_none() {
        return;
    }
    fs::write(folder.path().join("src"), vec![0xee; 30_000]).unwrap();
    for name in ["PIER", "QUAY"] {
        if tool("ntfscp", &["-q", "-f", "vol.img", "src", name], folder.path()).is_none() {
            return;
        }
    }
    run(folder.path(), &["verify", "vol.img"]).expect(0).says("3 of 3 checks hold");
    let good = fs::read(folder.path().join("vol.img")).unwrap();
    let utf16 = |name: &str| name.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
    // The record of the file called PIER: where it begins, and its name in it and in the list of the root folder.
    let name = utf16("PIER");
    let places: Vec<usize> = (0..good.len() - 8).filter(|at| good[*at..at + 8] == name[..]).collect();
    let record = |at: usize| at / 1024 * 1024;
    let in_record =
        places.iter().copied().find(|at| good[record(*at)..].starts_with(b"FILE") && record(*at) != record(places[0]));
    let own = in_record.or(places.iter().copied().find(|at| good[record(*at)..].starts_with(b"FILE"))).unwrap();
    let start = record(own);
    let cases: [(usize, u8, &str); 5] = [
        (start, b'X', "is in use, and is none"),
        (start + 22, 0, "is in use in its map, and is not"),
        (start + 16, 99, "is another's"),
        (own, b'Z', "is not listed in"),
        (start + 44, 3, "says that it is record 3"),
    ];
    for (at, byte, words) in cases {
        let mut bad = good.clone();
        bad[at] = byte;
        fs::write(folder.path().join("bad.img"), bad).unwrap();
        let told = run(folder.path(), &["verify", "bad.img"]).expect(1);
        assert!(told.out.contains(words) || told.err.contains(words), "{words}: {told:?}");
    }
    // A volume that says it has a million times as many clusters is answered at once.
    let mut bad = good.clone();
    bad[46] = 1;
    fs::write(folder.path().join("bad.img"), bad).unwrap();
    run(folder.path(), &["verify", "bad.img"]).expect(1).says("INCOMPLETE");
    // The content of the file, which lies in its own clusters, is free in the map of clusters.
    let content = (0..good.len()).step_by(4096).find(|at| good[*at..at + 4096].iter().all(|b| *b == 0xee)).unwrap();
    let cluster = content / 4096;
    // Record 6 of the table is the map: the first run of its data (attribute 80h) has a byte of length and two of place.
    let long = |at: usize| u32::from_le_bytes(good[at..at + 4].try_into().unwrap()) as usize;
    let short = |at: usize| u16::from_le_bytes(good[at..at + 2].try_into().unwrap()) as usize;
    let six = long(48) * 4096 + 6 * 1024;
    let mut at = six + short(six + 20);
    while long(at) != 0x80 {
        at += long(at + 4);
    }
    let run_at = at + short(at + 32);
    let widths = (usize::from(good[run_at] & 15), usize::from(good[run_at] >> 4));
    let place = &good[run_at + 1 + widths.0..][..widths.1];
    let map = place.iter().rev().fold(0, |sum, b| sum << 8 | usize::from(*b)) * 4096;
    let mut bad = good.clone();
    bad[map + cluster / 8] &= !(1 << (cluster % 8));
    fs::write(folder.path().join("bad.img"), bad).unwrap();
    run(folder.path(), &["verify", "bad.img"]).expect(1).says("is free in its map");
}

/// The file of an exFAT volume that `mkfs.exfat` made and a driver filled: two files that grew in turns, long names, one that was deleted.
const SAMPLE: &[u8] = include_bytes!("../../../formats/tests/samples/exfat.img.gz");

/// What was written there: every byte of it.
fn written(len: usize, seed: usize) -> Vec<u8> {
    (0..len).map(|i| (seed * 7 + i * 31 + (i >> 8) * 13) as u8).collect()
}

#[test]
fn an_exfat_volume_that_a_driver_wrote_is_read_to_the_byte() {
    let folder = folder();
    fs::write(folder.path().join("tide.img.gz"), SAMPLE).unwrap();
    run(folder.path(), &["extract", "tide.img.gz", "-o", "out"]).expect(0);
    run(folder.path(), &["verify", "tide.img.gz"]).expect(0).says("4 of 4 checks hold").says("SOUND");
    let mut want: Vec<(String, Vec<u8>)> = (0..12)
        .filter(|number| *number != 3)
        .map(|n| {
            let name = format!("Kelp Courier/a log of the lantern that is longer than one entry takes, number {n}.txt");
            (name, format!("note {n}\n").into_bytes())
        })
        .collect();
    let grown = |seed: usize| (0..6).flat_map(|i| written(5000, i + seed)).collect();
    want.extend([
        ("Kelp Courier/levels/one.bin".into(), written(20_000, 1)),
        ("Möwe ☂.txt".into(), b"rain\n".to_vec()),
        ("ebb.bin".into(), grown(0)),
        ("empty".into(), Vec::new()),
        ("flow.bin".into(), grown(50)),
    ]);
    want.sort();
    let mut found = tree(&folder.path().join("out"));
    found.sort();
    assert!(found == want, "{:?}", found.iter().map(|(name, bytes)| (name, bytes.len())).collect::<Vec<_>>());
}

#[test]
fn an_exfat_volume_as_it_is_made_is_sound_and_empty() {
    let folder = folder();
    fs::File::create(folder.path().join("e.img")).and_then(|file| file.set_len(32 << 20)).unwrap();
    if tool("mkfs.exfat", &["-L", "LOW TIDE", "e.img"], folder.path()).is_none() {
        return;
    }
    run(folder.path(), &["identify", "e.img"]).expect(0).says("exFAT").says("LOW TIDE").says("0 files in 0 folders");
    run(folder.path(), &["verify", "e.img"]).expect(0).says("4 of 4 checks hold");
}

#[test]
fn a_disc_that_is_written_once_is_as_long_as_what_was_written() {
    let folder = folder();
    // The image is as long as the disc: what was written ends early.
    fs::File::create(folder.path().join("once.img")).and_then(|file| file.set_len(40 << 20)).unwrap();
    if tool("mkudffs", &["--media-type=cdr", "-l", "Low Tide", "once.img"], folder.path()).is_none() {
        return;
    }
    run(folder.path(), &["list", "once.img"]).expect(0).says("it holds no files");
    let told = run(folder.path(), &["identify", "once.img"]).expect(0).says("virtual").says("Low Tide");
    let sectors: u64 = told.out.split("complete (").nth(1).unwrap().split(' ').next().unwrap().parse().unwrap();
    let whole = fs::read(folder.path().join("once.img")).unwrap();
    assert!(whole[sectors as usize * 2048..].iter().all(|b| *b == 0) && sectors < 2000, "{sectors}");
    fs::write(folder.path().join("dumped.img"), &whole[..sectors as usize * 2048]).unwrap();
    run(folder.path(), &["identify", "dumped.img"]).expect(0).says(&format!("complete ({sectors} sectors)"));
    fs::write(folder.path().join("cut.img"), &whole[..(sectors as usize - 1) * 2048]).unwrap();
    run(folder.path(), &["identify", "cut.img"]).expect(3).says("the disc is cut, or was not closed");
}

#[test]
fn universal_volumes_of_every_medium_and_sector_are_read() {
    let folder = folder();
    let kinds: [&[&str]; 8] = [
        &["--media-type=hd", "-b", "512"],
        &["--media-type=hd", "-b", "4096"],
        &["--media-type=hd", "-b", "1024"],
        &["--media-type=dvd", "--udfrev=1.02"],
        &["--media-type=dvdram", "--udfrev=2.01"],
        &["--media-type=cdrw", "--udfrev=1.50"],
        &["--media-type=dvdr", "--udfrev=2.60"],
        &["--media-type=bdr", "--udfrev=2.50"],
    ];
    for options in kinds {
        let path = folder.path().join("u.img");
        fs::File::create(&path).and_then(|file| file.set_len(40 << 20)).unwrap();
        if tool("mkudffs", &[options, &["-l", "Low Tide", "u.img"]].concat(), folder.path()).is_none() {
            return;
        }
        run(folder.path(), &["identify", "u.img"]).expect(0).says("UDF disc image").says("Low Tide");
        run(folder.path(), &["verify", "u.img"]).expect(0).says("READABLE");
    }
}
