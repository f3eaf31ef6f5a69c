//! The way through all folders: each is a table of chains, by what its names sum up to.

use super::block::{self, BLOCK, at, counted, kind, latin, moment};
use super::{Disk, describe};
use crate::disk::claims::Claims;
use crate::num::be32;
use crate::walk::{Folder, Walk, Walked};
use decanter_core::Result;
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::tree::{File, Kind, Node, below};
use std::collections::HashSet;

/// A folder: its header block, and that block's number.
struct Place {
    header: [u8; BLOCK],
    number: u64,
}

/// The way through all folders of an Amiga volume.
pub(super) struct Way<'a> {
    disk: &'a Disk,
    walk: Walk<'a, Place, u64>,
    claims: Claims,
}

impl<'a> Way<'a> {
    /// Goes through all folders, from the root block on.
    ///
    /// # Errors
    /// What reading fails with, where the volume is not to blame; [`decanter_core::Error::Limit`].
    pub(super) fn run(disk: &'a Disk, root: [u8; BLOCK], opener: &Opener<'a>) -> Result<(Walked<u64>, Claims)> {
        let number = disk.layout.root;
        let walk = Walk::new(opener, Place { header: root, number }, number);
        let mut way = Self { disk, walk, claims: Claims::default() };
        while let Some(folder) = way.walk.next()? {
            way.folder(&folder)?;
        }
        let mut walked = way.walk.finish();
        // Names are told apart by their letters, not by case.
        let key = |n: &Node| n.path.split('/').map(str::to_lowercase).collect::<Vec<_>>();
        walked.tree.nodes.sort_by_cached_key(key);
        Ok((walked, way.claims))
    }

    fn folder(&mut self, folder: &Folder<Place>) -> Result<()> {
        let here = folder.place.number * BLOCK as u64;
        self.walk.structure.push(here..here + BLOCK as u64);
        let mut entries = Vec::new();
        for slot in 0..block::TABLE {
            self.chain(folder, be32(&folder.place.header, at::TABLE + slot * 4).into(), &mut entries)?;
        }
        entries.sort_by_key(|(_, block)| latin(counted(block, at::NAME, block::MOST_NAME)).to_lowercase());
        for (number, block) in entries {
            self.entry(folder, number, &block)?;
        }
        Ok(())
    }

    /// The entries of one slot from block `next` on.
    fn chain(&mut self, folder: &Folder<Place>, mut next: u64, entries: &mut Vec<(u64, [u8; BLOCK])>) -> Result<()> {
        let mut chain = HashSet::new();
        while next != 0 {
            if !chain.insert(next) {
                self.walk.note(format!("the entries of {} go in a circle at block {next}", folder.shown()));
                return Ok(());
            }
            let block = self.disk.block(next);
            let of = || format!("an entry of {}, which should be in block {next},", folder.shown());
            let Some(block) = self.walk.keep(block, of)? else { return Ok(()) };
            if be32(&block, at::TYPE) != block::HEADER {
                self.walk.note(format!("an entry of {} leads to block {next}, which is none", folder.shown()));
                return Ok(());
            }
            let following = be32(&block, at::NEXT).into();
            entries.push((next, block));
            next = following;
        }
        Ok(())
    }

    fn entry(&mut self, parent: &Folder<Place>, number: u64, block: &[u8; BLOCK]) -> Result<()> {
        let path = below(&parent.path, &latin(counted(block, at::NAME, block::MOST_NAME)));
        let about = describe(be32(block, at::PROTECTION), counted(block, at::COMMENT, block::MOST_COMMENT));
        let kind = match kind(block) {
            block::FOLDER => Kind::Folder,
            block::FILE => Kind::File(self.disk.file(block, number, Some(&mut self.claims))?),
            block::SOFT_LINK => {
                let target = block[at::TABLE..at::MAP_FLAG].split(|b| *b == 0).next().unwrap_or_default();
                Kind::Link(target.iter().map(|b| char::from(*b)).collect())
            }
            block::FILE_LINK => Kind::File(self.real(be32(block, at::REAL).into())?),
            block::FOLDER_LINK => {
                self.walk.noticed.remark(format!("{path} is another name of a folder: not followed"));
                return Ok(());
            }
            other => {
                self.walk.note(format!("{path} (block {number}) is of kind {other}, which is none"));
                return Ok(());
            }
        };
        let is_folder = matches!(kind, Kind::Folder);
        self.walk.add(Node::new(path.clone(), kind, moment(block, at::DATE)).about(about))?;
        if is_folder && self.walk.enter(parent, path.clone(), Place { header: *block, number }, number).is_some() {
            self.walk.note(format!("{path} (block {number}) is met twice, or lies too deep: not followed"));
        }
        Ok(())
    }

    /// The file that a link is another name of, by the number of its header.
    fn real(&self, number: u64) -> Result<File> {
        match self.disk.block(number) {
            Ok(real) if kind(&real) == block::FILE => self.disk.file(&real, number, None),
            Err(e) if e.blame() != Blame::Source => Err(e),
            _ => Ok(File::broken(0, "a link to a file that is not there")),
        }
    }
}
