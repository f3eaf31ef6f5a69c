//! Saved games, and the reader that takes them out of cartridges.

use crate::support::{demo, folder, run, text};
use std::path::Path;

fn bytes(path: &Path) -> Vec<u8> {
    std::fs::read(path).unwrap()
}

#[test]
fn a_save_with_a_clock_is_taken_apart_and_put_together() {
    let (d, folder) = (&demo().drawer, folder());
    let (save, rom) = (text(&d.save), text(&d.gb));
    run(folder.path(), &["save", "show", save, "--rom", rom])
        .expect(0)
        .says("48 bytes of a clock")
        .says("SRAM, 32.0 KiB");
    run(folder.path(), &["save", "export", save, "--rom", rom, "-o", "raw.sav"])
        .expect(0)
        .says("a cartridge keeps its own time");
    let raw = folder.path().join("raw.sav");
    assert!(bytes(&raw) == bytes(&d.memory));
    let mut other = bytes(&raw);
    other[..4].copy_from_slice(b"IDA!");
    std::fs::write(&raw, &other).unwrap();
    let said =
        run(folder.path(), &["save", "import", "raw.sav", "--into", save, "--rom", rom, "-o", "new.sav"]).expect(0);
    said.says("old save").says("new save").says("which was not changed");
    let (new, old) = (bytes(&folder.path().join("new.sav")), bytes(&d.save));
    assert!(new[..other.len()] == other && new[other.len()..] == old[other.len()..], "the clock goes on");
}

#[test]
fn a_save_is_never_replaced() {
    let (d, folder) = (&demo().drawer, folder());
    std::fs::write(folder.path().join("good.sav"), b"precious").unwrap();
    let words = ["save", "export", text(&d.save), "--rom", text(&d.gb), "-o", "good.sav", "--replace"];
    run(folder.path(), &words).expect(2).says("never replaced");
    assert_eq!(bytes(&folder.path().join("good.sav")), b"precious");
}

#[test]
fn wide_and_swapped_saves() {
    let (d, folder) = (&demo().drawer, folder());
    let (save, rom) = (text(&d.smd_save), text(&d.smd));
    run(folder.path(), &["save", "export", save, "--rom", rom, "-o", "raw.srm"]).expect(0).says("every byte takes two");
    let raw = bytes(&folder.path().join("raw.srm"));
    assert!(raw.starts_with(b"HIGH SCORES: IDA") && raw.len() == 8192);
    run(folder.path(), &["save", "import", "raw.srm", "--into", save, "--rom", rom, "-o", "wide.srm"]).expect(0);
    assert!(bytes(&folder.path().join("wide.srm")) == bytes(&d.smd_save));
    // Without the ROM the size of the content has to say which of several ways is meant.
    run(folder.path(), &["save", "import", "raw.srm", "--into", save, "-o", "alone.srm"]).expect(0);
    assert!(bytes(&folder.path().join("alone.srm")) == bytes(&d.smd_save));
    run(folder.path(), &["save", "export", save, "-o", "x.srm"]).expect(2).says("several ways").says("--rom");
    std::fs::write(folder.path().join("odd.srm"), &raw[..5000]).unwrap();
    run(folder.path(), &["save", "import", "odd.srm", "--into", "raw.srm", "-o", "x.srm"])
        .expect(2)
        .says("has 5,000 bytes");
    // With the ROM it is known to be too short, and filled only when that is asked for.
    let short = ["save", "import", "odd.srm", "--into", "raw.srm", "--rom", rom, "-o", "filled.srm"];
    run(folder.path(), &short).expect(2).says("has 5,000 bytes").says("--pad fills");
    assert!(!folder.path().join("filled.srm").exists());
    run(folder.path(), &[&short[..], &["--pad"]].concat()).expect(0).says("3,192 bytes were missing");
    let filled = bytes(&folder.path().join("filled.srm"));
    assert!(filled[..5000] == raw[..5000] && filled[5000..].iter().all(|b| *b == 0xff) && filled.len() == 8192);
    run(folder.path(), &["save", "import", "odd.srm", "--rom", rom, "-o", "plain.srm"]).expect(2);
    run(folder.path(), &["save", "export", "raw.srm", "--rom", rom, "--swap", "2", "-o", "swapped.srm"]).expect(0);
    assert!(
        bytes(&folder.path().join("swapped.srm")).starts_with(b"IHHGS OCER:SI AD") || {
            let swapped = bytes(&folder.path().join("swapped.srm"));
            swapped.chunks(2).zip(raw.chunks(2)).all(|(a, b)| a[0] == b[1] && a[1] == b[0])
        }
    );
}

#[test]
fn a_combined_file_needs_to_know_which_part() {
    let folder = folder();
    let file: Vec<u8> = (0..0x4_8800u32).map(|i| (i / 0x800) as u8 ^ i as u8).collect();
    std::fs::write(folder.path().join("all.srm"), &file).unwrap();
    run(folder.path(), &["save", "show", "all.srm"]).expect(0).says("every kind of memory").says("pak4");
    run(folder.path(), &["save", "export", "all.srm", "-o", "x"]).expect(2).says("--part");
    run(folder.path(), &["save", "export", "all.srm", "--part", "sram", "-o", "sram.sra"]).expect(0);
    assert!(bytes(&folder.path().join("sram.sra")) == file[0x2_0800..0x2_8800]);
    run(folder.path(), &["save", "import", "sram.sra", "--into", "all.srm", "--part", "pak1", "-o", "new.srm"])
        .expect(0);
    let new = bytes(&folder.path().join("new.srm"));
    assert!(new[0x800..0x8800] == file[0x2_0800..0x2_8800] && new[0x8800..] == file[0x8800..]);
}

#[test]
fn a_save_of_the_wrong_size_is_told_what_fits() {
    let (d, folder) = (&demo().drawer, folder());
    std::fs::write(folder.path().join("odd.sav"), [7; 40_001]).unwrap();
    let mut noise = vec![0u8; 40_001];
    noise.iter_mut().enumerate().for_each(|(i, b)| *b = (i * 7 % 251) as u8);
    std::fs::write(folder.path().join("odd.sav"), noise).unwrap();
    run(folder.path(), &["save", "show", "odd.sav", "--rom", text(&d.gb)]).expect(1).says("what fits: 32,768 bytes");
    run(folder.path(), &["save", "import", "odd.sav", "--rom", text(&d.gb), "-o", "x"])
        .expect(2)
        .says("what fits: 32,768 bytes")
        .says("decanter save show");
    run(folder.path(), &["save", "import", "odd.sav", "--into", text(&d.save), "--rom", text(&d.gb), "-o", "x"])
        .expect(2)
        .says("nothing that is in use is cut");
    run(folder.path(), &["save", "show", text(&d.save), "--rom", text(&d.pce)])
        .expect(1)
        .says("there is no save memory");
}

/// A copy of the drawer's reader, with other faults.
fn reader(folder: &Path, more: &str) {
    let d = &demo().drawer;
    std::fs::copy(&d.gb, folder.join("rom.gb")).unwrap();
    std::fs::copy(&d.memory, folder.join("memory.bin")).unwrap();
    std::fs::write(folder.join("reader.toml"), format!("rom = \"rom.gb\"\nsave = \"memory.bin\"\n{more}")).unwrap();
}

#[test]
fn a_dirty_contact_is_read_away() {
    let (d, folder) = (&demo().drawer, folder());
    reader(folder.path(), "[[dirty]]\nbit = 6\nfirst = 0x8000\nlast = 0xffff\nevery = 3001\n");
    let said = run(folder.path(), &["dump", "sim:reader.toml", "-o", "out.gb"]).expect(0);
    said.says("settled").says("data lines D6").says("confidence   high");
    assert!(bytes(&folder.path().join("out.gb")) == bytes(&d.gb));
    run(folder.path(), &["dump", "sim:reader.toml", "-o", "out.gb"]).expect(2).says("already exists");
}

#[test]
fn what_does_not_settle_has_no_final_name() {
    let folder = folder();
    reader(
        folder.path(),
        "[[dirty]]\nbit = 0\nfirst = 0\nlast = 0x3fff\nevery = 2\n\n[[dirty]]\nbit = 1\nfirst = 0\nlast = 0x3fff\nevery = 3\n",
    );
    let said = run(folder.path(), &["dump", "sim:reader.toml", "-o", "out.gb", "--retries", "1"]).expect(1);
    said.says("unsettled").says("confidence   low").says("clean the contacts");
    assert!(!folder.path().join("out.gb").exists() && folder.path().join("out.gb.incomplete").exists());
}

#[test]
fn a_contact_that_always_fails_shows_in_the_checksum() {
    let folder = folder();
    reader(folder.path(), "[[dirty]]\nbit = 2\nfirst = 0x5000\nlast = 0x5000\nevery = 1\n");
    run(folder.path(), &["dump", "sim:reader.toml", "-o", "out.gb"]).expect(0).says("doubtful").says("global checksum");
}

#[test]
fn a_reader_that_goes_on_too_long() {
    let folder = folder();
    reader(folder.path(), "reported_bytes = 131072\n");
    run(folder.path(), &["dump", "sim:reader.toml", "-o", "out.gb"])
        .expect(0)
        .says("over-dumped")
        .says("cuts the repetition off");
}

#[test]
fn a_save_is_written_only_after_the_old_one_is_safe() {
    let (d, folder) = (&demo().drawer, folder());
    reader(folder.path(), "");
    let mut new = bytes(&d.memory);
    new[..5].copy_from_slice(b"LATER");
    std::fs::write(folder.path().join("new.sav"), &new).unwrap();
    let write = ["dump", "sim:reader.toml", "--memory", "save", "--write", "new.sav", "-o", "old.sav"];
    run(folder.path(), &write).expect(0).says("read back, all bytes are right").says("kept in old.sav");
    assert!(bytes(&folder.path().join("old.sav")) == bytes(&d.memory));
    assert!(bytes(&folder.path().join("memory.bin")) == new);
    run(folder.path(), &write).expect(2).says("already exists");
    run(folder.path(), &[&write[..], &["--replace"]].concat()).expect(2).says("already exists");

    std::fs::write(folder.path().join("short.sav"), [0; 100]).unwrap();
    let short = ["dump", "sim:reader.toml", "--memory", "save", "--write", "short.sav", "-o", "x.sav"];
    run(folder.path(), &short).expect(4).says("has 100 bytes, the memory of the cartridge 32768");
    run(folder.path(), &["dump", "sim:reader.toml", "--memory", "rom", "--write", "new.sav", "-o", "y"])
        .expect(2)
        .says("a ROM cannot be written");
}

#[test]
fn a_worn_cell_is_found_by_reading_back() {
    let folder = folder();
    reader(folder.path(), "[[worn]]\noffset = 17\n");
    let mut new = bytes(&folder.path().join("memory.bin"));
    new[17] ^= 0xff;
    std::fs::write(folder.path().join("new.sav"), &new).unwrap();
    let write = ["dump", "sim:reader.toml", "--memory", "save", "--write", "new.sav", "-o", "old.sav"];
    run(folder.path(), &write).expect(1).says("1 byte read back wrong").says("0x11").says("safe in old.sav");
}
