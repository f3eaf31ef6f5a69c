//! Saved games: what a file with save memory is, out of the layouts of emulators and into them.

mod console;
mod package;

pub use package::{import_files, is_package};

pub use console::CopyReport;

use crate::{Failure, Setting, grouped, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Digest, of_bytes};
use decanter_core::native;
use decanter_core::pour::Output;
use decanter_core::rom::SaveMemory;
use decanter_core::source::{Bytes, read_vec};
use decanter_core::{Door, Error, Notice, Result, tell};
pub use decanter_formats::cartridge::save::Swap;
use decanter_formats::cartridge::save::{self, Holder, Layout, MOST_SAVE};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What is asked for besides the files.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// The ROM whose save it is.
    pub rom: Option<String>,
    /// Which part of a file with several memories.
    pub part: Option<String>,
    /// Order of bytes in the emulator's file.
    pub swap: Swap,
    /// The title whose save it is, for blocks of a console.
    pub title: Option<u64>,
    /// Fill a save that is too short.
    pub pad: bool,
}

/// What a file with saved games is, or which ones a ROM has.
#[derive(Debug, Serialize)]
pub struct ShowReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The file.
    pub source: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// What the ROM has, if there is one.
    pub memory: Option<SaveMemory>,
    /// What the file may be, the likeliest first; none if it is the ROM itself.
    pub may_be: Vec<Reading>,
    /// The copies in it, if it is a block that a console keeps.
    pub copies: Vec<CopyReport>,
    /// Digest of the file.
    pub digest: Option<Digest>,
    /// Bytes that are neither 0x00 nor 0xff.
    pub used_bytes: Option<u64>,
    /// True for a file of a size that the ROM's memory does not have.
    pub misfit: bool,
    /// What to do next.
    pub next: String,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A way to read a file with saved games.
#[derive(Debug, Serialize)]
pub struct Reading {
    /// How the content stands in the file.
    pub layout: String,
    /// Bytes of the memory.
    pub bytes: u64,
    /// The kinds of memory that have that size.
    pub kinds: String,
    /// Named parts, if there are several memories in it.
    pub parts: Vec<&'static str>,
}

/// What was exported or imported.
#[derive(Debug, Serialize)]
pub struct MoveReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The file that the content comes from.
    pub source: String,
    /// The file that it was put into, if any; that one was not changed.
    pub holder: Option<String>,
    /// How the emulator's file is laid out.
    pub layout: String,
    /// The new file.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub target: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// Digest of the content before, where something is replaced.
    pub old: Option<Digest>,
    /// Digest of the content now.
    pub new: Option<Digest>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A file with saved games, in memory.
fn read(shown: &str, setting: &Setting<'_>) -> Result<Vec<u8>> {
    let source = locate::bytes(shown, setting)?;
    read_vec(source.as_ref(), 0, source.len(), "a save file", MOST_SAVE)
}

/// A block of a console, in memory.
fn read_block(shown: &str, setting: &Setting<'_>) -> Result<Vec<u8>> {
    let block = read(shown, setting)?;
    match console::is_block(&block) {
        true => Ok(block),
        false => Err(Error::WrongDescription { text: format!("\"{shown}\" is no block of a console") }),
    }
}

/// The save memory of a ROM.
fn memory_of(rom: &str, setting: &Setting<'_>) -> std::result::Result<SaveMemory, Failure> {
    let item = locate::open(rom, "use", setting)?;
    match &item.opened.holds.rom {
        Some(rom) => Ok(rom.save.clone()),
        None => Err(Failure::usage(
            format!("cannot use \"{rom}\""),
            format!("it is {}, and no ROM", crate::failure::with_article(&item.opened.identity.kind)),
        )
        .hint("give the ROM that the save belongs to with --rom")),
    }
}

/// The sizes of a memory in words.
fn sizes(memory: Option<&SaveMemory>) -> String {
    let list: Vec<String> = match memory {
        Some(memory) => memory.sizes.iter().map(|s| grouped(*s)).collect(),
        None => save::SIZES.iter().map(|(s, _)| grouped(*s)).collect(),
    };
    if list.is_empty() { "there is no save memory".into() } else { format!("{} bytes", list.join(" or ")) }
}

fn words(layout: &Layout) -> String {
    match layout {
        Layout::Plain => "plain: the content of the memory and nothing else".into(),
        Layout::Clock(bytes) => format!("the content, and then {bytes} bytes of a clock"),
        Layout::Wide { is_odd } => {
            format!("every byte takes two, the content at {} offsets", if *is_odd { "odd" } else { "even" })
        }
        Layout::Combined => "every kind of memory of a Nintendo 64 in one file".into(),
        Layout::Padded(byte) => format!("the content, and then nothing but {byte:#04x}"),
        Layout::Repeated => "the content over and over".into(),
        Layout::Short => "the beginning of the content; the rest is left out".into(),
    }
}

/// Says what a file with saved games is; of a ROM which ones it has.
///
/// # Errors
/// When a file cannot be read.
pub fn show(shown: &str, rom: Option<&str>, setting: &Setting<'_>) -> std::result::Result<ShowReport, Failure> {
    let mut report = ShowReport {
        schema: "decanter.save-show/1",
        source: shown.to_owned(),
        bytes: 0,
        memory: None,
        may_be: Vec::new(),
        copies: Vec::new(),
        digest: None,
        used_bytes: None,
        misfit: false,
        next: String::new(),
        notices: Vec::new(),
    };
    if rom.is_none() && is_package(shown, setting) {
        return package::show(shown, report, setting);
    }
    if rom.is_none()
        && let Ok(item) = locate::open(shown, "show", setting)
        && let Some(rom) = &item.opened.holds.rom
    {
        report.bytes = item.source.as_ref().map_or(0, |s| s.len());
        report.memory = Some(rom.save.clone());
        report.next = if rom.save.sizes.is_empty() {
            "there is nothing to save".into()
        } else {
            format!("decanter save show SAVE --rom {}", crate::quoted(shown))
        };
        return Ok(report);
    }
    report.memory = rom.map(|r| memory_of(r, setting)).transpose()?;
    let file = read(shown, setting).map_err(|e| Failure::new(format!("cannot show \"{shown}\""), e))?;
    if console::is_block(&file) {
        console::show(&file, shown, &mut report, setting)
            .map_err(|e| Failure::new(format!("cannot show \"{shown}\""), e))?;
        return Ok(report);
    }
    let reading = |holder: &Holder| Reading {
        layout: words(&holder.layout),
        bytes: holder.size,
        kinds: match &report.memory {
            Some(memory) => memory.kind.name().into(),
            None => save::SIZES.iter().find(|(s, _)| *s == holder.size).map_or("", |(_, k)| k).into(),
        },
        parts: if holder.layout == Layout::Combined { save::parts().map(|(n, _)| n).collect() } else { Vec::new() },
    };
    report.may_be = save::holders(&file, report.memory.as_ref()).iter().map(reading).collect();
    report.bytes = file.len() as u64;
    report.digest = Some(of_bytes(Algorithm::Sha1, &file));
    report.used_bytes = Some(file.iter().filter(|b| !matches!(b, 0 | 0xff)).count() as u64);
    report.misfit = report.may_be.is_empty();
    let quoted = crate::quoted(shown);
    let for_rom = rom.map(|r| format!(" --rom {}", crate::quoted(r))).unwrap_or_default();
    report.next = match report.may_be.first() {
        None => format!("what fits: {}", sizes(report.memory.as_ref())),
        Some(_) if report.used_bytes == Some(0) => "it is empty: nothing was saved yet".into(),
        Some(first) if first.parts.is_empty() => format!("decanter save export {quoted}{for_rom} -o FILE"),
        Some(_) => format!("decanter save export {quoted}{for_rom} --part NAME -o FILE"),
    };
    Ok(report)
}

/// How a file holds the memory. Without a ROM that says it, there must be one way only; of several, the one whose memory
/// has `wanted` bytes.
fn holder(file: &[u8], shown: &str, memory: Option<&SaveMemory>, wanted: Option<usize>) -> Result<Holder> {
    if let Some(memory) = memory.filter(|m| m.sizes.is_empty()) {
        return Err(Error::WrongDescription {
            text: format!("the ROM has no save memory ({}), so \"{shown}\" cannot be its save", memory.known_by),
        });
    }
    let all = save::holders(file, memory);
    let fitting: Vec<&Holder> = all.iter().filter(|h| wanted.is_some_and(|w| h.size == w as u64)).collect();
    match (all.as_slice(), fitting.as_slice(), memory) {
        ([first, ..], _, Some(_)) | ([first], _, None) => Ok(first.clone()),
        (_, [only], None) => Ok((*only).clone()),
        ([], ..) => Err(Error::Usage(format!(
            "\"{shown}\" has {}, which fits no layout; what fits: {}",
            tell::count(file.len() as u64, "byte", "bytes"),
            sizes(memory)
        ))),
        (several, ..) => {
            let ways: Vec<String> = several.iter().map(|h| words(&h.layout)).collect();
            Err(Error::Ambiguous { what: shown.to_owned(), ways })
        }
    }
}

/// Fails for a part of a file that has none.
fn check_part(holder: &Holder, options: &Options) -> Result<()> {
    match &options.part {
        Some(part) if holder.layout != Layout::Combined => Err(Error::Usage(format!(
            "--part {part} has no meaning: the file holds one memory ({}); leave it out",
            words(&holder.layout)
        ))),
        _ => Ok(()),
    }
}

/// Writes the content of the memory, as the cartridge has it, into a new file.
///
/// # Errors
/// When the file does not fit the memory, or writing fails.
pub fn export(
    shown: &str,
    output: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<MoveReport, Failure> {
    let fail = |e: Error| advised(format!("cannot export the save in \"{shown}\""), e);
    let memory = options.rom.as_deref().map(|r| memory_of(r, setting)).transpose()?;
    let file = read(shown, setting).map_err(fail)?;
    if console::is_block(&file) {
        return console::export(&file, shown, output, options, setting);
    }
    let holder = holder(&file, shown, memory.as_ref(), None).map_err(fail)?;
    check_part(&holder, options).map_err(fail)?;
    let mut content = save::take(&file, &holder, options.part.as_deref(), memory.as_ref()).map_err(fail)?;
    options.swap.apply(&mut content);
    let mut report = blank("decanter.save-export/1", shown, None, words(&holder.layout), output, &content, setting);
    if holder.layout == Layout::Short {
        let missing = holder.size - file.len() as u64;
        report
            .notices
            .push(Notice::new(format!("the last {} bytes are missing in it; they became 0xff", grouped(missing))));
    }
    if let Layout::Clock(bytes) = holder.layout {
        report
            .notices
            .push(Notice::new(format!("the clock's {bytes} bytes are left out: a cartridge keeps its own time")));
    }
    write(report, content, setting)
}

/// Puts the content of a memory into a copy of an emulator's file; without one it becomes a plain file of the right size.
///
/// # Errors
/// When it does not fit, or writing fails.
pub fn import(
    shown: &str,
    into: Option<&str>,
    output: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<MoveReport, Failure> {
    let fail = |e: Error| advised(format!("cannot import the save \"{shown}\""), e);
    let memory = options.rom.as_deref().map(|r| memory_of(r, setting)).transpose()?;
    let mut content = read(shown, setting).map_err(fail)?;
    if into.is_none() && options.title.is_some() {
        return console::import(&content, shown, None, output, options, setting);
    }
    if let Some(into) = into {
        let file = read(into, setting).map_err(fail)?;
        if console::is_block(&file) {
            return console::import(&content, shown, Some(into), output, options, setting);
        }
        let holder = holder(&file, into, memory.as_ref(), Some(content.len())).map_err(fail)?;
        check_part(&holder, options).map_err(fail)?;
        let old = save::take(&file, &holder, options.part.as_deref(), memory.as_ref()).map_err(fail)?;
        let mut notices = Vec::new();
        if content.len() != old.len() {
            let (own, wanted) = (content.len() as u64, old.len() as u64);
            let text =
                format!("it has {}, the save in \"{into}\" {}", tell::count(own, "byte", "bytes"), grouped(wanted));
            if memory.is_none() {
                let hint = "it is the save of another memory; if it is not, --rom ROM says which memory it is";
                return Err(fail(Error::Usage(text)).hint(hint));
            }
            check_length(own, wanted, options).map_err(|hint| fail(Error::Usage(text)).hint(hint))?;
            let in_use = "nothing that is in use is cut: is it the save of another game?";
            let cut = save::resized(&content, wanted);
            content = cut.map_err(|e| fail(Error::Usage(e.to_string())).hint(in_use))?;
            notices.push(resized(own, wanted));
        }
        let digests = (of_bytes(Algorithm::Sha1, &unswapped(&old, options.swap)), of_bytes(Algorithm::Sha1, &content));
        options.swap.apply(&mut content);
        let bytes = save::put(&file, &holder, options.part.as_deref(), memory.as_ref(), &content).map_err(fail)?;
        let mut report =
            blank("decanter.save-import/1", shown, Some(into), words(&holder.layout), output, &bytes, setting);
        (report.old, report.new) = (Some(digests.0), Some(digests.1));
        report.notices = notices;
        return write(report, bytes, setting);
    }
    let Some(memory) = memory else {
        return Err(fail(Error::Usage("where it should go is not said".into()))
            .hint("give the emulator's file with --into, or the ROM with --rom for a plain file"));
    };
    let holder = holder(&content, shown, Some(&memory), None).map_err(fail)?;
    let mut notices = Vec::new();
    if holder.layout == Layout::Short {
        let own = content.len() as u64;
        let text = format!("it has {}, the memory {}", tell::count(own, "byte", "bytes"), grouped(holder.size));
        check_length(own, holder.size, options).map_err(|hint| fail(Error::Usage(text)).hint(hint))?;
        notices.push(resized(own, holder.size));
    }
    let mut bytes = save::take(&content, &holder, options.part.as_deref(), Some(&memory)).map_err(fail)?;
    options.swap.apply(&mut bytes);
    let mut report = blank("decanter.save-import/1", shown, None, words(&holder.layout), output, &bytes, setting);
    report.notices = notices;
    write(report, bytes, setting)
}

/// Fails for a save that is too short, unless it is to be filled; what to do then.
fn check_length(own: u64, wanted: u64, options: &Options) -> std::result::Result<(), &'static str> {
    match own < wanted && !options.pad {
        true => Err(
            "it is cut, or the save of another game; --pad fills what is missing with 0xff, as an empty memory has it",
        ),
        false => Ok(()),
    }
}

/// Says how a save was brought to the size of the memory.
fn resized(own: u64, wanted: u64) -> Notice {
    match own < wanted {
        true => Notice::new(format!(
            "{} missing in it, and became 0xff",
            tell::count(wanted - own, "byte was", "bytes were")
        )),
        false => Notice::new(format!(
            "its last {} of one value, and left out",
            tell::count(own - wanted, "byte is", "bytes are")
        )),
    }
}

fn unswapped(bytes: &[u8], swap: Swap) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    swap.apply(&mut bytes);
    bytes
}

fn advised(what: String, error: Error) -> Failure {
    let hint = match &error {
        Error::WrongDescription { .. } | Error::Usage(_) => {
            "\"decanter save show SAVE\" says what it may be; --rom ROM says what it should be"
        }
        Error::Unreadable { .. } => "nothing that is in use is cut: is it the save of another game?",
        Error::Limit { .. } => "no save memory is that large: is it the ROM?",
        Error::Ambiguous { .. } => "give the ROM with --rom: it says which memory it has",
        _ => return Failure::new(what, error),
    };
    Failure::new(what, error).hint(hint)
}

fn blank(
    schema: &'static str,
    shown: &str,
    into: Option<&str>,
    layout: String,
    output: &Path,
    bytes: &[u8],
    setting: &Setting<'_>,
) -> MoveReport {
    MoveReport {
        schema,
        source: shown.to_owned(),
        holder: into.map(str::to_owned),
        layout,
        target: place::file(Some(output), &format!("{}.sav", place::stem_of_shown(shown))),
        bytes: bytes.len() as u64,
        old: None,
        new: Some(of_bytes(Algorithm::Sha1, bytes)),
        dry_run: setting.dry_run,
        notices: Vec::new(),
    }
}

fn write(report: MoveReport, bytes: Vec<u8>, setting: &Setting<'_>) -> std::result::Result<MoveReport, Failure> {
    let blueprint = Blueprint::of(Arc::new(Bytes(bytes)));
    // A good save is worth more than convenience: what is there is not replaced, whatever else was asked for.
    let door = Door { replace: false, ..setting.door() };
    let written = setting.pour(&[Output::new(&blueprint, &report.target)], door, &mut |_| Ok(()));
    written.map_err(|e| match e {
        Error::Exists { .. } => Failure::new(format!("cannot write \"{}\"", native::text(&report.target)), e)
            .hint("a save is never replaced, not even with --replace: choose another name with -o"),
        e => place::refused(&report.target, e),
    })?;
    Ok(report)
}
