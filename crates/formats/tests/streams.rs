//! gz, bz2, xz, zst from a pipe, and tar: against bytes worked out by hand, and against what general tools make.

use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::tree::{Content, Kind};
use decanter_core::{Keyring, Result};
use decanter_formats::REGISTRY;
use proptest::prelude::*;
use std::io::Write;
use std::process::{Command, Stdio};
use std::sync::Arc;

fn open(bytes: &[u8]) -> Result<Opened> {
    let keys = Keyring::default();
    let names = ["shelf".to_owned()];
    Opener::new(&REGISTRY, &keys).with_names(&names).open(Arc::new(Bytes(bytes.to_vec())))
}

/// Everything in it: paths with contents.
fn files(opened: &Opened) -> Vec<(String, Vec<u8>)> {
    let tree = opened.holds.tree.as_ref().unwrap();
    let read = |source: &SourceRef| read_vec(source.as_ref(), 0, source.len(), "a test", 1 << 30).unwrap();
    tree.files().map(|(node, file)| (node.path.clone(), read(file.source().unwrap()))).collect()
}

/// What a tool makes of `input`; `None`, told loudly, where there is none.
fn piped(tool: &str, words: &[&str], input: &[u8]) -> Option<Vec<u8>> {
    let started = Command::new(tool).args(words).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn();
    let Ok(mut child) = started else {
        eprintln!("skipped: there is no {tool} here to hold this against");
        return None;
    };
    let mut stdin = child.stdin.take().unwrap();
    let input = input.to_vec();
    let writing = std::thread::spawn(move || stdin.write_all(&input));
    let output = child.wait_with_output().unwrap();
    writing.join().unwrap().unwrap();
    assert!(output.status.success());
    Some(output.stdout)
}

/// A member (RFC 1952, 2.3), with a name or without, around one stored block of deflate (RFC 1951, 3.2.4).
fn member(name: &str, content: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0x1f, 0x8b, 8, if name.is_empty() { 0 } else { 8 }, 0, 0, 0, 0, 0, 3];
    if !name.is_empty() {
        bytes.extend(name.as_bytes());
        bytes.push(0);
    }
    let len = content.len() as u16;
    bytes.push(1);
    bytes.extend(len.to_le_bytes());
    bytes.extend((!len).to_le_bytes());
    bytes.extend(content);
    bytes.extend(crc32fast::hash(content).to_le_bytes());
    bytes.extend((content.len() as u32).to_le_bytes());
    bytes
}

#[test]
fn a_gz_has_its_name_its_members_and_nothing_behind_them() {
    let one = member("moth.iso", b"kelp");
    let opened = open(&one).unwrap();
    assert_eq!(files(&opened), [("moth.iso".to_owned(), b"kelp".to_vec())]);
    assert!(opened.holds.tree.unwrap().files().next().unwrap().1.source().unwrap().is_checked());
    // A path of another machine, several members, filler.
    let mut two = member("C:\\dumps\\a.bin", b"kelp");
    two.extend(member("", b" and tide"));
    two.extend([0; 700]);
    assert_eq!(files(&open(&two).unwrap()), [("a.bin".to_owned(), b"kelp and tide".to_vec())]);
    two.push(7);
    assert!(open(&two).err().unwrap().to_string().contains("beyond 13 bytes"));
    // Without a name, that of the file.
    assert_eq!(files(&open(&member("", b"kelp")).unwrap())[0].0, "shelf");
}

#[test]
fn every_flipped_bit_of_what_is_packed_is_met() {
    let whole = member("", b"kelp and tide and lamplight");
    for at in 10..whole.len() {
        for bit in 0..8 {
            let mut bytes = whole.clone();
            bytes[at] ^= 1 << bit;
            let Ok(opened) = open(&bytes) else { continue };
            // Bits behind the end of the deflated data are filler.
            let same = files(&opened)[0].1 == b"kelp and tide and lamplight";
            assert!(same && at == 10, "byte {at}, bit {bit}");
        }
    }
}

#[test]
fn what_general_tools_pack_is_unpacked() {
    let bytes: Vec<u8> = (0..400_000u32).flat_map(|i| (i / 3).to_le_bytes()).collect();
    for (tool, words) in [
        ("gzip", &["-c"][..]),
        ("bzip2", &["-c"]),
        ("xz", &["-c", "-1"]),
        ("xz", &["-c", "--check=sha256"]),
        ("zstd", &["-c"]),
    ] {
        let Some(packed) = piped(tool, words, &bytes) else { continue };
        let opened = open(&packed).unwrap_or_else(|e| panic!("{tool}: {e}"));
        assert!(files(&opened)[0].1 == bytes, "{tool} {words:?}");
        // Twice in one file is twice the content.
        let twice = open(&[&packed[..], &packed].concat()).unwrap();
        assert!(files(&twice)[0].1.len() == 2 * bytes.len(), "{tool}");
        for cut in [packed.len() - 1, packed.len() / 2] {
            assert!(open(&packed[..cut]).is_err(), "{tool} cut at {cut} of {}", packed.len());
        }
        let mut damaged = packed.clone();
        damaged[packed.len() / 2] ^= 0x10;
        let is_met = open(&damaged).is_err() || tool == "zstd" && files(&open(&damaged).unwrap())[0].1 != bytes;
        assert!(is_met, "{tool}");
    }
}

#[test]
fn a_dictionary_that_asks_for_too_much_is_refused() {
    let Some(packed) = piped("xz", &["-c", "--lzma2=dict=256MiB"], b"kelp") else { return };
    assert!(open(&packed).err().unwrap().to_string().contains("dictionary"));
}

/// A header (POSIX, ustar), with its checksum worked out here.
fn header(name: &str, kind: u8, len: u64, link: &str) -> Vec<u8> {
    let mut raw = vec![0; 512];
    raw[..name.len()].copy_from_slice(name.as_bytes());
    raw[100..107].copy_from_slice(b"0000644");
    raw[124..135].copy_from_slice(format!("{len:011o}").as_bytes());
    raw[136..147].copy_from_slice(b"14000000000");
    raw[156] = kind;
    raw[157..157 + link.len()].copy_from_slice(link.as_bytes());
    raw[257..265].copy_from_slice(b"ustar\x0000");
    sum(&mut raw);
    raw
}

fn sum(raw: &mut [u8]) {
    raw[148..156].copy_from_slice(b"        ");
    let sum: u32 = raw.iter().map(|byte| u32::from(*byte)).sum();
    raw[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
}

fn entry(name: &str, kind: u8, content: &[u8], link: &str) -> Vec<u8> {
    let mut bytes = header(name, kind, content.len() as u64, link);
    bytes.extend(content);
    bytes.resize(bytes.len().next_multiple_of(512), 0);
    bytes
}

#[test]
fn entries_of_every_kind_are_what_they_are() {
    let long = "x".repeat(150);
    let record = |text: &str| {
        let len = (1..).find(|len: &usize| format!("{len} {text}\n").len() == *len).unwrap();
        format!("{len} {text}\n").into_bytes()
    };
    let pax = [record("path=über/weit.bin"), record("mtime=12.5"), record("comment=a\nb")].concat();
    let mut prefixed = header("deep.bin", b'0', 0, "");
    prefixed[345..350].copy_from_slice(b"in/er");
    sum(&mut prefixed);
    let tar = [
        entry("dir/", b'5', b"", ""),
        entry("dir/a.bin", b'0', b"kelp", ""),
        entry("dir/hard", b'1', b"", "dir/a.bin"),
        entry("dir/soft", b'2', b"", "a.bin"),
        entry("pipe", b'6', b"", ""),
        entry("././@LongLink", b'L', format!("{long}\0").as_bytes(), ""),
        entry("cut name", b'0', &[7; 513], ""),
        entry("PaxHeader", b'x', &pax, ""),
        entry("other", b'0', b"tide", ""),
        prefixed,
        vec![0; 1024],
        b"what follows is not read".to_vec(),
    ]
    .concat();
    let opened = open(&tar).unwrap();
    let tree = opened.holds.tree.as_ref().unwrap();
    let paths: Vec<&str> = tree.nodes.iter().map(|n| n.path.as_str()).collect();
    assert_eq!(paths, ["dir", "dir/a.bin", "dir/hard", "dir/soft", &long, "über/weit.bin", "in/er/deep.bin"]);
    let content = |path: &str| {
        let source = tree.find(path).unwrap().file().unwrap().source().unwrap();
        read_vec(source.as_ref(), 0, source.len(), "x", 1000).unwrap()
    };
    assert_eq!((content("dir/a.bin"), content("dir/hard")), (b"kelp".to_vec(), b"kelp".to_vec()));
    assert_eq!((content(&long), content("über/weit.bin")), (vec![7; 513], b"tide".to_vec()));
    assert!(matches!(&tree.find("dir/soft").unwrap().kind, Kind::Link(to) if to == "a.bin"));
    assert_eq!(tree.find("über/weit.bin").unwrap().modified, Some(12));
    assert_eq!(tree.find("dir/a.bin").unwrap().modified, Some(0o14_000_000_000));
    assert!(opened.told.notices.iter().any(|n| n.text.contains("1 devices and pipes")));
}

#[test]
fn a_length_beyond_octal_digits_is_binary() {
    let mut raw = header("large", b'0', 0, "");
    raw[124..136].copy_from_slice(&[0x80, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0, 0]);
    sum(&mut raw);
    let opened = open(&raw).unwrap();
    let tree = opened.holds.tree.unwrap();
    let file = tree.nodes[0].file().unwrap();
    assert!(matches!(file.content, Content::Cut { missing } if missing == 3 << 32), "{}", file.len);
    assert!(opened.told.notices.iter().any(|n| n.is_damage));
}

#[test]
fn damage_between_files_leaves_those_before_it() {
    let mut tar = [entry("a", b'0', b"kelp", ""), entry("b", b'0', b"tide", ""), vec![0; 1024]].concat();
    tar[1024] ^= 1;
    let opened = open(&tar).unwrap();
    assert_eq!(files(&opened), [("a".to_owned(), b"kelp".to_vec())]);
    let why = &opened.told.notices.iter().find(|n| n.is_damage).unwrap().text;
    assert!(why.contains("checksum of a header") && why.contains("0x494"), "{why}");
    let opened = open(&tar[..1500]).unwrap();
    assert!(opened.told.notices.iter().any(|n| n.is_damage));
}

#[test]
fn archives_of_the_general_tool_have_its_files() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("in")).unwrap();
    for (name, len) in [("a", 0usize), ("b b", 511), ("c", 70_000)] {
        std::fs::write(folder.path().join("in").join(name), vec![len as u8; len]).unwrap();
    }
    std::fs::write(folder.path().join("in").join("long ".repeat(40)), "x").unwrap();
    for form in ["ustar", "gnu", "pax"] {
        let path = folder.path().join("a.tar");
        let made = Command::new("tar")
            .arg(format!("--format={form}"))
            .arg("-cf")
            .arg(&path)
            .arg("-C")
            .arg(folder.path())
            .arg("in")
            .status();
        let Ok(status) = made else { return eprintln!("skipped: there is no tar here to hold this against") };
        // ustar has no room for the long name, and the tool says so.
        assert!(status.success() || form == "ustar");
        let opened = open(&std::fs::read(&path).unwrap()).unwrap();
        let found = files(&opened);
        assert!(found.iter().any(|(name, bytes)| name == "in/c" && bytes.len() == 70_000), "{form}");
        assert_eq!(found.len(), if form == "ustar" { 3 } else { 4 }, "{form}");
    }
}

proptest! {
    #[test]
    fn any_bytes_behind_a_right_header_are_an_error_or_files(mut tail in proptest::collection::vec(any::<u8>(), 0..3000), at in 0usize..512, byte: u8) {
        let mut raw = header("a", b'0', 600, "");
        raw[at] = byte;
        raw.append(&mut tail);
        if let Ok(opened) = open(&raw) {
            for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()) {
                if let Ok(source) = file.source() {
                    prop_assert!(source.len() <= raw.len() as u64);
                }
            }
        }
    }

    #[test]
    fn any_change_of_a_stream_is_an_error_or_its_content(at in 0usize..60, byte: u8, cut in 0usize..60) {
        let mut bytes = member("a", &[5; 30]);
        let index = at % bytes.len();
        bytes[index] = byte;
        bytes.truncate(bytes.len() - cut % 20);
        let _ = open(&bytes);
    }
}
