//! Where everything goes: a place for each file, folder and link; what cannot be read as a whole is left out.

use super::{ExtractReport, Known, LeftOut, Renamed};
use crate::grouped;
use crate::shelf::is_same;
use decanter_core::Watch;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::Digest;
use decanter_core::names::{Named, Namer};
use decanter_core::native;
use decanter_core::source::FileSource;
use decanter_core::tree::{Content, Kind, Node};
use decanter_core::{Error, SourceRef};
use std::path::{Component, Path, PathBuf};

/// A file that is going to be written.
pub(super) struct Job<'a> {
    pub(super) node: &'a Node,
    pub(super) source: &'a SourceRef,
    pub(super) to: PathBuf,
    /// Where it begins in the source, for reading in order.
    pub(super) at: u64,
    /// The digest that a description of the disc has for it.
    pub(super) expected: Option<Digest>,
}

/// Everything with its place.
pub(super) struct Plan<'a> {
    pub(super) jobs: Vec<Job<'a>>,
    pub(super) folders: Vec<(PathBuf, Option<i64>)>,
    /// Place, target, and path in the source.
    pub(super) links: Vec<(PathBuf, &'a str, &'a str)>,
    /// Everything with its place, for what else is kept of it.
    pub(super) kept: Vec<(&'a Node, PathBuf)>,
}

impl Plan<'_> {
    /// Takes those off whose files stand in `folder` already and are the same: a file has its name only once it is complete.
    /// Returns how many these are.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub(super) fn leave_what_is_there(&mut self, folder: &Path, watch: &dyn Watch) -> Result<usize, Error> {
        let is_its = |job: &Job<'_>| -> Result<bool, Error> {
            let path = folder.join(&job.to);
            let meta = std::fs::symlink_metadata(&path);
            if !meta.is_ok_and(|m| m.is_file() && m.len() == job.source.len()) {
                return Ok(false);
            }
            is_same(job.source.as_ref(), &FileSource::own(&path)?, watch)
        };
        let all = self.jobs.len();
        let mut left = Vec::new();
        for job in std::mem::take(&mut self.jobs) {
            match is_its(&job) {
                Ok(true) => {}
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                // What cannot be read is told by who copies it.
                Ok(false) | Err(_) => left.push(job),
            }
        }
        self.jobs = left;
        let links = |to: &Path| std::fs::read_link(folder.join(to)).ok();
        self.links.retain(|(to, target, _)| links(to).is_none_or(|there| there != native::path(target)));
        Ok(all - self.jobs.len())
    }
}

/// Gives everything its place, and leaves out what cannot be read as a whole.
pub(super) fn plan<'a>(wanted: &[&'a Node], known: &Known, namer: &mut Namer, report: &mut ExtractReport) -> Plan<'a> {
    let mut plan = Plan { jobs: Vec::new(), folders: Vec::new(), links: Vec::new(), kept: Vec::new() };
    for node in wanted {
        let mut place = |named: Named| {
            if named.renamed {
                report.renamed.push(Renamed { from: node.path.clone(), to: named.path.clone() });
            }
            named.path
        };
        match &node.kind {
            Kind::Folder => {
                let to = place(namer.folder(&node.path));
                plan.kept.push((node, to.clone()));
                plan.folders.push((to, node.modified));
            }
            Kind::Link(target) => plan.links.push((place(namer.file(&node.path)), target, &node.path)),
            Kind::File(_) if known.damaged.contains_key(&node.path) => {
                let why = known.damaged[&node.path].clone();
                report.left_out.push(LeftOut { path: node.path.clone(), why, is_read_error: false });
            }
            Kind::File(file) => match &file.content {
                Content::Whole(source) | Content::Locked(source) => {
                    let to = place(namer.file(&node.path));
                    let at = file.spans.first().map_or(0, |s| s.start);
                    plan.kept.push((node, to.clone()));
                    let expected = known.expected.get(&node.path).cloned();
                    plan.jobs.push(Job { node, source, to, at, expected });
                }
                Content::Cut { missing } => report.left_out.push(LeftOut {
                    path: node.path.clone(),
                    why: format!(
                        "{} of {} bytes are missing at the end of the image",
                        grouped(*missing),
                        grouped(file.len)
                    ),
                    is_read_error: false,
                }),
                Content::Broken(why) => {
                    report.left_out.push(LeftOut { path: node.path.clone(), why: why.clone(), is_read_error: false });
                }
            },
        }
    }
    // Folders that only their files name, as in archives without entries for folders.
    let mut known: std::collections::HashSet<PathBuf> = plan.folders.iter().map(|(p, _)| p.clone()).collect();
    let places = plan.jobs.iter().map(|j| &j.to).chain(plan.links.iter().map(|(p, ..)| p));
    let mut implied: Vec<PathBuf> = places.flat_map(|p| p.ancestors().skip(1)).map(Path::to_owned).collect();
    implied.retain(|p| !p.as_os_str().is_empty() && known.insert(p.clone()));
    plan.folders.extend(implied.into_iter().map(|p| (p, None)));
    plan.folders.sort();
    plan
}

/// Bytes that will take room, holes aside.
pub(super) fn solid_bytes(jobs: &[Job<'_>]) -> Result<u64, Error> {
    jobs.iter().map(|j| decanter_core::pour::bytes_to_write(&Blueprint::of(j.source.clone()))).sum()
}

/// Links that may lead from one to the next.
const MOST_LINKS: usize = 40;

/// Whether a link at `path` to `target` stays below the output folder, whatever other links that go there, or that are
/// there already, lie on its way.
pub(super) fn leads_inside(path: &Path, target: &str, links: &[(PathBuf, &str, &str)], root: &Path) -> bool {
    let mut at: PathBuf = path.parent().unwrap_or(Path::new("")).to_owned();
    let mut left: Vec<PathBuf> = Path::new(target).components().rev().map(|c| PathBuf::from(c.as_os_str())).collect();
    let mut followed = 0;
    while let Some(part) = left.pop() {
        match part.components().next() {
            Some(Component::Normal(name)) => at.push(name),
            Some(Component::CurDir) | None => continue,
            Some(Component::ParentDir) if at.pop() => continue,
            _ => return false,
        }
        let planned = links.iter().find(|(place, ..)| *place == at).map(|(_, to, _)| PathBuf::from(to));
        if let Some(next) = planned.or_else(|| std::fs::read_link(root.join(&at)).ok()) {
            followed += 1;
            if followed > MOST_LINKS {
                return false;
            }
            at.pop();
            left.extend(next.components().rev().map(|c| PathBuf::from(c.as_os_str())));
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[cfg(unix)]
    #[test]
    fn links_that_lead_out_are_known() {
        let folder = tempfile::tempdir().unwrap();
        let links = |all: &[(&'static str, &'static str)]| -> Vec<(PathBuf, &'static str, &'static str)> {
            all.iter().map(|(path, to)| (PathBuf::from(path), *to, *path)).collect()
        };
        let inside = |path: &str, to: &str, all: &[(&'static str, &'static str)]| {
            leads_inside(Path::new(path), to, &links(all), folder.path())
        };
        assert!(inside("a/b/link", "../c", &[]) && inside("a/link", "./b/../c", &[]));
        assert!(!inside("a/link", "../../c", &[]) && !inside("link", "/etc/passwd", &[]));
        assert!(!inside("a/link", "../../a/x", &[]));
        // A chain: the first leads to the top, the second through it and out.
        let chain = [("a/up", "..")];
        assert!(inside("a/up", "..", &chain) && !inside("out", "a/up/../etc", &chain));
        assert!(inside("in", "a/up/b", &chain));
        let ring = [("x", "y"), ("y", "x")];
        assert!(!inside("x", "y", &ring));
        std::os::unix::fs::symlink("/etc", folder.path().join("there")).unwrap();
        assert!(!inside("link", "there/passwd", &[]), "what is there already counts");
    }
}
