//! Home computers: disks gathered and checked, moments that run, archives that become hard files, start entries.

use crate::support::{demo, folder, run, text, tree};
use decanter_formats::disk::cbm::machine::Machine;
use std::fs;
use std::path::Path;

fn read(folder: &Path, name: &str) -> Vec<u8> {
    fs::read(folder.join(name)).unwrap()
}

#[test]
fn programs_of_many_sources_go_onto_one_disk_and_come_out_again() {
    let (bench, folder) = (&demo().bench, folder());
    let mut words: Vec<&str> = vec!["convert"];
    words.extend(bench.programs.iter().map(|p| text(p)));
    words.extend(["--to", "d64", "-o", "five.d64", "--label", "Pier", "--name", "Brine Racer=RACE", "--prove"]);
    let said = run(folder.path(), &[&words[..], &["--dry-run"]].concat()).expect(0);
    said.says("KELP COURIER THE: 10 blocks").says("KELP COURIER II: 15 blocks").says("PIER: 81 blocks used, 583 free");
    assert!(!folder.path().join("five.d64").exists());
    run(folder.path(), &words).expect(0).says("all 5 files are identical");
    run(folder.path(), &["verify", "five.d64"]).expect(0).says("READABLE").says("checks hold");
    let list = run(folder.path(), &["list", "five.d64"]).expect(0);
    list.says("RACE.prg").says("PRG, 23 blocks, loads at $0801, SYS 2061");
    run(folder.path(), &["extract", "five.d64", "-o", "out"]).expect(0);
    assert!(read(folder.path(), "out/MOTH PARADE.prg") == fs::read(&bench.programs[4]).unwrap());
    // From the disk, and from another one, onto a larger one.
    let both = ["convert", "five.d64", text(&bench.disk), "--to", "d81", "-o", "all.d81"];
    // Of that one, the drive could not read a sector.
    run(folder.path(), &both).expect(3).says("MOTH PARADE: track 19, sector 10: error 23").says("--keep-damage");
    assert!(!folder.path().join("all.d81").exists());
    run(folder.path(), &[&both[..], &["--keep-damage"]].concat())
        .expect(1)
        .says("RACE")
        .says("left out     MOTH PARADE.prg")
        .says("every byte of the files that are on it");
    let json = run(folder.path(), &["list", "all.d81", "--json"]).expect(0).json();
    assert_eq!(json["entries"].as_array().unwrap().len(), 8);
    run(folder.path(), &["verify", "all.d81"]).expect(0);
}

#[test]
fn a_disk_says_what_it_has_no_room_for() {
    let folder = folder();
    let program = [&[0x01, 0x08][..], &vec![7; 60_000]].concat();
    for name in ["a.prg", "b.prg", "c.prg"] {
        fs::write(folder.path().join(name), &program).unwrap();
    }
    let said = run(folder.path(), &["convert", "a.prg", "b.prg", "c.prg", "--to", "d64", "-o", "x.d64"]).expect(2);
    said.says("711 blocks are needed, a d64 has 664").says("C (237 blocks)").says("--to d81");
    assert!(!folder.path().join("x.d64").exists());
    run(folder.path(), &["convert", "a.prg", "b.prg", "c.prg", "--to", "d81", "-o", "x.d81"]).expect(0);
    run(folder.path(), &["convert", "a.prg", "b.prg", "--to", "zst"])
        .expect(2)
        .says("no folder is given")
        .says("--join");
    run(folder.path(), &["convert", "a.prg", "--to", "d64", "--name", "nothing=X"])
        .expect(2)
        .says("no file \"nothing\"");
}

#[test]
fn damage_on_a_disk_is_named_by_file() {
    let (bench, folder) = (&demo().bench, folder());
    let said = run(folder.path(), &["verify", text(&bench.disk)]).expect(1);
    said.says("MOTH PARADE: track 19, sector 10: error 23");
    // The block after the directory's first belongs to a second file, a chain goes in a circle, a block is called free.
    let at = |track: usize, sector: usize| (357 + (track - 18) * 19 + sector) * 256;
    let mut bytes = fs::read(&bench.disk).unwrap();
    let entry = at(18, 1) + 32;
    let first = [bytes[at(18, 1) + 3], bytes[at(18, 1) + 4]];
    bytes[entry + 3..entry + 5].copy_from_slice(&first);
    bytes[at(18, 0) + 17 * 4 + 1] |= 1;
    fs::write(folder.path().join("bad.d64"), &bytes).unwrap();
    let said = run(folder.path(), &["verify", "bad.d64"]).expect(1);
    let said =
        said.says("belongs to both LANTERN POST and KELP COURIER THE").says("takes 1 blocks, the directory says 10");
    said.says("but is called free").says("lost sectors");
    fs::write(folder.path().join("odd.d64"), &bytes[..170_001]).unwrap();
    run(folder.path(), &["identify", "odd.d64"]).expect(3).says("nearest is a d64");
}

/// A machine that runs the program up to the moment that it is made of; memory and stack are those of it.
fn in_the_loop(program: &[u8]) -> Machine {
    let mut machine = Machine::with_program(program).unwrap();
    assert!(machine.run_to(0x080f, 10_000_000).unwrap(), "{:#x}", machine.pc);
    while machine.a != 0x07 || machine.x != 0x0c {
        machine.step().unwrap();
        assert!(machine.run_to(0x080f, 10_000_000).unwrap());
    }
    let memory = fs::read(demo().bench.folder.join("lantern.ram")).unwrap();
    assert!(machine.ram[0x200..] == memory[0x200..] && machine.sp == 0xf4);
    machine
}

#[test]
fn a_moment_becomes_a_program_that_goes_on() {
    let (bench, folder) = (&demo().bench, folder());
    run(folder.path(), &["convert", text(&bench.moment), "--to", "prg", "-o", "lantern.prg"])
        .expect(0)
        .says("goes on      at $080f")
        .says("$0100 to")
        .says("instructions in the simulated processor");
    // It goes on in the loop that writes its title, and comes to its end.
    let mut machine = in_the_loop(&read(folder.path(), "lantern.prg"));
    assert!(machine.run_to(0x0824, 10_000).unwrap(), "the end of the program, now at {:#x}", machine.pc);
    assert_eq!((&machine.ram[0x400..0x404], machine.chips[0x20]), (&[12, 1, 14, 20][..], 6));
    fs::write(folder.path().join("bad.toml"), "memory = \"nothing\"\n[processor]\npc = 1\n").unwrap();
    run(folder.path(), &["convert", "bad.toml", "--to", "prg"]).expect(2).says("it describes no moment");
}

#[test]
fn a_snapshot_of_an_emulator_becomes_the_same_program() {
    let (bench, folder) = (&demo().bench, folder());
    let saved = text(&bench.saved);
    let said = run(folder.path(), &["identify", saved]).expect(0);
    said.says("emulator snapshot").says("C64").says("--to prg");
    run(folder.path(), &["list", saved]).expect(0).says("C64MEM.bin").says("version 0.0").says("65,540");
    run(folder.path(), &["convert", saved, "--to", "prg"])
        .expect(0)
        .says("goes on      at $080f")
        .says("instructions in the simulated processor")
        .says("modules DRIVE8");
    let mut machine = in_the_loop(&read(folder.path(), "lantern.prg"));
    // Timer A of the first interface chip begins anew with $4295, and lets its interrupt through.
    assert_eq!((&machine.chips[0xc04..0xc06], machine.chips[0xc0d] & 0x1f), (&[0x95, 0x42][..], 1));
    assert_eq!((machine.chips[0x11], machine.chips[0x418], machine.chips[0xd00]), (0x1b, 0x0f, 0x97));
    assert!(machine.run_to(0x0824, 10_000).unwrap(), "the end of the program, now at {:#x}", machine.pc);
}

#[test]
fn a_snapshot_that_contradicts_itself_becomes_no_program() {
    let (bench, folder) = (&demo().bench, folder());
    let mut bytes = fs::read(&bench.saved).unwrap();
    let module = |name: &[u8]| bytes.windows(name.len()).position(|w| w == name).unwrap();
    let (interface, processor) = (module(b"CIA2\0"), module(b"MAINCPU\0"));
    bytes[interface + 22] = 0x96;
    fs::write(folder.path().join("other bank.vsf"), &bytes).unwrap();
    let said = run(folder.path(), &["identify", "other bank.vsf"]).expect(0);
    assert!(!said.says("no program is made of it").out.contains("--to prg"));
    run(folder.path(), &["convert", "other bank.vsf", "--to", "prg"])
        .expect(3)
        .says("the bank is $0000, and by port A of CIA2 ($d6) it is $4000");
    bytes[interface + 22] = 0x97;
    bytes[processor + 17] = 4;
    fs::write(folder.path().join("later.vsf"), &bytes).unwrap();
    run(folder.path(), &["convert", "later.vsf", "--to", "prg"])
        .expect(3)
        .says("version 1.4 of module MAINCPU (known are 1.0, 1.1)")
        .says("describe the moment by a text");
    bytes.truncate(bytes.len() - 1);
    fs::write(folder.path().join("short.vsf"), &bytes).unwrap();
    run(folder.path(), &["identify", "short.vsf"]).expect(3).says("module DRIVE8 has 86 bytes by its header");
}

#[test]
fn the_demos_programs_run() {
    for path in &demo().bench.programs {
        let mut machine = Machine::with_program(&fs::read(path).unwrap()).unwrap();
        assert!(machine.run_to(0x0824, 10_000).unwrap(), "{}", path.display());
        assert_eq!(machine.chips[0x20], 6);
    }
}

#[test]
fn an_archive_becomes_a_hard_file_and_keeps_what_the_amiga_knows() {
    let (bench, folder) = (&demo().bench, folder());
    let archive = text(&bench.archive);
    run(folder.path(), &["identify", archive]).expect(0).says("1. TideTable/TideTable").says("system 2.04");
    run(folder.path(), &["convert", archive, "--to", "hdf", "--start", "auto", "-o", "a.hdf", "--prove"])
        .expect(0)
        .says("TideTable/TideTable, by S/Startup-Sequence");
    run(folder.path(), &["verify", "a.hdf"]).expect(0).says("6 of 6 checks hold");
    let list = run(folder.path(), &["list", "a.hdf"]).expect(0);
    list.says("-s--rwed, \"the game itself\"").says("S/Startup-Sequence");
    // By way of a folder, and of the result itself, to the same bytes.
    run(folder.path(), &["extract", archive, "-o", "Tide Table"]).expect(0).says("decanter-attributes.toml");
    run(folder.path(), &["convert", "Tide Table", "--to", "hdf", "--start", "auto", "-o", "b.hdf"]).expect(0);
    run(folder.path(), &["convert", "a.hdf", "--to", "hdf", "-o", "c.hdf", "--label", "Tide Table"]).expect(0);
    let a = read(folder.path(), "a.hdf");
    assert!(a == read(folder.path(), "b.hdf") && a == read(folder.path(), "c.hdf"));
    for fs in ["ofs", "ffs", "ofs-intl", "ffs-intl"] {
        run(folder.path(), &["convert", archive, "--to", "adf", "--fs", fs, "-o", "d.adf", "--replace", "--prove"])
            .expect(0);
        run(folder.path(), &["verify", "d.adf"]).expect(0).says("6 of 6 checks hold");
    }
    let mut adf = read(folder.path(), "d.adf");
    let root = 880 * 512;
    let slot = (24..312).step_by(4).find(|s| adf[root + s + 2..root + s + 4] != [0, 0]).unwrap();
    let entry = usize::from(u16::from_be_bytes([adf[root + slot + 2], adf[root + slot + 3]])) * 512;
    adf[entry + 440] ^= 1;
    fs::write(folder.path().join("bad.adf"), &adf).unwrap();
    run(folder.path(), &["verify", "bad.adf"]).expect(1).says("the checksum does not hold").says("wrong slot");
    run(folder.path(), &["convert", archive, "--to", "hdf", "--size", "64KiB"])
        .expect(2)
        .says("blocks")
        .says("needed, the volume has room");
}

#[test]
fn a_data_block_whose_checksum_fails_is_an_error_of_its_file() {
    let (bench, folder) = (&demo().bench, folder());
    run(folder.path(), &["convert", text(&bench.archive), "--to", "adf", "--fs", "ofs", "-o", "d.adf"]).expect(0);
    run(folder.path(), &["extract", "d.adf", "-o", "good"]).expect(0);
    let mut adf = read(folder.path(), "d.adf");
    // The first data block: of type 8, number 1 of its file.
    let is_data = |b: &[u8]| b[..4] == [0, 0, 0, 8] && b[8..12] == [0, 0, 0, 1];
    let block = adf.chunks(512).position(is_data).unwrap() * 512;
    adf[block + 40] ^= 1;
    fs::write(folder.path().join("bad.adf"), &adf).unwrap();
    run(folder.path(), &["verify", "bad.adf"]).expect(1).says("DAMAGED");
    run(folder.path(), &["extract", "bad.adf", "-o", "out"]).expect(1).says("left out").says("data block 1");
    let (good, bad) = (tree(&folder.path().join("good")), tree(&folder.path().join("out")));
    assert_eq!(good.len() - 1, bad.len());
    assert!(bad.iter().all(|file| good.contains(file)), "what is handed out is right");
    run(folder.path(), &["convert", "bad.adf", "--to", "hdf", "-o", "x.hdf"]).expect(3).says("--keep-damage");
}

#[test]
fn damaged_members_do_not_stop_the_others() {
    let (bench, folder) = (&demo().bench, folder());
    let mut bytes = fs::read(&bench.archive).unwrap();
    bytes[40_000] ^= 1;
    fs::write(folder.path().join("bad.lha"), &bytes).unwrap();
    let said = run(folder.path(), &["extract", "bad.lha", "-o", "out"]).expect(1);
    said.says("TideTable/TideTable").says("CRC-16");
    assert_eq!(tree(&folder.path().join("out")).len(), 8, "seven of eight, and the attributes");
    fs::write(folder.path().join("cut.lha"), &bytes[..bytes.len() - 10_000]).unwrap();
    run(folder.path(), &["verify", "cut.lha"]).expect(1).says("bytes are missing: the source ends before");
    let mut lzx = fs::read(&bench.letters).unwrap();
    let len = lzx.len();
    lzx[len - 100] ^= 1;
    fs::write(folder.path().join("bad.lzx"), &lzx).unwrap();
    run(folder.path(), &["verify", "bad.lzx"]).expect(1).says("Letters/2.xml").says("CRC-32");
    fs::write(folder.path().join("cut.lzx"), &lzx[..len - 200]).unwrap();
    run(folder.path(), &["extract", "cut.lzx", "-o", "two"]).expect(1).says("Letters/2.xml");
    assert_eq!(tree(&folder.path().join("two")).len(), 2);
}

#[test]
fn a_menu_stands_first_on_the_disk_and_lists_the_others() {
    let folder = folder();
    let bench = &demo().bench.folder;
    let programs = ["Brine Racer.prg", "Moth Parade.prg", "Lantern Post.prg"].map(|name| bench.join(name));
    let mut words = vec!["convert"];
    words.extend(programs.iter().map(|path| text(path)));
    words.extend(["--to", "d64", "--menu", "--label", "PIER", "-o", "games.d64", "--prove"]);
    let told = run(folder.path(), &words).expect(0);
    told.says("3 programs, 20 to a page").says("LOAD\"*\",8").says("RUN");
    let list = run(folder.path(), &["list", "games.d64"]).expect(0).out;
    let at = |name: &str| list.find(name).unwrap_or_else(|| panic!("{name}: {list}"));
    assert!(at("MENU") < at("BRINE RACER") && at("MENU") < at("MOTH PARADE"), "{list}");
    run(folder.path(), &["extract", "games.d64", "-o", "out"]).expect(0);
    for (path, name) in programs.iter().zip(["BRINE RACER.prg", "MOTH PARADE.prg", "LANTERN POST.prg"]) {
        assert_eq!(fs::read(folder.path().join("out").join(name)).unwrap(), fs::read(path).unwrap());
    }
    let menu = fs::read(folder.path().join("out/MENU.prg")).unwrap();
    assert!(menu.starts_with(&[0x01, 0x08, 0x0b, 0x08]) && menu.windows(11).any(|w| w == b"BRINE RACER"));
    // A disk without a program has no menu.
    fs::write(folder.path().join("note.seq"), "low tide").unwrap();
    run(folder.path(), &["convert", "note.seq", "--to", "d64", "--menu", "-o", "x.d64"]).expect(2);
}

#[test]
fn start_entries_end_what_they_started() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::write(at("it's a game.prg"), "x").unwrap();
    fs::create_dir(at("config")).unwrap();
    let config = "[launch.arcade]\ncommand = [\"sh\", \"-c\", \"cat \\\"$1\\\" > ran\", \"sh\", \"{file}\"]\n\
        before = [[\"touch\", \"before\"]]\nafter = [[\"touch\", \"after\"]]\nbeside = [[\"sleep\", \"1000\"]]\n";
    fs::write(at("config/config.toml"), config).unwrap();
    let words = ["launcher", "it's a game.prg", "-o", "game", "--config", "config/config.toml", "--title", "A Game"];
    run(folder.path(), &[&words[..], &["--dry-run"]].concat()).expect(0).says("would write");
    run(folder.path(), &words).expect(0);
    let entry = fs::read_to_string(at("game.desktop")).unwrap();
    assert!(entry.starts_with("[Desktop Entry]\nType=Application\n") && entry.contains("Name=A Game\n"), "{entry}");
    let script = std::process::Command::new(at("game.sh")).output().unwrap();
    assert!(script.status.success(), "{script:?}");
    assert_eq!(fs::read_to_string(at("ran")).unwrap(), "x");
    assert!(at("before").exists() && at("after").exists());
    run(folder.path(), &words).expect(2).says("already exists");
    run(folder.path(), &["launcher", "it's a game.prg", "-o", "b"]).expect(2).says("[launch.NAME]");
}
