//! Control data of a program: its names in up to 16 languages, publisher, version, languages. Layout: docs/formats/nca.md.

use decanter_core::{Error, Result};

const ID: &str = "nacp";
/// Bytes of it.
pub const LEN: usize = 0x4000;
/// What its file is called.
pub const FILE: &str = "control.nacp";
/// Bytes of the names in one language; a publisher stands 0x200 into them.
const NAMES: usize = 0x300;
const PUBLISHER: usize = 0x200;
const LANGUAGES_AT: usize = 0x302c;
const VERSION_AT: usize = 0x3060;

/// Languages in the order of the file: as names of icons have them, as a language code, and as people say.
pub const LANGUAGES: [(&str, &str, &str); 16] = [
    ("AmericanEnglish", "en-US", "English (US)"),
    ("BritishEnglish", "en", "English"),
    ("Japanese", "ja", "Japanese"),
    ("French", "fr", "French"),
    ("German", "de", "German"),
    ("LatinAmericanSpanish", "es-419", "Spanish (Latin America)"),
    ("Spanish", "es", "Spanish"),
    ("Italian", "it", "Italian"),
    ("Dutch", "nl", "Dutch"),
    ("CanadianFrench", "fr-CA", "French (Canada)"),
    ("Portuguese", "pt", "Portuguese"),
    ("Russian", "ru", "Russian"),
    ("Korean", "ko", "Korean"),
    ("TraditionalChinese", "zh-Hant", "Traditional Chinese"),
    ("SimplifiedChinese", "zh-Hans", "Simplified Chinese"),
    ("BrazilianPortuguese", "pt-BR", "Portuguese (Brazil)"),
];

/// Names in one language.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Names {
    /// Which one, in [`LANGUAGES`].
    pub language: usize,
    /// The title.
    pub title: String,
    /// Who published it.
    pub publisher: String,
}

/// Control data.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Nacp {
    /// Names in the languages that it has some in.
    pub names: Vec<Names>,
    /// Its version, as users see it.
    pub version: String,
    /// Bits of the languages that the program speaks; bit 0 is the first one.
    pub languages: u32,
}

fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).trim().to_owned()
}

impl Nacp {
    /// Reads control data.
    ///
    /// # Errors
    /// [`Error::Malformed`] for one that is cut short.
    pub fn parse(bytes: &[u8]) -> Result<Self> {
        if bytes.len() < LEN {
            return Err(Error::malformed(ID, format!("control data of {} bytes", bytes.len()), 0));
        }
        let names = |language: usize| {
            let own = &bytes[language * NAMES..(language + 1) * NAMES];
            let (title, publisher) = (text(&own[..PUBLISHER]), text(&own[PUBLISHER..]));
            (!title.is_empty()).then_some(Names { language, title, publisher })
        };
        Ok(Self {
            names: (0..LANGUAGES.len()).filter_map(names).collect(),
            version: text(&bytes[VERSION_AT..VERSION_AT + 0x10]),
            languages: crate::num::le32(bytes, LANGUAGES_AT),
        })
    }

    /// The names in the first language that there are some in.
    pub fn first(&self) -> Option<&Names> {
        self.names.first()
    }

    /// The languages that it speaks, as people say; those that it has names in, where it says none.
    pub fn spoken(&self) -> Vec<&'static str> {
        let says = |index: &usize| self.languages >> index & 1 == 1;
        let spoken: Vec<usize> = (0..LANGUAGES.len()).filter(says).collect();
        let all = if spoken.is_empty() { self.names.iter().map(|n| n.language).collect() } else { spoken };
        all.into_iter().map(|index| LANGUAGES[index].2).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_stand_where_the_layout_says() {
        let mut bytes = vec![0; LEN];
        bytes[0x300..0x30c].copy_from_slice(b"Kelp Courier");
        bytes[0x500..0x509].copy_from_slice(b"Saltmarsh");
        bytes[0xc00..0xc0a].copy_from_slice("Tangkurier".as_bytes());
        bytes[0x302c] = 0b1_0010;
        bytes[0x3060..0x3065].copy_from_slice(b"1.2.0");
        let own = Nacp::parse(&bytes).unwrap();
        assert_eq!(
            (own.first().unwrap().title.as_str(), own.first().unwrap().publisher.as_str()),
            ("Kelp Courier", "Saltmarsh")
        );
        assert_eq!(own.names.iter().map(|n| n.language).collect::<Vec<_>>(), [1, 4]);
        assert_eq!((own.version.as_str(), own.spoken()), ("1.2.0", vec!["English", "German"]));
        assert!(Nacp::parse(&bytes[1..]).is_err());
    }
}
