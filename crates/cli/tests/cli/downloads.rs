//! Cabinets and content packages: taken apart in one step, made, proven, taken apart again; and what is refused.

use crate::support::{demo, folder, noise, run, text, tool, tree};
use decanter_demo::cabinet::{Around, Folder, Lzx, Method, cabinets};
use std::fs;
use std::path::{Path, PathBuf};

fn downloads() -> &'static decanter_demo::Downloads {
    &demo().downloads
}

/// The disc's files.
fn files_of_the_disc(folder: &Path) -> Vec<(String, Vec<u8>)> {
    if !folder.join("from the disc").exists() {
        run(folder, &["extract", text(&downloads().disc), "-o", "from the disc"]).expect(0);
    }
    tree(&folder.join("from the disc"))
}

/// The one package below a folder.
fn package_below(folder: &Path) -> PathBuf {
    let found: Vec<String> = tree(folder).into_iter().map(|(path, _)| path).filter(|p| !p.contains(".data/")).collect();
    assert_eq!(found.len(), 1, "{found:?}");
    folder.join(&found[0])
}

#[test]
fn a_cabinet_gives_the_files_of_the_disc_in_the_package_in_it() {
    let folder = folder();
    let cabinet = text(&downloads().cabinet);
    let told = run(folder.path(), &["identify", cabinet]).expect(0);
    told.says("game on demand, in a cabinet")
        .says("Gullwing Rows")
        .says("53500019")
        .says("4D150019")
        .says("plain layout");
    run(folder.path(), &["extract", cabinet, "-o", "rowing"]).expect(0);
    assert_eq!(tree(&folder.path().join("rowing")), files_of_the_disc(folder.path()));
    run(folder.path(), &["verify", cabinet]).expect(0).says("SOUND");
    // The cabinet itself, and what a general tool makes of it.
    run(folder.path(), &["extract", &format!("{cabinet}::"), "-o", "ours"]).expect(0);
    let own = tree(&folder.path().join("ours"));
    assert_eq!(own.len(), 2);
    if tool("cabextract", &["-q", "-d", "theirs", cabinet], folder.path()).is_some() {
        assert!(own == tree(&folder.path().join("theirs")), "another program unpacks it to other bytes");
    }
    if tool("gcab", &["-c", "-z", "zipped.cab", text(&downloads().disc)], folder.path()).is_some() {
        run(folder.path(), &["extract", "zipped.cab", "-o", "unzipped"]).expect(0);
        assert!(tree(&folder.path().join("unzipped")) == files_of_the_disc(folder.path()));
    }
}

#[test]
fn a_disc_becomes_a_package_and_comes_back() {
    let folder = folder();
    let disc = text(&downloads().disc);
    let made = run(folder.path(), &["convert", disc, "--to", "god", "-o", "out/", "--prove"]).expect(0);
    made.says("out/53500019/00007000/").says("read back: all 8 files are identical").says("Gullwing Rows");
    let package = package_below(&folder.path().join("out"));
    let package = text(&package);
    let told = run(folder.path(), &["identify", package, "--json"]).expect(0).json();
    let fact = |name: &str| {
        let facts = told["sources"][0]["facts"].as_array().unwrap().clone();
        facts.iter().find(|f| f["name"] == name).map(|f| f["value"].as_str().unwrap().to_owned())
    };
    assert_eq!(fact("title").as_deref(), Some("Gullwing Rows"), "the program says it");
    assert_eq!(fact("media id").as_deref(), Some("4D150019"));
    run(folder.path(), &["verify", package]).expect(0).says("SOUND");
    run(folder.path(), &["extract", package, "-o", "back"]).expect(0);
    assert_eq!(tree(&folder.path().join("back")), files_of_the_disc(folder.path()));
    for (target, name) in [("iso", "a.iso"), ("xdvdfs", "b.iso")] {
        run(folder.path(), &["convert", package, "--to", target, "-o", name, "--prove"]).expect(0);
        run(folder.path(), &["extract", name, "-o", &format!("from {target}")]).expect(0);
        assert_eq!(tree(&folder.path().join(format!("from {target}"))), files_of_the_disc(folder.path()));
    }
    // The same folder gives the same package, byte for byte; the picture of the program is in it.
    run(folder.path(), &["convert", "from the disc", "--to", "god", "--layout", "plain", "-o", "two/"]).expect(0);
    run(folder.path(), &["convert", disc, "--to", "god", "--layout", "plain", "-o", "three/"]).expect(0);
    let plain = tree(&folder.path().join("three"));
    assert!(plain == tree(&folder.path().join("two")) && plain.len() == 2 && !plain[0].0.contains('/'));
    run(folder.path(), &["identify", package, "--picture", "icon.png"]).expect(0);
    assert!(fs::read(folder.path().join("icon.png")).unwrap().starts_with(b"\x89PNG"));
    run(folder.path(), &["convert", disc, "--to", "god", "-o", "out/"]).expect(2).says("already exists");
}

#[test]
fn options_of_a_package_are_in_it() {
    let folder = folder();
    let disc = text(&downloads().disc);
    run(folder.path(), &["identify", text(&demo().dvd), "--picture", "odd.png"]).expect(0);
    let words = ["--title", "Rows, again", "--publisher", "Pier Nine", "--description", "By lamp", "--icon", "odd.png"];
    run(folder.path(), &[&["convert", disc, "--to", "god", "-o", "mine"], &words[..]].concat())
        .expect(0)
        .says("was fitted to 64x64");
    let told = run(folder.path(), &["identify", "mine"]).expect(0);
    told.says("Rows, again").says("Pier Nine").says("By lamp").says("SP-025");
    assert!(folder.path().join("mine.data/Data0000").exists());
    run(folder.path(), &["convert", disc, "--to", "god", "--title", &"n".repeat(200), "-o", "no"])
        .expect(3)
        .says("a name of 200 characters");
    run(folder.path(), &["convert", disc, "--to", "xdvdfs", "--title", "x", "-o", "no.iso"])
        .expect(2)
        .says("it is for god, stfs");
}

#[test]
fn damage_of_a_package_is_told_and_nothing_wrong_is_handed_out() {
    let folder = folder();
    run(folder.path(), &["convert", text(&downloads().disc), "--to", "god", "-o", "p"]).expect(0);
    let data = folder.path().join("p.data/Data0000");
    let whole = fs::read(&data).unwrap();
    let mut hit = whole.clone();
    let water = hit.windows(5).position(|w| w == b"WATER").unwrap();
    hit[water + 20_000] ^= 4;
    fs::write(&data, &hit).unwrap();
    run(folder.path(), &["verify", "p"]).expect(1).says("media/water.bin").says("should have SHA-1").says("DAMAGED");
    run(folder.path(), &["extract", "p", "-o", "some"]).expect(1).says("media/water.bin");
    assert!(!folder.path().join("some/media/water.bin").exists() && folder.path().join("some/default.xex").exists());
    run(folder.path(), &["extract", "p", "-o", "all", "--unchecked"]).expect(0);
    assert!(folder.path().join("all/media/water.bin").exists());
    run(folder.path(), &["convert", "p", "--to", "iso", "-o", "no.iso"]).expect(3).says("should have SHA-1");
    assert!(!folder.path().join("no.iso").exists());
    fs::remove_file(&data).unwrap();
    let told = run(folder.path(), &["identify", "p"]).expect(0);
    told.says("p.data/Data0000 is missing: 180,224 bytes");
    run(folder.path(), &["verify", "p"]).expect(1).says("Data0000");
    run(folder.path(), &["extract", "p", "-o", "none"]).expect(3).says("p.data/Data0000 is missing: 180,224 bytes");
    fs::write(&data, &whole).unwrap();
    run(folder.path(), &["verify", "p"]).expect(0);
}

#[test]
fn files_become_a_package_without_further_options() {
    let folder = folder();
    let own = folder.path().join("slot");
    fs::create_dir_all(own.join("deep/empty")).unwrap();
    fs::write(own.join("deep/a.bin"), noise(900_000, 3)).unwrap();
    fs::write(own.join("none"), "").unwrap();
    let made = run(folder.path(), &["convert", "slot", "--to", "stfs", "--prove"]).expect(0);
    made.says("saved game").says("placeholder of zeros");
    run(folder.path(), &["identify", "slot.stfs"]).expect(0).says("(CON): saved game").says("2 levels, each twice");
    run(folder.path(), &["verify", "slot.stfs"]).expect(0).says("SOUND");
    run(folder.path(), &["extract", "slot.stfs", "-o", "back"]).expect(0);
    assert!(tree(&folder.path().join("back")) == tree(&own) && folder.path().join("back/deep/empty").is_dir());
    let words = ["--content-type", "2", "--title-id", "5350001A", "--signed-as", "pirs", "--title", "Oars"];
    run(folder.path(), &[&["convert", "slot", "--to", "stfs", "-o", "add.on"], &words[..]].concat()).expect(0);
    let told = run(folder.path(), &["identify", "add.on"]).expect(0);
    told.says("(PIRS): add-on").says("5350001A").says("Oars").says("each once");
    for (words, says) in [
        (["--title-id", "5350"], "8 hexadecimal digits"),
        (["--content-type", "game"], "hexadecimal digits are wanted"),
        (["--signed-as", "me"], "con, live, pirs"),
    ] {
        run(folder.path(), &[&["convert", "slot", "--to", "stfs", "-o", "no"], &words[..]].concat())
            .expect(2)
            .says(says);
    }
    // Made anew by the same rules, a package is what it was; its header is kept.
    let add_on = text(&downloads().add_on);
    run(folder.path(), &["convert", add_on, "--to", "stfs", "-o", "same.live", "--prove"]).expect(0);
    assert!(fs::read(folder.path().join("same.live")).unwrap() == fs::read(&downloads().add_on).unwrap());
    run(folder.path(), &["convert", add_on, "--to", "stfs", "-o", "no", "--title", "x"])
        .expect(2)
        .says("keeps its header");
    run(folder.path(), &["convert", add_on, "--to", "stfs", "-o", "less", "--without", "songs.xml"]).expect(0);
    run(folder.path(), &["verify", "less"]).expect(0).says("SOUND");
    fs::write(own.join(format!("{}.txt", "n".repeat(40))), "x").unwrap();
    run(folder.path(), &["convert", "slot", "--to", "stfs", "-o", "no"]).expect(3).says("more than 40 letters");
}

#[test]
fn a_saved_game_is_taken_out_and_put_back() {
    let folder = folder();
    let save = text(&downloads().save);
    run(folder.path(), &["save", "show", save]).expect(0).says("saved game, Seven lengths ahead").says("save export");
    run(folder.path(), &["save", "export", save, "-o", "out"]).expect(0).says("2 files");
    run(folder.path(), &["save", "import", "out", "--into", save, "-o", "same"])
        .expect(0)
        .says("its signature is zeros");
    // Nothing was changed: it is the same package.
    assert!(fs::read(folder.path().join("same")).unwrap() == fs::read(&downloads().save).unwrap());
    fs::write(folder.path().join("out/slots/two.bin"), noise(10_000, 5)).unwrap();
    let words = ["save", "import", "out", "--into", save, "-o", "new", "--profile-id", "E0000A0B0C0D0E0F"];
    run(folder.path(), &words).expect(0);
    let told = run(folder.path(), &["identify", "new"]).expect(0);
    told.says("E0000A0B0C0D0E0F").says("510A170019").says("Seven lengths ahead");
    run(folder.path(), &["verify", "new"]).expect(0).says("SOUND");
    run(folder.path(), &["save", "export", "new", "-o", "again"]).expect(0);
    assert_eq!(tree(&folder.path().join("again")), tree(&folder.path().join("out")));
    run(folder.path(), &words).expect(2).says("a save is never replaced");
    run(folder.path(), &["save", "export", save, "-o", "x", "--swap", "2"]).expect(2).says("--swap has no meaning");
    run(folder.path(), &["save", "import", "nothing", "--into", save, "-o", "x"]).expect(5);
    run(folder.path(), &["save", "import", save, "--into", save, "-o", "x"]).expect(2).says("neither a folder nor");
}

#[test]
fn packages_are_laid_out_as_emulators_expect_them() {
    let folder = folder();
    run(folder.path(), &["extract", text(&downloads().add_on), "--content-tree", "-o", "tree"]).expect(0);
    assert!(folder.path().join("tree/53500019/00000002/Gullwing Songs/songs/song 0.bin").exists());
    run(folder.path(), &["extract", text(&downloads().folder), "--content-tree", "-o", "all"])
        .expect(1)
        .says("for content packages");
    assert!(folder.path().join("all/53500019/00000001/Rowing/profile.xml").exists());
    assert!(folder.path().join("all/5350001B/00007000/9E02B57A41C6D83F0E1B/default.xex").exists());
    run(folder.path(), &["extract", text(&demo().handheld), "--content-tree", "-o", "no"]).expect(2);
}

#[test]
fn a_folder_of_packages_goes_together_and_says_which_disc_is_missing() {
    let folder = folder();
    let told = run(folder.path(), &["identify", text(&downloads().folder)]).expect(0);
    let told = told.says("belong together: title 53500019").says("missing: disc 2 of 2");
    assert!(!told.out.contains("not understood"), "data files are read with their package: {}", told.out);
    let json = run(folder.path(), &["identify", text(&downloads().folder), "--json"]).expect(0).json();
    let groups = json["groups"].as_array().unwrap();
    assert_eq!(groups.iter().find(|g| g["name"] == "title 5350001B").unwrap()["missing"][0], "disc 2 of 2");
}

#[test]
fn what_was_not_bought_is_told() {
    let folder = folder();
    let closed = noise(200_000, 9);
    let files = vec![("3C41D9A7E05B2F68C19D", closed.as_slice())];
    let method = Method::Lzx(Lzx { bits: 16, calls: false, is_mixed: false });
    let bytes = cabinets(&[Folder { method, files }], &Around::default()).remove(0);
    fs::write(folder.path().join("closed.xcp"), bytes).unwrap();
    run(folder.path(), &["identify", "closed.xcp"]).expect(0).says("stays encrypted for its console");
    // The whole of it is noise.
    fs::write(folder.path().join("noise.xcp"), &closed).unwrap();
    run(folder.path(), &["identify", "noise.xcp"]).expect(3).says("encrypted as a whole");
}

#[test]
fn a_set_of_cabinets_is_read_as_one_and_what_is_missing_is_named() {
    let folder = folder();
    let (a, b) = (noise(98_304, 1), noise(120_000, 2));
    let files = vec![("a.bin", a.as_slice()), ("b.bin", &b)];
    let around = Around { cut_after: Some(100_000), name: "set".into(), ..Around::default() };
    let all = cabinets(&[Folder { method: Method::Stored, files }], &around);
    for (number, bytes) in all.iter().enumerate() {
        fs::write(folder.path().join(format!("set{}.cab", number + 1)), bytes).unwrap();
    }
    run(folder.path(), &["extract", "set2.cab", "-o", "out"]).expect(0);
    assert_eq!(tree(&folder.path().join("out")), [("a.bin".to_owned(), a.clone()), ("b.bin".to_owned(), b)]);
    fs::rename(folder.path().join("set2.cab"), folder.path().join("gone")).unwrap();
    run(folder.path(), &["list", "set1.cab"]).expect(0).says("it goes on in set2.cab");
    run(folder.path(), &["extract", "set1.cab", "-o", "some"]).expect(1).says("b.bin").says("it goes on in set2.cab");
    assert_eq!(tree(&folder.path().join("some")), [("a.bin".to_owned(), a)]);
    run(folder.path(), &["verify", "set1.cab"]).expect(1);
}
