//! Snapshots that emulators of home computers save: VSF, a file of modules, each with a name and a version. Numbers are
//! little-endian.
//!
//! Layout, checks and what is not sure: docs/formats/vsf.md.

mod moment;

pub use moment::{Saved, moment};

use crate::num::le32;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tree::{About, File, Kind, Node, Tree};
use decanter_core::{Error, Result};
use std::ops::Range;

const ID: &str = "vsf";
const MAGIC: &[u8; 19] = b"VICE Snapshot File\x1a";
/// What later files have after the machine, before four bytes of a version and four of a revision.
const LATER: &[u8; 13] = b"VICE Version\x1a";
/// Where the machine is named, and bytes of a name.
const MACHINE: u64 = 21;
const NAME: usize = 16;
/// Where modules begin, without and with what later files have.
const MODULES: u64 = MACHINE + NAME as u64;
const LATER_MODULES: u64 = MODULES + 21;
/// Bytes of a module's name, version and length.
const HEADER: u64 = 22;
/// More modules than any machine has parts.
const MOST_MODULES: usize = 512;

/// The format.
pub struct Vsf;

/// A part of the machine.
#[derive(Debug)]
struct Module {
    name: String,
    /// Major and minor.
    version: (u8, u8),
    /// Where what it says stands in the file.
    content: Range<u64>,
}

/// What the file is of, and its parts.
#[derive(Debug)]
struct Index {
    machine: String,
    version: (u8, u8),
    modules: Vec<Module>,
}

/// ASCII that is filled with zeros; `None` for anything else.
fn name(bytes: &[u8]) -> Option<String> {
    let len = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    let (text, rest) = bytes.split_at(len);
    let is_name = len > 0 && text.iter().all(|b| b.is_ascii_graphic() || *b == b' ') && rest.iter().all(|b| *b == 0);
    is_name.then(|| text.iter().map(|b| char::from(*b)).collect())
}

/// Reads what stands before each module.
///
/// # Errors
/// [`Error::Malformed`] for a header or a module that is none, with its offset; what reading gives.
fn index(source: &dyn Source) -> Result<Index> {
    let malformed = |what: String, at: u64| Error::malformed(ID, what, at);
    if source.len() < MODULES {
        return Err(malformed("it ends within its header".into(), source.len()));
    }
    let head: [u8; MODULES as usize] = read_array(source, 0)?;
    if head[..MAGIC.len()] != *MAGIC {
        return Err(malformed("it has no signature".into(), 0));
    }
    let version = (head[19], head[20]);
    if !matches!(version.0, 1 | 2) {
        return Err(Error::unsupported(ID, format!("version {}.{} (known are 1 and 2)", version.0, version.1)));
    }
    let machine =
        name(&head[MACHINE as usize..]).ok_or_else(|| malformed("the name of the machine is none".into(), MACHINE))?;
    let is_later = source.len() >= LATER_MODULES && read_array::<{ LATER.len() }>(source, MODULES)? == *LATER;
    let mut at = if is_later { LATER_MODULES } else { MODULES };
    let mut modules = Vec::new();
    while at < source.len() {
        let left = source.len() - at;
        if left < HEADER {
            return Err(malformed(format!("{left} bytes are left, where a module has a header of {HEADER}"), at));
        }
        if modules.len() == MOST_MODULES {
            return Err(malformed(format!("more than {MOST_MODULES} modules"), at));
        }
        let head: [u8; HEADER as usize] = read_array(source, at)?;
        let name = name(&head[..NAME]).ok_or_else(|| malformed("the name of a module is none".into(), at))?;
        let len = u64::from(le32(&head, 18));
        if !(HEADER..=left).contains(&len) {
            let what = format!("module {name} has {len} bytes by its header, where {HEADER} to {left} are possible");
            return Err(malformed(what, at + 18));
        }
        if modules.iter().any(|m: &Module| m.name == name) {
            return Err(malformed(format!("a second module {name}"), at));
        }
        modules.push(Module { name, version: (head[16], head[17]), content: at + HEADER..at + len });
        at += len;
    }
    if modules.is_empty() {
        return Err(malformed("it has no modules".into(), at));
    }
    Ok(Index { machine, version, modules })
}

impl Format for Vsf {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "emulator snapshot"
    }

    fn role(&self) -> Role {
        Role::Program
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["vsf"]
    }

    fn reads(&self) -> &'static str {
        "the modules of any machine; a moment of a C64"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= MODULES).then_some(95))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let index = index(source.as_ref())?;
        let mut opened = Opened::new(ID, self.name());
        opened.fact("machine", index.machine.clone());
        opened.fact("version", format!("{}.{}", index.version.0, index.version.1));
        opened.fact("modules", index.modules.len().to_string());
        let mut tree = Tree::default();
        for module in index.modules {
            let (major, minor) = module.version;
            let about = About { words: vec![format!("version {major}.{minor}")], ..About::default() };
            let file = File::from_spans(&source, vec![module.content])?;
            tree.nodes.push(Node::new(format!("{}.bin", module.name), Kind::File(file), None).about(about));
        }
        opened.holds.tree = Some(tree);
        if let Err(why @ (Error::Malformed { .. } | Error::Unsupported { .. })) = moment(source.as_ref()) {
            opened.notice(format!("no program is made of it: {why}"));
        }
        Ok(opened)
    }
}
