//! Options of targets, each stated once: the command line, its help, the check for what does not fit and the lists of formats
//! follow from here.

use crate::typed_in;
use std::collections::BTreeMap;

/// An option that some targets have.
#[derive(Debug)]
pub struct Choice {
    /// Its name, as it is typed after two dashes.
    pub name: &'static str,
    /// What stands for its value in the help; empty for one without.
    pub value: &'static str,
    /// What its value is.
    pub kind: Kind,
    /// What it changes, when to use it, the default.
    pub help: &'static str,
    /// What tells a result apart that was made with it, where that would have its source's name.
    pub word: Option<&'static str>,
}

/// What the value of a choice is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// There is none: it was asked for or not.
    Flag,
    /// A whole number.
    Number,
    /// A number of bytes, as in `64MiB`.
    Size,
    /// The same, or nothing: as large as it should be.
    SizeOrFit,
    /// One byte, as in `0xff`.
    Byte,
    /// The most bytes of a part, or `even-odd`.
    Split,
    /// Any text.
    Text,
    /// One of these.
    OneOf(&'static [&'static str]),
    /// Any text, as often as it is given.
    Texts,
    /// Texts that commas separate.
    List,
    /// A path or an address.
    Path,
}

/// How a result is taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Split {
    /// Into files of at most so many bytes.
    Size(u64),
    /// Into the bytes at even offsets and those at odd ones.
    EvenOdd,
}

/// The value of a choice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Given {
    /// It was asked for.
    Yes,
    /// A whole number.
    Number(i32),
    /// A number of bytes; `None` for as many as there should be.
    Size(Option<u64>),
    /// One byte.
    Byte(u8),
    /// How to take the result apart.
    Split(Split),
    /// One text.
    Text(String),
    /// Several.
    Texts(Vec<String>),
}

impl Choice {
    /// One without a value.
    pub const fn flag(name: &'static str, help: &'static str) -> Self {
        Self { name, value: "", kind: Kind::Flag, help, word: None }
    }

    /// One with a value.
    pub const fn of(name: &'static str, value: &'static str, kind: Kind, help: &'static str) -> Self {
        Self { name, value, kind, help, word: None }
    }

    /// The same, with a word that tells its results apart.
    pub const fn making(self, word: &'static str) -> Self {
        Self { word: Some(word), ..self }
    }

    /// The value of one that was typed.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn read(&self, text: &str) -> Result<Given, String> {
        Ok(match self.kind {
            Kind::Flag => Given::Yes,
            Kind::Number => Given::Number(text.parse().map_err(|_| format!("\"{text}\" is no whole number"))?),
            Kind::Size | Kind::SizeOrFit => Given::Size(Some(typed_in::size(text)?)),
            Kind::Byte => Given::Byte(typed_in::byte(text)?),
            Kind::Split if text == "even-odd" => Given::Split(Split::EvenOdd),
            Kind::Split => Given::Split(Split::Size(typed_in::part_size(text)?)),
            Kind::OneOf(names) if !names.contains(&text) => {
                return Err(format!("choose one of {}", names.join(", ")));
            }
            Kind::Text | Kind::Path | Kind::OneOf(_) => Given::Text(text.to_owned()),
            Kind::Texts => Given::Texts(vec![text.to_owned()]),
            Kind::List => Given::Texts(text.split(',').map(str::to_owned).collect()),
        })
    }
}

/// What was chosen.
#[derive(Debug, Clone, Default)]
pub struct Choices(BTreeMap<&'static str, Given>);

impl Choices {
    /// Adds what was given; several texts of one choice are kept in their order.
    pub fn add(&mut self, choice: &Choice, given: Given) {
        match (self.0.get_mut(choice.name), given) {
            (Some(Given::Texts(texts)), Given::Texts(more)) => texts.extend(more),
            (_, given) => drop(self.0.insert(choice.name, given)),
        }
    }

    /// Whether one was given.
    pub fn has(&self, choice: &Choice) -> bool {
        self.0.contains_key(choice.name)
    }

    /// The number that was given.
    pub fn number(&self, choice: &Choice) -> Option<i32> {
        match self.0.get(choice.name) {
            Some(Given::Number(number)) => Some(*number),
            _ => None,
        }
    }

    /// The number of bytes that was given.
    pub fn size(&self, choice: &Choice) -> Option<u64> {
        self.size_or_fit(choice).flatten()
    }

    /// The same; the inner one is `None` where no number was given.
    pub fn size_or_fit(&self, choice: &Choice) -> Option<Option<u64>> {
        match self.0.get(choice.name) {
            Some(Given::Size(size)) => Some(*size),
            _ => None,
        }
    }

    /// The byte that was given.
    pub fn byte(&self, choice: &Choice) -> Option<u8> {
        match self.0.get(choice.name) {
            Some(Given::Byte(byte)) => Some(*byte),
            _ => None,
        }
    }

    /// How to take a result apart.
    pub fn split(&self, choice: &Choice) -> Option<Split> {
        match self.0.get(choice.name) {
            Some(Given::Split(split)) => Some(*split),
            _ => None,
        }
    }

    /// The text that was given.
    pub fn text(&self, choice: &Choice) -> Option<&str> {
        match self.0.get(choice.name) {
            Some(Given::Text(text)) => Some(text),
            _ => None,
        }
    }

    /// The texts that were given; none if it was not.
    pub fn texts(&self, choice: &Choice) -> &[String] {
        match self.0.get(choice.name) {
            Some(Given::Texts(texts)) => texts,
            _ => &[],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    static MANY: Choice = Choice::of("many", "GLOB", Kind::Texts, "");
    static LIST: Choice = Choice::of("list", "LIST", Kind::List, "");
    static SIZE: Choice = Choice::of("size", "SIZE", Kind::SizeOrFit, "");
    static PARTS: Choice = Choice::of("parts", "SIZE|even-odd", Kind::Split, "");
    static ONE: Choice = Choice::of("one", "NAME", Kind::OneOf(&["hd", "cd"]), "");

    #[test]
    fn every_kind_is_read_and_found_again() {
        let mut given = Choices::default();
        let mut add = |choice: &Choice, text: &str| given.add(choice, choice.read(text).unwrap());
        add(&MANY, "a");
        add(&MANY, "b");
        add(&LIST, "x,y");
        add(&SIZE, "4KiB");
        add(&PARTS, "even-odd");
        add(&ONE, "cd");
        assert_eq!(
            (given.texts(&MANY), given.texts(&LIST)),
            (&["a".into(), "b".into()][..], &["x".into(), "y".into()][..])
        );
        assert_eq!(
            (given.size(&SIZE), given.split(&PARTS), given.text(&ONE)),
            (Some(4096), Some(Split::EvenOdd), Some("cd"))
        );
        given.add(&SIZE, Given::Size(None));
        assert_eq!((given.size_or_fit(&SIZE), given.size(&SIZE)), (Some(None), None));
    }

    #[test]
    fn what_was_not_given_is_absent_and_what_is_wrong_is_told() {
        let given = Choices::default();
        assert!(!given.has(&MANY) && given.texts(&MANY).is_empty() && given.size_or_fit(&SIZE).is_none());
        assert_eq!(ONE.read("dvd").unwrap_err(), "choose one of hd, cd");
        assert!(SIZE.read("12x").is_err() && PARTS.read("odd-even").is_err());
    }
}
