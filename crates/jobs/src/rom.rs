//! What is known of a ROM, for reports.

use decanter_core::rom::{Check, Rom, SaveMemory, Shape};
use serde::Serialize;

/// What is known of a ROM.
#[derive(Debug, Clone, Serialize)]
pub struct RomReport {
    /// The form that the file is in.
    pub form: &'static str,
    /// What it was looked through.
    pub through: Option<String>,
    /// Bytes of the ROM itself.
    pub bytes: u64,
    /// Bytes that its header declares.
    pub declared_bytes: Option<u64>,
    /// How both compare.
    pub shape: Shape,
    /// Its checksums.
    pub checks: Vec<Check>,
    /// The memory that keeps its saved games.
    pub save: SaveMemory,
}

impl RomReport {
    /// What is known of `rom`.
    pub fn of(rom: &Rom) -> Self {
        Self {
            form: rom.form,
            through: rom.through.clone(),
            bytes: rom.body.len(),
            declared_bytes: rom.declared.map(decanter_core::rom::Declared::bytes),
            shape: rom.shape.clone(),
            checks: rom.checks.clone(),
            save: rom.save.clone(),
        }
    }

    /// Whether every checksum holds.
    pub fn is_right(&self) -> bool {
        self.checks.iter().all(|c| c.is_right)
    }
}
