//! Sectors 0 and 1 of a PS3 disc: which regions are plain, and the disc's id. Layout: docs/formats/ps3-disc.md.

use decanter_core::opened::Region;
use decanter_core::source::{Source, read_array, read_vec};
use decanter_core::{Error, Result, SECTOR};
use std::ops::Range;
use zerocopy::byteorder::{BE, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

/// Plain regions that fit in sector 0.
const MOST_PLAIN: usize = (SECTOR as usize - 8) / 8;
/// What sector 1 begins with.
pub(super) const MAGIC: &[u8; 12] = b"PlayStation3";
/// Where the id stands in sector 1, and how many bytes it may have; the rest is spaces or zeros.
const ID_AT: u64 = SECTOR + 0x10;
const ID_LEN: u64 = 0x20;

/// Sectors 0 and 1 of a disc of `sectors` sectors with this id, nothing of which is encrypted.
pub fn system_area(id: &str, sectors: u32) -> Vec<u8> {
    let mut bytes = vec![0; 2 * SECTOR as usize];
    bytes[..4].copy_from_slice(&1u32.to_be_bytes());
    bytes[12..16].copy_from_slice(&(sectors - 1).to_be_bytes());
    let second = &mut bytes[SECTOR as usize..];
    second[..12].copy_from_slice(MAGIC);
    second[0x10..0x30].fill(b' ');
    let id = &id.as_bytes()[..id.len().min(ID_LEN as usize)];
    second[0x10..0x10 + id.len()].copy_from_slice(id);
    bytes
}

/// A plain region: its first and last sector, both included.
#[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawRegion {
    first: U32<BE>,
    last: U32<BE>,
}

const _: () = assert!(size_of::<RawRegion>() == 8);

/// The region table of a disc.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RegionTable {
    /// Plain and encrypted regions in turn, by byte range, without gaps from 0 to the end of the disc.
    pub regions: Vec<Region>,
}

impl RegionTable {
    /// Reads the table of sector 0.
    ///
    /// # Errors
    /// [`Error::Malformed`] for no plain region or too many, and for regions that are not in order, overlap, or
    /// leave nothing between them.
    pub fn read(source: &dyn Source) -> Result<Self> {
        let bad = |what: String, offset: u64| Err(Error::malformed(super::ID, what, offset));
        let sector: [u8; SECTOR as usize] = read_array(source, 0)?;
        let count = u32::from_be_bytes([sector[0], sector[1], sector[2], sector[3]]) as usize;
        if count == 0 || count > MOST_PLAIN {
            return bad(format!("a table of {count} plain regions (1 to {MOST_PLAIN} are possible)"), 0);
        }
        let plain = <[RawRegion]>::ref_from_prefix_with_elems(&sector[8..], count).map(|(t, _)| t);
        let Ok(plain) = plain else { return bad("the region table does not fit in its sector".into(), 8) };
        let mut regions = Vec::new();
        let mut next = 0;
        for (index, region) in plain.iter().enumerate() {
            let at = 8 + 8 * index as u64;
            let (first, last) = (u64::from(region.first.get()), u64::from(region.last.get()));
            if index == 0 && first != 0 {
                return bad(format!("the first plain region begins at sector {first} instead of 0"), at);
            }
            if last < first || (index > 0 && first <= next) {
                return bad(format!("plain region {index} (sectors {first} to {last}) is out of order"), at);
            }
            if index > 0 {
                regions.push(Region { range: next * SECTOR..first * SECTOR, encrypted: true });
            }
            next = last + 1;
            regions.push(Region { range: first * SECTOR..next * SECTOR, encrypted: false });
        }
        Ok(Self { regions })
    }

    /// Bytes of the whole disc: the last plain region ends with it.
    pub fn disc_len(&self) -> u64 {
        self.regions.last().map_or(0, |r| r.range.end)
    }

    /// The byte ranges of the encrypted regions.
    pub fn encrypted(&self) -> Vec<Range<u64>> {
        self.regions.iter().filter(|r| r.encrypted).map(|r| r.range.clone()).collect()
    }
}

/// Whether sector 1 says that this is such a disc.
///
/// # Errors
/// What reading fails with.
pub fn has_magic(source: &dyn Source) -> Result<bool> {
    if source.len() < 2 * SECTOR {
        return Ok(false);
    }
    Ok(&read_array::<12>(source, SECTOR)? == MAGIC)
}

/// The id in sector 1, as in `DCNT-10001`.
///
/// # Errors
/// What reading fails with.
pub fn disc_id(source: &dyn Source) -> Result<String> {
    let field = read_vec(source, ID_AT, ID_LEN, "the disc id", ID_LEN)?;
    let end = field.iter().position(|b| !b.is_ascii_graphic()).unwrap_or(field.len());
    Ok(field[..end].iter().map(|&b| char::from(b)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;

    fn table(words: &[u32]) -> Bytes {
        let mut sector: Vec<u8> = words.iter().flat_map(|w| w.to_be_bytes()).collect();
        sector.resize(2048, 0);
        Bytes(sector)
    }

    #[test]
    fn what_lies_between_plain_regions_is_encrypted() {
        let table = RegionTable::read(&table(&[3, 0, 0, 9, 20, 29, 40, 49])).unwrap();
        let shown: Vec<_> =
            table.regions.iter().map(|r| (r.range.start / 2048, r.range.end / 2048, r.encrypted)).collect();
        assert_eq!(shown, [(0, 10, false), (10, 20, true), (20, 30, false), (30, 40, true), (40, 50, false)]);
        assert_eq!(table.disc_len(), 50 * 2048);
    }

    #[test]
    fn impossible_tables_say_where_and_why() {
        let offset = |words: &[u32]| match RegionTable::read(&table(words)) {
            Err(Error::Malformed { offset, .. }) => Some(offset),
            _ => None,
        };
        assert_eq!(offset(&[0, 0]), Some(0), "no region");
        assert_eq!(offset(&[256, 0]), Some(0), "too many");
        assert_eq!(offset(&[1, 0, 5, 9]), Some(8), "not from the beginning");
        assert_eq!(offset(&[2, 0, 0, 9, 10, 12]), Some(16), "nothing in between");
        assert_eq!(offset(&[2, 0, 0, 9, 30, 20]), Some(16), "backwards");
        assert_eq!(offset(&[1, 0, 0, u32::MAX]), None, "the largest disc");
    }

    proptest! {
        #[test]
        fn any_sector_is_a_table_or_an_error(words in proptest::collection::vec(prop_oneof![0u32..64, any::<u32>()], 2..512)) {
            if let Ok(table) = RegionTable::read(&table(&words)) {
                let joined = table.regions.windows(2).all(|w| w[0].range.end == w[1].range.start && w[0].encrypted != w[1].encrypted);
                prop_assert!(joined && table.regions[0].range.start == 0);
            }
        }
    }
}
