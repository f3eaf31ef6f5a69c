//! What identify, formats and the pictures say of every kind of disc.

use crate::support::{demo, folder, run, text};
use serde_json::Value;

fn identity(path: &std::path::Path) -> Value {
    run(folder().path(), &["identify", text(path), "--json"]).expect(0).json()["sources"][0].clone()
}

fn fact(identity: &Value, name: &str) -> String {
    let facts = identity["facts"].as_array().unwrap();
    let found = facts.iter().find(|f| f["name"] == name).map(|f| f["value"].as_str().unwrap().to_owned());
    found.unwrap_or_else(|| panic!("no {name} in {identity}"))
}

fn becomes(identity: &Value) -> Vec<String> {
    let list = identity["becomes"].as_array().unwrap();
    list.iter().map(|b| b["what"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn every_kind_of_disc_is_told() {
    let dvd = identity(&demo().dvd);
    assert_eq!(dvd["kind"], "PS2 disc image");
    assert_eq!((fact(&dvd, "id").as_str(), fact(&dvd, "region").as_str()), ("DCET-20007", "Europe"));
    assert!(fact(&dvd, "medium").starts_with("DVD (it has a UDF volume"));
    assert_eq!(fact(&dvd, "starts"), "DCET_200.07");
    let moth = identity(&demo().handheld);
    assert_eq!((fact(&moth, "title").as_str(), fact(&moth, "version").as_str()), ("Moth Parade", "1.01"));
    assert_eq!(fact(&moth, "icon"), "PSP_GAME/ICON0.PNG");
    let full = identity(&demo().full_disc);
    assert_eq!(full["kind"], "Xbox disc image");
    assert_eq!((fact(&full, "title").as_str(), fact(&full, "id").as_str()), ("Gullwing GP", "DC-042 (4443002A)"));
    assert!(fact(&full, "layout").ends_with("begins at sector 198144"));
    let plain = identity(&demo().plain);
    assert_eq!((plain["kind"].as_str(), plain["files"].as_u64()), (Some("ISO 9660 disc image"), Some(18)));
    let dat = identity(&demo().dat);
    assert_eq!((fact(&dat, "games").as_str(), fact(&dat, "not dumped").as_str()), ("5", "1"));
}

#[test]
fn what_a_source_becomes_is_what_convert_does() {
    let folder = folder();
    let d = demo();
    let drawer = [&d.drawer.smc, &d.drawer.smd, &d.drawer.v64, &d.drawer.nes];
    for source in [&d.dvd, &d.handheld, &d.full_disc, &d.plain, &d.cue].into_iter().chain(drawer) {
        for target in becomes(&identity(source))
            .iter()
            .filter(|t| !["folder", "decrypted image", "trimmed", "pkg by recipe"].contains(&t.as_str()))
        {
            let keys = text(&d.console.keys);
            let words = ["convert", text(source), "--to", target, "-o", "x", "--dry-run", "--keys", keys];
            run(folder.path(), &words).expect(0).says("would write");
        }
    }
    let formats = run(folder.path(), &["formats", "--json"]).expect(0).json();
    let targets: Vec<&str> = formats["targets"].as_array().unwrap().iter().map(|t| t["id"].as_str().unwrap()).collect();
    assert_eq!(targets[..6], ["iso", "cd-raw", "xdvdfs", "cso", "zso", "zst"]);
    assert!(["z64", "v64", "n64", "md", "smd", "sfc", "smc", "nes", "gba"].iter().all(|t| targets.contains(t)));
}

#[test]
fn padding_and_filler_are_told_in_bytes() {
    let dvd = identity(&demo().dvd);
    let filler = dvd["padding"]["filler"].as_array().unwrap();
    assert_eq!((filler.len(), &filler[0]["path"], &filler[0]["bytes"]), (1, &"DUMMY.DAT".into(), &(4 << 20).into()));
    let full = identity(&demo().full_disc);
    assert_eq!(full["padding"]["bytes"], 3 << 20);
    assert_eq!(full["padding"]["kinds"][0][0], "pseudo-random");
}

#[test]
fn pictures_are_pngs_of_one_source() {
    let folder = folder();
    run(folder.path(), &["identify", text(&demo().image), "--picture", "kelp.png"]).expect(0);
    let png = std::fs::read(folder.path().join("kelp.png")).unwrap();
    assert_eq!(&png[..8], b"\x89PNG\r\n\x1a\n");
    assert_eq!(png[16..24], [0, 0, 5, 0, 0, 0, 3, 32], "1280 by 800");
    let two = ["identify", text(&demo().image), text(&demo().plain), "--picture", "two.png"];
    run(folder.path(), &two).expect(2).says("a picture shows one source");
    run(folder.path(), &["identify", text(&demo().dat), "--picture", "dat.png"]).expect(2).says("no sectors");
    run(folder.path(), &["identify", text(&demo().image), "--picture", "kelp.png"]).expect(2).says("already exists");
}

#[test]
fn a_cut_disc_of_each_kind_is_told_and_what_is_whole_comes_out() {
    let folder = folder();
    for (source, name) in [(&demo().dvd, "dvd.iso"), (&demo().handheld, "moth.iso"), (&demo().plain, "plain.iso")] {
        let bytes = std::fs::read(source).unwrap();
        std::fs::write(folder.path().join(name), &bytes[..bytes.len() / 2 / 2048 * 2048]).unwrap();
        run(folder.path(), &["identify", name]).expect(0).says("INCOMPLETE");
        run(folder.path(), &["verify", name]).expect(1).says("INCOMPLETE");
        run(folder.path(), &["extract", name, "-o", &format!("{name} out")]).expect(1).says("left out");
    }
}
