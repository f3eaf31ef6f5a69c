//! Packages of the hybrid console that are not what they say: what, where, and what can still be had.

use crate::support::{Run, demo, folder, run, text};
use decanter_demo::hybrid::{self, COURIER, Crypto, Files, Wish};
use std::fs;
use std::path::Path;

fn wish() -> Wish<'static> {
    Wish {
        title_id: COURIER,
        base: COURIER,
        version: 0,
        crypto: Crypto::TitleKey,
        generation: 3,
        names: &[(0, "Kelp Courier")],
        shown: "1.0.0",
        is_for_card: false,
    }
}

/// A base of three contents, certificate and ticket.
fn base() -> Files {
    hybrid::base(&wish(), 5000).unwrap()
}

fn with_keys(folder: &Path, words: &[&str]) -> Run {
    let keys = text(&demo().shelf.join("keys")).to_owned();
    run(folder, &[words, &["--keys", &keys]].concat())
}

/// Writes a package of these files, and says what `verify` and `merge` make of it; nothing is written by the latter.
fn told(folder: &Path, files: &Files) -> (Run, Run) {
    fs::write(folder.join("a.nsp"), hybrid::package(files)).unwrap();
    let verified = with_keys(folder, &["verify", "a.nsp"]);
    let merged = with_keys(folder, &["merge", "a.nsp", "--to", "nsp", "-o", "out.nsp"]);
    (verified, merged)
}

fn end(files: &Files, end: &str) -> usize {
    files.iter().position(|(name, _)| name.ends_with(end)).unwrap()
}

#[test]
fn a_content_that_is_listed_and_not_there() {
    let folder = folder();
    let mut files = base();
    let gone = files.remove(0).0;
    let (verified, merged) = told(folder.path(), &files);
    verified.expect(1).says("DAMAGED").says(&format!("{gone} (program) is listed and not there"));
    merged.expect(2).says("lacks contents").says(&gone);
    assert!(!folder.path().join("out.nsp").exists());
    // What is there can still be had.
    with_keys(folder.path(), &["extract", "a.nsp", "-o", "files", "--only", "base/control"]).expect(1);
    assert!(folder.path().join("files/base/control/control.nacp").exists());
}

#[test]
fn a_content_of_another_length_than_its_list_says() {
    let folder = folder();
    let mut files = base();
    files[0].1.extend([0; 0x200]);
    let (verified, merged) = told(folder.path(), &files);
    let len = files[0].1.len();
    verified.expect(1).says(&format!("(program) has {len} bytes, the list says {}", len - 0x200));
    merged.expect(3).says("its list says");
    assert!(!folder.path().join("out.nsp").exists());
}

#[test]
fn a_list_that_was_changed_does_not_have_its_id() {
    let folder = folder();
    let mut files = base();
    let list = end(&files, ".cnmt.nca");
    let other = files[list].0.replace(['0', '1', '2'], "3");
    files[list].0 = other.clone();
    let (verified, merged) = told(folder.path(), &files);
    verified.expect(1).says("DAMAGED").says(&format!("the SHA-256 of {other} does not begin with its name"));
    merged.expect(3).says("list of contents");
}

#[test]
fn a_ticket_for_other_rights_is_no_ticket() {
    let folder = folder();
    let mut files = base();
    let ticket = end(&files, ".tik");
    files[ticket].1[0x2a3] ^= 1;
    let (verified, merged) = told(folder.path(), &files);
    verified.says("it is for other rights: 05009a3");
    merged.expect(0).says("which is not there");
    fs::remove_file(folder.path().join("out.nsp")).unwrap();
    let mut files = base();
    files.remove(end(&files, ".tik"));
    let (_, merged) = told(folder.path(), &files);
    merged.expect(0).says("needs a ticket for 05009a3e11d200000000000000000003, which is not there");
    fs::remove_file(folder.path().join("out.nsp")).unwrap();
    // One for a single console: named, carried, and not opened.
    let mut files = base();
    let ticket = end(&files, ".tik");
    files[ticket].1[0x281] = 1;
    fs::write(folder.path().join("a.nsp"), hybrid::package(&files)).unwrap();
    let identified = with_keys(folder.path(), &["identify", "a.nsp"]).expect(0);
    identified.says("is for one console only: its title key is not opened").says("title-key crypto (missing)");
    with_keys(folder.path(), &["merge", "a.nsp", "--to", "nsp", "-o", "out.nsp"])
        .expect(0)
        .says("is for one console only");
}

#[test]
fn what_a_card_has_besides_is_named_when_it_is_left_out() {
    let folder = folder();
    let card = text(&demo().shelf.join("Fogbell.xci")).to_owned();
    let told = with_keys(folder.path(), &["convert", &card, "--to", "nsp", "-o", "a.nsp"]).expect(0);
    told.says("partition update: 4.9 KiB (it is the card's, not the title's)");
    with_keys(folder.path(), &["merge", &card, "--to", "nsp", "-o", "b.nsp"])
        .expect(0)
        .says("partition update of")
        .says("is left out");
    assert!(fs::read(folder.path().join("a.nsp")).unwrap() == fs::read(folder.path().join("b.nsp")).unwrap());
}

/// A package under another name, in an archive of packages, or with its header key missing is told for what it is.
#[test]
fn each_goes_on_where_a_key_is_missing() {
    let folder = folder();
    let newer =
        hybrid::base(&Wish { title_id: COURIER + 0x2_0000, base: COURIER + 0x2_0000, generation: 9, ..wish() }, 5000)
            .unwrap();
    fs::create_dir(folder.path().join("shelf")).unwrap();
    fs::write(folder.path().join("shelf/new.nsp"), hybrid::package(&newer)).unwrap();
    fs::write(folder.path().join("shelf/old.nsp"), hybrid::package(&base())).unwrap();
    let told = with_keys(folder.path(), &["merge", "shelf", "--each", "--to", "nsp", "-o", "card/"]).expect(1);
    told.says("new.nsp\": nx.area.application.08 (for ")
        .says("wrote card/Kelp Courier [05009A3E11D20000] [v0] (1 base).nsp");
    with_keys(folder.path(), &["merge", "shelf", "--to", "nsp", "-o", "card2/"])
        .expect(4)
        .says("nx.area.application.08");
}

/// An update's content by itself: what stands over a base is proven by its id, or by the base; else nobody says SOUND.
#[test]
fn no_verdict_is_better_than_what_was_compared() {
    let folder = folder();
    let update = Wish { title_id: COURIER | 0x800, version: 1 << 16, ..wish() };
    let (base, files) = (base(), hybrid::update(&update, 5000).unwrap());
    let write = |name: &str, bytes: &[u8]| fs::write(folder.path().join(name), bytes).unwrap();
    write("base.nsp", &hybrid::package(&base));
    write("base content.nca", &base[0].1);
    write("base.tik", &base[end(&base, ".tik")].1);
    write("update.nsp", &hybrid::package(&files));
    let (id, content) = (files[0].0.clone(), files[0].1.clone());
    let titles = files[end(&files, ".tik")].1[0x180..0x190].iter().map(|b| format!("{b:02x}")).collect::<String>();
    let rights = files[end(&files, ".tik")].0.strip_suffix(".tik").unwrap().to_owned();
    write("titles.keys", format!("{rights} = {titles}\n").as_bytes());
    write(&id, &content);
    let by_id = with_keys(folder.path(), &["verify", &id]).expect(0).says("SOUND");
    assert!(!by_id.out.contains("romfs"), "{}", by_id.out);
    let mut torn = content.clone();
    // Before the update's last 0x10000 bytes, which are its tables: their slack no hash covers.
    let last = torn.len() - 0x10000 - 0x4000 - 100;
    torn[last] ^= 1;
    write(&id, &torn);
    with_keys(folder.path(), &["verify", &id]).expect(1).says("by its id");
    // Under another name nothing proves what stands over the base.
    write("renamed.nca", &content);
    let told = with_keys(folder.path(), &["verify", "renamed.nca"]).expect(0).says("READABLE");
    told.says("romfs stands over a base: --with BASE checks it").says("not all of it could be compared");
    with_keys(folder.path(), &["verify", "renamed.nca", "--with", "base.nsp"])
        .expect(0)
        .says("SOUND")
        .says("over its base");
    write("renamed.nca", &torn);
    with_keys(folder.path(), &["verify", "renamed.nca", "--with", "base.nsp"]).expect(1);
    // Of two titles in a file one is under a key that is missing.
    let newer = Wish { title_id: COURIER + 0x1001, generation: 9, names: &[], ..wish() };
    let mut mixed = base;
    mixed.extend(hybrid::add_on(&newer, 0).unwrap());
    write("mixed.nsp", &hybrid::package(&mixed));
    with_keys(folder.path(), &["verify", "mixed.nsp"]).expect(4).says("nx.area.application.08");
}
