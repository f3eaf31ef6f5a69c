//! Titles of the hybrid console: what goes together becomes one file and comes apart again; what does not is refused with the
//! reason, and nothing stands under a final name.

use crate::support::{Run, demo, folder, run, text, tree};
use std::fs;
use std::path::{Path, PathBuf};

const MERGED: &str = decanter_demo::hybrid::MERGED;

fn kelp() -> PathBuf {
    demo().shelf.join("Kelp Courier")
}

fn part(name: &str) -> PathBuf {
    kelp().join(format!("Kelp Courier ({name}).nsp"))
}

fn keys() -> String {
    text(&demo().shelf.join("keys")).to_owned()
}

fn with_keys(folder: &Path, words: &[&str]) -> Run {
    let keys = keys();
    run(folder, &[words, &["--keys", &keys]].concat())
}

fn bytes(path: &Path) -> Vec<u8> {
    fs::read(path).unwrap()
}

/// A copy of the shelf that may be changed.
fn own_shelf() -> tempfile::TempDir {
    let own = folder();
    for (name, bytes) in tree(&demo().shelf) {
        let path = own.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
    own
}

#[test]
fn a_shelf_is_told_title_by_title() {
    let folder = folder();
    let told = run(folder.path(), &["identify", text(&demo().shelf)]).expect(0);
    let told = told.says("Kelp Courier  05009A3E11D20000  v0    v131072 (update 2)  2        goes together");
    told.says("superseded  Kelp Courier: update v65536 (update 1)").says("Fogbell       05009A3E22C40000  v0    -");
    let json = run(folder.path(), &["identify", text(&demo().shelf), "--json"]).expect(0).json();
    let title = &json["titles"][0];
    assert_eq!(
        (title["name"].as_str(), title["update"]["title"]["version"].as_u64()),
        (Some("Kelp Courier"), Some(131_072))
    );
    assert_eq!((title["add_ons"].as_array().unwrap().len(), title["faults"].as_array().unwrap().len()), (2, 0));
}

#[test]
fn identify_says_what_a_package_needs() {
    let folder = folder();
    let told = run(folder.path(), &["identify", text(&part("update 2"))]).expect(0);
    let told = told
        .says("update       05009A3E11D20800, v131072 (update 2)")
        .says("needs system 5.1.0")
        .says("version      1.2.0");
    told.says("program: 299,520 bytes, generation 5, title-key crypto")
        .says("delta fragment: 1,024 bytes, not there")
        .says("1 for everybody");
    run(folder.path(), &["identify", text(&part("add-on 2"))])
        .expect(0)
        .says("number 2")
        .says("needs update v65536 (update 1)");
    let card =
        run(folder.path(), &["identify", text(&demo().shelf.join("Fogbell.xci")), "--picture", "icon.png"]).expect(0);
    card.says("1 GB, image trimmed").says("partition update: 1 file").says("system update on the card 5.0.2");
    assert!(bytes(&folder.path().join("icon.png")).starts_with(b"\x89PNG"));
    let json = run(folder.path(), &["identify", text(&part("base")), "--json", "-q"]).expect(0).json();
    assert_eq!(json["sources"][0]["encryption"]["key"], "found");
}

#[test]
fn merged_is_the_same_whatever_the_order_and_comes_apart_again() {
    let folder = folder();
    run(folder.path(), &["merge", text(&kelp()), "--to", "xci", "-o", "card/", "--prove"])
        .expect(0)
        .says("digests hold")
        .says("superseded");
    let merged = folder.path().join("card").join(MERGED);
    let names = ["add-on 2", "update 1", "base", "add-on 1", "update 2", "base"].map(part);
    let mut words = vec!["merge"];
    words.extend(names.iter().map(|n| text(n)));
    words.extend(["--to", "xci", "-o", "other.xci"]);
    run(folder.path(), &words).expect(0);
    assert!(bytes(&merged) == bytes(&folder.path().join("other.xci")));
    with_keys(folder.path(), &["verify", text(&merged)]).expect(0).says("SOUND").says("update program over its base");
    with_keys(folder.path(), &["unmerge", text(&merged), "-o", "parts"]).expect(0);
    let parts = tree(&folder.path().join("parts"));
    let names: Vec<&str> = parts.iter().map(|(n, _)| n.as_str()).collect();
    assert_eq!(
        names,
        [
            "Kelp Courier [05009A3E11D20000] [v0] (base).nsp",
            "Kelp Courier [05009A3E11D20800] [v131072] (update).nsp",
            "Kelp Courier [05009A3E11D21001] [v0] (add-on 1).nsp",
            "Kelp Courier [05009A3E11D21002] [v0] (add-on 2).nsp",
        ]
    );
    with_keys(folder.path(), &["merge", "parts", "--to", "xci", "-o", "again.xci"]).expect(0);
    assert!(bytes(&merged) == bytes(&folder.path().join("again.xci")));
    // Single gamecard images and merged files are sources too, and an archive with packages.
    with_keys(folder.path(), &["merge", text(&merged), "--to", "nsp", "-o", "a.nsp"]).expect(0);
    with_keys(folder.path(), &["convert", text(&merged), "--to", "nsp", "-o", "b.nsp"]).expect(0);
    assert!(bytes(&folder.path().join("a.nsp")) == bytes(&folder.path().join("b.nsp")));
    with_keys(folder.path(), &["convert", "b.nsp", "--to", "xci", "-o", "c.xci"]).expect(0);
    assert!(bytes(&merged) == bytes(&folder.path().join("c.xci")));
}

/// Contents stand in the merged package byte for byte, at offsets that the layout table alone tells.
#[test]
fn a_merged_package_is_right_by_its_layout() {
    let folder = folder();
    run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "-o", "a.nsp"]).expect(0);
    let files = |package: &[u8]| -> Vec<(String, Vec<u8>)> {
        let word = |at: usize| u32::from_le_bytes(package[at..at + 4].try_into().unwrap()) as usize;
        let long = |at: usize| u64::from_le_bytes(package[at..at + 8].try_into().unwrap()) as usize;
        assert_eq!(&package[..4], b"PFS0");
        let (count, names) = (word(4), 0x10 + word(4) * 0x18);
        let data = names + word(8);
        let mut all = Vec::new();
        for at in (0..count).map(|i| 0x10 + i * 0x18) {
            let name = &package[names + word(at + 0x10)..data];
            let name = String::from_utf8(name[..name.iter().position(|b| *b == 0).unwrap()].to_vec()).unwrap();
            all.push((name, package[data + long(at)..data + long(at) + long(at + 8)].to_vec()));
        }
        all
    };
    let merged = files(&bytes(&folder.path().join("a.nsp")));
    let mut wanted = Vec::new();
    for name in ["base", "update 2", "add-on 1", "add-on 2"] {
        wanted.extend(files(&bytes(&part(name))));
    }
    let end = |n: &str| n.ends_with(".tik") || n.ends_with(".cert");
    let (mut tickets, contents): (Vec<_>, Vec<_>) = wanted.into_iter().partition(|(n, _)| end(n));
    tickets.sort();
    assert!(merged == [contents, tickets].concat(), "contents in order, then certificates and tickets by name");
}

#[test]
fn standard_crypto_keeps_every_file_and_needs_no_ticket() {
    let folder = folder();
    let told =
        run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "--standard-crypto", "--prove", "-o", "s.nsp"])
            .expect(0);
    told.says("under other keys are the same without them")
        .says("2 contents, their keys now in their key areas")
        .says("signatures are not valid");
    run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "-o", "p.nsp"]).expect(0);
    with_keys(folder.path(), &["verify", "s.nsp"]).expect(0).says("SOUND");
    for name in ["s", "p"] {
        with_keys(folder.path(), &["extract", &format!("{name}.nsp"), "-o", name]).expect(0);
    }
    let readable = |name: &str| -> Vec<(String, Vec<u8>)> {
        tree(&folder.path().join(name)).into_iter().filter(|(n, _)| n.contains('/')).collect()
    };
    assert!(readable("s") == readable("p") && readable("s").len() > 30);
    assert!(!tree(&folder.path().join("s")).iter().any(|(n, _)| n.ends_with(".tik")));
    let told = with_keys(folder.path(), &["identify", "s.nsp"]).expect(0);
    assert!(!told.out.contains("title-key"), "{}", told.out);
}

#[test]
fn the_lowest_system_is_that_of_the_keys() {
    let folder = folder();
    run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "--required-system", "lowest", "-o", "l.nsp"])
        .expect(0);
    let told = with_keys(folder.path(), &["identify", "l.nsp"]).expect(0);
    assert!(told.out.contains("needs system 3.0.1") && told.out.contains("needs system 5.0.0"), "{}", told.out);
    with_keys(folder.path(), &["verify", "l.nsp"]).expect(0).says("SOUND");
}

#[test]
fn wrong_sets_are_refused_before_anything_is_written() {
    let folder = folder();
    let shelf = demo().shelf.clone();
    let refused = |words: &[&str], why: &str| {
        run(folder.path(), &[&["merge"], words, &["--to", "nsp", "-o", "out/"]].concat()).expect(2).says(why);
        assert!(!folder.path().join("out").exists(), "{words:?}");
    };
    refused(
        &[text(&shelf)],
        "they are parts of different titles: Kelp Courier [05009A3E11D20000], Fogbell [05009A3E22C40000]",
    );
    refused(&[text(&part("update 2"))], "the base is missing");
    refused(&[text(&demo().plain)], "which holds no titles");
    refused(&[text(&kelp()), "--pad"], "--pad has no meaning with --to nsp");
    run(
        folder.path(),
        &["merge", text(&part("update 2")), text(&part("add-on 1")), "--to", "nsp", "--without-base", "-o", "u.nsp"],
    )
    .expect(0);
    // Another file with the same title and version.
    let own = own_shelf();
    let mut other = bytes(&part("add-on 1"));
    let name = other.windows(9).position(|w| w == b".cnmt.nca").unwrap();
    other[name - 1] = if other[name - 1] == b'0' { b'1' } else { b'0' };
    fs::write(own.path().join("Kelp Courier/other.nsp"), other).unwrap();
    let told = run(own.path(), &["merge", "Kelp Courier", "--to", "nsp", "-o", "out/"]).expect(2);
    told.says("both claim to be add-on 1, v0, with different contents");
    assert!(!own.path().join("out").exists());
}

#[test]
fn what_fails_does_not_stop_the_rest() {
    let own = own_shelf();
    fs::remove_file(own.path().join("Kelp Courier/Kelp Courier (base).nsp")).unwrap();
    let told = run(own.path(), &["merge", ".", "--each", "--to", "nsp", "-o", "card/"]).expect(1);
    told.says("not made Kelp Courier")
        .says("the base is missing")
        .says("wrote card/Fogbell [05009A3E22C40000] [v0] (1 base).nsp");
    assert_eq!(tree(&own.path().join("card")).len(), 1);
    run(own.path(), &["merge", ".", "--each", "--to", "nsp", "-o", "one.nsp"])
        .expect(2)
        .says("--each makes several files");
}

#[test]
fn damage_is_named_and_never_handed_on() {
    let own = own_shelf();
    let base = own.path().join("Kelp Courier/Kelp Courier (base).nsp");
    let clean = bytes(&base);
    let mut torn = clean.clone();
    torn[400_000] ^= 1;
    fs::write(&base, &torn).unwrap();
    let told = run(own.path(), &["verify", text(&base)]).expect(1).says("DAMAGED");
    told.says("romfs/data/sea.bin").says("the content as a whole");
    run(own.path(), &["merge", "Kelp Courier", "--to", "xci", "-o", "out.xci"])
        .expect(3)
        .says("program")
        .says("SHA-256");
    assert!(!own.path().join("out.xci").exists());
    let told = run(own.path(), &["extract", text(&base), "-o", "files"]).expect(1);
    told.says("base/romfs/data/sea.bin");
    let names: Vec<String> = tree(&own.path().join("files")).into_iter().map(|(n, _)| n).collect();
    assert!(names.iter().any(|n| n == "base/romfs/letters/00.xml") && !names.iter().any(|n| n.ends_with("sea.bin")));
    // Cut short: which contents are hit.
    fs::write(&base, &clean[..1_100_000]).unwrap();
    run(own.path(), &["identify", text(&base)]).expect(0).says("cut short").says("bytes are missing");
    run(own.path(), &["verify", text(&base)]).expect(1).says("INCOMPLETE");
    run(own.path(), &["merge", "Kelp Courier", "--to", "xci", "-o", "out.xci"]).expect(2).says("cut off");
    // Missing in the package.
    let gone = run(own.path(), &["merge", text(&base), "--to", "nsp", "-o", "out.nsp"]);
    assert!(gone.code != 0 && !own.path().join("out.nsp").exists());
}

#[test]
fn keys_that_are_missing_or_wrong_are_named() {
    let folder = folder();
    let copy = folder.path().join("base.nsp");
    fs::copy(part("base"), &copy).unwrap();
    run(folder.path(), &["identify", "base.nsp"]).expect(0).says("nx.header (for").says("is missing");
    run(folder.path(), &["verify", "base.nsp"]).expect(4).says("nx.header");
    run(folder.path(), &["merge", "base.nsp", "--to", "xci", "-o", "a.xci"]).expect(4).says("--keys FILE");
    run(folder.path(), &["unmerge", "base.nsp", "-o", "parts"]).expect(4).says("nx.header");
    let list = fs::read_to_string(demo().shelf.join("keys/museum.keys")).unwrap();
    let wrong: String = list
        .lines()
        .map(|l| {
            if l.starts_with("nx.area.application.02") {
                format!("{} = {}\n", l.split(' ').next().unwrap(), "5".repeat(32))
            } else {
                format!("{l}\n")
            }
        })
        .collect();
    fs::write(folder.path().join("wrong.keys"), wrong).unwrap();
    run(folder.path(), &["identify", "base.nsp", "--keys", "wrong.keys"]).expect(0).says("wrong.keys)");
    fs::remove_file(folder.path().join("wrong.keys")).unwrap();
    let told = with_keys(folder.path(), &["keys", "base.nsp"]).expect(0).says("key areas (application), generation 3");
    assert!(
        told.says("proven by")
            .out
            .lines()
            .all(|l| !list.lines().any(|k| k.split("= ").nth(1).is_some_and(|v| l.contains(v))))
    );
}

#[test]
fn files_are_reached_at_any_depth() {
    let folder = folder();
    let base = text(&part("base")).to_owned();
    let listed = run(folder.path(), &["list", &base])
        .expect(0)
        .says("base/romfs/letters/00.xml")
        .says("base/control/control.nacp");
    let content = listed.out.split_whitespace().find(|w| w.ends_with(".nca")).unwrap();
    let inside = format!("{base}::{content}::romfs/letters/00.xml");
    let own = run(folder.path(), &["digest", &inside, "-q"]).expect(0).out;
    let short = run(folder.path(), &["digest", &format!("{base}::base/romfs/letters/00.xml"), "-q"]).expect(0).out;
    let sums = |t: &str| t.lines().skip(1).map(str::to_owned).collect::<Vec<_>>();
    assert_eq!(sums(&own), sums(&short));
    let update = text(&part("update 2")).to_owned();
    run(folder.path(), &["list", &update]).expect(0).says("it needs its base 05009A3E11D20000 (give it with --with)");
    run(folder.path(), &["extract", &update, "-o", "without"]).expect(1).says("it needs its base 05009A3E11D20000");
    run(folder.path(), &["extract", &update, "--with", &base, "--only", "update/romfs", "-o", "with"]).expect(0);
    let files = tree(&folder.path().join("with"));
    let new = files.iter().find(|(n, _)| n == "update/romfs/tides/new in 2.txt").unwrap();
    assert_eq!(new.1, b"Release 2: new tides.\n");
    run(folder.path(), &["verify", &update, "--with", &base])
        .expect(0)
        .says("update program over its base 6 of 6 digests hold");
}

#[test]
fn cards_are_padded_trimmed_and_split() {
    let folder = folder();
    let card = text(&demo().shelf.join("Fogbell.xci")).to_owned();
    with_keys(folder.path(), &["convert", &card, "--pad", "-o", "full.xci"]).expect(0).says("998,244,352 bytes");
    with_keys(folder.path(), &["identify", "full.xci"]).expect(0).says("image full");
    with_keys(folder.path(), &["convert", "full.xci", "--trim", "-o", "trim.xci"]).expect(0);
    assert!(bytes(&folder.path().join("trim.xci")) == bytes(Path::new(&card)));
    fs::remove_file(folder.path().join("full.xci")).unwrap();
    with_keys(folder.path(), &["convert", &card, "--to", "nsp", "--split", "300000", "-o", "split.nsp"]).expect(0);
    with_keys(folder.path(), &["convert", &card, "--to", "nsp", "-o", "whole.nsp"]).expect(0);
    let parts = tree(&folder.path().join("split.nsp"));
    assert_eq!(parts.iter().map(|(n, _)| n.as_str()).collect::<Vec<_>>(), ["00", "01", "02"]);
    assert!(parts.iter().flat_map(|(_, b)| b.clone()).collect::<Vec<_>>() == bytes(&folder.path().join("whole.nsp")));
    with_keys(folder.path(), &["verify", "split.nsp"]).expect(0).says("SOUND");
    with_keys(folder.path(), &["merge", "split.nsp", "--to", "nsp", "-o", "back.nsp"]).expect(0);
    assert!(bytes(&folder.path().join("back.nsp")) == bytes(&folder.path().join("whole.nsp")));
    with_keys(folder.path(), &["convert", &card, "--to", "nsp", "--split", "even-odd", "-o", "lanes.nsp"])
        .expect(2)
        .says("even-odd is for ROMs");
    with_keys(folder.path(), &["convert", &card, "--to", "nsp", "--split", "5000", "-o", "many.nsp"])
        .expect(2)
        .says("more than 100");
}

#[test]
fn an_archive_with_packages_is_a_source() {
    let folder = folder();
    let mut writer = zip::ZipWriter::new(fs::File::create(folder.path().join("box.zip")).unwrap());
    for name in ["base", "update 2"] {
        let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        writer.start_file(format!("{name}.nsp"), stored).unwrap();
        std::io::Write::write_all(&mut writer, &bytes(&part(name))).unwrap();
    }
    writer.finish().unwrap();
    with_keys(folder.path(), &["merge", "box.zip", "--to", "nsp", "-o", "a.nsp"]).expect(0).says("box.zip::base.nsp");
    run(folder.path(), &["merge", text(&part("base")), text(&part("update 2")), "--to", "nsp", "-o", "b.nsp"])
        .expect(0);
    assert!(bytes(&folder.path().join("a.nsp")) == bytes(&folder.path().join("b.nsp")));
}

#[test]
fn unchecked_says_so_and_a_rehearsal_writes_nothing() {
    let folder = folder();
    run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "--unchecked", "-o", "u.nsp"])
        .expect(0)
        .says("NOTHING: contents were copied as they are");
    run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "-o", "c.nsp"])
        .expect(0)
        .says("10 contents by the SHA-256 in their lists");
    assert!(bytes(&folder.path().join("u.nsp")) == bytes(&folder.path().join("c.nsp")));
    run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "--dry-run", "-o", "d.nsp"])
        .expect(0)
        .says("would write d.nsp");
    assert!(!folder.path().join("d.nsp").exists());
    run(folder.path(), &["merge", text(&kelp()), "--to", "nsp", "-o", "c.nsp"]).expect(2).says("already exists");
}
