//! The journal of a plan: what is to be done, and what was done of it.

use super::repack::Group;
use super::step::Step;
use super::steps::Laid;
use crate::cellar::Unread;
use decanter_core::{Error, native};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What the journal says.
#[derive(Default)]
pub(super) struct Done {
    /// The steps, in their order.
    pub(super) steps: Vec<Step>,
    /// Folders as they were before.
    pub(super) folders: BTreeMap<PathBuf, (i64, Option<u32>)>,
    /// Folders that were made.
    pub(super) made: BTreeSet<PathBuf>,
    /// What is made, before any step.
    pub(super) groups: Vec<Group>,
    /// What came of each group, by its number: done, or left as it was.
    pub(super) ended: BTreeMap<usize, bool>,
    pub(super) stays: Vec<Unread>,
    pub(super) is_begun: bool,
    pub(super) is_over: bool,
    pub(super) is_undoing: bool,
}

/// The journal of a plan.
pub(super) fn journal_of(plan: &Path) -> PathBuf {
    let mut name = plan.as_os_str().to_owned();
    name.push(".journal");
    name.into()
}

impl Done {
    /// A plan of which nothing was done yet.
    pub(super) fn laid(laid: Laid) -> Self {
        let stays = laid.stays.into_iter().map(|s| Unread { path: s.path, why: s.why }).collect();
        Self { steps: laid.steps, groups: laid.groups, stays, is_begun: true, ..Self::default() }
    }

    /// The groups of which everything is made.
    pub(super) fn built(&self) -> impl Iterator<Item = &Group> {
        let is_built = |(number, _): &(usize, &Group)| self.ended.get(number) == Some(&true);
        self.groups.iter().enumerate().filter(is_built).map(|(_, group)| group)
    }

    /// Reads the lines of a journal: JSON, one object a line.
    pub(super) fn of(lines: &[String]) -> decanter_core::Result<Self> {
        let mut done = Self::default();
        for (number, line) in (1..).zip(lines) {
            let wrong = || Error::Unreadable { why: format!("line {number} of the journal makes no sense") };
            let value: serde_json::Value = serde_json::from_str(line).map_err(|_| wrong())?;
            let text = |name: &str| value.get(name).and_then(|v| v.as_str()).map(str::to_owned).ok_or_else(wrong);
            match value.get("what").and_then(|v| v.as_str()) {
                Some("step") => {
                    done.steps.push(Step { from: native::path(&text("from")?), to: native::path(&text("to")?) });
                }
                Some("folder") => {
                    let modified = value.get("modified").and_then(serde_json::Value::as_i64).ok_or_else(wrong)?;
                    let mode = value.get("mode").and_then(serde_json::Value::as_u64).and_then(|m| m.try_into().ok());
                    done.folders.insert(native::path(&text("path")?), (modified, mode));
                }
                Some("make") => {
                    done.made.insert(native::path(&text("path")?));
                }
                Some("group") => {
                    let group = value.get("group").cloned().ok_or_else(wrong)?;
                    done.groups.push(serde_json::from_value(group).map_err(|_| wrong())?);
                }
                Some(ended @ ("built" | "left")) => {
                    let number = value.get("number").and_then(serde_json::Value::as_u64).ok_or_else(wrong)?;
                    done.ended.insert(number as usize, ended == "built");
                }
                Some("stays") => done.stays.push(Unread { path: text("path")?, why: text("why")? }),
                Some("begin") => done.is_begun = true,
                Some("applied") => done.is_over = true,
                Some("undo") => done.is_undoing = true,
                _ => return Err(wrong()),
            }
        }
        Ok(done)
    }

    /// As lines, up to where the work begins.
    pub(super) fn lines(&self) -> Vec<String> {
        let mut lines = Vec::new();
        let text = |path: &Path| native::text(path);
        for (path, (modified, mode)) in &self.folders {
            let row = serde_json::json!({ "what": "folder", "path": text(path), "modified": modified, "mode": mode });
            lines.push(row.to_string());
        }
        lines.extend(self.made.iter().map(|p| serde_json::json!({ "what": "make", "path": text(p) }).to_string()));
        lines.extend(self.groups.iter().map(|g| serde_json::json!({ "what": "group", "group": g }).to_string()));
        for step in &self.steps {
            let row = serde_json::json!({ "what": "step", "from": text(&step.from), "to": text(&step.to) });
            lines.push(row.to_string());
        }
        let row = |s: &Unread| serde_json::json!({ "what": "stays", "path": s.path, "why": s.why }).to_string();
        lines.extend(self.stays.iter().map(row));
        // Without this line nothing was begun: the steps may not all be here.
        lines.push(serde_json::json!({ "what": "begin" }).to_string());
        lines
    }
}
