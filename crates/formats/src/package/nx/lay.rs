//! Files of titles, laid out as a package or as a gamecard image. What is called after its bytes, and every table that names
//! it, is computed once those bytes have passed by.

use super::keys::hex;
use super::load::{Body, Load, Loaded};
use super::partition::{Item, Kinds, header};
use decanter_core::blueprint::{Blueprint, Known, PartId};
use decanter_core::digest::Algorithm;
use decanter_core::source::Bytes;
use decanter_core::{Error, Result};
use std::sync::Arc;

/// A table that names the files, for their names.
pub type Table = Arc<dyn Fn(&[String]) -> Result<Vec<u8>> + Send + Sync>;

/// Tables over files: each is put together at once if all names are known, else once they are.
pub struct Tables {
    files: Arc<Vec<Loaded>>,
    waiting: Vec<(PartId, Table)>,
}

impl Tables {
    /// Tables over these files.
    pub fn new(files: Vec<Loaded>) -> Self {
        Self { files: Arc::new(files), waiting: Vec::new() }
    }

    /// The files.
    pub fn files(&self) -> &[Loaded] {
        &self.files
    }

    /// Adds a table, whose length does not depend on names: all of them have the same.
    ///
    /// # Errors
    /// What making it fails with.
    pub fn add(&mut self, blueprint: &mut Blueprint, table: Table) -> Result<()> {
        let names: Vec<String> = self.files.iter().map(|f| f.name.clone()).collect();
        let bytes = table(&names)?;
        if self.files.iter().any(Loaded::is_renamed) {
            self.waiting.push((blueprint.late(bytes.len() as u64), table));
        } else {
            blueprint.source(Arc::new(Bytes(bytes)));
        }
        Ok(())
    }

    /// Adds all files, each held against its digest unless `is_unchecked`; then the tables before them can be computed.
    ///
    /// # Errors
    /// When the blueprint does not take it, which is a mistake here.
    pub fn finish(self, blueprint: &mut Blueprint, is_unchecked: bool) -> Result<()> {
        let Self { files, waiting } = self;
        let mut parts = Vec::with_capacity(files.len());
        for file in files.iter() {
            let part = match &file.body {
                Body::AsIs => blueprint.source(file.source.clone()),
                Body::Headed(before) => {
                    let part = blueprint.source(file.source.clone());
                    if !is_unchecked {
                        blueprint.measure_before(part, before.clone());
                    }
                    part
                }
                Body::List(_) => blueprint.late(file.source.len()),
            };
            if file.is_renamed() || (file.expected.is_some() && !is_unchecked) {
                blueprint.measure(part, Algorithm::Sha256);
            }
            parts.push(part);
        }
        let parts = Arc::new(parts);
        for (file, part) in files.iter().zip(parts.iter()) {
            if let Body::List(list) = &file.body {
                let needs: Vec<PartId> = list.needs().map(|n| parts[n]).collect();
                let (list, all) = (list.clone(), parts.clone());
                blueprint.compute(*part, &needs, Arc::new(move |known| list.bytes(&|n| sha256(known, all[n]))))?;
            }
        }
        let renamed: Vec<PartId> =
            files.iter().zip(parts.iter()).filter(|(f, _)| f.is_renamed()).map(|(_, p)| *p).collect();
        for (slot, table) in waiting {
            let (files, all) = (files.clone(), parts.clone());
            let make = move |known: &Known<'_>| table(&Load::names(&files, &|n| sha256(known, all[n]))?);
            blueprint.compute(slot, &renamed, Arc::new(make))?;
        }
        if !is_unchecked {
            check(blueprint, files, parts);
        }
        Ok(())
    }
}

fn sha256(known: &Known<'_>, part: PartId) -> Result<[u8; 32]> {
    let mut own = [0; 32];
    own.copy_from_slice(known.digest(part, Algorithm::Sha256)?);
    Ok(own)
}

/// Holds every content against what its SHA-256 should be, or should have been before its header was changed.
fn check(blueprint: &mut Blueprint, files: Arc<Vec<Loaded>>, parts: Arc<Vec<PartId>>) {
    blueprint.check(Arc::new(move |known| {
        for (file, part) in files.iter().zip(parts.iter()) {
            let Some(expected) = &file.expected else { continue };
            let found = match file.body {
                Body::Headed(_) => known.digest_before(*part)?,
                _ => known.digest(*part, Algorithm::Sha256)?,
            };
            if !found.starts_with(expected) {
                let what = format!("{} ({})", file.what, file.name);
                let (expected, found) = (format!("SHA-256 {}", hex(expected)), hex(&found[..expected.len()]));
                return Err(Error::Checksum { what, expected, found });
            }
        }
        Ok(())
    }));
}

/// The header of a file system with these files under these names.
///
/// # Errors
/// As [`header`].
pub(super) fn table(
    kind: Kinds,
    files: &[Loaded],
    names: &[String],
    hashed: &[Option<(u32, [u8; 32])>],
    align: u64,
) -> Result<Vec<u8>> {
    let items: Vec<Item> = (files.iter().zip(names).enumerate())
        .map(|(index, (file, name))| Item {
            name: name.clone(),
            len: file.source.len(),
            hashed: hashed.get(index).copied().flatten(),
        })
        .collect();
    header(kind, &items, align)
}
