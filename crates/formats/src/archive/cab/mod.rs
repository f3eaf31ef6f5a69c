//! Microsoft cabinets: stored, MSZIP and LZX folders, sets that reach over several files. Layout, checks and what is not
//! sure: docs/formats/cab.md.

mod folder;
mod header;
mod mszip;
mod raw;
mod set;

use crate::noticed::Noticed;
use crate::time;
use decanter_core::format::{Format, Opener, looks_random};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Bytes, Source, SourceRef, check_range};
use decanter_core::tell::{count, grouped};
use decanter_core::tree::{About, File, Kind, Node, Tree};
use decanter_core::watch::Watch;
use decanter_core::{Error, Result};
use folder::Folder;
use header::Cabinet;
use set::{Set, Whole};
use std::collections::HashSet;
use std::sync::Arc;

const ID: &str = "cab";
/// Bytes by which it is judged whether a file is noise.
const JUDGED: u64 = 4096;

/// The format.
pub struct Cab;

impl Format for Cab {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "cabinet"
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["cab", "xcp"]
    }

    fn reads(&self) -> &'static str {
        "stored, MSZIP and LZX folders, checksums of data blocks, sets of several cabinets; Quantum is named"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(header::MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 36).then_some(80))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let own = Cabinet::read(source.clone())?;
        let mut opened = Opened::new(ID, "cabinet");
        opened.extent.promised_len = Some(own.len);
        let place = set::number(&own);
        let is_set = own.previous.is_some() || own.next.is_some();
        let reserved = own.reserved;
        let set = Set::around(own, opener)?;
        let mut noticed = Noticed::default();
        let folders = set.folders(&mut noticed)?;
        let mut tree = Tree::default();
        let mut methods: Vec<String> = Vec::new();
        for whole in &folders {
            let method = whole.method.name();
            if !methods.contains(&method) {
                methods.push(method);
            }
            for file in &whole.files {
                tree.nodes.push(node(file, whole));
            }
        }
        let mut paths = HashSet::new();
        if let Some(twice) = tree.nodes.iter().find(|n| !paths.insert(n.path.as_str())) {
            noticed.note(format!("{} is listed twice", twice.path));
        }
        opened.fact("files", tree.nodes.len().to_string());
        opened.fact("packed", methods.join(", "));
        if is_set {
            opened.fact(
                "cabinet",
                format!("{place}, {} here", count(set.cabinets.len() as u64, "cabinet is", "cabinets are")),
            );
        }
        for (which, missing) in [("before", &set.missing_before), ("after", &set.missing_after)] {
            if let Some((name, why)) = missing {
                noticed.note(format!("the cabinet {which} it, {name}, cannot be used: {why}"));
            }
        }
        if let Some(end) = folders.iter().find_map(|f| f.ends.as_ref()).filter(|_| set.missing_after.is_none()) {
            noticed.note(end.clone());
        }
        opened.fact("reserved", if reserved > 0 { count(reserved, "byte", "bytes") } else { String::new() });
        if let Some(name) = closed(&tree, opener)? {
            opened.notice(format!(
                "{name} looks like noise: content that was not bought stays encrypted for its console, and nothing here opens it"
            ));
        }
        opened.told.notices.extend(noticed.into_notices());
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// A file as a node of the tree.
fn node(file: &header::File, whole: &Whole<'_>) -> Node {
    let (start, len) = (u64::from(file.at), u64::from(file.len));
    let end = start + len;
    let kind = match &whole.view {
        _ if let Some(why) = &whole.begins => File::broken(len, why.clone()),
        Err(why) => File::broken(len, why.clone()),
        Ok(_) if len == 0 => File::of(Arc::new(Bytes(Vec::new()))),
        Ok(view) if end <= view.len() => File::of(Arc::new(Entry { folder: view.clone(), start, len })),
        Ok(view) => {
            let why = whole.ends.clone().unwrap_or_else(|| "its folder ends".into());
            let there = view.len().saturating_sub(start).min(len);
            let (there, all) = (grouped(there), grouped(len));
            File::broken(len, format!("{why}; {there} of its {all} bytes are there"))
        }
    };
    let modified = time::dos(file.date, file.time);
    let mut words = Vec::new();
    for (bit, word) in [(1, "read-only"), (2, "hidden"), (4, "system"), (0x40, "runs after extraction")] {
        if file.attributes & bit != 0 {
            words.push(word.to_owned());
        }
    }
    let about = About { words, ..About::default() };
    Node::new(file.path.trim_matches('/').to_owned(), Kind::File(kind), modified).about(about)
}

/// A name among the files whose content is noise where a package should begin, if it is all that there is.
fn closed<'a>(tree: &'a Tree, opener: &Opener<'_>) -> Result<Option<&'a str>> {
    let mut files = tree.files().filter(|(_, f)| f.len >= JUDGED);
    let (Some((node, file)), None) = (files.next(), files.next()) else { return Ok(None) };
    let Ok(source) = file.source() else { return Ok(None) };
    // Packages are called by hexadecimal digits alone; whatever has an extension is something else.
    if node.name().contains('.') || opener.registry().detect(&Head::glance(source.as_ref())).is_ok_and(|f| f.is_some())
    {
        return Ok(None);
    }
    let mut head = vec![0; JUDGED as usize];
    match source.read_at(0, &mut head) {
        Ok(()) => Ok(looks_random(&head).then_some(node.path.as_str())),
        Err(e @ (Error::Io { .. } | Error::Cancelled)) => Err(e),
        // Whoever reads it is told.
        Err(_) => Ok(None),
    }
}

/// A file of a folder.
struct Entry {
    folder: Arc<Folder>,
    start: u64,
    len: u64,
}

impl Source for Entry {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        self.folder.read_at(self.start + offset, buf)
    }

    fn prefers_sequential(&self) -> bool {
        self.folder.prefers_sequential()
    }

    fn is_checked(&self) -> bool {
        self.folder.is_checked(self.start, self.len)
    }

    fn settle(&self, watch: &dyn Watch) -> Result<()> {
        self.folder.settle(self.start, self.len, watch)
    }
}
