//! NES: iNES and NES 2.0 headers. Layout: docs/formats/nes.md.

use super::{Family, finish, measure, plain, without_head};
use decanter_core::opened::Opened;
use decanter_core::rom::{Declared, Form, SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::view::MOST_HELD;
use decanter_core::{Error, Result};

/// The family.
pub static NES: Family = Family {
    id: "nes",
    name: "NES ROM",
    extensions: &["nes"],
    reads: "iNES and NES 2.0 headers: mapper, sizes, mirroring, region, save memory; looked through for DAT files",
    least: HEADER,
    score,
    open,
};

const MAGIC: [u8; 4] = *b"NES\x1a";
/// Bytes of the header.
pub const HEADER: u64 = 16;
/// Bytes of a trainer.
const TRAINER: u64 = 512;
const PRG_UNIT: u64 = 16 << 10;
const CHR_UNIT: u64 = 8 << 10;
/// Names of the commonest mappers, as the boards are called.
const BOARDS: [(u16, &str); 20] = [
    (0, "NROM"),
    (1, "MMC1"),
    (2, "UxROM"),
    (3, "CNROM"),
    (4, "MMC3"),
    (5, "MMC5"),
    (7, "AxROM"),
    (9, "MMC2"),
    (10, "MMC4"),
    (11, "Color Dreams"),
    (16, "Bandai FCG"),
    (19, "Namco 163"),
    (20, "disk system"),
    (24, "VRC6a"),
    (26, "VRC6b"),
    (34, "BNROM or NINA-001"),
    (66, "GxROM"),
    (69, "FME-7"),
    (71, "Camerica"),
    (85, "VRC7"),
];

/// Whether `head` begins with such a header.
pub fn is_header(head: &[u8]) -> bool {
    head.len() >= HEADER as usize && head.starts_with(&MAGIC)
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    Ok((source.len() >= HEADER && read_array::<4>(source, 0)? == MAGIC).then_some(90))
}

/// What a header says.
#[derive(Debug, PartialEq, Eq)]
pub struct Header {
    /// Whether it is NES 2.0.
    pub is_2: bool,
    /// Number of the mapper.
    pub mapper: u16,
    /// Number of its variant (NES 2.0).
    pub submapper: u8,
    /// Bytes of program ROM.
    pub prg: u64,
    /// Bytes of character ROM.
    pub chr: u64,
    /// How many ROMs of other kinds follow after those (NES 2.0).
    pub misc: u8,
    /// Whether a trainer stands between header and program.
    pub has_trainer: bool,
    /// Whether something keeps its content without power.
    pub has_battery: bool,
    /// Bytes of program RAM, and of that with a battery.
    pub prg_ram: (u64, u64),
    /// Whether the upper half of the mapper number was left out, because the rest of the header is not clean.
    pub is_dirty: bool,
}

impl Header {
    /// Reads a header of 16 bytes.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a size that no number can hold.
    pub fn parse(h: &[u8; HEADER as usize]) -> Result<Self> {
        let is_2 = h[7] & 0x0c == 0x08;
        let is_dirty = !is_2 && h[12..16].iter().any(|&b| b != 0);
        let high = if is_dirty { 0 } else { u16::from(h[7] & 0xf0) };
        let mut mapper = u16::from(h[6] >> 4) | high;
        let (mut prg, mut chr) = (u64::from(h[4]) * PRG_UNIT, u64::from(h[5]) * CHR_UNIT);
        let shifted = |shift: u8| if shift == 0 { 0 } else { 64u64 << shift };
        let has_battery = h[6] & 2 != 0;
        let mut prg_ram = (0, 0);
        if is_2 {
            mapper |= u16::from(h[8] & 0x0f) << 8;
            prg = size(h[4], h[9] & 0x0f, PRG_UNIT, 4)?;
            chr = size(h[5], h[9] >> 4, CHR_UNIT, 5)?;
            prg_ram = (shifted(h[10] & 0x0f), shifted(h[10] >> 4));
        } else if has_battery {
            let kib8 = if is_dirty { 0 } else { u64::from(h[8]) };
            prg_ram = (0, kib8.max(1) * (8 << 10));
        }
        let submapper = if is_2 { h[8] >> 4 } else { 0 };
        let misc = if is_2 { h[14] & 3 } else { 0 };
        Ok(Self { is_2, mapper, submapper, prg, chr, misc, has_trainer: h[6] & 4 != 0, has_battery, prg_ram, is_dirty })
    }

    /// Bytes that follow the header, as it declares them.
    pub fn body_len(&self) -> u64 {
        self.prg.saturating_add(self.chr).saturating_add(if self.has_trainer { TRAINER } else { 0 })
    }
}

/// A size of NES 2.0: a count of units with four more bits, or a power of two times a small odd number.
fn size(low: u8, high: u8, unit: u64, at: u64) -> Result<u64> {
    if high < 0x0f {
        return Ok((u64::from(high) << 8 | u64::from(low)) * unit);
    }
    let odd = u64::from(low & 3) * 2 + 1;
    1u64.checked_shl(u32::from(low >> 2))
        .and_then(|power| power.checked_mul(odd))
        .ok_or_else(|| Error::malformed(NES.id, "a ROM size that no cartridge can have", at))
}

fn open(source: SourceRef) -> Result<Opened> {
    let head: [u8; HEADER as usize] = read_array(source.as_ref(), 0)?;
    let header = Header::parse(&head)?;
    let kind = if header.is_2 { "NES ROM with a NES 2.0 header" } else { "NES ROM with an iNES header" };
    let mut opened = Opened::new(NES.id, kind);
    let board = BOARDS.iter().find(|(n, _)| *n == header.mapper).map(|(_, name)| format!(" ({name})"));
    let sub = if header.submapper > 0 { format!(", submapper {}", header.submapper) } else { String::new() };
    opened.fact("mapper", format!("{}{}{sub}", header.mapper, board.unwrap_or_default()));
    let kib = |bytes: u64| format!("{} KiB", bytes >> 10);
    let character = if header.chr == 0 { "RAM".into() } else { kib(header.chr) };
    opened.fact("chips", format!("program {}, characters {character}", kib(header.prg)));
    let ram = header.prg_ram.0 + header.prg_ram.1;
    opened.fact("RAM", if ram >= 1 << 10 { kib(ram) } else { String::new() });
    let mirroring = match (head[6] & 8 != 0, head[6] & 1 != 0) {
        (true, _) => "four screens",
        (_, true) => "vertical",
        _ => "horizontal",
    };
    opened.fact("mirroring", mirroring);
    let timing = if header.is_2 { head[12] & 3 } else { head[9] & 1 };
    opened.fact("region", ["NTSC", "PAL", "NTSC and PAL", "Dendy"][usize::from(timing)]);
    let console = match head[7] & 3 {
        1 => "Vs. System",
        2 => "PlayChoice-10",
        3 => "extended console type",
        _ => "",
    };
    opened.fact("console", console);
    opened.fact("trainer", if header.has_trainer { "512 bytes before the program" } else { "" });
    if header.misc > 0 {
        let bytes = (source.len() - HEADER).saturating_sub(header.body_len());
        opened.fact("miscellaneous ROMs", format!("{}, {} after the others", header.misc, kib(bytes)));
        if bytes == 0 {
            opened.damage("its header says that miscellaneous ROMs follow, and the file ends before them");
        }
    }
    if header.is_dirty {
        opened.notice("the end of the iNES header is not clean: the upper half of the mapper number was left out");
    }
    let bytes = read_vec(source.as_ref(), HEADER, source.len() - HEADER, "a NES ROM", MOST_HELD)?;
    let body = without_head(&source, HEADER)?;
    let mut rom = plain("nes-bare", "NES ROM without a header", body, save(&header));
    // How long miscellaneous ROMs are follows from the length of the file alone (NES 2.0, byte 14).
    let more = (bytes.len() as u64).saturating_sub(header.body_len());
    let declared = header.body_len() + if header.misc > 0 { more } else { 0 };
    measure(&mut rom, &bytes, Some(Declared::Exact(declared)), 0, is_header);
    rom.form = "nes";
    rom.forms.insert(0, Form { id: "nes", name: NES.name, source });
    rom.prefix = head.to_vec();
    rom.through = Some(format!("a 16-byte {} header", if header.is_2 { "NES 2.0" } else { "iNES" }));
    finish(opened, rom)
}

fn save(header: &Header) -> SaveMemory {
    let ram = header.prg_ram.1;
    match (header.has_battery, header.is_2, ram) {
        (false, ..) => SaveMemory::none("the header's battery bit"),
        (true, true, 0) => {
            SaveMemory::new(SaveKind::Eeprom, &[128, 256], "battery bit without RAM in a NES 2.0 header")
        }
        (true, true, _) => SaveMemory::new(SaveKind::Sram, &[ram], "the header's size of battery-backed RAM"),
        _ => {
            SaveMemory::new(SaveKind::Sram, &[ram], "the header's battery bit and RAM size (8 KiB if it is not given)")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn header(bytes: [u8; 12]) -> Header {
        let mut head = [0; 16];
        head[..4].copy_from_slice(&MAGIC);
        head[4..].copy_from_slice(&bytes);
        Header::parse(&head).unwrap()
    }

    #[test]
    fn headers() {
        let ines = header([2, 1, 0x13, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
        assert_eq!((ines.mapper, ines.prg, ines.chr, ines.has_battery), (1, 32 << 10, 8 << 10, true));
        assert_eq!(ines.prg_ram, (0, 8 << 10));
        let dirty = header([1, 1, 0x40, b'S', b'a', b'l', b't', b'm', b'a', b'r', b's', b'h']);
        assert!(dirty.is_dirty && dirty.mapper == 4);
        let new = header([0, 2, 0x42, 0x18, 0x31, 0x11, 0x70, 0x07, 1, 0, 0, 0]);
        assert!(new.is_2);
        assert_eq!((new.mapper, new.submapper), (0x114, 3));
        assert_eq!((new.prg, new.chr), (256 * PRG_UNIT, 258 * CHR_UNIT));
        assert_eq!(new.prg_ram, (0, 8 << 10));
        assert_eq!((new.misc, header([0, 2, 0, 8, 0, 0, 0, 0, 0, 0, 2, 0]).misc), (0, 2));
        // 2^16 * 3 bytes.
        let power = header([16 << 2 | 1, 0, 0, 0x08, 0, 0x0f, 0, 0, 0, 0, 0, 0]);
        assert_eq!(power.prg, 3 << 16);
    }
}
