//! Packages: a PFS0 with contents, tickets and certificates. The same file system without contents, and its hashed kind, are
//! formats of their own. Layout: docs/formats/pfs0-hfs0.md.

use super::contents::{self, Bases, Contents, Held};
use super::lay::{self, Tables};
use super::load::Loaded;
use super::partition::{HEAD, Kinds, Partition};
use super::tell;
use decanter_core::blueprint::Blueprint;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Keyring;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::tree::Tree;
use decanter_core::{Error, Result};
use std::sync::Arc;

/// Headers of packages are filled up to a multiple of this.
const ALIGN: u64 = 0x20;

/// The format of packages.
pub struct Nsp;
/// The format of a file system with anything else in it, of either kind.
pub struct Bare {
    kind: Kinds,
}
/// The one instance.
pub static PACKAGE: Nsp = Nsp;
/// The instance for the plain kind.
pub static PLAIN: Bare = Bare { kind: Kinds::Plain };
/// The instance for the hashed kind.
pub static HASHED: Bare = Bare { kind: Kinds::Hashed };

/// The files of a package.
///
/// # Errors
/// As [`Partition::read`].
pub fn files(source: &SourceRef) -> Result<Vec<Held>> {
    let partition = Partition::read(source.as_ref(), Kinds::Plain)?;
    partition.entries.iter().map(|e| Held::of(&e.name, source, &e.range)).collect()
}

/// A package with everything in it.
///
/// # Errors
/// As [`files`], and what the machine is to blame for.
pub fn read(source: &SourceRef, keys: &Keyring) -> Result<Contents> {
    Contents::read(files(source)?, keys)
}

/// A package of these files, in this order, back to back; each is held against its digest unless `is_unchecked`.
///
/// # Errors
/// [`Error::Unsupported`] for more names than a header has room for.
pub fn compose(files: Vec<Loaded>, is_unchecked: bool) -> Result<Blueprint> {
    let mut tables = Tables::new(files);
    let mut blueprint = Blueprint::new();
    let files = tables.files().to_vec();
    tables.add(&mut blueprint, Arc::new(move |names| lay::table(Kinds::Plain, &files, names, &[], ALIGN)))?;
    tables.finish(&mut blueprint, is_unchecked)?;
    Ok(blueprint)
}

impl Format for Nsp {
    fn id(&self) -> &'static str {
        "nsp"
    }

    fn name(&self) -> &'static str {
        "Switch package"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["nsp"]
    }

    fn reads(&self) -> &'static str {
        "base, update, add-ons, merged ones: contents, tickets, lists, names, icons, files, every hash"
    }

    fn least_len(&self) -> u64 {
        HEAD
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"PFS0")] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        let named = |p: Partition| p.entries.iter().any(|e| contents::has_extension(&e.name, "nca"));
        match Partition::read(head, Kinds::Plain) {
            Ok(partition) => Ok(named(partition).then_some(90)),
            Err(e @ (Error::Io { .. } | Error::Cancelled)) => Err(e),
            Err(_) => Ok(None),
        }
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let partition = Partition::read(source.as_ref(), Kinds::Plain)?;
        let files = partition.entries.iter().map(|e| Held::of(&e.name, &source, &e.range)).collect::<Result<_>>()?;
        let contents = Contents::read(files, opener.keys())?;
        let mut opened = Opened::new(self.id(), kind("Switch package", &contents));
        let others = Bases::of(opener.companions(), &contents.keys)?;
        tell::tell(&mut opened, &contents, &others)?;
        opened.protection = tell::protection(&contents);
        opened.extent.promised_len = Some(partition.end());
        opened.extent.regions = tell::regions(&contents);
        crate::package::trailing(&mut opened, &source, partition.end());
        opened.holds.tree = Some(Tree { nodes: contents::raw_nodes(&contents.files, "") });
        tell::add_readable(&mut opened, contents, others);
        Ok(opened)
    }
}

/// What a package is, by what it holds.
pub(super) fn kind(what: &str, contents: &Contents) -> String {
    match (contents.titles.is_empty(), contents.trouble.is_some()) {
        (true, true) => format!("{what}, whose lists of contents are locked"),
        (true, false) => format!("{what} without a list of contents"),
        _ => format!("{what}: {}", tell::kinds(&contents.titles)),
    }
}

impl Format for Bare {
    fn id(&self) -> &'static str {
        self.kind.id()
    }

    fn name(&self) -> &'static str {
        match self.kind {
            Kinds::Plain => "PFS0 file system",
            Kinds::Hashed => "HFS0 file system",
        }
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        match self.kind {
            Kinds::Plain => &["pfs0"],
            Kinds::Hashed => &["hfs0"],
        }
    }

    fn reads(&self) -> &'static str {
        match self.kind {
            Kinds::Plain => "the files in it",
            Kinds::Hashed => "the files in it, and the hashes of their beginnings",
        }
    }

    fn least_len(&self) -> u64 {
        HEAD
    }

    fn marks(&self) -> &'static [Mark] {
        match self.kind {
            Kinds::Plain => const { &[Mark::first(b"PFS0")] },
            Kinds::Hashed => const { &[Mark::first(b"HFS0")] },
        }
    }

    fn score(&self, _head: &Head<'_>) -> Result<Option<u8>> {
        Ok(Some(50))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let partition = Partition::read(source.as_ref(), self.kind)?;
        let mut opened = Opened::new(self.id(), self.name());
        opened.extent.promised_len = Some(partition.end());
        crate::package::trailing(&mut opened, &source, partition.end());
        opened.proof.settled.extend(super::beginnings::hashed(&partition, &source)?);
        opened.holds.tree = Some(Tree { nodes: partition.nodes(&source, "")? });
        Ok(opened)
    }
}
