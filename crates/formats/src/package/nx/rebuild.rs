//! A list of contents with other records in it: hashes redone all the way up, from the list's bytes to the header of the
//! content that holds it.

use super::cnmt::Cnmt;
use super::nca::Nca;
use super::partition::{Kinds, Partition};
use super::sha256;
use decanter_core::keyring::Keyring;
use decanter_core::source::read_vec;
use decanter_core::{Error, Result};

/// The longest content with a list of contents.
const MOST: u64 = 32 << 20;
/// Where hashes of sections' headers stand, and the headers, in a content's header; and the master hash in a section's.
const HASHES_AT: usize = 0x280;
const HEADS_AT: usize = 0x400;
const MASTER_AT: usize = 8;

/// The content `nca` with `cnmt` in the place of its list, which has the same length.
///
/// # Errors
/// [`Error::Unsupported`] for a content that is laid out in another way than lists are.
pub fn with_list(nca: &Nca, cnmt: &Cnmt, keys: &Keyring) -> Result<Vec<u8>> {
    let odd = || Error::unsupported(super::cnmt::ID, "a content with a list that is laid out in another way");
    let [section] = nca.sections.as_slice() else { return Err(odd()) };
    let levels = section.levels.as_ref().filter(|l| l.levels.len() == 2 && !l.is_filled_up).ok_or_else(odd)?;
    let mut whole = read_vec(nca.clear.as_ref(), 0, nca.clear.len(), "a list of contents", MOST)?;
    let own = &mut whole[section.range.start as usize..section.range.end as usize];
    let data = levels.data().start as usize..levels.data().end as usize;
    let files = Partition::read(&decanter_core::source::Bytes(own[data.clone()].to_vec()), Kinds::Plain)?;
    let list = files.entries.iter().find(|e| e.name.ends_with(".cnmt")).ok_or_else(odd)?;
    let place = data.start + list.range.start as usize..data.start + list.range.end as usize;
    let slot = own.get_mut(place).filter(|slot| slot.len() == cnmt.raw.len()).ok_or_else(odd)?;
    slot.copy_from_slice(&cnmt.raw);
    let block = levels.levels[1].block as usize;
    let hashes: Vec<u8> = own[data].chunks(block).flat_map(sha256).collect();
    let table = levels.first().start as usize..levels.first().end as usize;
    own.get_mut(table.start..table.start + hashes.len()).ok_or_else(odd)?.copy_from_slice(&hashes);
    let master = sha256(own.get(table).ok_or_else(odd)?);
    if let Some(transform) = &nca.transform {
        transform.apply(section.range.start, &mut whole[section.range.start as usize..section.range.end as usize]);
    }
    let mut header = nca.header.clone();
    let head_at = HEADS_AT + section.index * 0x200;
    header.raw[head_at + MASTER_AT..head_at + MASTER_AT + 32].copy_from_slice(&master);
    let head_hash = sha256(&header.raw[head_at..head_at + 0x200]);
    header.raw[HASHES_AT + section.index * 32..][..32].copy_from_slice(&head_hash);
    whole[..header.raw.len()].copy_from_slice(&header.sealed(keys)?);
    Ok(whole)
}
