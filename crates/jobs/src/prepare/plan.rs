//! Plans: what would be made of what, as a text that people read, change and follow.

use super::profile::StartRules;
use super::ways::{COPY, DECRYPT, EXTRACT, Keeps, MERGE};
use crate::convert::table;
use crate::toml_text::{self, nearest_or_all};
use crate::{Failure, Setting, locate};
use decanter_core::source::read_vec;
use decanter_core::store::{self, MetKind};
use decanter_core::{Error, native};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::ErrorKind;
use std::path::Path;
use std::time::UNIX_EPOCH;

/// The version of the text that is read and written.
pub(super) const VERSION: u32 = 1;
/// The longest plan that is read, in bytes: some hundred thousand sources.
const MOST: u64 = 256 << 20;
const HEAD: &str = "\
# A plan: what is made of what, and where it goes. Follow it with
#   decanter prepare --follow PLAN --onto CARD
# Every [[make]] may be taken out, or given another path; nothing else has to be changed.
# Sources stand as seen from the folder of this file. Sizes of what is packed are estimates.

";

/// What would be made of what.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Plan {
    /// Version of this text.
    pub plan: u32,
    /// The profile that it was made for.
    pub profile: String,
    /// The most bytes of one file there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub largest_file: Option<u64>,
    /// Bytes that are left free there.
    #[serde(default)]
    pub leave: u64,
    /// How results are started.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<StartRules>,
    /// What is made.
    #[serde(default)]
    pub make: Vec<Make>,
    /// What is not, and why.
    #[serde(default)]
    pub left_out: Vec<LeftOut>,
}

/// One thing that is made.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Make {
    /// The source.
    pub source: String,
    /// Bytes that are read of it.
    pub bytes: u64,
    /// Bytes of the file that the source is, or is in.
    pub file_bytes: u64,
    /// When that was written, in seconds since 1970; 0 where nothing tells.
    pub modified: i64,
    /// The platform.
    pub platform: String,
    /// What it is called.
    pub title: String,
    /// What is done, one after the other.
    pub way: Vec<String>,
    /// Options of the last stage.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub with: BTreeMap<String, String>,
    /// Where it goes, below the card.
    pub path: String,
    /// Bytes of the result, about.
    pub about_bytes: u64,
    /// What it keeps.
    pub keeps: Keeps,
    /// What is left to do on the machine.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub then: String,
    /// Further sources that go into the same result.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub more: Vec<More>,
}

/// A further source, as [`Make`] has its first one.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct More {
    /// The source.
    pub source: String,
    /// Bytes of the file that the source is, or is in.
    pub file_bytes: u64,
    /// When that was written, in seconds since 1970; 0 where nothing tells.
    pub modified: i64,
}

impl Make {
    /// All of its sources.
    pub(super) fn sources(&self) -> impl Iterator<Item = (&str, u64, i64)> {
        let first = (self.source.as_str(), self.file_bytes, self.modified);
        std::iter::once(first)
            .chain(self.more.iter().map(|more| (more.source.as_str(), more.file_bytes, more.modified)))
    }

    fn sources_mut(&mut self) -> impl Iterator<Item = &mut String> {
        std::iter::once(&mut self.source).chain(self.more.iter_mut().map(|more| &mut more.source))
    }
}

/// Something that is not made.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LeftOut {
    /// The source.
    pub source: String,
    /// Why.
    pub why: String,
    /// What would help.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

impl Plan {
    /// As it is written, for a file in `folder`.
    ///
    /// # Errors
    /// When the folder that we work in cannot be told.
    pub(super) fn text(&self, folder: &Path) -> Result<String, std::io::Error> {
        let mut own = self.clone();
        let is_here = folder.as_os_str().is_empty() || folder == Path::new(".");
        if !is_here {
            for source in own.make.iter_mut().flat_map(Make::sources_mut) {
                *source = from_anywhere(source)?;
            }
        }
        let body = toml::to_string(&own).map_err(std::io::Error::other)?;
        Ok(format!("{HEAD}{body}"))
    }

    /// Reads one that was written.
    ///
    /// # Errors
    /// When it is none, with the line.
    pub(super) fn read(path: &str, setting: &Setting<'_>) -> Result<Self, Failure> {
        let what = format!("cannot follow \"{path}\"");
        let fail = |e| Failure::new(what.clone(), e);
        let source = locate::bytes(path, setting).map_err(fail)?;
        let bytes = read_vec(source.as_ref(), 0, source.len(), "a plan", MOST).map_err(fail)?;
        let wrong = |why: String| {
            Failure::usage(what.clone(), why)
                .hint("correct it, or make it anew: decanter prepare SOURCE --for PROFILE --plan FILE --replace")
        };
        let text = String::from_utf8(bytes).map_err(|_| wrong("it is no text in UTF-8".into()))?;
        let mut plan: Self = toml_text::parse(&text).map_err(wrong)?;
        plan.faults().into_iter().next().map_or(Ok(()), |fault| Err(wrong(fault)))?;
        let folder = store::folder_of(path).to_owned();
        for source in plan.make.iter_mut().flat_map(Make::sources_mut) {
            if !is_far(source) && !native::path(source).is_absolute() {
                *source = store::join(&folder, source);
            }
        }
        Ok(plan)
    }

    fn faults(&self) -> Vec<String> {
        let mut faults = Vec::new();
        if self.plan != VERSION {
            faults.push(format!("plan = {} is a version that is not known here; {VERSION} is", self.plan));
        }
        let mut seen = BTreeMap::new();
        for make in &self.make {
            faults.extend(make.fault());
            if let Some(other) = seen.insert(make.path.to_lowercase(), &make.source) {
                faults.push(format!("\"{other}\" and \"{}\" would both be {}", make.source, make.path));
            }
        }
        faults
    }
}

impl Make {
    fn fault(&self) -> Option<String> {
        let own = [COPY, DECRYPT, EXTRACT, MERGE];
        let leads_out = |path: &str| path.starts_with('/') || path.split('/').any(|n| matches!(n, "" | "." | ".."));
        if leads_out(&self.path) || self.path.contains('\\') {
            return Some(format!("the path \"{}\" leads out of the card, or is none", self.path));
        }
        if self.way.is_empty() {
            return Some(format!("the way of \"{}\" is empty", self.source));
        }
        let unknown = self.way.iter().find(|w| !own.contains(&w.as_str()) && table::target(w).is_none())?;
        let known: Vec<&str> = own.into_iter().chain(table::targets().map(|t| t.id)).collect();
        Some(format!("there is no stage \"{unknown}\"; {}", nearest_or_all(unknown, &known)))
    }
}

/// Whether a source is at a server.
fn is_far(source: &str) -> bool {
    source.contains("://")
}

/// The file that a source is, or is in: its length, and when it was written, in seconds since 1970; 0 where nothing tells. `None`
/// where there is none.
///
/// # Errors
/// When it cannot be looked at.
pub(super) fn file_of(source: &str, setting: &Setting<'_>) -> Result<Option<(u64, i64)>, Error> {
    let host = source.split(locate::INSIDE).next().unwrap_or(source);
    let store = setting.store(host);
    let Some(local) = store.local(host) else {
        return Ok(store.listed(host)?.map(|listed| (listed.len, listed.modified)));
    };
    match std::fs::metadata(&local) {
        Ok(meta) if meta.is_dir() => folder_of(host, setting).map(Some),
        Ok(meta) => Ok(Some(seen(&meta))),
        Err(e) if e.kind() == ErrorKind::NotFound => Ok(None),
        Err(e) => Err(Error::io("look at", &local, e)),
    }
}

/// Bytes of all files in a folder, and when the newest was written.
fn folder_of(folder: &str, setting: &Setting<'_>) -> Result<(u64, i64), Error> {
    let store = setting.store(folder);
    let (mut len, mut newest) = (0u64, 0);
    store.walk(folder, &mut |met| {
        let local = store.local(&met.path).filter(|_| matches!(met.kind, MetKind::File));
        if let Some(local) = local {
            let meta = std::fs::metadata(&local).map_err(|e| Error::io("look at", &local, e))?;
            let (own, modified) = seen(&meta);
            (len, newest) = (len.saturating_add(own), modified.max(newest));
        }
        Ok(())
    })?;
    Ok((len, newest))
}

/// Length of a file, and when it was written, in seconds since 1970; 0 where nothing tells.
fn seen(meta: &std::fs::Metadata) -> (u64, i64) {
    let since = meta.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    (meta.len(), since.map_or(0, |since| since.as_secs() as i64))
}

/// A source as it is found from everywhere.
fn from_anywhere(source: &str) -> Result<String, std::io::Error> {
    if is_far(source) {
        return Ok(source.to_owned());
    }
    let (host, inside) = source.split_once(locate::INSIDE).map_or((source, ""), |(host, inside)| (host, inside));
    let whole = native::text(std::path::absolute(native::path(host))?);
    Ok(if source.contains(locate::INSIDE) { format!("{whole}{}{inside}", locate::INSIDE) } else { whole })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn make(path: &str, way: &[&str]) -> Make {
        Make {
            source: "shelf/Moth Parade.iso".into(),
            more: Vec::new(),
            bytes: 5,
            file_bytes: 5,
            modified: 7,
            platform: "psp".into(),
            title: "Moth Parade".into(),
            way: way.iter().map(|w| (*w).to_owned()).collect(),
            with: BTreeMap::new(),
            path: path.into(),
            about_bytes: 3,
            keeps: Keeps::EveryByte,
            then: String::new(),
        }
    }

    fn plan(make: Vec<Make>) -> Plan {
        Plan {
            plan: VERSION,
            profile: "psp".into(),
            largest_file: Some(9),
            leave: 1,
            start: None,
            make,
            left_out: Vec::new(),
        }
    }

    #[test]
    fn what_is_written_is_read() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("plan.toml");
        std::fs::write(&file, plan(vec![make("ISO/a.cso", &["cso"])]).text(folder.path()).unwrap()).unwrap();
        let read = Plan::read(&native::text(&file), &Setting::new(&())).unwrap();
        assert_eq!((read.make.len(), read.make[0].path.as_str(), read.largest_file), (1, "ISO/a.cso", Some(9)));
        assert!(native::path(&read.make[0].source).is_absolute());
    }

    #[test]
    fn a_plan_that_was_changed_badly_is_told() {
        let fault = |makes: Vec<Make>| plan(makes).faults().into_iter().next().unwrap();
        for path in ["../a", "/a", "a//b", "a/./b", "", "a\\b"] {
            assert!(fault(vec![make(path, &["copy"])]).contains("leads out of the card"), "{path}");
        }
        assert!(fault(vec![make("a", &["csoo"])]).contains("the nearest one is \"cso\""));
        assert!(fault(vec![make("a", &[])]).contains("is empty"));
        assert!(fault(vec![make("a", &["copy"]), make("A", &["copy"])]).contains("would both be A"));
        assert!(plan(vec![make("x/a", &["decrypt", "cso"])]).faults().is_empty());
    }
}
