//! Whether an update installs over a base as the package that it is: what decides it.

use super::{Layer, LayerPart, fits, rank};
use crate::{Answer, Failure, Item, Setting, locate};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::error::Blame;
use decanter_core::{Format, Result};
use decanter_formats::package::ps4::{self, entry};
use serde::Serialize;

/// Bytes of a small file that is compared.
const MOST_FILE: u64 = 16 << 20;

/// Whether updates install over a base.
#[derive(Debug, Serialize)]
pub struct Kept {
    /// Layout of this report.
    pub schema: &'static str,
    /// The base.
    pub base: Layer,
    /// The updates, each with what decides.
    pub updates: Vec<(Layer, Vec<Point>)>,
}

/// Something that decides whether an update installs.
#[derive(Debug, Serialize)]
pub struct Point {
    /// What is compared.
    pub what: String,
    /// Whether it is as it should be; nothing where that cannot be told.
    pub holds: Option<bool>,
    /// What was found.
    pub found: String,
}

impl Kept {
    /// Whether nothing stands against any of the updates.
    pub fn holds(&self) -> bool {
        self.updates.iter().flat_map(|(_, points)| points).all(|p| p.holds != Some(false))
    }
}

/// Compares updates with a base.
///
/// # Errors
/// When a source cannot be opened, or is none of a base and its updates.
pub fn keep(sources: &[String], setting: &Setting<'_>) -> std::result::Result<(Kept, Answer), Failure> {
    let what = "cannot compare base and update";
    let mut opened = Vec::new();
    for source in sources {
        let item = locate::open(source, "compare", setting)?;
        let layer = Layer::of(&item).map_err(|e| Failure::new(what, e))?;
        match layer {
            Some(layer) if ps4::PACKAGE.is_of(&item.opened) => opened.push((item, layer)),
            _ => {
                let why = format!("\"{source}\" is no PS4 package");
                return Err(Failure::usage(what, why).hint("give the packages of a base and of its update"));
            }
        }
    }
    let is_base = |(_, layer): &(Item, Layer)| layer.part == LayerPart::Base;
    let Some(at) = opened.iter().position(is_base).filter(|_| opened.len() > 1) else {
        let why = "a base and at least one update are needed";
        return Err(Failure::usage(what, why).hint("decanter identify FOLDER says what is what"));
    };
    let (base_item, base) = opened.remove(at);
    let fail = |e| Failure::new(what, e);
    let points = |(item, layer): (Item, Layer)| Ok((points(&base_item, &base, &item, &layer)?, layer));
    let updates: Result<Vec<(Vec<Point>, Layer)>> = opened.into_iter().map(points).collect();
    let updates = updates.map_err(fail)?.into_iter().map(|(points, layer)| (layer, points)).collect();
    let kept = Kept { schema: "decanter.keep-update/1", base, updates };
    let answer = if kept.holds() { Answer::Yes } else { Answer::No };
    Ok((kept, answer))
}

fn points(base_item: &Item, base: &Layer, item: &Item, own: &Layer) -> Result<Vec<Point>> {
    let same = |what: &str, own: &str, base: &str| Point {
        what: what.into(),
        holds: Some(own == base),
        found: if own == base { format!("{own} in both") } else { format!("{own}, the base has {base}") },
    };
    let mut points = vec![
        same("content id", &own.content_id, &base.content_id),
        same("title id", &own.title_id, &base.title_id),
        Point {
            what: "category".into(),
            holds: Some(own.part == LayerPart::Update),
            found: format!("{} over {}", own.part.word(), base.part.word()),
        },
        Point {
            what: "app version".into(),
            holds: Some(own.rank() > base.rank()),
            found: format!("{} over {}", shown(&own.app_version), shown(&base.app_version)),
        },
    ];
    if own.is_delta {
        let why = fits(base, own).unwrap_or_default();
        points.push(Point { what: "whole files".into(), holds: Some(false), found: why });
    }
    if !own.made_for.is_empty() {
        points.push(Point {
            what: "made for".into(),
            holds: Some(rank(&own.made_for) == base.rank()),
            found: format!("version {}, the base is {}", own.made_for, shown(&base.app_version)),
        });
    }
    points.push(made_for(base_item, item)?);
    Ok(points)
}

/// Whether what an update keeps of the base that it was made for is that of this one.
fn made_for(base: &Item, own: &Item) -> Result<Point> {
    let (mut same, mut other) = (0, 0);
    let mut is_kept = false;
    for (in_update, in_base) in entry::CHUNKS_OF_BASE {
        let Some(kept) = digest(own, in_update)? else { continue };
        is_kept = true;
        match digest(base, in_base)? {
            Some(there) if there == kept => same += 1,
            Some(_) => other += 1,
            None => {}
        }
    }
    let (holds, found) = match (is_kept, same, other) {
        (false, ..) => (None, "the update keeps nothing of the base that it was made for"),
        (_, _, 1..) => (Some(false), "the update was made for another build of it: a console may refuse it"),
        (_, 0, 0) => (None, "the base has nothing to compare with what the update keeps"),
        _ => (Some(true), "what the update keeps of its base is that of this one"),
    };
    Ok(Point { what: "made for base".into(), holds, found: found.into() })
}

fn shown(version: &str) -> &str {
    if version.is_empty() { "no version" } else { version }
}

/// The digest of a small file of a package; `None` where it has none that can be read.
fn digest(item: &Item, id: u32) -> Result<Option<Vec<u8>>> {
    let Some(tree) = item.opened.holds.tree.as_ref() else { return Ok(None) };
    match tree.read(&entry::path_of(id), MOST_FILE) {
        Ok(found) => Ok(found.map(|bytes| of_bytes(Algorithm::Sha256, &bytes).bytes)),
        Err(e) if matches!(e.blame(), Blame::Source | Blame::Key) => Ok(None),
        Err(e) => Err(e),
    }
}
