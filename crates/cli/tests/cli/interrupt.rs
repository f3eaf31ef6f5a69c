//! Stopped or killed in the middle: nothing stands under the final name.

use crate::support::{command, folder, told};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::{Output, pour};
use decanter_core::{Door, Guard};
use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::Duration;

/// Begins to decrypt a very large, sparse image, and comes back once its temporary file is there.
fn begin(folder: &Path) -> Child {
    let kelp = decanter_demo::Kelp::new(200 << 30, false).unwrap();
    pour(
        Output::new(&Blueprint::of(kelp.disc.encrypted.clone()), &folder.join("big.iso")),
        Door { guard: &Guard::default(), replace: false },
        &(),
    )
    .unwrap();
    let hex: String = kelp.disc.key.bytes().iter().map(|b| format!("{b:02x}")).collect();
    fs::write(folder.join("big.key"), hex).unwrap();
    let child = command(folder)
        .args(["decrypt", "big.iso", "-o", "out.iso"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    for _ in 0..500 {
        if parts(folder) == 0 {
            sleep(Duration::from_millis(10));
        }
    }
    child
}

fn parts(folder: &Path) -> usize {
    let names = fs::read_dir(folder).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap());
    names.filter(|n| n.ends_with(".part")).count()
}

#[test]
fn ctrl_c_leaves_nothing_and_says_so() {
    let folder = folder();
    let child = begin(folder.path());
    assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    let run = told(child.wait_with_output().unwrap());
    run.expect(130).says("stopped");
    assert!(!folder.path().join("out.iso").exists());
    assert_eq!(parts(folder.path()), 0);
}

#[test]
fn a_kill_leaves_nothing_under_the_final_name() {
    let folder = folder();
    let mut child = begin(folder.path());
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(!folder.path().join("out.iso").exists());
}
