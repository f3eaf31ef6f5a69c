//! Identify, verify, decrypt, list, digest and keys on the demo's disc.

use crate::support::{command, demo, folder, key_hex, lonely_image, run, text, told, tree};
use std::fs;
use std::path::Path;

#[test]
fn identify_tells_everything_in_text_and_json_alike() {
    let d = demo();
    let folder = folder();
    let shown = run(folder.path(), &["identify", text(d.archive.as_ref().unwrap())]).expect(0);
    for words in [
        "PS3 disc image, encrypted, in a zip archive",
        "Kelp Courier",
        "DCNT-10001",
        "40 files in 13 folders",
        "decanter verify",
    ] {
        assert!(shown.out.contains(words), "{words}: {}", shown.out);
    }
    let json = run(folder.path(), &["identify", "--json", text(d.archive.as_ref().unwrap())]).expect(0).json();
    assert_eq!(json["schema"], "decanter.identify/1");
    let source = &json["sources"][0];
    assert_eq!((source["format"].as_str(), source["files"].as_u64()), (Some("ps3-disc"), Some(40)));
    assert_eq!(source["encryption"]["state"], "encrypted");
    assert_eq!(source["encryption"]["key"], "found");
    assert!(source["encryption"]["key_origin"].as_str().unwrap().ends_with("DCNT-10001.dkey"));
    assert!(!format!("{json}{}", shown.out).contains(&key_hex()), "the key was shown");
}

#[test]
fn a_folder_becomes_a_table() {
    let d = demo();
    let shown = run(d.image.parent().unwrap(), &["identify", "."]).expect(0);
    assert!(
        shown.out.starts_with("SOURCE")
            && shown.out.contains("sectors missing")
            && shown.out.contains("no known format")
    );
}

#[test]
fn a_good_dump_matches_file_by_file_and_region_by_region() {
    let d = demo();
    for source in [&d.image, d.archive.as_ref().unwrap()] {
        let words = ["verify", "--json", text(source), "--against", text(&d.description)];
        let json = run(Path::new("/"), &words).expect(0).json();
        let report = &json["sources"][0];
        assert_eq!((report["verdict"].as_str(), report["counts"]["matching"].as_u64()), (Some("match"), Some(40)));
        let ranges = report["ranges"].as_array().unwrap();
        assert_eq!(ranges.len(), 7);
        assert!(ranges.iter().all(|r| r["state"] == "match"), "{ranges:?}");
    }
}

#[test]
fn a_damaged_sector_is_named_with_its_file() {
    let d = demo();
    let json = run(Path::new("/"), &["verify", "--json", text(&d.damaged)]).expect(1).json();
    let report = &json["sources"][0];
    assert_eq!(report["verdict"], "differs");
    let differing: Vec<_> = report["files"].as_array().unwrap().iter().filter(|f| f["state"] != "match").collect();
    assert_eq!(differing.len(), 1);
    let kelp = decanter_demo::Kelp::new(6 << 20, false).unwrap();
    assert_eq!(differing[0]["path"], kelp.damaged_file);
    let suspects = differing[0]["suspects"].as_array().unwrap();
    assert_eq!(suspects.len(), 1, "{suspects:?}");
    assert_eq!(
        (suspects[0]["first"].as_u64(), suspects[0]["last"].as_u64()),
        (Some(kelp.damaged_sector), Some(kelp.damaged_sector))
    );
}

#[test]
fn a_sector_that_was_never_read_is_known_without_a_description() {
    let d = demo();
    let folder = folder();
    fs::copy(&d.damaged, folder.path().join("copy.iso")).unwrap();
    fs::copy(&d.key, folder.path().join("copy.dkey")).unwrap();
    let kelp = decanter_demo::Kelp::new(6 << 20, false).unwrap();
    let sector = format!("sector {} holds zeros", kelp.damaged_sector);
    run(folder.path(), &["verify", "copy.iso"]).expect(1).says("DAMAGED").says(&sector);
    run(folder.path(), &["extract", "copy.iso", "-o", "x"]).expect(1).says(&kelp.damaged_file).says(&sector);
    let out = folder.path().join("x");
    assert!(!out.join(&kelp.damaged_file).exists() && out.join("PS3_GAME/PARAM.SFO").exists());
    for words in [&["decrypt", "copy.iso", "-o", "a.iso"][..], &["convert", "copy.iso", "--to", "iso", "-o", "a.iso"]] {
        run(folder.path(), words).expect(3).says(&sector).says("--keep-damage");
        assert!(!folder.path().join("a.iso").exists());
        let kept = [words, &["--keep-damage"]].concat();
        run(folder.path(), &kept).expect(1).says("1 sector holds zeros where encrypted bytes belong");
        fs::remove_file(folder.path().join("a.iso")).unwrap();
    }
}

#[test]
fn an_entry_of_a_folder_has_its_keys_and_descriptions_beside_it() {
    let folder = folder();
    let home = demo().image.parent().unwrap();
    let entry = format!("{}::Kelp Courier.iso", text(home));
    run(folder.path(), &["identify", &entry]).expect(0).says("DCNT-10001.dkey");
    let report = run(folder.path(), &["verify", &entry, "--json"]).expect(0).json();
    assert_eq!(report["sources"][0]["verdict"], "match", "the description stands beside it");
}

#[test]
fn a_short_dump_says_how_much_is_missing_and_whom_it_hits() {
    let d = demo();
    let json = run(Path::new("/"), &["identify", "--json", text(&d.short)]).expect(0).json();
    let missing = json["sources"][0]["missing_sectors"].as_u64().unwrap();
    let whole = fs::metadata(&d.image).unwrap().len() / 2048;
    assert_eq!(missing, whole / 4);
    assert!(json["sources"][0]["hit_files"].as_array().unwrap().iter().any(|f| f == "PS3_UPDATE/PS3UPDAT.PUP"));
    run(Path::new("/"), &["verify", text(&d.short)]).expect(1).says("INCOMPLETE").says("sectors are missing");
    let folder = folder();
    run(folder.path(), &["decrypt", text(&d.short)]).expect(3).says("sectors are missing");
    let out = run(folder.path(), &["extract", text(&d.short), "-o", "x"])
        .expect(1)
        .says("PS3_UPDATE/PS3UPDAT.PUP")
        .says("left out");
    assert!(out.out.contains("dump or copy the source again"));
    assert!(
        folder.path().join("x/PS3_GAME/PARAM.SFO").exists()
            && !folder.path().join("x/PS3_UPDATE/PS3UPDAT.PUP").exists()
    );
}

#[test]
fn decrypting_changes_the_encrypted_regions_and_nothing_else() {
    let d = demo();
    let folder = folder();
    run(folder.path(), &["decrypt", text(d.archive.as_ref().unwrap()), "-o", "plain.iso", "-a", "sha1,crc32"])
        .expect(0);
    let kelp = decanter_demo::Kelp::new(6 << 20, false).unwrap();
    let mut want = vec![0; kelp.disc.plain.len() as usize];
    kelp.disc.plain.read_at(0, &mut want).unwrap();
    assert!(fs::read(folder.path().join("plain.iso")).unwrap() == want);
    // The decrypted image is known for what it is, verifies too, and is not decrypted twice.
    run(folder.path(), &["identify", "plain.iso"]).expect(0).says("decrypted").says("not needed");
    // Its regions are described as they are encrypted: only the key can prove them.
    run(folder.path(), &["verify", "plain.iso", "--against", text(&d.description)])
        .expect(0)
        .says("SOUND")
        .says("--key HEX");
    fs::copy(&d.key, folder.path().join("plain.dkey")).unwrap();
    run(folder.path(), &["verify", "plain.iso", "--against", text(&d.description)]).expect(0).says("MATCH");
    run(folder.path(), &["decrypt", "plain.iso", "-o", "again.iso"]).expect(2).says("decrypted already");
    let digests = run(folder.path(), &["digest", "plain.iso", "--json"]).expect(0).json();
    let sum = digests["sources"][0]["digests"][2]["hex"].as_str().unwrap().to_owned();
    let written =
        run(folder.path(), &["decrypt", text(&d.image), "-o", "b.iso", "-a", "sha1", "--json"]).expect(0).json();
    assert_eq!(written["digests"][0]["hex"], sum);
}

#[test]
fn decrypt_with_verify_keeps_only_what_matches() {
    let d = demo();
    let folder = folder();
    run(folder.path(), &["decrypt", text(&d.image), "-o", "good.iso", "--verify"])
        .expect(0)
        .says("MATCH")
        .says("wrote");
    run(folder.path(), &["decrypt", text(&d.image), "-o", "plain.iso"]).expect(0);
    assert!(fs::read(folder.path().join("good.iso")).unwrap() == fs::read(folder.path().join("plain.iso")).unwrap());
    run(folder.path(), &["decrypt", text(&d.damaged), "-o", "bad.iso", "--verify"]).expect(1).says("not kept");
    let mut left: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    left.sort();
    assert_eq!(left, ["good.iso", "plain.iso"]);
}

#[test]
fn keys_are_found_wherever_the_user_keeps_them() {
    let (folder, image) = lonely_image();
    let at = folder.path();
    let hex = key_hex();
    let state = |more: &[&str], environment: Option<&Path>| -> String {
        let mut command = command(at);
        command.args(["keys", "--json", text(&image)]).args(more);
        if let Some(keys) = environment {
            command.env("DECANTER_KEYS", keys);
        }
        let run = told(command.output().unwrap());
        assert!(!run.out.contains(&hex) && !run.err.contains(&hex), "the key was shown");
        format!("{} {}", run.code, run.json()["sources"][0]["state"].as_str().unwrap())
    };
    assert_eq!(state(&[], None), "4 missing");
    assert_eq!(state(&["--key", &hex], None), "0 found");
    assert_eq!(state(&["--key", &"00".repeat(16)], None), "4 wrong");
    let kept = at.join("my keys");
    fs::create_dir(&kept).unwrap();
    fs::write(kept.join("list.txt"), format!("dcnt 10001 = {}\n", hex.to_uppercase())).unwrap();
    assert_eq!(state(&["--keys", text(&kept)], None), "0 found");
    assert_eq!(state(&[], Some(&kept)), "0 found");
    let raw: Vec<u8> = (0..16).map(|i| u8::from_str_radix(&hex[2 * i..2 * i + 2], 16).unwrap()).collect();
    for name in ["Kelp Courier.key", "dcnt_10001.dkey"] {
        fs::write(at.join(name), &raw).unwrap();
        assert_eq!(state(&[], None), "0 found", "{name}");
        fs::remove_file(at.join(name)).unwrap();
    }
    // A description gives the key only together with the user's own secret.
    fs::copy(&demo().description, at.join("any name.ird")).unwrap();
    assert_eq!(state(&[], None), "4 missing");
    assert_eq!(state(&["--keys", text(&demo().keys)], None), "0 found");
}

#[test]
fn a_configuration_names_key_folders_and_is_checked() {
    let (folder, image) = lonely_image();
    fs::create_dir(folder.path().join("ring")).unwrap();
    fs::copy(&demo().key, folder.path().join("ring/DCNT10001.key")).unwrap();
    fs::write(folder.path().join("c.toml"), "keys = [\"ring\"]\njobs = 1\n").unwrap();
    run(folder.path(), &["identify", text(&image), "--config", "c.toml"]).expect(0).says("found in");
    fs::write(folder.path().join("c.toml"), "kees = []\n").unwrap();
    run(folder.path(), &["identify", text(&image), "--config", "c.toml"]).expect(2).says("kees");
}

#[test]
fn without_a_key_the_plain_files_and_the_regions_are_still_there() {
    let (folder, image) = lonely_image();
    run(folder.path(), &["extract", text(&image)])
        .expect(4)
        .says("the disc key for DCNT-10001 is missing")
        .says("--key HEX");
    run(folder.path(), &["decrypt", text(&image), "-o", "x.iso"]).expect(4).says("looked in");
    run(folder.path(), &["decrypt", text(&image), "--key", &"12".repeat(16), "-o", "x.iso"]).expect(4).says("is wrong");
    assert!(!folder.path().join("x.iso").exists());
    run(folder.path(), &["extract", text(&image), "--only", "PS3_UPDATE", "-o", "update"]).expect(0);
    assert_eq!(tree(&folder.path().join("update")).len(), 1);
    let against = text(&demo().description);
    run(folder.path(), &["verify", text(&image), "--against", against]).expect(0).says("MATCH").says("give the key");
}

#[test]
fn a_description_of_another_disc_is_refused() {
    let folder = folder();
    let mut other = decanter_demo::Kelp::new(6 << 20, false).unwrap().description(&()).unwrap();
    other.id = "DCNT10002".into();
    fs::write(folder.path().join("gull.ird"), other.compose().unwrap()).unwrap();
    run(folder.path(), &["verify", text(&demo().image), "--against", "gull.ird"]).expect(4).says("DCNT-10002");
    run(folder.path(), &["identify", "gull.ird"]).expect(0).says("PS3 disc description, version 9");
    run(folder.path(), &["list", "gull.ird"]).expect(0).says("PS3_GAME/PARAM.SFO MD5");
}

#[test]
fn every_version_of_a_description_verifies_the_disc() {
    let folder = folder();
    let mut description = decanter_demo::Kelp::new(6 << 20, false).unwrap().description(&()).unwrap();
    for version in 6..=9 {
        description.version = version;
        let path = folder.path().join(format!("v{version}.ird"));
        fs::write(&path, description.compose().unwrap()).unwrap();
        run(folder.path(), &["verify", text(&demo().image), "--against", text(&path)]).expect(0).says("MATCH");
    }
}

#[test]
fn an_extracted_folder_verifies_and_tells_what_changed() {
    let folder = folder();
    run(folder.path(), &["extract", text(&demo().image), "-o", "kelp"]).expect(0);
    let against = text(&demo().description);
    run(folder.path(), &["verify", "kelp", "--against", against]).expect(0).says("MATCH");
    fs::write(folder.path().join("kelp/PS3_GAME/ICON0.PNG"), "no picture").unwrap();
    fs::remove_file(folder.path().join("kelp/PS3_GAME/PIC1.PNG")).unwrap();
    fs::write(folder.path().join("kelp/extra.txt"), "extra").unwrap();
    let json = run(folder.path(), &["verify", "kelp", "--against", against, "--json"]).expect(1).json();
    let counts = &json["sources"][0]["counts"];
    let count = |name: &str| counts[name].as_u64().unwrap();
    assert_eq!((count("matching"), count("differing"), count("missing"), count("unexpected")), (38, 1, 1, 1));
}

#[test]
fn split_images_are_one_image() {
    let folder = folder();
    let whole = fs::read(&demo().image).unwrap();
    // The parts are not whole sectors: encrypted sectors lie across them.
    for (index, part) in whole.chunks(2_500_001).enumerate() {
        fs::write(folder.path().join(format!("kelp.iso.{index}")), part).unwrap();
        fs::write(folder.path().join(format!("kelp.{}", 66600 + index)), part).unwrap();
    }
    fs::copy(&demo().key, folder.path().join("DCNT10001.dkey")).unwrap();
    for name in ["kelp.iso.0", "kelp.iso.1", "kelp.66600"] {
        run(folder.path(), &["verify", name, "--against", text(&demo().description)]).expect(0).says("MATCH");
    }
    fs::remove_file(folder.path().join("kelp.iso.2")).unwrap();
    run(folder.path(), &["identify", "kelp.iso.0"]).expect(0).says("INCOMPLETE");
}

#[test]
fn addresses_lead_inside() {
    let d = demo();
    let inside = format!("{}::Kelp Courier.iso::PS3_GAME/PARAM.SFO", text(d.archive.as_ref().unwrap()));
    run(Path::new("/"), &["identify", &inside]).expect(0).says("PARAM.SFO parameter file").says("Kelp Courier");
    run(Path::new("/"), &["list", &inside]).expect(0).says("PS3_SYSTEM_VER");
    let archive = format!("{}::", text(d.archive.as_ref().unwrap()));
    run(Path::new("/"), &["list", &archive]).expect(0).says("read me.txt");
    let missing = format!("{}::nothing.iso", text(d.archive.as_ref().unwrap()));
    run(Path::new("/"), &["list", &missing]).expect(5).says("no such entry");
}

#[test]
fn digests_are_those_of_general_tools_and_check_with_them() {
    let folder = folder();
    fs::write(folder.path().join("tide.txt"), b"123456789").unwrap();
    fs::write(folder.path().join("a\\b\nc"), b"abc").unwrap();
    let shown = run(folder.path(), &["digest", "tide.txt"]).expect(0);
    for hex in ["cbf43926", "25f9e794323b453885f5181f1b624d0b", "f7c3bc1d808e04732adf679965ccc34ca7ae3441"] {
        assert!(shown.out.contains(hex), "{}", shown.out);
    }
    let sums = run(folder.path(), &["digest", "--style", "sums", "tide.txt", "a\\b\nc"]).expect(0).out;
    fs::write(folder.path().join("SUMS"), &sums).unwrap();
    match std::process::Command::new("sha256sum")
        .args(["--check", "--strict", "SUMS"])
        .current_dir(folder.path())
        .status()
    {
        Ok(status) => assert!(status.success(), "{sums}"),
        Err(_) => eprintln!("SKIPPED: sha256sum is not installed"),
    }
    run(folder.path(), &["digest", "--style", "sums", "-a", "md5,sha1", "tide.txt"])
        .expect(0)
        .says("MD5 (tide.txt) = 25f9");
}
