//! Copies files out, decrypting and inflating on the way: each byte is written once, and nothing else is.

use crate::attributes;
use crate::failure::with_article;
use crate::family::needs_base;
use crate::grouped;
use crate::overlay::{self, OverlayReport};
use crate::{Answer, Failure, Item, Setting, locate, place, verify};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::Digest;
use decanter_core::names::{Named, Namer};
use decanter_core::pour::{Stage, StagedFile, check_free, check_room};
use decanter_core::tree::{Content, Kind, Node, Tree};
use decanter_core::{Error, Notice, SourceRef};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use serde::Serialize;
use std::collections::HashMap;
use std::path::{Component, Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

/// What was copied out.
#[derive(Debug, Serialize)]
pub struct ExtractReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// The folder that was written.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub folder: PathBuf,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// Files written.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
    /// Bytes that the kernel copied or that stayed holes.
    pub kernel_bytes: u64,
    /// Files that could not be written under their own name.
    pub renamed: Vec<Renamed>,
    /// Files that were left out, and why.
    pub left_out: Vec<LeftOut>,
    /// What to do about them.
    pub advice: Option<String>,
    /// The text in the folder that keeps protection bits, comments and dates.
    pub attributes: Option<String>,
    /// What came of replacement files.
    pub overlay: Option<OverlayReport>,
    /// The folder with the files that they replaced.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub originals: Option<PathBuf>,
    /// The description that every file was held against, if there was one.
    pub against: Option<String>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
    /// What is wrong with the structure of the source; files may be missing for it.
    pub structure: Vec<String>,
}

/// What is asked of copying out besides the source.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Only what matches one of these.
    pub only: Vec<String>,
    /// Folders with replacement files.
    pub overlay: Vec<String>,
    /// The folder that gets what is replaced.
    pub originals: Option<PathBuf>,
    /// Fail if there is no description to hold the files against.
    pub verify: bool,
    /// Descriptions; when there are none, one that lies next to the source is taken.
    pub against: Vec<String>,
}

/// A file with another name than in the source.
#[derive(Debug, Serialize)]
pub struct Renamed {
    /// Path in the source.
    pub from: String,
    /// Path below the folder.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub to: PathBuf,
}

/// A file that was left out.
#[derive(Debug, Serialize)]
pub struct LeftOut {
    /// Path in the source.
    pub path: String,
    /// Why.
    pub why: String,
    #[serde(skip)]
    is_read_error: bool,
}

/// A file that is going to be written.
struct Job<'a> {
    node: &'a Node,
    source: &'a SourceRef,
    to: PathBuf,
    /// Where it begins in the source, for reading in order.
    at: u64,
    /// The digest that a description of the disc has for it.
    expected: Option<Digest>,
}

/// What is known of the files before they are copied.
#[derive(Default)]
struct Known {
    /// Digests by path, from a description of the disc, which is called so.
    expected: HashMap<String, Digest>,
    against: Option<String>,
    /// Files that digests in the source itself show to be damaged, and how.
    damaged: HashMap<String, String>,
    /// What is wrong with its structure.
    structure: Vec<String>,
}

/// Whether the path `own` in a part of the source is what stands at `path` in all of it.
fn is_path_of(path: &str, own: &str) -> bool {
    path.strip_suffix(own).is_some_and(|before| before.is_empty() || before.ends_with('/'))
}

/// What to do where a checksum around the source does not hold.
const UNSETTLED: &str = "the archive is damaged: get another copy of it; --unchecked takes what is in it as it is";

impl Known {
    /// Asks a description, if there is one, and the digests that the source carries.
    fn of(item: &Item, options: &Options, setting: &Setting<'_>) -> Result<Self, Failure> {
        let fail = |e| Failure::new(format!("cannot extract \"{}\"", item.shown), e);
        let mut known = Self::default();
        if setting.unchecked {
            return Ok(known);
        }
        if let Some((name, digests)) = verify::expected_files(item, &options.against, options.verify, setting)? {
            (known.against, known.expected) = (Some(name), digests);
        }
        let mut damage = item.damage(setting).map_err(fail)?;
        let paths: Vec<&str> =
            item.opened.holds.tree.iter().flat_map(|t| t.files()).map(|(n, _)| n.path.as_str()).collect();
        for one in &mut damage {
            // A part of a package knows its files by their paths in that part.
            one.files = one
                .files
                .iter()
                .filter_map(|own| paths.iter().find(|p| is_path_of(p, own)))
                .map(|p| (*p).to_owned())
                .collect();
            for path in &one.files {
                known.damaged.entry(path.clone()).or_insert_with(|| one.what.clone());
            }
        }
        for one in &damage {
            if !one.is_digest {
                known.structure.push(one.what.clone());
            } else if one.files.is_empty() && !damage.iter().any(|d| d.of == one.of && !d.files.is_empty()) {
                let what = format!("{}, and nothing tells which files that hits", one.what);
                return Err(fail(Error::Damaged { what })
                    .hint("dump or copy it again; --unchecked takes the files out as they are"));
            }
        }
        Ok(known)
    }
}

/// Extracts everything, or what was chosen, into `folder`.
///
/// # Errors
/// A missing key, an existing target, no room: all before the first byte. Later only errors of writing.
pub fn extract(
    shown: &str,
    folder: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(ExtractReport, Answer), Failure> {
    let mut item = locate::open(shown, "extract", setting)?;
    let fail = |e| Failure::new(format!("cannot extract \"{shown}\""), e);
    item.opened.look_inside().map_err(fail)?;
    let Some(tree) = &item.opened.holds.tree else {
        return Err(fail(Error::Usage(format!(
            "it is {}, which has no files inside",
            with_article(&item.opened.identity.kind)
        ))));
    };
    let folder = place::folder(&item, folder);
    setting.check_folder(&folder)?;
    if let Some(originals) = &options.originals {
        setting.check_folder(originals)?;
        if originals == &folder {
            return Err(fail(Error::Twice { path: folder }).hint("keep the originals in a folder of their own"));
        }
    }
    let globs = globs(&options.only).map_err(|why| Failure::usage(format!("cannot extract \"{shown}\""), why))?;
    let wanted: Vec<&Node> = tree.nodes.iter().filter(|n| globs.as_ref().is_none_or(|g| matches(g, &n.path))).collect();
    if wanted.is_empty() && globs.is_some() {
        let hint = format!(
            "\"decanter list {}\" shows the names; * matches any characters, also across folders",
            crate::quoted(shown)
        );
        return Err(fail(Error::Usage("nothing in it matches --only".into())).hint(hint));
    }
    check_keys(&item, &wanted).map_err(fail)?;
    item.check_given_key(setting).map_err(fail)?;
    let known = Known::of(&item, options, setting)?;
    let (laid, overlay, replaced) = if options.overlay.is_empty() {
        (None, None, Vec::new())
    } else {
        let chosen = Tree { nodes: wanted.iter().map(|n| (*n).clone()).collect() };
        let (tree, report, replaced) = overlay::lay(chosen, &options.overlay, setting)?;
        (Some(tree), Some(report), replaced)
    };
    let wanted: Vec<&Node> = laid.as_ref().map_or(wanted, |tree| tree.nodes.iter().collect());

    let mut report = ExtractReport {
        schema: "decanter.extract/1",
        source: item.address.clone(),
        folder: folder.clone(),
        dry_run: setting.dry_run,
        files: 0,
        bytes: 0,
        kernel_bytes: 0,
        renamed: Vec::new(),
        left_out: Vec::new(),
        advice: None,
        attributes: None,
        overlay,
        originals: options.originals.clone().filter(|_| !replaced.is_empty()),
        against: known.against.clone(),
        notices: item.notices().to_vec(),
        structure: known.structure.clone(),
    };
    if setting.unchecked {
        report
            .notices
            .push(Notice::new("checksums around it, and digests that it carries, were not asked (--unchecked)"));
    }
    let stage = match setting.dry_run {
        true => None,
        false => Some(Stage::new(&folder, setting.door(), setting.watch).map_err(|e| place::refused(&folder, e))?),
    };
    let mut namer = Namer::new(stage.as_ref().is_some_and(|s| s.folds_case()));
    let plan = plan(&wanted, &known, &mut namer, &mut report);
    let places = plan.jobs.iter().map(|j| j.to.as_path()).chain(plan.links.iter().map(|(to, ..)| to.as_path()));
    check_free(&folder, setting.door(), places).map_err(|e| place::refused(&folder, e))?;
    let total = plan.jobs.iter().map(|j| j.source.len()).sum();
    let largest = plan.jobs.iter().map(|j| j.source.len()).max().unwrap_or(0);
    if plan.jobs.is_empty()
        && let Some(first) = report.left_out.first()
    {
        return Err(fail(Error::Unreadable {
            why: format!("none of its files can be read; {}: {}", first.path, first.why),
        }));
    }
    check_room(&folder, solid_bytes(&plan.jobs).unwrap_or(total), largest).map_err(fail)?;
    let Some(mut stage) = stage else {
        report.files = plan.jobs.len();
        report.bytes = total;
        return Ok(done(report));
    };
    for (path, _) in &plan.folders {
        stage.make_folder(path).map_err(fail)?;
    }

    setting.watch.begin(&format!("extracting {}", item.stem), Some(total));
    write_all(&plan.jobs, &mut stage, &mut report, setting).map_err(fail)?;
    for (path, target, name) in &plan.links {
        if leads_inside(path, target, &plan.links, &folder) {
            stage.link(path, target).map_err(fail)?;
        } else {
            report
                .notices
                .push(Notice::new(format!("the link {name} leads out of the folder (to {target}); it was not made")));
        }
    }
    if report.files == 0
        && let Some(first) = report.left_out.first()
    {
        return Err(fail(Error::Unreadable {
            why: format!("none of its files could be read; {}: {}", first.path, first.why),
        }));
    }
    let kept: Vec<(&Node, &Path)> = plan.kept.iter().map(|(n, p)| (*n, p.as_path())).collect();
    if let Some(text) = attributes::text(&kept) {
        let name = Path::new(attributes::NAME);
        stage.write(name, &Blueprint::of(text), None, &[], setting.watch).map_err(fail)?;
        stage.add(name.to_owned());
        report.attributes = Some(attributes::NAME.into());
    }
    if let Some(target) = &report.originals.clone() {
        setting.settle().map_err(|e| fail(e).hint(UNSETTLED))?;
        keep_originals(&replaced, target, setting).map_err(fail)?;
    }
    setting.watch.end();
    setting.settle().map_err(|e| fail(e).hint(UNSETTLED))?;
    stage.commit(&plan.folders).map_err(|e| place::refused(&folder, e))?;
    let len = item.source.as_ref().map_or(0, |s| s.len());
    if item.opened.extent.promised_len.is_some_and(|promised| promised > len) {
        report.advice = Some("the source ends too early: dump or copy the source again".into());
    } else if needs_base(&item.opened) && setting.companions.is_empty() {
        report.advice = Some("with --with BASE they are taken out, too".into());
    } else if !report.left_out.is_empty() {
        report.advice = Some("the reasons stand above; what is damaged has to be dumped or copied again".into());
    }
    Ok(done(report))
}

/// Writes what is replaced into a folder of its own.
fn keep_originals(replaced: &[Node], target: &Path, setting: &Setting<'_>) -> Result<(), Error> {
    let mut stage = Stage::new(target, setting.door(), setting.watch)?;
    let mut namer = Namer::new(stage.folds_case());
    for node in replaced {
        let Some(source) = node.file().and_then(|f| f.source().ok()) else { continue };
        let to = namer.file(&node.path).path;
        if let Some(folder) = to.parent().filter(|f| !f.as_os_str().is_empty()) {
            stage.make_folder(folder)?;
        }
        stage.write(&to, &Blueprint::of(source.clone()), node.modified, &[], setting.watch)?;
        stage.add(to);
    }
    stage.commit(&[])
}

fn done(report: ExtractReport) -> (ExtractReport, Answer) {
    let answer = if report.left_out.is_empty() && report.structure.is_empty() {
        Answer::Yes
    } else if report.left_out.iter().any(|l| l.is_read_error) {
        Answer::ReadError
    } else {
        Answer::No
    };
    (report, answer)
}

pub(crate) fn globs(only: &[String]) -> Result<Option<GlobSet>, String> {
    if only.is_empty() {
        return Ok(None);
    }
    let mut set = GlobSetBuilder::new();
    for glob in only {
        let glob = glob.trim_start_matches('/');
        set.add(GlobBuilder::new(glob).case_insensitive(true).build().map_err(|e| e.to_string())?);
    }
    set.build().map(Some).map_err(|e| e.to_string())
}

/// Whether a path matches: as a whole, by its last name, or because a folder above it does.
pub(crate) fn matches(globs: &GlobSet, path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let above = path.match_indices('/').map(|(at, _)| &path[..at]);
    globs.is_match(path) || globs.is_match(name) || above.into_iter().any(|folder| globs.is_match(folder))
}

/// Fails with the missing key before anything is written, if a wanted file needs it.
fn check_keys(item: &Item, wanted: &[&Node]) -> Result<(), Error> {
    let locked = wanted.iter().any(|n| n.file().is_some_and(|f| matches!(f.content, Content::Locked(_))));
    match item.opened.protection.as_ref().map(|p| &p.key) {
        Some(decanter_core::protection::KeyState::Trouble(trouble)) if locked => Err(trouble.clone().into()),
        _ => Ok(()),
    }
}

struct Plan<'a> {
    jobs: Vec<Job<'a>>,
    folders: Vec<(PathBuf, Option<i64>)>,
    /// Place, target, and path in the source.
    links: Vec<(PathBuf, &'a str, &'a str)>,
    /// Everything with its place, for what else is kept of it.
    kept: Vec<(&'a Node, PathBuf)>,
}

/// Gives everything its place, and leaves out what cannot be read as a whole.
fn plan<'a>(wanted: &[&'a Node], known: &Known, namer: &mut Namer, report: &mut ExtractReport) -> Plan<'a> {
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
fn solid_bytes(jobs: &[Job<'_>]) -> Result<u64, Error> {
    jobs.iter().map(|j| decanter_core::pour::bytes_to_write(&Blueprint::of(j.source.clone()))).sum()
}

/// Writes all files: on several threads, unless the source is cheaper to read in one go.
fn write_all(
    jobs: &[Job<'_>],
    stage: &mut Stage<'_>,
    report: &mut ExtractReport,
    setting: &Setting<'_>,
) -> Result<(), Error> {
    let sequential = jobs.iter().any(|j| j.source.prefers_sequential());
    let mut order: Vec<&Job<'_>> = jobs.iter().collect();
    order.sort_by_key(|j| j.at);
    let workers = if sequential { 1 } else { setting.jobs.clamp(1, jobs.len().max(1)) };
    let next = AtomicUsize::new(0);
    let fatal: Mutex<Option<Error>> = Mutex::new(None);
    let results = Mutex::new(Vec::with_capacity(jobs.len()));
    let work = || {
        while let Some(job) = order.get(next.fetch_add(1, Ordering::Relaxed)) {
            setting.watch.item(&job.node.path);
            let blueprint = Blueprint::of(job.source.clone());
            let wanted = job.expected.as_ref().map(|d| d.algorithm);
            let written = stage.write(&job.to, &blueprint, job.node.modified, wanted.as_slice(), setting.watch);
            match written.and_then(|written| as_described(job, written, stage)) {
                Err(e) if !is_of_source(&e) => {
                    *fatal.lock().unwrap_or_else(|e| e.into_inner()) = Some(e);
                    next.store(usize::MAX / 2, Ordering::Relaxed);
                    return;
                }
                result => results.lock().unwrap_or_else(|e| e.into_inner()).push((*job, result)),
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..workers {
            scope.spawn(work);
        }
        work();
    });
    if let Some(error) = fatal.into_inner().unwrap_or_else(|e| e.into_inner()) {
        return Err(error);
    }
    let mut results = results.into_inner().unwrap_or_else(|e| e.into_inner());
    results.sort_by(|a, b| a.0.to.cmp(&b.0.to));
    for (job, result) in results {
        match result {
            Ok(file) => {
                stage.add(job.to.clone());
                report.files += 1;
                report.bytes += job.source.len();
                report.kernel_bytes += file.kernel_bytes + file.hole_bytes;
            }
            Err(e) => report.left_out.push(LeftOut {
                path: job.node.path.clone(),
                why: e.to_string(),
                is_read_error: matches!(e, Error::Io { .. }),
            }),
        }
    }
    Ok(())
}

/// Fails if what was written is not what a description says.
fn as_described(job: &Job<'_>, mut written: StagedFile, stage: &Stage<'_>) -> Result<StagedFile, Error> {
    let found = written.digests.pop();
    match (&job.expected, found) {
        (Some(expected), Some(found)) if *expected != found => {
            stage.discard(&job.to)?;
            Err(Error::Checksum {
                what: "by the description of the disc it".into(),
                expected: expected.to_string(),
                found: found.hex(),
            })
        }
        _ => Ok(written),
    }
}

/// Whether an error lies with the one file that was read, so that the others can go on.
fn is_of_source(error: &Error) -> bool {
    match error {
        Error::Io { op, .. } => *op == "read",
        Error::Cancelled | Error::NoSpace { .. } | Error::FileTooLarge { .. } => false,
        _ => true,
    }
}

/// Links that may lead from one to the next.
const MOST_LINKS: usize = 40;

/// Whether a link at `path` to `target` stays below the output folder, whatever other links that go there, or that are
/// there already, lie on its way.
fn leads_inside(path: &Path, target: &str, links: &[(PathBuf, &str, &str)], root: &Path) -> bool {
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

    #[test]
    fn globs_match_paths_names_and_folders() {
        let globs = globs(&["*.png".into(), "PS3_GAME/USRDIR".into()]).unwrap().unwrap();
        assert!(matches(&globs, "x/ICON0.PNG") && matches(&globs, "PS3_GAME/USRDIR/EBOOT.BIN"));
        assert!(!matches(&globs, "PS3_GAME/PARAM.SFO"));
    }
}
