//! Help, manual pages and completions come from one definition, and their examples work.

use crate::support::{demo, folder, run, tour, tree};
use std::fs;
use std::path::Path;

const COMMANDS: [&str; 23] = [
    "prepare",
    "repair",
    "launch",
    "dump",
    "identify",
    "list",
    "verify",
    "digest",
    "extract",
    "decrypt",
    "convert",
    "merge",
    "unmerge",
    "label",
    "launcher",
    "keys",
    "config",
    "formats",
    "demo",
    "clean",
    "completions",
    "manual",
    "help",
];
/// Commands of two words.
const PAIRS: [[&str; 2]; 9] = [
    ["patch", "apply"],
    ["patch", "make"],
    ["patch", "show"],
    ["save", "show"],
    ["save", "export"],
    ["save", "import"],
    ["recipe", "new"],
    ["recipe", "show"],
    ["recipe", "make"],
];

#[test]
fn every_command_explains_itself_with_an_example() {
    let folder = folder();
    for name in COMMANDS {
        let help = run(folder.path(), &[name, "--help"]).expect(0).out;
        assert!(help.contains("Example") && help.contains(&format!("decanter {name}")), "{help}");
    }
    for [name, verb] in PAIRS {
        let help = run(folder.path(), &[name, verb, "--help"]).expect(0).out;
        assert!(help.contains("Example") && help.contains(&format!("decanter {name} {verb}")), "{help}");
    }
}

#[test]
fn the_examples_of_the_help_work_on_the_demo() {
    let folder = folder();
    let saltmarsh = folder.path().join("saltmarsh");
    fs::create_dir(&saltmarsh).unwrap();
    let d = demo();
    for path in [&d.image, d.archive.as_ref().unwrap(), &d.key, &d.description, &d.handheld] {
        fs::copy(path, saltmarsh.join(path.file_name().unwrap())).unwrap();
    }
    fs::create_dir(saltmarsh.join("keys")).unwrap();
    let places = [
        (&d.drawer.folder, "drawer"),
        (&d.case.folder, "handheld"),
        (&d.bench.folder, "machines"),
        (&d.downloads.folder, "downloads"),
    ];
    for (place, name) in places {
        for (path, bytes) in tree(place) {
            // Keys are for the tests of what lacks them.
            let target = saltmarsh.join(name).join(&path);
            if !path.starts_with("keys/") {
                fs::create_dir_all(target.parent().unwrap()).unwrap();
                fs::write(target, bytes).unwrap();
            }
        }
    }
    let mut ran = 0;
    let single = ["identify", "list", "verify", "extract", "decrypt", "label", "launcher", "keys", "formats"]
        .map(|name| vec![name]);
    for name in single.into_iter().chain(PAIRS.map(|pair| pair.to_vec())) {
        let help = run(folder.path(), &[&name[..], &["--help"]].concat()).expect(0).out;
        let command = format!("decanter {}", name.join(" "));
        for line in help.lines().filter_map(|l| l.split_once(&command).map(|(_, rest)| rest)) {
            // "Usage: decanter list [OPTIONS] ..." is no example.
            if line.contains('[') || (line.is_empty() && name != ["formats"]) {
                continue;
            }
            let words = words(line);
            let mut all = name.clone();
            all.extend(words.iter().map(String::as_str));
            run(folder.path(), &all).expect(0);
            ran += 1;
        }
    }
    assert!(ran >= 17, "only {ran} examples were found");
}

/// Splits a line as a shell would, as far as the examples need it.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quote) = (Vec::new(), String::new(), None);
    for c in line.trim().chars().chain([' ']) {
        match (quote, c) {
            (None, '"' | '\'') => quote = Some(c),
            (Some(q), c) if q == c => quote = None,
            (None, ' ') if !word.is_empty() => words.push(std::mem::take(&mut word)),
            (None, ' ') => {}
            _ => word.push(c),
        }
    }
    words
}

#[test]
fn manual_pages_and_completions_cover_every_command() {
    let folder = folder();
    run(folder.path(), &["manual", "-o", "man", "--dry-run"]).expect(0).says("would write 57 pages");
    assert!(!folder.path().join("man").exists());
    run(folder.path(), &["manual", "-o", "man"]).expect(0);
    for name in COMMANDS {
        let page = fs::read_to_string(folder.path().join(format!("man/decanter-{name}.1"))).unwrap();
        for section in ["SYNOPSIS", "EXAMPLES", "EXIT STATUS"] {
            assert!(page.contains(&format!(".SH \"{section}\"")), "{name}: {section}");
        }
    }
    for [name, verb] in PAIRS {
        assert!(folder.path().join(format!("man/decanter-{name}-{verb}.1")).exists());
    }
    assert!(folder.path().join("man/decanter.1").exists());
    for shell in ["bash", "zsh", "fish"] {
        let script = run(folder.path(), &["completions", shell]).expect(0).out;
        assert!(COMMANDS.iter().all(|c| script.contains(c)), "{shell}");
        assert!(script.contains("xdvdfs") && script.contains("sha256"), "{shell} offers values");
    }
}

#[test]
fn help_is_short_or_whole_and_tells_common_options_once() {
    let folder = folder();
    let (short, long) = (
        run(folder.path(), &["convert", "-h"]).expect(0).out,
        run(folder.path(), &["convert", "--help"]).expect(0).out,
    );
    assert!(short.lines().count() < 35 && !short.contains("--codecs") && short.contains("Example:"), "{short}");
    let headings =
        ["images", "compressed images", "disks", "ROMs", "packages"].map(|kind| format!("Options for {kind}:"));
    assert!(headings.iter().all(|heading| long.contains(heading)), "{long}");
    for help in [&short, &long] {
        assert!(
            help.contains("--dry-run") && help.contains("decanter help options") && !help.contains("DECANTER_KEYS")
        );
    }
    assert!(!run(folder.path(), &["list", "-h"]).expect(0).out.contains("--dry-run"));
    run(folder.path(), &["list", "x", "--dry-run"]).expect(2).says("--dry-run has no meaning");
    run(folder.path(), &["help", "options"]).expect(0).says("DECANTER_KEYS").says("--replace");
    assert_eq!(
        run(folder.path(), &["help", "patch", "apply"]).expect(0).out,
        run(folder.path(), &["patch", "apply", "--help"]).out
    );
    run(folder.path(), &["help", "convrt"]).expect(2).says("did you mean convert?");
    run(folder.path(), &["help"]).expect(0).says("identify");
}

#[test]
fn a_format_tells_all_of_itself() {
    let folder = folder();
    let json = run(folder.path(), &["formats", "CHD", "--json"]).expect(0).json();
    assert_eq!(
        (json["id"].as_str(), json["read"]["id"].as_str(), json["written"]["id"].as_str()),
        (Some("chd"), Some("chd"), Some("chd"))
    );
    assert!(json["options"].as_array().unwrap().iter().any(|o| o["name"] == "--hunk SIZE"));
    run(folder.path(), &["formats", ".v64"]).expect(0).says("written");
    run(folder.path(), &["formats", "xci"]).expect(0).says("doubts").says("docs/formats/xci.md");
    run(folder.path(), &["formats", "chx"]).expect(2).says("did you mean chd?");
}

#[test]
fn quiet_is_a_line_a_result() {
    let folder = folder();
    let plain = crate::support::text(&demo().plain);
    let quiet = |words: &[&str]| run(folder.path(), &[words, &["-q"]].concat()).expect(0).out;
    assert_eq!(quiet(&["convert", plain, "--to", "cso", "-o", "a.cso"]), "a.cso\n");
    assert_eq!(quiet(&["verify", plain]).trim_end(), format!("READABLE        {plain}"));
    assert!(quiet(&["identify", plain]).starts_with(&format!("{plain}: ")));
    assert_eq!(quiet(&["extract", plain, "-o", "x"]), "x/\n");
}

#[test]
fn progress_is_told_to_programs_as_lines() {
    let folder = folder();
    let plain = crate::support::text(&demo().plain);
    let told = run(folder.path(), &["digest", plain, "--json", "--progress"]).expect(0);
    let last: serde_json::Value = serde_json::from_str(told.err.lines().last().unwrap()).unwrap();
    assert_eq!((last["schema"].as_str(), &last["bytes"]), (Some("decanter.progress/1"), &last["total_bytes"]));
    told.json();
    assert_eq!(run(folder.path(), &["digest", plain, "--json"]).expect(0).err, "");
}

#[test]
fn settings_say_where_they_come_from_and_wrong_ones_are_errors() {
    let folder = folder();
    fs::create_dir(folder.path().join("mine")).unwrap();
    let set = |text: &str| fs::write(folder.path().join("c.toml"), text).unwrap();
    let config = |more: &[&str]| run(folder.path(), &[&["config", "--config", "c.toml"], more].concat());
    set("keys = [\"mine\"]\njobs = 3\nlanguage = \"de\"\n");
    config(&[]).expect(0).says("mine (from the file)").says("3 (from the file)").says("de (from the file)");
    let json = config(&["--jobs", "2", "--json"]).expect(0).json();
    assert_eq!((json["jobs"][0].as_u64(), json["jobs"][1].as_str()), (Some(2), Some("option")));
    for (text, why) in [
        ("language = \"xx\"", "is none"),
        ("language = \"deutsch\"", "is none"),
        ("keys = [\"gone\"]", "correct the line keys"),
        ("colour = \"auto\"", "there is no field"),
        ("jobs = 0", "out of range"),
    ] {
        set(text);
        assert_ne!(config(&[]).says(why).code, 0);
    }
    run(folder.path(), &["config", "--config", "gone.toml"]).expect(5).says("gone.toml does not exist");
    run(folder.path(), &["config", "--keys", "gone"]).expect(5).says("correct the path given with --keys");
}

#[test]
fn what_is_wrong_with_a_line_is_json_where_that_is_asked_for() {
    let folder = folder();
    let json = run(folder.path(), &["convert", "x", "--nonsense", "--json"]).expect(2).json();
    assert_eq!((json["schema"].as_str(), json["exit_code"].as_u64()), (Some("decanter.error/1"), Some(2)));
    assert!(json["why"].as_str().unwrap().contains("--nonsense"));
}

#[test]
fn the_demo_runs_from_nothing_and_is_the_same_every_time() {
    let ((made, shown), folder) = (tour(), folder());
    assert_eq!(shown.code, 0, "{shown:?}");
    for words in ["MATCH", "DIFFERS", "sector", "wrote", "decanter identify"] {
        assert!(shown.out.contains(words), "{words}: {}", shown.out);
    }
    run(made.path(), &["demo", "shelf", "--size", "6MiB"]).expect(2).says("already exists");
    let quiet = run(folder.path(), &["demo", "b", "--size", "6MiB", "--no-tour", "-q"]).expect(0);
    assert_eq!(quiet.out, "b\n", "a line a result");
    for name in ["Kelp Courier.iso", "Kelp Courier.zip", "Kelp Courier.ird", "DCNT-10001.dkey"] {
        let read = |which: &Path| fs::read(which.join(name)).unwrap();
        assert!(read(&made.path().join("shelf")) == read(&folder.path().join("b")), "{name}");
    }
    run(folder.path(), &["demo", "c", "--size", "1MiB"]).expect(2);
    let json = run(folder.path(), &["demo", "d", "--size", "5MiB", "--json"]).expect(0).json();
    assert_eq!(
        (json["schema"].as_str(), json["image"].as_str()),
        (Some("decanter.demo/1"), Some("d/Kelp Courier.iso"))
    );
}

#[test]
fn the_readme_names_every_target_with_its_options() {
    use decanter_jobs::convert::table::targets;
    let readme = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../README.md")).unwrap();
    let rows: Vec<Vec<&str>> =
        readme.lines().filter(|l| l.starts_with("| `")).map(|l| l.trim_matches('|').split('|').collect()).collect();
    for target in targets() {
        let own =
            |row: &&Vec<&str>| row.len() == 3 && row[0].split(',').any(|id| id.trim() == format!("`{}`", target.id));
        let row = rows.iter().find(own).unwrap_or_else(|| panic!("{} is in no row", target.id));
        // Those of all ROMs stand under the table.
        for choice in target.options.iter().filter(|_| target.group.is_none()) {
            assert!(row[2].contains(&format!("`--{}", choice.name)), "{}: --{} is missing", target.id, choice.name);
        }
    }
    for row in rows.iter().filter(|row| row.len() == 3) {
        let ids: Vec<&str> = row[0].split(',').map(|id| id.trim().trim_matches('`')).collect();
        let named = row[2].split("`--").skip(1).map(|o| o.split(['`', ' ']).next().unwrap());
        for name in named.filter(|n| *n != "keep-damage") {
            let known = targets().filter(|t| ids.contains(&t.id)).any(|t| t.has(name));
            assert!(known || !targets().any(|t| ids.contains(&t.id)), "{ids:?}: --{name} has no meaning");
        }
    }
}
