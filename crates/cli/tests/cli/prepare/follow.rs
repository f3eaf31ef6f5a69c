//! Plans that are followed: once, again, after changes, onto cards that are too small.

use super::{Bench, takes};
use crate::support::{demo, text};
use std::fs;

fn planned() -> Bench {
    let own = Bench::with_drawer();
    own.run(&["prepare", "shelf", "--for", "cartridges", "--plan", "plan.toml"]).expect(0);
    own
}

#[test]
fn following_goes_on_with_what_is_missing() {
    let own = planned();
    own.follow().expect(0);
    let all = own.on_card();
    fs::remove_file(own.at("card/N64/Bramble Run.z64")).unwrap();
    // One that was killed leaves something unfinished, and no list.
    fs::remove_file(own.at("card/decanter delivery.sha1")).unwrap();
    let told = own.follow().expect(0);
    told.says(&format!("1 made, {} there already", all.len() - 1)).says("made    N64/Bramble Run.z64");
    assert_eq!(own.on_card(), all);
    own.run(&["deliver", "--check", "card"]).expect(0).says(&format!("{0} of {0}", all.len()));
}

#[test]
fn other_bytes_on_the_card_are_never_taken_for_the_result() {
    let own = planned();
    own.follow().expect(0);
    for path in ["card/N64/Bramble Run.z64", "card/GB/Fogbell.gb"] {
        let mut bytes = own.read(path);
        bytes[5000] ^= 1;
        own.put(path, &bytes);
        own.follow().expect(1).says("FAILED").says("--replace").says("1 failed");
        assert_eq!(own.read(path), bytes, "nothing was replaced");
        own.run(&["prepare", "--follow", "plan.toml", "--onto", "card", "--replace"]).expect(0);
        assert_ne!(own.read(path), bytes);
    }
}

#[test]
fn a_source_that_is_another_than_it_was_is_not_made() {
    let own = planned();
    let mut rom = own.read("shelf/Fogbell.gb");
    rom.push(0);
    own.put("shelf/Fogbell.gb", &rom);
    fs::remove_file(own.at("shelf/Kelp Dive.sms")).unwrap();
    let told = own.follow().expect(5);
    told.says("it was changed after the plan was made").says("it is not where it was").says("2 failed");
    assert!(!own.at("card/GB/Fogbell.gb").exists() && own.at("card/N64/Bramble Run.z64").exists());
}

#[test]
fn a_card_without_room_is_told_before_the_first_byte_with_what_would_fit() {
    let own = Bench::new();
    for number in 0..3 {
        let noise = crate::support::noise(30 << 20, number);
        let mut rom = own_rom();
        rom.extend(noise);
        own.put(&format!("shelf/{number}.gb"), &rom);
    }
    own.plan(&takes("gb", "\"same\"", "[card]\nleave = \"1MiB\"")).expect(0);
    let like = text(&demo().console.stick_image).to_owned();
    let words = ["prepare", "--follow", "plan.toml", "--onto", "card", "--like", &like];
    let told = own.run(&words).expect(2);
    told.says("in the order of the plan 2 of 3 fit").says("\"games/2.gb\"").says("--what-fits");
    assert!(own.on_card().is_empty() && !own.at("card/decanter sheet.html").exists());
    own.run(&[&words[..], &["--what-fits"]].concat()).expect(0).says("no room for 1 entry").says("2 made, 1 left out");
    assert_eq!(own.on_card(), ["games/0.gb", "games/1.gb"]);
}

/// A ROM that more may follow.
fn own_rom() -> Vec<u8> {
    fs::read(demo().drawer.folder.join("Fogbell.gb")).unwrap()
}

#[test]
fn a_plan_that_was_changed_is_followed_as_it_says_or_refused() {
    let own = planned();
    let plan = String::from_utf8(own.read("plan.toml")).unwrap();
    let with = |from: &str, to: &str| {
        assert!(plan.contains(from));
        own.put("plan.toml", plan.replace(from, to).as_bytes());
    };
    with("path = \"GB/Fogbell.gb\"", "path = \"../Fogbell.gb\"");
    own.follow().expect(2).says("leads out of the card");
    with("path = \"GB/Fogbell.gb\"", "path = \"GB/what?.gb\"");
    let like = text(&demo().console.stick_image).to_owned();
    own.run(&["prepare", "--follow", "plan.toml", "--onto", "card", "--like", &like])
        .expect(2)
        .says("cannot hold the sign '?'");
    with("plan = 1", "plan = 9");
    own.follow().expect(2).says("is a version that is not known here");
    with("[\"z64\"]", "[\"z46\"]");
    own.follow().expect(2).says("the nearest one is \"z64\"");
    own.put("none.toml", b"plan = 1\nprofile = \"own\"\n");
    own.run(&["prepare", "--follow", "none.toml", "--onto", "card"]).expect(2).says("the plan makes nothing");
    with("keeps = \"every-byte\"", "keps = \"every-byte\"");
    own.follow().expect(2).says("there is no field \"keps\" here");
    assert!(own.on_card().is_empty());
    with("path = \"GB/Fogbell.gb\"", "path = \"mine/Bell.gb\"");
    own.follow().expect(0);
    assert_eq!(own.read("card/mine/Bell.gb"), own.read("shelf/Fogbell.gb"));
}

#[test]
fn a_plan_is_followed_from_anywhere() {
    let own = Bench::with_drawer();
    fs::create_dir(own.at("plans")).unwrap();
    own.run(&["prepare", "shelf", "--for", "cartridges", "--plan", "plans/plan.toml"]).expect(0);
    fs::create_dir(own.at("else")).unwrap();
    crate::support::run(&own.at("else"), &["prepare", "--follow", "../plans/plan.toml", "--onto", "../card"]).expect(0);
    assert!(own.at("card/GB/Fogbell.gb").exists());
}

#[test]
fn a_rehearsal_writes_nothing() {
    let own = planned();
    let told = own.run(&["prepare", "--follow", "plan.toml", "--onto", "card", "--dry-run"]).expect(0);
    told.says("would be made");
    assert!(own.on_card().is_empty() && !own.at("card/decanter sheet.html").exists());
    own.run(&["prepare", "--follow", "plan.toml", "--onto", "nowhere"]).expect(2).says("no folder that is there");
    own.run(&["prepare", "--follow", "plan.toml"]).expect(2);
}

#[test]
fn files_in_a_folder_are_compared_one_by_one() {
    let own = Bench::new();
    own.copy(&demo().handheld, "shelf/Moth Parade.iso");
    own.plan(&takes("psp", "\"folder\"", "")).expect(0).says("extract");
    own.follow().expect(0).says("files are identical");
    own.run(&["extract", "shelf/Moth Parade.iso", "-o", "plain"]).expect(0);
    assert_eq!(crate::support::tree(&own.at("card/games/Moth Parade")), crate::support::tree(&own.at("plain")));
    own.follow().expect(0).says("1 there already");
}

#[test]
fn json_says_the_same() {
    let own = planned();
    let json = own.run(&["prepare", "--follow", "plan.toml", "--onto", "card", "--json"]).expect(0).json();
    let rows = json["made"]["rows"].as_array().unwrap();
    assert_eq!(json["schema"], "decanter.prepare/1");
    assert!(
        rows.iter()
            .all(|row| row["state"] == "done" && row["result"]["proof"].as_str().unwrap().starts_with("read back"))
    );
    let files: usize = rows.iter().map(|row| row["result"]["files"].as_array().unwrap().len()).sum();
    assert_eq!(files, own.on_card().len());
    let json = own.run(&["prepare", "--follow", "plan.toml", "--onto", "card", "--json"]).expect(0).json();
    assert_eq!(json["made"]["totals"]["present"], rows.len());
}
