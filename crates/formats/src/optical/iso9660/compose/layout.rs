//! What a new volume holds: folders and files with their names, and the two trees of them.

use super::names::{Names, plain_name, ucs2};
use crate::arranged::{Arranged, Member};
use crate::optical::iso9660::ID;
use decanter_core::tree::Tree;
use decanter_core::{Error, Result};
use std::collections::HashSet;

/// Levels of folders, the root included (6.8.2.1).
const MOST_LEVELS: usize = 8;
/// Characters of a Joliet name.
const MOST_JOLIET: usize = 64;
/// Folders that a path table can number.
const MOST_FOLDERS: usize = 65_535;

/// One of the two trees: its tables and its folders.
pub(super) struct Side {
    pub(super) names: Names,
    /// Folders by level, then by parent, then by name: the order of the path tables (6.9.1).
    pub(super) order: Vec<usize>,
    /// Bytes of each folder, by its number.
    pub(super) lens: Vec<u64>,
    /// Sector of each folder, by its number.
    pub(super) places: Vec<u64>,
    /// Bytes of a path table.
    pub(super) table_len: u64,
    /// Sectors of the path tables, little-endian and big-endian.
    pub(super) tables: [u64; 2],
}

/// All of a volume.
pub(super) struct Layout {
    pub(super) tree: Arranged,
    /// The ECMA-119 names of folders and files, by their numbers.
    pub(super) plain_folders: Vec<String>,
    pub(super) plain_files: Vec<String>,
    /// The first sector of each file.
    pub(super) sectors: Vec<u64>,
}

impl Layout {
    /// The folders and files of `tree`, with names, without places.
    pub(super) fn of(tree: &Tree) -> Result<Self> {
        let tree = Arranged::of(tree)?;
        check(&tree)?;
        let (plain_folders, plain_files) = plain_names(&tree);
        let sectors = vec![0; tree.files.len()];
        Ok(Self { tree, plain_folders, plain_files, sectors })
    }

    /// The identifier of a folder other than the root.
    pub(super) fn folder_identifier(&self, folder: usize, names: Names) -> Vec<u8> {
        match names {
            Names::Plain => self.plain_folders[folder].as_bytes().to_vec(),
            Names::Joliet => ucs2(&self.tree.folders[folder].named.name),
        }
    }
}

/// Fails for what the volume cannot hold.
fn check(tree: &Arranged) -> Result<()> {
    for &member in &tree.members {
        let named = tree.named(member);
        if named.name.encode_utf16().count() > MOST_JOLIET {
            let what = format!("a name of more than {MOST_JOLIET} characters ({})", named.name);
            return Err(Error::unsupported(ID, what));
        }
        if let Member::Folder(f) = member
            && tree.folders[f].level > MOST_LEVELS
        {
            return Err(Error::unsupported(ID, format!("a folder deeper than {MOST_LEVELS} levels ({})", named.path)));
        }
    }
    if tree.folders.len() > MOST_FOLDERS {
        let what = format!("{} folders: its path table can number {MOST_FOLDERS}", tree.folders.len());
        return Err(Error::unsupported(ID, what));
    }
    Ok(())
}

/// ECMA-119 names of folders and files: capitals, digits and underscores, unique in their folder.
fn plain_names(tree: &Arranged) -> (Vec<String>, Vec<String>) {
    let (mut folders, mut files) = (vec![String::new(); tree.folders.len()], vec![String::new(); tree.files.len()]);
    for folder in &tree.folders {
        let mut taken = HashSet::new();
        for &child in &folder.folders {
            folders[child] = plain_name(&tree.folders[child].named.name, false, &mut taken);
        }
        for &file in &folder.files {
            files[file] = format!("{};1", plain_name(&tree.files[file].named.name, true, &mut taken));
        }
    }
    (folders, files)
}
