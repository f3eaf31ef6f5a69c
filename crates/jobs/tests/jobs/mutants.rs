//! Every demo file, changed at a few places where its structures are: every job has an answer, in words, and none of them
//! panics, writes outside its folder or takes for ever.

use crate::common::{demo, given, tree, typed};
use decanter_jobs::convert::{Options, convert};
use decanter_jobs::verify::verify_all;
use decanter_jobs::{Setting, extract, identify, list};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Changed copies of each file.
const CHANGES: u64 = 5;
/// Where structures are: at the beginning, and at the end.
const EDGE: usize = 96 << 10;
/// Longer files are cut to this: what is changed lies in it.
const MOST: usize = 3 << 20;
/// Nobody waits longer for an answer about so small a file. Far more than any takes: only what hangs is found by it.
const PATIENCE: Duration = Duration::from_secs(60);

fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut todo = vec![folder.to_owned()];
    while let Some(folder) = todo.pop() {
        let mut entries: Vec<_> = fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
        entries.sort();
        for path in entries {
            if path.is_dir() {
                todo.push(path);
            } else {
                found.push(path);
            }
        }
    }
    found
}

/// Numbers that look random and are the same every time.
fn numbers(seed: u64) -> impl FnMut(usize) -> usize {
    let mut x = seed.wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    move |below| {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        (x >> 11) as usize % below.max(1)
    }
}

fn changed(clean: &[u8], seed: u64) -> Vec<u8> {
    let mut next = numbers(seed);
    let mut bytes = clean[..clean.len().min(MOST)].to_vec();
    for _ in 0..=next(3) {
        if bytes.is_empty() {
            break;
        }
        let edge = bytes.len().min(EDGE);
        let at = if next(4) == 0 { bytes.len() - 1 - next(edge) } else { next(edge) };
        match next(6) {
            0 => bytes[at] ^= 1 << next(8),
            1 => bytes[at] = 0xff,
            2 => {
                // A length or offset that is enormous.
                let len = 4.min(bytes.len() - at);
                bytes[at..at + len].fill(if next(2) == 0 { 0xff } else { 0x7f });
            }
            3 => {
                let (from, len) = (next(edge), 16.min(bytes.len() - at));
                let from = from.min(bytes.len() - len);
                bytes.copy_within(from..from + len, at);
            }
            4 => bytes.truncate(at.max(1)),
            _ => {
                let len = (next(64) + 1).min(bytes.len() - at);
                bytes[at..at + len].fill(0);
            }
        }
    }
    bytes
}

/// Lets every job that only reads have a go, and those that write into `folder`.
fn attack(source: &Path, folder: &Path) {
    let shown = typed(source);
    let setting = || {
        let mut setting = Setting::new(&());
        setting.key_places.push(demo().case.keys.clone());
        setting
    };
    let (report, _) = identify::identify(std::slice::from_ref(&shown), &setting()).unwrap();
    assert!(!report.sources.is_empty());
    if let Some(why) = &report.sources[0].error {
        assert!(!why.trim().is_empty(), "{shown}: an error without words");
    }
    let _ = list::list(&shown, &setting());
    verify_all::<()>(std::slice::from_ref(&shown), &[], &setting(), |_| Ok(())).unwrap();
    let _ = extract::extract(&shown, Some(&folder.join("out/files")), &extract::Options::default(), &setting());
    let options = Options { prove: true, ..given(&[("level", "1")]) };
    let offered = report.sources[0].becomes.first().map_or("", |b| b.command.as_str());
    let to = offered.split(" --to ").nth(1).and_then(|rest| rest.split(' ').next());
    let _ = convert(&shown, to, Some(&folder.join("out/result")), &options, &setting());
}

#[test]
fn every_changed_file_gets_an_answer_and_nothing_leaves_its_folder() {
    let root = demo().dvd.parent().unwrap();
    let known =
        ["iso", "bin", "cue", "zip", "7z", "chd", "lha", "lzx", "ird", "d64", "prg", "gba", "nds", "gb", "nes", "smc"];
    let more =
        ["smd", "v64", "sms", "gg", "pce", "3ds", "cia", "bps", "ups", "ips", "xml", "dat", "sav", "toml", "txt"];
    let mut tried = 0;
    for path in files(root) {
        let extension = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
        if !known.iter().chain(&more).any(|e| *e == extension) {
            continue;
        }
        let clean = fs::read(&path).unwrap();
        for seed in 0..CHANGES {
            let folder = tempfile::tempdir().unwrap();
            let source = folder.path().join("in").join(path.file_name().unwrap());
            fs::create_dir_all(folder.path().join("in")).unwrap();
            fs::create_dir_all(folder.path().join("out")).unwrap();
            fs::write(&source, changed(&clean, seed)).unwrap();
            let before = tree(&folder.path().join("in"));
            let began = Instant::now();
            attack(&source, folder.path());
            let took = began.elapsed();
            assert!(took < PATIENCE, "{}, change {seed}: {took:?}", decanter_core::native::text(&path));
            assert!(
                tree(&folder.path().join("in")) == before,
                "{}, change {seed}: the source is as it was",
                decanter_core::native::text(&path)
            );
            let beside: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
            assert_eq!(beside.len(), 2, "{}, change {seed}: {beside:?}", decanter_core::native::text(&path));
        }
        tried += 1;
    }
    assert!(tried > 30, "{tried} kinds of files were tried");
}
