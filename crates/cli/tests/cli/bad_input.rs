//! What bad input gets: an error that says where and what to do, never a panic, never a file under the final name.

use crate::support::{demo, folder, run, text};
use proptest::prelude::*;
use std::fs;
use std::path::Path;

#[test]
fn what_is_no_image_gets_exit_3_and_a_guess() {
    let folder = folder();
    let cases: [(&str, &[u8], &str); 4] = [
        ("empty.iso", b"", "empty"),
        ("note.iso", b"the tide is out", "text"),
        ("icon.iso", b"\x89PNG\r\n\x1a\n----", "PNG picture"),
        ("zero.iso", &[0; 4096], "nothing but bytes of value 0x00"),
    ];
    for (name, bytes, words) in cases {
        fs::write(folder.path().join(name), bytes).unwrap();
        run(folder.path(), &["identify", name]).expect(3).says(words);
        run(folder.path(), &["extract", name, "-o", "x"]).expect(3).says(words).says("decanter formats");
    }
    run(folder.path(), &["identify", "not there.iso"]).expect(5).says("does not exist").says("correct the path");
    run(folder.path(), &["list", "note.iso::x"]).expect(3);
}

#[test]
fn one_bad_source_does_not_stop_the_others() {
    let folder = folder();
    fs::write(folder.path().join("note.iso"), "text").unwrap();
    run(folder.path(), &["identify", "note.iso", text(&demo().image)]).expect(3).says("DCNT-10001");
    let run = run(folder.path(), &["verify", "note.iso", text(&demo().image)]).expect(3).says("MATCH");
    assert!(run.err.contains("cannot verify \"note.iso\""));
}

#[test]
fn errors_are_json_too() {
    let folder = folder();
    fs::write(folder.path().join("note.iso"), "text").unwrap();
    let json = run(folder.path(), &["extract", "note.iso", "--json"]).expect(3).json();
    assert_eq!((json["schema"].as_str(), json["exit_code"].as_u64()), (Some("decanter.error/1"), Some(3)));
    assert!(json["hint"].as_str().is_some());
}

#[test]
fn an_impossible_region_table_is_an_error_with_its_offset() {
    let folder = folder();
    let mut bytes = fs::read(&demo().image).unwrap();
    bytes[16..20].fill(0xff);
    fs::write(folder.path().join("bad.iso"), &bytes).unwrap();
    run(folder.path(), &["identify", "bad.iso"]).expect(3).says("plain region 1").says("offset 0x10");
}

#[test]
fn a_directory_that_loops_costs_only_itself() {
    let folder = folder();
    let mut bytes = fs::read(&demo().image).unwrap();
    // PS3_UPDATE is made to lead back to the root, in the Joliet tree that is read.
    let wide: Vec<u8> = "PS3_UPDATE".encode_utf16().flat_map(u16::to_be_bytes).collect();
    let root = bytes[17 * 2048 + 156 + 2..17 * 2048 + 156 + 10].to_vec();
    let at = (40 * 1024..bytes.len())
        .filter(|&at| bytes[at..].starts_with(&wide))
        .find(|&at| bytes[at - 8] & 2 != 0)
        .unwrap();
    bytes[at - 31..at - 23].copy_from_slice(&root);
    fs::write(folder.path().join("loop.iso"), &bytes).unwrap();
    run(folder.path(), &["list", "loop.iso"])
        .expect(0)
        .says("is the same as another folder")
        .says("PS3_GAME/PARAM.SFO")
        .says("offset 0x");
}

#[test]
fn disagreeing_byte_orders_are_a_notice() {
    let folder = folder();
    let mut bytes = fs::read(&demo().image).unwrap();
    bytes[16 * 2048 + 84] ^= 1;
    fs::write(folder.path().join("odd.iso"), &bytes).unwrap();
    run(folder.path(), &["list", "odd.iso"]).expect(0).says("byte orders").says("PS3_DISC.SFB");
}

#[test]
fn wrong_usage_is_exit_2() {
    let folder = folder();
    run(folder.path(), &["extract"]).expect(2);
    run(folder.path(), &["decrypt", "x", "--key", "123"]).expect(2).says("32 hexadecimal digits");
    run(folder.path(), &["decrypt", "x", "--against", "y"]).expect(2);
    fs::write(folder.path().join("out.iso"), "here").unwrap();
    run(folder.path(), &["decrypt", text(&demo().image), "-o", "out.iso"]).expect(2).says("already exists");
    assert_eq!(fs::read(folder.path().join("out.iso")).unwrap(), b"here");
    run(folder.path(), &["decrypt", text(&demo().image), "-o", "out.iso/x.iso"]).expect(5).says("it is no folder");
    run(folder.path(), &["verify", text(&demo().image), "--against", text(&demo().damaged)])
        .expect(2)
        .says("describes nothing");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn damaged_images_never_crash_it(
        damage in proptest::collection::vec((0usize..120_000, any::<u8>()), 1..30),
        fields in proptest::collection::vec((0usize..30_000, prop_oneof![Just(0u32), Just(u32::MAX), any::<u32>()]), 0..6),
        cut in prop_oneof![3 => Just(usize::MAX), 1 => 0usize..2_000_000],
        which in 0usize..3,
    ) {
        let d = demo();
        let source = [&d.image, d.archive.as_ref().unwrap(), &d.description][which];
        let mut bytes = fs::read(source).unwrap();
        for (at, value) in damage {
            let n = bytes.len();
            bytes[at % n] = value;
        }
        for (at, value) in fields {
            let at = (at * 4) % (bytes.len() - 4);
            bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        bytes.truncate(cut);
        let folder = folder();
        let path = folder.path().join("damaged.iso");
        fs::write(&path, &bytes).unwrap();
        for command in ["identify", "list", "extract"] {
            let run = run(folder.path(), &[command, text(&path), "-q"]);
            prop_assert!((0..=5).contains(&run.code), "{command}: {run:?}");
            prop_assert!(!run.err.contains("panicked"), "{command}: {run:?}");
        }
        prop_assert!(!Path::new("/tmp/PS3_GAME").exists());
    }
}
