//! What a moment is, and what becomes of it.

use std::ops::Range;

/// Bytes of memory.
pub const MEMORY: usize = 0x1_0000;
/// Where programs begin.
pub(super) const LOAD: usize = 0x0801;
/// Where the memory ends that a program can be loaded into: the chips come next.
pub(super) const LOAD_END: usize = 0xd000;

/// A moment.
#[derive(Clone)]
pub struct Snapshot {
    /// All 65,536 bytes of RAM; of the first two, `port` and `direction` are used.
    pub memory: Vec<u8>,
    /// Where it goes on.
    pub pc: u16,
    /// Accumulator, index registers, stack pointer, status.
    pub a: u8,
    /// Index register X.
    pub x: u8,
    /// Index register Y.
    pub y: u8,
    /// Stack pointer.
    pub sp: u8,
    /// Status.
    pub p: u8,
    /// The processor port's directions ($00).
    pub direction: u8,
    /// The processor port ($01): which of RAM, ROM and chips is seen where.
    pub port: u8,
    /// Registers of the video chip, from $D000 on; at most 47.
    pub vic: Vec<u8>,
    /// Registers of the sound chip, from $D400 on; at most 25.
    pub sid: Vec<u8>,
    /// The first and the second interface chip.
    pub cia: [Cia; 2],
    /// Colours of the screen, one a byte; at most 1,024.
    pub colours: Vec<u8>,
}

/// An interface chip.
#[derive(Debug, Clone, Default)]
pub struct Cia {
    /// Registers from 0 on; at most 16. Clock, serial register and interrupt flags are not put back.
    pub registers: Vec<u8>,
    /// Which interrupts are let through: bits 0 to 4.
    pub mask: u8,
}

/// A program made of a moment.
pub struct Program {
    /// The file: load address and bytes.
    pub bytes: Vec<u8>,
    /// Addresses whose bytes are not those of the moment when it goes on.
    pub borrowed: Vec<Range<usize>>,
    /// Why nobody misses them.
    pub borrowed_why: &'static str,
    /// Bytes of the packed memory.
    pub packed_len: usize,
    /// How many instructions it took a simulated processor to come to the moment.
    pub instructions: usize,
}
