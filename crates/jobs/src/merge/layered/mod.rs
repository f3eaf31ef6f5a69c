//! A base with its updates and replacement files as one package: files of later sources take the place of earlier ones.
//! Nothing is unpacked on the way: the result is written from the views on the sources.

mod over;
mod parameters;

use super::report::{MergeReport, Merged};
use crate::convert::playstation::fourth::{passcode, placeholders, with_parameters};
use crate::convert::same_files;
use crate::layers::{Layer, LayerPart, fault_of_order, fits, take_root};
use crate::{Answer, Failure, Item, Setting, locate, place, quoted};
use decanter_core::error::Blame;
use decanter_core::pour::{Output, check_room};
use decanter_core::protection::KeyState;
use decanter_core::role::Role;
use decanter_core::source::FileSource;
use decanter_core::tree::Tree;
use decanter_core::{Error, Format, Keyring, Notice, SourceRef, names, tell};
use decanter_formats::package::ps4::keys::ZEROS;
use decanter_formats::package::ps4::pfs::compose::{BLOCK, Form};
use decanter_formats::package::ps4::{self, Making, PARAMETERS};
use over::{Over, lay_over};
use parameters::Merging;
use std::path::Path;
use std::sync::Arc;

/// What a merged package is, as `--to` says it.
const ID: &str = "ps4-pkg";

/// What is asked of merging besides the sources.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Values of the parameter file, as `KEY=VALUE`.
    pub set: Vec<String>,
    /// Whether the files are kept deflated.
    pub deflated: bool,
    /// Read the result back, and hold every file in it against the source that it is from.
    pub prove: bool,
}

/// Whether sources are merged by laying files over each other: the first package among them decides.
///
/// # Errors
/// When a source cannot be opened.
pub fn are_layers(sources: &[String], setting: &Setting<'_>) -> Result<bool, Failure> {
    for source in sources.iter().filter(|source| !setting.is_folder(source)) {
        match locate::open_container(source, setting) {
            Ok(item) if item.opened.identity.role == Role::Package => return Ok(ps4::PACKAGE.is_of(&item.opened)),
            // Whoever merges them tells of it.
            Ok(_) | Err(Error::NotUnderstood { .. }) => {}
            Err(e) if e.blame() == Blame::Source => {}
            Err(e) => return Err(Failure::new(format!("cannot merge \"{source}\""), e)),
        }
    }
    Ok(false)
}

/// A source of the merge.
struct Source {
    layer: Layer,
    item: Item,
    /// The folder in it that was taken for its root.
    root: Option<String>,
}

/// Opens the sources, in their order, and fails for what cannot be one.
fn open(sources: &[String], what: &str, setting: &Setting<'_>) -> Result<Vec<Source>, Failure> {
    let mut all: Vec<Source> = Vec::new();
    for source in sources {
        let mut item = match setting.is_folder(source) {
            true => locate::open(source, "merge", setting)?,
            false => locate::open_container(source, setting)
                .map_err(|e| Failure::new(format!("cannot merge \"{source}\""), e))?,
        };
        if let Some(KeyState::Trouble(trouble)) = item.opened.protection.as_ref().map(|p| &p.key) {
            return Err(Failure::new(format!("cannot merge \"{source}\""), trouble.clone().into()));
        }
        let is_package = item.opened.identity.role == Role::Package;
        let root = item.opened.holds.tree.as_mut().filter(|_| !is_package).and_then(take_root);
        let layer = Layer::of(&item).map_err(|e| Failure::new(what, e))?;
        let Some(layer) = layer.filter(|l| l.files > 0) else {
            let kind = crate::failure::with_article(&item.opened.identity.kind);
            let why = format!("\"{source}\" is {kind}, which has no files for a title");
            return Err(Failure::usage(what, why)
                .hint("give a base, then updates, then folders or packages with replacement files"));
        };
        all.push(Source { layer, item, root });
    }
    Ok(all)
}

/// Fails unless the first source is a base and all others go over it.
fn check(all: &[Source], what: &str) -> Result<(), Failure> {
    let layers: Vec<Layer> = all.iter().map(|s| s.layer.clone()).collect();
    let usage = |why: String| Failure::usage(what, why);
    let Some((base, others)) = layers.split_first() else { return Err(usage("there is nothing to merge".into())) };
    if let (LayerPart::Other, Some(remark)) = (base.part, base.remarks.first()) {
        let why = format!("the first source, \"{}\", cannot be the base: {remark}", base.source);
        return Err(
            usage(why).hint("extract it, and make it anew: decanter convert FOLDER --to ps4-pkg --set CATEGORY=gd")
        );
    }
    if base.part != LayerPart::Base {
        let why = format!("the first source, \"{}\", is no base but {}", base.source, base.what());
        let mut sorted = layers.clone();
        sorted.sort_by_key(|l| (l.part, l.rank()));
        let failure = usage(why);
        return Err(match sorted.first().is_some_and(|first| first.part == LayerPart::Base) {
            true => {
                let names: Vec<String> = sorted.iter().map(|l| quoted(&l.source)).collect();
                failure.hint(format!("decanter merge {}", names.join(" ")))
            }
            false => failure.hint("give the base first: the package of the game itself"),
        });
    }
    if others.is_empty() {
        return Err(usage("there is nothing to lay over the base".into())
            .hint("give an update, or a folder with replacement files, behind it"));
    }
    for own in others {
        if own.part == LayerPart::Base {
            return Err(usage(format!("\"{}\" is a base, too", own.source))
                .hint("one base, then updates and replacements; a folder of its files can be laid over another base"));
        }
        if let Some(why) = fits(base, own) {
            let hint = match (own.is_delta, own.part) {
                (true, _) => "get the update that holds all of its files, or the package that was made of both",
                (_, LayerPart::Other) => "leave it out: it is installed as it is",
                _ => "leave it out, or give the base that it belongs to",
            };
            return Err(usage(format!("\"{}\" does not fit: {why}", own.source)).hint(hint));
        }
    }
    match fault_of_order(&layers) {
        Some(fault) => {
            Err(usage(fault).hint("decanter identify FOLDER says what belongs together, and in which order"))
        }
        None => Ok(()),
    }
}

/// Merges sources, the base first.
///
/// # Errors
/// For sources that do not go over each other; what reading or writing fails with.
pub fn merge(
    sources: &[String],
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<(MergeReport, Answer), Failure> {
    let what = format!("cannot merge these {} sources", sources.len());
    let mut all = open(sources, &what, setting)?;
    check(&all, &what)?;
    let packages: Vec<String> = all.iter().filter(|s| s.item.source.is_some()).map(|s| quoted(&s.item.shown)).collect();
    let fail = |e: Error| advise(&what, &packages, e);
    for source in &all {
        // What a package is known to have that is wrong is not made part of another one.
        source.item.sound(false, setting).map_err(|e| damaged(&source.item.shown, e))?;
    }
    let Merging { own, changed, mut notices } = parameters::merged(&all, &options.set).map_err(fail)?;
    let wanted = &all[0].layer.content_id;
    if own.text("CONTENT_ID") != Some(wanted) {
        let said = own.text("CONTENT_ID").unwrap_or_default();
        return Err(Failure::usage(what, format!("its CONTENT_ID would be {said}, and that of the base is {wanted}"))
            .hint(
                "the result has the base's: leave it as it is, or extract the result and convert it with --content-id",
            ));
    }
    let Over { mut tree, taken, dropped } = lay_over(&mut all).map_err(fail)?;
    let base = &all[0];
    with_parameters(&mut tree, &own);
    let version = own.text("APP_VER").unwrap_or_default().to_owned();
    let title = own.text("TITLE").filter(|t| !t.is_empty()).unwrap_or(&base.item.stem).to_owned();
    let target = place::file(output, &names::file_name(&format!("{title} {version}.pkg")));
    setting.check_target(&target)?;
    room(&tree, &target, options, setting)?;

    let keys = &base.item.keyring;
    let form = if options.deflated { Form::Packed } else { Form::Stored };
    let content_id = base.layer.content_id.clone();
    let making = Making { content_id: content_id.clone(), passcode: passcode(setting), form, keys };
    let bytes: u64 = tree.files().map(|(_, f)| f.len).sum();
    setting.watch.begin(&format!("signing {title}"), Some(bytes));
    let blueprint = ps4::compose(&tree, &making, setting.watch).map_err(fail)?;
    setting.watch.end();
    notices.extend(placeholders(keys));
    notices.extend(all.iter().filter_map(|source| {
        let root = source.root.as_ref()?;
        Some(Notice::new(format!(
            "the files of \"{}\" stand in {root}/: that was taken for their root",
            source.item.shown
        )))
    }));
    let mut merged = Merged {
        id: base.layer.title_id.clone(),
        title: Some(title.clone()),
        holds: all.iter().map(|s| s.layer.what()).collect::<Vec<_>>().join(", "),
        parts: all.iter().map(|s| (s.item.address.clone(), s.layer.what())).collect(),
        path: Some(target.clone()),
        bytes: blueprint.len(),
        files: tree.files().count(),
        facts: vec![
            ("content id".into(), content_id),
            ("parameters".into(), changed.clone()),
            ("app version".into(), version),
            ("needs system".into(), crate::layers::system_version(own.number("SYSTEM_VER").unwrap_or(0))),
            ("passcode".into(), if making.passcode == ZEROS { "32 zeros" } else { "the one given" }.into()),
        ],
        taken,
        dropped,
        notices,
        ..Merged::default()
    };
    merged.facts.retain(|(_, value)| !value.is_empty());
    setting.watch.begin(&format!("merging {title}"), Some(blueprint.len()));
    let poured = setting.pour_one(Output::new(&blueprint, &target), setting.door(), &mut |path| {
        setting.watch.end();
        if options.prove {
            merged.proven = Some(prove(path, &tree, keys, setting)?);
        }
        Ok(())
    });
    setting.watch.end();
    let poured = poured.map_err(|e| match e.blame() {
        Blame::Request => place::refused(&target, e),
        _ => fail(e),
    })?;
    if let Some(poured) = poured {
        merged.bytes = poured.bytes;
    }
    let mut report = MergeReport::new(ID, setting.dry_run);
    report.results.push(merged);
    Ok((report, Answer::Yes))
}

/// Fails if the result has no room, before anything is read at length; and tells how much it needs.
fn room(tree: &Tree, target: &Path, options: &Options, setting: &Setting<'_>) -> Result<(), Failure> {
    // Deflated files need less: how much less is not known before they are.
    let needed = tree.files().map(|(_, f)| f.len.next_multiple_of(BLOCK)).sum::<u64>() + 16 * BLOCK;
    let folder = target.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !options.deflated && !setting.dry_run {
        check_room(folder, needed, needed).map_err(|e| place::refused(target, e))?;
    }
    let about = if options.deflated { "at most about" } else { "about" };
    setting.watch.notice(&Notice::new(format!("room needed: {about} {}, for the result alone", tell::size(needed))));
    Ok(())
}

/// Reads a result back: every digest and signature holds, and every file is the one of its source.
fn prove(path: &Path, wanted: &Tree, keys: &Keyring, setting: &Setting<'_>) -> decanter_core::Result<super::Proof> {
    let source: SourceRef = Arc::new(FileSource::own(path)?);
    let opened = setting.opener(keys).open(source)?;
    let digests = crate::verify::prove(&opened, setting)?;
    let same = same_files(wanted, &opened.holds.tree.unwrap_or_default(), setting)?;
    Ok(super::Proof { digests, same_plaintext: 0, same_files: Some(same) })
}

/// A failure of merging `packages`, with what to do about it.
fn advise(what: &str, packages: &[String], error: Error) -> Failure {
    let hint = match &error {
        Error::Unsupported { .. } => "rename or leave out what does not fit".to_owned(),
        Error::Checksum { .. } | Error::Malformed { .. } | Error::PastEnd { .. } => {
            format!("decanter verify {} names which of them is damaged, and what is hit", packages.join(" "))
        }
        Error::Usage(text) if text.contains(PARAMETERS) => {
            "--set KEY=VALUE gives a value; or correct the file in the last source".to_owned()
        }
        _ => return Failure::new(what, error),
    };
    Failure::new(what, error).hint(hint)
}

/// A source that is damaged.
fn damaged(shown: &str, error: Error) -> Failure {
    let failure = Failure::new(format!("cannot merge \"{shown}\""), error);
    match *failure.cause {
        Error::Damaged { .. } | Error::Checksum { .. } => {
            failure.hint(format!("decanter verify {} names what is hit; get a whole copy of it", quoted(shown)))
        }
        _ => failure,
    }
}
