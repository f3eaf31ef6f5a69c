//! FAT12, FAT16 and FAT32 with long names (the FAT specification, and ECMA-107).
//!
//! Numbers are little-endian. Layout: docs/formats/fat.md.

mod check;
mod layout;
mod names;
mod raw;
mod table;
mod walk;

use super::BOOT_MARK;
use super::used;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use layout::Layout;
use std::sync::Arc;
use table::Table;
use walk::Way;

const ID: &str = "fat";

/// The format.
pub struct Fat;

impl Format for Fat {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "FAT file system"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Volume)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img", "ima"]
    }

    fn reads(&self) -> &'static str {
        "FAT12, FAT16, FAT32; long names; floppy disks of home computers, without the mark of PCs"
    }

    fn marks(&self) -> &'static [Mark] {
        const {
            &[
                BOOT_MARK,
                // Floppy disks of home computers have no such mark; their table begins after one sector.
                Mark { at: 512, bytes: &[0xf0, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xf7, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xf8, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xf9, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xfa, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xfb, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xfc, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xfd, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xfe, 0xff, 0xff] },
                Mark { at: 512, bytes: &[0xff, 0xff, 0xff] },
            ]
        }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(Layout::read(source)?.map(|_| 82))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let Some(layout) = Layout::read(source.as_ref())? else {
            return Err(Error::malformed(ID, "the first sector is none of a FAT volume", 11));
        };
        let mut opened = Opened::new(ID, format!("{} file system", layout.name()));
        opened.extent.unit = Some(512);
        opened.extent.promised_len = Some(layout.len);
        let mut table = Table::new(source.clone(), layout.clone());
        let found = Way::run(&source, &mut table, opener)?;
        opened.fact("label", found.label);
        opened.fact("clusters", format!("{} of {} bytes", layout.clusters, layout.cluster_len));
        match Table::new(source.clone(), layout.clone()).count(opener.watch()) {
            Ok(taken) => {
                let bytes = u64::from(taken) * layout.cluster_len;
                let all = u64::from(layout.clusters) * layout.cluster_len;
                opened.fact("used", used(bytes, all));
                opened.extent.free = Some(all.saturating_sub(bytes));
            }
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            // A table that cannot be read is told by the files whose chains it holds, and by verify.
            Err(_) => {}
        }
        opened.extent.structure.push(0..layout.data_at);
        opened.extent.structure.extend(found.walked.structure);
        opened.told.notices.extend(found.walked.notices);
        let mut tree = found.walked.tree;
        let shared = found.claims.mark(&mut tree, |cluster| layout.place(u32::try_from(cluster).ok()?));
        let met = check::Met { shared, chained: found.clusters, entries: found.faults };
        opened.proof.inspections.push(Arc::new(move |watch| check::inspect(&source, &layout, &met, watch)));
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

#[cfg(test)]
mod tests {
    use super::layout::ENTRY;
    use super::*;

    /// A FAT12 volume of one table, clusters of a sector, and files of the root: name, first cluster, length.
    fn volume(chains: &[(u32, u32)], files: &[(&[u8; 8], u16, u32)]) -> SourceRef {
        let mut b = vec![0; 512 * 40];
        b[..3].copy_from_slice(&[0xeb, 0x3c, 0x90]);
        // 512 bytes a sector, one sector a cluster, one reserved, one table, 16 entries in the root, 40 sectors, F8h.
        b[11..22].copy_from_slice(&[0, 2, 1, 1, 0, 1, 16, 0, 40, 0, 0xf8]);
        b[22] = 1;
        b[510..512].copy_from_slice(&[0x55, 0xaa]);
        for (cluster, next) in chains {
            let at = 512 + *cluster as usize * 3 / 2;
            let shift = if cluster % 2 == 0 { 0 } else { 4 };
            let pair = u16::from_le_bytes([b[at], b[at + 1]]) | (*next as u16) << shift;
            b[at..at + 2].copy_from_slice(&pair.to_le_bytes());
        }
        for (index, (name, first, len)) in files.iter().enumerate() {
            let entry = &mut b[1024 + index * ENTRY..][..ENTRY];
            entry[..8].copy_from_slice(*name);
            entry[8..11].fill(b' ');
            entry[26..28].copy_from_slice(&first.to_le_bytes());
            entry[28..].copy_from_slice(&len.to_le_bytes());
        }
        Arc::new(decanter_core::source::Bytes(b))
    }

    #[test]
    fn a_floppy_disk_without_the_mark_is_read_and_other_bytes_are_not() {
        let open = |change: &dyn Fn(&mut Vec<u8>)| {
            let marked = volume(&[(2, 0xfff)], &[(b"LOW TIDE", 2, 300)]);
            let mut b = decanter_core::source::read_vec(marked.as_ref(), 0, marked.len(), "a volume", 1 << 20).unwrap();
            b[512..515].copy_from_slice(&[0xf8, 0xff, 0xff]);
            // As a home computer starts from it: a branch of another processor, and no mark.
            b[..3].copy_from_slice(&[0x60, 0x1c, 0]);
            b[510..512].fill(0);
            change(&mut b);
            let keys = decanter_core::Keyring::default();
            let opener = Opener::new(&crate::REGISTRY, &keys);
            opener.open(Arc::new(decanter_core::source::Bytes(b))).ok()
        };
        let opened = open(&|_| {}).unwrap();
        assert_eq!((opened.identity.format, opened.holds.tree.unwrap().files().count()), ("fat", 1));
        assert!(open(&|b| b[513] = 0).is_none_or(|o| o.identity.format != "fat"), "the table begins otherwise");
        assert!(open(&|b| b.truncate(512 * 39)).is_none_or(|o| o.identity.format != "fat"), "it has another length");
        assert!(open(&|b| b[13] = 3).is_none_or(|o| o.identity.format != "fat"), "no cluster has three sectors");
    }

    #[test]
    fn what_shares_clusters_or_goes_in_circles_is_broken() {
        let chains = [(2, 3), (3, 0xfff), (4, 3), (5, 6), (6, 5), (7, 0xfff), (8, 9), (9, 0xff7)];
        let files = [
            (b"FIRST   ", 2, 1024),
            (b"SECOND  ", 4, 1024),
            (b"CIRCLE  ", 5, 9 * 512),
            (b"GOOD    ", 7, 500),
            (b"BROKEN  ", 8, 3 * 512),
        ];
        let keys = decanter_core::Keyring::default();
        let opener = Opener::new(&crate::REGISTRY, &keys);
        let opened = Fat.open(volume(&chains, &files), &opener).unwrap();
        let tree = opened.holds.tree.unwrap();
        let good: Vec<&str> = tree.files().filter(|(_, f)| f.source().is_ok()).map(|(n, _)| n.path.as_str()).collect();
        assert_eq!(good, ["GOOD"]);
        let found = opened.proof.inspections[0](&()).unwrap();
        assert!(found.iter().any(|s| !s.holds && s.matters.is_some()), "a check tells it too");
    }
}
