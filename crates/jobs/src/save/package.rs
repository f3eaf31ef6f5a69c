//! Saved games in packages of the 360 generation: files are put into a copy, and every digest is made anew.

use super::{MoveReport, Reading, ShowReport, advised};
use crate::convert::add_folders;
use crate::{Failure, Setting, locate, place};
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::pour::Output;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Door, Error, Format, Notice, native, tell};
use decanter_formats::package::x360::header::{Header, Signer};
use decanter_formats::package::x360::{self, Change, stfs};
use std::path::Path;
use std::sync::Arc;

/// Whether a source is a package with files.
pub fn is_package(shown: &str, setting: &Setting<'_>) -> bool {
    let opened = locate::open_lightly(shown, "use", setting);
    opened.is_ok_and(|item| x360::FILES.is_of(&item.opened))
}

/// Says what a package is, and how to get at its files.
pub(super) fn show(shown: &str, report: ShowReport, setting: &Setting<'_>) -> Result<ShowReport, Failure> {
    let item = locate::open(shown, "show", setting)?;
    let files: Vec<u64> = item.opened.holds.tree.iter().flat_map(|t| t.files()).map(|(_, f)| f.len).collect();
    let reading = Reading {
        layout: format!(
            "{}, {}",
            item.opened.identity.kind,
            item.opened.identity.title.as_deref().unwrap_or("no title")
        ),
        bytes: files.iter().sum(),
        kinds: tell::count(files.len() as u64, "file", "files"),
        parts: Vec::new(),
    };
    Ok(ShowReport {
        bytes: item.source.as_ref().map_or(0, |s| s.len()),
        may_be: vec![reading],
        next: format!("decanter save export {} -o FOLDER", crate::quoted(shown)),
        notices: item.notices().to_vec(),
        ..report
    })
}

/// Puts the files of a folder into a copy of a package: what it is called, and whose it is, stays unless it is to change.
///
/// # Errors
/// When one of them cannot be read, something does not fit, or writing fails.
pub fn import_files(
    folder: &str,
    into: &str,
    output: &Path,
    change: &Change,
    setting: &Setting<'_>,
) -> Result<MoveReport, Failure> {
    let fail = |e: Error| advised(format!("cannot import the files of \"{folder}\""), e);
    let package = locate::open(into, "use", setting)?;
    let source = package.source.clone().filter(|_| x360::FILES.is_of(&package.opened));
    let Some(source) = source else {
        let text = format!("\"{into}\" is no package with files");
        return Err(fail(Error::WrongDescription { text }));
    };
    let files = locate::open_container(folder, setting).map_err(fail)?;
    let Some(mut tree) = files.opened.holds.tree.clone().filter(|_| files.opened.identity.role.is_files()) else {
        return Err(fail(Error::Usage("it is neither a folder nor an archive of one".into())));
    };
    add_folders(&mut tree);
    // A folder says no dates: what was there before keeps its own.
    for node in tree.nodes.iter_mut().filter(|n| n.modified.is_none()) {
        node.modified =
            package.opened.holds.tree.as_ref().and_then(|old| old.find(&node.path)).and_then(|n| n.modified);
    }
    let header = Header::read(source.as_ref()).map_err(fail)?;
    let bytes = tree.files().map(|(_, f)| f.len).sum();
    setting.watch.begin("hashing the files", Some(bytes));
    let blueprint = stfs::rebuild(&header, change, &tree, setting.watch).map_err(fail)?;
    setting.watch.end();
    let old = of_source(&source, &[Algorithm::Sha1], setting.watch).map_err(fail)?.pop();
    let target = place::file(Some(output), &place::name_beside(&package, "stfs", "changed"));
    // A good save is worth more than convenience: what is there is not replaced, whatever else was asked for.
    let door = Door { replace: false, ..setting.door() };
    let wish = Output::new(&blueprint, &target).with_digests(&[Algorithm::Sha1]);
    let mut proof = |path: &Path| -> decanter_core::Result<()> {
        let written: SourceRef = Arc::new(FileSource::own(path)?);
        let opened = setting.opener(&package.keyring).open(written)?;
        crate::verify::prove(&opened, setting).map(|_| ())
    };
    let poured = setting.pour_one(wish, door, &mut proof).map_err(|e| match e {
        Error::Exists { .. } => Failure::new(format!("cannot write \"{}\"", native::text(&target)), e)
            .hint("a save is never replaced, not even with --replace: choose another name with -o"),
        e => place::refused(&target, e),
    })?;
    let signer = if header.signer == Signer::Console { "the console" } else { "the maker" };
    Ok(MoveReport {
        schema: "decanter.save-import/1",
        source: folder.to_owned(),
        holder: Some(into.to_owned()),
        layout: format!("a package with files, a {}", header.what()),
        target,
        bytes: blueprint.len(),
        old,
        new: poured.and_then(|mut p| p.digests.pop()),
        dry_run: setting.dry_run,
        notices: vec![Notice::new(format!(
            "its signature is zeros, as nobody but {signer} can sign it: emulators and modded consoles take it, others want it signed again"
        ))],
    })
}
