//! What becomes what, and back: round trips to the same bytes, rehearsals that end as the runs do, and refusals that leave
//! nothing behind.

use crate::common::{demo, given, tree, typed};
use decanter_core::Algorithm;
use decanter_jobs::convert::choice::{Given, Split};
use decanter_jobs::convert::{Options, convert, table};
use decanter_jobs::verify::verify_all;
use decanter_jobs::{Answer, Setting, decrypt, extract, formats, identify, open};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

fn setting() -> Setting<'static> {
    let mut setting = Setting::new(&());
    setting.key_places.push(demo().case.keys.clone());
    setting.key_places.push(demo().console.keys.clone());
    setting
}

/// Converts, and proves the result.
fn made(source: &Path, to: &str, target: &Path, options: Options) {
    let options = Options { prove: true, ..options };
    let (report, answer) =
        convert(&typed(source), Some(to), Some(target), &options, &setting()).unwrap_or_else(|f| panic!("{to}: {f}"));
    assert_eq!(answer, Answer::Yes, "{to}");
    assert!(report.proven.is_some(), "{to} is not proven");
    assert_eq!(report.bytes_after, report.files.iter().map(|f| f.bytes).sum::<u64>(), "{to}: lengths agree");
}

/// A copy of a file in a folder of its own.
fn apart(path: &Path) -> (TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let copy = folder.path().join(path.file_name().unwrap());
    fs::copy(path, &copy).unwrap();
    (folder, copy)
}

fn is_good(path: &Path) -> bool {
    let run = verify_all::<()>(&[typed(path)], &[], &setting(), |_| Ok(())).unwrap();
    run.failed.is_empty() && run.sources.iter().all(|r| r.verdict.is_good())
}

/// A source, what it becomes, what that becomes, and with which options.
type Trip<'a> = (&'a Path, &'a str, &'a str, Options);

/// Parts so small that there would be too many of them: nobody can type that, but a recipe might say it.
fn tiny_parts() -> Options {
    let mut options = Options::default();
    let split = table::choices().into_iter().find(|c| c.name == "split").unwrap();
    options.given.add(split, Given::Split(Split::Size(10)));
    options
}

#[test]
fn there_and_back_is_the_same_bytes() {
    let demo = demo();
    let plain = Options::default;
    let level = |level: &str| given(&[("level", level)]);
    let codecs = |names: &str| given(&[("codecs", names)]);
    let trips: Vec<Trip<'_>> = vec![
        (&demo.dvd, "cso", "iso", plain()),
        (&demo.dvd, "cso", "iso", level("1")),
        (&demo.dvd, "zso", "iso", plain()),
        (&demo.dvd, "zst", "iso", level("3")),
        (&demo.dvd, "zst", "iso", given(&[("long", ""), ("level", "3")])),
        (&demo.dvd, "chd", "iso", codecs("zstd")),
        (&demo.dvd, "chd", "iso", codecs("lzma")),
        (&demo.dvd, "chd", "iso", codecs("zlib,flac")),
        (&demo.dvd, "chd", "iso", given(&[("hunk", "8192"), ("codecs", "zstd")])),
        (&demo.handheld, "cso", "iso", plain()),
        (&demo.plain, "zst", "iso", level("1")),
        (&demo.drawer.v64, "z64", "v64", plain()),
        (&demo.drawer.v64, "n64", "v64", plain()),
        (&demo.drawer.smd, "md", "smd", plain()),
        (&demo.drawer.gba, "zst", "gba", level("1")),
        (&demo.drawer.nds, "zst", "nds", level("1")),
        (&demo.case.decrypted, "cia", "3ds", plain()),
    ];
    for (source, to, back, options) in trips {
        let (folder, copy) = apart(source);
        let (there, again) = (folder.path().join(format!("there.{to}")), folder.path().join(format!("again.{back}")));
        made(&copy, to, &there, options);
        assert!(is_good(&there), "{}: {to} is not good", source.display());
        made(&there, back, &again, Options::default());
        let same = fs::read(&again).unwrap() == fs::read(source).unwrap();
        // A package keeps less of a cartridge than the cartridge has: its contents are the same.
        assert!(same || to == "cia", "{}: by way of {to}, {back} has other bytes", source.display());
    }
}

#[test]
fn a_cd_keeps_its_tracks_on_every_way() {
    let (folder, _) = apart(&demo().cue);
    let sheet = fs::read_to_string(&demo().cue).unwrap();
    let name = sheet.lines().find_map(|l| l.strip_prefix("FILE \"")?.split('"').next()).unwrap();
    let image = demo().cue.with_file_name(name);
    fs::copy(&image, folder.path().join(name)).unwrap();
    let cue = folder.path().join(demo().cue.file_name().unwrap());
    let chd = folder.path().join("cd.chd");
    made(&cue, "chd", &chd, Options::default());
    let tracks = |path: &Path| {
        let item = open(&typed(path), "open", &setting()).unwrap_or_else(|f| panic!("{f}"));
        item.opened.holds.tracks.iter().map(|t| (t.number, t.kind, t.source.len() / t.sector_len)).collect::<Vec<_>>()
    };
    assert_eq!(tracks(&cue), tracks(&chd));
    let back = folder.path().join("back/cd.bin");
    fs::create_dir(back.parent().unwrap()).unwrap();
    made(&chd, "cd-raw", &back, Options::default());
    assert!(fs::read(&back).unwrap() == fs::read(&image).unwrap());
    assert_eq!(tracks(&back.with_extension("cue")), tracks(&cue));
}

#[test]
fn a_folder_becomes_an_image_that_has_its_files() {
    let folder = tempfile::tempdir().unwrap();
    let files = folder.path().join("files");
    let (report, answer) =
        extract::extract(&typed(&demo().dvd), Some(&files), &extract::Options::default(), &setting()).unwrap();
    assert_eq!((answer, report.left_out.len()), (Answer::Yes, 0));
    let want = tree(&files);
    for (to, options) in
        [("iso", Options::default()), ("iso", given(&[("udf", ""), ("label", "LANE")])), ("xdvdfs", Options::default())]
    {
        let (image, out) = (folder.path().join(format!("new-{to}.img")), folder.path().join("out"));
        made(&files, to, &image, options);
        let (_, answer) =
            extract::extract(&typed(&image), Some(&out), &extract::Options::default(), &setting()).unwrap();
        assert_eq!(answer, Answer::Yes);
        let upper = |files: BTreeMap<PathBuf, Vec<u8>>| -> BTreeMap<String, Vec<u8>> {
            files.into_iter().map(|(p, b)| (decanter_core::native::text(&p).to_uppercase(), b)).collect()
        };
        assert!(upper(tree(&out)) == upper(want.clone()), "{to}");
        fs::remove_dir_all(&out).unwrap();
        fs::remove_file(&image).unwrap();
    }
}

#[test]
fn what_was_decrypted_is_what_its_description_describes() {
    let folder = tempfile::tempdir().unwrap();
    for name in [&demo().image, &demo().key, &demo().description] {
        fs::copy(name, folder.path().join(name.file_name().unwrap())).unwrap();
    }
    let source = folder.path().join(demo().image.file_name().unwrap());
    let target = folder.path().join("clear.iso");
    let (report, answer) =
        decrypt::decrypt(&typed(&source), Some(&target), &[Algorithm::Sha1], None, false, &setting()).unwrap();
    assert_eq!((answer, report.digests.len()), (Answer::Yes, 1));
    assert_eq!(fs::metadata(&target).unwrap().len(), fs::metadata(&source).unwrap().len());
    let run = verify_all::<()>(&[typed(&target)], &[typed(&demo().description)], &setting(), |_| Ok(())).unwrap();
    assert_eq!(run.sources[0].verdict, decanter_jobs::verify::Verdict::Match);
    // Files taken out of either are the same.
    let out = |from: &Path, to: &str| {
        let to = folder.path().join(to);
        extract::extract(&typed(from), Some(&to), &extract::Options::default(), &setting()).unwrap();
        tree(&to)
    };
    assert!(out(&source, "a") == out(&target, "b"));
}

#[test]
fn parts_have_the_size_that_was_asked_for_and_make_the_whole() {
    let (folder, copy) = apart(&demo().dvd);
    let target = folder.path().join("parts.iso");
    let options = Options { digests: vec![Algorithm::Crc32], ..given(&[("split", "3000000")]) };
    // Parts are whole sectors.
    let most = 3_000_000 / 2048 * 2048;
    let (report, answer) = convert(&typed(&copy), Some("iso"), Some(&target), &options, &setting()).unwrap();
    assert_eq!(answer, Answer::Yes);
    let whole = fs::read(&copy).unwrap();
    let mut all = Vec::new();
    for (index, file) in report.files.iter().enumerate() {
        let bytes = fs::read(&file.path).unwrap();
        assert!(bytes.len() == most || index + 1 == report.files.len() && bytes.len() < most);
        assert_eq!(file.bytes, bytes.len() as u64);
        let digest = decanter_core::digest::of_bytes(Algorithm::Crc32, &bytes);
        assert_eq!(file.digests.first().map(|d| d.hex()), Some(digest.hex()), "each part has its digest");
        all.extend(bytes);
    }
    assert!(all == whole);
    // Any part stands for all of them.
    let back = folder.path().join("joined.zst");
    made(&report.files[1].path, "zst", &back, given(&[("level", "1")]));
    made(&back, "iso", &folder.path().join("again.iso"), Options::default());
    assert!(fs::read(folder.path().join("again.iso")).unwrap() == whole);
}

#[test]
fn a_rehearsal_ends_as_the_run_does_and_writes_nothing() {
    let demo = demo();
    let cases: Vec<(&Path, &str, Options)> = vec![
        (&demo.dvd, "cso", Options::default()),
        (&demo.dvd, "cd-raw", Options::default()),
        (&demo.dvd, "d64", Options::default()),
        (&demo.dvd, "zst", given(&[("level", "99")])),
        (&demo.plain, "xdvdfs", Options::default()),
        (&demo.drawer.gba, "gba", given(&[("trim", "")])),
        (&demo.drawer.gba_padded, "gba", given(&[("trim", "")])),
        (&demo.drawer.nds, "nds", given(&[("pad", "100")])),
        (&demo.case.full, "cia", Options::default()),
        (&demo.bench.disk, "d81", Options::default()),
        (&demo.bench.archive, "hdf", given(&[("size", "1000")])),
        (&demo.dvd, "iso", given(&[("without", "no such file")])),
        (&demo.dvd, "iso", tiny_parts()),
    ];
    for (source, to, options) in cases {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("result.bin");
        let mut rehearsal = setting();
        rehearsal.dry_run = true;
        let told = |ended: Result<(decanter_jobs::convert::ConvertReport, Answer), decanter_jobs::Failure>| match ended
        {
            Ok((report, answer)) => Ok((answer, report.files.len())),
            Err(failure) => Err(failure.to_string()),
        };
        let dry = told(convert(&typed(source), Some(to), Some(&target), &options, &rehearsal));
        let left: Vec<_> = fs::read_dir(folder.path()).unwrap().collect();
        assert!(left.is_empty(), "{} to {to}: {left:?}", source.display());
        let real = told(convert(&typed(source), Some(to), Some(&target), &options, &setting()));
        assert_eq!(dry, real, "{} to {to}", source.display());
        // What failed has left nothing either.
        let left = fs::read_dir(folder.path()).unwrap().count();
        assert!(real.is_ok() || left == 0, "{} to {to} left {left} files", source.display());
    }
}

#[test]
fn a_result_in_the_way_is_kept_and_replaced_only_when_that_was_said() {
    let (folder, copy) = apart(&demo().drawer.gba);
    let target = folder.path().join("r.zst");
    fs::write(&target, "in the way").unwrap();
    let options = given(&[("level", "1")]);
    let failure = convert(&typed(&copy), Some("zst"), Some(&target), &options, &setting()).unwrap_err();
    assert!(failure.to_string().contains("already exists"), "{failure}");
    assert_eq!(fs::read_to_string(&target).unwrap(), "in the way");
    let mut replacing = setting();
    replacing.replace = true;
    convert(&typed(&copy), Some("zst"), Some(&target), &options, &replacing).unwrap();
    assert!(is_good(&target));
    // The source itself is no target, whatever was said.
    let before = fs::read(&copy).unwrap();
    let failure = convert(&typed(&copy), Some("zst"), Some(&copy), &options, &replacing).unwrap_err();
    assert!(matches!(*failure.cause, decanter_core::Error::IsSource { .. }), "{failure}");
    assert!(fs::read(&copy).unwrap() == before);
}

#[test]
fn what_identify_offers_is_what_convert_takes() {
    let demo = demo();
    let ids: Vec<&str> = formats::formats().targets.iter().map(|t| t.id).collect();
    let sources = [
        &demo.image,
        &demo.dvd,
        &demo.cue,
        &demo.full_disc,
        &demo.handheld,
        &demo.plain,
        &demo.drawer.gb,
        &demo.drawer.nes,
        &demo.drawer.smc,
        &demo.drawer.smd,
        &demo.drawer.v64,
        &demo.drawer.sms,
        &demo.drawer.pce,
        &demo.case.trimmed,
        &demo.bench.disk,
        &demo.bench.archive,
        &demo.bench.drive,
    ];
    for source in sources {
        let (report, _) = identify::identify(&[typed(source)], &setting()).unwrap();
        for offer in &report.sources[0].becomes {
            let Some(id) = ids.iter().find(|id| offer.command.contains(&format!("--to {id}"))) else { continue };
            let folder = tempfile::tempdir().unwrap();
            let mut rehearsal = setting();
            rehearsal.dry_run = true;
            let options = Options { keep_damage: true, ..Options::default() };
            let ended = convert(&typed(source), Some(id), Some(&folder.path().join("x")), &options, &rehearsal);
            assert!(ended.is_ok(), "{}: {} is offered, and {}", source.display(), offer.command, ended.unwrap_err());
        }
    }
}

#[test]
fn an_option_that_means_nothing_to_a_target_is_refused_by_name() {
    let folder = tempfile::tempdir().unwrap();
    let cases: Vec<(&str, Options, &str)> = vec![
        ("cso", given(&[("long", "")]), "--long"),
        ("cso", given(&[("udf", "")]), "--udf"),
        ("zst", given(&[("keep-positions", "")]), "--keep-positions"),
        ("iso", given(&[("level", "3")]), "--level"),
        ("iso", given(&[("hunk", "4096")]), "--hunk"),
        ("cso", given(&[("trim", "")]), "--trim"),
        ("zst", given(&[("without", "a")]), "--without"),
    ];
    for (to, options, name) in cases {
        let target = folder.path().join("x");
        let failure = convert(&typed(&demo().dvd), Some(to), Some(&target), &options, &setting()).unwrap_err();
        let told = failure.to_string();
        assert!(told.contains(&format!("{name} has no meaning with --to {to}")), "{told}");
    }
    let failure = convert(&typed(&demo().dvd), Some("isso"), None, &Options::default(), &setting()).unwrap_err();
    assert!(failure.to_string().contains("iso"), "what is near is named: {failure}");
}

#[test]
fn a_damaged_source_becomes_nothing_unless_it_is_kept_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("s.iso");
    let source = typed(&demo().scratched);
    let failure = convert(&source, Some("iso"), Some(&target), &Options::default(), &setting()).unwrap_err();
    assert!(!target.exists() && failure.to_string().contains("--keep-damage"), "{failure}");
    let keep = Options { keep_damage: true, ..Options::default() };
    let (report, answer) = convert(&source, Some("iso"), Some(&target), &keep, &setting()).unwrap();
    assert_eq!(answer, Answer::No);
    assert!(report.notices.iter().any(|n| n.is_damage), "what was kept is told");
    assert!(target.exists());
}
