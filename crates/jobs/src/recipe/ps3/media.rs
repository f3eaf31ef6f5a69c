//! Pictures, sound and moving icon of the menu: the user's own, the disc's, or none.

use super::{Recipe, Title, disc};
use crate::label::{self, is_png, unpacked};
use crate::recipe::art::{Art, fitted, framed, given, own};
use crate::{Item, Setting, locate};
use decanter_core::error::Blame;
use decanter_core::label::Picture;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Notice, Result};
use std::sync::Arc;

/// A picture of the menu: its file in a package, its size there, and the disc's file that it is made of.
pub(super) struct Shape {
    pub(super) file: &'static str,
    pub(super) size: (u32, u32),
    what: &'static str,
}

pub(super) static ICON: Shape = Shape { file: "ICON0.PNG", size: (320, 176), what: "icon" };
pub(super) static BACKGROUND: Shape = Shape { file: "PIC1.PNG", size: (1920, 1080), what: "background" };
pub(super) static OVERLAY: Shape = Shape { file: "PIC0.PNG", size: (1000, 560), what: "overlay" };
/// The sound and the moving icon.
pub(super) const SOUND: &str = "SND0.AT3";
pub(super) const ANIMATION: &str = "ICON1.PAM";

/// A file of a package, and what it is made of.
pub(super) struct Made {
    pub(super) path: String,
    pub(super) source: SourceRef,
    pub(super) from: String,
}

/// A picture that is ready: the file, and its pixels for the preview.
pub(super) struct Drawn {
    pub(super) made: Made,
    pub(super) picture: Picture,
}

/// Everything of the menu.
pub(super) struct Media {
    pub(super) icon: Drawn,
    pub(super) background: Option<Drawn>,
    pub(super) overlay: Option<Drawn>,
    pub(super) others: Vec<Made>,
    pub(super) notices: Vec<Notice>,
}

/// Everything of the menu that a title has.
///
/// # Errors
/// When what the recipe names is not there, or is of another kind.
pub(super) fn media(
    recipe: &Recipe,
    title: &Title,
    item: &Item,
    name: &str,
    digest: &[u8],
    setting: &Setting<'_>,
) -> Result<Media> {
    let mut notices = Vec::new();
    let mut draw = |shape: &'static Shape, art: &Art| picture(recipe, shape, art, item, &mut notices, setting);
    let icon = match draw(&ICON, &title.icon)? {
        Some(drawn) => drawn,
        None => {
            let (width, height) = ICON.size;
            let initials = own(name, digest, (width as usize, height as usize))?;
            drawn(&ICON, initials, &title.icon, "the title's initials".into())?
        }
    };
    let (background, overlay) = (draw(&BACKGROUND, &title.background)?, draw(&OVERLAY, &title.overlay)?);
    let mut others = Vec::new();
    let is_sound = |head: &[u8]| head.starts_with(b"RIFF") && head.get(8..12) == Some(b"WAVE");
    let sound = Other { file: SOUND, given: title.sound.as_deref(), fits: &is_sound, kind: "ATRAC3 sound (RIFF, AT3)" };
    others.extend(sound.made(recipe, item, &mut notices, setting)?);
    let animation = Other {
        file: ANIMATION,
        given: title.animation.as_deref(),
        fits: &|head| head.starts_with(b"PAMF"),
        kind: "film of this console (PAM)",
    };
    others.extend(animation.made(recipe, item, &mut notices, setting)?);
    Ok(Media { icon, background, overlay, others, notices })
}

/// A picture that the recipe names, or else the disc has; `None` where neither does, or the recipe wants none.
fn picture(
    recipe: &Recipe,
    shape: &'static Shape,
    art: &Art,
    item: &Item,
    notices: &mut Vec<Notice>,
    setting: &Setting<'_>,
) -> Result<Option<Drawn>> {
    let (source, picture, from) = match art.picture.as_deref() {
        Some("") => return Ok(None),
        Some(path) => {
            let (picture, source) = given(&recipe.path(path), setting)?;
            (source, picture, path.to_owned())
        }
        None => {
            let Some((path, source)) = disc::own_file(item, shape.file) else { return Ok(None) };
            let opened = source.and_then(|source| Ok((unpacked(&source)?, source)));
            match opened {
                Ok((Some(picture), source)) => (source, picture, format!("the disc's {path}")),
                Ok((None, _)) => {
                    notices.push(Notice::new(format!("the disc's {path} is no picture, and left out")));
                    return Ok(None);
                }
                Err(e) if e.blame() == Blame::Source => {
                    notices.push(Notice::damage(format!("the disc's {path} cannot be used: {e}")));
                    return Ok(None);
                }
                Err(e) => return Err(e),
            }
        }
    };
    let (width, height) = shape.size;
    let is_plain = art.background.is_none() && art.frame.is_none();
    if (picture.width, picture.height) == shape.size && is_plain && is_png(&source)? {
        let made = Made { path: shape.file.into(), source, from };
        return Ok(Some(Drawn { made, picture }));
    }
    if (picture.width, picture.height) != shape.size {
        let (what, own) = (shape.what, (picture.width, picture.height));
        notices.push(Notice::new(format!(
            "the {what} has {} by {} pixels, the console's have {width} by {height}: it is fitted ({})",
            own.0,
            own.1,
            art.fit.name()
        )));
    }
    let from = format!("{from}, {} by {}", picture.width, picture.height);
    Ok(Some(drawn(shape, picture, art, from)?))
}

/// A picture in the shape of the console's.
fn drawn(shape: &'static Shape, picture: Picture, art: &Art, from: String) -> Result<Drawn> {
    let frame = art.frame.map(|colour| (colour, art.frame_width.unwrap_or(4)));
    let picture = match (art.background, frame) {
        (None, None) => fitted(&picture, shape.size, art.fit)?,
        (background, frame) => framed(&picture, shape.size, art.fit, background, frame)?,
    };
    let (_, png) = label::png(&picture, &label::Options::default())?;
    let made = Made { path: shape.file.into(), source: Arc::new(Bytes(png)), from };
    Ok(Drawn { made, picture })
}

/// A file of the menu that is no picture.
struct Other<'a> {
    file: &'static str,
    given: Option<&'a str>,
    fits: &'a dyn Fn(&[u8]) -> bool,
    kind: &'static str,
}

impl Other<'_> {
    /// It, from the recipe or the disc.
    fn made(
        &self,
        recipe: &Recipe,
        item: &Item,
        notices: &mut Vec<Notice>,
        setting: &Setting<'_>,
    ) -> Result<Option<Made>> {
        let (source, from) = match self.given {
            Some("") => return Ok(None),
            Some(path) => (locate::bytes(&recipe.path(path), setting)?, path.to_owned()),
            None => match disc::own_file(item, self.file) {
                Some((path, source)) => (source?, format!("the disc's {path}")),
                None => return Ok(None),
            },
        };
        let mut head = vec![0; source.len().min(16) as usize];
        source.read_at(0, &mut head)?;
        let fits = (self.fits)(&head);
        if !fits && self.given.is_some() {
            return Err(Error::Usage(format!("{from} is no {}: {} has to be one", self.kind, self.file)));
        }
        if !fits {
            notices.push(Notice::new(format!("{from} is no {}, and left out", self.kind)));
            return Ok(None);
        }
        Ok(Some(Made { path: self.file.into(), source, from }))
    }
}
