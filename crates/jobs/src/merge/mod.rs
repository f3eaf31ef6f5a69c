//! Base, update and add-ons in one file, and apart again. Contents are carried byte for byte, each held against the digest
//! that its title's list has of it while it passes by.

mod apart;
mod collect;
mod lay;
mod layered;
mod name;
mod report;

pub use apart::unmerge;
pub use lay::Proof;
pub(crate) use lay::lay;
pub use layered::are_layers;
pub use layered::{Options as LayerOptions, merge as merge_layers};
pub use report::{Dropped, MergeReport, Merged, Taken, UnmergeReport, Unmerged};

use crate::family::{Family, Fault, Member, families};
use crate::{Answer, Failure, Setting, place, quoted};
use collect::Collected;
use decanter_core::error::Blame;
use decanter_core::pour::Output;
use decanter_core::title::HeldTitle;
use decanter_core::{Error, Notice, Opened};
use decanter_formats::package::nx::contents::{Contents, Title};
use std::collections::BTreeSet;
use std::path::Path;

/// What a merged file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// A package.
    Nsp,
    /// A gamecard image.
    Xci,
}

impl Form {
    /// Its id, which is its extension too.
    pub fn id(self) -> &'static str {
        match self {
            Self::Nsp => "nsp",
            Self::Xci => "xci",
        }
    }
}

/// What is asked of merging besides the form.
#[derive(Debug, Clone, Copy, Default)]
pub struct Options {
    /// A result for each title; else all sources have to be of one.
    pub each: bool,
    /// Take updates and add-ons whose base is not there.
    pub without_base: bool,
    /// Make a gamecard image as long as the card.
    pub pad: bool,
    /// Read the result back and check all digests in it before it gets its name.
    pub prove: bool,
    /// Move title keys into key areas, so that nobody needs a ticket.
    pub standard_crypto: bool,
    /// Ask for the first version of the system that has the keys, instead of what the titles ask for.
    pub lowest_system: bool,
}

/// Whether an opened file holds just the titles that merging `sources` takes; whether their contents hold is another question.
///
/// # Errors
/// When a source cannot be read.
pub(crate) fn is_made_of(opened: &Opened, sources: &[String], setting: &Setting<'_>) -> Result<bool, Failure> {
    let all = families(Collected::of(sources, setting)?.members());
    let told = |title: &HeldTitle| (title.id.clone(), title.version, title.mark.clone());
    let wanted: BTreeSet<_> = all.iter().flat_map(Family::chosen).map(|member| told(&member.title)).collect();
    Ok(wanted == opened.holds.titles.iter().map(told).collect())
}

/// Merges what the sources hold.
///
/// # Errors
/// When there is nothing to merge, or a set that must be one is none. With [`Options::each`] what fails is a row.
pub fn merge(
    sources: &[String],
    form: Form,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(MergeReport, Answer), Failure> {
    let what = format!("cannot merge {}", shown(sources));
    if options.pad && form != Form::Xci {
        return Err(Failure::usage(what, format!("--pad has no meaning with --to {}", form.id()))
            .hint("only a gamecard image has the size of a card: leave it out, or choose --to xci"));
    }
    let collected = Collected::of(sources, setting)?;
    if let Some(trouble) = collected.trouble.clone().filter(|_| !options.each || collected.packages.is_empty()) {
        return Err(advise(&what, trouble.into()));
    }
    if let [one] = collected.failed.as_slice()
        && collected.packages.is_empty()
    {
        return Err(Failure::usage(what, one.clone())
            .hint("give packages (nsp), gamecard images (xci), or folders and archives with them"));
    }
    if collected.packages.is_empty() {
        return Err(Failure::usage(what, "there is no package or gamecard image in it")
            .hint("give packages (nsp), gamecard images (xci), or folders and archives with them"));
    }
    let all = families(collected.members());
    if !options.each {
        if let Some(why) = collected.failed.first() {
            return Err(Failure::usage(what, format!("one of the parts cannot be used: {why}"))
                .hint("get a whole copy of it, or give the other parts alone"));
        }
        one_family(&all, &what, options)?;
    }
    if options.each && output.is_some_and(|o| !place::is_folder(o)) {
        return Err(Failure::usage(what, "--each makes several files, and -o is the name of one")
            .hint("give a folder with -o, with / at its end"));
    }
    let mut report = MergeReport::new(form.id(), setting.dry_run);
    report.failed = collected.failed.clone();
    let job = Job { collected: &collected, form, output, options, setting };
    match all.as_slice() {
        [only] if !options.each => report.results.push(job.family(only)?),
        all => report.results = job.each(all)?,
    }
    report.notices.extend(collected.notices);
    let is_whole = report.failed.is_empty() && report.results.iter().all(|r| r.error.is_none());
    Ok((report, if is_whole { Answer::Yes } else { Answer::No }))
}

/// Sources as a message names them.
fn shown(sources: &[String]) -> String {
    match sources {
        [one] => format!("\"{one}\""),
        all => format!("these {} sources", all.len()),
    }
}

/// Fails unless everything is of one title.
fn one_family(all: &[Family], what: &str, options: &Options) -> Result<(), Failure> {
    let named = |f: &Family| format!("{} [{}]", f.name.as_deref().unwrap_or("a title without a name"), f.id);
    if let [first, second, ..] = all {
        let more = if all.len() > 2 { format!(" and {} more", all.len() - 2) } else { String::new() };
        let why = format!("they are parts of different titles: {}, {}{more}", named(first), named(second));
        return Err(Failure::usage(what, why).hint("--each makes a file for each title; or give the parts of one"));
    }
    let Some(fault) = all.first().and_then(|f| refused(f, options)) else { return Ok(()) };
    Err(refusal(what.to_owned(), fault))
}

/// The fault for which a set is not merged, if there is one.
fn refused<'a>(family: &'a Family, options: &Options) -> Option<&'a Fault> {
    family.faults.iter().find(|fault| match fault {
        Fault::NoBase => !options.without_base,
        Fault::NeedsUpdate { .. } => false,
        Fault::Conflict { .. } | Fault::Missing { .. } | Fault::Damaged { .. } => true,
    })
}

fn refusal(what: String, fault: &Fault) -> Failure {
    let hint = match fault {
        Fault::NoBase => "add the base to the sources; --without-base merges what there is".to_owned(),
        Fault::Conflict { sources: [a, b], .. } => {
            format!(
                "leave one of them out; decanter verify {} {} tells which one is damaged, if one is",
                quoted(a),
                quoted(b)
            )
        }
        Fault::NeedsUpdate { .. } => "add a newer update".to_owned(),
        Fault::Missing { .. } | Fault::Damaged { .. } => "get a whole copy of it".to_owned(),
    };
    Failure::usage(what, fault.words()).hint(hint)
}

/// A run over one or many families.
struct Job<'a, 's> {
    collected: &'a Collected,
    form: Form,
    output: Option<&'a Path>,
    options: &'a Options,
    setting: &'a Setting<'s>,
}

impl Job<'_, '_> {
    /// One result for each family; what fails is told in its row.
    fn each(&self, all: &[Family]) -> Result<Vec<Merged>, Failure> {
        // One after the other: each of them works on all cores itself.
        let mut done = Vec::new();
        for family in all {
            match self.family(family) {
                Ok(merged) => done.push(merged),
                Err(failure) if matches!(*failure.cause, Error::Cancelled) => return Err(failure),
                Err(failure) => done.push(Merged::failed(family, &failure)),
            }
        }
        Ok(done)
    }

    /// Merges one family.
    fn family(&self, family: &Family) -> Result<Merged, Failure> {
        let name = family.name.as_deref().unwrap_or(&family.id);
        let what = format!("cannot merge \"{name}\" [{}]", family.id);
        if let Some(fault) = refused(family, self.options) {
            return Err(refusal(what, fault));
        }
        if family.chosen().next().is_none() {
            return Err(Failure::usage(what, "there is no base, update or add-on among them")
                .hint("these titles are not merged"));
        }
        let members: Vec<&Member> = family.chosen().collect();
        let titles = members.iter().map(|m| self.collected.title(m)).collect::<Vec<_>>();
        let target = place::file(self.output, &name::merged(family, self.form));
        self.setting.check_target(&target)?;
        let fail = |e: Error| advise(&what, e);
        let laid =
            lay(&titles, self.form, self.options, &self.collected.packages[members[0].number].keyring, self.setting)
                .map_err(fail)?;
        let mut merged = Merged::of(family, &target, &laid);
        self.setting.watch.begin(&format!("merging {name}"), Some(laid.blueprint.len()));
        let output = Output::new(&laid.blueprint, &target);
        let poured = self.setting.pour_one(output, self.setting.door(), &mut |path| {
            self.setting.watch.end();
            if self.options.prove {
                merged.proven = Some(lay::prove(
                    path,
                    &laid.changed,
                    &self.collected.packages[members[0].number].keyring,
                    self.setting,
                )?);
            }
            Ok(())
        });
        self.setting.watch.end();
        let poured = poured.map_err(|e| match e.blame() {
            Blame::Request => place::refused(&target, e),
            _ => fail(e),
        })?;
        if let Some(poured) = poured {
            merged.bytes = poured.bytes;
        }
        let left =
            family.superseded.iter().map(|m| format!("{} in \"{}\" is superseded and left out", m.what(), m.source));
        let doubled = family.doubled.iter().map(|m| format!("\"{}\" is a further copy of {}", m.source, m.what()));
        let others = family.others.iter().map(|m| format!("{} in \"{}\" is not merged", m.what(), m.source));
        let faults = family.faults.iter().map(Fault::words);
        merged.notices.extend(left.chain(doubled).chain(others).chain(faults).map(Notice::new));
        Ok(merged)
    }
}

/// A failure of merging, with what to do about it.
fn advise(what: &str, error: Error) -> Failure {
    let hint = match &error {
        Error::Checksum { .. } | Error::Damaged { .. } => {
            "decanter verify SOURCE names what is hit; get a whole copy of it".to_owned()
        }
        Error::Key(_) => "give the list of keys with --keys FILE".to_owned(),
        Error::Unsupported { .. } => "--to nsp has no such limit".to_owned(),
        _ => return Failure::new(what, error),
    };
    Failure::new(what, error).hint(hint)
}

/// A title in a package that was collected.
type Found<'a> = (&'a Contents, &'a Title);
