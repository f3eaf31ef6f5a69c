//! Work that is shared: several workers at the same queue, one of them killed in the middle.

use super::{AT_SERVER, Collection, postgres};
use crate::support::{Run, command, run, told};
use std::fs;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

/// Does a test with an embedded catalogue, and with one at a server where there is one.
fn everywhere(test: fn()) {
    test();
    if postgres::database().is_some() {
        AT_SERVER.set(true);
        test();
    }
}

fn worker(own: &Collection, more: &[&str]) -> Child {
    let words = [&["cellar", "work", own.cellar(), "--until-idle", "--json"], more].concat();
    command(own.root()).args(words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn end(child: Child) -> Run {
    told(child.wait_with_output().unwrap())
}

fn many(own: &Collection, count: usize, len: usize) {
    for number in 0..count {
        own.put(&format!("{}/{number}.rom", number % 40), format!("dump {number} {}", "x".repeat(len)).as_bytes());
    }
}

#[test]
fn workers_share_a_scan_and_find_what_a_scan_finds() {
    everywhere(|| {
        let own = Collection::new();
        many(&own, 1200, 2000);
        own.put("set.dat", super::dat("Tide", "1", &[("x", vec![super::entry("a.rom", b"tide")])]).as_bytes());
        own.run(&["match", "--dat", "shelf/set.dat"]).expect(0);
        own.put("deep/er/a.rom", b"tide");
        let enqueued = own.run(&["scan", "--enqueue", "shelf"]).expect(0).says("decanter cellar work");
        assert!(enqueued.out.contains("enqueued"));
        own.run(&["scan", "--enqueue", "shelf"]).expect(0).says("in the queue already");
        let workers = [worker(&own, &[]), worker(&own, &[]), worker(&own, &[])];
        let reports = workers.map(|child| end(child).expect(0).json());
        let sum = |name: &str| reports.iter().map(|report| report[name].as_u64().unwrap()).sum::<u64>();
        assert_eq!((sum("new"), sum("files"), sum("lost")), (1202, 1202, 0), "each file once: {reports:?}");
        let status = own.json(&["status"]);
        assert_eq!(status["counts"]["files"], 1202);
        assert_eq!(status["sets"][0]["complete"], 1, "what is new is held against the sets: {status}");
        assert_eq!(own.scan().expect(0).json()["unchanged"], 1202, "a scan has nothing to add");
        // What has changed, moved and gone.
        own.put("0/0.rom", b"other bytes");
        fs::rename(own.at("shelf/1/1.rom"), own.at("shelf/deep/one.rom")).unwrap();
        fs::remove_dir_all(own.at("shelf/2")).unwrap();
        fs::remove_file(own.at("shelf/3/3.rom")).unwrap();
        own.run(&["scan", "--enqueue"]).expect(0);
        let report = end(worker(&own, &[])).expect(0).json();
        assert_eq!((&report["changed"], &report["moved"]), (&1.into(), &1.into()), "{report}");
        let files = own.json(&["status"])["counts"]["files"].as_u64().unwrap();
        assert_eq!(files, 1202 - 30 - 1);
        let after = own.scan().expect(0).json();
        assert_eq!((&after["unchanged"], &after["gone"]), (&files.into(), &0.into()), "{after}");
        assert_eq!(end(worker(&own, &[])).expect(0).json()["pieces"], 0);
    });
}

#[test]
fn a_worker_that_is_killed_loses_nothing() {
    everywhere(|| {
        let own = Collection::new();
        many(&own, 4000, 20_000);
        own.run(&["scan", "--enqueue", "shelf"]).expect(0);
        let (mut doomed, other) = (worker(&own, &["--lease", "2s"]), worker(&own, &["--lease", "2s"]));
        let began = Instant::now();
        // In the middle: something is in the catalogue, and not everything.
        while own.json(&["status"])["counts"]["files"].as_u64().unwrap() < 400 {
            assert!(began.elapsed() < Duration::from_secs(60));
        }
        doomed.kill().unwrap();
        doomed.wait().unwrap();
        let report = end(other).expect(0).json();
        let counts = own.json(&["status"])["counts"].clone();
        assert_eq!(counts["files"], 4000, "{report}");
        let again = own.scan().expect(0).json();
        assert_eq!((&again["unchanged"], &again["new"]), (&4000.into(), &0.into()), "{again}");
    });
}

#[test]
fn a_worker_that_is_stopped_gives_back_what_it_has() {
    everywhere(|| {
        let own = Collection::new();
        many(&own, 3000, 20_000);
        own.run(&["scan", "--enqueue", "shelf"]).expect(0);
        let mut child = worker(&own, &["--lease", "600s"]);
        while own.json(&["status"])["counts"]["files"].as_u64().unwrap() == 0 {}
        assert!(std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
        let code = child.wait().unwrap().code();
        assert!(matches!(code, Some(130 | 0)), "{code:?}");
        // Nobody waits ten minutes for it.
        let began = Instant::now();
        end(worker(&own, &[])).expect(0);
        assert!(began.elapsed() < Duration::from_secs(120));
        assert_eq!(own.json(&["status"])["counts"]["files"], 3000);
    });
}

#[test]
fn checks_are_shared_too() {
    everywhere(|| {
        let own = Collection::of(&[("a.rom", b"kelp"), ("b.rom", b"kelp"), ("c.rom", b"fogbell"), ("d.rom", b"moth")]);
        own.rot("a.rom");
        own.put("c.rom", b"edited, and longer");
        own.run(&["check", "--enqueue"]).expect(0).says("4 files");
        let report = end(worker(&own, &[])).expect(1).json();
        assert_eq!(report["checked"], 4, "{report}");
        let found = |at: usize, name: &str| report["mismatches"][at][name].as_str().unwrap().to_owned();
        assert_eq!((found(0, "path"), found(0, "damage")), (own.whole("a.rom"), "rot".into()));
        assert_eq!(found(0, "good_copy"), own.whole("b.rom"));
        assert_eq!((found(1, "path"), found(1, "damage")), (own.whole("c.rom"), "edited".into()));
        assert_eq!(own.column("--damaged", "damage"), ["rot", "edited"]);
    });
}

#[test]
fn a_place_that_is_not_here_waits_for_who_has_it() {
    everywhere(|| {
        let own = Collection::of(&[("a.rom", b"kelp")]);
        own.run(&["scan", "--enqueue", "shelf"]).expect(0);
        fs::rename(own.at("shelf"), own.at("away")).unwrap();
        let report = end(worker(&own, &[])).expect(1).json();
        assert_eq!(report["not_here"].as_array().unwrap().len(), 1, "{report}");
        own.run(&["scan", "--enqueue"]).expect(1).says("not mounted");
        assert_eq!(own.json(&["status"])["counts"]["files"], 1);
        fs::rename(own.at("away"), own.at("shelf")).unwrap();
        end(worker(&own, &[])).expect(0);
    });
}

#[test]
fn what_is_typed_wrong_is_told() {
    let own = Collection::new();
    run(own.root(), &["cellar", "work", own.cellar(), "--lease", "0s"]).expect(2).says("at least 1s");
    run(own.root(), &["cellar", "work", "nowhere", "--until-idle"]).expect(5).says("decanter cellar new nowhere");
    run(own.root(), &["cellar", "work", "gopher://x"]).expect(2).says("is no place for a cellar");
    run(own.root(), &["cellar", "work", own.cellar(), "--until-idle"]).expect(0).says("0 pieces");
}
