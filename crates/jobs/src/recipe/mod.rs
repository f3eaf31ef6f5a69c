//! Recipes: saved, editable descriptions of packages to make. A recipe is TOML; what it leaves out has a default, and
//! the same recipe makes the same bytes. Each platform has a maker of its own.

mod handheld;
mod new;
mod report;
pub(crate) mod script;

pub use new::new;
pub use report::{MadeTitle, MakeReport, NewReport, ShowReport, ShownTitle};

use crate::toml_text::nearest_or_all;
use crate::{Answer, Failure, Item, Setting};
use decanter_core::{Error, Notice, Result};
use script::Script;
use std::path::Path;

/// What makes the titles of one platform.
trait Maker: Sync {
    /// The name of the platform in a recipe.
    fn platform(&self) -> &'static str;

    /// The entry of a new recipe for a source, which the recipe names so; `None` if it makes nothing of it.
    ///
    /// # Errors
    /// What reading fails with.
    fn entry(&self, item: &Item, path: &str, setting: &Setting<'_>) -> Result<Option<Entry>>;

    /// What a recipe will make.
    ///
    /// # Errors
    /// When the recipe or something it names cannot be used, or writing fails.
    fn show(
        &self,
        script: &Script,
        picture: Option<&Path>,
        which: usize,
        setting: &Setting<'_>,
    ) -> std::result::Result<ShowReport, Failure>;

    /// Makes it.
    ///
    /// # Errors
    /// As showing it, and when two titles would have the same id or output.
    fn make(
        &self,
        script: &Script,
        output: Option<&Path>,
        setting: &Setting<'_>,
    ) -> std::result::Result<(MakeReport, Answer), Failure>;
}

/// What a maker says of a source for a new recipe.
enum Entry {
    /// The text for it.
    Text(String),
    /// It is one of its own, but cannot be made.
    LeftOut(Notice),
}

/// All makers; the first one makes recipes that name no platform.
static MAKERS: [&dyn Maker; 1] = [&handheld::Handheld];

/// Reads a recipe, and finds who makes it.
fn read(path: &str, setting: &Setting<'_>) -> std::result::Result<(Script, &'static dyn Maker), Failure> {
    let script = Script::read(path, setting)?;
    let maker = match script.platform() {
        None => MAKERS[0],
        Some(name) => *MAKERS.iter().find(|m| m.platform() == name).ok_or_else(|| {
            let known: Vec<&str> = MAKERS.iter().map(|m| m.platform()).collect();
            script.failed(Error::Usage(format!("there is no platform \"{name}\"; {}", nearest_or_all(&name, &known))))
        })?,
    };
    Ok((script, maker))
}

/// Shows what a recipe will make; with `picture` draws its first title, or the one with number `which`, on a sheet.
///
/// # Errors
/// When the recipe or something it names cannot be used, or writing fails.
pub fn show(
    path: &str,
    picture: Option<&Path>,
    which: usize,
    setting: &Setting<'_>,
) -> std::result::Result<ShowReport, Failure> {
    let (script, maker) = read(path, setting)?;
    maker.show(&script, picture, which, setting)
}

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
    maker.make(&script, output, setting)
}
