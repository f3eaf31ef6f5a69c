//! One arm a command: call the job, show its report.

use crate::args::{
    Cli, Command, FilterArg, FitArg, MemoryArg, PatchCommand, RecipeCommand, SaveArgs, SaveCommand, Style,
};
use crate::config::Settled;
use crate::progress::Screen;
use crate::screen::{self, Manner, json};
use crate::{Stop, code_of, code_of_answer, manual, tour};
use decanter_core::Algorithm;
use decanter_core::native;
use decanter_jobs::decrypt::Check;
use decanter_jobs::dump::cartridge::MemoryWish;
use decanter_jobs::{Answer, Failure, Setting, quoted};
use decanter_jobs::{
    clean, convert, decrypt, digest, dump, extract, formats, identify, label, launcher, list, patch, recipe, save,
    verify,
};
use std::io::Write;
use std::path::Path;
use std::time::Instant;

/// Runs a command and returns its exit code.
///
/// # Errors
/// A failed job, or an output that cannot be written.
pub fn run(cli: &Cli, settled: &Settled, watch: &Screen, out: &mut dyn Write) -> Result<u8, Stop> {
    let global = &cli.global;
    let manner = Manner { is_verbose: global.verbose, is_quiet: global.quiet };
    let setting = |key| settled.setting(global, key, watch);
    let began = Instant::now();
    if cli.command.key().is_some_and(|key| key.is_wrong()) {
        let what = "cannot use what was given with --key";
        return Err(Failure::usage(what, "it has to be 32 hexadecimal digits")
            .hint("\"decanter keys SOURCE\" shows which keys are found without it")
            .into());
    }
    match &cli.command {
        Command::Dump {
            drive,
            output,
            passes,
            retries,
            twice,
            fill_from,
            plan,
            sectors,
            sector_bytes,
            restart,
            picture,
            memory,
            write,
            algorithm,
        } => {
            let setting = setting(None);
            if let Some(mut reader) = dump::cartridge::open(drive, &setting)? {
                let options = dump::cartridge::Options {
                    memory: if *memory == Some(MemoryArg::Save) { MemoryWish::Save } else { MemoryWish::Rom },
                    write: write.clone(),
                    retries: *retries,
                    digests: algorithm.clone(),
                };
                let (report, answer) = dump::cartridge::dump(drive, &mut reader, output, &options, &setting)?;
                if global.json {
                    json(out, &report)?;
                } else {
                    screen::cartridge::show_dump(out, &report, began.elapsed(), manner)?;
                }
                return Ok(code_of_answer(answer));
            }
            if memory.is_some() {
                return Err(Failure::usage(format!("cannot dump \"{drive}\""), "--memory is for cartridge readers")
                    .hint("a simulated one is sim:reader.toml, with a ROM in it")
                    .into());
            }
            if plan.as_deref().is_some_and(|p| p.as_os_str() == "new") {
                return new_plan(drive, output, *sectors, *sector_bytes, &setting, global.json, out);
            }
            if let (Some(_), Some(_)) = (plan, sectors) {
                let why = "a plan says itself how many sectors the disc has";
                return Err(Failure::usage(format!("cannot dump \"{drive}\""), why).hint("leave out --sectors").into());
            }
            let options = dump::Options {
                passes: *passes,
                retries: *retries,
                twice: *twice,
                fill_from: fill_from.clone(),
                plan: plan.clone(),
                sectors: *sectors,
                sector_len: *sector_bytes,
                restart: *restart,
                picture: picture.clone(),
                digests: algorithm.clone(),
            };
            let (report, answer) = dump::dump(drive, output, &options, &setting)?;
            if global.json {
                json(out, &report)?;
            } else {
                screen::dump::show(out, &report, began.elapsed(), manner)?;
            }
            Ok(code_of_answer(answer))
        }
        Command::Identify { sources, picture, key } => {
            if let Some(picture) = picture {
                identify::draw(sources, picture, &setting(Some(key)))?;
            }
            let (report, answer) = identify::identify(sources, &setting(Some(key)))?;
            if global.json {
                json(out, &report)?;
            } else {
                screen::identify::show(out, &report, manner)?;
            }
            Ok(code_of_answer(answer))
        }
        Command::List { source, key } => {
            let report = list::list(source, &setting(Some(key)))?;
            if global.json {
                json(out, &report)?
            } else {
                screen::list::show(out, &report, manner)?
            }
            Ok(0)
        }
        Command::Verify { sources, against, key } => {
            let setting = setting(Some(key));
            let mut code = 0;
            let run = verify::verify_all(sources, against, &setting, |result| -> Result<(), Stop> {
                match result {
                    Ok(report) => {
                        code = code.max(code_of_answer(report.answer()));
                        if !global.json {
                            screen::verify::show(out, report, manner)?;
                        }
                    }
                    Err(failure) => {
                        code = code.max(code_of(&failure.cause));
                        screen::error(failure)?;
                    }
                }
                Ok(())
            })?;
            if let Some(matches) = &run.matches {
                code = code.max(code_of_answer(matches.answer()));
                if !global.json {
                    screen::matches::show(out, matches, manner)?;
                }
            }
            if global.json {
                json(out, &run)?;
            } else {
                screen::verify::show_totals(out, &run)?;
            }
            Ok(code)
        }
        Command::Digest { sources, style, algorithm, incomplete } => {
            let algorithms = match (algorithm.as_slice(), style) {
                ([], Style::Table) => Algorithm::ALL.to_vec(),
                ([], Style::Sums) => vec![Algorithm::Sha256],
                (some, _) => some.to_vec(),
            };
            let mut setting = setting(None);
            setting.incomplete = *incomplete;
            let (report, failures) = digest::digest(sources, &algorithms, *style == Style::Sums, &setting)?;
            for failure in &failures {
                screen::error(failure)?;
            }
            if global.json {
                json(out, &report)?
            } else {
                screen::digest::show(out, &report, *style)?
            }
            let code = failures.iter().map(|f| code_of(&f.cause)).max();
            Ok(code.unwrap_or(0).max(u8::from(report.sources.iter().any(|s| s.missing_sectors > 0))))
        }
        Command::Extract { source, output, only, overlay, originals, verify, against, unchecked, key } => {
            let (only, overlay, originals) = (only.clone(), overlay.clone(), originals.clone());
            let options = extract::Options { only, overlay, originals, verify: *verify, against: against.clone() };
            let mut setting = setting(Some(key));
            setting.unchecked = *unchecked;
            let (report, answer) = extract::extract(source, output.as_deref(), &options, &setting)?;
            if global.json {
                json(out, &report)?;
            } else {
                screen::written::show_extract(out, &report, began.elapsed(), manner)?;
            }
            Ok(code_of_answer(answer))
        }
        Command::Decrypt { source, output, algorithm, verify, against, keep_damage, unchecked, key } => {
            let check = verify.then_some(Check { against });
            let target = output.as_deref();
            let mut setting = setting(Some(key));
            setting.unchecked = *unchecked;
            let (report, answer) = decrypt::decrypt(source, target, algorithm, check.as_ref(), *keep_damage, &setting)?;
            if global.json {
                json(out, &report)?;
            } else {
                screen::written::show_decrypt(out, &report, answer, began.elapsed(), manner)?;
            }
            Ok(code_of_answer(answer))
        }
        Command::Convert {
            source,
            more,
            target,
            output,
            prove,
            join,
            odd,
            keep_damage,
            unchecked,
            incomplete,
            algorithm,
            key,
        } => {
            let options = convert::Options {
                given: target.given.clone(),
                prove: *prove,
                join: join.clone(),
                odd: odd.clone(),
                keep_damage: *keep_damage,
                more: more.clone(),
                digests: algorithm.clone(),
            };
            let mut setting = setting(Some(key));
            setting.incomplete = *incomplete;
            setting.unchecked = *unchecked;
            let (report, answer) =
                convert::convert(source, target.to.as_deref(), output.as_deref(), &options, &setting)?;
            if global.json {
                json(out, &report)?;
            } else {
                screen::convert::show(out, &report, began.elapsed(), manner)?;
            }
            Ok(code_of_answer(answer))
        }
        Command::Patch(command) => patch_command(command, cli, &setting(None), began, manner, out),
        Command::Save(command) => save_command(command, cli, &setting(None), manner, out),
        Command::Recipe(command) => recipe_command(command, cli, &setting(None), began, manner, out),
        Command::Label { source, output, size, fit, filter, background } => {
            let options = label::Options {
                size: *size,
                fit: match fit {
                    FitArg::Letterbox => label::Fit::Letterbox,
                    FitArg::Crop => label::Fit::Crop,
                    FitArg::Stretch => label::Fit::Stretch,
                },
                filter: if *filter == FilterArg::Sharp { label::Filter::Sharp } else { label::Filter::Smooth },
                background: *background,
            };
            let report = label::label(source, output.as_deref(), &options, &setting(None))?;
            if global.json {
                json(out, &report)?;
            } else {
                screen::label::show(out, &report, manner)?;
            }
            Ok(0)
        }
        Command::Launcher { file, output, with, command, title, comment, icon } => {
            let options = launcher::Options {
                name: title.clone(),
                icon: icon.clone(),
                comment: comment.clone(),
                with: with.clone(),
                command: command.clone(),
            };
            let report = launcher::launcher(file, output, &options, &settled.launch, &setting(None))?;
            if global.json {
                json(out, &report)?;
            } else {
                screen::launcher::show(out, &report, manner)?;
            }
            Ok(0)
        }
        Command::Keys { sources, key } => {
            let report = decanter_jobs::keys(sources, &setting(Some(key)))?;
            if global.json {
                json(out, &report)?
            } else {
                screen::keys::show(out, &report)?
            }
            let lacks = report.sources.iter().any(|s| s.need.is_some());
            Ok(if lacks { 4 } else { code_of_answer(Answer::Yes) })
        }
        Command::Formats => {
            let report = formats::formats();
            if global.json {
                json(out, &report)?
            } else {
                screen::formats::show(out, &report)?
            }
            Ok(0)
        }
        Command::Demo { folder, size, dense, no_tour } => {
            let wish = tour::Wish { folder, size: *size, dense: *dense, no_tour: *no_tour };
            tour::run(cli, settled, watch, out, &wish, run)
        }
        Command::Clean { folder } => {
            let report = clean::clean(folder, &setting(None))?;
            if global.json {
                json(out, &report)?;
            } else {
                let verb = if global.dry_run { "would remove" } else { "removed" };
                for path in &report.removed {
                    writeln!(out, "{verb} {}", native::text(path))?;
                }
                writeln!(
                    out,
                    "{verb} {} from {}",
                    screen::count(report.removed.len(), "leftover"),
                    native::text(folder)
                )?;
            }
            Ok(0)
        }
        Command::Completions { shell } => {
            manual::completions(*shell, out)?;
            Ok(0)
        }
        Command::Manual { output } => {
            let pages = manual::pages(output, &setting(None))?;
            let verb = if global.dry_run { "would write" } else { "wrote" };
            if global.json {
                let report = serde_json::json!({
                    "schema": "decanter.manual/1", "folder": output, "pages": pages, "dry_run": global.dry_run,
                });
                json(out, &report)?;
            } else {
                writeln!(out, "{verb} {pages} pages into {}", native::text(output))?;
            }
            Ok(0)
        }
    }
}

/// Recipes.
fn recipe_command(
    command: &RecipeCommand,
    cli: &Cli,
    setting: &Setting<'_>,
    began: Instant,
    manner: Manner,
    out: &mut dyn Write,
) -> Result<u8, Stop> {
    match command {
        RecipeCommand::New { source, output } => {
            let report = recipe::new(source, output, setting)?;
            if cli.global.json {
                json(out, &report)?;
            } else {
                screen::recipe::show_new(out, &report, manner)?;
            }
            Ok(0)
        }
        RecipeCommand::Show { recipe, picture, title } => {
            let report = recipe::show(recipe, picture.as_deref(), *title, setting)?;
            if cli.global.json {
                json(out, &report)?;
            } else {
                screen::recipe::show(out, &report, setting.dry_run, manner)?;
            }
            Ok(0)
        }
        RecipeCommand::Make { recipe, output } => {
            let (report, answer) = recipe::make(recipe, output.as_deref(), setting)?;
            if cli.global.json {
                json(out, &report)?;
            } else {
                screen::recipe::show_made(out, &report, began.elapsed(), manner)?;
            }
            Ok(code_of_answer(answer))
        }
    }
}

/// Patches.
fn patch_command(
    command: &PatchCommand,
    cli: &Cli,
    setting: &Setting<'_>,
    began: Instant,
    manner: Manner,
    out: &mut dyn Write,
) -> Result<u8, Stop> {
    match command {
        PatchCommand::Apply { rom, patches, output, undo, form, algorithm } => {
            let options = patch::Options { undo: *undo, form: form.clone(), digests: algorithm.clone() };
            let report = patch::apply(rom, patches, output.as_deref(), &options, setting)?;
            if cli.global.json {
                json(out, &report)?;
            } else {
                screen::patch::show_applied(out, &report, began.elapsed(), manner)?;
            }
        }
        PatchCommand::Make { old, new, output, format, metadata } => {
            let report = patch::make(old, new, format.as_deref(), metadata.as_deref(), output.as_deref(), setting)?;
            if cli.global.json {
                json(out, &report)?;
            } else {
                screen::patch::show_made(out, &report, began.elapsed(), manner)?;
            }
        }
        PatchCommand::Show { patch } => {
            let report = patch::show(patch, setting)?;
            if cli.global.json {
                json(out, &report)?;
            } else {
                screen::patch::show(out, &report, manner)?;
            }
        }
    }
    Ok(0)
}

/// Saved games.
fn save_command(
    command: &SaveCommand,
    cli: &Cli,
    setting: &Setting<'_>,
    manner: Manner,
    out: &mut dyn Write,
) -> Result<u8, Stop> {
    let options = |more: &SaveArgs| save::Options {
        rom: more.rom.clone(),
        part: more.part.clone(),
        swap: more.swap.unwrap_or_default(),
        title: more.title,
    };
    let report = match command {
        SaveCommand::Show { file, rom } => {
            let report = save::show(file, rom.as_deref(), setting)?;
            if cli.global.json {
                json(out, &report)?;
            } else {
                screen::save::show(out, &report, manner)?;
            }
            return Ok(code_of_answer(if report.misfit { Answer::No } else { Answer::Yes }));
        }
        SaveCommand::Export { file, output, more } => save::export(file, output, &options(more), setting)?,
        SaveCommand::Import { file, into, output, more } => {
            save::import(file, into.as_deref(), output, &options(more), setting)?
        }
    };
    if cli.global.json {
        json(out, &report)?;
    } else {
        screen::save::show_moved(out, &report, manner)?;
    }
    Ok(0)
}

/// Writes a plan of what a drive shows.
fn new_plan(
    drive: &str,
    output: &Path,
    sectors: Option<u64>,
    sector_len: u64,
    setting: &Setting<'_>,
    is_json: bool,
    out: &mut dyn Write,
) -> Result<u8, Stop> {
    let (text, plan) = dump::new_plan(drive, sectors, sector_len, output, setting)?;
    if is_json {
        let report = serde_json::json!({
            "schema": "decanter.dump-plan/1", "plan": plan, "text": text, "dry_run": setting.dry_run,
        });
        json(out, &report)?;
        return Ok(0);
    }
    for line in text.lines() {
        writeln!(out, "{line}")?;
    }
    writeln!(out)?;
    let verb = if setting.dry_run { "would write" } else { "wrote" };
    let (drive, quoted_plan) = (quoted(drive), quoted(&native::text(&plan)));
    writeln!(
        out,
        "{verb} {}; edit it, then: decanter dump {drive} --plan {quoted_plan} -o IMAGE",
        native::text(&plan)
    )?;
    Ok(0)
}
