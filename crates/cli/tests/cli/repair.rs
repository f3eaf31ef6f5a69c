//! One good dump of several bad ones: by descriptions, lists, parities, archives; by majority, which is told as such; and what is
//! refused.

use crate::support::{Run, demo, folder, noise, run, text};
use std::fs;
use std::path::PathBuf;
use tempfile::TempDir;

struct Bench(TempDir);

impl Bench {
    fn new() -> Self {
        Self(folder())
    }

    fn at(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    /// A copy with other bytes at these offsets.
    fn put(&self, name: &str, bytes: &[u8], wrong: &[usize]) {
        let mut copy = bytes.to_vec();
        wrong.iter().for_each(|at| copy[*at] ^= 0x40);
        fs::write(self.at(name), copy).unwrap();
    }

    fn run(&self, words: &[&str]) -> Run {
        run(self.0.path(), words)
    }

    fn read(&self, name: &str) -> Vec<u8> {
        fs::read(self.at(name)).unwrap()
    }
}

/// A line of a checksum list, by the digests that the program makes itself: those are proven elsewhere.
fn list(own: &Bench, algorithm: &str, name: &str) -> String {
    let json = own.run(&["digest", "-a", algorithm, name, "--json"]).expect(0).json();
    json["sources"][0]["digests"][0]["hex"]
        .as_str()
        .or(json["sources"][0]["digests"][0]["value"].as_str())
        .unwrap()
        .to_owned()
}

#[test]
fn a_description_proves_which_copy_is_right() {
    let own = Bench::new();
    let image = fs::read(&demo().image).unwrap();
    let middle = image.len() / 2 / 2048 * 2048;
    own.put("a.iso", &image, &[middle + 5, image.len() - 70_000]);
    own.put("b.iso", &image[..image.len() - 8192], &[middle + 90_000]);
    let (description, keys) = (text(&demo().description), demo().key.parent().unwrap().to_str().unwrap().to_owned());
    let words = ["repair", "a.iso", "b.iso", "--against", description, "--keys", &keys, "-o", "good.iso"];
    own.run(&words).expect(0).says("MATCH").says("from copy 2: proven by").says("from copy 1: proven by");
    assert!(own.read("good.iso") == image);
    own.run(&["verify", "good.iso", "--against", description, "--keys", &keys]).expect(0);
    let json = own.run(&[&words[..], &["--replace", "--json"]].concat()).expect(0).json();
    assert_eq!((json["schema"].as_str(), json["verdict"].as_str()), (Some("decanter.repair/1"), Some("MATCH")));
    assert_eq!(json["copies"][1]["missing_sectors"], 4);
    // Where both are wrong there is no good dump, and nothing stands under the name.
    own.put("c.iso", &image, &[middle + 90_000, middle + 5]);
    let words = ["repair", "a.iso", "c.iso", "--against", description, "--keys", &keys, "-o", "bad.iso"];
    own.run(&words).expect(1).says("UNSOLVED");
    assert!(!own.at("bad.iso").exists());
    own.run(&[&words[..], &["--keep-damage"]].concat()).expect(1).says("not as described");
    assert_eq!(own.read("bad.iso").len(), image.len());
}

#[test]
fn a_list_proves_very_many_places_at_once() {
    let own = Bench::new();
    let good = noise(9 << 20, 3);
    // Fourteen places, seven of them wrong in either copy, also in the last bytes of a dump that is no multiple of anything.
    let places: Vec<usize> = (0..14).map(|n| n * 650_000 + 77).chain([good.len() - 1]).collect();
    let (odd, even): (Vec<_>, Vec<_>) = places.iter().enumerate().partition(|(n, _)| n % 2 == 1);
    let only = |list: Vec<(usize, &usize)>| list.into_iter().map(|(_, at)| *at).collect::<Vec<_>>();
    own.put("good.bin", &good, &[]);
    own.put("a.bin", &good, &only(odd));
    own.put("b.bin", &good, &only(even));
    let crc = format!("{:08x}", crc32(&good));
    let sha1 = list(&own, "sha1", "good.bin");
    let dat = format!(
        "<?xml version=\"1.0\"?><datafile><header><name>Tides</name></header><game name=\"Tide\">\
         <rom name=\"Tide.bin\" size=\"{}\" crc=\"{crc}\" sha1=\"{sha1}\"/></game></datafile>",
        good.len()
    );
    fs::write(own.at("tides.dat"), dat).unwrap();
    own.run(&["repair", "a.bin", "b.bin", "--against", "tides.dat", "-o", "out.bin"])
        .expect(0)
        .says("MATCH")
        .says("its sha1 is that of \"Tide.bin\" in tides.dat")
        .says("in 15 places");
    assert!(own.read("out.bin") == good);
    // A list of SHA-1 alone: the ways are read one after the other.
    own.put("c.bin", &good, &[5]);
    own.put("d.bin", &good, &[900_000]);
    fs::write(own.at("list.sha1"), format!("{sha1}  good.bin\n")).unwrap();
    own.run(&["repair", "c.bin", "d.bin", "--against", "list.sha1", "-o", "by list.bin"]).expect(0).says("MATCH");
    assert!(own.read("by list.bin") == good);
    // Sectors beside each other, each right in another copy.
    own.put("e.bin", &good, &[512 * 7 + 1, 4_000_000]);
    own.put("f.bin", &good, &[512 * 8 + 1]);
    for (against, out) in [("tides.dat", "beside.bin"), ("list.sha1", "beside too.bin")] {
        own.run(&["repair", "e.bin", "f.bin", "--against", against, "-o", out]).expect(0).says("MATCH");
        assert!(own.read(out) == good);
    }
    // A list whose SHA-1 is another one: the CRC-32 alone is not believed.
    let wrong = fs::read_to_string(own.at("tides.dat")).unwrap().replace(&sha1, &"0".repeat(40));
    fs::write(own.at("wrong.dat"), wrong).unwrap();
    own.run(&["repair", "a.bin", "b.bin", "--against", "wrong.dat", "-o", "no.bin"]).expect(3).says("the sha1 of");
    assert!(!own.at("no.bin").exists());
    fs::write(
        own.at("other.dat"),
        "<datafile><game name=\"x\"><rom name=\"x\" size=\"5\" crc=\"00000000\"/></game></datafile>",
    )
    .unwrap();
    own.run(&["repair", "a.bin", "b.bin", "--against", "other.dat", "-o", "no.bin"])
        .expect(4)
        .says("none of its entries");
}

fn crc32(bytes: &[u8]) -> u32 {
    // Bit by bit, as the standard has it: no table that could be the same as the program's.
    let mut crc = u32::MAX;
    for byte in bytes {
        crc ^= u32::from(*byte);
        for _ in 0..8 {
            crc = if crc & 1 == 1 { crc >> 1 ^ 0xedb8_8320 } else { crc >> 1 };
        }
    }
    !crc
}

#[test]
fn sectors_of_a_cd_prove_themselves() {
    let own = Bench::new();
    let disc = fs::read(demo().cue.with_extension("bin")).unwrap();
    own.put("a.bin", &disc, &[2352 * 40 + 500, 2352 * 60 + 300]);
    own.put("b.bin", &disc, &[2352 * 41 + 700]);
    own.run(&["repair", "a.bin", "b.bin", "-o", "out.bin"]).expect(0).says("SOUND").says("its parities hold");
    assert!(own.read("out.bin") == disc);
    // Both wrong in the same sector: nobody can tell.
    own.put("b.bin", &disc, &[2352 * 40 + 900]);
    own.run(&["repair", "a.bin", "b.bin", "-o", "none.bin"]).expect(1).says("nothing tells which copy is right");
    assert!(!own.at("none.bin").exists());
}

#[test]
fn two_of_three_are_told_as_such() {
    let own = Bench::new();
    let good = noise(100_000, 5);
    own.put("a.bin", &good, &[5000]);
    own.put("b.bin", &good, &[60_000]);
    own.put("c.bin", &good, &[99_999]);
    let told = own.run(&["repair", "a.bin", "b.bin", "c.bin", "-o", "out.bin"]).expect(0);
    told.says("AGREED").says("most copies agree; not proven").says("nothing proves");
    assert!(own.read("out.bin") == good);
    own.run(&["repair", "a.bin", "b.bin", "-o", "two.bin"]).expect(1).says("a third copy");
    own.run(&["repair", "a.bin", "-o", "one.bin"]).expect(2).says("one copy alone repairs nothing");
    own.run(&["repair", "a.bin", "b.bin", "a.bin", "-o", "one.bin"]).expect(2).says("copies 1 and 3");
    let other = noise(100_000, 6);
    own.put("other.bin", &other, &[]);
    own.run(&["repair", "a.bin", "other.bin", "-o", "no.bin"]).expect(4).says("no copies of the same");
    own.run(&["repair", "a.bin", "b.bin", "c.bin", "-o", "a.bin"]).expect(2);
    assert_eq!(own.read("a.bin")[5000], good[5000] ^ 0x40, "a copy is never written to");
}

#[test]
fn what_packs_a_copy_is_proof_too() {
    let own = Bench::new();
    let good = fs::read(&demo().handheld).unwrap();
    own.put("good.iso", &good, &[]);
    own.put("b.iso", &good, &[300_000]);
    own.run(&["convert", "good.iso", "--to", "zst", "-o", "a.zst"]).expect(0);
    // An archive whose checksum holds says that what is in it is right.
    let mut zip = zip::ZipWriter::new(fs::File::create(own.at("a.zip")).unwrap());
    zip.start_file("good.iso", zip::write::SimpleFileOptions::default()).unwrap();
    std::io::Write::write_all(&mut zip, &good).unwrap();
    zip.finish().unwrap();
    own.run(&["repair", "b.iso", "a.zip", "-o", "out.iso"])
        .expect(0)
        .says("the checksum of the archive that copy 2 is in");
    assert!(own.read("out.iso") == good);
    // A packed block that is damaged is missing from that copy, and in the other one it is not.
    own.run(&["convert", "good.iso", "--to", "chd", "-o", "c.chd"]).expect(0);
    let chd = own.read("c.chd");
    own.put("c.chd", &chd, &[chd.len() / 2]);
    own.put("d.iso", &good, &[1]);
    let told = own.run(&["repair", "c.chd", "b.iso", "good.iso", "-o", "three.iso"]).expect(0);
    told.says("AGREED");
    assert!(own.read("three.iso") == good);
}

#[test]
fn an_unfinished_dump_lacks_what_was_not_read() {
    let own = Bench::new();
    let good = fs::read(&demo().dvd).unwrap();
    let (drive, other) = (text(&demo().drives[0]), text(&demo().drives[1]));
    own.run(&["dump", &format!("sim:{drive}"), "-o", "a.iso"]);
    own.run(&["dump", &format!("sim:{other}"), "-o", "b.iso"]);
    let incomplete: Vec<&str> =
        ["a.iso.incomplete", "b.iso.incomplete"].into_iter().filter(|name| own.at(name).exists()).collect();
    assert!(!incomplete.is_empty(), "one of the drives cannot read all of it");
    own.put("whole.iso", &good, &[]);
    let words = [&["repair"], &incomplete[..], &["whole.iso", "-o", "out.iso"]].concat();
    own.run(&words).expect(0).says("no other copy has it");
    assert!(own.read("out.iso") == good);
}
