//! A simulated drive: an image behind a drive with a size, a speed and faults, described by a TOML file.
//!
//! docs/simulated-drive.md describes every line of the file.

use super::drive::{Drive, Trouble};
use crate::toml_text;
use decanter_core::native;
use decanter_core::source::{FileSource, Source};
use decanter_core::{Error, Guard, Result, SECTOR};
use serde::Deserialize;
use std::collections::HashMap;
use std::path::Path;
use std::time::{Duration, Instant};

/// The file.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Description {
    /// The image, beside the description.
    image: String,
    /// Bytes of a sector.
    #[serde(default = "sector_len")]
    sector_bytes: u64,
    /// Sectors that the drive says it has; without it those of the image.
    reported_sectors: Option<u64>,
    /// Bytes a second; without it as fast as it goes.
    bytes_per_second: Option<u64>,
    /// Sector at which the drive vanishes.
    vanishes_at: Option<u64>,
    /// Another medium that is in the drive from some sector on.
    swapped: Option<Swapped>,
    /// Sectors that never answer.
    #[serde(default)]
    bad: Vec<Range>,
    /// Sectors that answer on the n-th try.
    #[serde(default)]
    flaky: Vec<Flaky>,
    /// Sectors that return wrong bytes the first time.
    #[serde(default)]
    wrong_once: Vec<Range>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Range {
    first: u64,
    last: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Flaky {
    first: u64,
    last: u64,
    answers_on: u32,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Swapped {
    image: String,
    from_sector: u64,
}

fn sector_len() -> u64 {
    SECTOR
}

/// The drive.
pub struct SimulatedDrive {
    description: Description,
    medium: FileSource,
    other: Option<FileSource>,
    swapped: bool,
    /// How often each flaky or wrong sector was asked for.
    tries: HashMap<u64, u32>,
    busy_until: Instant,
}

/// The longest description that is looked at for a hint.
const MOST_DESCRIPTION: u64 = 64 << 10;

/// Whether a file describes a simulated drive or cartridge reader.
pub fn is_description(path: &Path, guard: &Guard) -> bool {
    let is_short = std::fs::metadata(path).is_ok_and(|meta| meta.is_file() && meta.len() <= MOST_DESCRIPTION);
    let text = is_short.then(|| guard.read_text(path).ok()).flatten();
    let table = text.and_then(|text| toml_text::parse::<toml::Table>(&text).ok());
    table.is_some_and(|table| table.contains_key("image") || table.contains_key("rom"))
}

impl SimulatedDrive {
    /// Opens the description at `path`.
    ///
    /// # Errors
    /// When it, or the image that it names, cannot be read.
    pub fn open(path: &Path, guard: &Guard) -> Result<Self> {
        let text = guard.read_text(path)?;
        let description: Description =
            toml_text::parse(&text).map_err(|why| Error::Usage(format!("{}: {why}", native::text(path))))?;
        if !(512..=4096).contains(&description.sector_bytes) {
            return Err(Error::Usage(format!("{}: sector_bytes has to be from 512 to 4096", native::text(path))));
        }
        let folder = path.parent().unwrap_or(Path::new(""));
        let medium = FileSource::open(&folder.join(&description.image), guard)?;
        let other =
            description.swapped.as_ref().map(|s| FileSource::open(&folder.join(&s.image), guard)).transpose()?;
        Ok(Self { description, medium, other, swapped: false, tries: HashMap::new(), busy_until: Instant::now() })
    }

    /// Whether a faulty sector answers this time.
    fn fault(&mut self, sector: u64) -> Option<Fault> {
        let d = &self.description;
        let within = |r: &Range| (r.first..=r.last).contains(&sector);
        if d.bad.iter().any(within) {
            return Some(Fault::Silent);
        }
        if let Some(flaky) = d.flaky.iter().find(|f| (f.first..=f.last).contains(&sector)) {
            let tries = self.tries.entry(sector).or_default();
            *tries += 1;
            return (*tries < flaky.answers_on).then_some(Fault::Silent);
        }
        if d.wrong_once.iter().any(within) {
            let tries = self.tries.entry(sector).or_default();
            *tries += 1;
            return (*tries == 1).then_some(Fault::Wrong);
        }
        None
    }
}

enum Fault {
    Silent,
    Wrong,
}

impl Drive for SimulatedDrive {
    fn describe(&self) -> String {
        "simulated drive".into()
    }

    fn sectors(&self) -> u64 {
        self.description.reported_sectors.unwrap_or(self.medium.len() / self.description.sector_bytes)
    }

    fn sector_len(&self) -> u64 {
        self.description.sector_bytes
    }

    fn read(&mut self, first: u64, buf: &mut [u8]) -> std::result::Result<(), Trouble> {
        let len = self.description.sector_bytes;
        let last = first + buf.len() as u64 / len - 1;
        if let Some(speed) = self.description.bytes_per_second {
            let now = Instant::now();
            self.busy_until =
                self.busy_until.max(now) + Duration::from_secs_f64(buf.len() as f64 / speed.max(1) as f64);
            std::thread::sleep(self.busy_until - now);
        }
        if self.description.vanishes_at.is_some_and(|at| last >= at) {
            return Err(Trouble::Gone("the drive no longer answers".into()));
        }
        self.swapped |= self.description.swapped.as_ref().is_some_and(|s| last >= s.from_sector);
        let has_faults = !(self.description.bad.is_empty()
            && self.description.flaky.is_empty()
            && self.description.wrong_once.is_empty());
        let (mut silent, mut wrong) = (false, Vec::new());
        if has_faults {
            for sector in first..=last {
                match self.fault(sector) {
                    Some(Fault::Silent) => silent = true,
                    Some(Fault::Wrong) => wrong.push(sector),
                    None => {}
                }
            }
        }
        if silent {
            return Err(Trouble::Medium);
        }
        let medium = if self.swapped { self.other.as_ref().unwrap_or(&self.medium) } else { &self.medium };
        medium.read_at(first * len, buf).map_err(|_| Trouble::Medium)?;
        for sector in wrong {
            buf[((sector - first) * len) as usize + 7] ^= 0x10;
        }
        Ok(())
    }
}
