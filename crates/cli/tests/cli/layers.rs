//! Packages of the fourth generation: base, update and replacement files become one; made of folders, taken apart again; and what
//! is refused.

use crate::support::{command, demo, folder, run, text, told, tree};
use decanter_formats::record::sfo::{Parameters, Value};
use std::fs;
use std::path::Path;

const ID: &str = "UP0000-DCNT40009_00-PIERNINE00000000";

fn pier() -> &'static decanter_demo::Pier {
    &demo().pier
}

fn paths() -> [&'static str; 3] {
    [text(&pier().base), text(&pier().update), text(&pier().replacements)]
}

/// A folder with files of a title, and a parameter file with these texts.
fn title(at: &Path, more: &[(&str, &str)], files: &[(&str, &str)]) {
    let mut own = Parameters::default();
    let texts = [
        ("APP_VER", "01.08"),
        ("CATEGORY", "gp"),
        ("CONTENT_ID", ID),
        ("TITLE", "Pier Nine"),
        ("TITLE_ID", "DCNT40009"),
    ];
    for (name, value) in texts.iter().chain(more).filter(|(_, value)| !value.is_empty()) {
        own.put(name, Value::Text((*value).into()), 0);
    }
    fs::create_dir_all(at.join("sce_sys")).unwrap();
    let left_out = |name: &str| more.iter().any(|(own, value)| *own == name && value.is_empty());
    own.entries.retain(|(name, _)| !left_out(name));
    fs::write(at.join("sce_sys/param.sfo"), own.compose()).unwrap();
    for (path, content) in files {
        let path = at.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }
}

#[test]
fn a_folder_says_what_belongs_together() {
    let folder = folder();
    let told = run(folder.path(), &["identify", text(&pier().folder)]).expect(0);
    told.says("one title: Pier Nine [DCNT40009]").says("latest       01.08").says("next         decanter merge ");
    let report = run(folder.path(), &["identify", text(&pier().folder), "--json"]).expect(0).json();
    let set = &report["sets"][0];
    let parts: Vec<&str> = set["layers"].as_array().unwrap().iter().map(|l| l["part"].as_str().unwrap()).collect();
    assert_eq!(parts, ["base", "update", "replacements"]);
    assert_eq!(report["sources"].as_array().unwrap().len(), 3, "the folder with replacements is one source");
    // What it says next works as it stands.
    let words = set["next"].as_str().unwrap().to_owned();
    let words: Vec<&str> = words.split(' ').skip(1).collect();
    run(folder.path(), &words).expect(0).says("wrote Pier Nine 01.08.pkg");
    // A part that is not there is missed, and one of another region does not fit.
    fs::create_dir(folder.path().join("some")).unwrap();
    fs::copy(&pier().update, folder.path().join("some/update.pkg")).unwrap();
    run(folder.path(), &["identify", "some"]).expect(0).says("the base is missing");
    fs::copy(&pier().base, folder.path().join("some/base.pkg")).unwrap();
    title(
        &folder.path().join("europe"),
        &[("CONTENT_ID", "EP0000-DCNT40009_00-PIERNINE00000000")],
        &[("eboot.bin", "e")],
    );
    run(folder.path(), &["convert", "europe", "--to", "ps4-pkg", "-o", "some/europe.pkg"]).expect(0);
    run(folder.path(), &["identify", "some"])
        .expect(0)
        .says("does not fit: its content id is EP0000")
        .says("another region");
}

#[test]
fn base_update_and_replacements_become_one() {
    let folder = folder();
    let [base, update, fixes] = paths();
    let made = run(folder.path(), &["merge", base, update, fixes, "-o", "one.pkg", "--prove"]).expect(0);
    made.says("base 01.00: 4 files")
        .says("replaced, 2 added")
        .says("leaves out")
        .says("room needed")
        .says("all 10 files are those of their sources");
    run(folder.path(), &["verify", "one.pkg"]).expect(0).says("SOUND");
    for (source, to) in [(base, "a"), (update, "b"), ("one.pkg", "one")] {
        run(folder.path(), &["extract", source, "-o", to]).expect(0);
    }
    // Laid over each other by hand.
    let mut wanted: std::collections::BTreeMap<String, Vec<u8>> = std::collections::BTreeMap::new();
    for root in [folder.path().join("a"), folder.path().join("b"), pier().replacements.clone()] {
        for (path, bytes) in tree(&root) {
            let spelled = wanted.keys().find(|known| known.eq_ignore_ascii_case(&path)).cloned().unwrap_or(path);
            wanted.insert(spelled, bytes);
        }
    }
    let is_kept = |path: &str| !path.contains("playgo") && path != "sce_sys/param.sfo";
    let (found, merged): (Vec<_>, Vec<_>) =
        tree(&folder.path().join("one")).into_iter().partition(|(path, _)| path != "sce_sys/param.sfo");
    let wanted: Vec<(String, Vec<u8>)> = wanted.into_iter().filter(|(path, _)| is_kept(path)).collect();
    assert!(found == wanted, "{:?}", found.iter().map(|(p, b)| (p, b.len())).collect::<Vec<_>>());
    // The parameter file: the base's, the newest version, the system of the replacements.
    let own = Parameters::parse(&merged[0].1).unwrap();
    let said =
        ["CATEGORY", "APP_VER", "VERSION", "CONTENT_ID", "TITLE_05"].map(|name| own.text(name).unwrap().to_owned());
    assert_eq!(said, ["gd", "01.08", "01.00", ID, "Molo nove"]);
    let system = own.entries.iter().find(|(name, _)| name == "SYSTEM_VER").unwrap();
    assert_eq!(system.1, Value::Number(0x0505_0000));
    // The same again, byte for byte; deflated it is another file with the same content.
    run(folder.path(), &["merge", base, update, fixes, "-o", "two.pkg"]).expect(0);
    assert!(fs::read(folder.path().join("one.pkg")).unwrap() == fs::read(folder.path().join("two.pkg")).unwrap());
    let words = ["merge", base, update, fixes, "-o", "small.pkg", "--deflated", "--set", "APP_VER=01.09", "--prove"];
    run(folder.path(), &words).expect(0).says("app version  01.09");
    run(folder.path(), &["verify", "small.pkg"]).expect(0).says("SOUND");
    // What was merged can be laid over once more, and a package can bring the replacements.
    run(folder.path(), &["convert", fixes, "--to", "ps4-pkg", "-o", "fixes.pkg"]).expect(0);
    run(folder.path(), &["merge", base, update, "fixes.pkg", "-o", "three.pkg"]).expect(0);
    run(folder.path(), &["extract", "three.pkg", "-o", "three"]).expect(0);
    assert!(tree(&folder.path().join("three")) == tree(&folder.path().join("one")));
}

#[test]
fn a_folder_becomes_a_package_and_comes_back() {
    let folder = folder();
    run(folder.path(), &["extract", paths()[0], "-o", "files"]).expect(0);
    let passcode = "saltmarsh-pier-arcade-museum-001";
    for more in [&[][..], &["--deflated"], &["--passcode", passcode]] {
        let words = ["convert", "files", "--to", "ps4-pkg", "-o", "again.pkg", "--prove", "--replace"];
        run(folder.path(), &[&words[..], more].concat()).expect(0).says("read back: all 9 files are identical");
        let more = if more.len() == 2 { more } else { &[] };
        let words = [&["extract", "again.pkg", "-o", "again", "--replace"], more].concat();
        fs::remove_dir_all(folder.path().join("again")).ok();
        run(folder.path(), &words).expect(0);
        assert!(tree(&folder.path().join("again")) == tree(&folder.path().join("files")));
    }
    // Made in its own folder it is called like that.
    let own = told(
        command(&folder.path().join("files")).args(["convert", ".", "--to", "ps4-pkg", "--dry-run"]).output().unwrap(),
    );
    own.expect(0).says("would write files.pkg");
    // Under its passcode it is closed to whoever has not got it, but for what a header says.
    run(folder.path(), &["identify", "again.pkg"]).expect(0).says("Pier Nine").says("--passcode TEXT");
    let refused = run(folder.path(), &["extract", "again.pkg", "-o", "no"]).expect(4);
    refused.says("the passcode, or the image key, of UP0000").says("--passcode TEXT");
    assert!(!folder.path().join("no").exists());
    let wrong = ["extract", "again.pkg", "-o", "no", "--passcode", "00000000000000000000000000000000"];
    run(folder.path(), &wrong).expect(4).says("has another digest of its key, is wrong (found in: --passcode)");
    run(folder.path(), &["extract", "again.pkg", "-o", "no", "--passcode", "0"]).expect(2).says("32 characters");
    run(folder.path(), &["extract", "again.pkg", "--only", "*.png", "-o", "some"]).expect(0);
    assert_eq!(tree(&folder.path().join("some")).len(), 1);
    run(folder.path(), &["verify", "again.pkg", "--passcode", passcode]).expect(0).says("SOUND");
    run(folder.path(), &["list", "again.pkg", "--passcode", passcode]).expect(0).says("media/lanes/lane1.dat");
    let closed = run(folder.path(), &["verify", "again.pkg"]);
    assert_eq!(closed.code, 4, "its digests hold: {closed:?}");
}

#[test]
fn what_keeps_an_update_from_installing_is_told() {
    let folder = folder();
    let [base, update, _] = paths();
    run(folder.path(), &["merge", "--keep-update", base, update]).expect(0).says("YES").says("made for base fits");
    title(
        &folder.path().join("older"),
        &[("APP_VER", "01.00")],
        &[("eboot.bin", "e"), ("sce_sys/app/playgo-chunk.dat", "other")],
    );
    run(folder.path(), &["convert", "older", "--to", "ps4-pkg", "-o", "older.pkg"]).expect(0);
    let told = run(folder.path(), &["merge", "--keep-update", base, "older.pkg"]).expect(1);
    told.says("NO").says("does not fit: 01.00 over 01.00").says("made for another build");
    run(folder.path(), &["merge", "--keep-update", base]).expect(2).says("a base and at least one update");
    let report = run(folder.path(), &["merge", "--keep-update", base, update, "--json"]).expect(0).json();
    assert_eq!(report["schema"], "decanter.keep-update/1");
}

#[test]
fn what_does_not_go_together_is_refused_with_what_to_do() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    let [base, update, fixes] = paths();
    let refused = |words: &[&str], say: &[&str]| {
        let told = run(folder.path(), &[&["merge"], words, &["-o", "out.pkg"]].concat());
        assert!(matches!(told.code, 2..=4), "{told:?}");
        say.iter().fold(told, |told, words| told.says(words));
        assert!(!at("out.pkg").exists());
    };
    refused(&[update, base], &["is no base but update 01.08", "decanter merge "]);
    refused(&[base], &["nothing to lay over the base"]);
    refused(&[base, base], &["is a base, too"]);
    let make = |name: &str, more: &[(&str, &str)]| {
        title(&at(name), more, &[("eboot.bin", name)]);
        run(folder.path(), &["convert", name, "--to", "ps4-pkg", "-o", &format!("{name}.pkg")]).expect(0);
    };
    make("other", &[("CONTENT_ID", "UP0000-DCNT40010_00-KELPDASH00000000"), ("TITLE_ID", "DCNT40010")]);
    refused(&[base, "other.pkg"], &["its title id is DCNT40010", "another title"]);
    make("old", &[("APP_VER", "01.02")]);
    refused(&[base, update, "old.pkg"], &["would go over", "which is newer"]);
    make("addon", &[("CATEGORY", "ac")]);
    refused(&[base, "addon.pkg"], &["it is an add-on", "leave it out"]);
    make("late", &[("TARGET_APP_VER", "01.05")]);
    refused(&[base, "late.pkg"], &["was made for version 01.05, and there is 01.00"]);
    refused(&[base, update, fixes, "--set", "APP_VER"], &["a name and a value are wanted"]);
    refused(&[base, update, fixes, "--set", "SYSTEM_VER=new"], &["a number of 32 bits"]);
    refused(&[base, update, "--each"], &["has no meaning with PS4 packages"]);
    // Changes alone: by the content flags.
    let mut bytes = fs::read(&pier().update).unwrap();
    bytes[0x78..0x7c].copy_from_slice(&[0x41, 0, 0, 0]);
    fs::write(at("delta.pkg"), bytes).unwrap();
    refused(&[base, "delta.pkg"], &["it holds changes alone", "get the update that holds all of its files"]);
    // A base with a damaged block: named, with what to do.
    let mut bytes = fs::read(&pier().base).unwrap();
    let last = bytes.len() - 0x1_0000;
    bytes[last] ^= 1;
    fs::write(at("damaged.pkg"), &bytes).unwrap();
    refused(&["damaged.pkg", update], &["should have the signature", "verify"]);
    let told = run(folder.path(), &["verify", "damaged.pkg"]).expect(1).says("DAMAGED").says("of pfs_image.dat");
    assert!(told.out.contains("sce_module/libc.prx"), "{told:?}");
    let told = run(folder.path(), &["extract", "damaged.pkg", "-o", "rest"]).expect(1).says("left out");
    assert!(told.out.contains("8 files"), "{told:?}");
    // A package that does not say whether it is a base.
    make("kind", &[("CATEGORY", "xx"), ("APP_VER", "01.00")]);
    refused(&["kind.pkg", update], &["has the CATEGORY xx: nothing says whether it is a base or an update"]);
    refused(&[base, "kind.pkg"], &["has the CATEGORY xx"]);
    // A parameter file without what decides.
    title(&at("bare"), &[("CATEGORY", ""), ("APP_VER", "")], &[("eboot.bin", "e")]);
    let told = run(folder.path(), &["convert", "bare", "--to", "ps4-pkg", "-o", "out.pkg"]).expect(2);
    told.says("has no CATEGORY, APP_VER: add --set CATEGORY=gd");
    let words =
        ["convert", "bare", "--to", "ps4-pkg", "--set", "CATEGORY=gd", "--set", "APP_VER=01.00", "-o", "out.pkg"];
    run(folder.path(), &words).expect(0);
    fs::create_dir_all(at("empty")).unwrap();
    fs::write(at("empty/eboot.bin"), "e").unwrap();
    run(folder.path(), &["convert", "empty", "--to", "ps4-pkg", "-o", "no.pkg"])
        .expect(2)
        .says("there is no sce_sys/param.sfo");
}
