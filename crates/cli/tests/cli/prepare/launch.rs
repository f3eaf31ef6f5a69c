//! Start entries that are carried elsewhere with what they start, and programs that a chord on a joystick ends.

use super::{Bench, takes};
use crate::support::command;
use std::fs;
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// A program that writes down what it was given, and where it ran.
const NOTE: &str = "printf '%s\\n%s\\n' \"$(pwd)\" \"$1\" > \"${1%/*}/ran\"";

#[test]
fn a_card_that_was_carried_elsewhere_still_starts() {
    let own = Bench::with_drawer();
    let commands = format!(
        "[start]\nfolder = \"start\"\n[start.commands]\ngb = [\"sh\", \"-c\", {NOTE:?}, \"sh\", \"{{file}}\"]\n"
    );
    own.plan(&takes("gb", "\"same\"", &commands)).expect(0);
    own.follow().expect(0).says("start entries");
    own.run(&["deliver", "--check", "card"]).expect(0);
    fs::create_dir(own.at("else where")).unwrap();
    fs::rename(own.at("card"), own.at("else where/it's a card")).unwrap();
    let script = own.at("else where/it's a card/start/Fogbell (gb).sh");
    assert!(Command::new(&script).status().unwrap().success());
    let ran = String::from_utf8(own.read("else where/it's a card/games/ran")).unwrap();
    assert!(ran.ends_with("it's a card/start/../games/Fogbell.gb\n"), "{ran}");
    // The entry finds the script from where it stands itself.
    fs::remove_file(own.at("else where/it's a card/games/ran")).unwrap();
    let entry = own.at("else where/it's a card/start/Fogbell (gb).desktop");
    let text = fs::read_to_string(&entry).unwrap();
    let exec = text.lines().find_map(|l| l.strip_prefix("Exec=")).unwrap();
    assert!(text.contains("Name=FOGBELL\n") && exec.ends_with(" sh %k"), "{text}");
    // As a front end takes it apart: the value's backslashes, then those of the quoted word.
    let word = exec.replace("\\\\", "\\").trim_start_matches("sh -c \"").trim_end_matches("\" sh %k").replace("\\", "");
    assert!(Command::new("sh").args(["-c", &word, "sh"]).arg(&entry).status().unwrap().success());
    assert!(own.at("else where/it's a card/games/ran").exists());
}

#[test]
fn a_folder_gets_an_entry_for_all_in_it_with_titles_and_pictures() {
    let own = Bench::with_drawer();
    let told = own.run(&["launcher", "shelf", "-o", "start", "--command", "player"]).expect(0);
    told.says("start/Lantern Post.desktop");
    let entry = String::from_utf8(own.read("start/Lantern Post.desktop")).unwrap();
    assert!(entry.contains("Icon=") && own.read("start/Lantern Post.png").starts_with(b"\x89PNG"), "{entry}");
    let script = String::from_utf8(own.read("start/Fogbell.sh")).unwrap();
    assert!(script.contains("'player' \"$here\"/'../shelf/Fogbell.gb'"), "{script}");
    let told = own.run(&["launcher", "shelf/Fogbell.gb", "-o", "one", "--command", "player", "--absolute"]).expect(0);
    told.says(".local/share/applications");
    assert!(!String::from_utf8(own.read("one.sh")).unwrap().contains("$here"));
}

#[test]
fn what_was_started_is_ended_in_order_when_it_ends_itself() {
    let own = Bench::new();
    own.put(
        "game.toml",
        b"start = 1\ntitle = \"Game\"\ncommand = [\"sh\", \"-c\", \"echo main >> log; exit 3\"]\n\
        before = [[\"sh\", \"-c\", \"echo before >> log\"]]\nafter = [[\"sh\", \"-c\", \"echo after >> log\"]]\n\
        beside = [[\"sh\", \"-c\", \"trap 'echo beside ended >> log; exit' TERM; while :; do sleep 0.05; done\"]]\n",
    );
    own.run(&["launch", "game.toml"]).expect(1).says("by itself, with code 3");
    let log = String::from_utf8(own.read("log")).unwrap();
    assert!(log.starts_with("before\n") && log.ends_with("after\n") && log.contains("main\n"), "{log}");
    assert!(own.run(&["launch", "game.toml", "--dry-run"]).expect(0).out.contains("would start"));
}

#[cfg(unix)]
#[test]
fn a_chord_ends_the_program() {
    let own = Bench::new();
    own.put("Fogbell.gb", &fs::read(crate::support::demo().drawer.folder.join("Fogbell.gb")).unwrap());
    let words = ["launcher", "Fogbell.gb", "-o", "fog", "--quit", "6+7", "--command", "sleep", "--command", "1000"];
    own.run(&words).expect(0).says("fog.toml");
    let text = String::from_utf8(own.read("fog.toml")).unwrap().replace(", \"{file}\"", "");
    own.put("fog.toml", text.as_bytes());
    assert!(Command::new("mkfifo").arg(own.at("pad")).status().unwrap().success());
    let mut child =
        command(own.0.path()).args(["launch", "fog.toml", "--joystick", "pad"]).stdout(Stdio::piped()).spawn().unwrap();
    // Time, value, type and number of each event: button 6 down, an axis, button 7 down.
    let mut pad = fs::OpenOptions::new().write(true).open(own.at("pad")).unwrap();
    pad.write_all(&[0, 0, 0, 0, 1, 0, 1, 6, 9, 0, 0, 0, 0x10, 0x7f, 2, 0]).unwrap();
    std::thread::sleep(Duration::from_millis(300));
    assert!(child.try_wait().unwrap().is_none(), "one button is no chord");
    pad.write_all(&[12, 0, 0, 0, 1, 0, 1, 7]).unwrap();
    let begun = Instant::now();
    let status = child.wait().unwrap();
    assert!(status.success() && begun.elapsed() < Duration::from_secs(4), "{status:?}");
}

#[test]
fn what_cannot_be_started_is_told() {
    let own = Bench::new();
    own.put("shelf/Fogbell.gb", &fs::read(crate::support::demo().drawer.folder.join("Fogbell.gb")).unwrap());
    let quit =
        |chord: &str| own.run(&["launcher", "shelf/Fogbell.gb", "-o", "x", "--command", "player", "--quit", chord]);
    quit("start").expect(2).says("is one button");
    quit("slect+start").expect(2).says("did you mean select?");
    own.put("one.toml", b"start = 1\ncommand = [\"no such program\"]\n");
    own.run(&["launch", "one.toml"]).expect(5).says("no such program");
    own.put("two.toml", b"start = 1\ncomand = [\"x\"]\n");
    own.run(&["launch", "two.toml"])
        .expect(2)
        .says("line 2: there is no field \"comand\" here; the nearest one is \"command\"");
    own.put("three.toml", b"start = 1\ncommand = [\"true\"]\nquit = \"6+7\"\n");
    own.run(&["launch", "three.toml", "--joystick", "nowhere"])
        .expect(2)
        .says("the joystick \"nowhere\" cannot be opened");
    own.put("four.toml", b"start = 1\ncommand = [\"true\"]\nbefore = [[\"false\"]]\n");
    own.run(&["launch", "four.toml"]).expect(2).says("what runs before it failed: false");
}
