//! Shows that the program made of a moment leads to it: it is run in the simulated processor until it goes on, and everything is held
//! against the moment.

use super::moment::{MEMORY, Program, Snapshot};
use crate::disk::cbm::machine::Machine;
use decanter_core::{Error, Result};

/// Instructions that putting a memory back takes at most.
const MOST: usize = 20_000_000;
/// The instruction that goes on: it returns from an interrupt that never was.
const RETURN: u8 = 0x40;
/// Where the chips stand in what the processor sees from $d000 on: video, sound, colours, both interfaces.
const SID: usize = 0x400;
const COLOURS: usize = 0x800;
const CIAS: [usize; 2] = [0xc00, 0xd00];
/// The register of the video chip that tells of interrupts, which is not put back.
const VIC_INTERRUPTS: usize = 0x19;

/// Runs the program until it goes on; after how many instructions that is.
///
/// # Errors
/// [`Error::Checksum`] when anything but the borrowed bytes is not as it was.
pub(super) fn prove(moment: &Snapshot, program: &Program) -> Result<usize> {
    let wrong = |found: String| Error::Checksum {
        what: "the program, run in the simulated processor,".into(),
        expected: "the moment that it is made of".into(),
        found: format!("{found}; nothing was kept"),
    };
    let mut machine =
        Machine::with_program(&program.bytes).ok_or_else(|| wrong("a program that cannot be started".into()))?;
    let mut count = 1;
    while machine.step().map_err(|stuck| wrong(stuck.to_string()))? != RETURN {
        count += 1;
        if count > MOST {
            return Err(wrong(format!("still at ${:04x} after {MOST} instructions", machine.pc)));
        }
    }
    match difference(moment, program, &machine) {
        None => Ok(count),
        Some(found) => Err(wrong(found)),
    }
}

/// The first thing that is not as it was, in words.
fn difference(moment: &Snapshot, program: &Program, machine: &Machine) -> Option<String> {
    let told = |name: &str, found: u16, wanted: u16| {
        (found != wanted).then(|| format!("{name} ${found:02x}, not ${wanted:02x}"))
    };
    // Two bits of the status are none: they tell how it was pushed.
    let registers = [
        ("program counter", machine.pc, moment.pc),
        ("accumulator", machine.a.into(), moment.a.into()),
        ("X", machine.x.into(), moment.x.into()),
        ("Y", machine.y.into(), moment.y.into()),
        ("stack pointer", machine.sp.into(), moment.sp.into()),
        ("status", (machine.p | 0x30).into(), (moment.p | 0x30).into()),
        ("processor port", machine.port.into(), moment.port.into()),
        ("directions of the processor port", machine.direction.into(), moment.direction.into()),
    ];
    let register = registers.into_iter().find_map(|(name, found, wanted)| told(name, found, wanted));
    let is_borrowed = |at: usize| program.borrowed.iter().any(|range| range.contains(&at));
    let byte = || {
        let at = (2..MEMORY).find(|at| machine.ram[*at] != moment.memory[*at] && !is_borrowed(*at))?;
        told(&format!("at ${at:04x}"), machine.ram[at].into(), moment.memory[at].into())
    };
    let chip = || {
        expected(moment).into_iter().find_map(|(at, mask, wanted)| {
            told(&format!("at ${:04x}", 0xd000 + at), (machine.chips[at] & mask).into(), wanted.into())
        })
    };
    register.or_else(byte).or_else(chip)
}

/// What stands in the registers of the chips: where, under which bits, and what.
fn expected(moment: &Snapshot) -> Vec<(usize, u8, u8)> {
    let video =
        moment.vic.iter().enumerate().filter(|(at, _)| *at != VIC_INTERRUPTS).map(|(at, byte)| (at, 0xff, *byte));
    let sound = moment.sid.iter().enumerate().map(|(at, byte)| (SID + at, 0xff, *byte));
    let colours = moment.colours.iter().enumerate().map(|(at, byte)| (COLOURS + at, 15, *byte & 15));
    let ports = moment.cia.iter().zip(CIAS).flat_map(|(cia, from)| {
        let first = cia.registers.iter().take(8).enumerate().map(move |(at, byte)| (from + at, 0xff, *byte));
        // The mask of interrupts; timers begin with what they are loaded with.
        let control = cia.registers.iter().enumerate().skip(14).map(move |(at, byte)| (from + at, 0xff, *byte | 0x10));
        first.chain([(from + 13, 0xff, cia.mask)]).chain(control)
    });
    video.chain(sound).chain(colours).chain(ports).collect()
}
