//! Help, manual pages and completions come from one definition, and their examples work.

use crate::support::{demo, folder, run, tree};
use std::fs;

const COMMANDS: [&str; 15] = [
    "dump",
    "identify",
    "list",
    "verify",
    "digest",
    "extract",
    "decrypt",
    "convert",
    "label",
    "launcher",
    "keys",
    "formats",
    "demo",
    "completions",
    "manual",
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
    for path in [&d.image, d.archive.as_ref().unwrap(), &d.key, &d.description] {
        fs::copy(path, saltmarsh.join(path.file_name().unwrap())).unwrap();
    }
    fs::create_dir(saltmarsh.join("keys")).unwrap();
    for (place, name) in [(&d.drawer.folder, "drawer"), (&d.case.folder, "handheld"), (&d.bench.folder, "machines")] {
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
    run(folder.path(), &["manual", "-o", "man", "--dry-run"]).expect(0).says("would write 32 pages");
    assert!(!folder.path().join("man").exists());
    run(folder.path(), &["manual", "-o", "man"]).expect(0);
    for name in COMMANDS {
        let page = fs::read_to_string(folder.path().join(format!("man/decanter-{name}.1"))).unwrap();
        assert!(page.contains(".SH SYNOPSIS"), "{name}");
    }
    for [name, verb] in PAIRS {
        assert!(folder.path().join(format!("man/decanter-{name}-{verb}.1")).exists());
    }
    assert!(folder.path().join("man/decanter.1").exists());
    for shell in ["bash", "zsh", "fish"] {
        let script = run(folder.path(), &["completions", shell]).expect(0).out;
        assert!(COMMANDS.iter().all(|c| script.contains(c)), "{shell}");
    }
}

#[test]
fn the_demo_runs_from_nothing_and_is_the_same_every_time() {
    let folder = folder();
    let shown = run(folder.path(), &["demo", "a", "--size", "5MiB"]).expect(0);
    for words in ["MATCH", "DIFFERS", "sector", "wrote", "decanter identify"] {
        assert!(shown.out.contains(words), "{words}: {}", shown.out);
    }
    run(folder.path(), &["demo", "a", "--size", "5MiB"]).expect(2).says("already exists");
    run(folder.path(), &["demo", "b", "--size", "5MiB", "--no-tour"]).expect(0);
    for name in ["Kelp Courier.iso", "Kelp Courier.zip", "Kelp Courier.ird", "DCNT-10001.dkey"] {
        let read = |which: &str| fs::read(folder.path().join(which).join(name)).unwrap();
        assert!(read("a") == read("b"), "{name}");
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
