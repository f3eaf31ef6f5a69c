//! Plans for drives that cannot see the whole disc: which sectors are read, and which are filled with zeros.

use super::drive::Drive;
use crate::{Setting, grouped, toml_text};
use decanter_core::native;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::{Error, Guard, Keyring, Result, SECTOR};
use decanter_formats::optical::xdvdfs::{self, PartitionPlace};
use serde::{Deserialize, Serialize};
use std::fmt::Write;
use std::path::Path;
use std::sync::{Arc, Mutex};

/// Regions of a plan.
const MOST_REGIONS: usize = 10_000;

/// What to do with a region.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Action {
    /// Read it from the drive.
    Read,
    /// Fill it with zeros.
    Fill,
}

/// Some sectors.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Region {
    /// First sector.
    pub first: u64,
    /// Number of sectors.
    pub count: u64,
    /// What to do with them.
    pub action: Action,
}

/// A plan: regions without gaps from sector 0 to the end of the disc.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Plan {
    /// Sectors of the finished image.
    pub sectors: u64,
    /// The regions.
    pub region: Vec<Region>,
}

impl Plan {
    /// All sectors are read.
    pub fn whole(sectors: u64) -> Self {
        Self { sectors, region: vec![Region { first: 0, count: sectors, action: Action::Read }] }
    }

    /// Reads a plan.
    ///
    /// # Errors
    /// When it is not there, or its regions leave gaps, overlap or do not add up to its size.
    pub fn load(path: &Path, guard: &Guard) -> Result<Self> {
        let text = guard.read_text(path)?;
        let wrong = |what: String| Error::Usage(format!("{}: {what}", native::text(path)));
        let plan: Self = toml_text::parse(&text).map_err(wrong)?;
        if plan.region.len() > MOST_REGIONS {
            return Err(wrong(format!("more than {} regions", grouped(MOST_REGIONS as u64))));
        }
        let mut next = 0u64;
        for (index, region) in plan.region.iter().enumerate() {
            if region.first != next {
                return Err(wrong(format!(
                    "region {} begins at sector {}, but the one before it ends before {next}",
                    index + 1,
                    region.first
                )));
            }
            next = next.checked_add(region.count).ok_or_else(|| wrong("a region is too long".into()))?;
        }
        if next != plan.sectors {
            return Err(wrong(format!(
                "its regions have {} sectors, but the image should have {}",
                grouped(next),
                grouped(plan.sectors)
            )));
        }
        Ok(plan)
    }

    /// What a drive shows, as a plan with remarks for whoever edits it.
    pub fn describe(drive: Box<dyn Drive>, sectors: u64, setting: &Setting<'_>) -> String {
        let (reported, len) = (drive.sectors(), drive.sector_len());
        let view: SourceRef = Arc::new(DriveSource { len: sectors * len, sector_len: len, drive: Mutex::new(drive) });
        let found = xdvdfs::find(view.as_ref()).ok().flatten();
        let mut text = String::from("# A plan for \"decanter dump DRIVE --plan FILE -o IMAGE\".\n");
        let _ = writeln!(text, "# The drive reports {} sectors of {len} bytes.", grouped(reported));
        let sector = |place: &PartitionPlace| place.offset / SECTOR;
        match found {
            Some(place) => {
                let (discs, at) = (place.discs, sector(place));
                let _ = writeln!(text, "# Found: {discs}; the game partition begins at sector {at}.");
            }
            None if may_hide_a_game(&view, setting) => {
                text.push_str("# No game partition was found at its known places:\n");
                for place in &xdvdfs::PLACES {
                    let is_seen = sector(place) + 33 <= sectors;
                    let seen = if is_seen { "looked at" } else { "beyond what the drive shows" };
                    let _ = writeln!(text, "#   sector {:<8} {} ({seen})", sector(place), place.discs);
                }
            }
            None => {}
        }
        if found.is_none() && sectors <= reported {
            text.push_str(
                "# To read on beyond what the drive shows, say how many sectors the disc has: the same command\n",
            );
            text.push_str("# with --sectors N. The plan then has a region of its own for what lies beyond.\n");
        }
        text.push_str(
            "# Regions follow each other from sector 0 on. action is \"read\" or \"fill\" (zeros, where the drive\n",
        );
        text.push_str("# shows nothing). Their counts have to add up to the sectors of the finished image.\n");
        let _ = write!(text, "\nsectors = {sectors}\n");
        let mut region = |first: u64, count: u64| {
            if count > 0 {
                let _ = write!(text, "\n[[region]]\nfirst = {first}\ncount = {count}\naction = \"read\"\n");
            }
        };
        let partition = found.map_or(0, |p| p.offset / SECTOR).min(sectors);
        let mut cuts = [0, partition, reported.min(sectors), sectors];
        cuts.sort_unstable();
        cuts.windows(2).for_each(|w| region(w[0], w[1] - w[0]));
        text
    }
}

/// Whether what a drive shows may be the beginning of a game disc that it shows no more of: the part for video players,
/// or nothing that is known.
fn may_hide_a_game(shown: &SourceRef, setting: &Setting<'_>) -> bool {
    let keys = Keyring::default();
    match setting.opener(&keys).open(shown.clone()) {
        Ok(opened) => xdvdfs::is_video_part(opened.holds.tree.as_ref(), shown.len()),
        Err(_) => true,
    }
}

/// A drive as a source, for a look at its first structures.
struct DriveSource {
    len: u64,
    sector_len: u64,
    drive: Mutex<Box<dyn Drive>>,
}

impl Source for DriveSource {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let first = offset / self.sector_len;
        let end = (offset + buf.len() as u64).div_ceil(self.sector_len);
        let mut sectors = vec![0; ((end - first) * self.sector_len) as usize];
        let mut drive = self.drive.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        drive
            .read(first, &mut sectors)
            .map_err(|_| Error::Unreadable { why: format!("sector {first} cannot be read") })?;
        let from = (offset - first * self.sector_len) as usize;
        buf.copy_from_slice(&sectors[from..from + buf.len()]);
        Ok(())
    }
}
