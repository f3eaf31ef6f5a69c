//! Files that become an archive, and archives that become files. What is made is read back and held against the digests of the
//! catalogue before anything of the old is put aside.

use super::step::Step;
use crate::{Setting, locate};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, hex, of_source};
use decanter_core::pour::{self, Draft, Output};
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::tree::Tree;
use decanter_core::{Door, Error, Guard, Result, native};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use zip::CompressionMethod;
use zip::write::{SimpleFileOptions, ZipWriter};

/// Bytes that go into an archive at a time.
const BLOCK: u64 = 1 << 20;
/// Entries from this length on need the long form.
const LONG: u64 = u32::MAX as u64;

/// What belongs together: files that are made, and those that go aside once all of them are there.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Group {
    /// What is made.
    pub(super) builds: Vec<Build>,
    /// What goes aside then: from, to.
    pub(super) aside: Vec<(String, String)>,
}

/// A file that is made.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Build {
    /// Its path.
    pub(super) target: String,
    /// Whether it is an archive of its parts, or its only part.
    pub(super) is_archive: bool,
    /// What it is made of.
    pub(super) parts: Vec<Part>,
}

/// What a file is made of.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Part {
    /// Where the bytes are.
    pub(super) address: String,
    /// Its name in an archive.
    pub(super) name: String,
    /// Its SHA-1.
    pub(super) sha1: String,
}

impl Group {
    /// The files that go aside, as steps.
    pub(super) fn steps(&self) -> Vec<Step> {
        let step = |(from, to): &(String, String)| Step { from: native::path(from), to: native::path(to) };
        self.aside.iter().map(step).collect()
    }

    /// Every path that it touches.
    pub(super) fn paths(&self) -> Vec<PathBuf> {
        let builds = self.builds.iter().map(|build| native::path(&build.target));
        builds.chain(self.steps().into_iter().flat_map(|step| [step.from, step.to])).collect()
    }

    /// Makes what is not there yet; on failure nothing that is new stays.
    ///
    /// # Errors
    /// What reading and writing fail with; [`Error::Checksum`] when something is not what the catalogue says.
    pub(super) fn build(&self, setting: &Setting<'_>) -> Result<()> {
        for (number, build) in self.builds.iter().enumerate() {
            if let Err(e) = build.make(setting) {
                for made in &self.builds[..number] {
                    made.remove(setting)?;
                }
                return Err(e);
            }
        }
        Ok(())
    }
}

impl Build {
    fn path(&self) -> PathBuf {
        native::path(&self.target)
    }

    fn make(&self, setting: &Setting<'_>) -> Result<()> {
        let path = self.path();
        if path.symlink_metadata().is_ok() {
            return match self.is_right(&path, setting)? {
                true => Ok(()),
                false => Err(Error::Exists { path }),
            };
        }
        // What is read is put aside afterwards, so that no list of it is kept.
        let guard = Guard::default();
        let door = Door { guard: &guard, replace: false };
        match self.is_archive {
            true => self.pack(&path, door, setting),
            false => self.take_out(&path, door, setting),
        }
    }

    fn take_out(&self, path: &Path, door: Door<'_>, setting: &Setting<'_>) -> Result<()> {
        let [part] = &self.parts[..] else { return Err(Error::Usage("a file is made of one part".into())) };
        let blueprint = Blueprint::of(locate::bytes(&part.address, setting)?);
        pour::pour_all(&[Output::new(&blueprint, path)], door, &Quiet(setting), &mut |paths| {
            paths.iter().try_for_each(|path| match self.is_right(path, setting)? {
                true => Ok(()),
                false => Err(not_known(&part.address)),
            })
        })
        .map(|_| ())
    }

    fn pack(&self, path: &Path, door: Door<'_>, setting: &Setting<'_>) -> Result<()> {
        let sources =
            self.parts.iter().map(|part| locate::bytes(&part.address, setting)).collect::<Result<Vec<_>>>()?;
        let len = sources.iter().map(|source| source.len()).sum();
        let draft = Draft::new(path, door, len, len, &Quiet(setting))?;
        let failed = |e: std::io::Error| Error::io("write", path, e);
        let mut writer = ZipWriter::new(BufWriter::with_capacity(BLOCK as usize, draft.file()));
        for (part, source) in self.parts.iter().zip(&sources) {
            // The same files become the same archive, whenever it is made.
            let options = SimpleFileOptions::default()
                .compression_method(CompressionMethod::Deflated)
                .large_file(source.len() >= LONG);
            writer.start_file(part.name.as_str(), options).map_err(|e| failed(e.into()))?;
            let mut at = 0;
            while at < source.len() {
                decanter_core::watch::check(setting.watch)?;
                let mut block = vec![0; BLOCK.min(source.len() - at) as usize];
                source.read_at(at, &mut block)?;
                writer.write_all(&block).map_err(failed)?;
                at += block.len() as u64;
            }
        }
        writer.finish().map_err(|e| failed(e.into()))?.flush().map_err(failed)?;
        match self.is_right(draft.temporary_path(), setting)? {
            true => draft.finish(),
            false => Err(not_known(&self.target)),
        }
    }

    /// Whether the file at `path` has what it should have, and nothing else.
    fn is_right(&self, path: &Path, setting: &Setting<'_>) -> Result<bool> {
        let source: SourceRef = Arc::new(FileSource::own(path)?);
        if !self.is_archive {
            return Ok(sha1(&source, setting)? == self.parts.first().map(|part| part.sha1.clone()).unwrap_or_default());
        }
        let keys = setting.all_keys();
        let opened = setting.opener(&keys).open(source)?;
        let mut found = BTreeMap::new();
        for (node, file) in opened.holds.tree.iter().flat_map(Tree::files) {
            found.insert(node.path.clone(), sha1(file.source()?, setting)?);
        }
        let wanted = self.parts.iter().map(|part| (part.name.clone(), part.sha1.clone())).collect();
        Ok(found == wanted)
    }

    /// Takes away what was made; false if it is another file by now, which stays.
    pub(super) fn remove(&self, setting: &Setting<'_>) -> Result<bool> {
        let path = self.path();
        pour::clear_leftovers(&path, setting.watch)?;
        if path.symlink_metadata().is_err() {
            return Ok(true);
        }
        if !self.is_right(&path, setting)? {
            return Ok(false);
        }
        pour::remove(&path).map(|()| true)
    }
}

fn sha1(source: &SourceRef, setting: &Setting<'_>) -> Result<String> {
    let digests = of_source(source, &[Algorithm::Sha1], &Quiet(setting))?;
    Ok(digests.first().map(|digest| hex(&digest.bytes)).unwrap_or_default())
}

fn not_known(address: &str) -> Error {
    Error::Unreadable {
        why: format!("{address} does not have the bytes that the catalogue knows: scan again, and make a new plan"),
    }
}

/// Progress counts whole files.
struct Quiet<'a>(&'a Setting<'a>);

impl decanter_core::Watch for Quiet<'_> {
    fn cancelled(&self) -> bool {
        self.0.watch.cancelled()
    }
}
