//! Moments made into programs, run on a simulated machine: memory, registers and chips have to be what they were.

use decanter_formats::disk::cbm::machine::Machine;
use decanter_formats::disk::cbm::snapshot::{Cia, MEMORY, Program, Snapshot, program};

/// A machine in the middle of something.
fn moment(sp: u8) -> Snapshot {
    let mut memory = vec![0; MEMORY];
    let mut state = 0x1234_5678u32;
    let mut noise = || {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        state as u8
    };
    for (at, byte) in memory.iter_mut().enumerate() {
        *byte = match at {
            0..0x400 => noise(),
            0x400..0x7e8 => 0x20 + (at % 40 % 26) as u8,
            0x0801..0x2400 => noise(),
            0x2400..0x5000 => ((at >> 5) ^ (at & 7)) as u8,
            0xd000..0xd800 => (at % 97) as u8,
            0xe000..0xe400 => noise(),
            0xfffa.. => noise(),
            _ => 0,
        };
    }
    Snapshot {
        memory,
        pc: 0x0c37,
        a: 0x11,
        x: 0x22,
        y: 0x33,
        sp,
        p: 0xa1,
        direction: 0x2f,
        port: 0x35,
        vic: (0..47).map(|i| i * 3 + 1).collect(),
        sid: (0..25).map(|i| 200 - i).collect(),
        cia: [
            Cia { registers: (0..16).map(|i| i + 0x40).collect(), mask: 0x01 },
            Cia { registers: (0..16).map(|i| i + 0x80).collect(), mask: 0x02 },
        ],
        colours: (0..1024u32).map(|i| (i * 7 % 16) as u8).collect(),
    }
}

/// Runs the program, and holds everything against the moment.
fn check(moment: &Snapshot) -> Program {
    let made = program(moment).unwrap();
    let mut machine = Machine::with_program(&made.bytes).unwrap();
    // The moment's own address may lie in code of the stages: what counts is to be there with the port as it was.
    let mut going = 0;
    while !(machine.pc == moment.pc
        && machine.port == moment.port
        && machine.sp == moment.sp
        && machine.p | 0x30 == moment.p | 0x30)
    {
        assert!(
            machine.run_to(moment.pc, 20_000_000).unwrap() || machine.pc == moment.pc,
            "never there, now at {:#x}",
            machine.pc
        );
        if machine.a == moment.a && machine.port == moment.port {
            break;
        }
        machine.step().unwrap();
        going += 1;
        assert!(going < 1000);
    }
    let found = (machine.a, machine.x, machine.y, machine.sp, machine.p | 0x30, machine.port, machine.direction);
    let wanted = (moment.a, moment.x, moment.y, moment.sp, moment.p | 0x30, moment.port, moment.direction);
    assert_eq!(found, wanted);
    for at in (2..MEMORY).filter(|a| !made.borrowed.iter().any(|b| b.contains(a))) {
        assert_eq!(machine.ram[at], moment.memory[at], "at {at:#06x}");
    }
    let chips = |from: usize, len: usize| &machine.chips[from..from + len];
    assert_eq!(chips(0, 0x19), &moment.vic[..0x19]);
    assert_eq!(chips(0x1a, 21), &moment.vic[0x1a..]);
    assert_eq!(chips(0x400, 25), &moment.sid[..]);
    for (cia, from) in moment.cia.iter().zip([0xc00, 0xd00]) {
        assert_eq!(chips(from, 8), &cia.registers[..8]);
        assert_eq!(machine.chips[from + 13], cia.mask);
        assert_eq!(machine.chips[from + 14], cia.registers[14] | 0x10);
    }
    assert!(chips(0x800, 1024).iter().zip(&moment.colours).all(|(a, b)| a & 15 == *b));
    made
}

#[test]
fn a_moment_goes_on_as_it_was() {
    let made = check(&moment(0xf6));
    assert_eq!(made.borrowed[0].start, 0x100);
    assert!(made.bytes.len() < 16_000 && made.borrowed[0].len() < 200, "{} {:?}", made.bytes.len(), made.borrowed);
}

#[test]
fn a_full_stack_borrows_elsewhere() {
    let made = check(&moment(0x20));
    assert!(made.borrowed[0].start >= 0x5000, "{:?}", made.borrowed);
    assert!(made.borrowed_why.contains("one value"));
}

#[test]
fn nothing_but_memory_is_enough() {
    let bare = Snapshot { vic: vec![], sid: vec![], cia: Default::default(), colours: vec![], ..moment(0xff) };
    let made = program(&bare).unwrap();
    let mut machine = Machine::with_program(&made.bytes).unwrap();
    assert!(machine.run_to(0x0c37, 20_000_000).unwrap());
}

#[test]
fn what_cannot_be_loaded_is_refused_with_the_numbers() {
    let mut full = moment(0xf6);
    let mut state = 99u32;
    for byte in &mut full.memory {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        *byte = (state >> 24) as u8;
    }
    let why = program(&full).err().unwrap().to_string();
    assert!(why.contains("past $d000") && why.contains("65536 bytes"), "{why}");
    let why = program(&moment(1)).err().unwrap().to_string();
    assert!(why.contains("the stack pointer is $01"), "{why}");
}
