//! Profiles: what a receiving machine loads, and how its card is laid out. A profile is TOML that people write; what it leaves
//! out has a default.

use super::platform::{PLATFORMS, Platform};
use super::shipped;
use crate::convert::Target;
use crate::convert::choice::Choices;
use crate::convert::table;
use crate::launcher::Starter;
use crate::toml_text::{self, nearest_or_all};
use crate::{Failure, Setting, locate, typed_in};
use decanter_core::source::read_vec;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The version of the text that is read and written.
const VERSION: u32 = 1;
/// The longest profile that is read, in bytes.
const MOST: u64 = 1 << 20;
/// What may stand in a template of names, and what it is.
pub(super) const PLACEHOLDERS: [(&str, &str); 6] = [
    ("{stem}", "name of the source's file"),
    ("{name}", "the same without regions, languages and revisions in brackets"),
    ("{title}", "title that the source says of itself; without one, as {name}"),
    ("{id}", "id that its platform gave it"),
    ("{region}", "region, as the name of the file or the source says it"),
    ("{platform}", "platform, as profiles name it"),
];
/// Forms that are no target of a conversion, and what they are.
pub(super) const OWN_FORMS: [(&str, &str); 3] = [
    ("same", "as it is, taken out of the archive that it is in"),
    ("decrypted", "the same container with nothing encrypted in it"),
    ("folder", "its files, in a folder"),
];

/// What a receiving machine takes.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Profile {
    /// Version of this text.
    pub profile: u32,
    /// What it is called.
    pub name: String,
    /// For which kind of machine it is, in a line.
    #[serde(default)]
    pub about: String,
    /// What its card can hold.
    #[serde(default)]
    pub card: CardRules,
    /// How results are called.
    #[serde(default)]
    pub names: NameRules,
    /// Which of several copies are taken.
    #[serde(default)]
    pub choose: ChoiceRules,
    /// Programs that start what was made; without it there are no start entries.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<StartRules>,
    /// What is loaded of each platform.
    #[serde(default)]
    pub platform: Vec<PlatformRules>,
}

/// What a card can hold, where the card itself does not say it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct CardRules {
    /// The most bytes of one file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub largest_file: Option<Size>,
    /// Bytes that are left free.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub leave: Option<Size>,
}

/// Which characters names may have.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Characters {
    /// What FAT, exFAT and NTFS can hold.
    #[default]
    Fat,
    /// Of these only ASCII.
    Ascii,
    /// Letters and digits of ASCII, `-` and `_`.
    Plain,
}

/// How results are called.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct NameRules {
    /// The name without its extension, with placeholders.
    pub template: String,
    /// Which characters it may have.
    pub characters: Characters,
    /// The most characters of a name, its extension included.
    pub longest: usize,
}

impl Default for NameRules {
    fn default() -> Self {
        Self { template: "{stem}".into(), characters: Characters::Fat, longest: 120 }
    }
}

/// Which of several copies are taken.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct ChoiceRules {
    /// Of the copies of one title only the best is taken.
    pub one_each: bool,
    /// Regions, the best first.
    pub regions: Vec<String>,
    /// Languages by two letters, the best first.
    pub languages: Vec<String>,
    /// Copies for no region of the list are left out.
    pub only_these_regions: bool,
    /// What goes first where a source can be brought into several forms.
    pub first: First,
}

/// What goes first.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum First {
    /// The form that keeps most; of several, the first in the list.
    #[default]
    WhatKeepsMost,
    /// The first form in the list that there is a way to.
    FirstForm,
}

/// How what was made is started.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct StartRules {
    /// The folder for start entries.
    #[serde(default = "start_folder")]
    pub folder: String,
    /// The program and its words for each platform; `{file}` stands for what is started.
    #[serde(default)]
    pub commands: BTreeMap<String, Vec<String>>,
}

fn start_folder() -> String {
    "start".into()
}

impl StartRules {
    /// How things of a platform are started.
    pub(super) fn starter(&self, platform: &str) -> Option<Starter> {
        self.commands.get(platform).map(|command| Starter { command: command.clone(), ..Starter::default() })
    }
}

/// What is loaded of one platform.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PlatformRules {
    /// The platform.
    pub of: String,
    /// Forms that are loaded, the best first: targets of conversions, `same`, `decrypted`, `folder`.
    pub forms: Vec<String>,
    /// The folder for results; empty for the top.
    #[serde(default)]
    pub folder: String,
    /// A template of its own for names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
    /// Options of conversions, for the forms that have them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub with: BTreeMap<String, toml::Value>,
    /// Base, update and add-ons of a title become one file.
    #[serde(default)]
    pub together: bool,
    /// What is left to do on the machine.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub then: String,
}

/// A number of bytes, as people write it.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, Serialize)]
#[serde(try_from = "String", into = "String")]
pub struct Size {
    text: String,
    /// The number.
    pub bytes: u64,
}

impl TryFrom<String> for Size {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let (whole, less) = text.split_once('-').unwrap_or((&text, "0"));
        let less: u64 = less.trim().parse().map_err(|_| format!("\"{less}\" is no number of bytes"))?;
        let bytes = typed_in::size(whole.trim())?.saturating_sub(less);
        Ok(Self { text, bytes })
    }
}

impl From<Size> for String {
    fn from(size: Size) -> Self {
        size.text
    }
}

impl Profile {
    /// The profile that is meant: one that ships by its name, or a file.
    ///
    /// # Errors
    /// When it is neither, or not right.
    pub fn read(name: &str, setting: &Setting<'_>) -> Result<(Self, String), Failure> {
        let what = format!("cannot use the profile \"{name}\"");
        let text = source_text(name, setting)?;
        let profile = Self::parse(&text).map_err(|why| {
            Failure::usage(what, why).hint("correct that, and look again with \"decanter prepare profile check\"")
        })?;
        Ok((profile, text))
    }

    /// What a text says.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub(crate) fn parse(text: &str) -> Result<Self, String> {
        let profile: Self = toml_text::parse(text)?;
        match profile.faults().into_iter().next() {
            None => Ok(profile),
            Some(fault) => Err(fault),
        }
    }

    /// What is wrong with it although it can be read, everything at once.
    pub(crate) fn faults(&self) -> Vec<String> {
        let mut faults = Vec::new();
        if self.profile != VERSION {
            faults.push(format!("profile = {} is a version that is not known here; {VERSION} is", self.profile));
        }
        if self.names.longest < 8 {
            faults.push("names.longest is less than 8: no name with an extension would fit".into());
        }
        if self.platform.is_empty() {
            faults.push("there is no [[platform]] in it: nothing would be made".into());
        }
        faults.extend(template_fault(&self.names.template));
        for rules in &self.platform {
            faults.extend(rules.faults());
        }
        for (at, rules) in self.platform.iter().enumerate() {
            if self.platform[..at].iter().any(|r| r.of == rules.of) {
                faults.push(format!("the platform \"{}\" is there twice", rules.of));
            }
        }
        for name in self.start.iter().flat_map(|start| start.commands.keys()) {
            if Platform::named(name).is_none() {
                faults.push(unknown_platform(name));
            }
        }
        faults
    }

    /// What it says of a platform.
    pub(crate) fn rules(&self, platform: &Platform) -> Option<&PlatformRules> {
        self.platform.iter().find(|rules| rules.of == platform.id)
    }
}

impl PlatformRules {
    fn faults(&self) -> Vec<String> {
        let mut faults = Vec::new();
        if Platform::named(&self.of).is_none() {
            faults.push(unknown_platform(&self.of));
        }
        let of = &self.of;
        if self.forms.is_empty() {
            faults.push(format!("forms of \"{of}\" is empty: name what the machine loads"));
        }
        for form in &self.forms {
            if !OWN_FORMS.iter().any(|(own, _)| own == form) && table::target(form).is_none() {
                let known: Vec<&str> =
                    OWN_FORMS.iter().map(|(own, _)| *own).chain(table::targets().map(|t| t.id)).collect();
                faults
                    .push(format!("there is no form \"{form}\" (platform \"{of}\"); {}", nearest_or_all(form, &known)));
            }
        }
        faults.extend(self.template.as_deref().and_then(template_fault));
        if self.folder.split('/').any(|name| matches!(name, "." | ".."))
            || self.folder.starts_with('/')
            || self.folder.contains('\\')
        {
            faults.push(format!("the folder \"{}\" of \"{of}\" leads out of the card", self.folder));
        }
        for (name, value) in &self.with {
            faults.extend(self.option_fault(name, value));
        }
        faults
    }

    fn option_fault(&self, name: &str, value: &toml::Value) -> Option<String> {
        let of = &self.of;
        let Some(choice) = table::choices().into_iter().find(|c| c.name == name) else {
            let known: Vec<&str> = table::choices().into_iter().map(|c| c.name).collect();
            return Some(format!(
                "no form has an option \"{name}\" (platform \"{of}\"); {}",
                nearest_or_all(name, &known)
            ));
        };
        let targets = self.forms.iter().filter_map(|form| table::target(form));
        if !targets.into_iter().any(|t| t.has(name)) {
            return Some(format!(
                "none of the forms of \"{of}\" has an option \"{name}\": {} have",
                table::having(choice)
            ));
        }
        choice.read(&words(value)?).err().map(|why| format!("the option \"{name}\" of \"{of}\": {why}"))
    }

    /// The options that a target has, of those that are set.
    ///
    /// # Errors
    /// What is wrong with one, in words.
    pub(crate) fn choices(&self, target: &Target) -> Result<Choices, String> {
        table::chosen(&self.options(target).iter().map(|(n, v)| (n.as_str(), v.as_str())).collect::<Vec<_>>())
    }

    /// The same as names and values.
    pub(crate) fn options(&self, target: &Target) -> BTreeMap<String, String> {
        let own = self.with.iter().filter(|(name, value)| target.has(name) && words(value).is_some());
        own.filter_map(|(name, value)| Some((name.clone(), words(value)?))).collect()
    }
}

/// The value of an option as it is typed; `None` for one that is switched off.
fn words(value: &toml::Value) -> Option<String> {
    match value {
        toml::Value::Boolean(false) => None,
        toml::Value::Boolean(true) => Some(String::new()),
        toml::Value::String(text) => Some(text.clone()),
        other => Some(other.to_string()),
    }
}

fn unknown_platform(name: &str) -> String {
    let known: Vec<&str> = PLATFORMS.iter().map(|p| p.id).collect();
    format!("there is no platform \"{name}\"; {}", nearest_or_all(name, &known))
}

fn template_fault(template: &str) -> Option<String> {
    let mut rest = template;
    while let Some(at) = rest.find(['{', '}']) {
        let from = &rest[at..];
        let Some((known, _)) = PLACEHOLDERS.iter().find(|(known, _)| from.starts_with(known)) else {
            let found = from.split_inclusive('}').next().unwrap_or(from);
            let known: Vec<&str> = PLACEHOLDERS.iter().map(|(known, _)| *known).collect();
            return Some(format!(
                "\"{found}\" in the template \"{template}\" stands for nothing; {}",
                nearest_or_all(found, &known)
            ));
        };
        rest = &from[known.len()..];
    }
    if template.contains(['/', '\\']) {
        return Some(format!("the template \"{template}\" has a slash: folders stand in \"folder\""));
    }
    template.trim().is_empty().then(|| "the template of names is empty".into())
}

/// The text of a profile: one that ships by its name, or a file.
///
/// # Errors
/// When it is neither.
pub(super) fn source_text(name: &str, setting: &Setting<'_>) -> Result<String, Failure> {
    if let Some(text) = shipped::named(name) {
        return Ok(text.to_owned());
    }
    let what = &format!("cannot use the profile \"{name}\"");
    let source = locate::bytes(name, setting).map_err(|e| {
        let known: Vec<&str> = shipped::all().map(|(name, _)| name).collect();
        let near = crate::nearest(name, known.iter().copied()).map(|near| format!(" (did you mean {near}?)"));
        Failure::new(what, e).hint(format!(
            "these ship: {}{}; or give a file of your own: decanter prepare profile new {} -o mine.toml",
            known.join(", "),
            near.unwrap_or_default(),
            known.first().copied().unwrap_or_default()
        ))
    })?;
    let bytes = read_vec(source.as_ref(), 0, source.len(), "a profile", MOST).map_err(|e| Failure::new(what, e))?;
    String::from_utf8(bytes).map_err(|_| Failure::usage(what, "it is no text in UTF-8"))
}

#[cfg(test)]
mod tests {
    use super::*;

    const SMALL: &str = "profile = 1\nname = \"pier\"\n[[platform]]\nof = \"psp\"\nforms = [\"cso\", \"same\"]\n";

    #[test]
    fn what_is_left_out_has_a_default() {
        let profile = Profile::parse(SMALL).unwrap();
        assert_eq!(profile.names, NameRules::default());
        assert_eq!((profile.choose.one_each, profile.choose.first), (false, First::WhatKeepsMost));
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line_or_its_name() {
        let wrong = |more: &str| Profile::parse(&format!("{SMALL}{more}")).unwrap_err();
        assert_eq!(wrong("foldr = \"x\"\n"), "line 6: there is no field \"foldr\" here; the nearest one is \"folder\"");
        assert!(wrong("folder = \"../x\"\n").contains("leads out of the card"));
        assert!(
            wrong("template = \"{titel}\"\n").contains("the nearest one is \"{title}\""),
            "{}",
            wrong("template = \"{titel}\"\n")
        );
        assert!(wrong("with = { levl = 9 }\n").contains("the nearest one is \"level\""));
        assert!(wrong("with = { long = true }\n").contains("none of the forms of \"psp\" has an option \"long\""));
        assert!(
            wrong("with = { level = \"high\" }\n")
                .contains("the option \"level\" of \"psp\": \"high\" is no whole number")
        );
        assert!(wrong("[[platform]]\nof = \"spp\"\nforms = [\"same\"]\n").contains("the nearest one is \"psp\""));
        assert!(wrong("[[platform]]\nof = \"gb\"\nforms = [\"czo\"]\n").contains("there is no form \"czo\""));
        assert!(wrong("[[platform]]\nof = \"psp\"\nforms = [\"same\"]\n").contains("is there twice"));
        let of_card = |line: &str| Profile::parse(&format!("{SMALL}[card]\n{line}\n")).unwrap_err();
        assert!(of_card("leave = \"12x\"").contains("line 7") && of_card("leave = \"12x\"").contains("no unit"));
        assert!(Profile::parse("profile = 2\nname = \"x\"").unwrap_err().contains("profile = 2 is a version"));
    }

    #[test]
    fn sizes_may_have_bytes_taken_off() {
        let size = |text: &str| Size::try_from(text.to_owned()).map(|s| s.bytes);
        assert_eq!((size("4GiB-1"), size("64MiB")), (Ok((4 << 30) - 1), Ok(64 << 20)));
        assert!(size("4GiB-x").is_err() && size("much").is_err());
    }

    #[test]
    fn all_that_ship_are_right() {
        for (name, text) in shipped::all() {
            let profile = Profile::parse(text).unwrap_or_else(|why| panic!("{name}: {why}"));
            assert_eq!(profile.name, name);
            assert!(profile.faults().is_empty() && !profile.about.is_empty(), "{name}: {:?}", profile.faults());
        }
    }
}
