//! The moment of Lantern Post as an emulator saves it: modules of the parts of the machine, laid out as docs/formats/vsf.md has them.

use crate::machines::{MOMENT, colours, memory};

/// The snapshot, with a drive that is no part of the moment.
pub(crate) fn snapshot() -> Vec<u8> {
    let mut file = b"VICE Snapshot File\x1a\x01\x01".to_vec();
    file.extend(name("C64"));
    file.extend(module("MAINCPU", (1, 1), &processor()));
    file.extend(module("C64MEM", (0, 0), &[&[0x37, 0x2f, 0, 0][..], &memory()].concat()));
    file.extend(module("CIA1", (1, 1), &interface(&registers("[cia1]"), 1)));
    // Port A chooses the bank that the video chip sees: the first one.
    file.extend(module("CIA2", (1, 1), &interface(&[0x97, 0xff, 0x3f, 0, 0xff, 0xff, 0xff, 0xff], 0)));
    file.extend(module("SID", (1, 0), &[&[1, 0][..], &padded(&registers("[sid]"), 32)].concat()));
    file.extend(module("VIC-II", (1, 0), &video()));
    file.extend(module("DRIVE8", (1, 0), &[0; 64]));
    file
}

/// Registers as the description of the same moment has them.
fn registers(section: &str) -> Vec<u8> {
    let digits: Vec<u8> = MOMENT
        .split_once(section)
        .and_then(|(_, rest)| rest.split('"').nth(1))
        .into_iter()
        .flat_map(str::chars)
        .filter_map(|c| c.to_digit(16))
        .map(|digit| digit as u8)
        .collect();
    digits.as_chunks::<2>().0.iter().map(|[high, low]| high << 4 | low).collect()
}

fn name(text: &str) -> Vec<u8> {
    padded(text.as_bytes(), 16)
}

fn padded(bytes: &[u8], len: usize) -> Vec<u8> {
    let mut all = bytes.to_vec();
    all.resize(len, 0);
    all
}

fn module(title: &str, version: (u8, u8), content: &[u8]) -> Vec<u8> {
    let len = content.len() as u32 + 22;
    [&name(title)[..], &[version.0, version.1], &len.to_le_bytes(), content].concat()
}

/// Clock, A, X, Y, stack pointer, program counter, status, last instruction, and what asks for interrupts.
fn processor() -> Vec<u8> {
    let mut bytes = 1_204_711u32.to_le_bytes().to_vec();
    bytes.extend([0x07, 0x0c, 0x00, 0xf4, 0x0f, 0x08, 0x24]);
    bytes.extend(0xd0u32.to_le_bytes());
    bytes.extend([0; 16]);
    bytes
}

/// Ports, counters, a clock at one o'clock, and what is written to the rest.
fn interface(registers: &[u8], mask: u8) -> Vec<u8> {
    let all = padded(registers, 16);
    let mut bytes = all[..8].to_vec();
    bytes.extend([0, 0, 0, 1, 0, mask, all[14], all[15]]);
    bytes.extend(&all[4..8]);
    bytes.resize(64, 0);
    bytes
}

fn video() -> Vec<u8> {
    let mut bytes = vec![1, 0, 0];
    bytes.extend([0; 40]);
    bytes.extend(colours());
    bytes.extend([1, 0, 0, 0]);
    bytes.extend([0; 40 + 1 + 4]);
    // Cycle 12 of line 251.
    bytes.extend([12, 251, 0]);
    bytes.extend(padded(&registers("[vic]"), 64));
    // No collisions, the first bank; counters and sprites.
    bytes.resize(bytes.len() + 3 + 2 + 2 + 1 + 2 + 1 + 24 + 5, 0);
    bytes
}
