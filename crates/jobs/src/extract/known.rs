//! What is known of the files before they are copied: digests from a description, damage that the source itself shows.

use super::{Check, Options};
use crate::{Failure, Item, Setting, verify};
use decanter_core::Error;
use decanter_core::digest::Digest;
use std::collections::HashMap;

/// What is known of the files before they are copied.
#[derive(Default)]
pub(super) struct Known {
    /// Digests by path, from a description of the disc, which is called so.
    pub(super) expected: HashMap<String, Digest>,
    pub(super) against: Option<String>,
    /// Files that digests in the source itself show to be damaged, and how.
    pub(super) damaged: HashMap<String, String>,
    /// What is wrong with its structure.
    pub(super) structure: Vec<String>,
}

/// Whether the path `own` in a part of the source is what stands at `path` in all of it.
fn is_path_of(path: &str, own: &str) -> bool {
    path.strip_suffix(own).is_some_and(|before| before.is_empty() || before.ends_with('/'))
}

impl Known {
    /// Asks a description, if there is one, and the digests that the source carries, unless these are compared later.
    pub(super) fn of(item: &Item, options: &Options, check: Check, setting: &Setting<'_>) -> Result<Self, Failure> {
        let fail = |e| Failure::new(format!("cannot extract \"{}\"", item.shown), e);
        let mut known = Self::default();
        if setting.unchecked {
            return Ok(known);
        }
        if let Some((name, digests)) = verify::expected_files(item, &options.against, options.verify, setting)? {
            (known.against, known.expected) = (Some(name), digests);
        }
        if check == Check::Beside {
            return Ok(known);
        }
        let mut damage = item.damage(setting).map_err(fail)?;
        let paths: Vec<&str> =
            item.opened.holds.tree.iter().flat_map(|t| t.files()).map(|(n, _)| n.path.as_str()).collect();
        for one in &mut damage {
            // A part of a package knows its files by their paths in that part.
            one.files = one
                .files
                .iter()
                .filter_map(|own| paths.iter().find(|p| is_path_of(p, own)))
                .map(|p| (*p).to_owned())
                .collect();
            for path in &one.files {
                known.damaged.entry(path.clone()).or_insert_with(|| one.what.clone());
            }
        }
        for one in &damage {
            if !one.is_digest {
                known.structure.push(one.what.clone());
            } else if one.files.is_empty() && !damage.iter().any(|d| d.of == one.of && !d.files.is_empty()) {
                let what = format!("{}, and nothing tells which files that hits", one.what);
                return Err(fail(Error::Damaged { what })
                    .hint("dump or copy it again; --unchecked takes the files out as they are"));
            }
        }
        Ok(known)
    }
}
