//! The collection, as a user keeps it: scans, sets, checks, order, receipts, bags, reports.

#[path = "../../../../cellar/tests/common/server.rs"]
mod postgres;

mod bags;
mod checks;
mod jobs;
mod order;
mod repacks;
mod report;
mod scans;
mod server;
mod sets;
mod workers;

use crate::support::{Run, folder, run};
use decanter_core::Algorithm;
use decanter_core::digest::of_bytes;
use serde_json::Value;
use std::cell::Cell;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use tempfile::TempDir;
use zip::write::{SimpleFileOptions, ZipWriter};

/// A collection in a folder of its own, and its cellar beside it.
pub struct Collection {
    folder: TempDir,
    cellar: String,
}

thread_local! {
    /// Whether the cellars of this test are at a server.
    static AT_SERVER: Cell<bool> = const { Cell::new(false) };
}

impl Collection {
    /// An empty one.
    pub fn new() -> Self {
        let folder = folder();
        fs::create_dir(folder.path().join("shelf")).unwrap();
        let cellar = match AT_SERVER.get() {
            true => postgres::database().unwrap(),
            false => "cellar".to_owned(),
        };
        run(folder.path(), &["cellar", "new", &cellar]).expect(0);
        Self { folder, cellar }
    }

    /// What its cellar is called with --cellar.
    pub fn cellar(&self) -> &str {
        &self.cellar
    }

    /// One of these files, scanned.
    pub fn of(files: &[(&str, &[u8])]) -> Self {
        let own = Self::new();
        files.iter().for_each(|(name, bytes)| own.put(name, bytes));
        own.scan().expect(0);
        own
    }

    pub fn at(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The whole path of a file on the shelf, as the program tells it.
    pub fn whole(&self, name: &str) -> String {
        let shelf = fs::canonicalize(self.at("shelf")).unwrap();
        shelf.join(name).to_str().unwrap().to_owned()
    }

    pub fn root(&self) -> &Path {
        self.folder.path()
    }

    pub fn put(&self, name: &str, bytes: &[u8]) {
        let path = self.at("shelf").join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    /// A line about the cellar.
    pub fn run(&self, words: &[&str]) -> Run {
        let own = ["cellar", words[0], "--cellar", &self.cellar];
        run(self.root(), &own.into_iter().chain(words[1..].iter().copied()).collect::<Vec<_>>())
    }

    pub fn json(&self, words: &[&str]) -> Value {
        self.run(&words.iter().copied().chain(["--json"]).collect::<Vec<_>>()).json()
    }

    pub fn scan(&self) -> Run {
        self.run(&["scan", "shelf", "--json"])
    }

    /// A column of a list.
    pub fn column(&self, list: &str, name: &str) -> Vec<String> {
        let report = self.json(&["status", list]);
        let text = |row: &Value| row[name].as_str().map(str::to_owned).unwrap_or_default();
        report["rows"].as_array().unwrap().iter().map(text).collect()
    }

    /// Changes a byte of a file, and keeps its time.
    pub fn rot(&self, name: &str) {
        let path = self.at("shelf").join(name);
        let time = fs::metadata(&path).unwrap().modified().unwrap();
        let mut bytes = fs::read(&path).unwrap();
        bytes[0] ^= 1;
        fs::write(&path, bytes).unwrap();
        fs::File::options().append(true).open(&path).unwrap().set_modified(time).unwrap();
    }
}

/// A zip archive of these files, stored.
pub fn packed(entries: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let options = SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, bytes) in entries {
        writer.start_file(*name, options).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// An entry of a DAT file.
pub fn entry(name: &str, bytes: &[u8]) -> String {
    let [crc, sha1] = [Algorithm::Crc32, Algorithm::Sha1].map(|a| of_bytes(a, bytes).hex());
    format!("<rom name=\"{name}\" size=\"{}\" crc=\"{crc}\" sha1=\"{sha1}\"/>", bytes.len())
}

/// A DAT file of games, each with its entries.
pub fn dat(name: &str, version: &str, games: &[(&str, Vec<String>)]) -> String {
    let game = |(name, entries): &(&str, Vec<String>)| format!("<game name=\"{name}\">{}</game>\n", entries.concat());
    format!(
        "<?xml version=\"1.0\"?>\n<datafile>\n<header><name>{name}</name><version>{version}</version></header>\n{}</datafile>\n",
        games.iter().map(game).collect::<String>()
    )
}
