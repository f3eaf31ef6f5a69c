//! Another format: a conversion is open ∘ compose. What can become what stands in [`table`], and nowhere else; a target says of
//! itself how its source is opened, what it accepts, which choices it has and how it is laid out.

mod aim;
mod amiga;
mod cartridge;
pub(crate) mod cbm;
pub mod choice;
mod choose;
mod content;
mod described;
mod disc;
mod drive;
mod folder;
pub(crate) mod handheld;
mod hybrid;
mod laid;
pub(crate) mod made;
#[cfg(test)]
mod made_up;
mod many;
mod moment;
mod open;
pub(crate) mod outlook;
mod packed;
mod parts;
pub(crate) mod playstation;
mod present;
mod prove;
mod repair;
mod shared;
pub mod table;
mod target;

pub(crate) use disc::chosen_files;
pub(crate) use folder::{add_folders, used_ranges};
pub use made::LeftOut;
pub use many::{Work, convert_each, sort_out};
pub(crate) use packed::content as packed_content;
pub use prove::Proof;
pub(crate) use prove::same_files;
pub use repair::{RepairReport, RepairedSector};
pub use target::Target;

use crate::estimate::Estimate;
use crate::{Answer, Failure, Item, Setting};
use aim::Aim;
use choice::Choices;
use decanter_core::Notice;
use decanter_core::digest::{Algorithm, Digest};
use laid::Laid;
use serde::Serialize;
use std::io::Write;
use std::path::{Path, PathBuf};

/// What is asked of a conversion besides its target.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// What was chosen of that which only some targets have.
    pub given: Choices,
    /// Read the result back and hold it against the source.
    pub prove: bool,
    /// Further parts that follow after the source.
    pub join: Vec<String>,
    /// The part with the odd bytes; the source has the even ones.
    pub odd: Option<String>,
    /// Make it although a digest in its contents does not hold.
    pub keep_damage: bool,
    /// Further sources, whose files are gathered with those of the first.
    pub more: Vec<String>,
    /// Digests of what the result holds.
    pub digests: Vec<Algorithm>,
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
    /// What it would be about, of a rehearsal with something packed in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about: Option<Estimate>,
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

/// Converts a source. Without `to`, the name given with `output` says what it becomes, or options that keep the form.
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
    let aim = Aim::new(to, output);
    let item = open(shown, &aim, options, setting)?;
    let target = aim.target(&item, options)?;
    laid::make(&item, target, output, options, setting)
}

/// The same onto `out`: one stream of bytes, without a name.
///
/// # Errors
/// As [`convert`]; when the result is more than one file.
pub fn convert_onto(
    out: &mut dyn Write,
    shown: &str,
    to: Option<&str>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(ConvertReport, Answer), Failure> {
    let aim = Aim::new(to, None);
    let item = open(shown, &aim, options, setting)?;
    let target = aim.target(&item, options)?;
    Laid::check(&item, target, options, setting)?;
    Laid::of(&item, target, options, setting)?.stream(out, setting)
}

/// Makes one target of what was opened otherwise than by its name, as `main`.
///
/// # Errors
/// As [`convert`].
pub(crate) fn make(
    item: &Item,
    target: &Target,
    main: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(ConvertReport, Answer), Failure> {
    laid::make(item, target, Some(main), options, setting)
}

/// Opens a source as a target wants it.
///
/// # Errors
/// When it cannot be opened.
pub(crate) fn open_for(
    target: &Target,
    shown: &str,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<Item, Failure> {
    (target.open)(shown, options, setting)
}

/// Opens what is converted: one source, or several that are gathered into one.
fn open(shown: &str, aim: &Aim<'_>, options: &Options, setting: &Setting<'_>) -> Result<Item, Failure> {
    let asked = aim.asked();
    if let Some(extra) = options.more.first().filter(|_| asked.gather.is_none()) {
        let several = table::targets().filter(|t| t.gather.is_some()).map(|t| format!("--to {}", t.id));
        let several = several.collect::<Vec<_>>().join(", ");
        return Err(Failure::usage("cannot convert several sources at once", format!("\"{extra}\" is one too many"))
            .hint(format!("only disks ({several}) are made of several; parts of one dump go together with --join")));
    }
    let open = |source: &str| (asked.open)(source, options, setting);
    match asked.gather {
        None => open(shown),
        Some(gather) => {
            let sources = std::iter::once(shown).chain(options.more.iter().map(String::as_str));
            gather(sources.map(open).collect::<Result<_, _>>()?, setting)
        }
    }
}

impl Options {
    /// Everything that is read beside the source.
    fn more_sources(&self) -> Vec<String> {
        let lists = self.more.iter().chain(&self.join).chain(&self.odd).cloned();
        let paths = table::choices().into_iter().filter(|c| c.kind == choice::Kind::Path);
        lists.chain(paths.filter_map(|c| self.given.text(c)).map(str::to_owned)).collect()
    }

    /// Whether what is asked for leaves the form of a ROM as it is.
    fn keeps_form(&self) -> bool {
        let own = [&shared::TRIM, &shared::PAD, &shared::SPLIT];
        own.into_iter().any(|c| self.given.has(c)) || !self.join.is_empty() || self.odd.is_some()
    }
}
