//! Is it what it should be? Every file, region and sector against what is known of it, in one read.

mod bag;
pub mod catalogue;
mod compare;
mod disc;
mod form;
mod inside;
mod itself;
mod report;
mod seals;
mod settle;
mod suspects;
mod sweep;
mod verdict;

pub(crate) use inside::game_folder;
pub use report::{
    Counts, FileReport, FileState, InnerRom, NamedDigest, RangeReport, RangeState, SealReport, SealState, VerifyReport,
    VerifyRun,
};
pub(crate) use seals::{Damage, damage, prove};
pub use suspects::Suspect;
pub use verdict::Verdict;

use crate::below::Below;
use crate::failure::with_article;
use crate::locate::{self};
use crate::{Failure, Item, Setting};
use compare::Comparison;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Digest, Hasher};
use decanter_core::expectation::Expectation;
use decanter_core::keyring::plain;
use decanter_core::opened::Opened;
use decanter_core::os;
use decanter_core::pour::pipeline::{Consumer, Data, Piece};
use decanter_core::pour::{Draft, bytes_to_write};
use decanter_core::{Error, Notice, Result};
use itself::check_itself;
use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

/// Verifies several sources; one that cannot be checked does not stop the others. `each` is called after every source.
///
/// # Errors
/// What `each` fails with.
pub fn verify_all<E>(
    sources: &[String],
    against: &[String],
    setting: &Setting<'_>,
    mut each: impl FnMut(std::result::Result<&VerifyReport, &Failure>) -> std::result::Result<(), E>,
) -> std::result::Result<VerifyRun, E> {
    let mut run =
        VerifyRun { schema: "decanter.verify/1", sources: Vec::new(), matches: None, failed: Vec::new(), unknown: 0 };
    match catalogue::open(against, setting) {
        Ok(Some(catalogues)) => {
            match catalogue::verify(sources, &catalogues, setting) {
                Ok(report) => run.matches = Some(report),
                Err(failure) => {
                    each(Err(&failure))?;
                    run.failed.push(failure.to_string());
                }
            }
            return Ok(run);
        }
        Ok(None) => {}
        Err(failure) => {
            each(Err(&failure))?;
            run.failed.push(failure.to_string());
            return Ok(run);
        }
    }
    for source in sources {
        let mut rows = Rows { run: &mut run, against, setting, each: &mut each };
        let ended = match setting.is_folder(source) && against.is_empty() {
            true => rows.folder(source)?,
            false => rows.source(source, 0)?,
        };
        if matches!(ended, Ended::Stopped) {
            break;
        }
    }
    Ok(run)
}

/// How the check of a source ended.
enum Ended {
    /// There was something to say of it.
    Told,
    /// It is of no known kind.
    Unknown,
    /// The user wants to stop.
    Stopped,
}

/// Sources that are checked one after the other, each with what is in it.
struct Rows<'a, 'b, E> {
    run: &'a mut VerifyRun,
    against: &'a [String],
    setting: &'a Setting<'b>,
    each: Each<'a, E>,
}

/// Who is told of every source.
type Each<'a, E> = &'a mut dyn FnMut(std::result::Result<&VerifyReport, &Failure>) -> std::result::Result<(), E>;

impl<E> Rows<'_, '_, E> {
    /// Checks a source, and then what stands in it; `depth` is 0 for those that were named.
    fn source(&mut self, shown: &str, depth: usize) -> std::result::Result<Ended, E> {
        let checked = locate::open(shown, "verify", self.setting).and_then(|item| {
            let report = verify_item(&item, self.against, self.setting)?;
            let fail = |e| Failure::new(format!("cannot look into \"{shown}\""), e);
            let mut children = inside::children(&item, self.setting).map_err(fail)?;
            children.extend(inside::siblings(&item, self.setting).map_err(fail)?);
            Ok((report, children))
        });
        let (mut report, children) = match checked {
            Ok(checked) => checked,
            Err(failure) if depth > 0 && settle::is_unknown(&failure.cause) => return Ok(Ended::Unknown),
            Err(failure) => return self.failed(failure),
        };
        // A list or a text among dumps has nothing to check, and is none of them.
        if depth > 0 && report.verdict == Verdict::Nothing {
            return Ok(Ended::Unknown);
        }
        report.is_row = depth > 0;
        (self.each)(Ok(&report))?;
        self.run.sources.push(report);
        if depth + 1 < decanter_core::format::MOST_DEPTH {
            for child in children {
                if matches!(self.source(&child, depth + 1)?, Ended::Stopped) {
                    return Ok(Ended::Stopped);
                }
            }
        }
        Ok(Ended::Told)
    }

    /// Checks every dump below a folder; an extracted disc is one by itself.
    fn folder(&mut self, shown: &str) -> std::result::Result<Ended, E> {
        let item = match locate::open(shown, "verify", self.setting) {
            Ok(item) => item,
            Err(failure) => return self.failed(failure),
        };
        if game_folder(&item).is_some() {
            return self.source(shown, 0);
        }
        if bag::is_one(shown, self.setting) {
            return match bag::check(&item, shown, self.setting) {
                Ok(report) => {
                    (self.each)(Ok(&report))?;
                    self.run.sources.push(report);
                    Ok(Ended::Told)
                }
                Err(e) => self.failed(Failure::new(format!("cannot verify the bag \"{shown}\""), e)),
            };
        }
        let below = Below::of(shown, self.setting);
        let (mut told, mut unknown) = (0, 0);
        for path in &below.files {
            if self.setting.watch.cancelled() {
                return self.failed(Failure::new(format!("cannot verify \"{shown}\""), Error::Cancelled));
            }
            match self.source(path, 1)? {
                Ended::Told => told += 1,
                Ended::Unknown => unknown += 1,
                Ended::Stopped => return Ok(Ended::Stopped),
            }
        }
        for (path, error) in below.failed {
            told += 1;
            self.failed(Failure::new(format!("cannot verify \"{path}\""), error))?;
        }
        for (path, kind) in below.passed {
            self.setting.watch.notice(&Notice::new(format!("{path} is passed over: it is {kind}")));
        }
        if told == 0 {
            let mut report = match verify_item(&item, &[], self.setting) {
                Ok(report) => report,
                Err(failure) => return self.failed(failure),
            };
            report.findings.add(verdict::Finding::Empty);
            settle::conclude(&mut report);
            (self.each)(Ok(&report))?;
            self.run.sources.push(report);
        }
        self.run.unknown += unknown;
        Ok(Ended::Told)
    }

    fn failed(&mut self, failure: Failure) -> std::result::Result<Ended, E> {
        (self.each)(Err(&failure))?;
        self.run.failed.push(failure.to_string());
        Ok(if matches!(*failure.cause, Error::Cancelled) { Ended::Stopped } else { Ended::Told })
    }
}

/// Verifies a source against descriptions, against one that lies next to it, or against itself.
///
/// # Errors
/// When the source or a description cannot be opened, the description is for another disc, or the key is
/// needed and missing.
pub fn verify(shown: &str, against: &[String], setting: &Setting<'_>) -> std::result::Result<VerifyReport, Failure> {
    verify_item(&locate::open(shown, "verify", setting)?, against, setting)
}

fn verify_item(item: &Item, against: &[String], setting: &Setting<'_>) -> std::result::Result<VerifyReport, Failure> {
    let fail = |e| Failure::new(format!("cannot verify \"{}\"", item.shown), e);
    item.check_given_key(setting).map_err(fail)?;
    let expectation = find_expectation(item, against, setting)?;
    setting.watch.begin(&format!("verifying {}", item.stem), Some(total_bytes(item)));
    let report = match &expectation {
        Some((name, expectation)) => compare_item(item, name, expectation, setting),
        None => check_itself(item, setting),
    };
    setting.watch.end();
    report.map_err(fail)
}

fn total_bytes(item: &Item) -> u64 {
    match &item.source {
        _ if !item.opened.proof.sealed.is_empty() => item.opened.proof.sealed.iter().map(|s| s.source.len()).sum(),
        Some(_) if !item.opened.holds.tracks.is_empty() => {
            item.opened.holds.tracks.iter().map(|t| t.source.len()).sum()
        }
        Some(source) => source.len(),
        None => item.opened.holds.tree.iter().flat_map(|t| t.files()).map(|(_, f)| f.len).sum(),
    }
}

/// The description to hold the source against, and where it is.
fn find_expectation(
    item: &Item,
    against: &[String],
    setting: &Setting<'_>,
) -> std::result::Result<Option<(String, Arc<Expectation>)>, Failure> {
    let id = item.opened.identity.id.as_deref().map(plain);
    let fits = |e: &Expectation| id.is_none() || e.ids.is_empty() || e.ids.iter().any(|i| Some(plain(i)) == id);
    let mut others = Vec::new();
    for path in against {
        let opened = locate::open(path, "use", setting)?;
        let Some(expectation) = opened.opened.holds.expectation else {
            let why = format!(
                "it is {}, and describes nothing that a source could be held against",
                with_article(&opened.opened.identity.kind)
            );
            return Err(Failure::usage(format!("cannot verify against \"{path}\""), why)
                .hint("give a disc description, a DAT file or a checksum list with --against"));
        };
        if fits(&expectation) {
            return Ok(Some((path.clone(), expectation)));
        }
        others.push(format!("\"{path}\" is the {}", expectation.name));
    }
    if !others.is_empty() {
        let text = format!(
            "this disc is {}, but {}",
            item.opened.identity.id.as_deref().unwrap_or("unknown"),
            others.join(", ")
        );
        return Err(Failure::new(format!("cannot verify \"{}\"", item.shown), Error::WrongDescription { text })
            .hint("give the description of this very disc with --against"));
    }
    for (at, source) in &item.descriptions {
        let opener = setting.opener(&item.keyring);
        if let Ok(opened) = opener.open(source.clone())
            && let Some(expectation) = opened.holds.expectation
        {
            return Ok(Some((at.clone(), expectation)));
        }
    }
    Ok(None)
}

/// A description's name, and the digests that it has of files, by path.
pub(crate) type Described = (String, HashMap<String, Digest>);

/// The digests that a description has for the files of a source, by their paths there, and the description's name.
///
/// # Errors
/// When a description cannot be used; when one is needed and there is none.
pub(crate) fn expected_files(
    item: &Item,
    against: &[String],
    is_needed: bool,
    setting: &Setting<'_>,
) -> std::result::Result<Option<Described>, Failure> {
    if item.opened.holds.tree.is_none() || (against.is_empty() && item.descriptions.is_empty() && !is_needed) {
        return Ok(None);
    }
    match find_expectation(item, against, setting)? {
        Some((name, expectation)) => Ok(Some((name, compare::digests(item, &expectation)))),
        None if is_needed => {
            let text = "there is nothing to check it against".to_owned();
            Err(Failure::new(format!("cannot check \"{}\"", item.shown), Error::WrongDescription { text })
                .hint("give a disc description with --against, or leave out --verify"))
        }
        None => Ok(None),
    }
}

/// Holds a source against one description, and says what came of it.
///
/// # Errors
/// What reading fails with; a missing key.
pub(crate) fn against_expectation(
    item: &Item,
    name: &str,
    expectation: &Expectation,
    setting: &Setting<'_>,
) -> Result<VerifyReport> {
    compare_item(item, name, expectation, setting)
}

/// How many digests of its own a source has that hold, and what does not hold.
///
/// # Errors
/// What reading fails with.
pub(crate) fn own_damage(opened: &Opened, setting: &Setting<'_>) -> Result<(usize, Vec<String>)> {
    let damage = seals::damage(opened, setting)?;
    let held = if damage.is_empty() { seals::prove(opened, setting)? } else { 0 };
    Ok((held, damage.into_iter().map(|d| format!("{}{}", d.of, d.what)).collect()))
}

fn compare_item(item: &Item, name: &str, expectation: &Expectation, setting: &Setting<'_>) -> Result<VerifyReport> {
    let mut comparison = Comparison::new(item, expectation);
    comparison.run(Vec::new(), setting.watch, &mut |_| Ok(()))?;
    let mut report = comparison.report(name, setting.watch)?;
    settle::settle(&mut report, item, setting)?;
    Ok(report)
}

/// Decrypts into `target` and holds the source against its description in the same read. What differs is not kept.
pub(crate) fn write_checked(
    item: &Item,
    against: &[String],
    clear: &Blueprint,
    target: &Path,
    digests: &[Algorithm],
    setting: &Setting<'_>,
) -> std::result::Result<(VerifyReport, Vec<Digest>), Failure> {
    let fail = |e| Failure::new(format!("cannot decrypt \"{}\"", item.shown), e);
    let Some((name, expectation)) = find_expectation(item, against, setting)? else {
        let text = "there is nothing to check it against".to_owned();
        return Err(fail(Error::WrongDescription { text })
            .hint("give a disc description with --against, or leave out --verify"));
    };
    let run = || -> Result<(VerifyReport, Vec<Digest>)> {
        let draft = Draft::new(target, setting.door(), clear.len(), bytes_to_write(clear)?, setting.watch)?;
        let (file, path) = (draft.file(), draft.temporary_path());
        file.set_len(clear.len()).map_err(|e| Error::io("reserve", path, e))?;
        let mut hashers: Vec<Hasher> = digests.iter().map(|&a| Hasher::new(a)).collect();
        let consumers: Vec<Consumer<'_>> = hashers
            .iter_mut()
            .map(|h| Box::new(move |p: &Piece| p.each_slice(|bytes| h.update(bytes))) as Consumer<'_>)
            .collect();
        let mut comparison = Comparison::new(item, &expectation);
        comparison.run(consumers, setting.watch, &mut |piece| match &piece.data {
            Data::Block(block) => {
                os::write_all_at(file, block.clear(), piece.at).map_err(|e| Error::io_at("write", path, piece.at, e))
            }
            // Zeros of the source stay a hole; nothing else comes as a fill.
            _ => Ok(()),
        })?;
        let report = comparison.report(&name, setting.watch)?;
        if report.verdict == Verdict::Match {
            setting.settle()?;
            draft.finish()?;
        }
        Ok((report, hashers.into_iter().map(Hasher::finish).collect()))
    };
    run().map_err(fail)
}
