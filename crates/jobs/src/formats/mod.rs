//! What can be read, written, and turned into what: straight from the registry.

mod pages;

use crate::convert::Target;
use crate::convert::table::targets;
use crate::{Failure, nearest};
use decanter_formats::REGISTRY;
use serde::Serialize;

/// The list of formats.
#[derive(Debug, Serialize)]
pub struct FormatsReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The formats.
    pub formats: Vec<FormatEntry>,
    /// What "convert" can make.
    pub targets: Vec<TargetEntry>,
}

/// Something that sources can become.
#[derive(Debug, Serialize)]
pub struct TargetEntry {
    /// Its id, for `--to`.
    pub id: &'static str,
    /// What it is.
    pub what: &'static str,
    /// What it is made of.
    pub made_of: &'static str,
}

/// One format.
#[derive(Debug, Serialize)]
pub struct FormatEntry {
    /// Its id.
    pub id: &'static str,
    /// What people call it.
    pub name: &'static str,
    /// Usual extensions.
    pub extensions: &'static [&'static str],
    /// What is read of it.
    pub reads: &'static str,
}

/// Lists all formats.
pub fn formats() -> FormatsReport {
    FormatsReport {
        schema: "decanter.formats/1",
        formats: REGISTRY.formats().iter().map(entry).collect(),
        targets: targets().map(target_entry).collect(),
    }
}

/// All that there is to tell of one format, and of the target of that name.
#[derive(Debug, Serialize)]
pub struct FormatDetail {
    /// Layout of this report.
    pub schema: &'static str,
    /// Its id.
    pub id: &'static str,
    /// What is read, if it is.
    pub read: Option<FormatEntry>,
    /// What is written, if it is.
    pub written: Option<TargetEntry>,
    /// Extension of new files, with that of a file that comes beside it.
    pub extension: Option<String>,
    /// Options that writing it has.
    pub options: Vec<OptionEntry>,
    /// Formats that it is a form of, or that are forms of it: where more is told.
    pub see: Vec<&'static str>,
    /// What nobody is sure of.
    pub doubts: Vec<String>,
    /// Pages of the documentation.
    pub pages: Vec<String>,
    /// A command that makes or reads it.
    pub example: String,
}

/// An option of a target.
#[derive(Debug, Serialize)]
pub struct OptionEntry {
    /// As it is typed.
    pub name: String,
    /// What it changes.
    pub help: &'static str,
}

/// Tells all of one format or target, by its id in whatever case, or by an extension that only it has.
///
/// # Errors
/// When there is none, with the nearest.
pub fn one(asked: &str) -> Result<FormatDetail, Failure> {
    let formats = REGISTRY.formats();
    let bare = asked.trim_start_matches('.').to_lowercase();
    let format = formats.iter().find(|f| f.id() == bare);
    let target = targets().find(|t| t.id == bare);
    let by_extension: Vec<_> = formats.iter().filter(|f| f.extensions().contains(&bare.as_str())).collect();
    let format = match (format, target, &by_extension[..]) {
        (None, None, [only]) => Some(*only),
        (format, ..) => format,
    };
    let Some(id) = format.map(|f| f.id()).or(target.map(|t| t.id)) else {
        let what = format!("cannot tell of \"{asked}\"");
        if !by_extension.is_empty() {
            let ids: Vec<&str> = by_extension.iter().map(|f| f.id()).collect();
            return Err(Failure::usage(what, format!("several formats have .{bare}: {}", ids.join(", ")))
                .hint(format!("decanter formats {}", ids[0])));
        }
        let known = formats.iter().map(|f| f.id()).chain(targets().map(|t| t.id));
        let near = nearest(&bare, known).map(|near| format!(": did you mean {near}?")).unwrap_or_default();
        return Err(Failure::usage(what, format!("there is no format of that name{near}"))
            .hint("\"decanter formats\" lists what there is"));
    };
    let target = targets().find(|t| t.id == id);
    let option = |choice: &&'static crate::convert::choice::Choice| OptionEntry {
        name: format!("--{} {}", choice.name, choice.value).trim_end().to_owned(),
        help: choice.help,
    };
    let see = match target {
        // A form of a ROM is read as its family is; an image as what is on it.
        Some(target) if format.is_none() => {
            formats.iter().filter(|f| f.extensions().contains(&target.extension)).map(|f| f.id()).collect()
        }
        _ => Vec::new(),
    };
    let example = match target {
        Some(target) => format!("decanter convert SOURCE --to {}", target.id),
        None => format!("decanter identify FILE.{}", format.and_then(|f| f.extensions().first()).unwrap_or(&id)),
    };
    Ok(FormatDetail {
        schema: "decanter.format/1",
        id,
        read: format.map(entry),
        written: target.map(target_entry),
        extension: target
            .map(|t| format!(".{}{}", t.extension, t.pair.map(|p| format!(" and .{p}")).unwrap_or_default())),
        options: target.iter().flat_map(|t| t.options.iter()).map(option).collect(),
        see,
        doubts: pages::doubts(id),
        pages: pages::named(id).iter().map(|page| format!("docs/formats/{page}.md")).collect(),
        example,
    })
}

fn entry(f: &&'static dyn decanter_core::Format) -> FormatEntry {
    FormatEntry { id: f.id(), name: f.name(), extensions: f.extensions(), reads: f.reads() }
}

fn target_entry(t: &'static Target) -> TargetEntry {
    TargetEntry { id: t.id, what: t.what, made_of: t.made_of }
}
