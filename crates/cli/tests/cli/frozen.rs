//! What the program says and writes today, kept as it is: the whole tour as text and as JSON, the bytes of everything that the
//! demo collection becomes, errors, help. A change in here is meant, or a mistake: `cargo insta review` shows which.

use crate::support::{Run, command, folder, run, told, tour};
use serde_json::Value;
use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::process::Command;

/// The same without what differs from run to run, and from one file system to the next: which zeros are holes.
fn steady(text: &str) -> String {
    let line = |line: &str| {
        let begins = line.trim_start();
        if begins.starts_with("took ") {
            return "  took         -".to_owned();
        }
        if let Some(name) = ["\"hole_bytes\": ", "\"kernel_bytes\": ", "\"free_bytes\": "]
            .into_iter()
            .find(|name| begins.starts_with(name))
        {
            let end = if line.ends_with(',') { "," } else { "" };
            return format!("{}{name}-{end}", &line[..line.len() - begins.len()]);
        }
        // What the disk under this very run is, and how that is known.
        if let Some(name) = ["\"file_system\": ", "\"known_by\": \"its mount", "\"known_by\": \"nothing tells"]
            .into_iter()
            .find(|name| begins.starts_with(name) && !begins.contains("FAT32"))
        {
            let key = name.split_inclusive(": ").next().unwrap_or(name);
            return format!("{}{key}-,", &line[..line.len() - begins.len()]);
        }
        if let Some(name) = ["\"scanned\": ", "\"modified\": "].into_iter().find(|name| begins.starts_with(name)) {
            return format!("{}{name}-", &line[..line.len() - begins.len()]);
        }
        // How long reading took is another thing every time.
        let line = match line.trim_start().starts_with("read  ") {
            true => line.rsplit_once(" in ").map_or(line, |(told, _)| told),
            false => line,
        };
        let holes = line.strip_suffix(" of it holes").and_then(|told| told.rsplit_once(", "));
        placeless(holes.map_or(line, |(told, _)| told).trim_end())
    };
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// A line without the folder of this very run; columns that are as wide as that are narrower.
fn placeless(line: &str) -> String {
    let folder = format!("{}/.tmp", std::env::temp_dir().display());
    let mut plain = line.to_owned();
    while let Some(at) = plain.find(&folder) {
        let end = plain[at + folder.len()..].find('/').map_or(plain.len(), |end| at + folder.len() + end);
        plain.replace_range(at..end, "HERE");
    }
    match plain != line || line.starts_with("PATH ") {
        true => {
            let begins = plain.len() - plain.trim_start().len();
            let cells: Vec<&str> = plain.split("  ").map(str::trim).filter(|cell| !cell.is_empty()).collect();
            format!("{}{}", &plain[..begins], cells.join("  "))
        }
        false => plain,
    }
}

/// A run as a snapshot shows it.
fn shown(words: &str, run: &Run) -> String {
    let mut text = format!("$ decanter {words}\nexit code {}\n", run.code);
    for (name, said) in [("output", &run.out), ("errors", &run.err)] {
        if !said.is_empty() {
            writeln!(text, "--- {name}\n{}", steady(said)).unwrap();
        }
    }
    text
}

/// Runs a line as a shell does, with `more` behind it.
fn typed(folder: &Path, line: &str, more: &str) -> Run {
    let own = command(folder);
    let line = line.replacen("decanter", &format!("'{}'", own.get_program().display()), 1);
    let mut shell = Command::new("sh");
    shell.args(["-c", &format!("{line} {more}")]).current_dir(folder).env_clear().env("HOME", folder);
    told(shell.output().unwrap())
}

#[test]
fn the_tour_says_what_it_said() {
    let ((_, tour), json) = (tour(), folder());
    assert_eq!(tour.code, 0, "{tour:?}");
    insta::assert_snapshot!("tour", steady(&tour.out));
    insta::assert_snapshot!("tour_notices", steady(&tour.err));
    run(json.path(), &["demo", "shelf", "--size", "6MiB", "--no-tour"]).expect(0);
    for (number, line) in tour.out.lines().filter_map(|l| l.strip_prefix("$ ")).enumerate() {
        let made = typed(json.path(), line, "--json");
        let verb = line.split(' ').nth(1).unwrap_or_default();
        insta::assert_snapshot!(
            format!("tour_{number:02}_{verb}"),
            shown(line.strip_prefix("decanter ").unwrap(), &made)
        );
    }
}

#[test]
fn whatever_the_demo_becomes_has_the_same_bytes() {
    let folder = folder();
    run(folder.path(), &["demo", "shelf", "--size", "6MiB", "--no-tour"]).expect(0);
    let mut names: Vec<String> =
        crate::support::tree(&folder.path().join("shelf")).into_iter().map(|(n, _)| n).collect();
    names.extend(["drawer", "machines/fixes", "handheld", "console/Fogbell Rescue"].map(str::to_owned));
    let mut table = String::new();
    for name in names {
        let identity = run(folder.path(), &["identify", &format!("shelf/{name}"), "--json"]);
        let Ok(identity) = serde_json::from_str::<Value>(&identity.out) else { continue };
        for becomes in
            identity["sources"].as_array().into_iter().flatten().filter_map(|s| s["becomes"].as_array()).flatten()
        {
            let line = becomes["command"].as_str().unwrap();
            if !line.contains(" convert ") {
                continue;
            }
            let made = typed(folder.path(), line, "-o made/ -a sha256 --json");
            let answer = made.json();
            write!(table, "{}: {}", made.code, line.strip_prefix("decanter convert ").unwrap()).unwrap();
            match answer["why"].as_str() {
                Some(why) => writeln!(table, "\n    {} | {why}", answer["what"].as_str().unwrap_or_default()).unwrap(),
                None => writeln!(table, "\n    keeps {}", answer["preserved"].as_str().unwrap_or_default()).unwrap(),
            }
            for file in answer["files"].as_array().into_iter().flatten() {
                let path = file["path"].as_str().unwrap();
                let crc = crc32fast::hash(&fs::read(folder.path().join(path)).unwrap());
                writeln!(table, "    {path} {} {crc:08x}", file["bytes"]).unwrap();
            }
            // Names may be the same for several.
            if folder.path().join("made").exists() {
                fs::remove_dir_all(folder.path().join("made")).unwrap();
            }
        }
    }
    insta::assert_snapshot!("becomes", table);
}

/// What goes wrong, in every way that a user meets.
const ERRORS: [&str; 49] = [
    "identify missing.iso",
    "identify note.txt",
    "identify empty.bin",
    "identify short.z64",
    "list note.txt",
    "list missing.iso",
    "list box.zip::nothing",
    "list \"shelf/Lamplighter Lane.iso::NO/SUCH.FILE\"",
    "verify missing.iso",
    "verify nothing",
    "verify \"shelf/Lamplighter Lane.iso\" --against note.txt",
    "verify \"shelf/Lamplighter Lane.iso\" --against missing.dat",
    "verify \"shelf/Lamplighter Lane.iso\" --against shelf/Kelp\\ Courier.ird",
    "digest missing.iso",
    "digest nothing",
    "digest note.txt -a sha512",
    "keys missing.iso",
    "extract note.txt",
    "extract \"shelf/Lamplighter Lane.iso\" --only '*.none'",
    "extract \"shelf/Lamplighter Lane.iso\" -o note.txt",
    "decrypt \"shelf/Lamplighter Lane.iso\"",
    "decrypt alone/kelp.iso",
    "decrypt alone/kelp.iso --key 00",
    "decrypt alone/kelp.iso --key 00000000000000000000000000000001",
    "decrypt shelf/Kelp\\ Courier.iso -o shelf/Kelp\\ Courier.iso --replace",
    "convert missing.iso --to iso",
    "convert note.txt --to iso",
    "convert \"shelf/Lamplighter Lane.iso\"",
    "convert \"shelf/Lamplighter Lane.iso\" --to d64",
    "convert \"shelf/Lamplighter Lane.iso\" --to nothing",
    "convert \"shelf/Lamplighter Lane.iso\" --to cso --label x",
    "convert \"shelf/Lamplighter Lane.iso\" --to cso -o note.txt",
    "convert \"shelf/Lamplighter Lane.iso\" --to cso -o note.txt/lane.cso",
    "convert \"shelf/Lamplighter Lane.iso\" note.txt --to cso",
    "convert \"shelf/Lamplighter Lane.iso\" --to zst --level 99",
    "convert \"shelf/Lamplighter Lane.iso\" --to chd --codecs nothing",
    "convert \"shelf/machines/Storage Unit 9.d64\" --to d81",
    "convert shelf/drawer/Fogbell.gb --pad 1",
    "convert shelf/machines/fixes --to adf --fs nothing",
    "patch show note.txt",
    "patch apply note.txt shelf/drawer/Fogbell.bps",
    "patch make missing.gb shelf/drawer/Fogbell.gb",
    "save show missing.sav",
    "save import missing.sav -o out.sav",
    "save export shelf/drawer/Fogbell.sav --rom shelf/drawer/Fogbell.gb --part nothing -o out.sav",
    "recipe show note.txt",
    "recipe make missing.toml",
    "dump sim:missing.toml -o out.iso",
    "label note.txt",
];

#[test]
fn errors_read_as_they_did() {
    let folder = folder();
    let root = folder.path();
    run(root, &["demo", "shelf", "--size", "6MiB", "--no-tour"]).expect(0);
    fs::write(root.join("note.txt"), "the tide is out").unwrap();
    fs::write(root.join("empty.bin"), "").unwrap();
    fs::write(root.join("short.z64"), [0x80, 0x37, 0x12, 0x40]).unwrap();
    fs::create_dir(root.join("nothing")).unwrap();
    fs::create_dir(root.join("alone")).unwrap();
    fs::copy(root.join("shelf/Kelp Courier.iso"), root.join("alone/kelp.iso")).unwrap();
    let mut told = String::new();
    for words in ERRORS {
        let made = typed(root, &format!("decanter {words}"), "");
        assert_ne!(made.code, 0, "{words}: {made:?}");
        told.push_str(&shown(words, &made));
        told.push('\n');
    }
    insta::assert_snapshot!("errors", told.replace(root.to_str().unwrap(), "HOME"));
}

#[test]
fn help_reads_as_it_did() {
    let folder = folder();
    let top = run(folder.path(), &["--help"]).expect(0);
    let verb = |line: &str| line.strip_prefix("  ")?.split(' ').next().filter(|w| !w.is_empty()).map(str::to_owned);
    let commands = top.out.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.is_empty());
    let mut told = shown("--help", &top);
    for command in commands.filter_map(verb).filter(|v| v != "help") {
        let help = run(folder.path(), &[&command, "--help"]).expect(0);
        told.push_str(&shown(&format!("{command} --help"), &help));
    }
    told.push_str(&shown("formats", &run(folder.path(), &["formats"]).expect(0)));
    insta::assert_snapshot!("help", told);
}
