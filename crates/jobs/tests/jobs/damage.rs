//! Damaged files: each demo file that carries checks is damaged at 30 seeded places. Whatever the place, nothing ends well
//! over wrong bytes: not a check, not a copy of the files, not a conversion that is proven.

use crate::common::{demo, tree};
use decanter_jobs::verify::{Verdict, verify_all};
use decanter_jobs::{Answer, Setting, convert, extract, identify};
use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;

const PLACES: u64 = 30;

/// A kind of damage at a seeded place.
fn damaged(clean: &[u8], seed: u64) -> Vec<u8> {
    let mut x = seed.wrapping_add(1).wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut next = |most: usize| {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        (x >> 11) as usize % most.max(1)
    };
    let mut bytes = clean.to_vec();
    let at = next(bytes.len());
    match seed % 5 {
        0 | 1 => bytes[at] ^= 1 << next(8),
        2 => {
            let len = (next(600) + 1).min(bytes.len() - at);
            bytes[at..at + len].fill(0);
        }
        3 => {
            let len = (next(64) + 1).min(bytes.len() - at);
            bytes[at..at + len].iter_mut().for_each(|b| *b = b.wrapping_add(101));
        }
        _ => bytes.truncate(at),
    }
    bytes
}

/// What is attacked: a file, what stands beside it, how it is converted, and a general tool that checks it.
struct Case<'a> {
    name: &'a str,
    clean: Vec<u8>,
    beside: Vec<(&'a str, Vec<u8>)>,
    keys: Option<PathBuf>,
    to: Option<&'a str>,
    tool: Option<&'a [&'a str]>,
}

/// What came of the three jobs: whether each ended well, and what it left.
struct Ends {
    verdict: Option<Verdict>,
    files: Option<BTreeMap<PathBuf, Vec<u8>>>,
    converted: Option<Vec<u8>>,
}

impl Case<'_> {
    fn run(&self, bytes: &[u8]) -> (Ends, Option<bool>) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(self.name);
        fs::write(&path, bytes).unwrap();
        for (name, content) in &self.beside {
            fs::write(folder.path().join(name), content).unwrap();
        }
        // Of a sheet and its image the sheet is the source.
        let source = match self.beside.iter().find(|(n, _)| n.ends_with(".cue")) {
            Some((sheet, _)) => decanter_core::native::text(folder.path().join(sheet)),
            None => decanter_core::native::text(&path),
        };
        let setting = || {
            let mut setting = Setting::new(&());
            setting.key_places.extend(self.keys.clone());
            setting
        };
        let run = verify_all::<()>(std::slice::from_ref(&source), &[], &setting(), |_| Ok(())).unwrap();
        let is_good = run.failed.is_empty() && run.sources.iter().all(|r| r.verdict.is_good());
        let verdict = run.sources.first().map(|r| r.verdict).filter(|_| is_good);
        let out = folder.path().join("out");
        let extracted = extract::extract(&source, Some(&out), &extract::Options::default(), &setting());
        let files = extracted.is_ok_and(|(_, answer)| answer == Answer::Yes).then(|| tree(&out));
        let converted = self.to.and_then(|to| {
            let target = folder.path().join("result");
            let options = convert::Options { prove: true, ..convert::Options::default() };
            let (_, answer) = convert::convert(&source, Some(to), Some(&target), &options, &setting()).ok()?;
            (answer == Answer::Yes).then(|| fs::read(&target).unwrap())
        });
        // It has an answer to everything.
        let _ = identify::identify(std::slice::from_ref(&source), &setting());
        let by_tool = self.tool.and_then(|words| {
            let output = Command::new(words[0]).args(&words[1..]).arg(&path).output().ok()?;
            Some(output.status.success())
        });
        (Ends { verdict, files, converted }, by_tool)
    }

    fn attack(&self) {
        self.attack_at(PLACES);
    }

    /// Damages the file at every place, and holds what comes of it against the clean copy.
    fn attack_at(&self, places: u64) {
        let (clean, by_tool) = self.run(&self.clean);
        if let (Some(words), None) = (self.tool, by_tool) {
            eprintln!("skipped: there is no {} here to compare with", words[0]);
        }
        assert!(clean.verdict.is_some() && clean.files.is_some(), "{}: the clean copy is not good", self.name);
        assert_eq!(clean.converted.is_some(), self.to.is_some(), "{}: the clean copy is not converted", self.name);
        let (mut noticed, mut lost) = (0, 0);
        for seed in 0..places {
            let (ends, by_tool) = self.run(&damaged(&self.clean, seed));
            let at = format!("{}, seed {seed}", self.name);
            if let (Some(files), Some(clean)) = (&ends.files, &clean.files) {
                let wrong: Vec<_> = clean.iter().filter(|(path, bytes)| files.get(*path) != Some(bytes)).collect();
                let paths: Vec<_> = wrong.iter().map(|(path, _)| path).collect();
                assert!(wrong.is_empty() && files.len() == clean.len(), "{at}: wrong files were handed out: {paths:?}");
            }
            if let Some(bytes) = &ends.converted {
                assert!(Some(bytes) == clean.converted.as_ref(), "{at}: a wrong result was proven");
            }
            if matches!(ends.verdict, Some(Verdict::Sound | Verdict::Match)) {
                assert!(ends.files.is_some(), "{at}: called sound, but its files are not handed out");
            }
            // What a general tool can unpack is not lost here, but where it overlooks something that is plainly wrong.
            lost += usize::from(by_tool == Some(true) && ends.files.is_none());
            noticed += usize::from(ends.verdict.is_none());
        }
        assert!(noticed * 5 > places as usize, "{}: only {noticed} places were noticed", self.name);
        assert!(lost <= 2, "{}: a general tool unpacks {lost} that are refused here", self.name);
    }
}

fn file(path: &Path) -> Vec<u8> {
    fs::read(path).unwrap()
}

fn content() -> Vec<(&'static str, Vec<u8>)> {
    let text = |seed: usize| (0..9000).map(|i| b"kelp fog brine moth lane"[(i * i / 7 + seed) % 24]).collect();
    vec![
        ("a/one.txt", text(1)),
        ("two.bin", (0..20_000u32).map(|i| ((i * i) >> 5) as u8).collect()),
        ("three", text(5)),
    ]
}

fn zipped(method: zip::CompressionMethod, entries: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, bytes) in entries {
        let options = zip::write::SimpleFileOptions::default().compression_method(method);
        writer.start_file(*name, options).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

fn case(name: &str, clean: Vec<u8>) -> Case<'_> {
    Case { name, clean, beside: Vec::new(), keys: None, to: None, tool: None }
}

#[test]
fn archives_of_files() {
    for method in [zip::CompressionMethod::Stored, zip::CompressionMethod::Deflated] {
        let tool: &[&str] = &["unzip", "-tqq"];
        Case { tool: Some(tool), to: Some("iso"), ..case("box.zip", zipped(method, &content())) }.attack();
    }
}

#[test]
fn solid_archives() {
    let folder = tempfile::tempdir().unwrap();
    for (name, bytes) in content() {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
    let made = Command::new("7z").args(["a", "-bd", "box.7z", "."]).current_dir(folder.path()).output();
    if !made.is_ok_and(|o| o.status.success()) {
        eprintln!("skipped: there is no 7z here to make an archive with");
        return;
    }
    let tool: &[&str] = &["7z", "t", "-bd"];
    Case { tool: Some(tool), ..case("box.7z", file(&folder.path().join("box.7z"))) }.attack();
}

#[test]
fn an_image_in_an_archive() {
    let iso = file(&demo().handheld);
    for method in [zip::CompressionMethod::Stored, zip::CompressionMethod::Deflated] {
        let clean = zipped(method, &[("in/moth.iso", iso.clone())]);
        Case { to: Some("cso"), ..case("moth.zip", clean) }.attack();
    }
}

#[test]
fn archives_of_the_amiga() {
    case("tide.lha", file(&demo().bench.archive)).attack();
}

#[test]
fn drives_in_hunks() {
    Case { to: Some("img"), ..case("drive.chd", file(&demo().bench.drive)) }.attack();
}

#[test]
fn a_cd_with_its_codes() {
    let cue = file(&demo().cue);
    let name = demo().cue.with_extension("bin");
    let bin = name.file_name().unwrap().to_str().unwrap();
    Case { beside: vec![("disc.cue", cue)], to: Some("iso"), ..case(bin, file(&name)) }.attack();
}

#[test]
fn packages_of_a_handheld() {
    let d = &demo().case;
    // Large ones, whose every run decrypts and hashes them thrice: fewer places in each run of the tests.
    Case { keys: Some(d.keys.clone()), ..case("dash.3ds", file(&d.full)) }.attack_at(PLACES / 2);
}

#[test]
fn a_disc_beside_its_description() {
    let d = demo();
    let beside = vec![("kelp.ird", file(&d.description)), ("DCNT10001.dkey", file(&d.key))];
    Case { beside, ..case("kelp.iso", file(&d.image)) }.attack();
}
