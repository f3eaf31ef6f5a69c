//! ROMs: what they are, other forms, trimmed and padded, in archives, against databases.

use crate::support::{demo, folder, run, text};
use decanter_demo::Drawer;
use serde_json::Value;
use std::path::Path;

fn drawer() -> &'static Drawer {
    &demo().drawer
}

fn identity(path: &Path) -> Value {
    let json = run(path.parent().unwrap(), &["identify", text(path), "--json"]).expect(0).json();
    json["sources"][0].clone()
}

#[test]
fn every_family_is_identified() {
    let d = drawer();
    for (path, format, form) in [
        (&d.gb, "gb", "gb"),
        (&d.gba, "gba", "gba"),
        (&d.nds, "nds", "nds"),
        (&d.nes, "nes", "nes"),
        (&d.smc, "snes", "smc"),
        (&d.smd, "md", "smd"),
        (&d.v64, "n64", "v64"),
        (&d.sms, "sms", "sms"),
        (&d.gg, "sms", "gg"),
        (&d.pce, "pce", "pce"),
    ] {
        let found = identity(path);
        assert_eq!((&found["format"], &found["rom"]["form"]), (&format.into(), &form.into()));
        let checks = found["rom"]["checks"].as_array().unwrap();
        assert!(checks.iter().all(|c| c["is_right"] == true), "{format}: {checks:?}");
        assert!(found["rom"]["save"]["known_by"].as_str().is_some_and(|k| !k.is_empty()));
        // A header without checksums proves nothing.
        let verdict = if checks.is_empty() { "READABLE" } else { "SOUND" };
        run(d.folder.as_path(), &["verify", text(path)]).expect(0).says(verdict);
    }
}

#[test]
fn save_memory_is_told_with_its_reason() {
    let d = drawer();
    run(&d.folder, &["identify", text(&d.gba)]).expect(0).says("EEPROM, 8.0 KiB (known by: library mark EEPROM_V124");
    run(&d.folder, &["identify", text(&d.gb)]).expect(0).says("SRAM, 32.0 KiB, and a clock");
    run(&d.folder, &["identify", text(&d.smd)]).expect(0).says("at odd addresses");
}

#[test]
fn a_wrong_checksum_is_a_notice_and_an_answer() {
    let (d, folder) = (drawer(), folder());
    let mut bytes = std::fs::read(&d.gb).unwrap();
    bytes[0x9000] ^= 1;
    let bad = folder.path().join("bad.gb");
    std::fs::write(&bad, &bytes).unwrap();
    run(folder.path(), &["identify", "bad.gb"]).expect(0).says("notice: the global checksum is");
    let told = run(folder.path(), &["verify", "bad.gb", "--json"]).expect(1).json();
    assert_eq!(told["sources"][0]["verdict"], "differs");
    // A folder with it: the others are sound.
    std::fs::copy(&d.gg, folder.path().join("good.gg")).unwrap();
    run(folder.path(), &["verify", "."]).expect(1).says("1 SOUND, 1 DIFFERS").says("bad.gb");
}

#[test]
fn forms_lead_there_and_back() {
    let (d, folder) = (drawer(), folder());
    for (path, there, back) in
        [(&d.v64, "z64", "v64"), (&d.v64, "n64", "v64"), (&d.smd, "md", "smd"), (&d.smc, "sfc", "smc")]
    {
        let file = format!("there.{there}");
        let again = format!("again.{back}");
        let convert = |from: &str, to: &str, out: &str| {
            run(folder.path(), &["convert", from, "--to", to, "-o", out, "--replace", "--prove"])
                .expect(0)
                .says("proof");
        };
        convert(text(path), there, &file);
        convert(&file, back, &again);
        assert!(std::fs::read(folder.path().join(&again)).unwrap() == std::fs::read(path).unwrap(), "{there}");
        assert!(!folder.path().join("there.hdr").exists(), "the header is the usual one");
    }
}

#[test]
fn a_header_that_is_taken_off_is_kept_beside() {
    let (d, folder) = (drawer(), folder());
    run(folder.path(), &["convert", text(&d.nes), "--to", "nes-bare", "-o", "tide.bin"]).expect(0).says("tide.hdr");
    let whole = std::fs::read(&d.nes).unwrap();
    assert!(std::fs::read(folder.path().join("tide.bin")).unwrap() == whole[16..]);
    assert!(std::fs::read(folder.path().join("tide.hdr")).unwrap() == whole[..16]);
    run(folder.path(), &["convert", "tide.bin", "--to", "nes", "--header", "tide.hdr", "-o", "again.nes"]).expect(0);
    assert!(std::fs::read(folder.path().join("again.nes")).unwrap() == whole);
    run(folder.path(), &["convert", "tide.bin", "--to", "nes", "--header", "tide.bin", "-o", "x.nes"])
        .expect(2)
        .says("does not begin with an iNES or NES 2.0 header");
}

#[test]
fn only_what_is_proven_to_be_padding_is_trimmed() {
    let (d, folder) = (drawer(), folder());
    run(folder.path(), &["convert", text(&d.gba_padded), "--trim", "-o", "trim.gba"])
        .expect(0)
        .says("all of it is 0xff");
    assert!(std::fs::read(folder.path().join("trim.gba")).unwrap() == std::fs::read(&d.gba).unwrap());
    run(folder.path(), &["convert", "trim.gba", "--pad", "512KiB", "-o", "pad.gba"]).expect(0);
    assert!(std::fs::read(folder.path().join("pad.gba")).unwrap() == std::fs::read(&d.gba_padded).unwrap());
    run(folder.path(), &["convert", text(&d.gb), "--trim"]).expect(0).says("nothing to trim");

    let rom = std::fs::read(&d.gb).unwrap();
    let write = |name: &str, bytes: Vec<u8>| std::fs::write(folder.path().join(name), bytes).unwrap();
    write("over.gb", rom.repeat(2));
    run(folder.path(), &["identify", "over.gb"]).expect(0).says("over-dumped").says("--trim");
    run(folder.path(), &["convert", "over.gb", "--trim", "-o", "one.gb"]).expect(0).says("repeats what comes before");
    assert!(std::fs::read(folder.path().join("one.gb")).unwrap() == rom);
    write("more.gb", [rom.clone(), b"something that may matter".to_vec()].concat());
    run(folder.path(), &["convert", "more.gb", "--trim"]).expect(3).says("nothing proves that they are not needed");
    assert!(!folder.path().join("more (trimmed).gb").exists());
}

#[test]
fn two_roms_in_one_file_and_one_that_is_cut_short() {
    let (d, folder) = (drawer(), folder());
    let rom = std::fs::read(&d.gb).unwrap();
    let other = std::fs::read(&d.gb_patched).unwrap();
    std::fs::write(folder.path().join("two.gb"), [rom.clone(), other.clone()].concat()).unwrap();
    run(folder.path(), &["identify", "two.gb"]).expect(0).says("another ROM follows").says("decanter extract two.gb");
    run(folder.path(), &["extract", "two.gb", "-o", "apart"]).expect(0);
    assert!(std::fs::read(folder.path().join("apart/second.gb")).unwrap() == other);
    std::fs::write(folder.path().join("short.gb"), &rom[..50_000]).unwrap();
    run(folder.path(), &["verify", "short.gb"]).expect(1).says("INCOMPLETE").says("15,536 are missing");
    std::fs::write(folder.path().join("tiny.gb"), &rom[..200]).unwrap();
    run(folder.path(), &["identify", "tiny.gb"]).expect(3).says("too short for its header");
}

#[test]
fn chips_go_together_and_apart() {
    let (d, folder) = (drawer(), folder());
    run(folder.path(), &["convert", text(&d.smd), "--to", "md", "--split", "even-odd", "-o", "chip.md", "--prove"])
        .expect(0);
    run(folder.path(), &["convert", text(&d.smd), "--to", "md", "-o", "whole.md"]).expect(0);
    run(folder.path(), &["convert", "chip.even", "--odd", "chip.odd", "-o", "again.md"]).expect(0);
    let whole = std::fs::read(folder.path().join("whole.md")).unwrap();
    assert!(std::fs::read(folder.path().join("again.md")).unwrap() == whole);
    run(folder.path(), &["convert", "chip.odd", "--odd", "chip.even"]).expect(3).says("in the right order?");
    std::fs::write(folder.path().join("a.bin"), &whole[..40_000]).unwrap();
    std::fs::write(folder.path().join("b.bin"), &whole[40_000..]).unwrap();
    run(folder.path(), &["convert", "a.bin", "--join", "b.bin", "-o", "joined.md"]).expect(0);
    assert!(std::fs::read(folder.path().join("joined.md")).unwrap() == whole);
}

#[test]
fn an_archive_of_roms_is_gone_through() {
    let d = drawer();
    let found = run(&d.folder, &["identify", text(&d.archive), "--json"]).expect(0).json();
    let sources = found["sources"].as_array().unwrap();
    assert_eq!(sources.len(), 10);
    assert!(sources.iter().all(|s| s["source"].as_str().unwrap().contains("drawer.zip::")));
    run(&d.folder, &["verify", text(&d.archive)]).expect(0).says("10 ROMs; the checksums of 10 hold");
}

#[test]
fn databases_are_asked_through_headers_and_byte_orders() {
    let d = drawer();
    let said = run(&d.folder, &["verify", text(&d.archive), "--against", text(&d.dat)]).expect(0);
    said.says("looked through a 512-byte copier header").says("the byte order of v64").says("a 16-byte iNES header");
    let json = run(&d.folder, &["verify", text(&d.v64), "--against", text(&d.dat), "--json"]).json();
    let file = &json["matches"]["files"][0];
    assert_eq!((&file["state"], &file["name"]), (&"match".into(), &"Bramble Run.z64".into()));
}

#[test]
fn the_files_and_the_banner_of_a_ds_rom() {
    let (d, folder) = (drawer(), folder());
    run(folder.path(), &["list", text(&d.nds)]).expect(0).says("data/moths.bin").says("_rom/arm9.bin");
    run(folder.path(), &["extract", text(&d.nds), "--only", "posts.txt", "-o", "out"]).expect(0);
    assert!(std::fs::read_to_string(folder.path().join("out/posts.txt")).unwrap().starts_with("One: by the pier"));
    run(folder.path(), &["label", text(&d.nds)]).expect(0).says("Der Laternenpfahl").says("32 by 32 pixels");
    run(folder.path(), &["identify", text(&d.nds), "--picture", "icon.png"]).expect(0);
    assert!(std::fs::read(folder.path().join("icon.png")).unwrap().starts_with(b"\x89PNG"));
}

#[test]
fn labels_of_the_users_own() {
    let (d, folder) = (drawer(), folder());
    run(folder.path(), &["label", text(&d.nds), "-o", "icon.png", "--size", "64x64", "--filter", "sharp"]).expect(0);
    let args = ["label", "icon.png", "-o", "wide.png", "--size", "200x100", "--background", "14171c"];
    run(folder.path(), &args).expect(0).says("200 by 100 pixels");
    let decoder = png::Decoder::new(std::io::Cursor::new(std::fs::read(folder.path().join("wide.png")).unwrap()));
    let mut reader = decoder.read_info().unwrap();
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    reader.next_frame(&mut pixels).unwrap();
    assert_eq!(pixels[..4], [0x14, 0x17, 0x1c, 0xff], "a bar on the left");
    run(folder.path(), &args).expect(2).says("already exists");
    run(folder.path(), &["label", text(&d.gb)]).expect(2).says("carries no titles");
}
