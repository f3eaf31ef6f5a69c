//! What a source should become: as it was said with `--to`, as the name of the result says it, or as options mean it.

use super::Options;
use super::table;
use super::target::Target;
use crate::failure::with_article;
use crate::helps::helps;
use crate::{Failure, Item, nearest, place};
use std::path::Path;

/// What was said of the target.
#[derive(Clone, Copy)]
pub(super) struct Aim<'a> {
    to: Option<&'a str>,
    /// The extension of the name that was given for the result.
    extension: Option<&'a str>,
}

impl<'a> Aim<'a> {
    /// What `--to` and the name of the result say.
    pub(super) fn new(to: Option<&'a str>, output: Option<&'a Path>) -> Self {
        let file = output.filter(|path| !place::is_folder(path));
        Self { to, extension: file.and_then(Path::extension).and_then(|e| e.to_str()) }
    }

    /// The target that is meant before anything was opened, for how that is done.
    pub(super) fn asked(&self) -> &'static Target {
        self.to.or(self.extension).and_then(table::target).unwrap_or(&Target::BASE)
    }

    /// Fails if what was said of many sources is no target at all, whatever they are.
    ///
    /// # Errors
    /// With the nearest one.
    pub(super) fn check_for_many(&self, options: &Options) -> Result<(), Failure> {
        if self.to.is_none() && !table::choices().into_iter().any(|choice| options.given.has(choice)) {
            let hint = "add --to FORMAT: \"decanter identify\" says what each of them can become";
            return Err(Failure::usage("cannot convert several sources", "no target format is given").hint(hint));
        }
        match self.to.filter(|id| table::target(id).is_none()) {
            Some(id) => Err(unknown("cannot convert", id).hint("\"decanter formats\" lists what there is")),
            None => Ok(()),
        }
    }

    /// The target for a source.
    ///
    /// # Errors
    /// When none is said, the source cannot become it, or there is none of that name.
    pub(super) fn target(&self, item: &Item, options: &Options) -> Result<&'static Target, Failure> {
        let what = || format!("cannot convert \"{}\"", item.shown);
        let target = match self.to {
            Some(id) => table::target(id)
                .ok_or_else(|| unknown(&what(), id).hint(format!("this source can become: {}", becomes(item))))?,
            None => match table::targets().find(|t| (t.is_meant)(item, t, options)) {
                Some(target) => target,
                None => self.named(item, &what())?,
            },
        };
        match (target.accepts(item), item.opened.closed_by()) {
            (Some(_), _) => Ok(target),
            // What it could become is not known without its key.
            (None, Some(trouble)) => Err(Failure::new(what(), trouble.clone().into())),
            (None, None) => {
                let hint = helps(item).unwrap_or_else(|| format!("it can become: {}", becomes(item)));
                Err(Failure::usage(what(), misfit(item, target)).hint(hint))
            }
        }
    }

    /// The target that the name of the result says.
    fn named(&self, item: &Item, what: &str) -> Result<&'static Target, Failure> {
        let missing = |why: String| {
            let hint = format!(
                "add --to with one of: {}; or give the result a name with its extension: -o FILE",
                becomes(item)
            );
            Err(Failure::usage(what, why).hint(hint))
        };
        let Some(extension) = self.extension else { return missing("no target format is given".into()) };
        if let Some(target) = table::target(extension).filter(|t| t.accepts(item).is_some()) {
            return Ok(target);
        }
        let is_its =
            |t: &&Target| std::iter::once(t.extension).chain(t.pair).any(|e| e.eq_ignore_ascii_case(extension));
        let fitting: Vec<&'static Target> =
            table::targets().filter(is_its).filter(|t| t.accepts(item).is_some()).collect();
        match fitting[..] {
            [target] => Ok(target),
            [] => missing(format!("no target format is given, and .{extension} names none that it could become")),
            _ => {
                let ids: Vec<&str> = fitting.iter().map(|t| t.id).collect();
                missing(format!("no target format is given, and .{extension} may be {}", ids.join(" or ")))
            }
        }
    }
}

/// Why a source cannot become a target.
pub(super) fn misfit(item: &Item, target: &Target) -> String {
    format!("{} cannot become {}", with_article(&item.opened.identity.kind), target.what)
}

fn unknown(what: &str, id: &str) -> Failure {
    let near = nearest(id, table::targets().map(|t| t.id));
    let near = near.map(|near| format!(": did you mean {near}?")).unwrap_or_default();
    Failure::usage(what, format!("there is no target format \"{id}\"{near}"))
}

/// What a source can become, in words.
fn becomes(item: &Item) -> String {
    let ids: Vec<&str> = table::targets().filter(|t| t.accepts(item).is_some()).map(|t| t.id).collect();
    if ids.is_empty() { "nothing".into() } else { ids.join(", ") }
}
