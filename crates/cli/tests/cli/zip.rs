//! Archives as users have them: stored and deflated, nested, encrypted, with names of all kinds.

use crate::support::{demo, folder, run, text, tree};
use std::fs;
use std::io::Write;
use std::path::Path;
use zip::CompressionMethod;
use zip::write::{SimpleFileOptions, ZipWriter};

fn pack(path: &Path, entries: &[(&str, &[u8])], method: CompressionMethod) {
    let mut writer = ZipWriter::new(fs::File::create(path).unwrap());
    for (name, bytes) in entries {
        writer.start_file(*name, SimpleFileOptions::default().compression_method(method)).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap();
}

#[test]
fn images_in_stored_and_deflated_and_nested_archives_verify() {
    let folder = folder();
    let at = folder.path();
    let image = fs::read(&demo().image).unwrap();
    let key = fs::read(&demo().key).unwrap();
    let entries: [(&str, &[u8]); 3] =
        [("box/Kelp.iso", &image), ("box/DCNT10001.dkey", &key), ("box/scan.jpg", b"\xff\xd8\xff")];
    pack(&at.join("stored.zip"), &entries, CompressionMethod::Stored);
    pack(&at.join("deflated.zip"), &entries, CompressionMethod::Deflated);
    let inner = fs::read(at.join("deflated.zip")).unwrap();
    pack(&at.join("nested.zip"), &[("in/box.zip", &inner)], CompressionMethod::Deflated);
    for name in ["stored.zip", "deflated.zip"] {
        // The key is found beside the image, inside the archive.
        run(at, &["verify", name, "--against", text(&demo().description)]).expect(0).says("MATCH");
    }
    run(at, &["verify", "nested.zip::in/box.zip::box/Kelp.iso", "--against", text(&demo().description)])
        .expect(0)
        .says("MATCH");
    run(at, &["extract", "nested.zip::in/box.zip", "-o", "out"]).expect(0).says("40 files");
}

#[test]
fn a_plain_archive_comes_out_whole_and_links_of_names_are_safe() {
    let folder = folder();
    let at = folder.path();
    pack(
        &at.join("a.zip"),
        &[("a/b.txt", b"bee"), ("../up.txt", b"up"), ("/etc/x", b"abs"), ("ü.txt", b"u")],
        CompressionMethod::Deflated,
    );
    run(at, &["extract", "a.zip"]).expect(0).says("renamed");
    let names: Vec<String> = tree(&at.join("a")).into_iter().map(|(n, _)| n).collect();
    assert_eq!(names, ["__/up.txt", "a/b.txt", "etc/x", "ü.txt"]);
}

#[test]
fn two_images_are_not_looked_through() {
    let folder = folder();
    let image = fs::read(&demo().image).unwrap();
    pack(&folder.path().join("two.zip"), &[("a.iso", &image), ("b.iso", &image)], CompressionMethod::Stored);
    run(folder.path(), &["identify", "two.zip"]).expect(0).says("zip archive").says("holds");
    run(folder.path(), &["identify", "two.zip::a.iso"]).expect(0).says("DCNT-10001");
}

/// The bytes of an archive with one stored entry, laid out by hand after APPNOTE 4.3: `name` as raw bytes, the general
/// purpose `flags`, `crc` as the headers have it.
fn one_entry(name: &[u8], data: &[u8], flags: u16, crc: u32) -> Vec<u8> {
    let common = |out: &mut Vec<u8>| {
        out.extend(20u16.to_le_bytes());
        out.extend(flags.to_le_bytes());
        out.extend([0, 0, 0, 0, 0x21, 0x58]); // stored, midnight, 2024-01-01
        out.extend(crc.to_le_bytes());
        out.extend((data.len() as u32).to_le_bytes());
        out.extend((data.len() as u32).to_le_bytes());
        out.extend((name.len() as u16).to_le_bytes());
        out.extend(0u16.to_le_bytes());
    };
    let mut out = b"PK\x03\x04".to_vec();
    common(&mut out);
    out.extend(name);
    out.extend(data);
    let directory = out.len() as u32;
    out.extend(b"PK\x01\x02\x14\0");
    common(&mut out);
    out.extend([0; 14]);
    out.extend(name);
    let size = out.len() as u32 - directory;
    out.extend(b"PK\x05\x06\0\0\0\0\x01\0\x01\0");
    out.extend(size.to_le_bytes());
    out.extend(directory.to_le_bytes());
    out.extend([0, 0]);
    out
}

#[test]
fn names_in_code_page_437_are_read() {
    let folder = folder();
    // 0x84 is "ä" and 0x81 "ü" in code page 437.
    let bytes = one_entry(b"S\x84ge m\x81hle.txt", b"123456789", 0, 0xcbf4_3926);
    fs::write(folder.path().join("a.zip"), bytes).unwrap();
    run(folder.path(), &["list", "a.zip"]).expect(0).says("Säge mühle.txt").says("2024-01-01 00:00:00");
    run(folder.path(), &["verify", "a.zip"]).expect(0).says("SOUND");
}

#[test]
fn a_wrong_crc_is_found_when_the_entry_is_read_to_its_end() {
    let folder = folder();
    fs::write(folder.path().join("a.zip"), one_entry(b"a.txt", b"123456789", 0, 0xcbf4_3927)).unwrap();
    run(folder.path(), &["verify", "a.zip"]).expect(1).says("CRC-32 cbf43927").says("DAMAGED");
    run(folder.path(), &["extract", "a.zip", "-o", "x"]).expect(3).says("CRC-32 cbf43927");
    assert!(!folder.path().join("x/a.txt").exists());
}

#[test]
fn an_encrypted_entry_is_a_clear_error() {
    let folder = folder();
    fs::write(folder.path().join("a.zip"), one_entry(b"a.txt", b"123456789", 1, 0xcbf4_3926)).unwrap();
    run(folder.path(), &["extract", "a.zip", "-o", "x"]).expect(3).says("is encrypted");
    run(folder.path(), &["identify", "a.zip"]).expect(0).says("with their password first");
    assert!(!folder.path().join("x").exists());
    run(folder.path(), &["list", "a.zip"]).expect(0).says("is encrypted");
}
