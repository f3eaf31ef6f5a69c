//! From a plan to single steps, each checked before the first is taken.

use super::archives::{Pack, PutIn, TakeOut, Unpack, aside};
use super::plan::{Move, Plan, SCHEMA};
use super::repack::{Build, Group, Part};
use super::step::Step;
use crate::cellar::scan::stamp;
use crate::{Failure, Setting, toml_text};
use decanter_core::native;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};

/// A file that stays, and why.
pub(super) struct Stays {
    pub(super) path: String,
    pub(super) why: String,
}

/// A plan as it was read: everything with its line.
pub(super) struct Lines {
    pub(super) moves: Vec<(usize, Move)>,
    pub(super) unpack: Vec<(usize, Unpack)>,
    pub(super) pack: Vec<(usize, Pack)>,
}

/// A plan as it will be done.
#[derive(Default)]
pub(super) struct Laid {
    /// What is made first.
    pub(super) groups: Vec<Group>,
    /// What is moved then.
    pub(super) steps: Vec<Step>,
    pub(super) stays: Vec<Stays>,
}

impl Lines {
    /// The places that it is about.
    pub(super) fn places(&self) -> BTreeSet<PathBuf> {
        let moves = self.moves.iter().map(|(_, one)| &one.place);
        let unpack = self.unpack.iter().map(|(_, one)| &one.place);
        let pack = self.pack.iter().map(|(_, one)| &one.place);
        moves.chain(unpack).chain(pack).map(|place| native::path(place)).collect()
    }

    /// Everything that is read: line, place, name.
    fn froms(&self) -> impl Iterator<Item = (usize, &str, &str)> {
        let moves = self.moves.iter().map(|(line, one)| (*line, one.place.as_str(), one.from.as_str()));
        let unpack = self.unpack.iter().map(|(line, one)| (*line, one.place.as_str(), one.from.as_str()));
        let pack = self
            .pack
            .iter()
            .flat_map(|(line, one)| one.files.iter().map(move |file| (*line, one.place.as_str(), file.from.as_str())));
        moves.chain(unpack).chain(pack)
    }

    /// Everything that gets a name: line, place, name.
    fn tos(&self) -> impl Iterator<Item = (usize, &str, &str)> {
        let moves = self.moves.iter().map(|(line, one)| (*line, one.place.as_str(), one.to.as_str()));
        let unpack = self
            .unpack
            .iter()
            .flat_map(|(line, one)| one.files.iter().map(move |file| (*line, one.place.as_str(), file.to.as_str())));
        let pack = self.pack.iter().map(|(line, one)| (*line, one.place.as_str(), one.to.as_str()));
        moves.chain(unpack).chain(pack)
    }
}

/// Reads a plan.
pub(super) fn read(path: &Path, setting: &Setting<'_>) -> Result<Lines, Failure> {
    let what = format!("cannot use the plan \"{}\"", native::text(path));
    let text = setting.guard.read_text(path).map_err(|e| Failure::new(what.clone(), e))?;
    let wrong = |why: String| Failure::usage(what.clone(), why).hint("correct the line, or make a new plan");
    let plan: Plan = toml_text::parse(&text).map_err(wrong)?;
    if plan.schema != SCHEMA {
        return Err(wrong(format!("its layout is \"{}\", and this program knows \"{SCHEMA}\"", plan.schema)));
    }
    let line = |at: usize| text.as_bytes()[..at.min(text.len())].iter().filter(|b| **b == b'\n').count() + 1;
    Ok(Lines {
        moves: plan.moves.into_iter().map(|one| (line(one.span().start), one.into_inner())).collect(),
        unpack: plan.unpack.into_iter().map(|one| (line(one.span().start), one.into_inner())).collect(),
        pack: plan.pack.into_iter().map(|one| (line(one.span().start), one.into_inner())).collect(),
    })
}

/// What is wrong with a line.
type Wrong<'a> = &'a dyn Fn(usize, String) -> Failure;

/// Checks every line of a plan, and lays its steps out. `roots` are the places of the cellar. Files that have changed since
/// the plan was made stay, and so do those that are not there.
pub(super) fn lay(plan: &Path, lines: &Lines, roots: &[String]) -> Result<Laid, Failure> {
    let what = format!("cannot apply the plan \"{}\"", native::text(plan));
    let wrong = |line: usize, why: String| {
        let hint = "correct the line, or take it out; nothing was moved";
        Failure::usage(what.clone(), format!("line {line}: {why}")).hint(hint)
    };
    let (mut froms, mut tos) = (HashSet::new(), HashMap::new());
    for (name, all) in [("from", lines.froms().collect::<Vec<_>>()), ("to", lines.tos().collect())] {
        for (line, place, path) in all {
            check_name(name, path).map_err(|why| wrong(line, why))?;
            if !roots.iter().any(|root| root == place) {
                return Err(wrong(line, format!("the cellar knows no place \"{place}\"")));
            }
            let path_of = whole(place, path);
            if name == "from" && !froms.insert(path_of.clone()) {
                return Err(wrong(line, format!("\"{path}\" is moved twice")));
            }
            if name == "to"
                && let Some(other) = tos.insert(native::text(&path_of).to_lowercase(), line)
            {
                return Err(wrong(line, format!("\"{path}\" is the name that line {other} gives, too")));
            }
        }
    }
    let mut laid = Laid::default();
    lay_groups(lines, &wrong, &mut laid)?;
    lay_moves(&lines.moves, &froms, &wrong, &mut laid)?;
    Ok(laid)
}

/// Fails for a name that is none below a place.
fn check_name(name: &str, path: &str) -> Result<(), String> {
    if path.is_empty() || path.ends_with('/') {
        return Err(format!("\"{name}\" names no file"));
    }
    let is_odd = |part: &str| part == ".." || part == "." || part.is_empty();
    match path.starts_with('/') || path.contains('\0') || path.split('/').any(is_odd) {
        true => Err(format!("{name} = \"{path}\" leads out of its place")),
        false => Ok(()),
    }
}

/// Lays out what is made of archives, and what becomes one.
fn lay_groups(lines: &Lines, wrong: Wrong<'_>, laid: &mut Laid) -> Result<(), Failure> {
    let unpack = lines.unpack.iter().map(|(line, one)| {
        let archive = native::text(whole(&one.place, &one.from));
        let build = |file: &TakeOut| Build {
            target: native::text(whole(&one.place, &file.to)),
            is_archive: false,
            parts: vec![Part {
                address: format!("{archive}::{}", file.name),
                name: file.name.clone(),
                sha1: file.sha1.clone(),
            }],
        };
        let names = one.files.iter().map(|file| file.to.as_str()).collect();
        (*line, &one.place, one.files.iter().map(build).collect(), names, vec![(&one.from, one.bytes, one.modified)])
    });
    let pack = lines.pack.iter().map(|(line, one)| {
        let part = |file: &PutIn| Part {
            address: native::text(whole(&one.place, &file.from)),
            name: file.name.clone(),
            sha1: file.sha1.clone(),
        };
        let parts = one.files.iter().map(part).collect();
        let build = Build { target: native::text(whole(&one.place, &one.to)), is_archive: true, parts };
        let aside = one.files.iter().map(|file| (&file.from, file.bytes, file.modified)).collect();
        (*line, &one.place, vec![build], vec![one.to.as_str()], aside)
    });
    type Row<'a> = (usize, &'a String, Vec<Build>, Vec<&'a str>, Vec<(&'a String, u64, i64)>);
    let all: Vec<Row<'_>> = unpack.chain(pack).collect();
    'groups: for (line, place, builds, names, originals) in all {
        if builds.is_empty() || builds.iter().any(|build| build.parts.is_empty()) {
            return Err(wrong(line, "it names no file that is put in or taken out".into()));
        }
        for part in builds.iter().flat_map(|build| &build.parts) {
            check_name("name", &part.name).map_err(|why| wrong(line, why))?;
            if part.sha1.len() != 40 || !part.sha1.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f')) {
                return Err(wrong(line, format!("sha1 = \"{}\" is none: it has 40 digits", part.sha1)));
            }
        }
        let aside: Vec<(String, String)> = originals.iter().map(|(from, ..)| ((*from).clone(), aside(from))).collect();
        for to in names.iter().copied().chain(aside.iter().map(|(_, to)| to.as_str())) {
            check_free(place, to, line, wrong)?;
        }
        for (from, bytes, modified) in &originals {
            let path = whole(place, from);
            if let Some(why) = changed(&path, *bytes, *modified, from).map_err(|why| wrong(line, why))? {
                laid.stays.push(Stays { path: native::text(&path), why });
                continue 'groups;
            }
        }
        let text = |below: &str| native::text(whole(place, below));
        let aside = aside.iter().map(|(from, to)| (text(from), text(to))).collect();
        laid.groups.push(Group { builds, aside });
    }
    Ok(())
}

/// Fails for a name that something has, or that leads through a link.
fn check_free(place: &str, to: &str, line: usize, wrong: Wrong<'_>) -> Result<(), Failure> {
    if let Some(link) = link_on_the_way(&native::path(place), to) {
        return Err(wrong(line, format!("\"{to}\" leads through {link}, which is no folder of the place")));
    }
    match std::fs::symlink_metadata(whole(place, to)) {
        Ok(_) => Err(wrong(line, format!("something stands at \"{to}\" already"))),
        Err(_) => Ok(()),
    }
}

/// Why a file is not what it was when the plan was made, if it is not.
fn changed(path: &Path, bytes: u64, modified: i64, shown: &str) -> Result<Option<String>, String> {
    match std::fs::symlink_metadata(path) {
        Ok(meta) if !meta.is_file() => Err(format!("\"{shown}\" is no file")),
        Ok(meta) => {
            let now = stamp(&meta);
            let is_same = (now.size, now.modified) == (bytes, modified);
            Ok((!is_same).then(|| "it has changed since the plan was made".to_owned()))
        }
        Err(e) => Ok(Some(format!("it cannot be looked at: {e}"))),
    }
}

/// Lays out what is moved.
fn lay_moves(
    moves: &[(usize, Move)],
    froms: &HashSet<PathBuf>,
    wrong: Wrong<'_>,
    laid: &mut Laid,
) -> Result<(), Failure> {
    let mut ready = Vec::new();
    let stays = &mut laid.stays;
    for (line, one) in moves {
        let (from, to) = (whole(&one.place, &one.from), whole(&one.place, &one.to));
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
        match changed(&from, one.bytes, one.modified, &one.from).map_err(|why| wrong(*line, why))? {
            None => ready.push((from, to)),
            Some(why) => stays.push(Stays { path: native::text(&from), why }),
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
    laid.steps = steps(ready);
    Ok(())
}

fn whole(place: &str, below: &str) -> PathBuf {
    native::path(place).join(native::path(below))
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
