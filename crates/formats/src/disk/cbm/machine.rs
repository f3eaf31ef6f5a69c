//! A simulator of the 6502 and of the memory of a C64, as far as programs of ours go: documented instructions, RAM below
//! the chips, chip registers that keep what is written. It shows that what is made for the machine does what it should.
//!
//! Source: the data sheets of the processor and of the chips.

use std::fmt;

/// The machine.
pub struct Machine {
    /// All of its memory, as the processor would see it without ROM and chips.
    pub ram: Vec<u8>,
    /// $D000 to $DFFF as the chips see it.
    pub chips: Vec<u8>,
    /// Accumulator.
    pub a: u8,
    /// Index register X.
    pub x: u8,
    /// Index register Y.
    pub y: u8,
    /// Stack pointer.
    pub sp: u8,
    /// Status.
    pub p: u8,
    /// Program counter.
    pub pc: u16,
    /// The processor port's directions ($00).
    pub direction: u8,
    /// The processor port ($01).
    pub port: u8,
}

/// Why the processor does not go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stuck {
    /// What stands at this address is no instruction that is simulated.
    Instruction(u8, u16),
    /// It would add in decimal mode, which is not simulated.
    Decimal,
}

impl fmt::Display for Stuck {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Instruction(code, at) => write!(f, "${code:02x} at ${at:04x} is no instruction that is simulated"),
            Self::Decimal => write!(f, "decimal mode is not simulated"),
        }
    }
}

const C: u8 = 1;
const Z: u8 = 2;
const I: u8 = 4;
const D: u8 = 8;
const V: u8 = 0x40;
const N: u8 = 0x80;

impl Machine {
    /// A machine after switching on, with a program in memory and about to be run: the address in its SYS. `None` for a program that
    /// does not fit in, or does not begin with SYS.
    pub fn with_program(program: &[u8]) -> Option<Self> {
        let mut ram: Vec<u8> = (0..0x1_0000).map(|i| if i & 0x40 == 0 { 0 } else { 0xff }).collect();
        let (load, body) = program.split_first_chunk::<2>()?;
        let load = usize::from(u16::from_le_bytes(*load));
        ram.get_mut(load..load + body.len())?.copy_from_slice(body);
        // Behind the address of the next line, the number of this one, and the word itself.
        let line = body.get(5..)?;
        let digits: String = line.iter().take_while(|b| b.is_ascii_digit()).map(|b| char::from(*b)).collect();
        Some(Self {
            ram,
            chips: vec![0; 0x1000],
            a: 0,
            x: 0,
            y: 0,
            sp: 0xf6,
            p: 0x22,
            pc: digits.parse().ok()?,
            direction: 0x2f,
            port: 0x37,
        })
    }

    fn sees_chips(&self) -> bool {
        self.port & 4 != 0 && self.port & 3 != 0
    }

    /// What the processor sees at an address.
    pub fn read(&self, at: u16) -> u8 {
        match at {
            0 => self.direction,
            1 => self.port,
            0xd000..=0xdfff if self.sees_chips() => self.chips[usize::from(at) - 0xd000],
            _ => self.ram[usize::from(at)],
        }
    }

    fn write(&mut self, at: u16, value: u8) {
        match at {
            0 => self.direction = value,
            1 => self.port = value,
            0xd000..=0xdfff if self.sees_chips() => {
                let place = usize::from(at) - 0xd000;
                // Interrupt masks set or clear bits; the rest keeps what is written.
                self.chips[place] = match at {
                    0xdc0d | 0xdd0d if value & 0x80 != 0 => self.chips[place] | value & 0x1f,
                    0xdc0d | 0xdd0d => self.chips[place] & !value,
                    _ => value,
                };
            }
            _ => self.ram[usize::from(at)] = value,
        }
    }

    fn next(&mut self) -> u8 {
        let value = self.read(self.pc);
        self.pc = self.pc.wrapping_add(1);
        value
    }

    fn next_word(&mut self) -> u16 {
        u16::from_le_bytes([self.next(), self.next()])
    }

    fn flag(&mut self, bit: u8, on: bool) {
        self.p = if on { self.p | bit } else { self.p & !bit };
    }

    fn shown(&mut self, value: u8) -> u8 {
        self.flag(Z, value == 0);
        self.flag(N, value & 0x80 != 0);
        value
    }

    fn push(&mut self, value: u8) {
        self.ram[0x100 + usize::from(self.sp)] = value;
        self.sp = self.sp.wrapping_sub(1);
    }

    fn pull(&mut self) -> u8 {
        self.sp = self.sp.wrapping_add(1);
        self.ram[0x100 + usize::from(self.sp)]
    }

    fn word_in_zero_page(&self, at: u8) -> u16 {
        u16::from_le_bytes([self.read(at.into()), self.read(at.wrapping_add(1).into())])
    }

    /// The address that an instruction of the regular kind works on, by bits 2 to 4 of its code.
    fn address(&mut self, op: u8) -> u16 {
        let uses_y = matches!(op, 0x96 | 0xb6 | 0xbe);
        match op >> 2 & 7 {
            0 if op & 1 == 1 => {
                let at = self.next().wrapping_add(self.x);
                self.word_in_zero_page(at)
            }
            0 | 2 => {
                self.pc = self.pc.wrapping_add(1);
                self.pc.wrapping_sub(1)
            }
            1 => self.next().into(),
            3 => self.next_word(),
            4 => {
                let at = self.next();
                self.word_in_zero_page(at).wrapping_add(self.y.into())
            }
            5 if uses_y => self.next().wrapping_add(self.y).into(),
            5 => self.next().wrapping_add(self.x).into(),
            6 => self.next_word().wrapping_add(self.y.into()),
            _ if uses_y => self.next_word().wrapping_add(self.y.into()),
            _ => self.next_word().wrapping_add(self.x.into()),
        }
    }

    fn add(&mut self, value: u8) -> Result<(), Stuck> {
        if self.p & D != 0 {
            return Err(Stuck::Decimal);
        }
        let sum = u16::from(self.a) + u16::from(value) + u16::from(self.p & C);
        self.flag(C, sum > 0xff);
        self.flag(V, (!(self.a ^ value) & (self.a ^ sum as u8)) & 0x80 != 0);
        self.a = self.shown(sum as u8);
        Ok(())
    }

    fn compare(&mut self, own: u8, value: u8) {
        self.flag(C, own >= value);
        self.shown(own.wrapping_sub(value));
    }

    fn shift(&mut self, op: u8, value: u8) -> u8 {
        let carry = self.p & C;
        let (out, result) = match op >> 5 {
            0 => (value >> 7, value << 1),
            1 => (value >> 7, value << 1 | carry),
            2 => (value & 1, value >> 1),
            _ => (value & 1, value >> 1 | carry << 7),
        };
        self.flag(C, out == 1);
        self.shown(result)
    }

    /// One instruction; which it was.
    ///
    /// # Errors
    /// For what is not simulated.
    pub fn step(&mut self) -> Result<u8, Stuck> {
        let op = self.next();
        match op {
            0x20 => {
                let to = self.next_word();
                let back = self.pc.wrapping_sub(1);
                self.push((back >> 8) as u8);
                self.push(back as u8);
                self.pc = to;
            }
            0x60 => self.pc = u16::from_le_bytes([self.pull(), self.pull()]).wrapping_add(1),
            0x40 => {
                self.p = self.pull() | 0x20;
                self.pc = u16::from_le_bytes([self.pull(), self.pull()]);
            }
            0x4c => self.pc = self.next_word(),
            0x6c => {
                let at = self.next_word();
                self.pc = u16::from_le_bytes([self.read(at), self.read(at & 0xff00 | (at + 1) & 0xff)]);
            }
            0x48 => self.push(self.a),
            0x08 => self.push(self.p | 0x30),
            0x68 => {
                let value = self.pull();
                self.a = self.shown(value);
            }
            0x28 => self.p = self.pull() & !0x10 | 0x20,
            0x10 | 0x30 | 0x50 | 0x70 | 0x90 | 0xb0 | 0xd0 | 0xf0 => {
                let bit = [N, V, C, Z][usize::from(op >> 6)];
                let by = self.next() as i8;
                if (self.p & bit != 0) == (op & 0x20 != 0) {
                    self.pc = self.pc.wrapping_add(by as u16);
                }
            }
            0x18 | 0x38 => self.flag(C, op == 0x38),
            0x58 | 0x78 => self.flag(I, op == 0x78),
            0xd8 | 0xf8 => self.flag(D, op == 0xf8),
            0xb8 => self.flag(V, false),
            0xaa => self.x = self.shown(self.a),
            0xa8 => self.y = self.shown(self.a),
            0x8a => self.a = self.shown(self.x),
            0x98 => self.a = self.shown(self.y),
            0x9a => self.sp = self.x,
            0xba => self.x = self.shown(self.sp),
            0xca => self.x = self.shown(self.x.wrapping_sub(1)),
            0xe8 => self.x = self.shown(self.x.wrapping_add(1)),
            0x88 => self.y = self.shown(self.y.wrapping_sub(1)),
            0xc8 => self.y = self.shown(self.y.wrapping_add(1)),
            0xea => {}
            0x0a | 0x2a | 0x4a | 0x6a => self.a = self.shift(op, self.a),
            _ => self.regular(op)?,
        }
        Ok(op)
    }

    fn regular(&mut self, op: u8) -> Result<(), Stuck> {
        let here = self.pc.wrapping_sub(1);
        let at = self.address(op);
        match (op & 3, op >> 5) {
            (1, 4) => self.write(at, self.a),
            (1, which) => {
                let value = self.read(at);
                match which {
                    0 => self.a = self.shown(self.a | value),
                    1 => self.a = self.shown(self.a & value),
                    2 => self.a = self.shown(self.a ^ value),
                    3 => self.add(value)?,
                    5 => self.a = self.shown(value),
                    6 => self.compare(self.a, value),
                    _ => self.add(!value)?,
                }
            }
            (2, 4) => self.write(at, self.x),
            (2, 5) => {
                let value = self.read(at);
                self.x = self.shown(value);
            }
            (2, 6 | 7) => {
                let step = if op >> 5 == 7 { 1 } else { 0xff };
                let value = self.read(at).wrapping_add(step);
                let value = self.shown(value);
                self.write(at, value);
            }
            (2, _) => {
                let value = self.read(at);
                let value = self.shift(op, value);
                self.write(at, value);
            }
            (0, 4) => self.write(at, self.y),
            (0, 5) => {
                let value = self.read(at);
                self.y = self.shown(value);
            }
            (0, 6) => self.compare(self.y, self.read(at)),
            (0, 7) => self.compare(self.x, self.read(at)),
            (0, 1) => {
                let value = self.read(at);
                self.flag(Z, self.a & value == 0);
                self.flag(N, value & 0x80 != 0);
                self.flag(V, value & 0x40 != 0);
            }
            _ => return Err(Stuck::Instruction(op, here)),
        }
        Ok(())
    }

    /// Runs until the program counter is at `end`, or so many instructions have passed; whether it is there.
    ///
    /// # Errors
    /// For what is not simulated.
    pub fn run_to(&mut self, end: u16, most: usize) -> Result<bool, Stuck> {
        for _ in 0..most {
            if self.pc == end {
                return Ok(true);
            }
            self.step()?;
        }
        Ok(self.pc == end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A machine that is about to run these bytes at $1000.
    fn about_to(code: &[u8]) -> Machine {
        let start = b"\x01\x08\x0b\x08\x0a\x00\x9e4096\0\0\0";
        let mut machine = Machine::with_program(start).unwrap();
        machine.ram[0x1000..0x1000 + code.len()].copy_from_slice(code);
        machine
    }

    fn after(code: &[u8], steps: usize) -> Machine {
        let mut machine = about_to(code);
        for _ in 0..steps {
            machine.step().unwrap();
        }
        machine
    }

    #[test]
    fn a_program_begins_where_its_line_of_basic_says() {
        assert_eq!(about_to(&[]).pc, 0x1000);
        assert!(Machine::with_program(b"\x01").is_none() && Machine::with_program(b"\x01\x08\0\0\0\0\x9e").is_none());
        assert!(Machine::with_program(&[&[0xff, 0xff][..], &[b'1'; 20]].concat()).is_none(), "it does not fit in");
    }

    #[test]
    fn sums_and_differences_set_carry_and_overflow() {
        // LDA, CLC, ADC; the flags of the manual's own cases.
        let sum = |a: u8, b: u8| after(&[0xa9, a, 0x18, 0x69, b], 3);
        let flags = |m: &Machine| (m.a, m.p & C != 0, m.p & V != 0, m.p & Z != 0, m.p & N != 0);
        assert_eq!(flags(&sum(0x50, 0x10)), (0x60, false, false, false, false));
        assert_eq!(flags(&sum(0x50, 0x50)), (0xa0, false, true, false, true));
        assert_eq!(flags(&sum(0xd0, 0x90)), (0x60, true, true, false, false));
        assert_eq!(flags(&sum(0xff, 0x01)), (0x00, true, false, true, false));
        // LDA, SEC, SBC.
        let difference = |a: u8, b: u8| after(&[0xa9, a, 0x38, 0xe9, b], 3);
        assert_eq!(flags(&difference(0x50, 0x30)), (0x20, true, false, false, false));
        assert_eq!(flags(&difference(0x50, 0xb0)), (0xa0, false, true, false, true));
        let mut decimal = about_to(&[0xf8, 0x69, 1]);
        decimal.step().unwrap();
        assert_eq!(decimal.step(), Err(Stuck::Decimal));
    }

    #[test]
    fn comparing_shifting_and_testing() {
        let compared = after(&[0xa9, 0x40, 0xc9, 0x41], 2);
        assert_eq!((compared.p & C, compared.p & Z, compared.p & N), (0, 0, N));
        // SEC, LDA #$81, ROL: the carry comes in below, the upper bit goes out.
        let turned = after(&[0x38, 0xa9, 0x81, 0x2a], 3);
        assert_eq!((turned.a, turned.p & C), (0x03, C));
        let turned = after(&[0x38, 0xa9, 0x01, 0x6a], 3);
        assert_eq!((turned.a, turned.p & C, turned.p & N), (0x80, C, N));
        // BIT takes the two upper flags from memory.
        let tested = after(&[0xa9, 0x01, 0x2c, 0x06, 0x10, 0xea, 0xc0], 2);
        assert_eq!(tested.p & (Z | N | V), Z | N | V);
    }

    #[test]
    fn addresses_of_every_kind() {
        let mut machine = about_to(&[0xb1, 0xfb, 0xa1, 0xf9, 0xb5, 0xfb, 0xbd, 0x00, 0x20, 0xb9, 0x00, 0x20]);
        (machine.x, machine.y) = (2, 3);
        (machine.ram[0xfb], machine.ram[0xfc]) = (0x00, 0x20);
        (machine.ram[0x2000], machine.ram[0x2002], machine.ram[0x2003], machine.ram[0xfd]) = (10, 12, 13, 55);
        let mut loaded = Vec::new();
        for _ in 0..5 {
            machine.step().unwrap();
            loaded.push(machine.a);
        }
        assert_eq!(loaded, [13, 10, 55, 12, 13]);
        // A jump through the end of a page takes its upper half from the beginning of that page.
        let mut jump = about_to(&[0x6c, 0xff, 0x20]);
        (jump.ram[0x20ff], jump.ram[0x2000], jump.ram[0x2100]) = (0x34, 0x12, 0x56);
        jump.step().unwrap();
        assert_eq!(jump.pc, 0x1234);
    }

    #[test]
    fn calls_come_back_and_so_do_interrupts() {
        // JSR $1004, NOP; there: PHA, PLA, RTS.
        let mut machine = about_to(&[0x20, 0x04, 0x10, 0xea, 0x48, 0x68, 0x60]);
        assert_eq!(machine.run_to(0x1003, 4), Ok(true));
        assert_eq!(machine.sp, 0xf6);
        // What stands on the stack: status, then the address as it is.
        let mut back = about_to(&[0xa9, 0x12, 0x48, 0xa9, 0x34, 0x48, 0xa9, 0x81, 0x48, 0x40]);
        assert_eq!(back.run_to(0x1234, 7), Ok(true));
        assert_eq!((back.p | 0x30, back.sp), (0xb1, 0xf6));
    }

    #[test]
    fn chips_are_seen_as_the_port_says_and_keep_their_masks() {
        // LDA #5, STA $D020; the port to RAM alone; STA $D020 again.
        let machine = after(&[0xa9, 0x05, 0x8d, 0x20, 0xd0, 0xa2, 0x34, 0x86, 0x01, 0x8d, 0x20, 0xd0], 5);
        assert_eq!((machine.chips[0x20], machine.ram[0xd020]), (5, 5));
        // A mask is set by its upper bit, and cleared without.
        let machine = after(&[0xa9, 0x83, 0x8d, 0x0d, 0xdc, 0xa9, 0x01, 0x8d, 0x0d, 0xdc], 4);
        assert_eq!(machine.chips[0xc0d], 2);
        let mut stuck = about_to(&[0x03]);
        assert_eq!(stuck.step().unwrap_err().to_string(), "$03 at $1000 is no instruction that is simulated");
    }
}
