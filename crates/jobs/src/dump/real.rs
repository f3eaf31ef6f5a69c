//! A block device, or a file in its place.

use super::drive::{Drive, Trouble};
use decanter_core::os::{self, Kind};
use decanter_core::{Error, Guard, Result};
use std::fs::File;
use std::path::Path;

/// A block device or a file.
pub(super) struct RealDrive {
    file: File,
    kind: &'static str,
    len: u64,
    sector_len: u64,
}

impl RealDrive {
    pub(super) fn open(path: &Path, sector_len: u64, guard: &Guard) -> Result<Self> {
        if path.is_dir() {
            return Err(Error::Usage("it is a folder, not a drive".into()));
        }
        let (mut file, facts) = guard.open(path)?;
        let (kind, len) = match facts.kind {
            Kind::Device => {
                let len = os::device_len(&mut file).map_err(|e| Error::io("ask for the size", path, e))?;
                ("block device", len)
            }
            _ => ("file", facts.len),
        };
        if !len.is_multiple_of(sector_len) {
            let fits = [2352, 2448, 2336, 512].into_iter().find(|unit| len.is_multiple_of(*unit));
            let advice = match fits {
                Some(unit) => format!("add --sector-bytes {unit}, which keeps them all"),
                None => "it is no image of sectors".into(),
            };
            let len = crate::grouped(len);
            return Err(Error::Usage(format!(
                "its {len} bytes are no whole number of sectors of {sector_len} bytes: {advice}"
            )));
        }
        Ok(Self { file, kind, len, sector_len })
    }
}

impl Drive for RealDrive {
    fn describe(&self) -> String {
        self.kind.to_owned()
    }

    fn sectors(&self) -> u64 {
        self.len / self.sector_len
    }

    fn sector_len(&self) -> u64 {
        self.sector_len
    }

    fn read(&mut self, first: u64, buf: &mut [u8]) -> std::result::Result<(), Trouble> {
        os::read_exact_at(&self.file, buf, first * self.sector_len).map_err(|e| match os::is_gone(&e) {
            true => Trouble::Gone(e.to_string()),
            false => Trouble::Medium,
        })
    }
}
