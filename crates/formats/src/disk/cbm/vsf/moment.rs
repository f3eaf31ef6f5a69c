//! The moment of a C64 out of the modules of a snapshot, as far as their layout is public. What stands in two places has to agree: a
//! register read from the wrong place would be a moment that never was.

use super::{ID, Index, Module, index};
use crate::disk::cbm::snapshot::{Cia, MEMORY, Snapshot};
use crate::num::{le16, le32};
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};

/// Machines whose modules these are.
const MACHINE: &str = "C64";
/// The longest module that is looked into: memory, and what may follow it.
const MOST_LEN: u64 = 1 << 20;
/// Lines of a picture, and cycles of a line, of the slowest television there is.
const LINES: u16 = 312;
const CYCLES: u8 = 65;

/// What a snapshot holds.
pub struct Saved {
    /// The moment.
    pub moment: Snapshot,
    /// What of it is not known, in words.
    pub missing: Vec<String>,
    /// Modules that are no part of a moment: drives, tapes, sticks.
    pub others: Vec<String>,
}

/// What one of the modules says, with where it stands.
struct Part<'a> {
    module: &'a Module,
    bytes: Vec<u8>,
}

impl Part<'_> {
    /// That what stands at `at` is wrong.
    fn wrong(&self, at: usize, what: impl std::fmt::Display) -> Error {
        let (major, minor) = self.module.version;
        Error::malformed(
            ID,
            format!("module {} {major}.{minor} is not laid out as it should be: {what}", self.module.name),
            self.module.content.start + at as u64,
        )
    }

    /// Bytes that are flags.
    fn are_flags(&self, places: &[usize]) -> Result<()> {
        match places.iter().find(|at| self.bytes[**at] > 1) {
            Some(at) => Err(self.wrong(*at, format_args!("a flag of {}", self.bytes[*at]))),
            None => Ok(()),
        }
    }
}

/// Reads the moment.
///
/// # Errors
/// [`Error::Unsupported`] for another machine, a module that is missing, a version whose layout is not known, and a cartridge in
/// sight; [`Error::Malformed`] where modules do not agree; what reading gives.
pub fn moment(source: &dyn Source) -> Result<Saved> {
    let index = index(source)?;
    if index.machine != MACHINE {
        let what = format!("a moment of a {} (those of a {MACHINE} are)", index.machine);
        return Err(Error::unsupported(ID, what));
    }
    let processor = part(source, &index, "MAINCPU", &[(1, 0..=1)], 15)?;
    let memory = part(source, &index, "C64MEM", &[(0, 0..=255), (1, 0..=255)], 4 + MEMORY)?;
    let cias = [interface(source, &index, "CIA1")?, interface(source, &index, "CIA2")?];
    let video = part(source, &index, "VIC-II", &[(1, 0..=1)], 1188)?;
    let last = le32(&processor.bytes, 11);
    if last > 0xffff {
        return Err(processor.wrong(11, format_args!("the last instruction is {last:#x}")));
    }
    if memory.bytes[2] != memory.bytes[3] {
        return Err(Error::unsupported(ID, "a moment in which a cartridge is in sight (EXROM and GAME differ)"));
    }
    check_video(&video, &cias[1])?;
    let (mut missing, mut sound) = (Vec::new(), Vec::new());
    match part(source, &index, "SID", &[(1, 0..=1)], 34) {
        Ok(part) => sound = part.bytes[2..27].to_vec(),
        Err(why @ Error::Unsupported { .. }) => missing.push(format!("registers of the sound chip: {why}")),
        Err(why) => return Err(why),
    }
    let known = ["MAINCPU", "C64MEM", "CIA1", "CIA2", "VIC-II", "SID"];
    let others = index.modules.iter().map(|m| m.name.clone()).filter(|n| !known.contains(&n.as_str())).collect();
    let registers = &processor.bytes;
    let moment = Snapshot {
        pc: le16(registers, 8),
        a: registers[4],
        x: registers[5],
        y: registers[6],
        sp: registers[7],
        p: registers[10],
        direction: memory.bytes[1],
        port: memory.bytes[0],
        memory: memory.bytes[4..4 + MEMORY].to_vec(),
        vic: video.bytes[1119..1119 + 47].to_vec(),
        sid: sound,
        cia: cias.map(|cia| chip(&cia.bytes)),
        colours: video.bytes[43..43 + 1024].to_vec(),
    };
    Ok(Saved { moment, missing, others })
}

/// The content of a module that has to be there, in a version whose layout is known, with at least `len` bytes.
fn part<'a>(
    source: &dyn Source,
    index: &'a Index,
    name: &str,
    versions: &[(u8, std::ops::RangeInclusive<u8>)],
    len: usize,
) -> Result<Part<'a>> {
    let Some(module) = index.modules.iter().find(|m| m.name == name) else {
        return Err(Error::unsupported(ID, format!("a snapshot without module {name}")));
    };
    let (major, minor) = module.version;
    if !versions.iter().any(|(known, minors)| *known == major && minors.contains(&minor)) {
        let told = |(major, minors): &(u8, std::ops::RangeInclusive<u8>)| match *minors.end() {
            255 => format!("{major}.x"),
            end => (*minors.start()..=end).map(|m| format!("{major}.{m}")).collect::<Vec<_>>().join(", "),
        };
        let known = versions.iter().map(told).collect::<Vec<_>>().join(", ");
        return Err(Error::unsupported(ID, format!("version {major}.{minor} of module {name} (known are {known})")));
    }
    let there = module.content.end - module.content.start;
    if there < len as u64 {
        let what = format!("module {name} has {there} bytes, where {len} are read");
        return Err(Error::malformed(ID, what, module.content.start));
    }
    let bytes = read_vec(source, module.content.start, there, "a module of a snapshot", MOST_LEN)?;
    Ok(Part { module, bytes })
}

/// One of the interface chips, whose clock has to be one.
fn interface<'a>(source: &dyn Source, index: &'a Index, name: &str) -> Result<Part<'a>> {
    let part = part(source, index, name, &[(1, 0..=255), (2, 0..=255)], 20)?;
    // Tenths, seconds, minutes, hours; the highest bit of the hours is the afternoon.
    for (at, most, bits) in [(8, 0x09, 0xff), (9, 0x59, 0xff), (10, 0x59, 0xff), (11, 0x12, 0x7f)] {
        let value = part.bytes[at] & bits;
        if value & 15 > 9 || value > most {
            return Err(part.wrong(at, format_args!("the clock has ${:02x}", part.bytes[at])));
        }
    }
    Ok(part)
}

/// What the video chip's module says of itself, and of what the second interface chip says too.
fn check_video(video: &Part<'_>, second: &Part<'_>) -> Result<()> {
    video.are_flags(&[0, 1, 2, 1067, 1068])?;
    let (line, cycle, bank) = (le16(&video.bytes, 1117), video.bytes[1116], le16(&video.bytes, 1186));
    if line >= LINES {
        return Err(video.wrong(1117, format_args!("line {line}")));
    }
    if cycle >= CYCLES {
        return Err(video.wrong(1116, format_args!("cycle {cycle}")));
    }
    // What is no output is pulled up; both lines are turned around on their way.
    let port = second.bytes[0] | !second.bytes[2];
    let wanted = u16::from(!port & 3) << 14;
    if bank != wanted {
        let what = format!("the bank is ${bank:04x}, and by port A of CIA2 (${port:02x}) it is ${wanted:04x}");
        return Err(video.wrong(1186, what));
    }
    Ok(())
}

/// Registers of an interface chip, with what its timers begin anew with; clock and serial register are not put back.
fn chip(bytes: &[u8]) -> Cia {
    let mut registers = vec![0; 16];
    registers[..4].copy_from_slice(&bytes[..4]);
    registers[4..8].copy_from_slice(&bytes[16..20]);
    registers[14..].copy_from_slice(&bytes[14..16]);
    Cia { registers, mask: bytes[13] & 0x1f }
}
