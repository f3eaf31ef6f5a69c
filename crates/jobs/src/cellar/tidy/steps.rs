//! From a plan to single steps, each checked before the first is taken.

use super::plan::{Move, Plan, SCHEMA};
use crate::cellar::scan::stamp;
use crate::{Failure, Setting, toml_text};
use decanter_core::native;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

/// One renaming.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Step {
    pub(super) from: PathBuf,
    pub(super) to: PathBuf,
}

/// A file that stays, and why.
pub(super) struct Stays {
    pub(super) path: String,
    pub(super) why: String,
}

/// A plan as it was read: each move with its line.
pub(super) fn read(path: &Path, setting: &Setting<'_>) -> Result<Vec<(usize, Move)>, Failure> {
    let what = format!("cannot use the plan \"{}\"", native::text(path));
    let text = setting.guard.read_text(path).map_err(|e| Failure::new(what.clone(), e))?;
    let wrong = |why: String| Failure::usage(what.clone(), why).hint("correct the line, or make a new plan");
    let plan: Plan = toml_text::parse(&text).map_err(wrong)?;
    if plan.schema != SCHEMA {
        return Err(wrong(format!("its layout is \"{}\", and this program knows \"{SCHEMA}\"", plan.schema)));
    }
    let line = |at: usize| text.as_bytes()[..at.min(text.len())].iter().filter(|b| **b == b'\n').count() + 1;
    Ok(plan.moves.into_iter().map(|one| (line(one.span().start), one.into_inner())).collect())
}

/// Checks every line of a plan, and lays its steps out. `roots` are the places of the cellar. Files that have changed since
/// the plan was made stay, and so do those that are not there.
pub(super) fn lay(plan: &Path, moves: &[(usize, Move)], roots: &[String]) -> Result<(Vec<Step>, Vec<Stays>), Failure> {
    let what = format!("cannot apply the plan \"{}\"", native::text(plan));
    let wrong = |line: usize, why: String| {
        let hint = "correct the line, or take it out; nothing was moved";
        Failure::usage(what.clone(), format!("line {line}: {why}")).hint(hint)
    };
    let (mut froms, mut tos) = (HashSet::new(), HashMap::new());
    for (line, one) in moves {
        for (name, path) in [("from", &one.from), ("to", &one.to)] {
            if path.is_empty() || path.ends_with('/') {
                return Err(wrong(*line, format!("\"{name}\" names no file")));
            }
            let is_odd = |part: &str| part == ".." || part == "." || part.is_empty();
            if path.starts_with('/') || path.contains('\0') || path.split('/').any(is_odd) {
                return Err(wrong(*line, format!("{name} = \"{path}\" leads out of its place")));
            }
        }
        if !roots.contains(&one.place) {
            return Err(wrong(*line, format!("the cellar knows no place \"{}\"", one.place)));
        }
        if !froms.insert(whole(one, &one.from)) {
            return Err(wrong(*line, format!("\"{}\" is moved twice", one.from)));
        }
        if let Some(other) = tos.insert(native::text(whole(one, &one.to)).to_lowercase(), line) {
            return Err(wrong(*line, format!("\"{}\" is the name that line {other} gives, too", one.to)));
        }
    }
    let (mut ready, mut stays) = (Vec::new(), Vec::new());
    for (line, one) in moves {
        let (from, to) = (whole(one, &one.from), whole(one, &one.to));
        if from == to {
            continue;
        }
        if let Some(link) = link_on_the_way(&native::path(&one.place), &one.to) {
            return Err(wrong(*line, format!("\"{}\" leads through {link}, which is no folder of the place", one.to)));
        }
        let is_same = same_file(&from, &to);
        if std::fs::symlink_metadata(&to).is_ok() && !froms.contains(&to) && !is_same {
            return Err(wrong(*line, format!("something stands at \"{}\" already", one.to)));
        }
        match std::fs::symlink_metadata(&from) {
            Ok(meta) if !meta.is_file() => {
                return Err(wrong(*line, format!("\"{}\" is no file", one.from)));
            }
            Ok(meta) => {
                let now = stamp(&meta);
                match (now.size, now.modified) == (one.bytes, one.modified) {
                    true => ready.push((from, to)),
                    false => stays.push(Stays {
                        path: native::text(&from),
                        why: "it has changed since the plan was made".into(),
                    }),
                }
            }
            Err(e) => stays.push(Stays { path: native::text(&from), why: format!("it cannot be looked at: {e}") }),
        }
    }
    // What stays keeps its name, and whoever should get that stays, too.
    loop {
        let kept: HashSet<String> = stays.iter().map(|s| s.path.clone()).collect();
        let before = ready.len();
        ready.retain(|(from, to)| {
            let is_free = !kept.contains(&native::text(to));
            if !is_free {
                stays.push(Stays { path: native::text(from), why: format!("{} stays", native::text(to)) });
            }
            is_free
        });
        if ready.len() == before {
            break;
        }
    }
    Ok((steps(ready), stays))
}

fn whole(one: &Move, below: &str) -> PathBuf {
    native::path(&one.place).join(native::path(below))
}

/// The first thing on the way below a place that is there and no folder: a link leads anywhere.
fn link_on_the_way(root: &Path, below: &str) -> Option<String> {
    let mut path = root.to_owned();
    let mut parts: Vec<&str> = below.split('/').collect();
    parts.pop();
    parts.into_iter().find_map(|part| {
        path.push(native::path(part));
        let meta = std::fs::symlink_metadata(&path).ok()?;
        (!meta.is_dir()).then(|| native::text(&path))
    })
}

/// Whether two names are one file: on file systems that take `a` for `A`.
fn same_file(one: &Path, other: &Path) -> bool {
    let id =
        |path: &Path| std::fs::symlink_metadata(path).ok().and_then(|meta| decanter_core::os::device_and_number(&meta));
    native::text(one).to_lowercase() == native::text(other).to_lowercase() && id(one).is_some() && id(one) == id(other)
}

/// Files that change names with each other go through a name between.
fn steps(ready: Vec<(PathBuf, PathBuf)>) -> Vec<Step> {
    let froms: HashSet<PathBuf> = ready.iter().map(|(from, _)| from.clone()).collect();
    let (mut first, mut last) = (Vec::new(), Vec::new());
    for (number, (from, to)) in ready.into_iter().enumerate() {
        let is_awaited = froms.contains(&to) || same_file(&from, &to);
        match is_awaited {
            true => {
                let name = format!(".tidy-{number}-{:08x}", crc32fast::hash(to.as_os_str().as_encoded_bytes()));
                let between = from.with_file_name(name);
                first.push(Step { from, to: between.clone() });
                last.push(Step { from: between, to });
            }
            false => first.push(Step { from, to }),
        }
    }
    // A name is free once the file that has it has gone to its own.
    first.extend(last);
    first
}
