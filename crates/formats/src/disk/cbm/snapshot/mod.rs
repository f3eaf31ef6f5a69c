//! A running moment as a program: memory, processor and chips of a C64 are put back by a program that starts with RUN.
//!
//! The program has three parts: a first stage that sets the chips and moves the packed memory to the top; the packed memory;
//! and a last stage that unpacks it upwards from the bottom and goes on where the moment was taken. The last stage stands
//! in a few bytes that are borrowed: what lies below the stack pointer is nobody's.

mod code;
mod moment;
mod pack;
mod prove;

pub use moment::{Cia, MEMORY, Program, Snapshot};

use code::{first_stage, last_stage};
use decanter_core::{Error, Result};
use moment::{LOAD, LOAD_END};
use std::ops::Range;

/// Bytes of the stack that going on takes: a status and an address.
const RETURN: usize = 3;

/// Makes the program, and runs it in a simulated processor until it goes on: it has to lead to the moment.
///
/// # Errors
/// [`Error::Usage`] for a moment that is not complete, or that cannot be put back, with the numbers; [`Error::Checksum`] for a
/// program that does not lead there, which would be a mistake of ours.
pub fn program(moment: &Snapshot) -> Result<Program> {
    let mut program = laid(moment)?;
    program.instructions = prove::prove(moment, &program)?;
    Ok(program)
}

/// The program, unproven.
fn laid(moment: &Snapshot) -> Result<Program> {
    if moment.memory.len() != MEMORY {
        let text = format!("the memory has {} bytes instead of {MEMORY}", moment.memory.len());
        return Err(Error::Usage(text));
    }
    let lens = [("vic", moment.vic.len(), 47), ("sid", moment.sid.len(), 25), ("colours", moment.colours.len(), 1024)];
    let cias = moment.cia.iter().map(|c| ("cia", c.registers.len(), 16));
    for (name, len, most) in lens.into_iter().chain(cias) {
        if len > most {
            return Err(Error::Usage(format!("{len} registers of {name} are more than the {most} that there are")));
        }
    }
    let stack = 0x100..0x100 + usize::from(moment.sp) + 1;
    if stack.len() < RETURN {
        return Err(Error::Usage(format!(
            "the stack pointer is ${:02x}: going on takes {RETURN} bytes of the stack, and there are {} left",
            moment.sp,
            stack.len()
        )));
    }
    let back = stack.end - RETURN..stack.end;
    let len = last_stage(moment, 0x100, 0, 0).len();
    let below_stack = stack.start..stack.start + len;
    if below_stack.end <= back.start {
        return fill(moment, below_stack, back, "free stack below the stack pointer");
    }
    // Else a stretch of one value, which looks unused; not where the packed memory waits.
    let mut tried = Vec::new();
    for place in flat_stretches(&moment.memory, len) {
        match fill(moment, place.clone(), back.clone(), "a stretch of one value, which looks unused") {
            Ok(program) => return Ok(program),
            Err(e) => tried.push(e),
        }
    }
    Err(tried.pop().unwrap_or_else(|| {
        Error::Usage(format!(
            "{len} unused bytes are needed to go on from: below the stack pointer there are {}, and no stretch of one value is as long",
            stack.len() - RETURN
        ))
    }))
}

/// Stretches of one value of at least `len` bytes, the longest first.
fn flat_stretches(memory: &[u8], len: usize) -> Vec<Range<usize>> {
    let (mut found, mut at) = (Vec::new(), 0x200);
    while at < MEMORY {
        let run = memory[at..].iter().take_while(|b| **b == memory[at]).count();
        if run >= len {
            found.push((run, at..at + len));
        }
        at += run;
    }
    found.sort_by_key(|(run, range)| (std::cmp::Reverse(*run), range.start));
    found.into_iter().take(8).map(|(_, range)| range).collect()
}

/// The program whose last stage stands at `place`.
fn fill(moment: &Snapshot, place: Range<usize>, back: Range<usize>, why: &'static str) -> Result<Program> {
    let mut holes = [place.clone(), back.clone()];
    holes.sort_by_key(|h| h.start);
    let (packed, unpacked_end) = pack::pack(&moment.memory, &holes);
    let packed_at = MEMORY.saturating_sub(packed.len());
    let last = last_stage(moment, place.start as u16, packed_at as u16, unpacked_end as u16);
    let first = first_stage(moment, place.start as u16, &last, packed.len());
    let bytes = [&(LOAD as u16).to_le_bytes()[..], &first, &packed].concat();
    let end = LOAD + bytes.len() - 2;
    if end > LOAD_END {
        return Err(Error::Usage(format!(
            "packed, it ends at ${end:05x}, {} bytes past ${LOAD_END:04x}, where loading has to end: {} bytes of memory became {}",
            end - LOAD_END,
            MEMORY,
            packed.len()
        )));
    }
    if place.end > packed_at && place.start >= 0x200 || LOAD + first.len() > packed_at {
        let text =
            format!("the packed memory ({} bytes) needs the place of the bytes that would be borrowed", packed.len());
        return Err(Error::Usage(text));
    }
    Ok(Program { bytes, borrowed: vec![place, back], borrowed_why: why, packed_len: packed.len(), instructions: 0 })
}
