//! The icon block (SMDH): titles in sixteen languages, regions, two icons. Layout: docs/formats/n3ds-label.md.

use super::tiles;
use crate::cartridge::text::utf16;
use crate::num::{le16, le32};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::label::{Label, Picture};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::{Error, Result};

const ID: &str = "smdh";
/// Bytes of the block.
pub const LEN: usize = 0x36c0;
const MAGIC: [u8; 4] = *b"SMDH";
/// Titles: where, how many, bytes of each; of its three texts.
const TITLES: usize = 8;
const TITLE: usize = 0x200;
/// Languages in the order of the block; four more places are unused.
pub const LANGUAGES: [&str; 12] = [
    "Japanese",
    "English",
    "French",
    "German",
    "Italian",
    "Spanish",
    "Simplified Chinese",
    "Korean",
    "Dutch",
    "Portuguese",
    "Russian",
    "Traditional Chinese",
];
/// All places for languages.
const PLACES: usize = 16;
/// Number of English.
const ENGLISH: usize = 1;
/// The most UTF-16 units of a short name.
pub const SHORT: usize = 64;
/// The most UTF-16 units of a long name.
pub const LONG: usize = 128;
/// The most UTF-16 units of a publisher.
pub const PUBLISHER: usize = 64;
/// Where each of them is in a title.
const FIELDS: [(usize, usize); 3] = [(0, SHORT), (0x80, LONG), (0x180, PUBLISHER)];
/// Regions and flags.
const REGIONS: usize = 0x2018;
const FLAGS: usize = 0x2028;
/// Every region.
pub const REGION_FREE: u32 = 0x7fff_ffff;
const REGION_NAMES: [&str; 7] = ["Japan", "Americas", "Europe", "Australia", "China", "Korea", "Taiwan"];
/// The small icon: where it is, and pixels of its edge.
pub const SMALL: (usize, u32) = (0x2040, 24);
/// The large icon, likewise.
pub const LARGE: (usize, u32) = (0x24c0, 48);

/// The format.
pub struct IconBlock;
/// The one instance.
pub static ICON: IconBlock = IconBlock;

/// An icon block: 0x36C0 bytes with the right mark.
#[derive(Clone, PartialEq, Eq)]
pub struct Smdh(Vec<u8>);

/// The three texts of a title.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Names {
    /// The short name.
    pub short: String,
    /// The long name; it may have line breaks.
    pub long: String,
    /// The publisher.
    pub publisher: String,
}

impl Smdh {
    /// An empty one that shows in the menu, for every region.
    pub fn new() -> Self {
        let mut bytes = vec![0; LEN];
        bytes[..4].copy_from_slice(&MAGIC);
        bytes[REGIONS..REGIONS + 4].copy_from_slice(&REGION_FREE.to_le_bytes());
        // Visible, use is recorded.
        bytes[FLAGS..FLAGS + 4].copy_from_slice(&0x101u32.to_le_bytes());
        Self(bytes)
    }

    /// The block that `bytes` begin with.
    ///
    /// # Errors
    /// [`Error::Malformed`] for another mark or too few bytes.
    pub fn parse(bytes: &[u8]) -> Result<Self> {
        match bytes.get(..LEN) {
            Some(block) if block[..4] == MAGIC => Ok(Self(block.to_vec())),
            Some(_) => Err(Error::malformed(ID, "no SMDH mark", 0)),
            None => Err(Error::malformed(ID, format!("an icon block of {} bytes instead of {LEN}", bytes.len()), 0)),
        }
    }

    /// The bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }

    /// The texts of language number `language`.
    pub fn names(&self, language: usize) -> Names {
        let text = |(at, units): (usize, usize)| {
            let start = TITLES + language.min(PLACES - 1) * TITLE + at;
            utf16(&self.0[start..start + units * 2])
        };
        Names { short: text(FIELDS[0]), long: text(FIELDS[1]), publisher: text(FIELDS[2]) }
    }

    /// Sets the texts of a language.
    ///
    /// # Errors
    /// [`Error::Usage`] for a text that is too long, with the limit and the language.
    pub fn set_names(&mut self, language: usize, names: &Names) -> Result<()> {
        let texts = [("short name", &names.short), ("long name", &names.long), ("publisher", &names.publisher)];
        for ((what, text), (at, most)) in texts.into_iter().zip(FIELDS) {
            let units: Vec<u16> = text.encode_utf16().collect();
            if units.len() > most {
                let language = LANGUAGES.get(language).copied().unwrap_or("unused");
                return Err(Error::Usage(format!(
                    "the {what} ({language}) has {} characters, there is room for {most}: \"{text}\"",
                    units.len()
                )));
            }
            let start = TITLES + language.min(PLACES - 1) * TITLE + at;
            let field = &mut self.0[start..start + most * 2];
            field.fill(0);
            for (slot, unit) in field.chunks_exact_mut(2).zip(units) {
                slot.copy_from_slice(&unit.to_le_bytes());
            }
        }
        Ok(())
    }

    /// Sets an icon; the picture has its size.
    pub fn set_icon(&mut self, place: (usize, u32), picture: &Picture) {
        debug_assert_eq!((picture.width, picture.height), (place.1, place.1));
        let bytes = tiles::write(picture);
        self.0[place.0..place.0 + bytes.len()].copy_from_slice(&bytes);
    }

    /// An icon.
    pub fn icon(&self, place: (usize, u32)) -> Picture {
        let len = (place.1 * place.1 * 2) as usize;
        tiles::read(&self.0[place.0..place.0 + len], place.1, place.1)
    }

    /// Takes the titles and icons of another one; regions and flags stay.
    pub fn take_label(&mut self, other: &Self) {
        self.0[TITLES..TITLES + PLACES * TITLE].copy_from_slice(&other.0[TITLES..TITLES + PLACES * TITLE]);
        self.0[SMALL.0..].copy_from_slice(&other.0[SMALL.0..]);
    }

    /// Makes it start in these regions only; bits as in the layout.
    pub fn set_regions(&mut self, bits: u32) {
        self.0[REGIONS..REGIONS + 4].copy_from_slice(&bits.to_le_bytes());
    }

    /// Makes it start in every region.
    pub fn set_region_free(&mut self) {
        self.set_regions(REGION_FREE);
    }

    /// The regions in which it starts, in words.
    pub fn regions(&self) -> String {
        let bits = le32(&self.0, REGIONS);
        if bits & 0x7f == 0x7f {
            return "all".into();
        }
        let named: Vec<&str> =
            REGION_NAMES.iter().enumerate().filter(|(i, _)| bits >> i & 1 == 1).map(|(_, name)| *name).collect();
        if named.is_empty() { "none".into() } else { named.join(", ") }
    }

    /// The publisher, in English or else the first language that has one.
    pub fn publisher(&self) -> String {
        let all = std::iter::once(ENGLISH).chain(0..PLACES).map(|l| self.names(l).publisher);
        all.into_iter().find(|p| !p.is_empty()).unwrap_or_default()
    }

    /// Titles and icons, the larger icon first.
    pub fn label(&self) -> Label {
        let titles = LANGUAGES.iter().enumerate().filter_map(|(number, language)| {
            let names = self.names(number);
            let text = if names.long.is_empty() { names.short } else { names.long };
            (!text.is_empty()).then_some((*language, text))
        });
        let pictures = vec![("icon", self.icon(LARGE)), ("small icon", self.icon(SMALL))];
        Label { titles: titles.collect(), pictures, packed: Vec::new() }
    }
}

impl Default for Smdh {
    fn default() -> Self {
        Self::new()
    }
}

/// The title in English or else the first language there is, on one line.
pub fn title_of(label: &Label) -> String {
    let english = label.titles.iter().find(|(language, _)| *language == LANGUAGES[ENGLISH]);
    let text = english.or(label.titles.first()).map(|(_, text)| text.as_str()).unwrap_or_default();
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

impl Format for IconBlock {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "3DS icon block"
    }

    fn role(&self) -> Role {
        Role::Record
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["smdh", "icn"]
    }

    fn reads(&self) -> &'static str {
        "titles in all languages, publisher, regions, both icons"
    }

    fn least_len(&self) -> u64 {
        LEN as u64
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= LEN as u64).then_some(90))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let bytes: [u8; LEN] = read_array(source.as_ref(), 0)?;
        let smdh = Smdh::parse(&bytes)?;
        let mut opened = Opened::new(ID, "3DS icon block");
        let label = smdh.label();
        opened.titled(title_of(&label));
        opened.fact("publisher", smdh.publisher());
        opened.fact("region", smdh.regions());
        opened.fact("version", format!("{}", le16(smdh.bytes(), 4)));
        for (number, language) in LANGUAGES.iter().enumerate() {
            let names = smdh.names(number);
            for (what, text) in [("short", names.short), ("long", names.long), ("publisher", names.publisher)] {
                if !text.is_empty() {
                    opened.told.parameters.push((format!("{language}, {what}"), text.replace('\n', " / ")));
                }
            }
        }
        opened.told.label = Some(label);
        Ok(opened)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_and_pixels_stand_where_the_layout_says() {
        let mut smdh = Smdh::new();
        let names = Names { short: "Moth".into(), long: "Moth Hour\nReel 2".into(), publisher: "Saltmarsh".into() };
        smdh.set_names(1, &names).unwrap();
        assert_eq!(smdh.bytes()[0x208..0x210], *b"M\0o\0t\0h\0");
        assert_eq!(smdh.bytes()[0x288..0x28c], *b"M\0o\0");
        assert_eq!(smdh.bytes()[0x388..0x38c], *b"S\0a\0");
        assert_eq!(smdh.names(1), names);
        assert_eq!(title_of(&smdh.label()), "Moth Hour Reel 2");
        let mut red = Picture { width: 48, height: 48, rgba: [0, 0, 0, 255].repeat(48 * 48) };
        red.rgba[4..8].copy_from_slice(&[255, 0, 0, 255]);
        smdh.set_icon(LARGE, &red);
        assert_eq!(smdh.bytes()[0x24c0..0x24c6], [0, 0, 0x00, 0xf8, 0, 0], "column 1 of row 0 is the second pixel");
        assert_eq!(smdh.regions(), "all");
    }

    #[test]
    fn long_texts_are_refused_with_limit_and_language() {
        let names = Names { short: "x".repeat(65), ..Names::default() };
        let error = Smdh::new().set_names(3, &names).unwrap_err().to_string();
        assert!(error.contains("64") && error.contains("German") && error.contains("short name"), "{error}");
        // A pair of surrogates counts twice; exactly full is allowed.
        let full = Names { short: "\u{1f98b}".repeat(32), ..Names::default() };
        let mut smdh = Smdh::new();
        smdh.set_names(3, &full).unwrap();
        assert_eq!(smdh.names(3).short, full.short);
    }
}
