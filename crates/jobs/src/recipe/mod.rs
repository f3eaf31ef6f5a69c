//! Recipes: saved, editable descriptions of packages to make. A recipe is TOML; what it leaves out has a default, and
//! the same recipe makes the same bytes. Each platform has a maker of its own, which prepares titles; showing and making
//! them is the same for all.

mod art;
mod handheld;
mod make;
mod new;
mod ps3;
mod report;
pub(crate) mod script;
mod show;

pub use make::make;
pub use new::new;
pub use report::{MadeTitle, MakeReport, NewReport, ShowReport, ShownFile, ShownTitle};
pub use show::show;

use crate::toml_text::nearest_or_all;
use crate::{Failure, Item, Setting, grouped, locate};
use decanter_core::blueprint::Blueprint;
use decanter_core::native;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Notice, Result};
use script::Script;
use std::path::Path;
use std::sync::Arc;

/// What makes the titles of one platform.
trait Maker: Sync {
    /// The name of the platform in a recipe.
    fn platform(&self) -> &'static str;

    /// What it makes of a source without anything else, in a word or two; `None` where it makes nothing of it.
    fn makes(&self, item: &Item) -> Option<&'static str>;

    /// The entry of a new recipe for a source, which the recipe names so; `None` if it makes nothing of it.
    ///
    /// # Errors
    /// What reading fails with.
    fn entry(&self, item: &Item, path: &str, setting: &Setting<'_>) -> Result<Option<Entry>>;

    /// Every title of a recipe, with what can be known of it before its pictures are drawn and its package is laid out.
    ///
    /// # Errors
    /// When the recipe or something it names cannot be used.
    fn prepare(&self, script: &Script, setting: &Setting<'_>) -> std::result::Result<Vec<Box<dyn Ready>>, Failure>;

    /// Whether a key that was typed opens or closes something of its titles.
    fn takes_key(&self) -> bool {
        false
    }

    /// What has to be known of whatever it makes.
    fn caution(&self) -> &'static str;
}

/// A title of a recipe, ready to be made.
trait Ready {
    /// Its source, as the recipe names it.
    fn source(&self) -> &str;

    /// What the console's menu calls it.
    fn title(&self) -> String;

    /// The title id.
    fn id(&self) -> String;

    /// The package to write.
    fn output(&self) -> &Path;

    /// What was noticed when it was prepared.
    fn notices(&self) -> &[Notice];

    /// What there is to say of it before it is made.
    ///
    /// # Errors
    /// When something that the recipe names cannot be used.
    fn shown(&self, notices: &mut Vec<Notice>, setting: &Setting<'_>) -> Result<ShownTitle>;

    /// A picture of how the console shows it, as a PNG.
    ///
    /// # Errors
    /// When it cannot be drawn.
    fn sheet(&self, setting: &Setting<'_>) -> Result<Vec<u8>>;

    /// Lays the package out.
    ///
    /// # Errors
    /// What the recipe or what it names is to blame for, and what reading fails with.
    fn lay(&self, setting: &Setting<'_>) -> Result<Laid>;

    /// Reads the package back, before it gets its name; what that proves, in words.
    ///
    /// # Errors
    /// When something of it is not as it should be.
    fn prove(&self, path: &Path, setting: &Setting<'_>) -> Result<String> {
        let item = read_back(path, setting)?;
        let count = crate::verify::prove(&item.opened, setting)?;
        Ok(format!("read back: all {count} digests that it carries hold"))
    }
}

/// A package that is laid out.
struct Laid {
    blueprint: Blueprint,
    /// Where its source is in it.
    place: String,
    /// What was noticed on the way.
    notices: Vec<Notice>,
}

/// What a maker says of a source for a new recipe.
enum Entry {
    /// The text for it.
    Text(String),
    /// It is one of its own, but cannot be made.
    LeftOut(Notice),
}

/// All makers; the first one makes recipes that name no platform.
static MAKERS: [&dyn Maker; 2] = [&handheld::Handheld, &ps3::Ps3];

/// What a recipe makes of a source.
pub(crate) fn made_of(item: &Item) -> Option<&'static str> {
    MAKERS.iter().find_map(|maker| maker.makes(item))
}

/// The places of keys for the next command, where titles of this maker need some.
fn keys_again(maker: &dyn Maker, setting: &Setting<'_>) -> String {
    if maker.takes_key() { setting.typed_keys() } else { String::new() }
}

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

/// Ids and outputs that two titles have.
fn clashes(all: &[Box<dyn Ready>]) -> Vec<String> {
    let mut told = Vec::new();
    for (index, ready) in all.iter().enumerate() {
        let (name, id) = (ready.source(), ready.id());
        if let Some(other) = all[..index].iter().find(|o| o.id() == id) {
            let other = other.source();
            told.push(format!(
                "\"{other}\" and \"{name}\" have the title id {id}: one would replace the other on the console"
            ));
        }
        if let Some(other) = all[..index].iter().find(|o| o.output() == ready.output()) {
            told.push(format!("\"{}\" and \"{name}\" have the same output", other.source()));
        }
    }
    told
}

/// A title that cannot be made, with what to do.
fn failed(recipe: &str, source: &str, error: Error) -> Failure {
    let failure = Failure::new(format!("cannot make the title of \"{source}\" in \"{recipe}\""), error);
    match *failure.cause {
        Error::Usage(_) => failure.hint("change the recipe, and look again with \"decanter recipe show\""),
        _ => failure,
    }
}

/// Every title of a recipe, ready to be made; `source` is what a title names as its source.
fn each<T, R: Ready + 'static>(
    script: &Script,
    titles: &[T],
    source: impl Fn(&T) -> &str,
    prepare: impl Fn(&T) -> Result<R>,
) -> std::result::Result<Vec<Box<dyn Ready>>, Failure> {
    let one = |title: &T| -> std::result::Result<Box<dyn Ready>, Failure> {
        Ok(Box::new(prepare(title).map_err(|e| failed(&script.path, source(title), e))?))
    };
    titles.iter().map(one).collect()
}

/// A package that was just written, opened.
fn read_back(path: &Path, setting: &Setting<'_>) -> Result<Item> {
    let source: SourceRef = Arc::new(FileSource::own(path)?);
    locate::open_bytes(&native::text(path), source, setting)
}

/// Number of a language among those that a console has, by its name; case, hyphens and brackets do not count.
///
/// # Errors
/// With the nearest one.
fn language_number(name: &str, languages: &[&str]) -> Result<usize> {
    let plain = |n: &str| n.to_lowercase().replace(['(', ')'], "").replace([' ', '_'], "-");
    let known: Vec<String> = languages.iter().map(|l| plain(l)).collect();
    known.iter().position(|k| *k == plain(name)).ok_or_else(|| {
        let known: Vec<&str> = known.iter().map(String::as_str).collect();
        Error::Usage(format!("there is no language \"{name}\"; {}", nearest_or_all(&plain(name), &known)))
    })
}

/// How the entry of a source begins: what it is, in a comment.
fn beginning(item: &Item, bytes: u64) -> String {
    let known = &item.opened.identity;
    let names: String = [&known.title, &known.id].into_iter().flatten().map(|name| format!(", {name}")).collect();
    // What stands in a source does not get out of the comment.
    let names = names.replace(char::is_control, " ");
    format!("\n[[title]]\n# {}{names}, {} bytes\n", known.kind, grouped(bytes))
}

/// A text as TOML writes it.
fn toml_quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn languages_are_known_by_name() {
        let known = ["Japanese", "English", "German", "Traditional Chinese", "Portuguese (Brazil)"];
        let number = |name: &str| language_number(name, &known);
        assert_eq!((number("german").unwrap(), number("Traditional_chinese").unwrap()), (2, 3));
        assert_eq!(number("Portuguese-Brazil").unwrap(), 4);
        assert!(number("germn").unwrap_err().to_string().contains("\"german\""));
    }
}
