//! Applies patches: the file before is checked first, the file after when it is there.

use super::{Side, bytes_of, open, open_file};
use crate::convert::table;
use crate::locate::open_bytes;
use crate::quoted;
use crate::rom::RomReport;
use crate::{Failure, Item, PIPE, Setting, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::catalogue::last_name;
use decanter_core::digest::{Algorithm, Digest};
use decanter_core::error::Blame;
use decanter_core::names::stem_of;
use decanter_core::native;
use decanter_core::patch::Patch;
use decanter_core::pour::{self, Output};
use decanter_core::rom::Rom;
use decanter_core::source::SourceRef;
use decanter_core::view::Checked;
use decanter_core::{Error, Notice};
use serde::Serialize;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The largest result that is looked into although it is proven already.
const MOST_LOOK: u64 = 8 << 20;

/// What was patched.
#[derive(Debug, Clone, Serialize)]
pub struct ApplyReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// The form of the ROM that was patched, if it is another one than that of the file.
    pub form: Option<String>,
    /// The patches, in the order in which they were applied.
    pub patches: Vec<Applied>,
    /// True when they were undone.
    pub undone: bool,
    /// What was written.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub target: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// Its digests.
    pub digests: Vec<Digest>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What the result is.
    pub kind: Option<String>,
    /// What is known of it, if it is a ROM.
    pub rom: Option<RomReport>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A patch that was applied.
#[derive(Debug, Clone, Serialize)]
pub struct Applied {
    /// The patch.
    pub patch: String,
    /// What it is.
    pub kind: String,
    /// Whether its checksums of the files before and after hold; `None` for a format without any.
    pub proven: Option<bool>,
}

/// What is asked for.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Turn files after into files before.
    pub undo: bool,
    /// Patch this form of the ROM.
    pub form: Option<String>,
    /// Digests of the result.
    pub digests: Vec<Algorithm>,
}

/// The file that is patched, for what has to be said when a patch does not fit.
struct Stand<'a> {
    item: &'a Item,
    source: &'a SourceRef,
    undo: bool,
    setting: &'a Setting<'a>,
}

/// Applies patches to a file.
///
/// # Errors
/// When a patch is for another file, its result is not what it promises, or writing fails.
pub fn apply(
    shown: &str,
    patches: &[String],
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<ApplyReport, Failure> {
    let opened = open_file(shown, "patch", setting)?;
    let target = place::file(output, &named(&opened.0, patches, options));
    setting.check_target(&target)?;
    let patched = Patched::of(shown, opened, patches, options, setting)?;
    let what = patched.what();
    let wrong = |e| patched.wrong(e);
    let mut report = ApplyReport { target: target.clone(), ..patched.report.clone() };
    if setting.dry_run {
        Side::of_source(&patched.file, setting).map_err(wrong)?;
        setting.write(Output::new(&Blueprint::of(patched.file.clone()), &target), &what)?;
        return Ok(report);
    }
    setting.watch.begin(&format!("writing {}", native::text(&target)), Some(report.bytes));
    let others = patched.unknown(options);
    let blueprint = Blueprint::of(patched.file.clone());
    let output = Output::new(&blueprint, &target).with_digests(&others);
    let poured = setting.pour_one(output, setting.door(), &mut |_| Ok(()));
    let poured = poured.map_err(|e| match e.blame() {
        Blame::Request => place::refused(&target, e),
        _ => wrong(e),
    })?;
    setting.watch.end();
    report.digests = patched.digests(options, poured.map(|p| p.digests).unwrap_or_default());
    Ok(report)
}

/// The same onto `out`: one stream of bytes, without a name.
///
/// # Errors
/// As [`apply`].
pub fn apply_onto(
    out: &mut dyn Write,
    shown: &str,
    patches: &[String],
    options: &Options,
    setting: &Setting<'_>,
) -> Result<ApplyReport, Failure> {
    let opened = open_file(shown, "patch", setting)?;
    let patched = Patched::of(shown, opened, patches, options, setting)?;
    let wrong = |e| patched.wrong(e);
    let mut report = patched.report.clone();
    // The result is proven before the first byte goes out: nobody can take it back.
    Side::of_source(&patched.file, setting).map_err(wrong)?;
    if setting.dry_run {
        return Ok(report);
    }
    let blueprint = Blueprint::of(patched.file.clone());
    setting.watch.begin("writing standard output", Some(report.bytes));
    let others = patched.unknown(options);
    let streamed = pour::onto(out, &blueprint, &others, &setting.scratch, setting.watch).map_err(wrong)?;
    setting.watch.end();
    setting.settle().map_err(wrong)?;
    report.digests = patched.digests(options, streamed.digests);
    Ok(report)
}

/// What patches make of a file, without writing it.
///
/// # Errors
/// As [`apply`].
pub(super) fn patched(
    shown: &str,
    patches: &[String],
    options: &Options,
    setting: &Setting<'_>,
) -> Result<SourceRef, Failure> {
    let opened = open_file(shown, "patch", setting)?;
    Ok(Patched::of(shown, opened, patches, options, setting)?.file)
}

/// A file with patches applied to it, not written yet.
struct Patched {
    shown: String,
    file: SourceRef,
    /// The CRC-32 that the last patch promises.
    promised: Option<u32>,
    report: ApplyReport,
}

impl Patched {
    fn of(
        shown: &str,
        (item, whole): (Item, SourceRef),
        patches: &[String],
        options: &Options,
        setting: &Setting<'_>,
    ) -> Result<Self, Failure> {
        let what = format!("cannot patch \"{shown}\"");
        let fail = |e: Error| Failure::new(what.clone(), e);
        let stand = Stand { item: &item, source: &whole, undo: options.undo, setting };
        let mut file = match &options.form {
            Some(form) => stand.in_form(form, &what)?,
            None => whole.clone(),
        };
        let mut list =
            patches.iter().map(|p| Ok((p, open(p, "apply", setting)?))).collect::<Result<Vec<_>, Failure>>()?;
        if options.undo {
            list.reverse();
        }
        setting.watch.begin(&format!("checking {}", item.stem), None);
        let mut notices = item.notices().to_vec();
        let mut applied = Vec::new();
        let mut promised = None;
        // The same without the check, which is for the read that writes.
        let mut unchecked = file.clone();
        for (index, (name, (opened, patch))) in list.iter().enumerate() {
            let (before, after) = ends(patch.as_ref(), options.undo);
            let has_sums = before.crc32.is_some();
            if has_sums {
                // Of another length its checksum need not be known, but is worth telling.
                let found = Side::of_source(&file, setting).map_err(&fail)?;
                if !before.fits(found) {
                    return Err(stand.misfit(name, patch.as_ref(), found, index, patches));
                }
            }
            let result = if options.undo { patch.undo(&file) } else { patch.apply(&file) };
            let mut result = result.map_err(|e| {
                let undoable = matches!(e, Error::Unsupported { .. });
                let failure = Failure::new(format!("cannot apply \"{name}\" to \"{shown}\""), e);
                if undoable {
                    failure.hint("only UPS patches lead back; keep the file as it was instead")
                } else {
                    failure
                }
            })?;
            promised = after.crc32;
            unchecked = result.clone();
            if let Some(crc) = after.crc32 {
                // The read that completes it fails if it is not what the patch promises.
                result = Arc::new(Checked::new(result, crc, format!("the result of \"{name}\"")));
            }
            if !has_sums && !options.undo && index == 0 && options.form.is_none() {
                stand.guess(name, patch.as_ref(), &result, patches)?;
            }
            if !has_sums {
                let name = last_name(name);
                notices.push(Notice::new(format!("{name} has no checksums: nothing proves that it is for this file")));
            }
            let kind = opened.opened.identity.kind.clone();
            applied.push(Applied { patch: (*name).clone(), kind, proven: has_sums.then_some(true) });
            file = result;
        }
        setting.watch.end();
        // What is proven already is not worth a look that takes longer than patching.
        let is_worth_a_look = file.len() <= MOST_LOOK || applied.iter().any(|a| a.proven.is_none());
        let known = if is_worth_a_look { open_bytes(shown, unchecked, setting).ok() } else { None };
        let mut report = ApplyReport {
            schema: "decanter.patch-apply/1",
            source: item.address.clone(),
            form: options.form.clone(),
            patches: applied,
            undone: options.undo,
            target: PathBuf::from(PIPE),
            bytes: file.len(),
            digests: Vec::new(),
            dry_run: setting.dry_run,
            kind: known.as_ref().map(|k| k.opened.identity.kind.clone()),
            rom: known.as_ref().and_then(|k| k.opened.holds.rom.as_ref()).map(RomReport::of),
            notices,
        };
        if let Some(rom) = report.rom.as_ref().filter(|r| !r.is_right()) {
            let before = stand.rom();
            let was_right = before.is_none_or(|r| r.checks.iter().all(|c| c.is_right));
            let wrong: Vec<&str> = rom.checks.iter().filter(|c| !c.is_right).map(|c| c.name).collect();
            let words = if was_right { "which is usual for changed games" } else { "as was that of the source" };
            report.notices.push(Notice::new(format!("the result's {} does not hold, {words}", wrong.join(" and "))));
        }
        Ok(Self { shown: shown.to_owned(), file, promised, report })
    }

    fn what(&self) -> String {
        format!("cannot patch \"{}\"", self.shown)
    }

    fn wrong(&self, e: Error) -> Failure {
        let is_sum = matches!(e, Error::Checksum { .. });
        let failure = Failure::new(self.what(), e);
        if is_sum { failure.hint("the patch is wrong in itself: get another copy of it") } else { failure }
    }

    /// The digests that are asked for and not known: a CRC-32 that the patch promises is proven by the read itself, and not
    /// computed twice.
    fn unknown(&self, options: &Options) -> Vec<Algorithm> {
        let is_known = |a: &Algorithm| *a == Algorithm::Crc32 && self.promised.is_some();
        options.digests.iter().copied().filter(|a| !is_known(a)).collect()
    }

    /// All digests that are asked for, with those that were `computed`.
    fn digests(&self, options: &Options, computed: Vec<Digest>) -> Vec<Digest> {
        let crc = self.promised.map(|crc| Digest { algorithm: Algorithm::Crc32, bytes: crc.to_be_bytes().to_vec() });
        crc.filter(|_| options.digests.contains(&Algorithm::Crc32)).into_iter().chain(computed).collect()
    }
}

/// The file before and the file after, as they are meant now.
fn ends(patch: &dyn Patch, undo: bool) -> (Side, Side) {
    let (before, after) = (patch.source().into(), patch.target().into());
    if undo { (after, before) } else { (before, after) }
}

/// Name of the result: the source's, with that of the patches.
pub(super) fn named(item: &Item, patches: &[String], options: &Options) -> String {
    let file = item.file_name();
    let form = options.form.as_deref().and_then(table::target).map(|form| format!(".{}", form.extension));
    let extension = form.as_deref().unwrap_or_else(|| file.strip_prefix(&item.stem).unwrap_or_default());
    if options.undo {
        return format!("{} (unpatched){extension}", item.stem);
    }
    let names: Vec<String> = patches.iter().map(|p| stem_of(last_name(p.rsplit("::").next().unwrap_or(p)))).collect();
    format!("{} ({}){extension}", item.stem, names.join(", "))
}

impl Stand<'_> {
    /// The ROM, if the file is one: parsed only where something has to be said of it.
    fn rom(&self) -> Option<Rom> {
        self.item
            .opened
            .holds
            .rom
            .clone()
            .or_else(|| open_bytes(&self.item.address, self.source.clone(), self.setting).ok()?.opened.holds.rom)
    }

    /// The file in the form that was asked for.
    fn in_form(&self, wanted: &str, what: &str) -> Result<SourceRef, Failure> {
        let forms = self.rom().map_or(Vec::new(), |r| r.forms);
        if let Some(form) = forms.iter().find(|f| f.id == wanted) {
            return Ok(form.source.clone());
        }
        let ids: Vec<&str> = forms.iter().map(|f| f.id).collect();
        let has = if ids.is_empty() {
            "it is no ROM with several forms".into()
        } else {
            format!("it has {}", ids.join(", "))
        };
        Err(Failure::usage(what, format!("there is no form \"{wanted}\" of it: {has}")).hint("leave out --as"))
    }

    /// The command that would fit, with `more` options.
    fn command(&self, patches: &[String], more: &str) -> String {
        let words: Vec<String> = patches.iter().map(|p| quoted(p)).collect();
        let undo = if self.undo { " --undo" } else { "" };
        format!("decanter patch apply {} {}{undo} {more}", quoted(&self.item.shown), words.join(" "))
    }

    /// Why a patch is not for the file, and which command would fit.
    fn misfit(&self, name: &str, patch: &dyn Patch, found: Side, index: usize, patches: &[String]) -> Failure {
        let (before, after) = ends(patch, self.undo);
        let file = if index == 0 { "the file".to_owned() } else { "the result of the patches before".to_owned() };
        let text = format!("the patch \"{name}\" expects {}, {file} has {}", before.words(), found.words());
        let failure = Failure::new(format!("cannot patch \"{}\"", self.item.shown), Error::WrongDescription { text });
        if after.fits(found) {
            let hint = match (self.undo, patch.can_undo()) {
                (true, _) => "this is the file that the patch begins with: leave out --undo".into(),
                (false, true) => format!(
                    "the file is patched already; this leads back: {}",
                    self.command(patches, "--undo").trim_end()
                ),
                (false, false) => "the file is what the patch leads to: it is patched already".into(),
            };
            return failure.hint(hint);
        }
        if index > 0 {
            return failure.hint("the order of the patches may be another one, or one of them too much");
        }
        match self.fitting(before, patches) {
            Some(hint) => failure.hint(hint),
            None => {
                failure.hint("it is for another dump: \"decanter verify FILE --against DAT\" says which one this is")
            }
        }
    }

    /// Another form of the file that the patch does expect.
    fn fitting(&self, before: Side, patches: &[String]) -> Option<String> {
        let rom = self.rom()?;
        for form in rom.forms.iter().filter(|f| f.id != rom.form && before.bytes.is_none_or(|b| b == f.source.len())) {
            if before.fits(Side::of_source(&form.source, self.setting).ok()?) {
                let command = self.command(patches, &format!("--as {}", form.id));
                return Some(format!("it expects {}: {command}", describe(form.id)));
            }
        }
        let wanted = before.bytes?;
        let own = bytes_of(self.source).ok()?;
        let target = quoted(&format!("{} (fitting).{}", self.item.stem, rom.form));
        let source = quoted(&self.item.shown);
        for byte in [0xffu8, 0] {
            let mut padded = own.clone();
            if wanted > own.len() as u64 && wanted <= own.len() as u64 * 8 {
                padded.resize(wanted as usize, byte);
                if before.fits(Side::of(&padded)) {
                    return Some(format!(
                        "it expects the ROM padded: decanter convert {source} --pad {wanted} --fill {byte:#04x} -o {target}, and then patch that"
                    ));
                }
            }
        }
        if wanted < own.len() as u64 && before.fits(Side::of(&own[..wanted as usize])) {
            return Some(format!(
                "it expects the ROM trimmed: decanter convert {source} --trim -o {target}, and then patch that"
            ));
        }
        None
    }

    /// A patch without checksums: if only another form of the ROM comes out sound, it is meant for that.
    fn guess(&self, name: &str, patch: &dyn Patch, result: &SourceRef, patches: &[String]) -> Result<(), Failure> {
        let Some(rom) = self.rom().filter(|r| r.checks.iter().all(|c| c.is_right)) else {
            return Ok(());
        };
        let sound = |file: SourceRef| {
            let opened = open_bytes(&self.item.shown, file, self.setting).ok();
            opened
                .and_then(|o| o.opened.holds.rom)
                .is_some_and(|r| !r.checks.is_empty() && r.checks.iter().all(|c| c.is_right))
        };
        if rom.checks.is_empty() || rom.forms.len() < 2 || sound(result.clone()) {
            return Ok(());
        }
        for form in rom.forms.iter().filter(|f| f.id != rom.form) {
            if patch.apply(&form.source).is_ok_and(&sound) {
                let text = format!(
                    "the patch \"{name}\" has no checksums, but only applied to {} does the result's own checksum hold",
                    describe(form.id)
                );
                let what = format!("cannot patch \"{}\"", self.item.shown);
                return Err(Failure::new(what, Error::WrongDescription { text }).hint(format!(
                    "use: {}; to patch it as it is nevertheless, use --as {}",
                    self.command(patches, &format!("--as {}", form.id)),
                    rom.form
                )));
            }
        }
        Ok(())
    }
}

/// A form in words that say what is special about it.
fn describe(form: &str) -> String {
    match form {
        "smc" | "smd" => format!("the ROM with a copier header ({form})"),
        "sfc" | "nes-bare" | "md" => format!("the ROM without a header ({form})"),
        "nes" => "the ROM with its header (nes)".into(),
        other => format!("the byte order of {other}"),
    }
}
