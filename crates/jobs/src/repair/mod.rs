//! One good dump of several bad ones: what a description proves is taken from whichever copy has it; what carries parities of its
//! own, by these; without any proof, what most copies agree on, and it is told as such.

mod assemble;
mod claims;
mod compare;
mod copies;
mod solve;

pub use solve::By;

use crate::verify::{Verdict, VerifyReport, against_expectation, own_damage};
use crate::{Answer, Failure, Setting, grouped, place, quoted};
use assemble::assembled;
use claims::{Claims, Whole};
use compare::compare;
use copies::{Copy, MOST_COPIES};
use decanter_core::blueprint::{Blueprint, Known, PartId};
use decanter_core::digest::{self, Algorithm, Digest};
use decanter_core::error::Blame;
use decanter_core::pour::Output;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Notice, native, tell};
use serde::Serialize;
use solve::Chosen;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Stretches that are told.
const MOST_TOLD: usize = 10_000;

/// What came of a repair.
#[derive(Debug, Serialize)]
pub struct RepairedReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The copies, and what each of them gave.
    pub copies: Vec<CopyReport>,
    /// What proves the result, if anything does.
    pub against: Vec<String>,
    /// Bytes of a sector.
    pub sector_bytes: u64,
    /// Sectors of the dump.
    pub sectors: u64,
    /// Where copies differ or lack something, and which was taken.
    pub stretches: Vec<Taken>,
    /// How many there are.
    pub stretch_count: usize,
    /// How good the result is.
    pub verdict: RepairVerdict,
    /// What that rests on, in words.
    pub proof: String,
    /// Parts of the description that no copy has, nor several together.
    pub unsolved: Vec<String>,
    /// The file that was written; nothing where none of it is good.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub target: Option<PathBuf>,
    /// Its length in bytes.
    pub bytes: u64,
    /// Its digests.
    pub digests: Vec<Digest>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A copy, and what it gave.
#[derive(Debug, Serialize)]
pub struct CopyReport {
    /// The copy.
    pub source: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Sectors that it lacks, or that cannot be read.
    pub missing_sectors: u64,
    /// Sectors that were taken from it where copies differ.
    pub taken_sectors: u64,
}

/// Sectors that were taken from one copy.
#[derive(Debug, Serialize)]
pub struct Taken {
    /// The first sector.
    pub first: u64,
    /// How many.
    pub count: u64,
    /// The number of the copy, from 1; nothing where none was chosen.
    pub from: Option<usize>,
    /// Why.
    #[serde(flatten)]
    pub by: By,
}

/// How good a result is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum RepairVerdict {
    /// It is as described: all of it was compared.
    Match,
    /// The digests that it carries itself hold.
    Sound,
    /// Most copies agree on every sector in which they differ; nothing proves it.
    Agreed,
    /// There is no good dump in these copies.
    Unsolved,
}

/// What is asked of a repair besides its copies.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Descriptions, DAT files, checksum lists.
    pub against: Vec<String>,
    /// Write the best there is although it is not proven; the answer is then no.
    pub keep_damage: bool,
    /// Digests of the result.
    pub digests: Vec<Algorithm>,
}

/// Makes one good dump of several copies.
///
/// # Errors
/// When they are of different things, or nothing could tell which of them is right.
pub fn repair(
    sources: &[String],
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(RepairedReport, Answer), Failure> {
    let what = format!("cannot repair {}", named(sources));
    let fail = |e: Error| Failure::new(what.clone(), e);
    let wrong = |why: &str, hint: &str| Err(Failure::usage(what.clone(), why).hint(hint));
    match sources.len() {
        0 | 1 => {
            return wrong(
                "one copy alone repairs nothing",
                "give two or more copies; a scratched CD by its own parities: decanter convert SOURCE --repair",
            );
        }
        n if n > MOST_COPIES => return wrong("these are too many copies", "give at most 16"),
        _ => {}
    }
    // A copy may be damaged, and so may what it is in: that is no duty of the result.
    let own = setting.for_one(setting.watch);
    let copies = sources.iter().map(|source| Copy::open(source, &own)).collect::<Result<Vec<_>, _>>()?;
    if let Some((at, twice)) = sources.iter().enumerate().find(|(at, source)| sources[..*at].contains(source)) {
        return wrong(
            &format!(
                "\"{twice}\" is given twice (copies {} and {})",
                sources.iter().position(|s| s == twice).unwrap_or(0) + 1,
                at + 1
            ),
            "give copies that were made by themselves: the same file proves nothing",
        );
    }
    let target = place::file(output, &place::name_beside(&copies[0].item, extension(&copies[0]), "repaired"));
    setting.check_target(&target)?;
    let compared = compare(&copies, setting).map_err(|e| match &e {
        Error::WrongDescription { .. } => {
            fail(e).hint("give copies of one dump; decanter identify says what each of them is")
        }
        _ => fail(e),
    })?;
    let claims = Claims::read(&options.against, &copies, compared.len, setting)?;
    let missing = compared.missing.clone();
    let mut chosen = Chosen::begin(compared);
    if let Some((_, expectation)) = &claims.expectation {
        chosen.by_parts(expectation, &copies, setting).map_err(fail)?;
    }
    if !claims.wholes.is_empty() {
        chosen.by_whole(&claims.wholes, &copies, setting).map_err(fail)?;
    }
    if options.against.is_empty() {
        chosen.by_archives(&copies, setting).map_err(fail)?;
        chosen.by_majority();
    }
    let open = chosen.groups.iter().filter(|group| group.is_none()).count();
    let dump = assembled(&copies, &chosen.compared, &chosen.copies()).map_err(fail)?;
    let mut report = report(&copies, &chosen, &missing, options, setting);
    let is_hopeless = open > 0 || !chosen.unsolved.is_empty();
    if is_hopeless && !options.keep_damage {
        report.verdict = RepairVerdict::Unsolved;
        report.proof = hopeless(&report, open);
        return Ok((report, Answer::No));
    }
    let job = Job { copies: &copies, claims: &claims, chosen: &chosen, options, setting };
    let answer = job.write(&dump, &target, is_hopeless, &mut report)?;
    Ok((report, answer))
}

fn named(sources: &[String]) -> String {
    let names: Vec<String> = sources.iter().take(3).map(|s| format!("\"{s}\"")).collect();
    let more = if sources.len() > 3 { " and others" } else { "" };
    format!("{}{more}", names.join(", "))
}

fn extension(copy: &Copy) -> &str {
    let name = copy.item.address.rsplit('/').next().unwrap_or_default();
    name.rsplit_once('.').map_or("bin", |(_, extension)| extension)
}

fn hopeless(report: &RepairedReport, open: usize) -> String {
    match report.unsolved.as_slice() {
        [] => format!(
            "nothing shows which copy is right in {}: give a description with --against, or a third copy",
            tell::count(open as u64, "place", "places")
        ),
        parts => format!(
            "no copy has {}, nor have several together",
            parts.iter().take(3).cloned().collect::<Vec<_>>().join(", ")
        ),
    }
}

fn report(
    copies: &[Copy],
    chosen: &Chosen,
    missing: &[u64],
    options: &Options,
    setting: &Setting<'_>,
) -> RepairedReport {
    let compared = &chosen.compared;
    let mut taken = vec![0u64; copies.len()];
    let mut stretches = Vec::new();
    for ((stretch, group), copy) in compared.stretches.iter().zip(&chosen.groups).zip(chosen.copies()) {
        let by = group.as_ref().map_or(By::Nothing, |(_, by)| by.clone());
        let from = copy.filter(|_| group.is_some());
        if let Some(copy) = from {
            taken[copy] += stretch.count;
        }
        stretches.push(Taken { first: stretch.first, count: stretch.count, from: from.map(|copy| copy + 1), by });
    }
    let stretch_count = stretches.len();
    stretches.truncate(MOST_TOLD);
    let copy = |(number, copy): (usize, &Copy)| CopyReport {
        source: copy.shown.clone(),
        bytes: copy.source.len(),
        missing_sectors: missing[number],
        taken_sectors: taken[number],
    };
    RepairedReport {
        schema: "decanter.repair/1",
        copies: copies.iter().enumerate().map(copy).collect(),
        against: options.against.clone(),
        sector_bytes: compared.unit,
        sectors: compared.len.div_ceil(compared.unit),
        stretches,
        stretch_count,
        verdict: RepairVerdict::Agreed,
        proof: String::new(),
        unsolved: chosen.unsolved.clone(),
        target: None,
        bytes: compared.len,
        digests: Vec::new(),
        dry_run: setting.dry_run,
        notices: Vec::new(),
    }
}

/// A dump that is put together, to be proven and written.
struct Job<'a, 's> {
    copies: &'a [Copy],
    claims: &'a Claims,
    chosen: &'a Chosen,
    options: &'a Options,
    setting: &'a Setting<'s>,
}

impl Job<'_, '_> {
    /// Writes the dump; it gets its name when it is proven, or told as what it is.
    fn write(
        &self,
        dump: &SourceRef,
        target: &Path,
        is_hopeless: bool,
        report: &mut RepairedReport,
    ) -> Result<Answer, Failure> {
        let Self { options, setting, .. } = self;
        let whole = self.chosen.whole.as_ref().filter(|_| !is_hopeless);
        let is_crc = |algorithm: &Algorithm| *algorithm == Algorithm::Crc32;
        let asked = whole.and_then(Whole::strongest).map(|digest| digest.algorithm);
        // A CRC-32 is read back on all processors while the disk takes the bytes, which then need not pass through here; another
        // digest is computed of what is written.
        let reads_back = asked.iter().chain(&options.digests).all(is_crc);
        let mut blueprint = Blueprint::new();
        let part = blueprint.source(dump.clone());
        if let Some(whole) = whole.filter(|_| !reads_back) {
            check(&mut blueprint, part, whole);
        }
        setting.watch.begin("writing the repaired dump", Some(dump.len()));
        let output = Output::new(&blueprint, target).with_digests(if reads_back { &[] } else { &options.digests });
        let mut verdict = None;
        let mut digests = Vec::new();
        let poured = setting.pour_one(output, setting.door(), &mut |path| {
            setting.watch.end();
            if reads_back {
                digests = self.read_back(path, whole)?;
            }
            verdict = Some(self.prove(path, is_hopeless)?);
            Ok(())
        });
        setting.watch.end();
        let poured = poured.map_err(|e| match (e.blame(), &e) {
            (Blame::Request, _) => place::refused(target, e),
            (_, Error::Checksum { .. }) => Failure::new(format!("cannot repair {}", named(&self.shown())), e)
                .hint("no way of putting these copies together is as described: give another copy"),
            _ => Failure::new(format!("cannot write \"{}\"", native::text(target)), e),
        })?;
        (report.verdict, report.proof) = verdict.unwrap_or((RepairVerdict::Agreed, "nothing was written".into()));
        report.target = Some(target.to_owned());
        report.digests = poured.map(|poured| if reads_back { digests } else { poured.digests }).unwrap_or_default();
        if report.verdict == RepairVerdict::Agreed && self.by_majority() > 0 {
            let text = "copies agree, and nothing proves that they are right: the same fault may be in several of them";
            report.notices.push(Notice::new(text));
        }
        Ok(if report.verdict == RepairVerdict::Unsolved { Answer::No } else { Answer::Yes })
    }

    /// The CRC-32 of what was written, if that is wanted; it has to be that of a list, if there is one.
    fn read_back(&self, path: &Path, whole: Option<&Whole>) -> decanter_core::Result<Vec<Digest>> {
        if whole.is_none() && self.options.digests.is_empty() {
            return Ok(Vec::new());
        }
        let written: SourceRef = Arc::new(FileSource::own(path)?);
        self.setting.watch.begin("reading it back", Some(written.len()));
        let crc32 = digest::crc32(&written, self.setting.watch)?;
        self.setting.watch.end();
        let found = Digest { algorithm: Algorithm::Crc32, bytes: crc32.to_be_bytes().to_vec() };
        match whole.and_then(|whole| Some((whole, whole.strongest()?))) {
            Some((whole, wanted)) if *wanted != found => Err(not_as_listed(wanted, &whole.name)),
            _ if self.options.digests.is_empty() => Ok(Vec::new()),
            _ => Ok(vec![found]),
        }
    }

    fn shown(&self) -> Vec<String> {
        self.copies.iter().map(|copy| copy.shown.clone()).collect()
    }

    fn by_majority(&self) -> usize {
        self.chosen.groups.iter().flatten().filter(|(_, by)| !by.is_proof()).count()
    }

    /// What reading the result back shows.
    fn prove(&self, path: &Path, is_hopeless: bool) -> decanter_core::Result<(RepairVerdict, String)> {
        let setting = self.setting;
        if is_hopeless {
            return Ok((RepairVerdict::Unsolved, "the best of what there is; it is not as described".into()));
        }
        if let Some(whole) = &self.chosen.whole {
            let algorithm = whole.strongest().map_or("digest", |d| d.algorithm.id());
            return Ok((RepairVerdict::Match, format!("its {algorithm} is that of {}", whole.name)));
        }
        let like = self.copies.iter().find(|c| c.item.opened.holds.tree.is_some()).unwrap_or(&self.copies[0]);
        let written: SourceRef = Arc::new(FileSource::own(path)?);
        let names = [like.item.stem.clone()];
        let opened = setting.opener(&like.item.keyring).with_names(&names).open(written.clone());
        if let Some((name, expectation)) = &self.claims.expectation {
            let item = like.item.with_source(written, opened?);
            let verified: VerifyReport = against_expectation(&item, name, expectation, setting)?;
            return match verified.verdict {
                Verdict::Match => Ok((RepairVerdict::Match, format!("everything that {name} describes was compared"))),
                Verdict::Sound => Ok((RepairVerdict::Sound, format!("{}, of {name}", verified.proofs.join(", ")))),
                _ => Err(Error::Checksum {
                    what: "the repaired dump".into(),
                    expected: format!("what {name} describes"),
                    found: "something else; nothing was kept".into(),
                }),
            };
        }
        let Ok(opened) = opened else {
            return Ok((RepairVerdict::Agreed, self.agreed()));
        };
        let (held, damage) = own_damage(&opened, setting)?;
        match damage.first() {
            Some(damage) => Err(Error::Checksum {
                what: "the repaired dump".into(),
                expected: "the digests that it carries".into(),
                found: format!("{damage}; nothing was kept"),
            }),
            None if held > 0 => Ok((
                RepairVerdict::Sound,
                format!("{} it carries", tell::count(held as u64, "digest holds that", "digests hold that")),
            )),
            None if self.by_majority() == 0 && self.chosen.groups.iter().flatten().count() > 0 => {
                Ok((RepairVerdict::Sound, "every sector in which copies differ holds by its own parities".into()))
            }
            None => Ok((RepairVerdict::Agreed, self.agreed())),
        }
    }

    fn agreed(&self) -> String {
        match self.by_majority() {
            0 => "the copies are the same: there was nothing to repair, and nothing proves them".into(),
            n => format!(
                "in {} most copies agree, or one alone has it; nothing proves it",
                tell::count(n as u64, "place", "places")
            ),
        }
    }
}

/// Refuses a dump that has not the digests of a list.
fn check(blueprint: &mut Blueprint, part: PartId, whole: &Whole) {
    let Some(digest) = whole.strongest().cloned() else { return };
    blueprint.measure(part, digest.algorithm);
    let name = whole.name.clone();
    blueprint.check(Arc::new(move |known: &Known<'_>| {
        if known.digest(part, digest.algorithm)? == digest.bytes.as_slice() {
            return Ok(());
        }
        Err(not_as_listed(&digest, &name))
    }));
}

fn not_as_listed(wanted: &Digest, name: &str) -> Error {
    Error::Checksum {
        what: "the repaired dump".into(),
        expected: format!("the {} of {name}", wanted.algorithm.id()),
        found: "another one; nothing was kept".into(),
    }
}

impl RepairedReport {
    /// The command that makes most sense now.
    pub fn next(&self) -> Option<String> {
        let target = quoted(&native::text(self.target.as_ref()?));
        let against: String = self.against.iter().map(|a| format!(" --against {}", quoted(a))).collect();
        Some(format!("decanter verify {target}{against}"))
    }

    /// Sectors that copies differ in or lack, in words.
    pub fn differing(&self) -> String {
        let sectors: u64 = self.stretches.iter().map(|s| s.count).sum();
        let places = tell::count(self.stretch_count as u64, "place", "places");
        format!("{} of {} sectors, in {places}", grouped(sectors), grouped(self.sectors))
    }
}
