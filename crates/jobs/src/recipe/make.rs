//! Packages made of a recipe.

use super::{MadeTitle, MakeReport, Ready, clashes, failed, read};
use crate::{Answer, Failure, Setting, place};
use decanter_core::digest::Algorithm;
use decanter_core::error::Blame;
use decanter_core::pour::Output;
use decanter_core::{Error, Notice, Result, native};
use std::path::Path;

/// Makes every title of a recipe; one that cannot be made does not stop the others. `output` is the file of a single
/// title, or a folder that is there.
///
/// # Errors
/// When the recipe cannot be read, or two titles would have the same id or output.
pub fn make(
    path: &str,
    output: Option<&Path>,
    setting: &Setting<'_>,
) -> std::result::Result<(MakeReport, Answer), Failure> {
    let (script, maker) = read(path, setting)?;
    let what = format!("cannot make \"{path}\"");
    if setting.key.is_some() && !maker.takes_key() {
        return Err(Failure::usage(what, "--key has no meaning for what this recipe makes").hint("leave it out"));
    }
    let all = maker.prepare(&script, setting)?;
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
    for ready in &all {
        let target = match output {
            Some(output) => place::file(Some(output), &native::text(ready.output().file_name().unwrap_or_default())),
            None => ready.output().to_owned(),
        };
        report.notices.extend(ready.notices().iter().cloned());
        match one(ready.as_ref(), &target, &mut report.notices, setting) {
            Ok(made) => report.titles.push(made),
            Err(e) => {
                let failure = match e.blame() {
                    Blame::Request if !matches!(e, Error::Usage(_)) => place::refused(&target, e),
                    _ => failed(path, ready.source(), e),
                };
                if all.len() == 1 || matches!(*failure.cause, Error::Cancelled) {
                    return Err(failure);
                }
                report.failed.push(failure.to_string());
            }
        }
    }
    report.notices.push(Notice::new(maker.caution()));
    let answer = if report.failed.is_empty() { Answer::Yes } else { Answer::No };
    Ok((report, answer))
}

fn one(ready: &dyn Ready, target: &Path, notices: &mut Vec<Notice>, setting: &Setting<'_>) -> Result<MadeTitle> {
    let laid = ready.lay(setting)?;
    notices.extend(laid.notices);
    setting.watch.begin(&format!("making {}", native::text(target)), Some(laid.blueprint.len()));
    let output = Output::new(&laid.blueprint, target).with_digests(&[Algorithm::Crc32]);
    let mut proof = String::new();
    let poured = setting.pour_one(output, setting.door(), &mut |path| {
        setting.watch.end();
        proof = ready.prove(path, setting)?;
        Ok(())
    });
    setting.watch.end();
    let digests = poured?.map(|p| p.digests).unwrap_or_default();
    Ok(MadeTitle {
        source: ready.source().to_owned(),
        path: target.to_owned(),
        bytes: laid.blueprint.len(),
        title_id: ready.id(),
        title: ready.title(),
        source_at: laid.place,
        proof,
        digests,
    })
}
