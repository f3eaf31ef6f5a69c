//! What a volume says of itself in two places, held against each other: every inode, folder, list and map.

mod attributes;
mod fields;
mod folders;
mod hash;
mod heads;
mod index;
mod inodes;
mod space;

use super::inode::Volume;
use crate::disk::faults::Faults;
use decanter_core::seal::Settled;
use decanter_core::{Result, Watch};

/// Checks a volume as a whole.
pub(super) fn inspect(volume: &Volume, watch: &dyn Watch) -> Result<Vec<Settled>> {
    let mut heads = Faults::default();
    let groups = heads::read(volume, &mut heads, watch)?;
    let inodes = inodes::read(volume, &groups, watch)?;
    let folders = folders::read(volume, &inodes.used, watch)?;
    let space = space::compare(volume, &groups, inodes.owners, watch)?;
    let mut maps = space;
    inodes::compare(volume, &groups, &inodes.used, &mut maps, watch)?;
    let lost = "the systems that use it would change or lose what is hit";
    Ok(vec![
        heads.settle("superblock and groups", "it is not sure where its files are"),
        inodes.faults.settle("inodes", "files and folders are wrong or missing"),
        folders.settle("folders and names", "files are missing, or under a wrong name"),
        maps.settle("blocks and maps", lost),
    ])
}
