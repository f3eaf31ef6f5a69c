//! The keys that are known, and which of them serves which source.

use crate::locate::Around;
use crate::{Failure, Setting, locate};
use decanter_core::keyring::EntryReport;
use decanter_core::protection::KeyState;
use decanter_formats::package::{nx, ps3, ps4};
use decanter_formats::record::xex;
use serde::Serialize;

/// What is known of keys; never their values.
#[derive(Debug, Serialize)]
pub struct KeysReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// Every key that is known.
    pub keys: Vec<KnownKey>,
    /// Places that were looked into.
    pub looked: Vec<String>,
    /// Lines of key lists that could not be read.
    pub unreadable: Vec<String>,
    /// Which of them serves which source.
    pub sources: Vec<SourceKey>,
}

/// A key that is known.
#[derive(Debug, Serialize)]
pub struct KnownKey {
    /// Its name, length and origin.
    #[serde(flatten)]
    pub entry: EntryReport,
    /// What it opens, where its name is one that a platform's lists have.
    pub opens: Option<String>,
}

/// The key of one source.
#[derive(Debug, Serialize)]
pub struct SourceKey {
    /// The source.
    pub source: String,
    /// Its id.
    pub id: Option<String>,
    /// How it stands with it.
    pub state: Standing,
    /// Where the key was found.
    pub origin: Option<String>,
    /// What proves it right.
    pub proof: Option<String>,
    /// What is needed, where it is missing.
    pub need: Option<String>,
}

/// How it stands with the key of a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Standing {
    /// Nothing is encrypted.
    #[serde(rename = "not needed")]
    NotNeeded,
    /// It was found, and is proven.
    Found,
    /// It was found, and nothing proves it.
    Unproven,
    /// It was found nowhere.
    Missing,
    /// What was found is another one.
    Wrong,
}

impl Standing {
    /// The same in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::NotNeeded => "not needed",
            Self::Found => "found",
            Self::Unproven => "unproven",
            Self::Missing => "missing",
            Self::Wrong => "wrong",
        }
    }
}

/// Reports the keys that are known, and which of them fits which of `sources`.
///
/// # Errors
/// When a source cannot be opened.
pub fn keys(sources: &[String], setting: &Setting<'_>) -> Result<KeysReport, Failure> {
    let mut ring = Around::default().keyring(setting);
    let mut reports = Vec::new();
    for shown in sources {
        let item = locate::open(shown, "look for the key of", setting)?;
        let mut report = SourceKey {
            source: item.address.clone(),
            id: item.opened.identity.id.clone(),
            state: Standing::NotNeeded,
            origin: None,
            proof: None,
            need: None,
        };
        match item.opened.protection.map(|p| p.key) {
            Some(KeyState::Found { origin, proof }) => {
                report.state = if proof.is_some() { Standing::Found } else { Standing::Unproven };
                (report.origin, report.proof) = (Some(origin), proof);
            }
            Some(KeyState::Trouble(trouble)) => {
                report.state = if trouble.wrong.is_empty() { Standing::Missing } else { Standing::Wrong };
                report.need = Some(trouble.need);
            }
            Some(KeyState::NotNeeded) | None => {}
        }
        reports.push(report);
        ring = item.keyring;
    }
    Ok(KeysReport {
        schema: "decanter.keys/1",
        keys: ring.report().into_iter().map(known).collect(),
        looked: ring.looked().to_vec(),
        unreadable: ring.unreadable.clone(),
        sources: reports,
    })
}

/// A key with what it opens.
fn known(entry: EntryReport) -> KnownKey {
    let families = [nx::keys::meaning, ps3::keys::meaning, ps4::keys::meaning];
    let opens = families.iter().find_map(|meaning| meaning(&entry.name)).or_else(|| {
        (entry.name.eq_ignore_ascii_case(xex::KEY)).then(|| "programs (XEX): their names and pictures".into())
    });
    KnownKey { opens, entry }
}
