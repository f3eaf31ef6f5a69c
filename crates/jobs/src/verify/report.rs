//! What came of verifying: a verdict for each source, and everything that it rests on.

use super::Suspect;
use super::catalogue::MatchReport;
use super::verdict::{Findings, Verdict};
use crate::rom::RomReport;
use crate::{Answer, Item};
use decanter_core::Notice;
use decanter_core::digest::Digest;
use serde::Serialize;

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
    /// What the verdict follows from.
    #[serde(skip)]
    pub(super) findings: Findings,
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
    pub(super) fn new(path: String, state: FileState, bytes: u64) -> Self {
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

impl Counts {
    /// How many of these files have which state.
    pub(super) fn of(files: &[FileReport]) -> Self {
        let mut counts = Self::default();
        for file in files {
            let count = match file.state {
                FileState::Match => &mut counts.matching,
                FileState::Differs => &mut counts.differing,
                FileState::Missing => &mut counts.missing,
                FileState::Unexpected => &mut counts.unexpected,
                FileState::Unreadable => &mut counts.unreadable,
                FileState::Locked => &mut counts.locked,
            };
            *count += 1;
        }
        counts
    }
}

impl VerifyReport {
    /// One of which nothing is known but where it is and what was noticed. `next` is what to do if all is well.
    pub(super) fn of(item: &Item, next: String) -> Self {
        Self {
            source: item.address.clone(),
            against: None,
            verdict: Verdict::Nothing,
            counts: Counts::default(),
            files: Vec::new(),
            rom: None,
            roms: Vec::new(),
            seals: Vec::new(),
            is_row: false,
            ranges: Vec::new(),
            digests: Vec::new(),
            proofs: Vec::new(),
            next,
            notices: item.notices().to_vec(),
            findings: Findings::default(),
        }
    }

    /// Yes or no.
    pub fn answer(&self) -> Answer {
        match self.verdict {
            good if good.is_good() => Answer::Yes,
            _ if self.files.iter().any(|f| f.is_read_error) => Answer::ReadError,
            _ => Answer::No,
        }
    }
}

/// What came of one digest, or of one thing that headers say of each other.
#[derive(Debug, Serialize)]
pub struct SealReport {
    /// The stretch it belongs to: "content 0", "the game"; empty for what is of the whole.
    pub of: String,
    /// What was sealed.
    pub name: String,
    /// Where it begins in that stretch, and how many bytes it has; `None` for what takes headers only.
    pub range: Option<(u64, u64)>,
    /// What came of it.
    pub state: SealState,
    /// More on that.
    pub note: Option<String>,
    /// What is hit, as far as blocks tell: files, or further damage.
    pub files: Vec<String>,
    /// What it means if it does not hold; `None` if it means nothing to those who load it.
    pub matters: Option<&'static str>,
    /// Whether a digest of content was compared, and not only what a structure says of itself.
    #[serde(skip)]
    pub is_digest: bool,
}

/// What came of a digest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum SealState {
    /// It holds.
    Holds,
    /// It does not.
    Differs,
    /// The source ends before.
    Cut,
    /// The key is missing or wrong.
    Locked,
}
