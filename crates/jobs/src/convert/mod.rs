//! Another format: a conversion is open ∘ compose. What can become what stands in [`table`], and nowhere else.

mod amiga;
mod cartridge;
pub(crate) mod cbm;
mod choose;
mod disc;
mod drive;
mod folder;
pub(crate) mod handheld;
pub(crate) use folder::used_ranges;
mod moment;
mod packed;
mod prove;
mod repair;
pub mod table;
mod target;

pub use prove::Proof;
pub use repair::{RepairReport, RepairedSector};

use crate::failure::with_article;
use crate::{Answer, Failure, Item, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{self, Algorithm, Digest};
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::role::Role;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::track::Track;
use decanter_core::tree::Tree;
use decanter_core::view::{Concat, Lane, Slice, Woven};
use decanter_core::{Error, Notice, pour};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use table::TARGETS;
pub use target::Target;

/// Parts that a result is split into.
const MOST_PARTS: u64 = 10_000;

/// What is asked of a conversion besides its target.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Effort of compression.
    pub level: Option<i32>,
    /// Look for repetitions over long distances.
    pub long: bool,
    /// How the result is taken apart.
    pub split: Option<Split>,
    /// Keep every file at its sector.
    pub keep_positions: bool,
    /// Files that are filled with zeros.
    pub blank: Vec<String>,
    /// Files that are left out of a rebuilt tree.
    pub without: Vec<String>,
    /// Correct the sectors of a CD by their parities.
    pub repair: bool,
    /// Read the result back and hold it against the source.
    pub prove: bool,
    /// Add a UDF volume beside ISO 9660.
    pub udf: bool,
    /// Volume label of a new file system.
    pub label: Option<String>,
    /// Cut what is proven to be padding or repetition off a ROM.
    pub trim: bool,
    /// Make a ROM as long as this, or as its header or chip says.
    pub pad: Option<Option<u64>>,
    /// Value of the bytes that `pad` adds.
    pub fill: Option<u8>,
    /// Further parts that follow after the source.
    pub join: Vec<String>,
    /// The part with the odd bytes; the source has the even ones.
    pub odd: Option<String>,
    /// A file that begins with the header to put before a ROM.
    pub header: Option<String>,
    /// A file that begins with the certificates for a package, or another package.
    pub certificates: Option<String>,
    /// Make a package or an image although a digest in its contents does not hold.
    pub keep_damage: bool,
    /// Codecs of a chunk-compressed image to choose from, by name.
    pub codecs: Vec<String>,
    /// Bytes of its hunks.
    pub hunk: Option<u64>,
    /// The medium it is of: "hd", "cd" or "dvd".
    pub medium: Option<String>,
    /// The image that it becomes a difference to.
    pub parent: Option<String>,
    /// Further sources, whose files are gathered with those of the first.
    pub more: Vec<String>,
    /// Names for files of a new disk: `OLD=NEW`.
    pub name: Vec<String>,
    /// The file system of a new Amiga volume.
    pub fs: Option<String>,
    /// Its size in bytes.
    pub size: Option<u64>,
    /// Bytes that stay free on it.
    pub spare: Option<u64>,
    /// The program that it starts.
    pub start: Option<String>,
    /// The id of a new disk.
    pub disk_id: Option<String>,
    /// Digests of what the result holds.
    pub digests: Vec<Algorithm>,
}

/// How a result is taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Split {
    /// Into files of at most so many bytes.
    Size(u64),
    /// Into the bytes at even offsets and those at odd ones.
    EvenOdd,
}

/// What was converted.
#[derive(Debug, Serialize)]
pub struct ConvertReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// Further sources: parts that were joined, a parent, others that were gathered.
    pub more_sources: Vec<String>,
    /// Id of the target's format.
    pub to: &'static str,
    /// The files that were written, the main one first.
    pub files: Vec<WrittenFile>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// Bytes of the source.
    pub bytes_before: u64,
    /// Bytes of the result.
    pub bytes_after: u64,
    /// Bytes of it that take no room on the disk.
    pub hole_bytes: u64,
    /// Digests of what the result holds, before compression.
    pub digests: Vec<Digest>,
    /// What is kept of the source, and what is not.
    pub preserved: String,
    /// What reading it back has shown, if that was asked for.
    pub proven: Option<Proof>,
    /// What else is to be said of the result: name and value.
    pub facts: Vec<(String, String)>,
    /// Files and areas that the result does not have.
    pub left_out: Vec<LeftOut>,
    /// What came of the repair of a CD.
    pub repair: Option<RepairReport>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A file of the result.
#[derive(Debug, Serialize)]
pub struct WrittenFile {
    /// Where it is.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// Its digests, where it is one part of several.
    pub digests: Vec<Digest>,
}

/// Something that the result does not have.
#[derive(Debug, Clone, Serialize)]
pub struct LeftOut {
    /// Path of the file, or name of the area.
    pub what: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Why.
    pub why: String,
}

/// How a result is held against its source.
pub(crate) enum Back {
    /// Read back, it gives these bytes.
    Bytes(SourceRef),
    /// Raw sectors made of its sectors anew are these.
    RawSectors(SourceRef, decanter_core::track::TrackKind, u64),
    /// It holds these tracks.
    Tracks(Vec<Track>),
    /// It holds these files.
    Files(Tree),
    /// It is a ROM with these bytes, in whatever form.
    Rom(SourceRef),
    /// All digests that it carries of itself hold.
    Seals,
}

/// Makes the bytes of a small file for the name of the main one.
type BesideBytes = Box<dyn Fn(&str) -> Vec<u8>>;

/// A small file beside the main one.
pub(crate) struct Beside {
    pub(crate) extension: &'static str,
    pub(crate) bytes: BesideBytes,
}

/// A conversion that is laid out.
pub(crate) struct Made {
    pub(crate) blueprint: Blueprint,
    pub(crate) beside: Option<Beside>,
    pub(crate) preserved: String,
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) facts: Vec<(String, String)>,
    pub(crate) back: Back,
    pub(crate) repair: Option<RepairReport>,
    pub(crate) notices: Vec<Notice>,
    /// Bytes that it is made of, for progress and report.
    pub(crate) bytes_before: u64,
    /// The part whose digests are those of the content.
    pub(crate) content: Option<decanter_core::blueprint::PartId>,
}

impl Made {
    /// One that keeps the bytes of `source`, all of them.
    pub(crate) fn new(blueprint: Blueprint, source: SourceRef, preserved: impl Into<String>) -> Self {
        Self {
            blueprint,
            beside: None,
            preserved: preserved.into(),
            left_out: Vec::new(),
            facts: Vec::new(),
            bytes_before: source.len(),
            back: Back::Bytes(source),
            repair: None,
            notices: Vec::new(),
            content: None,
        }
    }
}

/// Converts a source. Without `to`, a repair keeps the format.
///
/// # Errors
/// When the source cannot become that, an option does not fit, or writing fails.
pub fn convert(
    shown: &str,
    to: Option<&str>,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(ConvertReport, Answer), Failure> {
    let item = match opened(shown, to, options, setting) {
        // What nobody understands can still be kept.
        Err(f) if matches!(to, Some("zst" | "chd")) && matches!(*f.cause, Error::NotUnderstood { .. }) => {
            locate::open_lightly(shown, "convert", setting)?
        }
        Err(f) if to == Some("prg") && matches!(*f.cause, Error::NotUnderstood { .. }) => {
            locate::open_lightly(shown, "convert", setting)?
        }
        Err(f) if to == Some("nes") && options.header.is_some() && matches!(*f.cause, Error::NotUnderstood { .. }) => {
            with_header(shown, options, setting)?
        }
        opened => opened?,
    };
    let target = find_target(&item, to, options)?;
    let what = format!("cannot convert \"{shown}\" to {}", target.id);
    let fail = |e: Error| Failure::new(what.clone(), e);
    if let Some(extra) = options.misfit(target) {
        return Err(Failure::usage(what, format!("{extra} has no meaning with --to {}", target.id))
            .hint("\"decanter convert --help\" tells which option goes with which target"));
    }
    if setting.watch.cancelled() {
        return Err(fail(Error::Cancelled));
    }
    item.finished(setting)
        .map_err(|e| fail(e).hint("go on with \"decanter dump\", or add --incomplete for zeros there"))?;
    // Packages are held against their digests while they are taken apart.
    let kept = if item.opened.identity.role == Role::Package {
        Vec::new()
    } else {
        item.sound(options.keep_damage, setting).map_err(|e| advise(&what, shown, e))?
    };
    let main = main_path(&item, target, output, options);
    setting.check_target(&main)?;
    let made = (target.make)(&item, target, options, setting).map_err(|e| advise(&what, shown, e))?;
    let outputs = outputs(&made, &main, options).map_err(fail)?;
    let mut report = ConvertReport {
        schema: "decanter.convert/1",
        source: item.address.clone(),
        more_sources: options.more_sources(),
        to: target.id,
        files: outputs
            .iter()
            .map(|(b, path)| WrittenFile { path: path.clone(), bytes: b.len(), digests: Vec::new() })
            .collect(),
        dry_run: setting.dry_run,
        bytes_before: made.bytes_before,
        bytes_after: made.blueprint.len(),
        hole_bytes: 0,
        digests: Vec::new(),
        preserved: made.preserved.clone(),
        proven: None,
        facts: made.facts.clone(),
        left_out: made.left_out.clone(),
        repair: made.repair.clone(),
        // What is kept is told once, as kept.
        notices: (item.notices().iter().filter(|n| kept.is_empty() || !n.is_damage))
            .chain(&kept)
            .chain(&made.notices)
            .cloned()
            .collect(),
    };
    let is_left = made.repair.as_ref().is_some_and(|r| r.beyond_count > 0);
    let is_whole = kept.is_empty() && item.unfinished.is_none() && !made.notices.iter().any(|n| n.is_damage);
    let answer = if is_left || !is_whole { Answer::No } else { Answer::Yes };
    let list: Vec<(&Blueprint, &Path)> = outputs.iter().map(|(b, p)| (b, p.as_path())).collect();
    let unwritable = |e: Error| match e.blame() {
        Blame::Request => place::refused(&main, e),
        _ => advise(&what, shown, e),
    };
    pour::check_targets(&list, setting.door()).map_err(unwritable)?;
    if setting.dry_run {
        return Ok((report, answer));
    }
    // Of a compressed result the digests of its content are of use, and known already; else those of the file.
    let whole: &[Algorithm] = if made.content.is_some() { &[] } else { &options.digests };
    setting.watch.begin(&format!("converting {}", item.stem), Some(made.blueprint.len()));
    let mut proven = None;
    let poured = pour::pour_all(&list, setting.door(), whole, setting.watch, &mut |paths| {
        setting.watch.end();
        setting.settle()?;
        if options.prove {
            let mains = &paths[..paths.len() - usize::from(made.beside.is_some())];
            proven = Some(prove::prove(&made.back, mains, options.split, &item, setting)?);
        }
        Ok(())
    });
    let poured = poured.map_err(unwritable)?;
    setting.watch.end();
    report.proven = proven;
    report.bytes_after = poured.iter().map(|p| p.bytes).sum();
    report.hole_bytes = poured.iter().map(|p| p.hole_bytes).sum();
    report.digests = match (made.content, poured.first()) {
        (Some(part), Some(first)) => first.part_digests.get(part.index()).cloned().unwrap_or_default(),
        (None, Some(first)) => first.digests.clone(),
        _ => Vec::new(),
    };
    let parts = poured.len() - usize::from(made.beside.is_some());
    report.files = poured
        .into_iter()
        .map(|p| WrittenFile { path: p.path, bytes: p.bytes, digests: if parts > 1 { p.digests } else { Vec::new() } })
        .collect();
    if parts > 1 {
        // The digest of one part says nothing of the whole.
        report.digests = of_parts(&report.files[..parts], options).map_err(fail)?;
    }
    Ok((report, answer))
}

/// The digests of what was taken apart, put together again.
fn of_parts(files: &[WrittenFile], options: &Options) -> decanter_core::Result<Vec<Digest>> {
    let open = |f: &WrittenFile| Ok(Arc::new(FileSource::own(&f.path)?) as SourceRef);
    let parts = files.iter().map(open).collect::<decanter_core::Result<Vec<_>>>()?;
    let whole: SourceRef = match (options.split, parts.as_slice()) {
        (Some(Split::EvenOdd), [even, odd]) => Arc::new(Woven::new(even.clone(), odd.clone())?),
        _ => Arc::new(Concat::new(parts)?),
    };
    digest::of_source(&whole, &options.digests, &())
}

/// The main file of the result.
fn main_path(item: &Item, target: &Target, output: Option<&Path>, options: &Options) -> PathBuf {
    let word = match options {
        o if o.repair => "repaired",
        o if o.trim => "trimmed",
        o if o.pad.is_some() => "padded",
        o if !o.join.is_empty() || o.odd.is_some() => "joined",
        o if !o.blank.is_empty() => "blanked",
        _ => "converted",
    };
    let main = place::file(output, &place::name_beside(item, target.extension, word));
    // A raw CD is a pair: named by either of them, both are meant.
    match target.id == "cd-raw" && main.extension().is_some_and(|e| e.eq_ignore_ascii_case("cue")) {
        true => main.with_extension(target.extension),
        false => main,
    }
}

/// Opens the source, put together with its other parts.
fn opened(shown: &str, to: Option<&str>, options: &Options, setting: &Setting<'_>) -> Result<Item, Failure> {
    if matches!(to, Some("d64" | "d81")) {
        return cbm::gathered(shown, &options.more, setting);
    }
    if let Some(extra) = options.more.first() {
        return Err(Failure::usage("cannot convert several sources at once", format!("\"{extra}\" is one too many"))
            .hint("only disks (--to d64, --to d81) are made of several; parts of one dump go together with --join"));
    }
    if options.join.is_empty() && options.odd.is_none() {
        return locate::open(shown, "convert", setting);
    }
    let join = || -> decanter_core::Result<SourceRef> {
        let mut whole = locate::bytes(shown, setting)?;
        if let Some(odd) = &options.odd {
            whole = Arc::new(Woven::new(whole, locate::bytes(odd, setting)?)?);
        }
        let mut parts = vec![whole];
        for part in &options.join {
            parts.push(locate::bytes(part, setting)?);
        }
        Ok(Arc::new(Concat::new(parts)?))
    };
    let what = || format!("cannot join the parts of \"{shown}\"");
    let whole = join().map_err(|e| Failure::new(what(), e))?;
    locate::open_bytes(shown, whole, setting).map_err(|e| {
        let is_unknown = matches!(e, Error::NotUnderstood { .. });
        let failure = Failure::new(what(), e);
        match is_unknown {
            true => failure.hint("what comes out is nothing known: are the parts complete, and in the right order?"),
            false => failure,
        }
    })
}

/// A NES ROM without a header, behind the one that was given.
fn with_header(shown: &str, options: &Options, setting: &Setting<'_>) -> Result<Item, Failure> {
    let run = || -> decanter_core::Result<Item> {
        let header = cartridge::header(options, "nes", setting)?.unwrap_or_default();
        let body = locate::bytes(shown, setting)?;
        let head: SourceRef = Arc::new(decanter_core::source::Bytes(header));
        locate::open_bytes(shown, Arc::new(Concat::new(vec![head, body])?), setting)
    };
    run().map_err(|e| Failure::new(format!("cannot convert \"{shown}\""), e))
}

/// A failure of turning `source` into something, with what to do about it.
fn advise(what: &str, source: &str, error: Error) -> Failure {
    let source = crate::quoted(source);
    let damaged = || format!("decanter verify {source} names what is hit; --keep-damage makes it nevertheless");
    let hint = match &error {
        Error::Unsupported { .. } => {
            "rename or leave out what does not fit: --without PATH leaves a file or folder out".to_owned()
        }
        Error::Checksum { .. } if what.ends_with(" cia") || what.ends_with(" 3ds") => damaged(),
        Error::Damaged { .. } => damaged(),
        Error::Unreadable { .. } => {
            format!("decanter identify {source} shows how its length compares with what it should be")
        }
        _ => return Failure::new(what, error),
    };
    Failure::new(what, error).hint(hint)
}

fn find_target(item: &Item, to: Option<&str>, options: &Options) -> Result<&'static Target, Failure> {
    let what = format!("cannot convert \"{}\"", item.shown);
    let can = || {
        let ids: Vec<&str> = TARGETS.iter().filter(|t| t.accepts(item).is_some()).map(|t| t.id).collect();
        if ids.is_empty() { "nothing".into() } else { ids.join(", ") }
    };
    let id = match to {
        Some(id) => id,
        None if options.repair => "cd-raw",
        None if options.keeps_form() && item.opened.identity.format == "3ds" => "3ds",
        None if options.keeps_form() && item.opened.holds.rom.is_some() => {
            item.opened.holds.rom.as_ref().map_or("", |r| r.form.trim_end_matches("-mirrored"))
        }
        None => {
            return Err(Failure::usage(what, "what it should become is not said")
                .hint(format!("add --to with one of: {}", can())));
        }
    };
    let Some(target) = TARGETS.iter().find(|t| t.id == id) else {
        let all: Vec<&str> = TARGETS.iter().map(|t| t.id).collect();
        return Err(
            Failure::usage(what, format!("\"{id}\" is none of {}", all.join(", "))).hint("choose one with --to")
        );
    };
    match target.accepts(item) {
        Some(_) => Ok(target),
        None => Err(Failure::usage(
            what,
            format!("{} cannot become {}", with_article(&item.opened.identity.kind), target.what),
        )
        .hint(format!("it can become: {}", can()))),
    }
}

/// The files to write: the main one, in parts if asked for, and the one beside it.
fn outputs(made: &Made, main: &Path, options: &Options) -> decanter_core::Result<Vec<(Blueprint, PathBuf)>> {
    let mut outputs = Vec::new();
    match options.split {
        Some(Split::EvenOdd) => {
            let whole = made.blueprint.as_source()?;
            for (extension, is_odd) in [("even", false), ("odd", true)] {
                let lane = Lane::new(whole.clone(), is_odd);
                outputs.push((Blueprint::of(Arc::new(lane)), main.with_extension(extension)));
            }
        }
        Some(Split::Size(most)) if made.blueprint.len() > most => {
            let whole = made.blueprint.as_source().map_err(|_| {
                Error::Usage("a compressed result cannot be split: its length is known only in the end".into())
            })?;
            let parts = whole.len().checked_div(most).unwrap_or(u64::MAX);
            if parts >= MOST_PARTS {
                let why = format!("parts of {most} bytes would be more than {MOST_PARTS}");
                return Err(Error::Usage(format!("{why}: --split takes the size of a part, as in 4GiB-1")));
            }
            let mut at = 0;
            while at < whole.len() {
                let len = most.min(whole.len() - at);
                let mut name = main.as_os_str().to_owned();
                name.push(format!(".{}", outputs.len()));
                outputs.push((Blueprint::of(Arc::new(Slice::new(whole.clone(), at, len)?)), PathBuf::from(name)));
                at += len;
            }
        }
        _ => outputs.push((made.blueprint.clone(), main.to_owned())),
    }
    if let Some(beside) = &made.beside {
        let name = main.file_name().map(native::text).unwrap_or_default();
        let bytes = decanter_core::source::Bytes((beside.bytes)(&name));
        outputs.push((Blueprint::of(Arc::new(bytes)), main.with_extension(beside.extension)));
    }
    Ok(outputs)
}

impl Options {
    /// Everything that is read beside the source.
    fn more_sources(&self) -> Vec<String> {
        let single = [&self.odd, &self.header, &self.certificates, &self.parent];
        let lists = self.more.iter().chain(&self.join);
        lists.chain(single.into_iter().flatten()).cloned().collect()
    }

    /// Whether what is asked for leaves the form of a ROM as it is.
    fn keeps_form(&self) -> bool {
        self.trim || self.pad.is_some() || !self.join.is_empty() || self.odd.is_some() || self.split.is_some()
    }

    /// The first option that was given and that `target` has no use for.
    fn misfit(&self, target: &Target) -> Option<&'static str> {
        let given = [
            ("--level", self.level.is_some()),
            ("--long", self.long),
            ("--split", self.split.is_some()),
            ("--keep-positions", self.keep_positions),
            ("--blank", !self.blank.is_empty()),
            ("--without", !self.without.is_empty()),
            ("--repair", self.repair),
            ("--udf", self.udf),
            ("--label", self.label.is_some()),
            ("--trim", self.trim),
            ("--pad", self.pad.is_some()),
            ("--fill", self.fill.is_some()),
            ("--header", self.header.is_some()),
            ("--certificates", self.certificates.is_some()),
            ("--name", !self.name.is_empty()),
            ("--fs", self.fs.is_some()),
            ("--size", self.size.is_some()),
            ("--spare", self.spare.is_some()),
            ("--start", self.start.is_some()),
            ("--disk-id", self.disk_id.is_some()),
            ("--codecs", !self.codecs.is_empty()),
            ("--hunk", self.hunk.is_some()),
            ("--medium", self.medium.is_some()),
            ("--parent", self.parent.is_some()),
        ];
        given.into_iter().find(|(name, is_given)| *is_given && !target.options.contains(name)).map(|(name, _)| name)
    }
}
