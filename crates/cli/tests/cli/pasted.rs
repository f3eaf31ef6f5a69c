//! Commands that are printed work when they are pasted.

use crate::support::{command, demo, folder, run, told, tour};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::Command;

/// All files below a folder.
fn files(root: &Path) -> Vec<PathBuf> {
    let (mut found, mut todo) = (Vec::new(), vec![root.to_owned()]);
    while let Some(folder) = todo.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() { todo.push(path) } else { found.push(path) }
        }
    }
    found.sort();
    found
}

/// The commands in what was printed: at the end of a line, or between quotes in it.
fn commands(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    for line in text.lines() {
        let line = line.trim_start();
        let Some(label) = ["becomes", "next"].iter().find(|label| line.starts_with(**label)) else { continue };
        if let Some(at) = line[label.len()..].find(" decanter ") {
            let told = &line[label.len() + at + 1..];
            // Of several the first: "decanter decrypt X, or decanter extract X".
            let told = told.split(", or ").next().unwrap_or(told);
            // Words in capitals stand for what only the user has.
            if [" SOURCE", " DAT", " FILE", " HEX", " BASE"].iter().all(|word| !told.contains(word)) {
                found.push(told.to_owned());
            }
        }
    }
    found
}

#[test]
fn what_identify_and_verify_suggest_works_in_a_shell() {
    let home = demo().image.parent().unwrap();
    let (mut tried, mut failed) = (BTreeSet::new(), Vec::new());
    for file in files(home) {
        let name = file.strip_prefix(home).unwrap().display().to_string();
        // Copies that are damaged or cut short on purpose are refused by what needs all of it.
        let is_bad = ["damaged", "cut short", "scratched", "bad", "Storage Unit 9"].iter().any(|w| name.contains(w));
        for verb in ["identify", "verify"] {
            let shown = run(home, &[verb, &format!("./{name}")]);
            for line in commands(&shown.out) {
                if !tried.insert(line.clone()) {
                    continue;
                }
                let place = folder();
                let program = command(place.path()).get_program().to_owned();
                // Results go elsewhere: the demo stays as it is.
                let typed =
                    line.replacen("decanter", "\"$DECANTER\"", 1).replace("./", &format!("{}/", home.display()));
                let writes =
                    ["convert ", "extract ", "decrypt "].iter().any(|w| line.contains(&format!("decanter {w}")));
                let typed = if writes && !line.contains(" -o ") { format!("{typed} -o ./new/") } else { typed };
                let mut shell = Command::new("sh");
                shell.args(["-c", &typed]).current_dir(place.path()).env("DECANTER", program).env("HOME", place.path());
                let run = told(shell.output().unwrap());
                if run.code != 0 && !(is_bad && matches!(run.code, 1 | 3)) {
                    failed.push(format!("{line}\n  {} {}{}", run.code, run.out, run.err));
                }
            }
        }
    }
    assert!(tried.len() > 40, "{tried:#?}");
    assert!(failed.is_empty(), "{} of {} fail:\n{}", failed.len(), tried.len(), failed.join("\n"));
}

#[test]
fn the_tour_shows_commands_as_they_are_typed() {
    let (_, shown) = tour();
    assert_eq!(shown.code, 0, "{shown:?}");
    let lines: Vec<&str> = shown.out.lines().filter(|l| l.starts_with("$ ")).collect();
    assert!(lines.len() > 5 && lines.iter().all(|l| !l.contains("./-")), "{lines:#?}");
}
