//! Whether all blocks of a volume agree: checksums, places in the tables, the map of free blocks.

use super::block::{self, BLOCK, PER_MAP, at, counted, kind, latin, slot, sum};
use super::{Disk, RESERVED};
use crate::num::be32;
use decanter_core::seal::Settled;
use decanter_core::tell;
use decanter_core::tree::below;
use decanter_core::{Result, Watch, watch};

/// What is found on the way.
struct Check<'a> {
    disk: &'a Disk,
    owners: Vec<u32>,
    names: Vec<String>,
    sums: Vec<String>,
    places: Vec<String>,
    broken: Vec<String>,
    crossed: Vec<String>,
}

/// Checks everything.
pub(super) fn inspect(disk: &Disk, watch: &dyn Watch) -> Result<Vec<Settled>> {
    let mut check = Check {
        disk,
        owners: vec![0; disk.layout.blocks as usize],
        names: vec!["nobody".into(), "the file system".into()],
        sums: Vec::new(),
        places: Vec::new(),
        broken: Vec::new(),
        crossed: Vec::new(),
    };
    let root = disk.block(disk.layout.root)?;
    check.own(disk.layout.root, 1);
    check.sum(&root, "the root block");
    let map = check.map(&root)?;
    check.folder(&root, disk.layout.root, "", watch, 0)?;
    let (mut endangered, mut lost) = (Vec::new(), 0usize);
    for (number, owner) in check.owners.iter().enumerate().skip(RESERVED as usize) {
        match (map.get(number).copied().flatten(), owner) {
            (Some(true), 1..) => {
                endangered
                    .push(format!("block {number} belongs to {}, but is called free", check.names[*owner as usize]));
            }
            (Some(false), 0) => lost += 1,
            _ => {}
        }
    }
    let lost = if lost > 0 {
        vec![format!("{} called taken that belong to nobody", tell::count(lost as u64, "block is", "blocks are"))]
    } else {
        Vec::new()
    };
    let mut settled = vec![
        Settled::of("checksums of blocks", &check.sums, "the machine refuses the block: what it holds is lost there"),
        Settled::of("places in the tables", &check.places, "the machine does not find the entry by its name"),
        Settled::of("lists of blocks", &check.broken, "the file ends there"),
        Settled::of("owners of blocks", &check.crossed, "at least one of the two is overwritten"),
        Settled::of("map of free blocks", &endangered, "the next file that is written overwrites it"),
        Settled { matters: None, ..Settled::of("lost blocks", &lost, "") },
    ];
    if be32(&root, at::MAP_FLAG) != u32::MAX {
        let text = "the map is marked as not valid: the machine makes it anew, or did not finish";
        settled.push(Settled { matters: None, ..Settled::fails("state of the map", text, "") });
    }
    Ok(settled)
}

impl Check<'_> {
    fn own(&mut self, number: u64, owner: u32) {
        let Some(slot) = self.owners.get_mut(number as usize) else { return };
        if *slot != 0 && *slot != owner {
            let (one, other) = (&self.names[*slot as usize], &self.names[owner as usize]);
            self.crossed.push(format!("block {number} belongs to both {one} and {other}"));
        }
        *slot = owner;
    }

    fn sum(&mut self, block: &[u8], what: &str) {
        if sum(block) != 0 {
            self.sums.push(format!("{what}: the checksum does not hold"));
        }
    }

    /// Which blocks are free; `None` where the map does not say.
    fn map(&mut self, root: &[u8; BLOCK]) -> Result<Vec<Option<bool>>> {
        let mut pages: Vec<u64> = (0..block::MAP_PAGES).map(|i| be32(root, at::MAPS + i * 4).into()).collect();
        let mut next = u64::from(be32(root, at::MAP_EXTENSION));
        while next != 0 && (pages.len() as u64) < self.disk.layout.blocks {
            let Ok(extension) = self.disk.block(next) else { break };
            self.own(next, 1);
            pages.extend((0..127).map(|i| u64::from(be32(&extension, i * 4))));
            next = be32(&extension, 508).into();
        }
        let mut map = vec![None; self.disk.layout.blocks as usize];
        for (index, page) in pages.into_iter().enumerate().filter(|(_, p)| *p != 0) {
            let Ok(bits) = self.disk.block(page) else {
                self.broken.push(format!("page {index} of the map is block {page}, which the volume does not have"));
                continue;
            };
            self.own(page, 1);
            self.sum(&bits, &format!("page {index} of the map"));
            let first = RESERVED + index as u64 * PER_MAP;
            for bit in 0..PER_MAP {
                let word = be32(&bits, 4 + bit as usize / 32 * 4);
                if let Some(slot) = map.get_mut((first + bit) as usize) {
                    *slot = Some(word >> (bit % 32) & 1 == 1);
                }
            }
        }
        Ok(map)
    }

    fn folder(&mut self, header: &[u8; BLOCK], number: u64, path: &str, watch: &dyn Watch, depth: usize) -> Result<()> {
        watch::check(watch)?;
        if self.disk.layout.has_cache {
            self.cache(be32(header, at::EXTENSION).into(), path);
        }
        for index in 0..block::TABLE {
            let mut next = u64::from(be32(header, at::TABLE + index * 4));
            let mut steps = 0;
            while next != 0 {
                steps += 1;
                let shown = if path.is_empty() { "the root folder" } else { path };
                let block = match self.disk.block(next) {
                    Ok(block) if be32(&block, at::TYPE) == block::HEADER && steps < 10_000 => block,
                    _ => {
                        self.broken.push(format!("{shown}: block {next} should be an entry, but is none"));
                        break;
                    }
                };
                self.entry(&block, next, number, index, path, watch, depth)?;
                next = be32(&block, at::NEXT).into();
            }
        }
        Ok(())
    }

    #[allow(clippy::too_many_arguments, reason = "where an entry stands, and who looks")]
    fn entry(
        &mut self,
        block: &[u8; BLOCK],
        number: u64,
        parent: u64,
        index: usize,
        path: &str,
        watch: &dyn Watch,
        depth: usize,
    ) -> Result<()> {
        let raw = counted(block, at::NAME, block::MOST_NAME);
        let name = latin(raw);
        let path = below(path, &name);
        self.names.push(path.clone());
        let owner = self.names.len() as u32 - 1;
        let is_new = self.owners.get(number as usize) == Some(&0);
        self.own(number, owner);
        self.sum(block, &path);
        if slot(raw, self.disk.layout.is_international) != index {
            self.places.push(format!("{path} is in the wrong slot of its folder"));
        }
        if u64::from(be32(block, at::PARENT)) != parent {
            self.places.push(format!("{path} names block {} as its folder", be32(block, at::PARENT)));
        }
        match kind(block) {
            block::FOLDER if is_new && depth < 200 => self.folder(block, number, &path, watch, depth + 1)?,
            block::FILE => self.file(block, number, owner, &path)?,
            _ => {}
        }
        Ok(())
    }

    fn file(&mut self, header: &[u8; BLOCK], number: u64, owner: u32, path: &str) -> Result<()> {
        let len = u64::from(be32(header, at::LEN));
        let (data, lists, fault) = self.disk.file_blocks(header, len);
        self.broken.extend(fault.map(|f| format!("{path}: {f}")));
        for list in lists {
            self.own(list, owner);
            let block = self.disk.block(list)?;
            self.sum(&block, &format!("{path}, block {list}"));
        }
        for (index, place) in data.into_iter().enumerate() {
            self.own(place, owner);
            if self.disk.layout.is_fast {
                continue;
            }
            let block = self.disk.block(place)?;
            self.sum(&block, &format!("{path}, data block {}", index + 1));
            let told = [be32(&block, at::TYPE), be32(&block, at::OWN), be32(&block, at::COUNT)];
            if told != [block::DATA, number as u32, index as u32 + 1] {
                self.broken.push(format!("{path}: block {place} is not its data block {}", index + 1));
            }
        }
        Ok(())
    }

    /// The cache of a folder is not read, but its blocks are the folder's.
    fn cache(&mut self, first: u64, path: &str) {
        let (mut next, mut steps) = (first, 0);
        while next != 0 && steps < 10_000 {
            let Ok(block) = self.disk.block(next) else { break };
            self.own(next, 1);
            self.sum(
                &block,
                &format!("the directory cache of {}", if path.is_empty() { "the root folder" } else { path }),
            );
            next = be32(&block, at::FIRST_DATA).into();
            steps += 1;
        }
    }
}
