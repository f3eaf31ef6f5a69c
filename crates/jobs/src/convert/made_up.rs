//! A target that nobody has: what a new one takes. It is one module (all of [`TIDE_BOX`]) and one line in the table; its choice
//! on the command line, the help, the check for what does not fit, the proof and the report follow by themselves.

use super::choice::{Choice, Choices, Given, Kind};
use super::laid::make;
use super::made::{Back, Made};
use super::target::{Target, is_folder};
use super::{Options, table};
use crate::{Answer, Item, Setting, locate};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Result};
use std::path::Path;
use std::sync::Arc;

static TIDE_BOX: Target = Target {
    id: "tide-box",
    what: "a tide box",
    extension: "tide",
    made_of: "folders",
    options: &[&AUTHOR],
    accepts: |item, _| is_folder(item).then_some(20),
    lay,
    ..Target::BASE
};

static AUTHOR: Choice = Choice::of("author", "TEXT", Kind::Text, "Who packed it");

fn lay(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    let tree = item.opened.holds.tree.as_ref().ok_or_else(|| Error::Usage("there are no files in it".into()))?;
    let mut blueprint = Blueprint::new();
    let head = format!("TIDE{}\n", options.given.text(&AUTHOR).unwrap_or("nobody"));
    blueprint.source(Arc::new(Bytes(head.into_bytes())));
    for (node, file) in tree.files() {
        blueprint.source(Arc::new(Bytes(format!("{}\n", node.path).into_bytes())));
        blueprint.source(file.source()?.clone());
    }
    let whole: SourceRef = blueprint.as_source()?;
    let made = Made::new(blueprint, whole.clone(), "all files with their names");
    Ok(Made { back: Back::Bytes(whole), ..made })
}

/// A folder with two files, and a place for results.
fn bench() -> (tempfile::TempDir, String) {
    let folder = tempfile::tempdir().unwrap();
    let shelf = folder.path().join("shelf");
    std::fs::create_dir(&shelf).unwrap();
    std::fs::write(shelf.join("a.txt"), "out").unwrap();
    std::fs::write(shelf.join("b.txt"), "in").unwrap();
    let shown = shelf.to_str().unwrap().to_owned();
    (folder, shown)
}

fn made(shown: &str, output: &Path, options: &Options) -> std::result::Result<Answer, crate::Failure> {
    let setting = Setting::new(&());
    let item = (TIDE_BOX.open)(shown, options, &setting)?;
    assert_eq!(TIDE_BOX.accepts(&item), Some(20));
    make(&item, &TIDE_BOX, Some(output), options, &setting).map(|(report, answer)| {
        assert_eq!((report.to, report.files.len()), ("tide-box", 1));
        assert!(report.proven.is_some() == options.prove);
        answer
    })
}

#[test]
fn a_new_target_is_laid_out_poured_and_proven_like_any_other() {
    let (folder, shown) = bench();
    let target = folder.path().join("out.tide");
    let mut options = Options { prove: true, ..Options::default() };
    options.given.add(&AUTHOR, Given::Text("Ada".into()));
    assert_eq!(made(&shown, &target, &options).unwrap(), Answer::Yes);
    assert_eq!(std::fs::read_to_string(&target).unwrap(), "TIDEAda\na.txt\noutb.txt\nin");
    // It is refused to replace, as everything is.
    assert!(made(&shown, &target, &options).is_err());
}

#[test]
fn a_choice_of_another_target_does_not_fit_it() {
    let (folder, shown) = bench();
    let given: Choices = table::chosen(&[("level", "3")]).unwrap();
    let failure = made(&shown, &folder.path().join("x"), &Options { given, ..Options::default() }).unwrap_err();
    assert!(failure.cause.to_string().contains("--level has no meaning with --to tide-box"), "{}", failure.cause);
    assert!(!folder.path().join("x").exists());
}

#[test]
fn a_source_that_it_is_not_made_of_is_not_accepted() {
    let (folder, _) = bench();
    let file = folder.path().join("shelf/a.txt");
    let setting = Setting::new(&());
    let item = locate::open_lightly(file.to_str().unwrap(), "convert", &setting).unwrap();
    assert_eq!(TIDE_BOX.accepts(&item), None);
}
