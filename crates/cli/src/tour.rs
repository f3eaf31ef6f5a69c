//! The demo: makes the collection, then runs the main commands on it and shows what they say.

use crate::Stop;
use crate::args::Cli;
use crate::config::Settled;
use crate::progress::Screen;
use crate::screen::style;
use clap::Parser;
use decanter_core::Watch;
use decanter_demo as demo;
use decanter_jobs::Failure;
use decanter_jobs::identify::quoted;
use serde_json::json;
use std::io::Write;
use std::path::Path;

/// What the demo should be like.
pub struct Wish<'a> {
    pub folder: &'a Path,
    pub size: u64,
    pub dense: bool,
    pub no_tour: bool,
}

/// Makes the collection and runs the tour. The exit code is 0 when every command ended as it should.
///
/// # Errors
/// When the collection cannot be made, or a command of the tour fails.
pub fn run(cli: &Cli, settled: &Settled, watch: &Screen, out: &mut dyn Write, wish: &Wish<'_>) -> Result<u8, Stop> {
    let folder = wish.folder.display();
    if cli.global.dry_run {
        writeln!(out, "would make the demo collection in {folder}")?;
        return Ok(0);
    }
    let request = demo::Wish { size: wish.size, dense: wish.dense, replace: cli.global.replace };
    let made = demo::make(wish.folder, request, watch)
        .map_err(|e| Failure::new(format!("cannot make the demo collection in \"{folder}\""), e))?;
    let show = |path: &Path| path.display().to_string();
    let box_or_image = show(made.archive.as_ref().unwrap_or(&made.image));
    if !cli.global.json {
        writeln!(out, "The demo collection of Saltmarsh Pier Arcade Museum is in {folder}:")?;
        let told = [
            (Some(&made.image), "an encrypted disc image"),
            (made.archive.as_ref(), "the same in an archive"),
            (Some(&made.key), "its disc key"),
            (Some(&made.description), "its description"),
            (Some(&made.damaged), "a copy with a sector that could not be read"),
            (Some(&made.short), "a copy that ends too early"),
            (Some(&made.keys), "a key list that can derive the disc key from the description"),
        ];
        for (path, what) in told {
            if let Some(name) = path.and_then(|p| p.strip_prefix(wish.folder).ok()) {
                writeln!(out, "  {:<30} {what}", name.display())?;
            }
        }
    }
    if cli.global.json {
        // One object, so no tour: each of its commands would print one of its own.
        let report = json!({
            "schema": "decanter.demo/1",
            "image": made.image,
            "archive": made.archive,
            "key": made.key,
            "description": made.description,
            "damaged": made.damaged,
            "short": made.short,
            "keys": made.keys,
        });
        crate::run::json(out, &report)?;
        return Ok(0);
    }
    if wish.no_tour {
        return Ok(0);
    }
    let description = show(&made.description);
    let target = |name: &str| show(&wish.folder.join(name));
    let steps: [(&str, Vec<String>, u8); 5] = [
        ("What is it?", vec!["identify".into(), box_or_image.clone()], 0),
        ("Is the dump good?", vec!["verify".into(), box_or_image.clone(), "--against".into(), description.clone()], 0),
        ("And the other one?", vec!["verify".into(), show(&made.damaged), "--against".into(), description], 1),
        ("Take the files out.", vec!["extract".into(), box_or_image.clone(), "-o".into(), target("kelp")], 0),
        (
            "Or write one decrypted image.",
            vec!["decrypt".into(), box_or_image, "-o".into(), target("Kelp Courier (decrypted).iso")],
            0,
        ),
    ];
    let mut code = 0;
    for (question, words, expected) in steps {
        let typed: Vec<String> = words.iter().map(|w| quoted(w)).collect();
        let (bold, plain) = (style::BOLD, style::PLAIN);
        writeln!(out, "\n{bold}{question}{plain}\n{bold}$ decanter {}{plain}", typed.join(" "))?;
        out.flush()?;
        let line = std::iter::once("decanter".to_owned()).chain(words);
        let mut step = Cli::try_parse_from(line).map_err(|e| Failure::usage("the demo is wrong", e.to_string()))?;
        step.global = cli.global.clone();
        let found = crate::run::run(&step, settled, watch, out)?;
        watch.end();
        if found != expected {
            code = code.max(found).max(1);
        }
    }
    writeln!(out, "\nNow try it on your own: decanter identify FILE-OR-FOLDER")?;
    Ok(code)
}
