//! What all tests share: one small demo collection, and a way to run the program.

use decanter_demo::{Collection, Wish, make};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::OnceLock;
use tempfile::TempDir;

/// The demo collection, 6 MiB large. Tests must not write into it.
pub fn demo() -> &'static Collection {
    static DEMO: OnceLock<(TempDir, Collection)> = OnceLock::new();
    let (_, collection) = DEMO.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let made = make(folder.path(), Wish { size: 6 << 20, dense: false, replace: false }, &()).unwrap();
        (folder, made)
    });
    collection
}

/// What a run came to.
#[derive(Debug)]
pub struct Run {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Run {
    /// The JSON object on standard output.
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e}: {self:?}"))
    }

    #[track_caller]
    pub fn expect(self, code: i32) -> Self {
        assert_eq!(self.code, code, "{self:?}");
        self
    }

    #[track_caller]
    pub fn says(self, words: &str) -> Self {
        assert!(self.out.contains(words) || self.err.contains(words), "\"{words}\" is missing: {self:?}");
        self
    }
}

/// A command that sees no configuration and no keys but those it is told of.
pub fn command(folder: &Path) -> Command {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("decanter"));
    command.current_dir(folder).env_clear().env("HOME", folder).env("XDG_CONFIG_HOME", folder.join("no config"));
    command
}

pub fn run(folder: &Path, words: &[&str]) -> Run {
    told(command(folder).args(words).output().unwrap())
}

pub fn told(output: Output) -> Run {
    let text = |bytes| String::from_utf8(bytes).unwrap();
    Run { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
}

/// The whole tour, made once for all tests that read what it says: the folder that it made `shelf` in, and what it said.
pub fn tour() -> &'static (TempDir, Run) {
    static TOUR: OnceLock<(TempDir, Run)> = OnceLock::new();
    TOUR.get_or_init(|| {
        let folder = folder();
        let run = run(folder.path(), &["demo", "shelf", "--size", "6MiB"]);
        (folder, run)
    })
}

pub fn folder() -> TempDir {
    tempfile::tempdir().unwrap()
}

pub fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// All files below a folder with their bytes, by relative path.
pub fn tree(root: &Path) -> Vec<(String, Vec<u8>)> {
    let mut found = Vec::new();
    let mut todo = vec![root.to_owned()];
    while let Some(folder) = todo.pop() {
        for entry in std::fs::read_dir(&folder).unwrap() {
            let path: PathBuf = entry.unwrap().path();
            if path.is_symlink() {
                continue;
            } else if path.is_dir() {
                todo.push(path);
            } else {
                let name = path.strip_prefix(root).unwrap().to_str().unwrap().to_owned();
                found.push((name, std::fs::read(&path).unwrap()));
            }
        }
    }
    found.sort();
    found
}

/// A copy of the demo's image in a folder of its own, without any key.
pub fn lonely_image() -> (TempDir, PathBuf) {
    let folder = folder();
    let path = folder.path().join("Kelp Courier.iso");
    std::fs::copy(&demo().image, &path).unwrap();
    (folder, path)
}

pub fn key_hex() -> String {
    std::fs::read_to_string(&demo().key).unwrap().trim().to_owned()
}

/// Runs a tool for file systems; `None`, told loudly, where there is none.
pub fn tool(name: &str, words: &[&str], folder: &Path) -> Option<String> {
    let place = ["/usr/sbin", "/sbin", "/usr/bin"].map(|p| Path::new(p).join(name)).into_iter().find(|p| p.exists());
    let Some(place) = place else {
        eprintln!("skipped: there is no {name} here to make a volume with");
        return None;
    };
    let output = Command::new(place).args(words).current_dir(folder).output().unwrap();
    assert!(output.status.success(), "{name}: {output:?}");
    Some(String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

/// Bytes that look random, and are the same every time.
pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut x = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut next = || {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        x
    };
    (0..len.div_ceil(8)).flat_map(|_| next().to_le_bytes()).take(len).collect()
}

/// Makes a symbolic link to a file.
pub fn link(to: &str, at: &Path) {
    #[cfg(unix)]
    std::os::unix::fs::symlink(to, at).unwrap();
    #[cfg(windows)]
    std::os::windows::fs::symlink_file(to, at).unwrap();
}
