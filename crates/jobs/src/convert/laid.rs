//! A conversion from what was opened to what is written: laid out, checked, poured, told.

use super::made::Made;
use super::target::Target;
use super::{ConvertReport, Options, WrittenFile, parts, prove, shared, table};
use crate::estimate::{Estimate, block_of};
use crate::{Answer, Failure, Item, Setting, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::Algorithm;
use decanter_core::error::Blame;
use decanter_core::pour::{self, Output};
use decanter_core::role::Role;
use decanter_core::{Error, Format, Notice};
use decanter_formats::disk::cbm::vsf::Vsf;
use decanter_formats::package::ps4;
use std::io::Write;
use std::path::{Path, PathBuf};

/// A result that is laid out, and has no place yet.
pub(super) struct Laid<'a> {
    item: &'a Item,
    target: &'a Target,
    options: &'a Options,
    pub(super) made: Made,
    /// What is damaged in the source, and kept.
    kept: Vec<Notice>,
}

/// What cannot be done, in words.
fn what(item: &Item, target: &Target) -> String {
    format!("cannot convert \"{}\" to {}", item.shown, target.id)
}

/// Makes one target of a source that was opened for it.
///
/// # Errors
/// What stands against it, what reading or writing fails with.
pub(super) fn make(
    item: &Item,
    target: &Target,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(ConvertReport, Answer), Failure> {
    crate::notes::tell(item, setting);
    let main = parts::main_path(item, target, output, options);
    Laid::check(item, target, options, setting)?;
    setting.check_target(&main)?;
    Laid::of(item, target, options, setting)?.pour(&main, setting)
}

impl<'a> Laid<'a> {
    /// Fails if an option has no meaning with the target, or the source is not finished.
    ///
    /// # Errors
    /// What does not fit.
    pub(super) fn check(item: &Item, target: &Target, options: &Options, setting: &Setting<'_>) -> Result<(), Failure> {
        let fail = |e: Error| Failure::new(what(item, target), e);
        if let Some(extra) = table::choices().into_iter().find(|c| options.given.has(c) && !target.has(c.name)) {
            let why = format!("--{} has no meaning with --to {}", extra.name, target.id);
            return Err(Failure::usage(what(item, target), why)
                .hint(format!("it is for {}: leave it out, or choose one of these with --to", table::having(extra))));
        }
        let takes_passcode = ps4::PACKAGE.is_of(&item.opened) || target.id == ps4::PACKAGE.id();
        if setting.passcode.is_some() && !takes_passcode {
            let why = format!("--passcode has no meaning with --to {}", target.id);
            return Err(Failure::usage(what(item, target), why).hint("it is for PS4 packages: leave it out"));
        }
        if setting.watch.cancelled() {
            return Err(fail(Error::Cancelled));
        }
        item.finished(setting)
            .map_err(|e| fail(e).hint("go on with \"decanter dump\", or add --incomplete for zeros there"))
    }

    /// Lays a source out.
    ///
    /// # Errors
    /// When it is damaged, or does not fit.
    pub(super) fn of(
        item: &'a Item,
        target: &'a Target,
        options: &'a Options,
        setting: &Setting<'_>,
    ) -> Result<Self, Failure> {
        let advise = |e| advise(&what(item, target), &item.shown, target, e);
        // Packages are held against their digests while they are taken apart.
        let kept = match item.opened.identity.role == Role::Package {
            true => Vec::new(),
            false => item.sound(options.keep_damage, setting).map_err(advise)?,
        };
        Ok(Self { kept, ..Self::unasked(item, target, options, setting)? })
    }

    /// The same without asking whether the source is damaged: for what is not written.
    pub(super) fn unasked(
        item: &'a Item,
        target: &'a Target,
        options: &'a Options,
        setting: &Setting<'_>,
    ) -> Result<Self, Failure> {
        let made = (target.lay)(item, target, options, setting);
        let made = made.map_err(|e| advise(&what(item, target), &item.shown, target, e))?;
        Ok(Self { item, target, options, made, kept: Vec::new() })
    }

    /// The files of the result, if the main one is `main`.
    pub(super) fn outputs(&self, main: &Path) -> Result<Vec<(Blueprint, PathBuf)>, Failure> {
        let fail = |e| Failure::new(what(self.item, self.target), e);
        parts::outputs(&self.made, main, self.target, self.options).map_err(fail)
    }

    fn report(&self, files: Vec<WrittenFile>, setting: &Setting<'_>) -> ConvertReport {
        let Self { item, target, options, made, kept } = self;
        ConvertReport {
            schema: "decanter.convert/1",
            source: item.address.clone(),
            more_sources: options.more_sources(),
            to: target.id,
            files,
            dry_run: setting.dry_run,
            bytes_before: made.bytes_before,
            bytes_after: made.bytes_after(),
            about: None,
            hole_bytes: 0,
            digests: Vec::new(),
            preserved: made.preserved.clone(),
            proven: None,
            facts: made.facts.clone(),
            left_out: made.left_out.clone(),
            repair: made.repair.clone(),
            // What is kept is told once, as kept.
            notices: (item.notices().iter().filter(|n| kept.is_empty() || !n.is_damage))
                .chain(kept)
                .chain(&made.notices)
                .cloned()
                .collect(),
        }
    }

    /// Whether it is all that the source should be.
    pub(super) fn answer(&self) -> Answer {
        let made = &self.made;
        let is_left = made.repair.as_ref().is_some_and(|r| r.beyond_count > 0);
        let is_kept = !self.kept.is_empty() || made.notices.iter().any(|n| n.is_damage);
        match is_left || is_kept || self.item.unfinished.is_some() {
            true => Answer::No,
            false => Answer::Yes,
        }
    }

    /// What the result would be about, where something in it is packed.
    fn estimate(&self, setting: &Setting<'_>) -> Result<Option<Estimate>, Error> {
        let packed = self.made.packed(self.item.source.as_ref());
        if packed.is_empty() {
            return Ok(None);
        }
        Estimate::of(&packed, block_of(self.target.id), setting.jobs, setting.watch).map(Some)
    }

    /// Writes the files of the result.
    ///
    /// # Errors
    /// What reading or writing fails with.
    pub(super) fn pour(&self, main: &Path, setting: &Setting<'_>) -> Result<(ConvertReport, Answer), Failure> {
        let Self { item, target, options, made, .. } = self;
        let fail = |e: Error| Failure::new(what(item, target), e);
        let outputs = self.outputs(main)?;
        let file =
            |(b, path): &(Blueprint, PathBuf)| WrittenFile { path: path.clone(), bytes: b.len(), digests: Vec::new() };
        let mut report = self.report(outputs.iter().map(file).collect(), setting);
        // Of a compressed result the digests of its content are of use, and known already; else those of the file.
        // A package with data files carries a digest of every block of them.
        let has_own = made.content.is_some() || !made.data.is_empty();
        let whole: &[Algorithm] = if has_own { &[] } else { &options.digests };
        let list: Vec<Output<'_>> = outputs.iter().map(|(b, p)| Output::new(b, p).with_digests(whole)).collect();
        let unwritable = |e: Error| match e.blame() {
            Blame::Request => place::refused(main, e),
            _ => advise(&what(item, target), &item.shown, target, e),
        };
        setting.watch.begin(&format!("converting {}", item.stem), Some(made.bytes_after()));
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
        let Some(poured) = poured.map_err(unwritable)? else {
            report.about = self.estimate(setting).map_err(fail)?;
            return Ok((report, self.answer()));
        };
        report.proven = proven;
        report.bytes_after = poured.iter().map(|p| p.bytes).sum();
        report.hole_bytes = poured.iter().map(|p| p.hole_bytes).sum();
        report.digests = match (made.content, poured.first()) {
            (Some(part), Some(first)) => first.part_digests.get(part.index()).cloned().unwrap_or_default(),
            (None, Some(first)) => first.digests.clone(),
            _ => Vec::new(),
        };
        let parts = poured.len() - usize::from(made.beside.is_some()) - made.data.len();
        let file = |p: pour::Poured| {
            let digests = if parts > 1 { p.digests } else { Vec::new() };
            WrittenFile { path: p.path, bytes: p.bytes, digests }
        };
        report.files = poured.into_iter().map(file).collect();
        if parts > 1 {
            // The digest of one part says nothing of the whole.
            report.digests = parts::digests_of(&report.files[..parts], options).map_err(fail)?;
        }
        Ok((report, self.answer()))
    }

    /// Writes the one file of the result onto a stream.
    ///
    /// # Errors
    /// What reading or writing fails with; when the result is more than one file, or is to be proven.
    pub(super) fn stream(
        &self,
        out: &mut dyn Write,
        setting: &Setting<'_>,
    ) -> Result<(ConvertReport, Answer), Failure> {
        let Self { item, target, options, made, .. } = self;
        let wrong = |why: &str| Failure::usage(what(item, target), why.to_owned()).hint("give a file with -o");
        if let Some(beside) = &made.beside {
            let why =
                format!("its result is two files, one of them a .{}: standard output takes one", beside.extension);
            return Err(wrong(&why));
        }
        if options.prove {
            return Err(wrong("--prove reads the result back, and standard output keeps nothing"));
        }
        if self.outputs(Path::new("-"))?.len() > 1 {
            return Err(wrong("its result is several files: standard output takes one"));
        }
        let mut report = self.report(Vec::new(), setting);
        if setting.dry_run {
            return Ok((report, self.answer()));
        }
        let advise = |e| advise(&what(item, target), &item.shown, target, e);
        setting.watch.begin(&format!("converting {}", item.stem), Some(made.blueprint.len()));
        let whole: &[Algorithm] = if made.content.is_some() { &[] } else { &options.digests };
        let streamed = pour::onto(out, &made.blueprint, whole, &setting.scratch, setting.watch).map_err(advise)?;
        setting.watch.end();
        setting.settle().map_err(advise)?;
        report.bytes_after = streamed.bytes;
        report.digests = match made.content {
            Some(part) => streamed.part_digests.get(part.index()).cloned().unwrap_or_default(),
            None => streamed.digests,
        };
        Ok((report, self.answer()))
    }
}

/// A failure of turning `source` into something, with what to do about it.
fn advise(what: &str, source: &str, target: &Target, error: Error) -> Failure {
    let source = crate::quoted(source);
    let damaged = || format!("decanter verify {source} names what is hit; --keep-damage makes it nevertheless");
    let hint = match &error {
        Error::Unsupported { format, .. } if *format == Vsf.id() => {
            "describe the moment by a text, with its memory beside it: docs/formats/c64-moment.md".to_owned()
        }
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
