//! Bags: a selection of files with digests, as BagIt (RFC 8493) has them, so that what is kept outlives this program.

use crate::below::Below;
use crate::{Failure, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Digest, of_bytes};
use decanter_core::pour::Stage;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::store::MetKind;
use decanter_core::{Error, native, store};
use decanter_formats::record::bag::{self, DECLARATION, DECLARED, INFO, PAYLOAD};
use serde::Serialize;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The digests of the manifests.
const DIGESTS: [Algorithm; 2] = [Algorithm::Sha256, Algorithm::Sha512];

/// A bag that was made.
#[derive(Debug, Serialize)]
pub struct BagReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The folder.
    pub bag: String,
    /// Files of the payload.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// Puts copies of `sources` into a bag: the new folder `target`.
///
/// # Errors
/// When a source cannot be read or named in a manifest, two would have the same name, the folder is there, or it cannot be
/// written.
pub fn bag(sources: &[String], target: &Path, setting: &Setting<'_>) -> Result<BagReport, Failure> {
    let what = format!("cannot make the bag \"{}\"", native::text(target));
    let fail = |e| Failure::new(what.clone(), e);
    if std::fs::symlink_metadata(target).is_ok() {
        return Err(
            fail(Error::Exists { path: target.to_owned() }).hint("choose another folder with -o: a bag is made once")
        );
    }
    let files = selected(sources, setting)?;
    let report = |bytes| BagReport {
        schema: "decanter.cellar-bag/1",
        bag: native::text(target),
        files: files.len() as u64,
        bytes,
        dry_run: setting.dry_run,
    };
    let total = files.iter().map(|(_, source, _)| source.len()).sum();
    if setting.dry_run {
        return Ok(report(total));
    }
    let mut stage = Stage::new(target, setting.door(), setting.watch).map_err(|e| place::refused(target, e))?;
    setting.watch.begin("filling the bag", Some(total));
    let mut lines: [String; 2] = Default::default();
    for (path, source, modified) in &files {
        let to = PathBuf::from(PAYLOAD).join(native::path(path));
        if let Some(folder) = to.parent() {
            stage.make_folder(folder).map_err(fail)?;
        }
        let blueprint = Blueprint::of(source.clone());
        let written = stage.write(&to, &blueprint, *modified, &DIGESTS, setting.watch).map_err(fail)?;
        for (text, digest) in lines.iter_mut().zip(&written.digests) {
            text.push_str(&line(digest, &format!("{PAYLOAD}/{path}")));
        }
        stage.add(to);
        setting.watch.item(path);
    }
    setting.watch.end();
    stage.make_folder(Path::new(PAYLOAD)).map_err(fail)?;
    let oxum =
        format!("Bag-Software-Agent: decanter {}\nPayload-Oxum: {total}.{}\n", env!("CARGO_PKG_VERSION"), files.len());
    let [sha256, sha512] = lines;
    let tags = [
        (DECLARATION.to_owned(), DECLARED.to_owned()),
        (INFO.to_owned(), oxum),
        ("manifest-sha256.txt".to_owned(), sha256),
        ("manifest-sha512.txt".to_owned(), sha512),
    ];
    let about = |algorithm: Algorithm| {
        let row = |(name, text): &(String, String)| line(&of_bytes(algorithm, text.as_bytes()), name);
        (format!("tagmanifest-{}.txt", algorithm.id()), tags.iter().map(row).collect::<String>())
    };
    for (name, text) in tags.iter().cloned().chain(DIGESTS.map(about)) {
        let blueprint = Blueprint::of(Arc::new(Bytes(text.into_bytes())));
        stage.write(Path::new(&name), &blueprint, None, &[], setting.watch).map_err(fail)?;
        stage.add(name.into());
    }
    setting.settle().map_err(fail)?;
    stage.commit(&[]).map_err(|e| place::refused(target, e))?;
    Ok(report(total))
}

fn line(digest: &Digest, path: &str) -> String {
    format!("{}  {}\n", digest.hex(), bag::encoded(path))
}

/// What goes into the bag: the path below its payload, the bytes, the time.
type Selected = Vec<(String, SourceRef, Option<i64>)>;

fn selected(sources: &[String], setting: &Setting<'_>) -> Result<Selected, Failure> {
    let mut files: Selected = Vec::new();
    let mut taken: HashMap<String, String> = HashMap::new();
    for source in sources {
        let fail = |e| Failure::new(format!("cannot put \"{source}\" into a bag"), e);
        let mut add = |path: String, shown: &str, bytes: SourceRef| -> Result<(), Failure> {
            if path.chars().any(|c| native::byte(c).is_some()) {
                return Err(Failure::usage(
                    format!("cannot put \"{shown}\" into a bag"),
                    "its name is no text, and a manifest is UTF-8",
                )
                .hint("rename it first"));
            }
            // A bag may go onto a file system that takes `a` for `A`.
            if let Some(other) = taken.insert(path.to_lowercase(), shown.to_owned()) {
                return Err(Failure::usage(
                    format!("cannot put \"{shown}\" into a bag"),
                    format!("\"{other}\" has the same name there"),
                )
                .hint("make two bags, or give the folder around both"));
            }
            let modified = setting.store(shown).local(shown).and_then(|path| modified(&path));
            files.push((path, bytes, modified));
            Ok(())
        };
        let name = |path: &str| {
            let path = path.trim_end_matches(['/', ':']);
            let last = decanter_core::catalogue::last_name(path.rsplit("::").next().unwrap_or(path)).to_owned();
            match last.as_str() {
                "." | ".." | "" => std::path::absolute(native::path(path))
                    .ok()
                    .and_then(|p| p.file_name().map(native::text))
                    .unwrap_or_else(|| "files".into()),
                _ => last,
            }
        };
        if !setting.is_folder(source) {
            add(name(source), source, locate::bytes(source, setting).map_err(fail)?)?;
            continue;
        }
        let below = Below::with_parts(source, setting);
        if let Some((path, error)) = below.failed.into_iter().next() {
            return Err(Failure::new(format!("cannot put \"{path}\" into a bag"), error));
        }
        let told = |text: String| setting.watch.notice(&decanter_core::Notice::new(text));
        let links = setting.store(source).walk(source, &mut |met| {
            if let MetKind::Link(_) = met.kind {
                told(format!("{} is passed over: it is a link", met.path));
            }
            Ok(())
        });
        links.map_err(fail)?;
        for (path, kind) in &below.passed {
            told(format!("{path} is passed over: it is {kind}"));
        }
        for path in &below.files {
            let inner = path.strip_prefix(source.as_str()).unwrap_or(path).trim_start_matches('/');
            let bytes = setting.store(path).open_later(path).map_err(fail)?;
            add(store::join(&name(source), inner), path, bytes)?;
        }
    }
    if files.is_empty() {
        return Err(Failure::usage("cannot make a bag", "there is no file in what was given")
            .hint("give files, or folders with some"));
    }
    Ok(files)
}

fn modified(path: &Path) -> Option<i64> {
    let time = std::fs::metadata(path).ok()?.modified().ok()?;
    let after = time.duration_since(std::time::UNIX_EPOCH).ok()?;
    i64::try_from(after.as_secs()).ok()
}
