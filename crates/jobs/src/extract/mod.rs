//! Copies files out, decrypting and inflating on the way: each byte is written once, and nothing else is.

mod content;
mod known;
mod many;
mod onto;
mod plan;
mod write;

pub(crate) use many::extract_into;
pub use many::{extract_each, sort_out};
pub use onto::{StreamReport, extract_onto};

use crate::attributes;
use crate::failure::with_article;
use crate::family::needs_base;
use crate::helps::helps;
use crate::overlay::{self, OverlayReport};
use crate::{Answer, Failure, Item, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::names::Namer;
use decanter_core::pour::{Stage, check_free, check_room};
use decanter_core::tree::{Content, Node, Tree};
use decanter_core::{Error, Notice, Watch};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use known::Known;
use plan::{leads_inside, plan, solid_bytes};
use serde::Serialize;
use std::path::{Path, PathBuf};
use write::write_all;

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
    /// Files that were there already, from a run before.
    pub there_already: usize,
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
    /// Lay the files of a content package out as emulators expect them.
    pub content_tree: bool,
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

/// What to do where a checksum around the source does not hold.
const UNSETTLED: &str = "the archive is damaged: get another copy of it; --unchecked takes what is in it as it is";

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
    let mut item = open(shown, setting)?;
    let folder = place::folder(&item, folder);
    if options.content_tree {
        content::lay_out(&mut item)?;
    }
    copy(&item, folder, options, false, setting).map(|copied| done(copied.report))
}

/// Opens what is extracted, with all that is in it.
fn open(shown: &str, setting: &Setting<'_>) -> Result<Item, Failure> {
    let mut item = locate::open(shown, "extract", setting)?;
    let fail = |e| Failure::new(format!("cannot extract \"{shown}\""), e);
    item.opened.look_inside().map_err(fail)?;
    if let Some(trouble) = item.opened.closed_by() {
        return Err(fail(trouble.clone().into()));
    }
    match &item.opened.holds.tree {
        Some(_) => Ok(item),
        None => {
            // Whatever is in it is out of reach for that.
            if let Some(first) = item.notices().iter().find(|n| n.is_damage) {
                return Err(fail(Error::Damaged { what: first.text.clone() }));
            }
            let failure = fail(Error::Usage(has_none(&item)));
            Err(match helps(&item) {
                Some(command) => failure.hint(command),
                None => failure,
            })
        }
    }
}

/// Why nothing can be taken out of it.
fn has_none(item: &Item) -> String {
    format!("it is {}, which has no files inside", with_article(&item.opened.identity.kind))
}

/// The files and folders that are wanted, with their keys at hand.
fn wanted<'a>(item: &'a Item, options: &Options, setting: &Setting<'_>) -> Result<Vec<&'a Node>, Failure> {
    let shown = &item.shown;
    let fail = |e| Failure::new(format!("cannot extract \"{shown}\""), e);
    let globs = globs(&options.only).map_err(|why| Failure::usage(format!("cannot extract \"{shown}\""), why))?;
    let nodes = item.opened.holds.tree.iter().flat_map(|tree| &tree.nodes);
    let wanted: Vec<&Node> = nodes.filter(|n| globs.as_ref().is_none_or(|g| matches(g, &n.path))).collect();
    if wanted.is_empty() && globs.is_some() {
        let hint =
            format!("* matches any characters, also across folders; the names: decanter list {}", crate::quoted(shown));
        return Err(fail(Error::Usage("nothing in it matches --only".into())).hint(hint));
    }
    check_keys(item, &wanted).map_err(fail)?;
    item.check_given_key(setting).map_err(fail)?;
    Ok(wanted)
}

/// What came of copying.
struct Copied {
    report: ExtractReport,
    /// Whether all of it was there already, and nothing was written.
    was_there: bool,
}

/// When the digests that a source carries are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Check {
    /// Before the first byte is written: what is damaged is left out.
    Before,
    /// While files are written: none of them gets its name unless all of it holds.
    Beside,
}

/// Copies the files of what was opened into `folder`. Where they may be there already, that is told instead of an error.
fn copy(
    item: &Item,
    folder: PathBuf,
    options: &Options,
    may_be_there: bool,
    setting: &Setting<'_>,
) -> Result<Copied, Failure> {
    // Two readers go through a source that is unpacked from its beginning only by unpacking it twice.
    let goes_forward = item.source.as_ref().is_some_and(|s| s.prefers_sequential());
    let is_worth_it = !item.opened.proof.sealed.is_empty() && !goes_forward;
    if is_worth_it && !may_be_there && !setting.dry_run && !setting.unchecked {
        let copied = attempt(item, folder.clone(), options, may_be_there, Check::Beside, setting)?;
        if let Some(copied) = copied {
            return Ok(copied);
        }
    }
    let copied = attempt(item, folder, options, may_be_there, Check::Before, setting)?;
    copied.ok_or_else(|| Failure::new(format!("cannot extract \"{}\"", item.shown), Error::Cancelled))
}

/// The same once; nothing, and nothing written, where something is damaged that was found beside it.
fn attempt(
    item: &Item,
    folder: PathBuf,
    options: &Options,
    may_be_there: bool,
    check: Check,
    setting: &Setting<'_>,
) -> Result<Option<Copied>, Failure> {
    let fail = |e| Failure::new(format!("cannot extract \"{}\"", item.shown), e);
    setting.check_folder(&folder)?;
    if let Some(originals) = &options.originals {
        setting.check_folder(originals)?;
        if originals == &folder {
            return Err(fail(Error::Twice { path: folder }).hint("keep the originals in a folder of their own"));
        }
    }
    let wanted = wanted(item, options, setting)?;
    let known = Known::of(item, options, check, setting)?;
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
        there_already: 0,
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
    let mut plan = plan(&wanted, &known, &mut namer, &mut report);
    if may_be_there && !setting.replace {
        report.there_already = plan.leave_what_is_there(&folder, setting.watch).map_err(fail)?;
        if plan.jobs.is_empty() && report.there_already > 0 {
            return Ok(Some(Copied { report, was_there: true }));
        }
    }
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
        return Ok(Some(Copied { report, was_there: false }));
    };
    for (path, _) in &plan.folders {
        stage.make_folder(path).map_err(fail)?;
    }

    setting.watch.begin(&format!("extracting {}", item.stem), Some(total));
    let (written, found) = match check {
        Check::Before => (write_all(&plan.jobs, &mut stage, &mut report, setting), Ok(Vec::new())),
        Check::Beside => std::thread::scope(|scope| {
            let checking = scope.spawn(|| item.damage(&setting.for_one(&Aside(setting.watch))));
            let written = write_all(&plan.jobs, &mut stage, &mut report, setting);
            (written, checking.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        }),
    };
    let found = found.map_err(fail)?;
    written.map_err(fail)?;
    if !found.is_empty() {
        setting.watch.end();
        return Ok(None);
    }
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
        && report.there_already == 0
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
    Ok(Some(Copied { report, was_there: false }))
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

/// Sees work that goes on beside other work, which is what progress is shown of.
struct Aside<'a>(&'a dyn Watch);

impl Watch for Aside<'_> {
    fn notice(&self, notice: &Notice) {
        self.0.notice(notice);
    }

    fn cancelled(&self) -> bool {
        self.0.cancelled()
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn globs_match_paths_names_and_folders() {
        let globs = globs(&["*.png".into(), "PS3_GAME/USRDIR".into()]).unwrap().unwrap();
        assert!(matches(&globs, "x/ICON0.PNG") && matches(&globs, "PS3_GAME/USRDIR/EBOOT.BIN"));
        assert!(!matches(&globs, "PS3_GAME/PARAM.SFO"));
    }
}
