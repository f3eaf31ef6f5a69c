//! Lists of what is known to run: brought in, kept as they were, searched, and told where the title is at hand.

use crate::support::{command, demo, folder, run, text, told};
use std::fs;
use std::process::Command;

/// A command whose configuration is in a folder that is there.
fn own(folder: &std::path::Path, words: &[&str]) -> crate::support::Run {
    let mut own: Command = command(folder);
    told(own.env("XDG_CONFIG_HOME", folder.join("own")).args(words).output().unwrap())
}

#[test]
fn a_list_is_brought_in_searched_and_told() {
    let folder = folder();
    own(folder.path(), &["notes", "find", "moth"]).expect(2).says("decanter notes import LIST");
    let made = own(folder.path(), &["notes", "import", text(&demo().console.notes)]).expect(0);
    made.says("4 titles").says("columns heat");
    own(folder.path(), &["notes", "find", "dces00099"]).expect(0).says("wings flicker");
    own(folder.path(), &["notes", "find", "SECOND TITLE"]).expect(0).says("Gullwing GP");
    own(folder.path(), &["notes", "find", "lighthouse"]).expect(1).says("none of 4 notes");
    let moth = text(&demo().handheld);
    let noted = "ps3: runs (wings flicker in the last level), night shift, 2026-10-02";
    own(folder.path(), &["identify", moth]).expect(0).says(noted);
    own(folder.path(), &["convert", moth, "--to", "cso"]).expect(0).says(noted);
    own(folder.path(), &["identify", text(&demo().plain)]).expect(0).says("ps3: untried");
    assert!(!run(folder.path(), &["identify", moth]).expect(0).out.contains("noted"), "no list, no note");
    let json = own(folder.path(), &["notes", "find", "moth", "--json"]).expect(0).json();
    assert_eq!(json["notes"][0]["more"][0][1], "warm");
    // Another list under its own name; the same name only on request.
    own(folder.path(), &["notes", "import", text(&demo().console.notes)]).expect(2).says("--name NAME");
    own(folder.path(), &["notes", "import", text(&demo().console.notes), "--name", "more"]).expect(0);
    own(folder.path(), &["notes", "find", "moth"]).expect(0).says("2 of 8 notes");
    // What is kept can be brought in again, and is the same.
    let kept = folder.path().join("own/decanter/notes/more.csv");
    let before = fs::read(&kept).unwrap();
    fs::copy(&kept, folder.path().join("more.csv")).unwrap();
    own(folder.path(), &["notes", "import", "more.csv", "--replace"]).expect(0);
    assert_eq!(fs::read(&kept).unwrap(), before);
}

#[test]
fn lines_and_lists_that_are_of_no_use_are_named() {
    let folder = folder();
    let import = |name: &str, content: &str| {
        fs::write(folder.path().join(name), content).unwrap();
        own(folder.path(), &["notes", "import", name])
    };
    import("a.csv", "id,verdict\nDCNT-10004,runs\n,runs\nDCNT-10005,\n").expect(1).says("line 3: neither id nor title");
    import("b.csv", "name,works\na,b\n").expect(2).says("its first line has: name, works");
    import("c.toml", "[[note]]\nid = \"DCNT-10004\"\nverdict = \"stops\"\n").expect(0);
    import("d.toml", "[[note]]\nid = 7\n").expect(2).says("text in quotes");
    own(folder.path(), &["notes", "find", "dcnt"]).expect(0).says("2 of 2 notes");
    own(folder.path(), &["notes", "import", "missing.csv"]).expect(5);
    // A list that was spoiled by hand is told, and hides nothing else.
    fs::write(folder.path().join("own/decanter/notes/a.csv"), "x\n").unwrap();
    own(folder.path(), &["identify", text(&demo().handheld)]).expect(0).says("nothing can be said");
}
