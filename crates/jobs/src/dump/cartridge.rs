//! From a cartridge reader to a file: everything is read twice, what differs again until it settles. Save memory can
//! also be written, and is read back then.

use super::reader::{Memory, Reader, SimulatedReader};
use crate::locate::open_bytes;
use crate::rom::RomReport;
use crate::{Answer, Failure, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Digest, of_bytes};
use decanter_core::native;
use decanter_core::opened::Fact;
use decanter_core::pour::Output;
use decanter_core::rom::Shape;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::view::MOST_HELD;
use decanter_core::{Door, Error, Notice, Result, pour, watch};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What stands before the path of a simulated reader.
const SIMULATED: &str = "sim:";
/// Votes by which a value of a byte has to lead.
const LEAD: u32 = 2;

/// What is asked of a dump of a cartridge.
#[derive(Debug, Clone)]
pub struct Options {
    /// Which memory.
    pub memory: MemoryWish,
    /// What is written into the save memory, after it was read.
    pub write: Option<String>,
    /// Reads of a bank at most, after the first two.
    pub retries: u32,
    /// Digests of the result.
    pub digests: Vec<Algorithm>,
}

/// Which memory of a cartridge.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum MemoryWish {
    /// The ROM.
    Rom,
    /// The memory that keeps saved games.
    Save,
}

/// What was read from a cartridge.
#[derive(Debug, Serialize)]
pub struct CartridgeReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The reader as it was named.
    pub reader: String,
    /// What it is.
    pub reader_kind: String,
    /// Which memory was read.
    pub memory: MemoryWish,
    /// The file that was written: under its final name only if every byte is settled.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// Banks in all.
    pub banks: u64,
    /// Banks that did not read the same at first.
    pub unstable: Vec<Bank>,
    /// Bytes for which no value leads clearly.
    pub unsettled_bytes: u64,
    /// How sure the result is, in words.
    pub confidence: String,
    /// Digests of the result.
    pub digests: Vec<Digest>,
    /// What it is.
    pub kind: Option<String>,
    /// Title, id and so on.
    pub facts: Vec<Fact>,
    /// What is known of the ROM.
    pub rom: Option<RomReport>,
    /// What came of writing.
    pub written: Option<Written>,
    /// True when nothing was read because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What to do next.
    pub next: String,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A bank that did not read the same at first.
#[derive(Debug, Serialize)]
pub struct Bank {
    /// Its number.
    pub number: u64,
    /// Where it begins.
    pub offset: u64,
    /// How often it was read.
    pub reads: u32,
    /// Bytes that came in more than one value.
    pub differing_bytes: u64,
    /// Bytes that did not settle.
    pub unsettled_bytes: u64,
    /// Data lines that differed: bits 0 to 7.
    pub lines: Vec<u8>,
}

/// What was written into a cartridge.
#[derive(Debug, Serialize)]
pub struct Written {
    /// The file.
    pub from: String,
    /// Digest of what was there before.
    pub old: Digest,
    /// Digest of what should be there now.
    pub new: Digest,
    /// Bytes that read back as something else.
    pub wrong_bytes: u64,
    /// The first of them.
    pub first_wrong: Option<u64>,
}

/// Opens a cartridge reader; `None` if the name is that of something else.
///
/// # Errors
/// When its description is wrong.
pub fn open(name: &str, setting: &Setting<'_>) -> std::result::Result<Option<SimulatedReader>, Failure> {
    let Some(path) = name.strip_prefix(SIMULATED) else { return Ok(None) };
    SimulatedReader::open(&native::path(path), &setting.guard).map_err(|e| super::cannot_open(name, e, setting))
}

/// Reads a memory of a cartridge into `target`.
///
/// # Errors
/// When the reader does not answer, or writing fails. Bytes that do not settle are no error, but an answer.
pub fn dump(
    name: &str,
    reader: &mut dyn Reader,
    target: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<(CartridgeReport, Answer), Failure> {
    let fail = |e: Error| Failure::new(format!("cannot dump \"{name}\""), e);
    let memory = match options.memory {
        MemoryWish::Rom => Memory::Rom,
        MemoryWish::Save => Memory::Save,
    };
    if options.write.is_some() && memory == Memory::Rom {
        return Err(fail(Error::Usage("a ROM cannot be written".into())).hint("add --memory save"));
    }
    let extension = if memory == Memory::Rom { "rom" } else { "sav" };
    let target = &place::file(Some(target), &format!("{}.{extension}", place::stem_of_shown(name)));
    let len = reader.len(memory);
    if len == 0 {
        return Err(fail(Error::Usage("the cartridge has no such memory".into()))
            .hint("is it in the reader the right way? not every cartridge has save memory"));
    }
    let mut report = CartridgeReport {
        schema: "decanter.dump-cartridge/1",
        reader: name.to_owned(),
        reader_kind: reader.describe(),
        memory: options.memory,
        path: target.to_owned(),
        bytes: len,
        banks: len.div_ceil(reader.bank_len()),
        unstable: Vec::new(),
        unsettled_bytes: 0,
        confidence: String::new(),
        digests: Vec::new(),
        kind: None,
        facts: Vec::new(),
        rom: None,
        written: None,
        dry_run: setting.dry_run,
        next: String::new(),
        notices: Vec::new(),
    };
    let new = options.write.as_ref().map(|from| new_save(from, len, setting)).transpose().map_err(fail)?;
    // A save is never replaced; a ROM only if asked for. Either is known before the slow part.
    let door = Door { replace: setting.replace && memory == Memory::Rom, ..setting.door() };
    pour::check_target(target, door, len, len).map_err(|e| place::refused(target, e))?;
    if setting.dry_run {
        report.next = "dry run: nothing was read or written".into();
        return Ok((report, Answer::Yes));
    }
    let bytes = read_all(reader, memory, &mut report, options.retries, setting).map_err(fail)?;
    if report.unsettled_bytes > 0 {
        let mut incomplete = target.as_os_str().to_owned();
        incomplete.push(".incomplete");
        report.path = PathBuf::from(incomplete);
    }
    let source: SourceRef = Arc::new(Bytes(bytes.clone()));
    look(&mut report, &source, setting);
    // What did not settle before is read anew each time.
    let door = Door { replace: door.replace || report.unsettled_bytes > 0, ..door };
    let what = format!("cannot dump \"{name}\"");
    let poured = setting.write_by(
        door,
        Output::new(&Blueprint::of(source), &report.path).with_digests(&options.digests),
        &what,
    )?;
    report.digests = poured.map(|p| p.digests).unwrap_or_default();
    report.confidence = confidence(&report);
    let mut answer = if report.unsettled_bytes > 0 { Answer::No } else { Answer::Yes };
    report.next = if report.unsettled_bytes > 0 {
        "clean the contacts (isopropyl alcohol, a soft cloth) and run the same command again".into()
    } else if memory == Memory::Rom {
        format!("decanter verify {} --against DAT", crate::quoted(&native::text(target)))
    } else {
        format!("decanter save show {}", crate::quoted(&native::text(target)))
    };
    if let (Some(new), Some(from)) = (new, &options.write) {
        if report.unsettled_bytes > 0 {
            report.next = "nothing was written into the cartridge: what is in it could not be saved for sure".into();
            return Ok((report, Answer::No));
        }
        let written = write_all(reader, from, &bytes, &new, setting).map_err(fail)?;
        if written.wrong_bytes > 0 {
            answer = Answer::No;
            report.next = format!(
                "the memory did not take everything: the old content is safe in {}",
                native::text(&report.path)
            );
        }
        report.written = Some(written);
    }
    Ok((report, answer))
}

/// The file to write: exactly as long as the memory.
fn new_save(from: &str, len: u64, setting: &Setting<'_>) -> Result<Vec<u8>> {
    let source = locate::bytes(from, setting)?;
    if source.len() != len {
        return Err(Error::WrongDescription {
            text: format!("\"{from}\" has {} bytes, the memory of the cartridge {len}", source.len()),
        });
    }
    read_vec(source.as_ref(), 0, len, "a save file", MOST_HELD)
}

/// Reads everything twice, and what differs again.
fn read_all(
    reader: &mut dyn Reader,
    memory: Memory,
    report: &mut CartridgeReport,
    retries: u32,
    setting: &Setting<'_>,
) -> Result<Vec<u8>> {
    setting.watch.begin("reading the cartridge, twice", Some(report.bytes * 2));
    let mut all = Vec::with_capacity(report.bytes as usize);
    for number in 0..report.banks {
        watch::check(setting.watch)?;
        let first = reader.read(memory, number)?;
        let second = reader.read(memory, number)?;
        setting.watch.advance(2 * first.len() as u64);
        if first == second {
            all.extend(first);
            continue;
        }
        let offset = all.len() as u64;
        let (settled, bank) = settle(reader, memory, number, offset, [first, second], retries, setting)?;
        report.unsettled_bytes += bank.unsettled_bytes;
        report.unstable.push(bank);
        all.extend(settled);
    }
    setting.watch.end();
    Ok(all)
}

/// Reads a bank until one value of each byte leads, or the retries are used up.
fn settle(
    reader: &mut dyn Reader,
    memory: Memory,
    number: u64,
    offset: u64,
    first: [Vec<u8>; 2],
    retries: u32,
    setting: &Setting<'_>,
) -> Result<(Vec<u8>, Bank)> {
    let len = first[0].len();
    // Values of each byte with their votes, the leading one first.
    let mut votes: Vec<Vec<(u8, u32)>> = vec![Vec::new(); len];
    first.iter().for_each(|read| count(&mut votes, read));
    let mut reads = 2;
    let is_settled = |slot: &Vec<(u8, u32)>| slot[0].1 >= slot.get(1).map_or(0, |s| s.1) + LEAD;
    while reads < retries + 2 {
        watch::check(setting.watch)?;
        count(&mut votes, &reader.read(memory, number)?);
        reads += 1;
        if votes.iter().all(is_settled) {
            break;
        }
    }
    let mut lines = 0u8;
    for slot in &votes {
        lines |= slot.iter().skip(1).fold(0, |sum, (value, _)| sum | (value ^ slot[0].0));
    }
    let bank = Bank {
        number,
        offset,
        reads,
        differing_bytes: votes.iter().filter(|s| s.len() > 1).count() as u64,
        unsettled_bytes: votes.iter().filter(|s| !is_settled(s)).count() as u64,
        lines: (0..8).filter(|bit| lines >> bit & 1 == 1).collect(),
    };
    Ok((votes.iter().map(|slot| slot[0].0).collect(), bank))
}

/// Adds what was read to the votes of each byte.
fn count(votes: &mut [Vec<(u8, u32)>], read: &[u8]) {
    for (slot, &byte) in votes.iter_mut().zip(read) {
        match slot.iter_mut().find(|(value, _)| *value == byte) {
            Some((_, votes)) => *votes += 1,
            None => slot.push((byte, 1)),
        }
        slot.sort_by_key(|(_, votes)| std::cmp::Reverse(*votes));
    }
}

/// What the result is.
fn look(report: &mut CartridgeReport, source: &SourceRef, setting: &Setting<'_>) {
    if report.memory == MemoryWish::Save {
        return;
    }
    match open_bytes(&native::text(&report.path), source.clone(), setting) {
        Ok(item) => {
            report.rom = item.opened.holds.rom.as_ref().map(RomReport::of);
            report.kind = Some(item.opened.identity.kind);
            report.facts = item.opened.told.facts;
            report.notices.extend(item.opened.told.notices);
        }
        Err(_) => report.notices.push(Notice::new("what was read is no known ROM: is the cartridge in the right way?")),
    }
    if let Some(Shape::Overdumped { from }) = report.rom.as_ref().map(|r| r.shape.clone()) {
        report.notices.push(Notice::new(format!(
            "the reader went on after the chip's {from} bytes: \"decanter convert --trim\" cuts the repetition off"
        )));
    }
}

fn confidence(report: &CartridgeReport) -> String {
    let alike = report.banks - report.unstable.len() as u64;
    let reads = if report.unstable.is_empty() {
        format!("all {} banks read the same twice", report.banks)
    } else {
        let settled = report.unstable.iter().filter(|b| b.unsettled_bytes == 0).count();
        format!("{alike} of {} banks read the same twice, {settled} settled by more reads", report.banks)
    };
    match &report.rom {
        _ if report.unsettled_bytes > 0 => format!("low: {reads}, {} bytes did not settle", report.unsettled_bytes),
        Some(rom) if rom.checks.is_empty() => format!("{reads}; the ROM has no checksum of its own"),
        Some(rom) if rom.is_right() => format!("high: {reads}, and the ROM's own checksums hold"),
        Some(_) => format!("doubtful: {reads}, but a checksum of the ROM does not hold"),
        None => reads,
    }
}

/// Writes the save memory and reads it back, twice.
fn write_all(reader: &mut dyn Reader, from: &str, old: &[u8], new: &[u8], setting: &Setting<'_>) -> Result<Written> {
    setting.watch.begin("writing the save memory, and reading it back", Some(new.len() as u64));
    let bank_len = reader.bank_len() as usize;
    for (number, bank) in new.chunks(bank_len).enumerate() {
        watch::check(setting.watch)?;
        reader.write(number as u64, bank)?;
        setting.watch.advance(bank.len() as u64);
    }
    let (mut wrong, mut first_wrong) = (0, None);
    for (number, bank) in new.chunks(bank_len).enumerate() {
        // A byte is wrong if no read shows it right: a dirty contact is no fault of the memory.
        let reads = [reader.read(Memory::Save, number as u64)?, reader.read(Memory::Save, number as u64)?];
        for (index, &byte) in bank.iter().enumerate() {
            if reads.iter().all(|r| r.get(index) != Some(&byte)) {
                wrong += 1;
                first_wrong = first_wrong.or(Some((number * bank_len + index) as u64));
            }
        }
    }
    setting.watch.end();
    Ok(Written {
        from: from.to_owned(),
        old: of_bytes(Algorithm::Sha1, old),
        new: of_bytes(Algorithm::Sha1, new),
        wrong_bytes: wrong,
        first_wrong,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A reader that returns one wrong byte on chosen reads.
    struct Fickle {
        reads: u32,
        wrong_on: Vec<u32>,
    }

    impl Reader for Fickle {
        fn describe(&self) -> String {
            "fickle".into()
        }
        fn len(&self, _: Memory) -> u64 {
            16
        }
        fn bank_len(&self) -> u64 {
            16
        }
        fn read(&mut self, _: Memory, _: u64) -> Result<Vec<u8>> {
            self.reads += 1;
            let mut bytes: Vec<u8> = (0..16).collect();
            if self.wrong_on.contains(&self.reads) {
                bytes[3] ^= 0x20;
            }
            Ok(bytes)
        }
        fn write(&mut self, _: u64, _: &[u8]) -> Result<()> {
            Ok(())
        }
    }

    #[test]
    fn a_byte_settles_when_one_value_leads_by_two() {
        let run = |wrong_on: &[u32], retries| {
            let mut reader = Fickle { reads: 0, wrong_on: wrong_on.to_vec() };
            let first = [reader.read(Memory::Rom, 0).unwrap(), reader.read(Memory::Rom, 0).unwrap()];
            settle(&mut reader, Memory::Rom, 0, 0, first, retries, &Setting::new(&())).unwrap()
        };
        let (bytes, bank) = run(&[1], 8);
        assert_eq!((bytes[3], bank.reads, bank.unsettled_bytes, bank.lines), (3, 4, 0, vec![5]));
        let (_, bank) = run(&[1, 3], 2);
        assert_eq!((bank.reads, bank.unsettled_bytes, bank.differing_bytes), (4, 1, 1));
        let (bytes, bank) = run(&[1, 3], 4);
        assert_eq!((bytes[3], bank.reads, bank.unsettled_bytes), (3, 6, 0));
    }
}
