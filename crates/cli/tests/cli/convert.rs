//! Conversions: what goes in comes back, and what does not fit is refused with a way out.

use crate::support::{demo, folder, link, noise, run, text, tree};
use std::fs;
use std::path::Path;

fn same(a: &Path, b: &Path) {
    assert!(std::fs::read(a).unwrap() == std::fs::read(b).unwrap(), "{} and {} differ", a.display(), b.display());
}

#[test]
fn a_rehearsal_says_about_how_small_it_gets_and_how_that_is_known() {
    let folder = folder();
    let dvd = text(&demo().dvd);
    let told = run(folder.path(), &["convert", dvd, "--to", "cso", "-o", "x.cso", "--dry-run"]).expect(0);
    told.says("before, about ").says("time         about ").says("were read and packed");
    let json =
        run(folder.path(), &["convert", dvd, "--to", "cso", "-o", "x.cso", "--dry-run", "--json"]).expect(0).json();
    let about = json["about"]["bytes"].as_u64().unwrap() as f64;
    assert!(!folder.path().join("x.cso").exists());
    run(folder.path(), &["convert", dvd, "--to", "cso", "-o", "x.cso"]).expect(0);
    let found = std::fs::metadata(folder.path().join("x.cso")).unwrap().len() as f64;
    assert!((0.8..1.25).contains(&(about / found)), "about {about}, in fact {found}");
}

#[test]
fn compressed_images_come_back_identical_and_read_like_the_image() {
    let folder = folder();
    let image = &demo().handheld;
    for to in ["cso", "zso", "zst"] {
        let (packed, back) = (format!("moth.{to}"), format!("back-{to}.iso"));
        let made = run(folder.path(), &["convert", text(image), "--to", to, "-o", &packed, "--prove", "--json"])
            .expect(0)
            .json();
        assert!(made["bytes_after"].as_u64() < made["bytes_before"].as_u64());
        assert!(made["proven"]["identical"] == true);
        assert_eq!(made["preserved"], "identical bytes after converting back");
        run(folder.path(), &["identify", &packed]).expect(0).says("Moth Parade").says("DCES-00099");
        run(folder.path(), &["convert", &packed, "--to", "iso", "-o", &back]).expect(0);
        same(image, &folder.path().join(back));
        let out = format!("out-{to}");
        run(folder.path(), &["extract", &packed, "-o", &out]).expect(0);
        assert_eq!(tree(&folder.path().join(out)).len(), 16);
    }
}

#[test]
fn the_same_source_gives_the_same_compressed_bytes() {
    let folder = folder();
    for (number, to) in [(1, "zst"), (2, "zst"), (3, "cso"), (4, "cso")] {
        run(folder.path(), &["convert", text(&demo().plain), "--to", to, "-o", &format!("{number}")]).expect(0);
    }
    same(&folder.path().join("1"), &folder.path().join("2"));
    same(&folder.path().join("3"), &folder.path().join("4"));
}

#[test]
fn a_full_disc_becomes_a_partition_with_the_same_files() {
    let folder = folder();
    let full = text(&demo().full_disc);
    let made = run(folder.path(), &["convert", full, "--to", "xdvdfs", "-o", "small.iso", "--prove", "--json"])
        .expect(0)
        .json();
    assert!(made["bytes_after"].as_u64().unwrap() < 8 << 20);
    let left: Vec<&str> = made["left_out"].as_array().unwrap().iter().map(|l| l["what"].as_str().unwrap()).collect();
    assert_eq!(left, ["the video partition", "padding"]);
    run(folder.path(), &["extract", full, "-o", "from full"]).expect(0);
    run(folder.path(), &["extract", "small.iso", "-o", "from small"]).expect(0);
    assert!(tree(&folder.path().join("from full")) == tree(&folder.path().join("from small")));
    // Rebuilt from the extracted folder, it is the same image: names, places, tables and all.
    run(folder.path(), &["convert", "from small", "--to", "xdvdfs", "-o", "again.iso"]).expect(0);
    let (small, again) = (folder.path().join("small.iso"), folder.path().join("again.iso"));
    assert_eq!(std::fs::metadata(&small).unwrap().len(), std::fs::metadata(&again).unwrap().len());
    run(folder.path(), &["convert", full, "--to", "xdvdfs", "--keep-positions", "-o", "kept.iso"]).expect(0);
    run(folder.path(), &["extract", "kept.iso", "-o", "from kept"]).expect(0);
    assert!(tree(&folder.path().join("from full")) == tree(&folder.path().join("from kept")));
}

#[test]
fn files_are_blanked_or_left_out_only_when_named() {
    let folder = folder();
    let dvd = text(&demo().dvd);
    run(folder.path(), &["identify", dvd]).expect(0).says("filler").says("DUMMY.DAT");
    run(folder.path(), &["convert", dvd, "--to", "iso", "--blank", "FILMS/*", "-o", "blank.iso"])
        .expect(0)
        .says("filled with zeros");
    let (whole, blank) = (std::fs::read(&demo().dvd).unwrap(), std::fs::read(folder.path().join("blank.iso")).unwrap());
    assert_eq!(whole.len(), blank.len());
    let differing = whole.iter().zip(&blank).filter(|(a, b)| a != b).count();
    assert!((2_900_000..=3_000_000).contains(&differing), "{differing} bytes of the film");
    run(folder.path(), &["convert", dvd, "--to", "iso", "--without", "DUMMY.DAT", "-o", "less.iso", "--prove"])
        .expect(0)
        .says("left out");
    let list = run(folder.path(), &["list", "less.iso"]).expect(0);
    assert!(!list.out.contains("DUMMY.DAT") && list.out.contains("FILMS/DUSK.PSS"));
    run(folder.path(), &["convert", dvd, "--to", "iso", "--blank", "NOSUCH*", "-o", "x"])
        .expect(2)
        .says("nothing matches \"NOSUCH*\"");
}

#[test]
fn folders_become_the_discs_they_are_of() {
    let folder = folder();
    for (source, id) in [(&demo().handheld, "DCES-00099"), (&demo().dvd, "DCET-20007")] {
        run(folder.path(), &["extract", text(source), "-o", id]).expect(0);
        let iso = format!("{id}.iso");
        run(folder.path(), &["convert", id, "--to", "iso", "--udf", "-o", &iso, "--prove"]).expect(0);
        run(folder.path(), &["identify", &iso]).expect(0).says(id).says("UDF 1.02 beside ISO 9660");
        run(folder.path(), &["extract", &iso, "-o", &format!("{id} again")]).expect(0);
        assert!(tree(&folder.path().join(id)) == tree(&folder.path().join(format!("{id} again"))));
    }
    let key = std::fs::read_to_string(&demo().key).unwrap();
    run(folder.path(), &["extract", text(&demo().image), "-o", "kelp", "--key", key.trim()]).expect(0);
    run(folder.path(), &["convert", "kelp", "--to", "iso", "-o", "kelp.iso"]).expect(0);
    run(folder.path(), &["identify", "kelp.iso"]).expect(0).says("PS3 disc image, decrypted").says("DCNT-10001");
    let image = std::fs::read(folder.path().join("kelp.iso")).unwrap();
    assert_eq!(image[..12], [0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0]);
    assert_eq!(image[12..16], ((image.len() / 2048 - 1) as u32).to_be_bytes());
}

#[test]
fn an_image_is_cut_for_a_stick_and_joined_again() {
    let folder = folder();
    run(folder.path(), &["convert", text(&demo().plain), "--to", "iso", "--split", "300KiB-1", "-o", "b.iso"])
        .expect(0);
    assert_eq!(std::fs::metadata(folder.path().join("b.iso.0")).unwrap().len(), 300 * 1024 - 2048);
    run(folder.path(), &["convert", "b.iso.0", "--to", "iso", "-o", "joined.iso"]).expect(0);
    same(&demo().plain, &folder.path().join("joined.iso"));
}

#[test]
fn refusals_say_what_is_possible() {
    let folder = folder();
    run(folder.path(), &["convert", text(&demo().plain)]).expect(2).says("add --to with one of:");
    run(folder.path(), &["convert", text(&demo().plain), "--to", "nonsense"])
        .expect(2)
        .says("there is no target format \"nonsense\"")
        .says("can become: iso");
    run(folder.path(), &["convert", text(&demo().plain), "--to", "xdvdfs"]).expect(2).says("cannot become");
    run(folder.path(), &["convert", text(&demo().plain), "--to", "iso", "--level", "3"])
        .expect(2)
        .says("--level has no meaning");
    run(folder.path(), &["convert", text(&demo().plain), "--to", "zst", "--level", "99"])
        .expect(2)
        .says("not from 1 to 22");
    std::fs::create_dir(folder.path().join("f")).unwrap();
    std::fs::write(folder.path().join("f/\u{6f6e}.txt"), "x").unwrap();
    run(folder.path(), &["convert", "f", "--to", "xdvdfs", "-o", "f.iso"])
        .expect(3)
        .says("outside Latin-1")
        .says("--without");
    link("/etc/hostname", &folder.path().join("f/outside"));
    run(folder.path(), &["convert", "f", "--to", "iso", "-o", "f.iso"]).expect(0).says("outside: 0 bytes (a link");
    run(folder.path(), &["convert", "f", "--to", "iso", "-o", "f.iso"]).expect(2).says("already exists");
    assert!(!folder.path().join("x").exists());
}

#[test]
fn a_rehearsal_writes_nothing() {
    let folder = folder();
    let words = ["convert", text(&demo().full_disc), "--to", "xdvdfs", "-o", "x.iso", "--dry-run"];
    run(folder.path(), &words).expect(0).says("would write").says("the video partition");
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
}

#[test]
fn damaged_compressed_images_name_the_sectors() {
    let folder = folder();
    run(folder.path(), &["convert", text(&demo().handheld), "--to", "cso", "-o", "m.cso"]).expect(0);
    let path = folder.path().join("m.cso");
    let mut bytes = std::fs::read(&path).unwrap();
    // The first blocks, behind the index: zeros and descriptors, which all are compressed.
    let at = 24 + 4 * (std::fs::metadata(&demo().handheld).unwrap().len() as usize / 2048 + 1);
    bytes[at..at + 600].fill(0xff);
    std::fs::write(&path, &bytes).unwrap();
    run(folder.path(), &["convert", "m.cso", "--to", "iso", "-o", "m.iso"])
        .expect(3)
        .says("is damaged")
        .says("sector ");
    assert!(!folder.path().join("m.iso").exists());
    bytes[24..28].copy_from_slice(&u32::MAX.to_le_bytes());
    std::fs::write(&path, &bytes).unwrap();
    run(folder.path(), &["identify", "m.cso"]).expect(3).says("the index points past the end of the file at block 0");
}

#[test]
fn a_compressed_image_in_an_archive_is_looked_through_twice() {
    let folder = folder();
    run(folder.path(), &["convert", text(&demo().handheld), "--to", "cso", "-o", "moth.cso"]).expect(0);
    let mut zip = zip::ZipWriter::new(std::fs::File::create(folder.path().join("moth.zip")).unwrap());
    zip.start_file("in/moth.cso", zip::write::SimpleFileOptions::default()).unwrap();
    std::io::Write::write_all(&mut zip, &std::fs::read(folder.path().join("moth.cso")).unwrap()).unwrap();
    zip.finish().unwrap();
    let told = run(folder.path(), &["identify", "moth.zip"]).expect(0);
    told.says("DCES-00099").says("in a CISO compressed image, in a zip archive");
    run(folder.path(), &["convert", "moth.zip", "--to", "iso", "-o", "back.iso"]).expect(0);
    same(&demo().handheld, &folder.path().join("back.iso"));
    run(folder.path(), &["convert", "moth.cso", "--to", "iso", "-o", "not yet/x.iso"]).expect(0);
    same(&demo().handheld, &folder.path().join("not yet/x.iso"));
    run(folder.path(), &["identify", "moth.zip::"]).expect(0).says("zip archive");
}

/// Parts of something that nobody knows are joined all the same, or it is an error: never is one of them left out in silence.
#[test]
fn joined_parts_of_no_known_format_are_all_there() {
    let folder = folder();
    let (a, b) = (noise(70_000, 5), noise(30_000, 6));
    fs::write(folder.path().join("a.bin"), &a).unwrap();
    fs::write(folder.path().join("b.bin"), &b).unwrap();
    run(folder.path(), &["convert", "a.bin", "--join", "b.bin", "--to", "zst", "-o", "all.zst", "--prove"]).expect(0);
    run(folder.path(), &["extract", "all.zst", "-o", "out"]).expect(0);
    let made = fs::read_dir(folder.path().join("out")).unwrap().next().unwrap().unwrap().path();
    assert!(fs::read(made).unwrap() == [a.clone(), b].concat(), "both parts, in their order");
    let refused = run(folder.path(), &["convert", "a.bin", "--join", "gone.bin", "--to", "zst", "-o", "no.zst"]);
    refused.expect(5).says("gone.bin");
    assert!(!folder.path().join("no.zst").exists());
    // A program and its continuation are one file of the new disk.
    fs::write(folder.path().join("a.prg"), [&[1, 8][..], &a[..600]].concat()).unwrap();
    fs::write(folder.path().join("b.prg"), &a[600..1000]).unwrap();
    run(folder.path(), &["convert", "a.prg", "--join", "b.prg", "--to", "d64", "-o", "disk.d64"]).expect(0);
    run(folder.path(), &["extract", "disk.d64", "-o", "disk"]).expect(0);
    assert_eq!(fs::metadata(folder.path().join("disk/A.prg")).unwrap().len(), 1002);
}
