//! Lays a tree out as a new volume: ECMA-119 level 3 with a Joliet tree beside it.
//!
//! Order on the disc: system area, descriptors, path tables, folders of both trees, files in the order of the tree.
//! Nothing depends on the clock: the volume's date is that of its newest file.

mod descriptor;
mod layout;
mod names;
mod place;
mod record;
mod table;

use super::ID;
use super::raw::FIRST_DESCRIPTOR;
use crate::optical::udf::compose::{Bridge, PARTITION, anchor};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::Bytes;
use decanter_core::tree::Tree;
use decanter_core::{Error, Result, SECTOR};
use layout::Layout;
use names::KEPT;
use std::sync::Arc;

/// The first sector after three descriptors.
const BEHIND_DESCRIPTORS: u64 = FIRST_DESCRIPTOR + 3;

/// What a new volume is besides its files.
#[derive(Debug, Clone, Default)]
pub struct Volume {
    /// Volume identifier.
    pub label: String,
    /// System identifier.
    pub system: String,
    /// What stands in the system area, the first sixteen sectors; made once the number of sectors is known.
    pub system_area: Option<fn(&str, u32) -> Vec<u8>>,
    /// Given to `system_area`.
    pub id: String,
    /// Whether a UDF volume with the same files stands beside it.
    pub udf: bool,
}

/// A blueprint of a volume with the files of `tree`, in its order. Links are left out: ECMA-119 has none.
///
/// # Errors
/// [`Error::Unsupported`] for names, folders and sizes that the volume cannot hold.
pub fn compose(tree: &Tree, volume: &Volume) -> Result<Blueprint> {
    let mut layout = Layout::of(tree)?;
    let first = match volume.udf {
        true => PARTITION + Bridge::new(&volume.label, &layout.tree).blocks(),
        false => BEHIND_DESCRIPTORS,
    };
    let (sides, files, end) = layout.place(first);
    // The second anchor of a UDF volume is the last sector.
    let total = end + u64::from(volume.udf);
    let total = u32::try_from(total).map_err(|_| Error::unsupported(ID, "a volume of 8 TiB or more"))?;

    let mut head = Head(vec![0; (files * SECTOR) as usize]);
    if let Some(make) = volume.system_area {
        head.put(0, &make(&volume.id, total));
    }
    if volume.udf {
        let bridge = Bridge::new(&volume.label, &layout.tree);
        bridge.write(&layout.sectors, total.into(), &mut |sector, bytes| head.put(sector, bytes));
    }
    for (at, side) in (FIRST_DESCRIPTOR..).zip(&sides) {
        head.put(at, &descriptor::bytes(&layout, side, volume, total));
        for (&sector, order) in side.tables.iter().zip([table::Order::Little, table::Order::Big]) {
            head.put(sector, &table::bytes(&layout, side, order));
        }
        for (folder, &sector) in side.places.iter().enumerate() {
            head.put(sector, &record::folder(&layout, side, folder));
        }
    }
    head.put(FIRST_DESCRIPTOR + 2, &descriptor::terminator());

    let mut blueprint = Blueprint::new();
    blueprint.source(Arc::new(Bytes(head.0)));
    for item in &layout.tree.files {
        blueprint.source(item.source.clone());
        blueprint.fill(0, item.source.len().next_multiple_of(SECTOR) - item.source.len());
    }
    if volume.udf {
        let mut last = anchor(u64::from(total) - 1);
        last.resize(SECTOR as usize, 0);
        blueprint.source(Arc::new(Bytes(last)));
    }
    Ok(blueprint)
}

/// Everything before the files.
struct Head(Vec<u8>);

impl Head {
    fn put(&mut self, sector: u64, bytes: &[u8]) {
        let at = (sector * SECTOR) as usize;
        self.0[at..at + bytes.len()].copy_from_slice(bytes);
    }
}

/// The names that the plain tree of an image of `tree` would have, where they are not those of the tree in capitals: each
/// with what became of it; and how many are kept with signs that ECMA-119 itself does not allow.
///
/// # Errors
/// Those of [`compose`].
pub fn renamed(tree: &Tree) -> Result<(Vec<(String, String)>, usize)> {
    let layout = Layout::of(tree)?;
    let files = layout.tree.files.iter().zip(&layout.plain_files);
    let files = files.map(|(i, plain)| (&i.named.name, plain.trim_end_matches(";1").trim_end_matches('.')));
    let folders = layout.tree.folders[1..].iter().zip(&layout.plain_folders[1..]);
    let folders = folders.map(|(f, plain)| (&f.named.name, plain.as_str()));
    let (mut changed, mut signs) = (Vec::new(), 0);
    for (name, plain) in files.chain(folders) {
        if name.to_uppercase().trim_end_matches('.') != plain {
            changed.push((name.clone(), plain.to_owned()));
        } else if plain.contains(|c| KEPT.contains(c)) {
            signs += 1;
        }
    }
    Ok((changed, signs))
}
