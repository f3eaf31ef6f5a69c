//! From a drive or a reader to an image.

mod cartridge;
mod disc;

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{native, whole};
use crate::render::Page;
use clap::Args;
use clap::ValueEnum;
use decanter_core::{Algorithm, SECTOR};
use decanter_jobs::dump::cartridge::MemoryWish;
use decanter_jobs::{Failure, Setting, dump, quoted};
use std::io::Write;
use std::path::{Path, PathBuf};

/// Passes over what is missing, where nobody says how many.
const PASSES: u32 = 4;
/// More sectors than any disc has.
const MOST_SECTORS: u64 = 1 << 32;

/// Read a disc through a drive into an image, with a map of what is missing; or a cartridge through a reader
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter dump /dev/sr0 -o \"Lamplighter Lane.iso\"\n           \
    decanter dump sim:saltmarsh/drive.toml -o lane.iso --picture lane.png\n           \
    decanter dump sim:saltmarsh/drive.toml -o lane.iso --fill-from \"saltmarsh/Lamplighter Lane.iso\"\n           \
    decanter dump /dev/sr0 --plan new -o plan.toml\n           \
    decanter dump sim:saltmarsh/drawer/reader.toml -o fogbell.gb\n           \
    decanter dump sim:saltmarsh/drawer/reader.toml --memory save -o fogbell.sav\n\n\
    While something is missing, the image is called FILE.incomplete and the exit code is 1; the same\n\
    command goes on where the map (FILE.map) says. DRIVE is a device, a file, or a simulated drive\n\
    (sim:drive.toml, docs/simulated-drive.md).\n\n\
    A cartridge is read twice; banks that differ are read again (--retries) until every byte settles.\n\
    --write puts a save into the cartridge: the old one is read into -o first, the new one read back after.")]
pub struct Dump {
    /// A block device, a file, sim:drive.toml, or a cartridge reader (sim:reader.toml)
    #[arg(value_name = "DRIVE", value_parser = native())]
    drive: String,
    /// The image to write; with --plan new the plan
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// Passes over what is missing: the first reads large pieces, later ones single sectors from both sides [default: 4]
    #[arg(long, value_name = "N", value_parser = whole::<u32>(0..=1000))]
    passes: Option<u32>,
    /// Tries of each missing sector in each later pass
    #[arg(long, default_value_t = 3, value_name = "N", value_parser = whole::<u32>(1..=1000))]
    retries: u32,
    /// Read everything until two reads agree, for drives that return wrong bytes now and then
    #[arg(long)]
    twice: bool,
    /// Take missing sectors from another copy of this disc, complete or incomplete (repeatable)
    #[arg(long, value_name = "OTHER", value_parser = native())]
    fill_from: Vec<String>,
    /// Follow this plan; "new" writes one from what the drive shows
    #[arg(long, value_name = "FILE|new")]
    plan: Option<PathBuf>,
    /// Sectors of the disc, where the drive reports too few
    #[arg(long, value_name = "N", value_parser = whole::<u64>(1..=MOST_SECTORS))]
    sectors: Option<u64>,
    /// Bytes of a sector; a simulated drive says it itself [default: 2048]
    #[arg(long, value_name = "N", value_parser = whole::<u64>(512..=4096))]
    sector_bytes: Option<u64>,
    /// Begin anew where an unfinished dump of this name is: what it has is removed
    #[arg(long)]
    restart: bool,
    /// Draw a map of the disc as a PNG
    #[arg(long, value_name = "PNG")]
    picture: Option<PathBuf>,
    /// Which memory of a cartridge [default: rom]
    #[arg(long, value_name = "WHICH", value_enum)]
    memory: Option<MemoryArg>,
    /// Write this file into the save memory of the cartridge, once the old content is safe in -o
    #[arg(long, value_name = "SAVE", requires = "memory", value_parser = native())]
    write: Option<String>,
    /// Digests of the finished image, separated by commas: crc32, md5, sha1, sha256
    #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
    algorithm: Vec<Algorithm>,
}

impl Run for Dump {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self {
            drive,
            output,
            passes,
            retries,
            twice,
            fill_from,
            plan,
            sectors,
            sector_bytes,
            restart,
            picture,
            memory,
            write,
            algorithm,
        } = self;
        let setting = with.setting(None)?;
        if let Some(mut reader) = dump::cartridge::open(drive, &setting)? {
            self.refuse_options_of_discs()?;
            let options = dump::cartridge::Options {
                memory: if *memory == Some(MemoryArg::Save) { MemoryWish::Save } else { MemoryWish::Rom },
                write: write.clone(),
                retries: *retries,
                digests: algorithm.clone(),
            };
            let (report, answer) = dump::cartridge::dump(drive, &mut reader, output, &options, &setting)?;
            with.show(out, &report, |page| cartridge::show_dump(page, &report, with.took(), with.manner()))?;
            return Ok(code_of_answer(answer));
        }
        if memory.is_some() {
            return Err(Failure::usage(format!("cannot dump \"{drive}\""), "--memory is for cartridge readers")
                .hint("a simulated one is sim:reader.toml, with a ROM in it")
                .into());
        }
        if plan.as_deref().is_some_and(|p| p.as_os_str() == "new") {
            return new_plan(drive, output, *sectors, sector_bytes.unwrap_or(SECTOR), &setting, with, out);
        }
        if let (Some(_), Some(_)) = (plan, sectors) {
            let why = "a plan says itself how many sectors the disc has";
            return Err(Failure::usage(format!("cannot dump \"{drive}\""), why).hint("leave out --sectors").into());
        }
        let options = dump::Options {
            passes: passes.unwrap_or(PASSES),
            retries: *retries,
            twice: *twice,
            fill_from: fill_from.clone(),
            plan: plan.clone(),
            sectors: *sectors,
            sector_len: sector_bytes.unwrap_or(SECTOR),
            restart: *restart,
            picture: picture.clone(),
            digests: algorithm.clone(),
        };
        let (report, answer) = dump::dump(drive, output, &options, &setting)?;
        with.show(out, &report, |page| disc::show(page, &report, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

impl Dump {
    /// Fails for an option that has no meaning for a cartridge.
    fn refuse_options_of_discs(&self) -> Result<(), Failure> {
        let given = [
            ("--passes", self.passes.is_some()),
            ("--twice", self.twice),
            ("--fill-from", !self.fill_from.is_empty()),
            ("--plan", self.plan.is_some()),
            ("--sectors", self.sectors.is_some()),
            ("--sector-bytes", self.sector_bytes.is_some()),
            ("--restart", self.restart),
            ("--picture", self.picture.is_some()),
        ];
        match given.into_iter().find(|(_, is_given)| *is_given) {
            Some((option, _)) => {
                let why = format!("{option} is for discs, this is a cartridge reader");
                Err(Failure::usage(format!("cannot dump \"{}\"", self.drive), why).hint(format!("leave out {option}")))
            }
            None => Ok(()),
        }
    }
}

/// Which memory of a cartridge.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum MemoryArg {
    /// The game itself
    Rom,
    /// The memory that keeps saved games
    Save,
}

/// Writes a plan of what a drive shows.
fn new_plan(
    drive: &str,
    output: &Path,
    sectors: Option<u64>,
    sector_len: u64,
    setting: &Setting<'_>,
    with: &With<'_>,
    out: &mut dyn Write,
) -> Result<u8, Stop> {
    let (text, plan) = dump::new_plan(drive, sectors, sector_len, output, setting)?;
    let report = serde_json::json!({
        "schema": "decanter.dump-plan/1", "plan": plan, "text": text, "dry_run": setting.dry_run,
    });
    with.show(out, &report, |page| show_plan(page, drive, &text, &plan, setting.dry_run))?;
    Ok(0)
}

/// A plan, and how it is followed.
fn show_plan(page: &mut Page, drive: &str, text: &str, plan: &Path, is_dry: bool) {
    for line in text.lines() {
        page.line(line);
    }
    page.blank();
    let verb = if is_dry { "would write" } else { "wrote" };
    let (drive, quoted_plan) = (quoted(drive), quoted(&decanter_core::native::text(plan)));
    page.line(format!(
        "{verb} {}; edit it, then: decanter dump {drive} --plan {quoted_plan} -o IMAGE",
        decanter_core::native::text(plan)
    ))
}
