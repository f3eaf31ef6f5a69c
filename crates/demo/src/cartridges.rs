//! The drawer of cartridges: one or two of each family, with patches and saves. Their programs are a line of code each.

use crate::content::Noise;
use decanter_core::Result;
use decanter_core::source::read_vec;
use decanter_formats::cartridge::{handheld, n64, order, snes};
use decanter_formats::patch::{bps, ips, ups};

/// So many made-up bytes, less dense than noise: every fourth kilobyte is empty.
fn body(seed: u64, len: usize) -> Vec<u8> {
    let noise = Noise { seed, magic: b"", len: len as u64 };
    let mut bytes = read_vec(&noise, 0, len as u64, "noise", len as u64).unwrap_or_default();
    bytes.chunks_mut(1024).skip(3).step_by(4).for_each(|c| c.fill(0));
    bytes
}

fn put(bytes: &mut [u8], at: usize, what: &[u8]) {
    bytes[at..at + what.len()].copy_from_slice(what);
}

/// Text in a field of a fixed length.
fn field(text: &str, len: usize, fill: u8) -> Vec<u8> {
    let mut bytes = text.as_bytes().to_vec();
    bytes.resize(len, fill);
    bytes
}

fn sum8(bytes: &[u8]) -> u32 {
    bytes.iter().map(|&b| u32::from(b)).sum()
}

/// Both checksums of a Game Boy header.
fn seal_gb(rom: &mut [u8]) {
    rom[0x14d] = rom[0x134..0x14d].iter().fold(0u8, |s, b| s.wrapping_sub(*b).wrapping_sub(1));
    rom[0x14e..0x150].fill(0);
    let sum = (sum8(rom) as u16).to_be_bytes();
    put(rom, 0x14e, &sum);
}

/// Fogbell: 64 KiB, a mapper with a clock, 32 KiB of RAM with a battery.
pub(crate) fn fogbell() -> Vec<u8> {
    let mut rom = body(61, 64 << 10);
    rom[0x100..0x150].fill(0);
    // A jump to 0x150, and there one to itself.
    put(&mut rom, 0x100, &[0x00, 0xc3, 0x50, 0x01]);
    put(&mut rom, 0x150, &[0x18, 0xfe]);
    put(&mut rom, 0x134, b"FOGBELL");
    put(&mut rom, 0x144, b"SM");
    put(&mut rom, 0x147, &[0x10, 0x01, 0x03, 0x01, 0x33, 0x00]);
    seal_gb(&mut rom);
    rom
}

/// The same with deeper water: some bytes changed, a block moved, a text put in.
pub(crate) fn fogbell_deep() -> Vec<u8> {
    let mut rom = fogbell();
    put(&mut rom, 0x4000, b"DEEP WATER, LOW TIDE");
    let block = rom[0x8000..0x9000].to_vec();
    put(&mut rom, 0xa000, &block);
    rom[0xc000..0xc100].fill(0x5a);
    seal_gb(&mut rom);
    rom
}

/// The patches from the one to the other: BPS, UPS, IPS.
pub(crate) fn fogbell_patches() -> Result<[Vec<u8>; 3]> {
    let (old, new) = (fogbell(), fogbell_deep());
    let about = b"Fogbell, Deep Water edition. Made for the open day of Saltmarsh Pier Arcade Museum.\n";
    Ok([bps::make(&old, &new, about)?, ups::make(&old, &new)?, ips::make(&old, &new)?])
}

/// Its save: what the cartridge holds.
pub(crate) fn fogbell_memory() -> Vec<u8> {
    let mut save = vec![0xff; 32 << 10];
    put(&mut save, 0, b"FOGBELL SAVE 1: keeper Ida, lamp 7, tide 3\0");
    put(&mut save, 0x2000, &body(62, 0x800));
    save
}

/// The same as an emulator keeps it, with the clock behind it.
pub(crate) fn fogbell_save() -> Vec<u8> {
    let mut save = fogbell_memory();
    save.extend(body(63, 48));
    save
}

/// Moth Hour: 192 KiB, EEPROM of 8 KiB that its code sets up.
pub(crate) fn moth_hour() -> Vec<u8> {
    let mut rom = body(64, 192 << 10);
    rom[..0xc0].fill(0);
    // A branch over the header; there, one to itself.
    put(&mut rom, 0, &[0x2e, 0x00, 0x00, 0xea]);
    put(&mut rom, 0xc0, &[0xfe, 0xff, 0xff, 0xea]);
    put(&mut rom, 0xa0, b"MOTHHOUR");
    put(&mut rom, 0xac, b"DMHESM");
    rom[0xb2] = 0x96;
    let sum = sum8(&rom[0xa0..0xbd]) as u8;
    rom[0xbd] = 0u8.wrapping_sub(sum).wrapping_sub(0x19);
    put(&mut rom, 0x8000, b"EEPROM_V124\0");
    // Narrow the argument, compare it with 4 and with 64; and the call with 64.
    let code = |words: &[u16]| -> Vec<u8> { words.iter().flat_map(|w| w.to_le_bytes()).collect() };
    put(
        &mut rom,
        0x4000,
        &code(&[0x0400, 0x0c01, 0x2200, 0x2904, 0xd104, 0x4801, 0xe006, 0x2940, 0xd101, 0x2001, 0x4770]),
    );
    put(&mut rom, 0x4100, &code(&[0x2040, 0xf7ff, 0xff7d, 0x4770]));
    put(&mut rom, (192 << 10) - 4, b"end!");
    rom
}

/// Lantern Post: a DS ROM with a banner, two programs and a few files.
pub(crate) fn lantern_post() -> Vec<u8> {
    let mut rom = vec![0xff; 0x4_0000];
    rom[..0x4000].fill(0);
    put(&mut rom, 0, &field("LANTERNPOST", 12, 0));
    put(&mut rom, 0xc, b"DLPESM");
    rom[0x14] = 1;
    rom[0x1e] = 1;
    let mut le = |at: usize, value: usize| put(&mut rom, at, &(value as u32).to_le_bytes());
    for (at, value) in [(0x20, 0x8000), (0x24, 0x0200_0000), (0x28, 0x0200_0000), (0x2c, 0x1000)] {
        le(at, value);
    }
    for (at, value) in [(0x30, 0x9000), (0x34, 0x0380_0000), (0x38, 0x0380_0000), (0x3c, 0x800)] {
        le(at, value);
    }
    let files: [(&str, Vec<u8>); 3] = [
        ("posts.txt", b"One: by the pier. Two: by the sluice. Three: gone since the flood.\n".to_vec()),
        ("map.bin", body(65, 5000)),
        ("moths.bin", body(66, 12_345)),
    ];
    // Root: posts.txt, the folder "data"; data: map.bin, moths.bin.
    let mut names = vec![0; 16];
    let first = names.len();
    names.extend(b"\x09posts.txt\x84data\x01\xf0\0");
    let second = names.len();
    names.extend(b"\x07map.bin\x09moths.bin\0");
    put(&mut names, 0, &(first as u32).to_le_bytes());
    put(&mut names, 4, &[0, 0, 2, 0]);
    put(&mut names, 8, &(second as u32).to_le_bytes());
    put(&mut names, 12, &[1, 0, 0, 0xf0]);
    let (fnt, fat, banner) = (0xa000, 0xa200, 0xa400);
    for (at, value) in
        [(0x40, fnt), (0x44, names.len()), (0x48, fat), (0x4c, files.len() * 8), (0x68, banner), (0x84, 0x4000)]
    {
        le(at, value);
    }
    let mut at = 0xb000;
    for (index, (_, bytes)) in files.iter().enumerate() {
        put(&mut rom, fat + index * 8, &(at as u32).to_le_bytes());
        put(&mut rom, fat + index * 8 + 4, &((at + bytes.len()) as u32).to_le_bytes());
        put(&mut rom, at, bytes);
        at = (at + bytes.len()).next_multiple_of(0x200);
    }
    put(&mut rom, 0x80, &(at as u32).to_le_bytes());
    put(&mut rom, fnt, &names);
    // Each program is a jump to itself.
    put(&mut rom, 0x8000, &[0xfe, 0xff, 0xff, 0xea]);
    put(&mut rom, 0x9000, &[0xfe, 0xff, 0xff, 0xea]);
    put(&mut rom, banner, &lantern_banner());
    let sum = handheld::crc16(&rom[0xc0..0x15c]).to_le_bytes();
    put(&mut rom, 0x15c, &sum);
    let sum = handheld::crc16(&rom[..0x15e]).to_le_bytes();
    put(&mut rom, 0x15e, &sum);
    rom
}

/// A lantern on its post, in sixteen colours, and its name in six languages.
fn lantern_banner() -> Vec<u8> {
    let mut banner = vec![0; 0x840];
    banner[0] = 1;
    let colours: [u16; 6] = [0, 0x14a5, 0x2d6b, 0x03ff, 0x02bf, 0x7fff];
    for (index, colour) in colours.into_iter().enumerate() {
        put(&mut banner, 0x220 + index * 2, &colour.to_le_bytes());
    }
    let pixel = |x: i32, y: i32| -> u8 {
        let (dx, dy) = (x - 16, y - 10);
        match dx * dx + dy * dy {
            0..=4 => 5,
            5..=16 => 3,
            17..=30 => 4,
            31..=40 => 1,
            _ if (15..=16).contains(&x) && y > 15 => 2,
            _ if y == 31 && (10..=21).contains(&x) => 1,
            _ => 0,
        }
    };
    for y in 0..32 {
        for x in (0..32).step_by(2) {
            let at = ((y / 8) * 4 + x / 8) * 32 + (y % 8) * 4 + (x % 8) / 2;
            banner[0x20 + at as usize] = pixel(x, y) | pixel(x + 1, y) << 4;
        }
    }
    let titles = [
        "Lantern Post",
        "Lantern Post\nSaltmarsh Pier",
        "Le Réverbère",
        "Der Laternenpfahl",
        "Il lampione",
        "La farola",
    ];
    for (index, title) in titles.into_iter().enumerate() {
        let units: Vec<u8> = title.encode_utf16().flat_map(u16::to_le_bytes).collect();
        put(&mut banner, 0x240 + index * 0x100, &units);
    }
    let sum = handheld::crc16(&banner[0x20..]).to_le_bytes();
    put(&mut banner, 2, &sum);
    banner
}

/// Tide Table: an iNES file, 32 KiB of program, 8 KiB of characters, a battery.
pub(crate) fn tide_table() -> Vec<u8> {
    let mut rom = b"NES\x1a\x02\x01\x12\0\0\0\0\0\0\0\0\0".to_vec();
    let mut program = body(67, 32 << 10);
    // All three vectors lead to a jump to itself at 0xc000.
    put(&mut program, 0x4000, &[0x4c, 0x00, 0xc0]);
    put(&mut program, 0x7ffa, &[0x00, 0xc0, 0x00, 0xc0, 0x00, 0xc0]);
    rom.extend(program);
    rom.extend(body(68, 8 << 10));
    rom
}

/// Brine Racer: 256 KiB of LoROM, 8 KiB of RAM with a battery; without a header.
pub(crate) fn brine_racer() -> Vec<u8> {
    let mut rom = body(69, 256 << 10);
    put(&mut rom, 0, &[0x78, 0x80, 0xfe]);
    rom[0x7fb0..0x8000].fill(0);
    put(&mut rom, 0x7fc0, &field("BRINE RACER", 21, b' '));
    put(&mut rom, 0x7fd5, &[0x20, 0x02, 0x08, 0x03, 0x02, 0x53, 0x00]);
    put(&mut rom, 0x7ffc, &[0x00, 0x80]);
    let sum = snes::right_checksum(&rom, 0x7fc0);
    put(&mut rom, 0x7fdc, &(!sum).to_le_bytes());
    put(&mut rom, 0x7fde, &sum.to_le_bytes());
    rom
}

/// The same with faster cars.
pub(crate) fn brine_racer_fast() -> Vec<u8> {
    let mut rom = brine_racer();
    rom[0x1_0000..0x1_0040].fill(0x99);
    rom
}

/// A copier's header for so many bytes.
pub(crate) fn copier_header(len: usize) -> Vec<u8> {
    let mut header = vec![0; 512];
    put(&mut header, 0, &((len / 8192) as u16).to_le_bytes());
    header
}

/// Pier Pinball: 128 KiB for the Mega Drive, with 8 KiB of RAM at odd addresses.
pub(crate) fn pier_pinball() -> Vec<u8> {
    let mut rom = body(70, 128 << 10);
    // Stack, and the start at 0x200: a branch to itself.
    put(&mut rom, 0, &[0x00, 0xff, 0xff, 0x00, 0x00, 0x00, 0x02, 0x00]);
    put(&mut rom, 0x200, &[0x60, 0xfe]);
    rom[0x100..0x200].fill(b' ');
    put(&mut rom, 0x100, b"SEGA MEGA DRIVE (C)SALT 2026.NOV");
    put(&mut rom, 0x120, b"PIER PINBALL");
    put(&mut rom, 0x150, b"PIER PINBALL");
    put(&mut rom, 0x180, b"GM 26000117-00");
    put(&mut rom, 0x190, b"J6");
    put(&mut rom, 0x1a0, &[0, 0, 0, 0, 0, 1, 0xff, 0xff, 0, 0xff, 0, 0, 0, 0xff, 0xff, 0xff]);
    put(&mut rom, 0x1b0, b"RA\xf8\x20\x00\x20\x00\x01\x00\x20\x3f\xff");
    put(&mut rom, 0x1f0, b"JUE");
    let words = rom[0x200..].chunks_exact(2);
    let sum = words.fold(0u16, |s, w| s.wrapping_add(u16::from_be_bytes([w[0], w[1]])));
    put(&mut rom, 0x18e, &sum.to_be_bytes());
    rom
}

/// The same as a copier writes it: a header, and blocks with their odd bytes first.
pub(crate) fn pier_pinball_interleaved() -> Vec<u8> {
    let mut rom = pier_pinball();
    let blocks = (rom.len() / order::SMD_BLOCK as usize) as u8;
    order::weave(&mut rom);
    let mut file = vec![0; 512];
    (file[0], file[1], file[8], file[9], file[10]) = (blocks, 3, 0xaa, 0xbb, 6);
    file.extend(rom);
    file
}

/// Its save as an emulator keeps it: every byte of the memory takes two.
pub(crate) fn pier_pinball_save() -> Vec<u8> {
    let mut memory = vec![0; 8 << 10];
    put(&mut memory, 0, b"HIGH SCORES: IDA 91000, TOM 78500, REX 400");
    put(&mut memory, 0x400, &body(71, 0x200));
    memory.into_iter().flat_map(|b| [0xff, b]).collect()
}

/// Bramble Run: 2 MiB for the Nintendo 64, with boot code of our own; bytes swapped in pairs.
pub(crate) fn bramble_run() -> Vec<u8> {
    let mut rom = body(72, 2 << 20);
    rom[..0x40].fill(0);
    put(&mut rom, 0, &[0x80, 0x37, 0x12, 0x40, 0, 0, 0, 0x0f, 0x80, 0, 0x04, 0]);
    put(&mut rom, 0x20, &field("BRAMBLE RUN", 20, b' '));
    // A homebrew header: EEPROM of 512 bytes.
    put(&mut rom, 0x3b, b"NEDE\x10");
    if let Some([one, two]) = n64::right_checksums(&rom) {
        put(&mut rom, 0x10, &one.to_be_bytes());
        put(&mut rom, 0x14, &two.to_be_bytes());
    }
    order::swap_pairs(&mut rom);
    rom
}

/// Kelp Dive (Master System) and Pocket Tide (Game Gear): 32 KiB each.
pub(crate) fn kelp_dive(seed: u64, title: &str, region: u8) -> Vec<u8> {
    let mut rom = body(seed, 32 << 10);
    // Interrupts off, and a jump to itself.
    put(&mut rom, 0, &[0xf3, 0x18, 0xfe]);
    rom[0x7fe0..].fill(0);
    put(&mut rom, 0x7f00, format!("{title}\0Saltmarsh Pier\0").as_bytes());
    put(&mut rom, 0x7fe0, b"SDSC\x01\x00\x23\x11\x26\x20");
    let author = 0x7f00 + title.len() as u16 + 1;
    put(&mut rom, 0x7fea, &author.to_le_bytes());
    put(&mut rom, 0x7fec, &0x7f00u16.to_le_bytes());
    put(&mut rom, 0x7fee, &[0xff, 0xff]);
    put(&mut rom, 0x7ff0, b"TMR SEGA\0\0");
    put(&mut rom, 0x7ffc, &[0x17, 0x26, 0x01, region << 4 | 0xc]);
    let sum = (sum8(&rom[..0x7ff0]) as u16).to_le_bytes();
    put(&mut rom, 0x7ffa, &sum);
    rom
}

/// Lamplight: 128 KiB for the PC Engine.
pub(crate) fn lamplight() -> Vec<u8> {
    let mut rom = body(73, 128 << 10);
    // Interrupts off, high speed, decimal off, input and output mapped, and a branch to itself.
    put(&mut rom, 0x1f00, &[0x78, 0xd4, 0xd8, 0xa9, 0xff, 0x53, 0x01, 0x80, 0xfe]);
    put(&mut rom, 0x1ffe, &[0x00, 0xff]);
    rom
}

/// A cartridge reader with Fogbell in it, one contact of which is dirty.
pub(crate) const READER: &str = "\
# A simulated cartridge reader: docs/simulated-reader.md
rom = \"Fogbell.gb\"
save = \"cartridge memory.bin\"
bank_bytes = 16384

# Data line 3 does not always touch: of the bytes of the second bank that it carries, now and then one comes wrong.
[[dirty]]
bit = 3
first = 0x4000
last = 0x7fff
every = 5003
";
