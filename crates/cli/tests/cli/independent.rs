//! Second opinions: discs made by other programs, and our discs read by them. Each skips loudly where its program
//! is not installed.

use crate::support::{demo, folder, run, text, tree};
use std::fs;
use std::path::Path;
use std::process::Command;

/// Runs a program; `None` where it is not installed.
fn tool(folder: &Path, words: &[&str]) -> Option<bool> {
    let output = Command::new(words[0]).args(&words[1..]).current_dir(folder).output();
    match output {
        Ok(output) => {
            if !output.status.success() {
                eprintln!("{}", String::from_utf8_lossy(&output.stderr));
            }
            Some(output.status.success())
        }
        Err(_) => {
            eprintln!("SKIPPED: {} is not installed", words[0]);
            None
        }
    }
}

fn make_tree(root: &Path) {
    let deep = root.join("a/b/c/d/e/f/g/h/i/j");
    fs::create_dir_all(&deep).unwrap();
    fs::create_dir_all(root.join("Brine & Bramble")).unwrap();
    fs::write(deep.join("a name that is longer than the thirty characters of plain discs.text"), "deep").unwrap();
    fs::write(root.join("lower.txt"), "lower").unwrap();
    fs::write(root.join("noext"), vec![7; 100_000]).unwrap();
    fs::write(root.join("empty"), "").unwrap();
    for number in 0..200 {
        fs::write(root.join(format!("Brine & Bramble/entry {number}.dat")), vec![number as u8; number * 37]).unwrap();
    }
}

/// Attributes of CD-ROM XA stand before the entries of Rock Ridge, and nothing says that they are to be skipped.
#[test]
fn names_of_rock_ridge_are_found_behind_the_attributes_of_xa() {
    let folder = folder();
    let at = folder.path();
    make_tree(&at.join("tree"));
    crate::support::link("lower.txt", &at.join("tree/link"));
    for (name, options) in [("xa.iso", &["-R"][..]), ("both.iso", &["-r", "-J"])] {
        let words = [&["genisoimage", "-quiet", "-xa", "-o", name], options, &["tree"]].concat();
        let Some(made) = tool(at, &words) else { return };
        assert!(made, "{name}");
        run(at, &["list", name]).expect(0).says("leads to lower.txt");
        run(at, &["extract", name, "-o", &format!("{name} out")]).expect(0);
        assert!(tree(&at.join(format!("{name} out"))) == tree(&at.join("tree")), "{name}");
        run(at, &["verify", name]).expect(0);
    }
}

#[test]
fn discs_made_elsewhere_come_out_as_they_went_in() {
    let folder = folder();
    let at = folder.path();
    make_tree(&at.join("tree"));
    let want = tree(&at.join("tree"));
    let variants: [(&str, &[&str]); 4] = [
        ("rock ridge", &["-R"]),
        ("joliet", &["-J", "-joliet-long", "-input-charset", "utf-8"]),
        ("both", &["-R", "-J"]),
        ("level 3", &["-R", "-iso-level", "3"]),
    ];
    for (name, options) in variants {
        let image = format!("{name}.iso");
        let mut words = vec!["xorriso", "-as", "mkisofs", "-quiet", "-o", &image];
        words.extend(options.iter().filter(|o| !o.contains("utf-8") && !o.contains("charset")));
        words.push("tree");
        let Some(made) = tool(at, &words) else { return };
        assert!(made, "{name}");
        run(at, &["extract", &image, "-o", name]).expect(0);
        assert!(tree(&at.join(name)) == want, "{name}");
    }
}

#[test]
fn our_disc_is_read_elsewhere_as_we_read_it() {
    let folder = folder();
    let at = folder.path();
    run(at, &["decrypt", text(&demo().image), "-o", "plain.iso"]).expect(0);
    run(at, &["extract", "plain.iso", "-o", "ours"]).expect(0);
    let want = tree(&at.join("ours"));
    if let Some(done) = tool(at, &["7z", "x", "-bd", "-y", "-otheirs7", "plain.iso"]) {
        assert!(done && tree(&at.join("theirs7")) == want, "7z reads another tree");
    }
    let words = ["xorriso", "-osirrox", "on", "-indev", "plain.iso", "-extract", "/", "theirsx"];
    if let Some(done) = tool(at, &words) {
        assert!(done && tree(&at.join("theirsx")) == want, "xorriso reads another tree");
    }
}

#[test]
fn the_cipher_agrees_with_openssl() {
    let folder = folder();
    let at = folder.path();
    run(at, &["decrypt", text(&demo().image), "-o", "plain.iso"]).expect(0);
    let (sealed, plain) = (fs::read(&demo().image).unwrap(), fs::read(at.join("plain.iso")).unwrap());
    let differing = (0..plain.len() / 2048).find(|&s| sealed[s * 2048..][..2048] != plain[s * 2048..][..2048]).unwrap();
    fs::write(at.join("sector"), &sealed[differing * 2048..][..2048]).unwrap();
    let (key, iv) = (crate::support::key_hex(), format!("{differing:032x}"));
    let words =
        ["openssl", "enc", "-d", "-aes-128-cbc", "-nopad", "-K", &key, "-iv", &iv, "-in", "sector", "-out", "clear"];
    if let Some(done) = tool(at, &words) {
        assert!(done && fs::read(at.join("clear")).unwrap() == plain[differing * 2048..][..2048]);
    }
}

#[test]
fn a_description_unpacks_with_gzip() {
    let folder = folder();
    fs::copy(&demo().description, folder.path().join("kelp.gz")).unwrap();
    if let Some(done) = tool(folder.path(), &["gzip", "-d", "kelp.gz"]) {
        assert!(
            done && fs::read(folder.path().join("kelp"))
                .unwrap()
                .starts_with(b"3IRD\x09DCNT10001\x0cKelp Courier3.4101.0001.00")
        );
    }
}

/// A UDF volume alone: the recognition sequence keeps its places, ISO 9660's descriptors become something else.
fn hide_iso9660(image: &Path) {
    let mut bytes = fs::read(image).unwrap();
    for sector in 16..32 {
        if &bytes[sector * 2048 + 1..sector * 2048 + 6] == b"CD001" {
            bytes[sector * 2048 + 1..sector * 2048 + 6].copy_from_slice(b"BOOT2");
        }
    }
    fs::write(image, bytes).unwrap();
}

#[test]
fn udf_made_elsewhere_comes_out_as_it_went_in() {
    let folder = folder();
    let at = folder.path();
    fs::create_dir_all(at.join("tree/deep/deeper")).unwrap();
    for number in 0..80 {
        fs::write(at.join(format!("tree/deep/file number {number}.bin")), vec![number as u8; number * 331]).unwrap();
    }
    fs::write(at.join("tree/deep/deeper/\u{6f6e} and gull.txt"), "tide").unwrap();
    let words = ["genisoimage", "-quiet", "-udf", "-input-charset", "utf-8", "-o", "bridge.iso", "tree"];
    let Some(made) = tool(at, &words) else { return };
    assert!(made);
    hide_iso9660(&at.join("bridge.iso"));
    run(at, &["identify", "bridge.iso"]).expect(0).says("UDF disc image").says("1.02");
    run(at, &["extract", "bridge.iso", "-o", "out"]).expect(0);
    assert!(tree(&at.join("out")) == tree(&at.join("tree")));
}

#[test]
fn our_udf_volume_is_read_elsewhere_as_we_read_it() {
    let folder = folder();
    let at = folder.path();
    run(at, &["extract", text(&demo().dvd), "-o", "dvd"]).expect(0);
    run(at, &["convert", "dvd", "--to", "iso", "--udf", "-o", "dvd.iso"]).expect(0);
    // The whole bridge by one program, the UDF volume alone by another.
    if let Some(done) = tool(at, &["xorriso", "-osirrox", "on", "-indev", "dvd.iso", "-extract", "/", "out"]) {
        assert!(done && tool(at, &["chmod", "-R", "u+w", "out"]) == Some(true));
        assert!(tree(&at.join("out")) == tree(&at.join("dvd")));
    }
    hide_iso9660(&at.join("dvd.iso"));
    if let Some(done) = tool(at, &["7z", "x", "-bd", "-y", "-oseven", "dvd.iso"]) {
        assert!(done && tree(&at.join("seven")) == tree(&at.join("dvd")));
    }
}

#[test]
fn plain_zstd_restores_what_we_keep_and_we_read_what_it_packs() {
    let folder = folder();
    let at = folder.path();
    fs::copy(&demo().handheld, at.join("moth.iso")).unwrap();
    run(at, &["convert", "moth.iso", "--to", "zst", "-o", "ours.zst"]).expect(0);
    let Some(done) = tool(at, &["zstd", "-d", "-q", "ours.zst", "-o", "restored.iso"]) else { return };
    assert!(done && fs::read(at.join("restored.iso")).unwrap() == fs::read(at.join("moth.iso")).unwrap());
    assert_eq!(tool(at, &["zstd", "-q", "-19", "moth.iso", "-o", "theirs.zst"]), Some(true));
    run(at, &["identify", "theirs.zst"]).expect(0).says("Moth Parade");
    run(at, &["convert", "theirs.zst", "--to", "iso", "-o", "back.iso"]).expect(0);
    assert!(fs::read(at.join("back.iso")).unwrap() == fs::read(at.join("moth.iso")).unwrap());
}

#[test]
fn checksum_lists_made_elsewhere_match_and_theirs_read_ours() {
    let folder = folder();
    let at = folder.path();
    fs::create_dir(at.join("d")).unwrap();
    for name in ["plain.bin", "with (one) bracket", "back\\slash", "new\nline"] {
        fs::write(at.join("d").join(name), name.repeat(100)).unwrap();
    }
    for (program, list) in [("sha256sum", "a"), ("md5sum", "b"), ("sha1sum", "c")] {
        let tag = if list == "b" { "--tag " } else { "" };
        let line = format!("cd d && {program} {tag}* > ../{list}");
        let Some(done) = tool(at, &["sh", "-c", &line]) else { return };
        assert!(done);
        run(at, &["verify", "d", "--against", list]).expect(0).says("4 match");
    }
}

#[test]
fn archives_of_roms_made_elsewhere() {
    let (d, folder) = (&demo().drawer, folder());
    let roms: Vec<&str> = [&d.gb, &d.gba, &d.smc, &d.v64, &d.pce].iter().map(|p| text(p)).collect();
    let methods: [(&str, &[&str]); 4] = [
        ("solid.7z", &["-ms=on"]),
        ("apart.7z", &["-ms=off", "-m0=LZMA"]),
        ("bzip.7z", &["-m0=BZip2"]),
        ("plain.7z", &["-m0=Copy"]),
    ];
    for (name, options) in methods {
        let words = [&["7z", "a", "-bso0", "-bsp0", name], options, &roms[..]].concat();
        let Some(done) = tool(folder.path(), &words) else { return };
        assert!(done);
        let found = run(folder.path(), &["identify", name, "--json"]).expect(0).json();
        let sources = found["sources"].as_array().unwrap();
        assert_eq!(sources.len(), roms.len(), "{name}");
        assert!(sources.iter().all(|s| s["error"].is_null() && s["rom"].is_object()));
        run(folder.path(), &["verify", name]).expect(0).says("5 ROMs; the checksums of 5 hold");
        run(folder.path(), &["verify", name, "--against", text(&d.dat)]).expect(0).says("5 match");
        run(folder.path(), &["extract", name, "-o", "out", "--replace"]).expect(0);
        for rom in &roms {
            let file = Path::new(rom).file_name().unwrap();
            assert!(fs::read(folder.path().join("out").join(file)).unwrap() == fs::read(rom).unwrap(), "{name}: {rom}");
        }
    }
    let mut bytes = fs::read(folder.path().join("solid.7z")).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 0x55;
    fs::write(folder.path().join("damaged.7z"), &bytes).unwrap();
    run(folder.path(), &["verify", "damaged.7z"]).expect(1).says("DAMAGED");
    fs::write(folder.path().join("cut.7z"), &bytes[..middle]).unwrap();
    run(folder.path(), &["identify", "cut.7z"]).expect(3);
    tool(folder.path(), &["7z", "a", "-bso0", "-bsp0", "-psecret", "-mhe=on", "locked.7z", roms[0]]).unwrap();
    run(folder.path(), &["identify", "locked.7z"]).expect(3).says("encrypted archive");
}
