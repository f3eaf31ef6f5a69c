//! Is it what it should be? Every file, region and sector against what is known of it, in one read.

pub mod catalogue;
mod compare;
mod disc;
mod inside;
mod seals;
mod suspects;
mod sweep;
mod verdict;

pub(crate) use inside::game_folder;
pub(crate) use seals::{Damage, damage, prove};
pub use seals::{SealReport, SealState};
pub use suspects::Suspect;

use crate::below::Below;
use crate::failure::with_article;
use crate::locate::{self, Inner};
use crate::quoted;
use crate::rom::RomReport;
use crate::{Answer, Failure, Item, Setting};
use catalogue::MatchReport;
use compare::Comparison;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Digest, Hasher};
use decanter_core::expectation::Expectation;
use decanter_core::keyring::plain;
use decanter_core::native;
use decanter_core::pour::pipeline::{Consumer, Data, Piece};
use decanter_core::pour::{Draft, bytes_to_write};
use decanter_core::role::Role;
use decanter_core::rom::Shape;
use decanter_core::source::SourceRef;
use decanter_core::tree::Content;
use decanter_core::view::held;
use decanter_core::{Error, Notice, Result, SECTOR, tell};
use serde::Serialize;
use std::collections::HashMap;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// What came of all checks.
#[derive(Debug, Serialize)]
pub struct VerifyRun {
    /// Layout of this report.
    pub schema: &'static str,
    /// One entry for each source that could be checked.
    pub sources: Vec<VerifyReport>,
    /// What came of holding all sources against DAT files or checksum lists.
    pub matches: Option<MatchReport>,
    /// What could not be checked, and why.
    pub failed: Vec<String>,
    /// Files in folders that are of no known kind.
    pub unknown: usize,
}

/// What came of the check of one source.
#[derive(Debug, Serialize)]
pub struct VerifyReport {
    /// The source, with what it was looked through.
    pub source: String,
    /// What it was held against; `None` when there was only its own structure.
    pub against: Option<String>,
    /// The answer.
    pub verdict: Verdict,
    /// How many files match, differ and so on.
    pub counts: Counts,
    /// Every file.
    pub files: Vec<FileReport>,
    /// What is known of the ROM, if it is one.
    pub rom: Option<RomReport>,
    /// The ROMs in a folder or an archive.
    pub roms: Vec<InnerRom>,
    /// The digests that a package carries of its own bytes, and what its headers say of each other.
    pub seals: Vec<SealReport>,
    /// Whether it stands in a source that was named, and was not named itself.
    #[serde(skip)]
    pub is_row: bool,
    /// Header, regions and footer.
    pub ranges: Vec<RangeReport>,
    /// Digests of the whole source, where they were taken in the same read.
    pub digests: Vec<NamedDigest>,
    /// What proves the content, where there is no description: how many digests of its own hold, and of what.
    pub proofs: Vec<String>,
    /// What to do next.
    pub next: String,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A ROM in a folder or an archive.
#[derive(Debug, Serialize)]
pub struct InnerRom {
    /// Where it is.
    pub path: String,
    /// What is known of it.
    pub rom: RomReport,
}

/// The digest of a part of a source.
#[derive(Debug, Serialize)]
pub struct NamedDigest {
    /// Which part.
    pub name: String,
    /// Its digest.
    pub digest: Digest,
}

/// The answer to "is it what it should be?".
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// Everything that is described is as described.
    Match,
    /// Digests that it carries of its own bytes hold.
    Sound,
    /// Everything could be read; nothing proves the content.
    Readable,
    /// There is nothing that could be checked.
    Nothing,
    /// Something is not as described.
    Differs,
    /// Something is missing at its end.
    Incomplete,
    /// Its own structure or its own digests are broken.
    Damaged,
}

/// How many files have which state.
#[derive(Debug, Default, Serialize)]
pub struct Counts {
    /// As described.
    pub matching: usize,
    /// Not as described.
    pub differing: usize,
    /// Described, but not there.
    pub missing: usize,
    /// There, but not described.
    pub unexpected: usize,
    /// Cannot be read as a whole.
    pub unreadable: usize,
    /// Not looked at one by one, because the key is missing.
    pub locked: usize,
}

/// What is known of one file now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum FileState {
    /// As described; without a description: readable.
    Match,
    /// Not as described.
    Differs,
    /// Described, but not there.
    Missing,
    /// There, but not described.
    Unexpected,
    /// Cannot be read as a whole.
    Unreadable,
    /// Encrypted, and the key is missing.
    Locked,
}

/// One file.
#[derive(Debug, Serialize)]
pub struct FileReport {
    /// Path in the source.
    pub path: String,
    /// What is known of it now.
    pub state: FileState,
    /// Length in bytes.
    pub bytes: u64,
    /// Digest that it should have.
    pub expected: Option<Digest>,
    /// Digest that it has.
    pub found: Option<Digest>,
    /// First sector of its content.
    pub sector: Option<u64>,
    /// Sectors that are to blame, as far as that can be told.
    pub suspects: Vec<Suspect>,
    /// More on the state.
    pub note: Option<String>,
    /// True when it is the machine that failed to read it.
    #[serde(skip)]
    pub is_read_error: bool,
}

impl FileReport {
    /// One of which no more is known.
    fn new(path: String, state: FileState, bytes: u64) -> Self {
        Self {
            path,
            state,
            bytes,
            expected: None,
            found: None,
            sector: None,
            suspects: Vec::new(),
            note: None,
            is_read_error: false,
        }
    }
}

/// How a stretch of a source compares with what it should be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum RangeState {
    /// It is as it should be.
    Match,
    /// It is not.
    Differs,
    /// The source ends before it does.
    Cut,
    /// Nobody could tell.
    Unchecked,
}

/// One stretch of the source.
#[derive(Debug, Serialize)]
pub struct RangeReport {
    /// What it is called.
    pub name: String,
    /// First sector.
    pub first_sector: u64,
    /// Number of sectors.
    pub sectors: u64,
    /// How it compares.
    pub state: RangeState,
    /// More on the state.
    pub note: Option<String>,
}

impl Verdict {
    /// Whether nothing is wrong, as far as was looked.
    pub fn is_good(self) -> bool {
        matches!(self, Self::Match | Self::Sound | Self::Readable)
    }
}

impl VerifyReport {
    /// Yes or no.
    pub fn answer(&self) -> Answer {
        match self.verdict {
            good if good.is_good() => Answer::Yes,
            _ if self.files.iter().any(|f| f.is_read_error) => Answer::ReadError,
            _ => Answer::No,
        }
    }
}

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
        let ended = match native::path(source).is_dir() && against.is_empty() {
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
            Err(failure) if depth > 0 && verdict::is_unknown(&failure.cause) => return Ok(Ended::Unknown),
            Err(failure) => return self.failed(failure),
        };
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
        let below = Below::of(shown);
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
            report.verdict = Verdict::Nothing;
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
    let id = item.opened.get("id").map(plain);
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
        let text = format!("this disc is {}, but {}", item.opened.get("id").unwrap_or("unknown"), others.join(", "));
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

fn compare_item(item: &Item, name: &str, expectation: &Expectation, setting: &Setting<'_>) -> Result<VerifyReport> {
    let mut comparison = Comparison::new(item, expectation);
    comparison.run(Vec::new(), setting.watch, &mut |_| Ok(()))?;
    let mut report = comparison.report(name, setting.watch)?;
    verdict::settle(&mut report, item, setting)?;
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
                file.write_all_at(block.clear(), piece.at).map_err(|e| Error::io_at("write", path, piece.at, e))
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

/// Without a description: everything has to be readable, and the digests that it and what is around it carry have to fit.
fn check_itself(item: &Item, setting: &Setting<'_>) -> Result<VerifyReport> {
    let opened = &item.opened;
    let says_more = !opened.proof.is_empty();
    let mut report = if item.opened.identity.role == Role::Package && !opened.proof.sealed.is_empty() {
        seals::check(item, setting)?
    } else {
        let mut report = if opened.holds.tracks.is_empty() {
            check_files(item, setting)?
        } else {
            disc::check_tracks(item, setting)?
        };
        if says_more {
            seals::add(&mut report, item, setting)?;
        }
        report
    };
    verdict::settle(&mut report, item, setting)?;
    Ok(report)
}

/// Reads an image from front to back: what cannot be read of it, and whether encrypted sectors of it were never read
/// when it was dumped, so that its files have to be asked one by one.
fn read_whole(item: &Item, setting: &Setting<'_>) -> Result<(Vec<FileReport>, bool)> {
    let is_one = item.opened.identity.role.is_image() || item.opened.identity.role == Role::Rom;
    // What a seal covers is read for it.
    let Some(source) = item.source.as_ref().filter(|_| is_one && item.opened.proof.sealed.is_empty()) else {
        return Ok((Vec::new(), false));
    };
    let decrypted = item.opened.protection.as_ref().and_then(|p| p.clear_as_it_is.as_ref());
    let read = match decrypted {
        Some(as_it_is) => read_through(&as_it_is.clear.as_source()?, setting),
        None => read_through(source, setting),
    };
    let is_blank = decrypted.is_some_and(|a| a.blank.load(Ordering::Relaxed) > 0);
    match read {
        Err(e) if matches!(e.blame(), decanter_core::error::Blame::Source) => {
            let report = FileReport::new("the whole image".into(), FileState::Unreadable, source.len());
            Ok((vec![FileReport { note: Some(e.to_string()), ..report }], is_blank))
        }
        read => read.map(|()| (Vec::new(), is_blank)),
    }
}

/// Every file has to be readable, and ROMs have to have the checksums that they carry.
fn check_files(item: &Item, setting: &Setting<'_>) -> Result<VerifyReport> {
    let (mut files, is_blank_somewhere) = read_whole(item, setting)?;
    let mut roms = Vec::new();
    let mut counts = Counts { unreadable: files.len(), ..Counts::default() };
    let mut proven = 0;
    let holds_files = item.opened.identity.role.is_files();
    for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
        let mut report = FileReport {
            sector: file.spans.first().map(|s| s.start / SECTOR),
            ..FileReport::new(node.path.clone(), FileState::Match, file.len)
        };
        let whole_image_is_read = item.source.is_some() && !file.spans.is_empty() && !is_blank_somewhere;
        let read = match &file.content {
            Content::Locked(_) => {
                report.state = FileState::Locked;
                Ok(())
            }
            Content::Whole(_) if whole_image_is_read => Ok(()),
            Content::Whole(source) if holds_files => {
                // Read once, for its digest and for what it is.
                let source = held(source);
                read_through(&source, setting).and_then(|()| {
                    if let Inner::Rom(inner) = locate::inner(item, &node.path, &source, setting)? {
                        let rom = inner.opened.holds.rom.as_ref().map(RomReport::of);
                        roms.extend(rom.map(|rom| InnerRom { path: inner.address, rom }));
                    }
                    Ok(())
                })
            }
            Content::Whole(source) => read_through(source, setting),
            _ => file.source().map(|_| ()),
        };
        match read {
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            Err(e) => {
                report.state = FileState::Unreadable;
                report.is_read_error = matches!(e, Error::Io { .. });
                report.note = Some(e.to_string());
            }
            Ok(()) => {}
        }
        match report.state {
            FileState::Unreadable => counts.unreadable += 1,
            FileState::Locked => counts.locked += 1,
            _ => counts.matching += 1,
        }
        proven += usize::from(report.state == FileState::Match && file.source().is_ok_and(|s| s.is_checked()));
        files.push(report);
    }
    let len = item.source.as_ref().map_or(0, |s| s.len());
    let missing = item.opened.extent.promised_len.map_or(0, |p| p.saturating_sub(len)).div_ceil(SECTOR);
    let rom = item.opened.holds.rom.as_ref().map(RomReport::of);
    let all_right = rom.iter().chain(roms.iter().map(|r| &r.rom)).all(|r| r.is_right() && !is_two(&r.shape));
    let is_short = rom.as_ref().is_some_and(|r| r.declared_bytes.is_some() && matches!(r.shape, Shape::Trimmed { .. }));
    let verdict = if missing > 0 || is_short {
        Verdict::Incomplete
    } else if !all_right {
        Verdict::Differs
    } else if counts.unreadable > 0 {
        Verdict::Damaged
    } else {
        Verdict::Sound
    };
    let source = quoted(&item.shown);
    let next = match verdict {
        Verdict::Incomplete if is_short => {
            "it ends before its declared length: dump it again, or pad it (convert --pad) if it was trimmed".into()
        }
        Verdict::Differs => format!(
            "a checksum of its own does not hold: a bad dump, or one that was changed; decanter verify {source} --against DAT tells"
        ),
        _ if rom.is_some() || !roms.is_empty() => {
            format!(
                "checksums of its own prove little: decanter verify {source} --against DAT holds it against a known dump"
            )
        }
        Verdict::Incomplete => format!("{missing} sectors are missing at its end: copy or dump it again"),
        Verdict::Damaged => {
            "what is damaged has to be copied or dumped again; \"decanter extract\" takes what is whole".into()
        }
        _ if item.opened.identity.format == "ird" => format!("decanter verify SOURCE --against {source}"),
        _ => "it reads well; to prove its content, give a description of it with --against".into(),
    };
    Ok(VerifyReport {
        source: item.address.clone(),
        against: None,
        verdict,
        counts,
        files,
        rom,
        roms,
        seals: Vec::new(),
        ranges: Vec::new(),
        digests: Vec::new(),
        is_row: false,
        proofs: if proven > 0 {
            vec![tell::count(proven as u64, "checksum of a file", "checksums of files")]
        } else {
            Vec::new()
        },
        next,
        notices: item.notices().to_vec(),
    })
}

/// Whether a file holds a second ROM.
fn is_two(shape: &Shape) -> bool {
    matches!(shape, Shape::Trailing { is_rom: true, .. })
}

/// Reads all of a source, which is what makes its own digests be checked.
fn read_through(source: &SourceRef, setting: &Setting<'_>) -> Result<()> {
    decanter_core::digest::of_source(source, &[], setting.watch).map(|_| ())
}
