//! Packages made of a recipe.

use super::prepare::{clashes, failed, prepare_all};
use super::ready::Ready;
use super::{MOST_CONTENT, Recipe, Title, base};
use crate::convert::handheld::{certificates, meta};
use crate::failure::Failure;
use crate::recipe::script::Script;
use crate::recipe::{MadeTitle, MakeReport};
use crate::{Answer, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::Algorithm;
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::pour::Output;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Keyring, Notice, Result, pour};
use decanter_formats::package::n3ds::cia::ticket::Ticket;
use decanter_formats::package::n3ds::cia::tmd::{Record, Tmd};
use decanter_formats::package::n3ds::cia::{self, Inner, Making};
use decanter_formats::package::n3ds::gba_title::save_room;
use decanter_formats::package::n3ds::ncch::{self, Content};
use decanter_formats::package::n3ds::{gba_mode, gba_title, title as ids};
use std::path::Path;
use std::sync::Arc;

/// Makes every title of a recipe; one that cannot be made does not stop the others. `output` is the file of a single
/// title, or a folder that is there.
///
/// # Errors
/// When the recipe cannot be read, or two titles would have the same id or output.
pub(super) fn make(
    script: &Script,
    output: Option<&Path>,
    setting: &Setting<'_>,
) -> std::result::Result<(MakeReport, Answer), Failure> {
    let (recipe, path) = (Recipe::read(script)?, script.path.as_str());
    let all = prepare_all(&recipe, path, setting)?;
    let what = format!("cannot make \"{path}\"");
    if let Some(clash) = clashes(&all).into_iter().next() {
        return Err(Failure::usage(what, clash).hint("give one of them an id and an output of its own in the recipe"));
    }
    if all.len() > 1 && output.is_some_and(|o| !o.is_dir()) {
        return Err(Failure::usage(what, "it makes several packages, -o is one file")
            .hint("give a folder that is there with -o"));
    }
    let mut report = MakeReport {
        schema: "decanter.recipe-make/1",
        recipe: path.to_owned(),
        titles: Vec::new(),
        failed: Vec::new(),
        dry_run: setting.dry_run,
        notices: Vec::new(),
    };
    let single = all.len() == 1;
    for (title, ready) in recipe.titles.iter().zip(&all) {
        let target = match output {
            Some(output) => place::file(Some(output), &ready.output.file_name().unwrap_or_default().to_string_lossy()),
            None => ready.output.clone(),
        };
        report.notices.extend(ready.notices.iter().map(Notice::new));
        match one(&recipe, title, ready, &target, &mut report.notices, setting) {
            Ok(made) => report.titles.push(made),
            Err(e) => {
                let failure = match e.blame() {
                    Blame::Request if !matches!(e, Error::Usage(_)) => place::refused(&target, e),
                    _ => failed(path, title, e),
                };
                if single || matches!(*failure.cause, Error::Cancelled) {
                    return Err(failure);
                }
                report.failed.push(failure.to_string());
            }
        }
    }
    let text = "signatures, and certificates unless the recipe names some, are placeholders: consoles that check them refuse it";
    report.notices.push(Notice::new(text));
    let answer = if report.failed.is_empty() { Answer::Yes } else { Answer::No };
    Ok((report, answer))
}

fn one(
    recipe: &Recipe,
    title: &Title,
    ready: &Ready,
    target: &Path,
    notices: &mut Vec<Notice>,
    setting: &Setting<'_>,
) -> Result<MadeTitle> {
    let given = title.certificates.as_ref().map(|c| recipe.path(c));
    let certificates = certificates(given.as_deref(), setting)?;
    let (blueprint, rom_at) = match &title.base {
        Some(path) => base::package(&recipe.path(path), title, ready, certificates, notices, setting)?,
        None => (gba(recipe, title, ready, certificates, setting)?, "code of the program, for the GBA mode".to_owned()),
    };
    let mut made = MadeTitle {
        rom: title.rom.clone(),
        path: target.to_owned(),
        bytes: blueprint.len(),
        title_id: ids::shown(ready.id),
        short: ready.smdh.names(1).short,
        rom_at,
        digests: Vec::new(),
    };
    setting.watch.begin(&format!("making {}", native::text(target)), Some(blueprint.len()));
    let output = Output::new(&blueprint, target).with_digests(&[Algorithm::Crc32]);
    let poured = setting.pour_one(output, setting.door(), &mut |path| {
        setting.watch.end();
        prove(path, setting)
    });
    setting.watch.end();
    made.digests = poured?.map(|p| p.digests).unwrap_or_default();
    Ok(made)
}

/// Every digest that the new package carries has to hold.
fn prove(path: &Path, setting: &Setting<'_>) -> Result<()> {
    let source: SourceRef = Arc::new(decanter_core::source::FileSource::own(path)?);
    let item = locate::open_bytes(&native::text(path), source, setting)?;
    crate::verify::prove(&item.opened, setting).map(|_| ())
}

/// A package of the GBA mode.
fn gba(
    recipe: &Recipe,
    title: &Title,
    ready: &Ready,
    certificates: Option<SourceRef>,
    setting: &Setting<'_>,
) -> Result<Blueprint> {
    let logo = title.logo.as_ref().map(|p| locate::bytes(&recipe.path(p), setting)).transpose()?;
    let code = gba_mode::code(&ready.rom, &ready.settings)?;
    let save = ready.settings.save;
    let parts = gba_title::parts(gba_title::Title {
        id: ready.id,
        code,
        game_code: &ready.game_code,
        label: &ready.smdh,
        save,
        logo,
    });
    let bytes = pour::to_memory(&ncch::compose(&parts)?, MOST_CONTENT, setting.watch)?;
    let source: SourceRef = Arc::new(Bytes(bytes));
    let content = Content::read(&source, &Keyring::default())?;
    let meta = meta(&content, content.extended()?.as_ref())?;
    let mut tmd = Tmd::new(ready.id, 0, save_room(save) as u32);
    let record = Record { id: 0, index: 0, kind: 0, len: source.len(), hash: [0; 32] };
    tmd.records.push(record.clone());
    cia::compose(Making {
        certificates,
        ticket: Ticket::new(ready.id, 0),
        tmd,
        contents: vec![Inner { record, source, proof: None }],
        meta: Some(meta),
    })
}
