//! Results on a card: what it cannot hold is told before the first byte; what was put there is read back, listed, and compared.

use crate::support::{demo, folder, run, text, tool, tree};
use std::fs;

const LIST: &str = "decanter delivery.sha1";

#[test]
fn what_is_delivered_is_listed_and_found_again() {
    let folder = folder();
    let stick = folder.path().join("stick");
    fs::create_dir(&stick).unwrap();
    let (moth, drawer) = (text(&demo().handheld), text(&demo().drawer.folder));
    run(folder.path(), &["deliver", moth, drawer, "--onto", "stick", "--layout", "psp"]).expect(0).says("read back");
    assert!(fs::read(stick.join("ISO/Moth Parade.iso")).unwrap() == fs::read(moth).unwrap());
    let list = fs::read_to_string(stick.join(LIST)).unwrap();
    assert_eq!(list.lines().filter(|l| !l.starts_with('#')).count(), 1 + tree(&demo().drawer.folder).len());
    run(folder.path(), &["deliver", "--check", "stick"]).expect(0).says("as they were put there");
    // Once more: what is there stays, and is told.
    run(folder.path(), &["deliver", moth, "--onto", "stick", "--layout", "psp"]).expect(0).says("there already");
    assert_eq!(fs::read_to_string(stick.join(LIST)).unwrap(), list);
    fs::write(stick.join("ISO/Moth Parade.iso"), "another").unwrap();
    fs::remove_file(stick.join("drawer/Fogbell.gb")).unwrap();
    let told = run(folder.path(), &["deliver", "--check", "stick"]).expect(1);
    told.says("differs      ISO/Moth Parade.iso").says("missing      drawer/Fogbell.gb");
    run(folder.path(), &["deliver", moth, "--onto", "stick", "--layout", "psp"]).expect(2).says("--replace");
    // One of them is new and the others are there: the proof says which was read back.
    run(folder.path(), &["deliver", moth, drawer, "--onto", "stick", "--layout", "psp", "--replace"])
        .expect(0)
        .says("what was there was compared");
    let json = run(folder.path(), &["deliver", "--check", "stick", "--json"]).expect(0).json();
    assert!(json["files"].as_array().unwrap().iter().all(|f| f["state"] == "match"));
}

#[test]
fn the_limits_of_a_card_are_told_before_the_first_byte() {
    let folder = folder();
    let stick = folder.path().join("stick");
    fs::create_dir(&stick).unwrap();
    let like = text(&demo().console.stick_image);
    let refused = |source: &str, words: &str| {
        run(folder.path(), &["deliver", source, "--onto", "stick", "--like", like]).expect(2).says(words);
        assert!(tree(&stick).is_empty(), "nothing was written");
    };
    let large = fs::File::create(folder.path().join("large.bin")).unwrap();
    large.set_len(5 << 30).unwrap();
    refused("large.bin", "has 5.0 GiB, a file on FAT32 has 4.0 GiB at most");
    large.set_len(100 << 20).unwrap();
    refused("large.bin", "1 file needs 100.0 MiB (104,857,600 bytes), 63.0 MiB are free");
    if cfg!(unix) {
        fs::write(folder.path().join("tide: low.bin"), "x").unwrap();
        refused("tide: low.bin", "cannot hold the sign ':'");
        fs::create_dir(folder.path().join("two")).unwrap();
        fs::write(folder.path().join("two/a.bin"), "x").unwrap();
        fs::write(folder.path().join("two/A.bin"), "y").unwrap();
        refused("two", "would both be two/");
    }
    run(folder.path(), &["deliver", "two", "--onto", "nowhere"]).expect(2).says("no folder that is there");
    let small = folder.path().join("small.bin");
    fs::write(&small, "tide").unwrap();
    run(folder.path(), &["deliver", "small.bin", "--onto", "stick", "--like", "small.bin"]).expect(3);
    run(folder.path(), &["deliver", "small.bin", "--onto", "stick", "--like", like, "--dry-run"]).expect(0);
    assert!(tree(&stick).is_empty());
}

#[test]
fn what_is_too_large_gets_the_command_that_splits_it() {
    let folder = folder();
    fs::create_dir_all(folder.path().join("game/USRDIR")).unwrap();
    fs::copy(demo().console.game.join("PARAM.SFO"), folder.path().join("game/PARAM.SFO")).unwrap();
    // A package of more than 4 GiB by its header, with a hole for its files: nothing of it is read here.
    let mut head = b"\x7fPKG\0\0\0\x01\0\0\0\xc0\0\0\0\0\0\0\0\0\0\0\0\0".to_vec();
    for long in [(5u64 << 30) + 0xc0, 0xc0, 5 << 30] {
        head.extend(long.to_be_bytes());
    }
    head.resize(0xc0, 0);
    fs::write(folder.path().join("large.pkg"), head).unwrap();
    let file = fs::OpenOptions::new().write(true).open(folder.path().join("large.pkg")).unwrap();
    file.set_len((5 << 30) + 0xc0).unwrap();
    fs::create_dir(folder.path().join("stick")).unwrap();
    let like = text(&demo().console.stick_image);
    let told = run(folder.path(), &["deliver", "large.pkg", "--onto", "stick", "--like", like]).expect(2);
    told.says("decanter convert large.pkg --to pkg --split 4GiB-1 -o stick/");
}

/// An exFAT volume without a file: sectors of 512 bytes, the table at sector 24, 60 clusters of 2 KiB from sector 32 on.
fn empty_exfat() -> Vec<u8> {
    let mut bytes = vec![0; 32 * 512 + 60 * 2048];
    let mut put = |at: usize, own: &[u8]| bytes[at..at + own.len()].copy_from_slice(own);
    put(0, b"\xeb\x76\x90EXFAT   ");
    put(72, &272u64.to_le_bytes());
    for (at, long) in [(80, 24u32), (84, 8), (88, 32), (92, 60), (96, 4)] {
        put(at, &long.to_le_bytes());
    }
    put(104, &[0, 1, 0, 0, 9, 2, 1]);
    put(510, &[0x55, 0xaa]);
    // The map, the table of capitals and the root folder have a cluster each.
    put(24 * 512 + 8, &[0xff; 12]);
    let root = 32 * 512 + 2 * 2048;
    put(root, &[0x83, 0]);
    put(root + 32, &[0x81]);
    put(root + 52, &[2, 0, 0, 0, 8]);
    bytes
}

#[test]
fn file_systems_are_known_by_their_own_first_sectors() {
    let folder = folder();
    fs::create_dir(folder.path().join("stick")).unwrap();
    fs::write(folder.path().join("a.bin"), "tide").unwrap();
    let says = |image: &str, words: &str| {
        run(folder.path(), &["deliver", "a.bin", "--onto", "stick", "--like", image, "--dry-run"])
            .expect(0)
            .says(words);
    };
    fs::write(folder.path().join("exfat.img"), empty_exfat()).unwrap();
    says("exfat.img", "exFAT");
    fs::File::create(folder.path().join("ext.img")).unwrap().set_len(8 << 20).unwrap();
    if tool("mkfs.ext4", &["-q", "-F", "ext.img"], folder.path()).is_some() {
        says("ext.img", "ext");
    }
    let disc = text(&demo().plain);
    run(folder.path(), &["deliver", "a.bin", "--onto", "stick", "--like", disc])
        .expect(2)
        .says("no image of one file system");
}

#[test]
fn a_list_leads_nowhere_else_and_is_read_line_by_line() {
    let folder = folder();
    let stick = folder.path().join("stick");
    fs::create_dir(&stick).unwrap();
    fs::write(folder.path().join("secret.txt"), "x").unwrap();
    let zeros = "0".repeat(40);
    fs::write(stick.join(LIST), format!("{zeros}  ../secret.txt\n{zeros}  /etc/hostname\n")).unwrap();
    run(folder.path(), &["deliver", "--check", "stick"]).expect(1).says("leads out of the folder");
    fs::write(stick.join(LIST), "nonsense\n").unwrap();
    run(folder.path(), &["deliver", "--check", "stick"]).expect(3).says("line 1");
    run(folder.path(), &["deliver", "--check", "."]).expect(2).says(LIST);
}
