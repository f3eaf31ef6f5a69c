//! The same container with nothing encrypted in it.

mod many;

pub use many::{decrypt_each, sort_out};

use crate::failure::with_article;
use crate::locate::INSIDE;
use crate::verify::{self, VerifyReport};
use crate::{Answer, Failure, Item, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Digest};
use decanter_core::pour::{self, Output};
use decanter_core::protection::{AsItIs, KeyState, State};
use decanter_core::role::Role;
use decanter_core::{Error, Notice, SECTOR, tell};
use serde::Serialize;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;

/// What was decrypted.
#[derive(Debug, Serialize)]
pub struct DecryptReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// The file that was written.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub target: PathBuf,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// Its length in bytes.
    pub bytes: u64,
    /// Bytes that were decrypted; all others are carried over as they are.
    pub decrypted_bytes: u64,
    /// Digests of what was written.
    pub digests: Vec<Digest>,
    /// Where the key was found.
    pub key_origin: Option<String>,
    /// The file that proved it right.
    pub key_proof: Option<String>,
    /// What the check against a description said, if one was asked for.
    pub verify: Option<VerifyReport>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// What to hold the source against while it is decrypted.
pub struct Check<'a> {
    /// Descriptions; when there are none, one that lies next to the source is taken.
    pub against: &'a [String],
}

/// Decrypts an image into `target`.
///
/// A damaged source is refused unless `keep_damage` is set; then the answer is no. With a check, the source is held against a description in the same read; if it differs, nothing is kept.
///
/// # Errors
/// When there is nothing to decrypt, the key is missing or wrong, the source is incomplete, or writing fails.
pub fn decrypt(
    shown: &str,
    target: Option<&Path>,
    digests: &[Algorithm],
    check: Option<&Check<'_>>,
    keep_damage: bool,
    setting: &Setting<'_>,
) -> Result<(DecryptReport, Answer), Failure> {
    let item = open(shown, setting)?;
    let target = place::file(target, &name(&item));
    write(&item, &target, digests, check, keep_damage, setting)
}

/// Opens what is decrypted: where something that is not encrypted was found inside, what is encrypted around it.
fn open(shown: &str, setting: &Setting<'_>) -> Result<Item, Failure> {
    let item = locate::open(shown, "decrypt", setting)?;
    if item.opened.protection.is_some() || item.around.is_empty() {
        return Ok(item);
    }
    let around = locate::open(&format!("{shown}{INSIDE}"), "decrypt", setting)?;
    Ok(match around.opened.protection.as_ref().is_some_and(|p| p.clear.is_some()) {
        true => Item { shown: shown.to_owned(), ..around },
        false => item,
    })
}

/// What the decrypted image is called; what is only wrapped is called as it is inside.
fn name(item: &Item) -> String {
    let inside = item.opened.holds.tree.as_ref().filter(|_| item.opened.identity.role == Role::Wrapper);
    if let Some((node, _)) = inside.and_then(|tree| tree.files().next()) {
        return node.name().to_owned();
    }
    let extension = decanter_formats::REGISTRY.get(item.opened.identity.format).map_or("iso", |f| f.extensions()[0]);
    place::name_beside(item, extension, "decrypted")
}

/// What is decrypted, once it is known that it can be.
struct Ready {
    clear: Blueprint,
    as_it_is: Option<AsItIs>,
    /// Damage that is kept.
    kept: Vec<Notice>,
}

impl Ready {
    fn of(item: &Item, keep_damage: bool, setting: &Setting<'_>) -> Result<Self, Failure> {
        let shown = &item.shown;
        let fail = |e| Failure::new(format!("cannot decrypt \"{shown}\""), e);
        let clear = clear_image(item).map_err(|(e, hint)| match hint {
            Some(hint) => fail(e).hint(hint),
            None => fail(e),
        })?;
        item.finished(setting).map_err(|e| fail(e).hint("go on with \"decanter dump\""))?;
        let kept = item.sound(keep_damage, setting).map_err(|e| fail(e).hint(names_hits(shown)))?;
        let as_it_is = item.opened.protection.as_ref().and_then(|p| p.clear_as_it_is.clone());
        let as_it_is = as_it_is.filter(|_| keep_damage || setting.unchecked);
        let clear = as_it_is.as_ref().map_or(clear, |a| a.clear.clone());
        Ok(Self { clear, as_it_is, kept })
    }

    /// Adds what had to be kept as it is; whether there was nothing of that.
    fn settle(self, report: &mut DecryptReport) -> Answer {
        let blank = self.as_it_is.map_or(0, |a| a.blank.load(Ordering::Relaxed));
        if blank > 0 {
            let sectors = tell::count(blank, "sector holds", "sectors hold");
            let text =
                format!("kept as it is: {sectors} zeros where encrypted bytes belong, so they decrypt to nonsense");
            report.notices.push(Notice::damage(text));
        }
        if blank > 0 || !self.kept.is_empty() { Answer::No } else { Answer::Yes }
    }
}

/// What to do about a damaged source.
fn names_hits(shown: &str) -> String {
    format!("decanter verify {} names what is hit; --keep-damage decrypts it nevertheless", crate::quoted(shown))
}

fn report(item: &Item, target: &Path, ready: &Ready, setting: &Setting<'_>) -> DecryptReport {
    let encrypted = item.opened.extent.regions.iter().filter(|r| r.encrypted);
    let mut report = DecryptReport {
        schema: "decanter.decrypt/1",
        source: item.address.clone(),
        target: target.to_owned(),
        dry_run: setting.dry_run,
        bytes: ready.clear.len(),
        decrypted_bytes: encrypted.map(|r| r.range.end - r.range.start).sum(),
        digests: Vec::new(),
        key_origin: None,
        key_proof: None,
        verify: None,
        notices: item.notices().iter().chain(&ready.kept).cloned().collect(),
    };
    if let Some(KeyState::Found { origin, proof }) = item.opened.protection.as_ref().map(|p| p.key.clone()) {
        (report.key_origin, report.key_proof) = (Some(origin), proof);
    }
    report
}

/// Decrypts what was opened.
pub(crate) fn write(
    item: &Item,
    target: &Path,
    digests: &[Algorithm],
    check: Option<&Check<'_>>,
    keep_damage: bool,
    setting: &Setting<'_>,
) -> Result<(DecryptReport, Answer), Failure> {
    let what = format!("cannot decrypt \"{}\"", item.shown);
    let ready = Ready::of(item, keep_damage, setting)?;
    setting.check_target(target)?;
    let mut report = report(item, target, &ready, setting);
    if setting.dry_run {
        setting.write(Output::new(&ready.clear, target), &what)?;
        let answer = ready.settle(&mut report);
        return Ok((report, answer));
    }
    setting.watch.begin(&format!("decrypting {}", item.stem), Some(ready.clear.len()));
    if let Some(check) = check {
        let checked = verify::write_checked(item, check.against, &ready.clear, target, digests, setting)?;
        let answer = checked.0.answer();
        (report.verify, report.digests) = (Some(checked.0), checked.1);
        setting.watch.end();
        return Ok((report, answer));
    }
    let poured = setting.write(Output::new(&ready.clear, target).with_digests(digests), &what);
    let poured = poured.map_err(|f| match *f.cause {
        Error::Damaged { .. } | Error::Unreadable { .. } => f.hint(names_hits(&item.shown)),
        _ => f,
    })?;
    setting.watch.end();
    report.digests = poured.map(|p| p.digests).unwrap_or_default();
    let answer = ready.settle(&mut report);
    Ok((report, answer))
}

/// Decrypts an image onto `out`: one stream of bytes, without a name.
///
/// # Errors
/// As [`decrypt`].
pub fn decrypt_onto(
    out: &mut dyn Write,
    shown: &str,
    digests: &[Algorithm],
    keep_damage: bool,
    setting: &Setting<'_>,
) -> Result<(DecryptReport, Answer), Failure> {
    let item = open(shown, setting)?;
    let ready = Ready::of(&item, keep_damage, setting)?;
    let mut report = report(&item, Path::new("-"), &ready, setting);
    if !setting.dry_run {
        let fail = |e| Failure::new(format!("cannot decrypt \"{shown}\""), e);
        setting.watch.begin(&format!("decrypting {}", item.stem), Some(ready.clear.len()));
        let streamed = pour::onto(out, &ready.clear, digests, &setting.scratch, setting.watch).map_err(fail)?;
        setting.watch.end();
        setting.settle().map_err(fail)?;
        report.digests = streamed.digests;
    }
    let answer = ready.settle(&mut report);
    Ok((report, answer))
}

/// The decrypted image, or why there is none and what to do instead.
fn clear_image(item: &Item) -> Result<Blueprint, (Error, Option<String>)> {
    let source = crate::quoted(&item.shown);
    let Some(protection) = &item.opened.protection else {
        let hint = format!("use it as it is, or take the files out: decanter extract {source}");
        return Err((
            Error::Usage(format!(
                "it is {}, which has nothing encrypted in it",
                with_article(&item.opened.identity.kind)
            )),
            Some(hint),
        ));
    };
    if protection.state == State::Decrypted {
        let hint = format!("use it as it is, or take the files out: decanter extract {source}");
        return Err((Error::Usage(format!("it is decrypted already: {}", protection.evidence)), Some(hint)));
    }
    if !protection.has_clear_form {
        let hint = format!("its files are decrypted while they are taken out: decanter extract {source}");
        let kind = with_article(&item.opened.identity.kind);
        return Err((Error::Usage(format!("it is {kind}, which has no form without encryption")), Some(hint)));
    }
    if let KeyState::Trouble(trouble) = &protection.key {
        return Err((trouble.clone().into(), None));
    }
    let len = item.source.as_ref().map_or(0, |s| s.len());
    if let Some(promised) = item.opened.extent.promised_len.filter(|&p| p > len) {
        let missing = match item.opened.identity.role == Role::Package {
            true => tell::count(promised - len, "byte is", "bytes are"),
            false => tell::count((promised - len).div_ceil(SECTOR), "sector is", "sectors are"),
        };
        let hint =
            format!("{missing} missing: copy or dump it again, or take what is whole: decanter extract {source}");
        return Err((Error::PastEnd { offset: 0, asked: promised, len }, Some(hint)));
    }
    match &protection.clear {
        Some(clear) => Ok(clear.clone()),
        None if item.opened.proof.settled.iter().any(|s| !s.holds && s.matters.is_some()) => {
            let broken = item.opened.proof.settled.iter().find(|s| !s.holds && s.matters.is_some());
            let why = broken.map(|s| format!("{}: {}", s.name, s.note.as_deref().unwrap_or("it does not hold")));
            let hint = format!("take what is whole: decanter extract {source}");
            Err((Error::Unreadable { why: why.unwrap_or_default() }, Some(hint)))
        }
        None => Err((Error::Usage(format!("whether it is encrypted is not clear: {}", protection.evidence)), None)),
    }
}
