//! The rigid disk block: the partition table of Amiga hard disks, in one of the first sixteen blocks.

use super::block::{BLOCK, counted, latin, sum};
use crate::disk::{Partition, add_partition};
use crate::num::be32;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::{Error, Result};
use std::collections::HashSet;

const ID: &str = "rdb";
/// Blocks in which it may stand.
const PLACES: u64 = 16;
/// The value that ends a chain.
const NONE: u32 = u32::MAX;

/// The format.
pub struct Rdb;

fn find(source: &dyn Source) -> Result<Option<u64>> {
    for number in 0..PLACES.min(source.len() / BLOCK as u64) {
        if &read_array::<4>(source, number * BLOCK as u64)? == b"RDSK" {
            return Ok(Some(number));
        }
    }
    Ok(None)
}

impl Format for Rdb {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Amiga hard disk with a rigid disk block"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Drive)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["hdf"]
    }

    fn reads(&self) -> &'static str {
        "the chain of partitions, by their device names"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(find(source)?.map(|_| 92))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let number = find(source.as_ref())?.ok_or_else(|| Error::malformed(ID, "there is no rigid disk block", 0))?;
        let head: [u8; BLOCK] = read_array(source.as_ref(), number * BLOCK as u64)?;
        let mut opened = Opened::new(ID, self.name());
        opened.extent.unit = Some(512);
        if sum(&head[..checked(&head)]) != 0 {
            opened.damage("the checksum of the rigid disk block does not hold");
        }
        opened.fact(
            "geometry",
            format!("{} cylinders, {} heads, {} sectors", be32(&head, 64), be32(&head, 72), be32(&head, 68)),
        );
        let (mut next, mut seen) = (be32(&head, 28), HashSet::new());
        while next != NONE {
            let here = u64::from(next) * BLOCK as u64;
            if !seen.insert(next) || here + BLOCK as u64 > source.len() {
                opened.damage(format!("the chain of partitions breaks at block {next}"));
                break;
            }
            let part: [u8; BLOCK] = read_array(source.as_ref(), here)?;
            if &part[..4] != b"PART" {
                opened.damage(format!("block {next} should be a partition, but is none"));
                break;
            }
            let name = latin(counted(&part, 36, 31));
            if sum(&part[..checked(&part)]) != 0 {
                opened.damage(format!("the checksum of partition {name} does not hold"));
            }
            let field = |index: usize| u64::from(be32(&part, 128 + index * 4));
            let block_len = field(1).saturating_mul(4);
            let cylinder = field(3).saturating_mul(field(5)).saturating_mul(block_len);
            let count = (field(10) + 1).saturating_sub(field(9));
            let system = [0, 1, 2].map(|i| char::from(part[128 + 64 + i])).iter().collect::<String>();
            let boots = if be32(&part, 20) & 1 != 0 { ", bootable" } else { "" };
            let partition = Partition {
                name,
                kind: format!("{}\\{}{boots}", system.escape_default(), part[128 + 67]),
                start: field(9).saturating_mul(cylinder),
                len: count.saturating_mul(cylinder),
            };
            add_partition(&mut opened, &partition, &source, opener)?;
            next = be32(&part, 16);
        }
        opened.holds.tree.get_or_insert_default();
        Ok(opened)
    }
}

/// Bytes that the checksum of a block covers.
fn checked(block: &[u8; BLOCK]) -> usize {
    (be32(block, 4) as usize).min(BLOCK / 4) * 4
}
