//! The keys that are known, and which of them serves which source.

use crate::locate::Around;
use crate::{Failure, Setting, locate};
use decanter_core::keyring::EntryReport;
use decanter_core::protection::KeyState;
use serde::Serialize;

/// What is known of keys; never their values.
#[derive(Debug, Serialize)]
pub struct KeysReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// Every key that is known.
    pub keys: Vec<EntryReport>,
    /// Places that were looked into.
    pub looked: Vec<String>,
    /// Lines of key lists that could not be read.
    pub unreadable: Vec<String>,
    /// Which of them serves which source.
    pub sources: Vec<SourceKey>,
}

/// The key of one source.
#[derive(Debug, Serialize)]
pub struct SourceKey {
    /// The source.
    pub source: String,
    /// Its id.
    pub id: Option<String>,
    /// One of "not needed", "found", "missing", "wrong", "unproven".
    pub state: &'static str,
    /// Where the key was found.
    pub origin: Option<String>,
    /// What proves it right.
    pub proof: Option<String>,
    /// What is needed, where it is missing.
    pub need: Option<String>,
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
            id: item.opened.get("id").map(str::to_owned),
            state: "not needed",
            origin: None,
            proof: None,
            need: None,
        };
        match item.opened.protection.map(|p| p.key) {
            Some(KeyState::Found { origin, proof }) => {
                report.state = if proof.is_some() { "found" } else { "unproven" };
                (report.origin, report.proof) = (Some(origin), proof);
            }
            Some(KeyState::Trouble(trouble)) => {
                report.state = if trouble.wrong.is_empty() { "missing" } else { "wrong" };
                report.need = Some(trouble.need);
            }
            _ => {}
        }
        reports.push(report);
        ring = item.keyring;
    }
    Ok(KeysReport {
        schema: "decanter.keys/1",
        keys: ring.report(),
        looked: ring.looked().to_vec(),
        unreadable: ring.unreadable.clone(),
        sources: reports,
    })
}
