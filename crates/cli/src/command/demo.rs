//! The demo: makes the collection, then runs the main commands on it and shows what they say.

use super::{Run, With};
use crate::Stop;
use crate::render::Page;
use crate::render::{self, style};
use clap::Args;
use decanter_core::Watch;
use decanter_core::native;
use decanter_demo::{self as demo, Collection};
use decanter_jobs::typed_in::size;
use decanter_jobs::{Failure, typed};
use serde_json::json;
use std::io::Write;
use std::path::{Path, PathBuf};

/// Make a collection of made-up discs in a folder, and run the main commands on it
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter demo saltmarsh\n\n\
    The collection is the same every time, and every title, id and key in it is invented.")]
pub struct Demo {
    /// The folder to write
    #[arg(value_name = "DIR")]
    folder: PathBuf,
    /// Size of the disc image, as in 64MiB or 40GiB; what goes beyond 64 MiB is a hole
    #[arg(long, default_value = "64MiB", value_name = "SIZE", value_parser = size)]
    size: u64,
    /// Fill the whole size with data in an encrypted region, as for measuring
    #[arg(long)]
    dense: bool,
    /// Only make the collection
    #[arg(long)]
    no_tour: bool,
}

impl Run for Demo {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let folder = native::text(&self.folder);
        if with.global.dry_run {
            writeln!(out, "would make the demo collection in {folder}")?;
            return Ok(0);
        }
        let request = demo::Wish { size: self.size, dense: self.dense, replace: with.global.replace };
        let made = demo::make(&self.folder, request, with.watch)
            .map_err(|e| Failure::new(format!("cannot make the demo collection in \"{folder}\""), e))?;
        if with.global.json {
            // One object, so no tour: each of its commands would print one of its own.
            render::json(out, &report(&made))?;
            return Ok(0);
        }
        with.print(out, |page| show_made(page, &made, &self.folder))?;
        match self.no_tour {
            true => Ok(0),
            false => {
                let before = tour(
                    with,
                    out,
                    steps(&made, &self.folder).into_iter().chain(keeping(&made, &self.folder)).collect(),
                )?;
                if !with.global.quiet {
                    writeln!(out, "\n{}A year passes.{}", style::BOLD, style::PLAIN)?;
                }
                demo::let_a_year_pass(&made.rack.folder).map_err(|e| Failure::new("cannot let a year pass", e))?;
                let after = tour(with, out, looking_after(&self.folder))?;
                if !with.global.quiet {
                    writeln!(out)?;
                    writeln!(out, "Now try it on your own: decanter identify FILE-OR-FOLDER")?;
                }
                Ok(before.max(after))
            }
        }
    }
}

/// What was made, for programs.
fn report(made: &Collection) -> serde_json::Value {
    json!({
        "schema": "decanter.demo/1",
        "image": made.image,
        "archive": made.archive,
        "key": made.key,
        "description": made.description,
        "damaged": made.damaged,
        "short": made.short,
        "keys": made.keys,
        "cue": made.cue,
        "scratched": made.scratched,
        "dvd": made.dvd,
        "drives": made.drives,
        "handheld": made.handheld,
        "full_disc": made.full_disc,
        "plain": made.plain,
        "dat": made.dat,
        "drawer": made.drawer,
        "case": made.case,
        "bench": made.bench,
        "shelf": made.shelf,
        "console": made.console,
        "downloads": made.downloads,
        "pier": made.pier,
        "rack": made.rack,
        "cards": made.cards,
    })
}

/// What was made, for people.
fn show_made(page: &mut Page, made: &Collection, folder: &Path) {
    page.line(format!("The demo collection of Saltmarsh Pier Arcade Museum is in {}:", native::text(folder)));
    page.brief(native::text(folder));
    let told = [
        (Some(&made.image), "an encrypted PS3 disc image"),
        (made.archive.as_ref(), "the same in an archive"),
        (Some(&made.key), "its disc key"),
        (Some(&made.description), "its description"),
        (Some(&made.damaged), "a copy with a sector that could not be read"),
        (Some(&made.short), "a copy that ends too early"),
        (Some(&made.keys), "a key list that can derive the disc key from the description"),
        (Some(&made.cue), "a PS1 CD: raw sectors, with two tracks of sound"),
        (Some(&made.scratched), "the same with scratches"),
        (Some(&made.dvd), "a PS2 DVD"),
        (Some(&made.drives[0]), "a simulated drive with that DVD, scratched"),
        (Some(&made.drives[1]), "another drive with the same disc"),
        (Some(&made.handheld), "a PSP disc"),
        (Some(&made.full_disc), "a full Xbox disc"),
        (Some(&made.plain), "a plain disc"),
        (Some(&made.dat), "a DAT file of what these should be"),
        (Some(&made.drawer.folder), "cartridges, patches, saves, and a simulated reader"),
        (Some(&made.bench.folder), "C64 programs, an Amiga archive, an arcade drive in hunks"),
        (Some(&made.case.folder), "a handheld game as image and package, recipes, art, a save"),
        (Some(&made.shelf), "a Switch title: base, updates, add-ons; another one on a gamecard"),
        (Some(&made.console.folder), "a PS3 game in a folder, recipes, made-up keys, a stick and an image of it"),
        (Some(&made.pier.folder), "a PS4 game: base, update, and files for an older system"),
        (Some(&made.rack.folder), "dumps that nobody has looked at for years"),
        (Some(&made.rack.list), "a DAT file of what these should be"),
        (Some(&made.cards[0]), "an empty card, for what a machine loads; another one beside it"),
        (Some(&made.downloads.folder), "an Xbox 360 disc, the same in a cabinet, packages, a saved game"),
    ];
    for (path, what) in told {
        if let Some(name) = path.and_then(|p| p.strip_prefix(folder).ok()) {
            page.line(format!("  {:<34} {what}", native::text(name)));
        }
    }
}

/// A step of the tour: the question, the words of the command, its exit code.
type Step = (&'static str, Vec<String>, u8);

/// The tour.
fn steps(made: &Collection, folder: &Path) -> Vec<Step> {
    let show = |path: &Path| native::text(path);
    let box_or_image = show(made.archive.as_ref().unwrap_or(&made.image));
    let description = show(&made.description);
    let target = |name: &str| show(&folder.join(name));
    let words = |line: &[&str]| -> Vec<String> { line.iter().map(|w| (*w).to_owned()).collect() };
    let drive = |path: &Path| format!("sim:{}", show(path));
    let (lane, kept) = (target("lane.iso"), target("lane.zst"));
    let second = target("lane, other drive.iso");
    let (dat, scratched) = (show(&made.dat), show(&made.scratched));
    let (handheld_keys, dash) = (show(&made.case.keys), target("Kelp Dash.cia"));
    let (package, classic) = (target("Fogbell Rescue.pkg"), target("Lamplighter Lane.bin.enc"));
    let nine = target("Pier Nine 01.08.pkg");
    let console_keys = show(&made.console.keys);
    let parade = target("Moth Parade.pkg");
    let shelf_keys = show(&made.shelf.join("keys"));
    let drawer = show(&made.drawer.folder);
    let stick = show(&made.console.stick_image);
    let cards = made.cards.each_ref().map(|card| show(card));
    let merged = target(&format!("card/{}", decanter_demo::hybrid::MERGED));
    vec![
        ("What is it?", words(&["identify", &box_or_image]), 0),
        ("Is the dump good?", words(&["verify", &box_or_image, "--against", &description]), 0),
        ("And the other one?", words(&["verify", &show(&made.damaged), "--against", &description]), 1),
        ("Take the files out.", words(&["extract", &box_or_image, "-o", &target("kelp")]), 0),
        (
            "Two bad copies, one good dump.",
            words(&[
                "repair",
                &show(&made.damaged),
                &show(&made.short),
                "--against",
                &description,
                "-o",
                &target("Kelp Courier (repaired).iso"),
            ]),
            0,
        ),
        (
            "Or write one decrypted image.",
            words(&["decrypt", &box_or_image, "-o", &target("Kelp Courier (decrypted).iso")]),
            0,
        ),
        (
            "Dump a scratched disc.",
            words(&["dump", &drive(&made.drives[0]), "-o", &lane, "--picture", &target("lane.png")]),
            1,
        ),
        ("Try another drive.", words(&["dump", &drive(&made.drives[1]), "-o", &second, "--passes", "2"]), 1),
        (
            "What the one lacks, the other has.",
            words(&[
                "dump",
                &drive(&made.drives[0]),
                "-o",
                &lane,
                "--fill-from",
                &format!("{second}.incomplete"),
                "--passes",
                "1",
            ]),
            0,
        ),
        ("Is that now a good dump?", words(&["verify", &lane, "--against", &dat]), 0),
        ("Keep it small, and prove it.", words(&["convert", &lane, "--to", "zst", "-o", &kept, "--prove"]), 0),
        ("A CD: is every sector sound?", words(&["verify", &scratched]), 1),
        ("Repair what can be repaired.", words(&["convert", &scratched, "--repair", "-o", &target("pinball.bin")]), 1),
        (
            "A full disc: keep only the game.",
            words(&["convert", &show(&made.full_disc), "--to", "xdvdfs", "-o", &target("gullwing.iso"), "--prove"]),
            0,
        ),
        (
            "A cartridge with a dirty contact.",
            words(&["dump", &drive(&made.drawer.reader), "-o", &target("fogbell.gb")]),
            0,
        ),
        ("A drawer of cartridges, in one archive.", words(&["identify", &show(&made.drawer.archive)]), 0),
        (
            "Are they good dumps? Headers and byte orders are looked through.",
            words(&["verify", &show(&made.drawer.archive), "--against", &show(&made.drawer.dat)]),
            0,
        ),
        (
            "All of them at once: each its own result.",
            words(&["convert", &show(&made.drawer.archive), "--to", "zst", "-o", &target("kept")]),
            0,
        ),
        (
            "The same command goes on where it was stopped: what is done stays.",
            words(&["convert", &show(&made.drawer.archive), "--to", "zst", "-o", &target("kept")]),
            0,
        ),
        (
            "A patch is checked before and after.",
            words(&[
                "patch",
                "apply",
                &show(&made.drawer.gb),
                &show(&made.drawer.patches[0]),
                "-o",
                &target("deep water.gb"),
            ]),
            0,
        ),
        (
            "The save of a cartridge, out of an emulator's file.",
            words(&[
                "save",
                "export",
                &show(&made.drawer.save),
                "--rom",
                &show(&made.drawer.gb),
                "-o",
                &target("fogbell raw.sav"),
            ]),
            0,
        ),
        (
            "A handheld's cartridge becomes a package that can be installed.",
            words(&["convert", &show(&made.case.full), "--to", "cia", "--keys", &handheld_keys, "-o", &dash]),
            0,
        ),
        ("Every digest in it is checked.", words(&["verify", &dash]), 0),
        (
            "A GBA ROM as a title of its own: see it first,",
            words(&["recipe", "show", &show(&made.case.recipe), "--picture", &target("moth sheet.png")]),
            0,
        ),
        ("then make it.", words(&["recipe", "make", &show(&made.case.recipe), "-o", &target("Moth Hour.cia")]), 0),
        (
            "Its save, out of what the console keeps.",
            words(&["save", "export", &show(&made.case.save), "--keys", &handheld_keys, "-o", &target("moth.sav")]),
            0,
        ),
        ("A shelf: what goes together, and what is missing?", words(&["identify", &show(&made.shelf)]), 0),
        (
            "Base, update and add-ons become one file.",
            words(&["merge", &show(&made.shelf.join("Kelp Courier")), "--to", "xci", "-o", &target("card/")]),
            0,
        ),
        ("Every content and every hash in it is checked.", words(&["verify", &merged, "--keys", &shelf_keys]), 0),
        ("And apart again.", words(&["unmerge", &merged, "--keys", &shelf_keys, "-o", &target("parts")]), 0),
        (
            "A folder with a game becomes a package for the big console.",
            words(&["convert", &show(&made.console.game), "--to", "pkg", "-o", &package, "--prove"]),
            0,
        ),
        ("What does it say of itself?", words(&["identify", &package]), 0),
        ("Every digest in it is checked.", words(&["verify", &package]), 0),
        (
            "A PS2 disc as the image that the console plays, and proven to come back.",
            words(&[
                "convert",
                &show(&made.dvd),
                "--to",
                "ps2-classics",
                "--keys",
                &console_keys,
                "-o",
                &classic,
                "--prove",
            ]),
            0,
        ),
        (
            "A PSP disc as a title in the console's menu: see it first,",
            words(&[
                "recipe",
                "show",
                &show(&made.console.recipes[0]),
                "--keys",
                &console_keys,
                "--picture",
                &target("parade sheet.png"),
            ]),
            0,
        ),
        (
            "then make it.",
            words(&["recipe", "make", &show(&made.console.recipes[0]), "--keys", &console_keys, "-o", &parade]),
            0,
        ),
        ("Is all of it sound?", words(&["verify", &parade, "--keys", &console_keys]), 0),
        (
            "The disc comes out again as it was.",
            words(&[
                "convert",
                &parade,
                "--to",
                "iso",
                "--keys",
                &console_keys,
                "-o",
                &target("Moth Parade, again.iso"),
            ]),
            0,
        ),
        (
            "Onto a stick, within the limits of the image of it.",
            words(&[
                "deliver",
                &package,
                &parade,
                &show(&made.handheld),
                "--onto",
                &show(&made.console.stick),
                "--layout",
                "ps3",
                "--like",
                &show(&made.console.stick_image),
            ]),
            0,
        ),
        ("Is it still there as it was?", words(&["deliver", "--check", &show(&made.console.stick)]), 0),
        (
            "Downloads of another console: what are they, and what is missing?",
            words(&["identify", &show(&made.downloads.folder)]),
            0,
        ),
        (
            "A cabinet, the package in it, the disc in that: its files, in one step.",
            words(&["extract", &show(&made.downloads.cabinet), "-o", &target("rowing")]),
            0,
        ),
        (
            "A disc becomes a package that can be installed,",
            words(&["convert", &show(&made.downloads.disc), "--to", "god", "-o", &target("installed/"), "--prove"]),
            0,
        ),
        ("every block of which has its digest.", words(&["verify", &target("installed")]), 0),
        (
            "The files of a saved game.",
            words(&["save", "export", &show(&made.downloads.save), "-o", &target("rowing save")]),
            0,
        ),
        ("Base, update, replacements: do they belong together?", words(&["identify", &show(&made.pier.folder)]), 0),
        (
            "They become one package, without anything unpacked on the way,",
            words(&[
                "merge",
                &show(&made.pier.base),
                &show(&made.pier.update),
                &show(&made.pier.replacements),
                "-o",
                &nine,
                "--prove",
            ]),
            0,
        ),
        ("every block of which is signed.", words(&["verify", &nine]), 0),
        ("Its files, out again.", words(&["extract", &nine, "-o", &target("nine")]), 0),
        (
            "Five programs of a home computer go onto one disk.",
            std::iter::once("convert".to_owned())
                .chain(made.bench.programs.iter().map(|p| show(p)))
                .chain(words(&["--to", "d64", "--label", "Saltmarsh", "-o", &target("five.d64")]))
                .collect(),
            0,
        ),
        ("Which file of an archive starts the game?", words(&["identify", &show(&made.bench.archive)]), 0),
        (
            "It becomes a hard file that starts it.",
            words(&[
                "convert",
                &show(&made.bench.archive),
                "--to",
                "hdf",
                "--start",
                "auto",
                "-o",
                &target("tide.hdf"),
            ]),
            0,
        ),
        ("What is on the arcade cabinet's drive?", words(&["identify", &show(&made.bench.drive)]), 0),
        (
            "One folder out of it, with the fixes laid over.",
            words(&[
                "extract",
                &format!("{}::1::GAMES/FOGBELL", show(&made.bench.drive)),
                "-o",
                &target("fogbell"),
                "--overlay",
                &show(&made.bench.fixes),
            ]),
            0,
        ),
        (
            "The drawer for a machine with a card in FAT32: what would be made of what?",
            words(&["prepare", &drawer, "--for", "cartridges", "--plan", &target("plan.toml")]),
            0,
        ),
        (
            "Done as the plan says, and read back.",
            words(&["prepare", "--follow", &target("plan.toml"), "--onto", &cards[0], "--like", &stick]),
            0,
        ),
        (
            "Discs for the computer under the television, in one line.",
            words(&["prepare", &show(&made.handheld), &show(&made.dvd), "--for", "television", "--onto", &cards[1]]),
            0,
        ),
    ]
}

/// The words of a line about the collection.
fn of_cellar(folder: &Path, words: &[&str]) -> Vec<String> {
    let cellar = native::text(folder.join("cellar"));
    let (first, rest) = words.split_at(1);
    let own = ["cellar", first[0], "--cellar", &cellar].map(str::to_owned);
    own.into_iter().chain(rest.iter().map(|w| (*w).to_owned())).collect()
}

/// A catalogue of the rack.
fn keeping(made: &Collection, folder: &Path) -> Vec<Step> {
    let show = |path: &Path| native::text(path);
    let line = |words: &[&str]| of_cellar(folder, words);
    let cellar = show(&folder.join("cellar"));
    vec![
        ("A catalogue of what is there,", vec!["cellar".into(), "new".into(), cellar], 0),
        ("looked through: what is it?", line(&["scan", &show(&made.rack.folder)]), 0),
        ("Is it what it should be?", line(&["match", "--dat", &show(&made.rack.list)]), 0),
        ("What is wrong with it?", line(&["status", "--damaged"]), 0),
        ("All of it as a page for a browser.", line(&["report", "-o", &show(&folder.join("report.html"))]), 0),
    ]
}

/// The rack after a year.
fn looking_after(folder: &Path) -> Vec<Step> {
    let line = |words: &[&str]| of_cellar(folder, words);
    let plan = native::text(folder.join("tidy.toml"));
    vec![
        ("Is everything still as it was?", line(&["check"]), 1),
        ("What should the files be called?", line(&["tidy", "--plan", &plan, "--doubles", "doubles"]), 0),
        ("Done as the plan says,", line(&["tidy", "--apply", &plan]), 0),
        ("and taken back.", line(&["tidy", "--undo", &plan]), 0),
        ("The next scan, for as many workers as there are,", line(&["scan", "--enqueue"]), 0),
        ("and one of them.", line(&["work", "--until-idle"]), 0),
    ]
}

/// Runs one step after the other. The exit code is 0 when every command ended as it should.
fn tour(with: &With<'_>, out: &mut dyn Write, steps: Vec<Step>) -> Result<u8, Stop> {
    let mut code = 0;
    for (question, words, expected) in steps {
        let typed: Vec<String> = words.iter().map(|w| typed(w)).collect();
        let (bold, plain) = (style::BOLD, style::PLAIN);
        if !with.global.quiet {
            writeln!(out)?;
            writeln!(out, "{bold}{question}{plain}")?;
            writeln!(out, "{bold}$ decanter {}{plain}", typed.join(" "))?;
            out.flush()?;
        }
        let found = (with.program.line)(&words, with, out)?;
        with.watch.end();
        if found != expected {
            code = code.max(found).max(1);
        }
    }
    Ok(code)
}
