//! A cartridge reader: what is read from and written to, and a simulated one. docs/simulated-reader.md describes
//! every line of its file.

use crate::toml_text;
use decanter_core::native;
use decanter_core::source::{FileSource, Source, read_vec};
use decanter_core::view::MOST_HELD;
use decanter_core::{Error, Guard, Result};
use serde::Deserialize;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Bytes of a bank, if the description says nothing else.
const BANK: u64 = 16 << 10;

/// Which memory of a cartridge.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Memory {
    /// The ROM.
    Rom,
    /// The memory that keeps saved games.
    Save,
}

/// Something that cartridges are read with, bank by bank.
pub trait Reader {
    /// What it is, in a few words.
    fn describe(&self) -> String;
    /// Bytes of a memory, as the reader knows or guesses them; 0 if the cartridge has none.
    fn len(&self, memory: Memory) -> u64;
    /// Bytes of a bank.
    fn bank_len(&self) -> u64;
    /// Reads one bank, or what there is of it.
    ///
    /// # Errors
    /// When the reader does not answer.
    fn read(&mut self, memory: Memory, bank: u64) -> Result<Vec<u8>>;
    /// Writes one bank of the save memory.
    ///
    /// # Errors
    /// When the reader does not answer, or the memory cannot be written.
    fn write(&mut self, bank: u64, bytes: &[u8]) -> Result<()>;
}

/// The file that describes a simulated reader.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Description {
    /// The ROM in the cartridge, beside the description.
    rom: String,
    /// The file that stands for its save memory; writing to the cartridge changes it.
    save: Option<String>,
    /// Bytes of a bank.
    #[serde(default = "bank_len")]
    bank_bytes: u64,
    /// Bytes that the reader takes the ROM for, where it guesses too much: the content repeats.
    reported_bytes: Option<u64>,
    /// Bytes a second over the serial line.
    bytes_per_second: Option<u64>,
    /// Contacts that are dirty.
    #[serde(default)]
    dirty: Vec<Dirty>,
    /// Cells of the save memory that keep their value.
    #[serde(default)]
    worn: Vec<Worn>,
}

/// A contact of a data line that does not always touch.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Dirty {
    /// The line: bit 0 to 7.
    bit: u8,
    /// First and last byte that it shows in.
    first: u64,
    last: u64,
    /// Each n-th byte that is read of these comes wrong; 1 means all, always.
    every: u64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Worn {
    offset: u64,
}

fn bank_len() -> u64 {
    BANK
}

/// A reader that is simulated.
pub struct SimulatedReader {
    description: Description,
    rom: Vec<u8>,
    save: Option<PathBuf>,
    /// Bytes read so far through each dirty contact.
    counts: Vec<u64>,
}

impl SimulatedReader {
    /// Opens the description at `path`; `None` if it describes something else.
    ///
    /// # Errors
    /// When it is wrong, or what it names cannot be read.
    pub fn open(path: &Path, guard: &Guard) -> Result<Option<Self>> {
        let text = guard.read_text(path)?;
        let wrong = |e: &dyn std::fmt::Display| Error::Usage(format!("{}: {e}", native::text(path)));
        let table: toml::Table = toml_text::parse(&text).map_err(|e| wrong(&e))?;
        if !table.contains_key("rom") {
            return Ok(None);
        }
        let description: Description = toml_text::parse(&text).map_err(|e| wrong(&e))?;
        if !(256..=1 << 20).contains(&description.bank_bytes) {
            return Err(wrong(&"bank_bytes has to be from 256 to 1048576"));
        }
        if description.dirty.iter().any(|d| d.bit > 7 || d.every == 0) {
            return Err(wrong(&"a dirty contact has a bit from 0 to 7, and every from 1 on"));
        }
        let folder = path.parent().unwrap_or(Path::new(""));
        let rom = FileSource::open(&folder.join(&description.rom), guard)?;
        let rom = read_vec(&rom, 0, rom.len(), "the ROM in a simulated cartridge", MOST_HELD)?;
        let save = description.save.as_ref().map(|s| folder.join(s));
        // The memory of the stand-in is what is read, although --write changes it.
        save.iter().try_for_each(|save| guard.reads_if_there(save))?;
        let counts = vec![0; description.dirty.len()];
        Ok(Some(Self { description, rom, save, counts }))
    }

    fn save_path(&self) -> Result<&Path> {
        self.save.as_deref().ok_or_else(|| Error::Usage("the cartridge has no save memory".into()))
    }
}

impl Reader for SimulatedReader {
    fn describe(&self) -> String {
        "simulated cartridge reader".into()
    }

    fn len(&self, memory: Memory) -> u64 {
        match memory {
            Memory::Rom => self.description.reported_bytes.unwrap_or(self.rom.len() as u64).min(MOST_HELD),
            Memory::Save => {
                self.save.as_ref().and_then(|s| std::fs::metadata(s).ok()).map_or(0, |m| m.len().min(MOST_HELD))
            }
        }
    }

    fn bank_len(&self) -> u64 {
        self.description.bank_bytes
    }

    fn read(&mut self, memory: Memory, bank: u64) -> Result<Vec<u8>> {
        let start = bank * self.bank_len();
        let len = self.bank_len().min(self.len(memory).saturating_sub(start));
        let mut bytes = match memory {
            Memory::Rom if self.rom.is_empty() => Vec::new(),
            // Past its end the chip's upper address lines lead nowhere, and the content shows again.
            Memory::Rom => (start..start + len).map(|at| self.rom[(at % self.rom.len() as u64) as usize]).collect(),
            Memory::Save => {
                let file = FileSource::own(self.save_path()?)?;
                read_vec(&file, start, len, "the save memory of a simulated cartridge", MOST_HELD)?
            }
        };
        for (dirty, count) in self.description.dirty.iter().zip(&mut self.counts) {
            for (index, byte) in bytes.iter_mut().enumerate() {
                if (dirty.first..=dirty.last).contains(&(start + index as u64)) {
                    *count += 1;
                    if count.is_multiple_of(dirty.every) {
                        *byte ^= 1 << dirty.bit;
                    }
                }
            }
        }
        if let Some(speed) = self.description.bytes_per_second {
            std::thread::sleep(Duration::from_secs_f64(len as f64 / speed.max(1) as f64));
        }
        Ok(bytes)
    }

    #[allow(clippy::disallowed_methods, reason = "the memory of the simulated cartridge is no output of ours")]
    fn write(&mut self, bank: u64, bytes: &[u8]) -> Result<()> {
        let path = self.save_path()?.to_owned();
        let start = bank * self.bank_len();
        // The memory of the stand-in is a small file: it is rewritten as a whole.
        let mut all = std::fs::read(&path).map_err(|e| Error::io("read", &path, e))?;
        for (index, byte) in bytes.iter().enumerate() {
            let at = start + index as u64;
            let is_worn = self.description.worn.iter().any(|w| w.offset == at);
            if let Some(cell) = all.get_mut(at as usize).filter(|_| !is_worn) {
                *cell = *byte;
            }
        }
        std::fs::write(&path, all).map_err(|e| Error::io("write", &path, e))
    }
}
