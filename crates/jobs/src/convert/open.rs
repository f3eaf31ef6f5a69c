//! How a source is opened for a target: mostly as it is, sometimes put together of parts, sometimes whatever it is.

use super::Options;
use crate::locate::INSIDE;
use crate::{Failure, Item, Setting, locate};
use decanter_core::source::SourceRef;
use decanter_core::view::{Concat, Woven};
use decanter_core::{Error, Format, Result};
use decanter_formats::package::ps3::pkg::PACKAGE;
use decanter_formats::package::x360::DISC;
use std::sync::Arc;

/// Opens the source, put together with its other parts.
pub(super) fn whole(shown: &str, options: &Options, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let Some(bytes) = joined(shown, options, setting)? else { return locate::open(shown, "convert", setting) };
    locate::open_bytes(shown, bytes, setting).map_err(|e| {
        let is_unknown = matches!(e, Error::NotUnderstood { .. });
        let failure = Failure::new(format!("cannot join the parts of \"{shown}\""), e);
        match is_unknown {
            true => failure.hint("what comes out is nothing known: are the parts complete, and in the right order?"),
            false => failure,
        }
    })
}

/// The same for images of discs: of a package that carries one, that.
pub(super) fn disc(shown: &str, options: &Options, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let item = whole(shown, options, setting)?;
    match disc_in(&item) {
        None => Ok(item),
        Some(path) => {
            let inner = format!("{}{INSIDE}{path}", item.address);
            locate::open(&inner, "convert", setting).map(|inner| Item { shown: item.shown, stem: item.stem, ..inner })
        }
    }
}

/// The bytes of the image that a source is, or that stands in the data files of a package.
pub(super) fn image(item: &Item) -> Option<&SourceRef> {
    match DISC.is_of(&item.opened) {
        true => item.opened.holds.volume.as_ref(),
        false => item.source.as_ref(),
    }
}

/// Where the disc of a package is that plays one of another generation.
pub(super) fn disc_in(item: &Item) -> Option<&str> {
    /// What the console's own player calls it.
    const DISCS: [&str; 2] = ["ISO.BIN.EDAT", "ISO.BIN.ENC"];
    let tree = item.opened.holds.tree.as_ref().filter(|_| PACKAGE.is_of(&item.opened))?;
    let is_disc = |name: &str| DISCS.iter().any(|disc| name.eq_ignore_ascii_case(disc));
    tree.files().find(|(node, _)| is_disc(node.name())).map(|(node, _)| node.path.as_str())
}

/// The same for targets that take what nobody understands, too.
pub(super) fn anything(shown: &str, options: &Options, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    match whole(shown, options, setting) {
        Err(f) if matches!(*f.cause, Error::NotUnderstood { .. }) => match joined(shown, options, setting)? {
            Some(bytes) => Ok(locate::unknown_bytes(shown, bytes, setting)),
            None => locate::open_lightly(shown, "convert", setting),
        },
        opened => opened,
    }
}

/// All parts as one, if there are several.
pub(super) fn joined(
    shown: &str,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<Option<SourceRef>, Failure> {
    if options.join.is_empty() && options.odd.is_none() {
        return Ok(None);
    }
    let join = || -> Result<SourceRef> {
        let mut whole = locate::bytes(shown, setting)?;
        if let Some(odd) = &options.odd {
            whole = Arc::new(Woven::new(whole, locate::bytes(odd, setting)?)?);
        }
        let mut parts = vec![whole];
        for part in &options.join {
            parts.push(locate::bytes(part, setting)?);
        }
        Ok(Arc::new(Concat::new(parts)?))
    };
    join().map(Some).map_err(|e| Failure::new(format!("cannot join the parts of \"{shown}\""), e))
}
