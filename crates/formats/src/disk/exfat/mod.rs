//! exFAT, as its maker's specification has it: large cards and sticks.
//!
//! Numbers are little-endian. Layout: docs/formats/exfat.md.

mod chain;
mod check;
mod layout;
mod walk;

use super::used;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use layout::Layout;
use std::sync::Arc;
use walk::Way;

const ID: &str = "exfat";

/// The format.
pub struct ExFat;

impl Format for ExFat {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "exFAT file system"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Volume)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img"]
    }

    fn reads(&self) -> &'static str {
        "files, folders, names and times; checksums of the first sectors and of entries"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark { at: 3, bytes: b"EXFAT   " }] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(Layout::read(source)?.map(|_| 95))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let Some(layout) = Layout::read(source.as_ref())? else {
            return Err(Error::malformed(ID, "the first sector is none of such a volume", 64));
        };
        let mut opened = Opened::new(ID, "exFAT file system");
        opened.extent.unit = Some(512);
        opened.extent.promised_len = Some(layout.len);
        let found = Way::run(&source, &layout, opener)?;
        opened.fact("label", found.label);
        opened.fact("clusters", format!("{} of {} bytes", layout.clusters, layout.cluster_len));
        if let Some(taken) = found.taken {
            let all = u64::from(layout.clusters) * layout.cluster_len;
            let bytes = taken * layout.cluster_len;
            opened.fact("used", used(bytes, all));
            opened.extent.free = Some(all.saturating_sub(bytes));
        }
        if layout.is_dirty {
            opened.notice("the volume was not shut down: what was written last may be missing");
        }
        opened.extent.structure.push(0..layout.heap_at);
        opened.extent.structure.extend(found.walked.structure);
        opened.told.notices.extend(found.walked.notices);
        let mut tree = found.walked.tree;
        let shared = found.claims.mark(&mut tree, |cluster| layout.place(u32::try_from(cluster).ok()?));
        let met = check::Met { shared, owned: found.owned, taken: found.taken, entries: found.faults };
        opened.proof.inspections.push(Arc::new(move |watch| check::inspect(&source, &layout, &met, watch)));
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}
