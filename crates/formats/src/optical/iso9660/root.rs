//! Quick looks at a volume: cheap enough to tell one kind of disc from another.

use super::raw::Descriptor;
use super::raw::{CD001, FIRST_DESCRIPTOR, PRIMARY};
use crate::raw::read_at;
use decanter_core::source::{Source, read_vec};
use decanter_core::{Result, SECTOR};

/// Bytes of the root folder that are looked at.
const MOST_ROOT: u64 = 8 * SECTOR;

/// The system identifier of the first descriptor (ECMA-119, 8.4.5), if there is a primary one in its place.
///
/// # Errors
/// What reading fails with.
pub fn system_id(source: &dyn Source) -> Result<Option<String>> {
    let Some(descriptor) = descriptor(source)? else { return Ok(None) };
    Ok(Some(String::from_utf8_lossy(&descriptor.system).trim_end_matches([' ', '\0']).to_owned()))
}

/// Whether the root folder lists `name`, without version, in capitals: a look at its first bytes, not a walk.
///
/// # Errors
/// What reading fails with.
pub fn root_has(source: &dyn Source, name: &str) -> Result<bool> {
    let Some(descriptor) = descriptor(source)? else { return Ok(false) };
    let root = &descriptor.root;
    let (start, len) = (u64::from(root.extent.get().0) * SECTOR, u64::from(root.data_length.get().0).min(MOST_ROOT));
    if start.saturating_add(len) > source.len() {
        return Ok(false);
    }
    let folder = read_vec(source, start, len, "a folder", MOST_ROOT)?;
    Ok(folder.windows(name.len()).any(|w| w.eq_ignore_ascii_case(name.as_bytes())))
}

fn descriptor(source: &dyn Source) -> Result<Option<Descriptor>> {
    if source.len() < (FIRST_DESCRIPTOR + 1) * SECTOR {
        return Ok(None);
    }
    let own: Descriptor = read_at(source, FIRST_DESCRIPTOR * SECTOR)?;
    Ok((own.kind == PRIMARY && own.identifier == CD001).then_some(own))
}
