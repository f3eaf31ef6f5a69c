//! Another format: a conversion is open ∘ compose. What can become what stands in [`table`], and nowhere else; a target says of
//! itself how its source is opened, what it accepts, which choices it has and how it is laid out.

mod amiga;
mod cartridge;
pub(crate) mod cbm;
pub mod choice;
mod choose;
mod disc;
mod drive;
mod folder;
pub(crate) mod handheld;
mod hybrid;
pub(crate) mod made;
#[cfg(test)]
mod made_up;
mod moment;
mod open;
mod packed;
mod parts;
mod prove;
mod repair;
mod shared;
pub mod table;
mod target;

pub(crate) use folder::used_ranges;
pub use made::LeftOut;
pub use prove::Proof;
pub use repair::{RepairReport, RepairedSector};
pub use target::Target;

use crate::failure::with_article;
use crate::{Answer, Failure, Item, Setting, place};
use choice::Choices;
use decanter_core::digest::{Algorithm, Digest};
use decanter_core::error::Blame;
use decanter_core::pour::Output;
use decanter_core::role::Role;
use decanter_core::{Error, Notice};
use serde::Serialize;
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
    let asked = to.and_then(table::target).unwrap_or(&Target::BASE);
    if let Some(extra) = options.more.first().filter(|_| asked.gather.is_none()) {
        let several = table::targets().filter(|t| t.gather.is_some()).map(|t| format!("--to {}", t.id));
        let several = several.collect::<Vec<_>>().join(", ");
        return Err(Failure::usage("cannot convert several sources at once", format!("\"{extra}\" is one too many"))
            .hint(format!("only disks ({several}) are made of several; parts of one dump go together with --join")));
    }
    let open = |source: &str| (asked.open)(source, options, setting);
    let item = match asked.gather {
        None => open(shown)?,
        Some(gather) => {
            let sources = std::iter::once(shown).chain(options.more.iter().map(String::as_str));
            gather(sources.map(open).collect::<Result<_, _>>()?, setting)?
        }
    };
    let target = find_target(&item, to, options)?;
    make(&item, target, output, options, setting)
}

/// Makes one target of a source that was opened for it.
fn make(
    item: &Item,
    target: &Target,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(ConvertReport, Answer), Failure> {
    let shown = item.shown.as_str();
    let what = format!("cannot convert \"{shown}\" to {}", target.id);
    let fail = |e: Error| Failure::new(what.clone(), e);
    if let Some(extra) = table::choices().into_iter().find(|c| options.given.has(c) && !target.has(c.name)) {
        return Err(Failure::usage(what, format!("--{} has no meaning with --to {}", extra.name, target.id))
            .hint(format!("it is for {}: leave it out, or choose one of these with --to", table::having(extra))));
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
        item.sound(options.keep_damage, setting).map_err(|e| advise(&what, shown, target, e))?
    };
    let main = parts::main_path(item, target, output, options);
    setting.check_target(&main)?;
    let made = (target.lay)(item, target, options, setting).map_err(|e| advise(&what, shown, target, e))?;
    let outputs = parts::outputs(&made, &main, target, options).map_err(fail)?;
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
    // Of a compressed result the digests of its content are of use, and known already; else those of the file.
    let whole: &[Algorithm] = if made.content.is_some() { &[] } else { &options.digests };
    let list: Vec<Output<'_>> = outputs.iter().map(|(b, p)| Output::new(b, p).with_digests(whole)).collect();
    let unwritable = |e: Error| match e.blame() {
        Blame::Request => place::refused(&main, e),
        _ => advise(&what, shown, target, e),
    };
    setting.watch.begin(&format!("converting {}", item.stem), Some(made.blueprint.len()));
    let mut proven = None;
    let poured = setting.pour(&list, setting.door(), &mut |paths| {
        setting.watch.end();
        if options.prove {
            let mains = &paths[..paths.len() - usize::from(made.beside.is_some())];
            proven = Some(prove::prove(&made.back, mains, options.given.split(&shared::SPLIT), item, setting)?);
        }
        Ok(())
    });
    setting.watch.end();
    let Some(poured) = poured.map_err(unwritable)? else { return Ok((report, answer)) };
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
        report.digests = parts::digests_of(&report.files[..parts], options).map_err(fail)?;
    }
    Ok((report, answer))
}

/// A failure of turning `source` into something, with what to do about it.
fn advise(what: &str, source: &str, target: &Target, error: Error) -> Failure {
    let source = crate::quoted(source);
    let damaged = || format!("decanter verify {source} names what is hit; --keep-damage makes it nevertheless");
    let hint = match &error {
        Error::Unsupported { .. } => {
            "rename or leave out what does not fit: --without PATH leaves a file or folder out".to_owned()
        }
        Error::Checksum { .. } if target.may_keep_damage => damaged(),
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
        let ids: Vec<&str> = table::targets().filter(|t| t.accepts(item).is_some()).map(|t| t.id).collect();
        if ids.is_empty() { "nothing".into() } else { ids.join(", ") }
    };
    let target = match to {
        Some(id) => table::target(id).ok_or_else(|| {
            let all: Vec<&str> = table::targets().map(|t| t.id).collect();
            Failure::usage(what.clone(), format!("\"{id}\" is none of {}", all.join(", "))).hint("choose one with --to")
        })?,
        None => table::targets().find(|t| (t.is_meant)(item, t, options)).ok_or_else(|| {
            Failure::usage(what.clone(), "what it should become is not said")
                .hint(format!("add --to with one of: {}", can()))
        })?,
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
