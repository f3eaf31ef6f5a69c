//! From a drive to an image: passes over what is missing, a map, resume, other copies, plans.

pub mod cartridge;
pub mod drive;
mod fill;
pub mod look;
pub mod map;
pub mod plan;
mod read;
mod reader;
mod real;
mod resume;
mod same;
mod sim;

pub use fill::FillReport;

use crate::{Answer, Failure, Setting, grouped, picture, place, quoted};
use decanter_core::digest::{Algorithm, Digest, Hasher, of_source};
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::opened::Fact;
use decanter_core::pour::{self, Output, Partial};
use decanter_core::source::{Bytes, FileSource, SourceRef};
use decanter_core::{Blueprint, Door, Error, Notice, SECTOR};
use drive::Drive;
use look::{hit_files, look};
use map::{Map, Run};
use plan::{Action, Plan};
use read::{Effort, End, Reading};
use real::RealDrive;
use serde::Serialize;
use sim::SimulatedDrive;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What stands before the path of a simulated drive.
const SIMULATED: &str = "sim:";

/// What is asked of a dump.
#[derive(Debug, Clone)]
pub struct Options {
    /// Passes over what is missing.
    pub passes: u32,
    /// Tries of each sector in a later pass.
    pub retries: u32,
    /// Read everything until two reads agree.
    pub twice: bool,
    /// Another copy that missing sectors are taken from.
    pub fill_from: Vec<String>,
    /// A plan to follow.
    pub plan: Option<PathBuf>,
    /// Sectors of the disc, where the drive reports too few.
    pub sectors: Option<u64>,
    /// Bytes of a sector.
    pub sector_len: u64,
    /// Begin anew where an unfinished dump of ours is.
    pub restart: bool,
    /// Where to draw the map.
    pub picture: Option<PathBuf>,
    /// Digests of the finished image.
    pub digests: Vec<Algorithm>,
}

/// What was dumped.
#[derive(Debug, Serialize)]
pub struct DumpReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The drive as it was named.
    pub drive: String,
    /// What it is.
    pub drive_kind: String,
    /// The file that was written: under its final name only if it is complete.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub path: PathBuf,
    /// True when nothing is missing.
    pub complete: bool,
    /// The map.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub map: PathBuf,
    /// True when nothing was read because only a rehearsal was asked for.
    pub dry_run: bool,
    /// Sectors of the image.
    pub sectors: u64,
    /// Its length in bytes.
    pub bytes: u64,
    /// Sectors that are missing.
    pub missing_sectors: u64,
    /// Where they are.
    pub missing: Vec<Run>,
    /// The files that they belong to.
    pub hit_files: Vec<String>,
    /// Passes in all, those of earlier runs included.
    pub passes: u32,
    /// True when an earlier run was gone on with.
    pub resumed: bool,
    /// Sectors whose reads did not agree at first.
    pub unstable_sectors: u64,
    /// Why the drive stopped answering, if it did.
    pub gone: Option<String>,
    /// What other copies gave.
    pub fills: Vec<FillReport>,
    /// Digests of the finished image.
    pub digests: Vec<Digest>,
    /// What it is.
    pub kind: Option<String>,
    /// Title, id and so on.
    pub facts: Vec<Fact>,
    /// The picture that was drawn.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub picture: Option<PathBuf>,
    /// Bytes that its volume has beyond what the drive shows.
    pub beyond: Option<u64>,
    /// True when it is only the part of a disc that a video player shows.
    #[serde(skip)]
    is_video_part: bool,
    /// What to do next.
    pub next: String,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// Writes a plan for what a drive shows; its text, and where it is.
///
/// # Errors
/// When the drive cannot be opened.
pub fn new_plan(
    name: &str,
    sectors: Option<u64>,
    sector_len: u64,
    output: &Path,
    setting: &Setting<'_>,
) -> Result<(String, PathBuf), Failure> {
    let drive = open(name, sector_len, setting)?;
    let sectors = sectors.unwrap_or(drive.sectors());
    let target = place::file(Some(output), &format!("{}.plan.toml", place::stem_of_shown(name)));
    let text = Plan::describe(drive, sectors, setting);
    let blueprint = Blueprint::of(Arc::new(Bytes(text.clone().into_bytes())));
    setting.write(Output::new(&blueprint, &target), "cannot write the plan")?;
    Ok((text, target))
}

/// Reads a drive into `target`, or goes on with it.
///
/// # Errors
/// When the drive, the plan or the other copy cannot be used, the disc is another one, or writing fails. Missing
/// sectors are no error, but an answer.
pub fn dump(
    name: &str,
    target: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(DumpReport, Answer), Failure> {
    let what = format!("cannot dump \"{name}\"");
    let fail = |e: Error| Failure::new(what.clone(), e);
    let mut drive = open(name, options.sector_len, setting)?;
    let plan = match &options.plan {
        Some(path) => Plan::load(path, &setting.guard)
            .map_err(|e| fail(e).hint("\"decanter dump DRIVE --plan new -o FILE\" writes one to begin with"))?,
        None => Plan::whole(options.sectors.unwrap_or(drive.sectors())),
    };
    if plan.sectors == 0 {
        return Err(Failure::usage(what, "the drive reports no sectors")
            .hint("is there a disc in it? --sectors overrides a size that is wrong"));
    }
    let target = &place::file(Some(target), &format!("{}.iso", place::stem_of_shown(name)));
    let map_path = Map::path_of(target);
    setting.check_target(target)?;
    setting.guard.check(&map_path).map_err(|e| place::refused(&map_path, e))?;
    let sector_len = drive.sector_len();
    let (mut map, resumed) = resume::map_of(target, &plan, sector_len, options.restart).map_err(|e| {
        let is_other = matches!(e, Error::WrongDescription { .. });
        let hint = "put the first disc in again, or choose another name with -o; --restart begins anew";
        if is_other { fail(e).hint(hint) } else { fail(e) }
    })?;
    resume::follow(&mut map, &plan);
    let needed = map.missing() * sector_len;
    let unwritable = |e: Error| match e {
        Error::Exists { path } if path == Partial::path_of(target) => {
            let why = "no map of a dump beside it says what it is of, so it is not overwritten".to_owned();
            Failure::new(format!("cannot write \"{}\"", native::text(path)), Error::Usage(why))
                .hint("move it away, or choose another name with -o")
        }
        e if e.blame() == Blame::Request => place::refused(target, e),
        e => fail(e),
    };
    let mut report = blank(name, drive.describe(), target, &map_path, &map);
    report.resumed = resumed;
    report.dry_run = setting.dry_run;
    if let Some(picture) = &options.picture {
        let picture = place::file(Some(picture), &format!("{}.png", place::stem_of_shown(name)));
        // Of a dump that is gone on with, the picture is drawn anew.
        let door = Door { replace: setting.replace || resumed, ..setting.door() };
        pour::check_target(&picture, door, 0, 0).map_err(|e| place::refused(&picture, e))?;
        report.picture = Some(picture);
    }
    pour::check_target(target, setting.door(), map.sectors * sector_len, needed).map_err(unwritable)?;
    if !resumed && !options.restart && Partial::path_of(target).symlink_metadata().is_ok() {
        return Err(unwritable(Error::Exists { path: Partial::path_of(target) }));
    }
    if setting.dry_run {
        report.next = "dry run: nothing was read or written".into();
        return Ok((report, Answer::Yes));
    }
    let output =
        Partial::open(target, setting.door(), resumed, map.sectors * sector_len, needed).map_err(unwritable)?;
    map.cut_to(output.len_before());
    same::check(drive.as_mut(), &mut map, output.path()).map_err(|e| {
        fail(e).hint("put the first disc in again, or choose another name with -o; --restart begins anew")
    })?;
    // From now on the map says what is there, however this run ends.
    map.save(&map_path).map_err(&fail)?;
    let fresh = !resumed && plan.region.iter().all(|r| r.action == Action::Read);
    let hashers = if fresh { options.digests.iter().map(|&a| Hasher::new(a)).collect() } else { Vec::new() };
    let effort = Effort { passes: options.passes, retries: options.retries, twice: options.twice };
    let mut reading = Reading {
        drive: drive.as_mut(),
        output: &output,
        map: &mut map,
        map_path: &map_path,
        effort,
        watch: setting.watch,
        unstable: 0,
        sent: 0,
    };
    let again = format!("the map is saved: the same command goes on ({})", native::text(&map_path));
    let (end, digests) = reading.run(hashers).map_err(|e| match e {
        Error::Cancelled => fail(e).hint(again.clone()),
        e => fail(e),
    })?;
    report.unstable_sectors = reading.unstable;
    if let End::Gone { sector, why } = &end {
        report.gone = Some(format!("at sector {sector}: {why}"));
    } else {
        // A disc that was changed on the way shows by its first sectors.
        same::check(drive.as_mut(), &mut map, output.path()).map_err(|e| {
            fail(e).hint("put the first disc in again; what was read since then may be of the other one: begin anew")
        })?;
    }
    for other in &options.fill_from {
        let filled = fill::fill(other, &output, &mut map, setting);
        let save = map.save(&map_path);
        let failed =
            |e| Failure::new(format!("cannot fill from \"{other}\""), e).hint("give another copy of this very disc");
        report.fills.push(filled.map_err(failed)?);
        save.map_err(&fail)?;
    }
    output.flush().map_err(&fail)?;
    map.save(&map_path).map_err(&fail)?;
    let source: SourceRef = Arc::new(FileSource::own(output.path()).map_err(&fail)?);
    report.missing = map.gaps();
    report.missing_sectors = map.missing();
    report.passes = map.passes;
    let look = look(&source, &map, setting);
    report.kind.clone_from(&look.kind);
    report.facts.clone_from(&look.facts);
    (report.beyond, report.is_video_part) = (look.beyond, look.is_video_part);
    report.notices.extend(look.notices.iter().cloned());
    report.hit_files = hit_files(&look, &report.missing);
    if let Some(path) = &report.picture {
        let scene = picture::Scene::of_dump(&map, &look, target);
        let door = Door { replace: setting.replace || resumed, ..setting.door() };
        picture::draw(&scene, path, &format!("cannot draw \"{}\"", native::text(path)), door, setting)?;
    }
    let answer = finish(&mut report, output, source, target, (digests, &options.digests), setting).map_err(&fail)?;
    Ok((report, answer))
}

fn blank(name: &str, drive_kind: String, target: &Path, map_path: &Path, map: &Map) -> DumpReport {
    DumpReport {
        schema: "decanter.dump/1",
        drive: name.to_owned(),
        drive_kind,
        path: target.to_owned(),
        complete: false,
        map: map_path.to_owned(),
        dry_run: false,
        sectors: map.sectors,
        bytes: map.sectors * map.sector_len,
        missing_sectors: map.missing(),
        missing: Vec::new(),
        hit_files: Vec::new(),
        passes: map.passes,
        resumed: false,
        unstable_sectors: 0,
        gone: None,
        fills: Vec::new(),
        digests: Vec::new(),
        kind: None,
        facts: Vec::new(),
        picture: None,
        beyond: None,
        is_video_part: false,
        next: String::new(),
        notices: Vec::new(),
    }
}

/// Gives a complete image its name and digests, or says what to do about an incomplete one.
fn finish(
    report: &mut DumpReport,
    output: Partial,
    source: SourceRef,
    target: &Path,
    (digests, wanted): (Option<Vec<Digest>>, &[Algorithm]),
    setting: &Setting<'_>,
) -> decanter_core::Result<Answer> {
    if report.missing_sectors > 0 {
        report.path = output.path().to_owned();
        report.next = match &report.gone {
            Some(_) => "connect the drive again and run the same command: it goes on where it stopped".into(),
            None => "clean the disc and run the same command again, or dump it with another drive and add --fill-from"
                .into(),
        };
        return Ok(if report.gone.is_some() { Answer::ReadError } else { Answer::No });
    }
    report.digests = match digests.filter(|d| d.len() == wanted.len()) {
        Some(digests) => digests,
        None => {
            setting.watch.begin("computing digests", Some(source.len()));
            let digests = of_source(&source, wanted, setting.watch)?;
            setting.watch.end();
            digests
        }
    };
    output.finish()?;
    report.complete = true;
    if let Some(beyond) = report.beyond {
        report.next = format!(
            "the volume has {} sectors more than the drive shows: add --sectors {}, or dump it with another drive",
            grouped(beyond.div_ceil(SECTOR)),
            report.sectors + beyond.div_ceil(report.bytes / report.sectors.max(1)),
        );
        return Ok(Answer::No);
    }
    if report.is_video_part {
        report.next = format!(
            "this is the video part of a game disc, and no game: decanter dump {} --plan new -o plan.toml shows where the game may be",
            quoted(&report.drive)
        );
        return Ok(Answer::No);
    }
    report.next = format!("decanter verify {}", quoted(&native::text(target)));
    Ok(Answer::Yes)
}

/// Opens a drive: a path, or `sim:drive.toml`.
///
/// # Errors
/// When it is not there, is a folder, or its description is wrong.
fn open(name: &str, sector_len: u64, setting: &Setting<'_>) -> Result<Box<dyn Drive>, Failure> {
    let Some(described) = name.strip_prefix(SIMULATED) else {
        let drive = RealDrive::open(&native::path(name), sector_len, &setting.guard);
        return drive.map(|drive| Box::new(drive) as Box<dyn Drive>).map_err(|e| cannot_open(name, e, setting));
    };
    let drive = SimulatedDrive::open(&native::path(described), &setting.guard);
    drive.map(|drive| Box::new(drive) as Box<dyn Drive>).map_err(|e| cannot_open(name, e, setting))
}

/// Why a drive cannot be opened, simulated or not, with what was meant where that can be guessed.
fn cannot_open(name: &str, error: Error, setting: &Setting<'_>) -> Failure {
    let Some(described) = name.strip_prefix(SIMULATED) else {
        let failure = Failure::new(format!("cannot dump \"{name}\""), error);
        return match sim::is_description(&native::path(name), &setting.guard) {
            true => {
                failure.hint(format!("did you mean {}? It describes a simulated drive", quoted(&format!("sim:{name}"))))
            }
            false => failure,
        };
    };
    let failure = Failure::new(format!("cannot open the simulated drive \"{name}\""), error);
    match native::path(described).is_dir() {
        true => failure.hint("name the file in it that describes the drive, as in sim:drive.toml"),
        false => failure,
    }
}

/// The line that identify would print of a finished dump.
pub fn line(report: &DumpReport) -> Option<String> {
    let kind = report.kind.clone()?;
    let fact = |name: &str| report.facts.iter().find(|f| f.name == name).map(|f| f.value.clone());
    let parts = [Some(kind), fact("title").or(fact("volume")), fact("id")];
    Some(parts.into_iter().flatten().collect::<Vec<_>>().join(", "))
}
