//! Profiles by themselves.

use super::Bench;

#[test]
fn those_that_ship_are_listed_explained_and_copied() {
    let own = Bench::with_drawer();
    own.run(&["prepare", "profile", "show"]).expect(0).says("handheld").says("card with FAT32");
    let told = own.run(&["prepare", "profile", "show", "handheld"]).expect(0);
    told.says("4GiB-1").says("PSP").says("cso, same").says("level = 9");
    own.run(&["prepare", "profile", "new", "cartridges", "-o", "mine.toml"]).expect(0).says("profile check mine.toml");
    let text = String::from_utf8(own.read("mine.toml")).unwrap();
    assert!(text.contains("name = \"mine\"") && text.contains("# "), "it has its own name, and its comments");
    own.run(&["prepare", "profile", "new", "cartridges", "-o", "mine.toml"]).expect(2).says("already exists");
    own.run(&["prepare", "profile", "check", "mine.toml"]).expect(0).says("is right");
    own.run(&["prepare", "shelf", "--for", "mine.toml"]).expect(0).says("N64/Bramble Run.z64");
    let json = own.run(&["prepare", "profile", "show", "psp", "--json"]).expect(0).json();
    assert_eq!(
        (json["profile"]["name"].as_str(), json["loads"][0]["forms"][0][0].as_str()),
        (Some("psp"), Some("cso"))
    );
}

#[test]
fn what_is_wrong_is_told_with_line_and_nearest() {
    let own = Bench::with_drawer();
    let base = "profile = 1\nname = \"own\"\n[[platform]]\nof = \"gb\"\nforms = [\"same\"]\n";
    let wrong = |more: &str, words: &[&str]| {
        own.put("own.toml", format!("{base}{more}").as_bytes());
        let told = own.run(&["prepare", "profile", "check", "own.toml"]).expect(1);
        words.iter().fold(told, |told, words| told.says(words));
        own.run(&["prepare", "shelf", "--for", "own.toml"]).expect(2).says(words[0]);
    };
    wrong("foldr = \"x\"\n", &["line 6: there is no field \"foldr\" here; the nearest one is \"folder\""]);
    wrong(
        "[[platform]]\nof = \"pcee\"\nforms = [\"sme\"]\n",
        &["the nearest one is \"pce\"", "there is no form \"sme\""],
    );
    wrong("folder = \"/etc\"\n", &["leads out of the card"]);
    wrong("[names]\ntemplate = \"{nme}\"\n", &["the nearest one is \"{name}\""]);
    wrong("[names]\ntemplate = \"a/{name}\"\n", &["has a slash"]);
    own.run(&["prepare", "shelf", "--for", "handhold"]).expect(5).says("did you mean handheld?");
    own.put("own.toml", b"\xff\xfe");
    own.run(&["prepare", "shelf", "--for", "own.toml"]).expect(2).says("no text in UTF-8");
    own.run(&["prepare", "shelf"]).expect(2).says("--for");
}
