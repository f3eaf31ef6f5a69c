//! Saved games.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::native;
use crate::render::{Manner, Page, count, exact, number, style};
use clap::Args;
use clap::Subcommand;
use decanter_core::native;
use decanter_formats::package::x360::Change;
use decanter_jobs::save::{self, Swap};
use decanter_jobs::save::{MoveReport, ShowReport};
use decanter_jobs::{Answer, Failure, extract};
use std::io::Write;
use std::path::PathBuf;

/// Show saved games, and take them out of the files of emulators or put them in
#[derive(Debug, Clone, Subcommand)]
pub enum Save {
    /// Say what a save file is and how it is laid out; of a ROM, what save memory it has
    #[command(after_help = "Examples:  decanter save show saltmarsh/drawer/Fogbell.gb\n           \
        decanter save show saltmarsh/drawer/Fogbell.sav --rom saltmarsh/drawer/Fogbell.gb")]
    Show {
        /// A save file, or a ROM
        #[arg(value_name = "FILE", value_parser = native())]
        file: String,
        /// The ROM that the save belongs to: says what memory it should fit
        #[arg(long, value_name = "ROM", value_parser = native())]
        rom: Option<String>,
    },
    /// Write the content of the save memory, as a cartridge has it, into a new file
    #[command(after_help = "Examples:  decanter save export saltmarsh/drawer/Fogbell.sav -o raw.sav\n           \
        decanter save export saltmarsh/downloads/Rowing.save -o rowing-save\n\n\
        Clocks, filler, repetitions and other memories of an emulator's file are left out. Nothing is replaced, ever.")]
    Export {
        /// An emulator's save file, the block that a console keeps for its GBA mode, or a package of the 360 generation
        #[arg(value_name = "SAVE", value_parser = native())]
        file: String,
        /// The file to write; of a package the folder for its files
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        #[command(flatten)]
        more: SaveArgs,
    },
    /// Put the content of a save memory into a copy of an emulator's file
    #[command(
        after_help = "Examples:  decanter save import raw.sav --into saltmarsh/drawer/Fogbell.sav -o new.sav\n           \
        decanter save import rowing-save --into saltmarsh/downloads/Rowing.save -o Rowing.new\n\n\
        Always writes a new file, and says the digest of the old and the new save. Without --into a plain file of the\n\
        size of the ROM's memory is written. Nothing is replaced, ever."
    )]
    Import {
        /// The save as the cartridge has it; for a package of the 360 generation the folder with its files
        #[arg(value_name = "SAVE", value_parser = native())]
        file: String,
        /// The emulator's file, or the block of a console, that a copy is made of
        #[arg(long, value_name = "FILE", value_parser = native())]
        into: Option<String>,
        /// The file to write
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        /// Fill a save that is too short with 0xff, as an empty memory has it, instead of refusing it
        #[arg(long)]
        pad: bool,
        /// In a package: another profile, 16 hexadecimal digits [default: that of the copied one]
        #[arg(long, value_name = "HEX", value_parser = digits::<8>)]
        profile_id: Option<[u8; 8]>,
        /// In a package: another console, ten hexadecimal digits [default: that of the copied one]
        #[arg(long, value_name = "HEX", value_parser = digits::<5>)]
        console_id: Option<[u8; 5]>,
        /// In a package: another device, 40 hexadecimal digits [default: that of the copied one]
        #[arg(long, value_name = "HEX", value_parser = digits::<20>)]
        device_id: Option<[u8; 20]>,
        #[command(flatten)]
        more: SaveArgs,
    },
}

/// What the two ways have in common.
#[derive(Debug, Clone, Args)]
pub struct SaveArgs {
    /// The ROM that the save belongs to: says what memory it should fit
    #[arg(long, value_name = "ROM", value_parser = native())]
    pub rom: Option<String>,
    /// Which memory of a file with several: eeprom, sram, flash, pak1 to pak4
    #[arg(long, value_name = "NAME")]
    pub part: Option<String>,
    /// The emulator's file has its bytes swapped in pairs (2) or reversed in fours (4)
    #[arg(long, value_name = "2|4", value_parser = swap)]
    pub swap: Option<Swap>,
    /// The title whose save it is, sixteen hexadecimal digits: checked against the block of a console; without --into
    /// a new block is made for it
    #[arg(long, value_name = "ID", value_parser = title_id)]
    pub title: Option<u64>,
}

fn title_id(text: &str) -> Result<u64, String> {
    let digits = Some(text).filter(|t| t.len() == 16);
    digits
        .and_then(|t| u64::from_str_radix(t, 16).ok())
        .ok_or_else(|| "sixteen hexadecimal digits are needed".to_owned())
}

/// Reads an id of so many bytes.
fn digits<const N: usize>(text: &str) -> Result<[u8; N], String> {
    let mut own = [0; N];
    match decanter_core::digest::unhex(text, &mut own).map(|found| found.len()) {
        Some(len) if len == N => Ok(own),
        _ => Err(format!("{} hexadecimal digits are needed", 2 * N)),
    }
}

/// Reads how bytes are swapped.
fn swap(text: &str) -> Result<Swap, String> {
    match text {
        "2" => Ok(Swap::Pairs),
        "4" => Ok(Swap::Words),
        _ => Err("use 2 for pairs or 4 for groups of four".into()),
    }
}

/// What is told of options that do not go with the save that was given.
fn no_meaning(verb: &str, what: &str) -> Failure {
    Failure::usage(format!("cannot {verb} the save"), format!("{what} has no meaning for it"))
        .hint("\"decanter help save\" says what each option is for: leave it out")
}

/// Fails for options of memories where there is a package.
fn check_plain(more: &SaveArgs, verb: &str) -> Result<(), Failure> {
    let SaveArgs { rom, part, swap, title } = more;
    let given = [
        ("--rom", rom.is_some()),
        ("--part", part.is_some()),
        ("--swap", swap.is_some()),
        ("--title", title.is_some()),
    ];
    match given.iter().find(|(_, is_given)| *is_given) {
        Some((name, _)) => Err(no_meaning(verb, name)),
        None => Ok(()),
    }
}

impl Run for Save {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let options = |more: &SaveArgs| save::Options {
            rom: more.rom.clone(),
            part: more.part.clone(),
            swap: more.swap.unwrap_or_default(),
            title: more.title,
            pad: false,
        };
        let report = match self {
            Self::Show { file, rom } => {
                let report = save::show(file, rom.as_deref(), &with.setting(None)?)?;
                with.show(out, &report, |page| show(page, &report, with.manner()))?;
                return Ok(code_of_answer(if report.misfit { Answer::No } else { Answer::Yes }));
            }
            Self::Export { file, output, more } if save::is_package(file, &with.setting(None)?) => {
                check_plain(more, "export")?;
                let setting = with.setting(None)?;
                let (report, answer) = extract::extract(file, Some(output), &extract::Options::default(), &setting)?;
                with.show(out, &report, |page| {
                    super::extract::show_extract(page, &report, with.took(), with.manner())
                })?;
                return Ok(code_of_answer(answer));
            }
            Self::Import { file, into: Some(into), output, pad, profile_id, console_id, device_id, more }
                if save::is_package(into, &with.setting(None)?) =>
            {
                check_plain(more, "import")?;
                if *pad {
                    return Err(no_meaning("import", "--pad").into());
                }
                let change = Change { console_id: *console_id, profile_id: *profile_id, device_id: *device_id };
                save::import_files(file, into, output, &change, &with.setting(None)?)?
            }
            Self::Import { profile_id, console_id, device_id, .. }
                if profile_id.is_some() || console_id.is_some() || device_id.is_some() =>
            {
                return Err(no_meaning("import", "--profile-id, --console-id and --device-id").into());
            }
            Self::Export { file, output, more } => save::export(file, output, &options(more), &with.setting(None)?)?,
            Self::Import { file, into, output, pad, more, .. } => {
                let options = save::Options { pad: *pad, ..options(more) };
                save::import(file, into.as_deref(), output, &options, &with.setting(None)?)?
            }
        };
        with.show(out, &report, |page| show_moved(page, &report, with.manner()))?;
        Ok(0)
    }
}

/// Shows what a save file is, or what save memory a ROM has.
pub fn show(page: &mut Page, report: &ShowReport, manner: Manner) {
    page.title(&report.source);
    page.row("size", exact(report.bytes));
    if let Some(memory) = &report.memory {
        page.row("save memory", crate::render::rom::save(memory));
    }
    for (index, reading) in report.may_be.iter().enumerate() {
        let label = if index == 0 { "save" } else { "or" };
        page.row(label, format!("{} bytes of {}; {}", number(reading.bytes), reading.kinds, reading.layout));
        if !reading.parts.is_empty() {
            page.row("parts", reading.parts.join(", "));
        }
    }
    for copy in &report.copies {
        let label = if copy.is_current { "current copy" } else { "other copy" };
        let (colour, words) = match copy.holds {
            Some(true) => (style::GOOD, "its code holds"),
            Some(false) => (style::BAD, "its code does not hold"),
            None => (style::WARN, "its code is not checked"),
        };
        let (bytes, times) = (number(copy.bytes), count(copy.times as usize, "time"));
        page.row(label, format!("{bytes} bytes at {:#x}, saved {times}; {colour}{words}{}", copy.offset, style::PLAIN));
    }
    if let Some(first) = report.copies.first() {
        page.row("title id", &first.title_id);
    }
    if report.misfit && report.copies.is_empty() {
        page.row("save", format!("{}no layout of that memory has this size{}", style::BAD, style::PLAIN));
    }
    if let Some(used) = report.used_bytes {
        page.row("in use", format!("{} bytes are neither 0x00 nor 0xff", number(used)));
    }
    if let Some(digest) = &report.digest {
        page.row(digest.algorithm.name(), digest.hex());
    }
    page.row("next", &report.next);
    page.notices(&report.notices, manner)
}

/// Shows what was exported or imported.
pub fn show_moved(page: &mut Page, report: &MoveReport, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    page.wrote(verb, native::text(&report.target));
    page.row("from", &report.source);
    if let Some(holder) = &report.holder {
        page.row("copy of", format!("{holder}, which was not changed"));
    }
    page.row("layout", &report.layout);
    page.row("size", exact(report.bytes));
    if let Some(old) = &report.old {
        page.row("old save", format!("{} {}", old.algorithm.name(), old.hex()));
    }
    if let Some(new) = &report.new {
        page.row("new save", format!("{} {}", new.algorithm.name(), new.hex()));
    }
    page.notices(&report.notices, manner)
}
