//! PC Engine. Its ROMs have no header: they are known by where the processor starts. docs/formats/pce.md.

use super::order::mirror_bits;
use super::{COPIER, Family, behind_copier, finish, has_copier_header, load, measure, plain, without_head};
use crate::num::le16;
use decanter_core::Result;
use decanter_core::opened::Opened;
use decanter_core::rom::{SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::view::Blockwise;
use std::sync::Arc;

/// The family.
pub static PC_ENGINE: Family = Family {
    id: "pce",
    name: "PC Engine ROM",
    extensions: &["pce"],
    reads: "known by its start code; with or without a copier header, also with mirrored bits",
    least: BANK,
    score,
    open,
};

/// Bytes of a bank; the first one is where the processor starts.
const BANK: u64 = 8 << 10;
/// The largest cartridge.
const MOST: u64 = 8 << 20;
/// Where the reset vector stands in that bank, and the address that the bank has then.
const VECTOR: usize = 0x1ffe;
const BANK_AT: u16 = 0xe000;
/// Bytes of start code that are looked at.
const START: usize = 32;

/// Whether the bank starts as programs of this processor do: interrupts off, high speed, memory mapped.
fn starts(bank: &[u8]) -> bool {
    let Some(at) = le16(bank, VECTOR).checked_sub(BANK_AT).map(usize::from) else { return false };
    let Some(code) = bank.get(at..(at + START).min(VECTOR)) else { return false };
    // SEI, CSH, CLD in some order within the first instructions, and a TAM soon after.
    let early = &code[..code.len().min(6)];
    let switches = early.iter().filter(|b| matches!(b, 0x78 | 0xd4 | 0xd8)).count();
    let maps = code.windows(2).any(|w| w[0] == 0x53 && w[1].is_power_of_two());
    switches >= 2 && maps || code.starts_with(&[0x78, 0xd4])
}

/// Whether it is one; behind what header; with mirrored bits.
fn recognise(source: &dyn Source) -> Result<Option<(u64, bool)>> {
    let shift = if has_copier_header(source.len(), BANK) { COPIER } else { 0 };
    let len = source.len() - shift.min(source.len());
    if !(BANK..=MOST).contains(&len) || !len.is_multiple_of(BANK) {
        return Ok(None);
    }
    let mut bank = read_vec(source, shift, BANK, "a bank", BANK)?;
    if starts(&bank) {
        return Ok(Some((shift, false)));
    }
    mirror_bits(&mut bank);
    Ok(starts(&bank).then_some((shift, true)))
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    Ok(recognise(source)?.map(|_| 28))
}

fn open(source: SourceRef) -> Result<Opened> {
    let (shift, is_mirrored) = recognise(source.as_ref())?.unwrap_or_default();
    let mut body = if shift > 0 { without_head(&source, shift)? } else { source.clone() };
    if is_mirrored {
        body = Arc::new(Blockwise::new(body, 1, mirror_bits)?);
    }
    let bytes = load(&body)?;
    let mut opened = Opened::new(PC_ENGINE.id, PC_ENGINE.name);
    opened.fact("known by", "the code that the processor starts with; such ROMs have no header");
    opened.fact("mapper", if bytes.len() > 1 << 20 { "a board with banks beyond 1 MiB" } else { "none" });
    let save = SaveMemory::new(
        SaveKind::None,
        &[],
        "nothing on the cartridge; the console's own 2 KiB of backup memory is shared by all games",
    );
    let mut rom = plain("pce", PC_ENGINE.name, body, save);
    let natural = bytes.len() as u64;
    measure(&mut rom, &bytes, None, natural, |_| false);
    let mut rom = behind_copier(rom, &source, shift > 0)?;
    if is_mirrored {
        let header = rom.through.map(|t| format!("{t} and ")).unwrap_or_default();
        rom.through = Some(format!("{header}mirrored bits, as cartridges of North America have them"));
        rom.form = "pce-mirrored";
    }
    finish(opened, rom)
}
