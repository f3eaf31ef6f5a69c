//! The file systems of the ext family, versions 2 to 4, read without their journal.
//!
//! Numbers are little-endian. Layout: docs/formats/ext.md.

mod check;
mod folder;
mod inode;
mod layout;
mod raw;
mod sum;
mod walk;

use super::used;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{SourceRef, read_array};
use decanter_core::{Error, Result, Watch};
use inode::Volume;
use layout::{Layout, SUPER, incompatible};
use std::sync::Arc;
use walk::Way;

const ID: &str = "ext";

/// The format.
pub struct Ext;

impl Format for Ext {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "ext file system"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Volume)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img", "ext4"]
    }

    fn reads(&self) -> &'static str {
        "ext2, ext3, ext4: extents and block lists, links; the journal is not replayed"
    }

    fn marks(&self) -> &'static [Mark] {
        &[Mark { at: SUPER + 56, bytes: &[0x53, 0xef] }]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(Layout::read(source)?.map(|_| 84))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let Some(layout) = Layout::read(source.as_ref())? else {
            return Err(Error::malformed(ID, "the superblock is none", SUPER + 56));
        };
        let unknown = layout.incompatible & !incompatible::KNOWN;
        if unknown != 0 {
            return Err(Error::unsupported(ID, format!("a volume with the features {unknown:#x}")));
        }
        let label: [u8; 16] = read_array(source.as_ref(), SUPER + 120)?;
        let mut opened = Opened::new(ID, self.name());
        opened.extent.unit = Some(512);
        opened.extent.promised_len = layout.blocks.checked_mul(layout.block_len);
        opened.fact("label", String::from_utf8_lossy(&label).trim_end_matches('\0').to_owned());
        let all = layout.blocks.saturating_mul(layout.block_len);
        let taken = layout.blocks.saturating_sub(layout.free_blocks).saturating_mul(layout.block_len);
        opened.fact("used", used(taken, all));
        opened.extent.free = Some(all - taken);
        if !layout.is_clean() {
            opened.notice("the volume was not shut down: what stands only in its journal is missing or out of date");
        }
        let volume = Volume::new(source.clone(), layout.clone());
        let walked = Way::run(&volume, opener)?;
        opened.told.notices.extend(walked.notices);
        opened.holds.tree = Some(walked.tree);
        let whole = move |watch: &dyn Watch| check::inspect(&Volume::new(source.clone(), layout.clone()), watch);
        opened.proof.inspections.push(Arc::new(whole));
        Ok(opened)
    }
}
