//! A label: the names and pictures of a title.

use crate::source::SourceRef;

/// The names and pictures that a source carries.
#[derive(Clone, Default)]
pub struct Label {
    /// Titles, each with its language.
    pub titles: Vec<(&'static str, String)>,
    /// Pictures, each with what it is.
    pub pictures: Vec<(&'static str, Picture)>,
    /// Pictures as they stand in their files, JPEG or PNG, each with what it is: unpacked by whoever shows them.
    pub packed: Vec<(&'static str, SourceRef)>,
}

/// A picture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Red, green, blue and opacity of each pixel, row by row from the top left; not premultiplied.
    pub rgba: Vec<u8>,
}
