//! Ways from what a source is to what a machine loads: one search over everything that can be done with it. Stages that come
//! before the last one are views; nothing is written between.

use super::profile::{First, PlatformRules};
use crate::convert::outlook::{is_already, outlook, view};
use crate::convert::{Options, Target, table};
use crate::estimate::{Sample, block_of};
use crate::locate::{self, INSIDE};
use crate::{Failure, Item, Setting};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Blame;
use decanter_core::protection::{KeyState, State};
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use decanter_formats::REGISTRY;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// The word for taking something as it is.
pub(super) const COPY: &str = "copy";
/// The word for taking the encryption away.
pub(super) const DECRYPT: &str = "decrypt";
/// The word for taking files out.
pub(super) const EXTRACT: &str = "extract";
/// The word for putting the parts of a title together.
pub(super) const MERGE: &str = "merge";

/// What a result keeps of its source, the most first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Keeps {
    /// It is the same bytes.
    AsItIs,
    /// Converting back gives the same bytes.
    EveryByte,
    /// The same bytes, without their encryption.
    Decrypted,
    /// The files are the same, around them something is made anew.
    TheFiles,
}

impl Keeps {
    /// The same in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::AsItIs => "as it is",
            Self::EveryByte => "every byte",
            Self::Decrypted => "every byte, decrypted",
            Self::TheFiles => "the files",
        }
    }
}

/// A way that was found.
pub(super) struct Way {
    /// What is read: the address of the source, or of what stands around it.
    pub(super) source: String,
    /// What is done, one after the other.
    pub(super) words: Vec<String>,
    pub(super) keeps: Keeps,
    /// Bytes of the result, about.
    pub(super) bytes: u64,
    /// The bytes of the longest file in it, about.
    pub(super) longest: u64,
    /// What it is called below its folder: by the source, with its extension.
    pub(super) place: PathBuf,
    /// Whether that is what it has to be called.
    pub(super) is_fixed: bool,
    /// What samples have shown, where something is packed.
    pub(super) sample: Option<Sample>,
}

/// The best way from a source to one of the forms that are loaded; of a source that can only have some forms, in one stage to one
/// of those.
///
/// # Errors
/// Why there is none.
pub(super) fn best(
    item: &Item,
    rules: &PlatformRules,
    only: Option<&[&str]>,
    first: First,
    setting: &Setting<'_>,
) -> std::result::Result<Way, Failure> {
    let mut trouble = None;
    let mut found: Vec<Way> = Vec::new();
    for through in [false, true].into_iter().take(if only.is_some() { 1 } else { 2 }) {
        for form in rules.forms.iter().filter(|form| only.is_none_or(|only| only.contains(&form.as_str()))) {
            let ways = match through {
                false => direct(item, form, rules, setting).map(|way| way.into_iter().collect()),
                true => indirect(item, form, rules, setting),
            };
            match ways {
                Ok(ways) => found.extend(ways),
                Err(f) if matches!(*f.cause, Error::Cancelled) => return Err(f),
                Err(f) => drop(trouble.get_or_insert(f)),
            }
            if first == First::FirstForm && !found.is_empty() {
                break;
            }
        }
        // What takes two stages is only looked for where one is not enough.
        if !found.is_empty() {
            break;
        }
    }
    // They come by form: of those that keep as much, the first stays first.
    let best = found.into_iter().min_by_key(|way| rank(way.keeps));
    best.ok_or_else(|| trouble.unwrap_or_else(|| no_way(item, rules)))
}

/// What keeps every byte is as good as what is taken as it is: the profile says which of these goes first.
fn rank(keeps: Keeps) -> u8 {
    match keeps {
        Keeps::AsItIs | Keeps::EveryByte | Keeps::Decrypted => 0,
        Keeps::TheFiles => 1,
    }
}

fn no_way(item: &Item, rules: &PlatformRules) -> Failure {
    let what = format!("there is no way from \"{}\"", item.shown);
    if let Some(KeyState::Trouble(trouble)) = item.opened.protection.as_ref().map(|p| &p.key) {
        return Failure::new(what, trouble.clone().into());
    }
    let kind = crate::failure::with_article(&item.opened.identity.kind);
    let why = match rules.forms.as_slice() {
        [one] => format!("{kind} does not become {one}, which is what is loaded"),
        all => format!("{kind} becomes none of what is loaded: {}", all.join(", ")),
    };
    let source = crate::quoted(&item.shown);
    Failure::usage(what, why).hint(format!("decanter identify {source} says what it can become"))
}

/// The way of one stage to a form; `None` where there is none.
fn direct(
    item: &Item,
    form: &str,
    rules: &PlatformRules,
    setting: &Setting<'_>,
) -> std::result::Result<Option<Way>, Failure> {
    match form {
        "same" => Ok(copy(item)),
        "decrypted" => Ok(decrypted(item)),
        "folder" => Ok(extract(item)),
        id => match table::target(id) {
            Some(target) => converted(item, target, rules, setting),
            None => Ok(None),
        },
    }
}

/// The way through another stage, which takes something away that is around what the form is made of.
fn indirect(
    item: &Item,
    form: &str,
    rules: &PlatformRules,
    setting: &Setting<'_>,
) -> std::result::Result<Vec<Way>, Failure> {
    let mut ways = Vec::new();
    for word in stages(item) {
        let inner =
            staged(item, &word, setting).map_err(|e| Failure::new(format!("cannot prepare \"{}\"", item.shown), e));
        let way = match inner.and_then(|inner| inner.map_or(Ok(None), |inner| direct(&inner, form, rules, setting))) {
            Ok(Some(way)) => way,
            Ok(None) => continue,
            // A stage that this source cannot go through is no way; what the machine or the user does ends the search.
            Err(f) if matches!(f.blame(), Blame::Machine | Blame::Stopped) => return Err(f),
            Err(_) => continue,
        };
        let is_copied = way.words == [COPY];
        let mut words = vec![word.clone()];
        // What the stage makes is the form itself: it is the last one then.
        words.extend(way.words.into_iter().filter(|_| !is_copied));
        let own = if word == DECRYPT { Keeps::Decrypted } else { Keeps::TheFiles };
        ways.push(Way { source: item.address.clone(), words, keeps: own.max(way.keeps), ..way });
    }
    Ok(ways)
}

/// What may be done before the last stage.
fn stages(item: &Item) -> Vec<String> {
    let is_clear = item.opened.protection.as_ref().is_some_and(|p| p.clear.is_some());
    let mut words: Vec<String> = is_clear.then(|| DECRYPT.to_owned()).into_iter().collect();
    words.extend(table::targets().filter(|t| t.accepts(item).is_some_and(|u| u > 10)).map(|t| t.id.to_owned()));
    words
}

/// What a stage makes of a source, as a view; `None` where that is known only when it was written.
///
/// # Errors
/// What reading fails with.
pub(super) fn staged(item: &Item, word: &str, setting: &Setting<'_>) -> Result<Option<Item>> {
    let source: Option<SourceRef> = match word {
        DECRYPT => item.opened.protection.as_ref().and_then(|p| p.clear.as_ref()).and_then(|c| c.as_source().ok()),
        id => table::target(id).and_then(|target| view(item, target, &Options::default(), setting)),
    };
    let Some(source) = source else { return Ok(None) };
    let names = [item.stem.clone()];
    let opened = match setting.opener(&item.keyring).with_names(&names).open(source.clone()) {
        Ok(opened) => opened,
        Err(e @ Error::Cancelled) => return Err(e),
        Err(e) if e.blame() == Blame::Machine => return Err(e),
        Err(_) => return Ok(None),
    };
    let inner = locate::unknown_bytes(&item.address, source, setting);
    Ok(Some(Item { opened, stem: item.stem.clone(), host: item.host.clone(), keyring: item.keyring.clone(), ..inner }))
}

/// As it is, out of whatever archive it is in.
fn copy(item: &Item) -> Option<Way> {
    let source = item.source.as_ref().filter(|_| item.opened.identity.role != Role::Sheet)?;
    // What has its content in files beside it is more than one file.
    if item.opened.identity.format == "god" {
        return None;
    }
    let name = whole_name(item);
    Some(way(item.address.clone(), &[COPY], Keeps::AsItIs, source.len(), PathBuf::from(name)))
}

/// The name of a source as one file: that of a split image ends in the number of a part.
fn whole_name(item: &Item) -> String {
    let name = item.file_name();
    let is_part =
        name.rsplit_once('.').is_some_and(|(_, end)| !end.is_empty() && end.bytes().all(|b| b.is_ascii_digit()));
    let is_one_file = item.source.as_ref().is_none_or(|source| file_len(item).is_none_or(|len| len == source.len()));
    match REGISTRY.get(item.opened.identity.format).and_then(|format| format.extensions().first()) {
        Some(extension) if is_part && !is_one_file => {
            let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
            let has_own = stem.to_lowercase().ends_with(&format!(".{extension}"));
            if has_own { stem.to_owned() } else { format!("{stem}.{extension}") }
        }
        _ => name,
    }
}

/// The length of the file that a source is typed as, if it is one of this machine.
fn file_len(item: &Item) -> Option<u64> {
    std::fs::metadata(&item.host).ok().filter(|meta| meta.is_file()).map(|meta| meta.len())
}

fn way(source: String, words: &[&str], keeps: Keeps, bytes: u64, place: PathBuf) -> Way {
    let words = words.iter().map(|w| (*w).to_owned()).collect();
    Way { source, words, keeps, bytes, longest: bytes, place, is_fixed: false, sample: None }
}

fn decrypted(item: &Item) -> Option<Way> {
    let Some(protection) = item.opened.protection.as_ref() else { return copy(item) };
    if protection.state == State::Decrypted {
        return copy(item);
    }
    let clear: &Blueprint = protection.clear.as_ref()?;
    let name = whole_name(item);
    Some(way(item.address.clone(), &[DECRYPT], Keeps::Decrypted, clear.len(), PathBuf::from(name)))
}

fn extract(item: &Item) -> Option<Way> {
    let tree = item.opened.holds.tree.as_ref()?;
    let bytes = tree.files().map(|(_, file)| file.len).sum();
    let longest = tree.files().map(|(_, file)| file.len).max().unwrap_or(0);
    let way = way(item.address.clone(), &[EXTRACT], Keeps::TheFiles, bytes, PathBuf::from(&item.stem));
    Some(Way { longest, ..way })
}

fn converted(
    item: &Item,
    target: &'static Target,
    rules: &PlatformRules,
    setting: &Setting<'_>,
) -> std::result::Result<Option<Way>, Failure> {
    let options = options(target, rules)?;
    // An option that makes another thing of it is what was wanted.
    let changes = table::choices().into_iter().any(|c| c.word.is_some() && options.given.has(c));
    if !changes && is_already(item, target) {
        if let Some(way) = around(item, target) {
            return Ok(Some(way));
        }
        if item.opened.identity.role != Role::Sheet {
            return Ok(copy(item));
        }
    }
    if target.accepts(item).is_none() {
        return match item.opened.closed_by() {
            Some(trouble) => Err(Failure::new(format!("cannot convert \"{}\"", item.shown), trouble.clone().into())),
            None => Ok(None),
        };
    }
    let look = outlook(item, target, &options, setting)?;
    let keeps = if look.keeps_bytes { Keeps::EveryByte } else { Keeps::TheFiles };
    let mut own = way(item.address.clone(), &[target.id], keeps, look.bytes, look.place);
    own.longest = look.longest;
    own.is_fixed = target.place.is_some();
    if !look.packed.is_empty() {
        let sample = Sample::of(&look.packed, block_of(target.id), setting.watch)
            .map_err(|e| Failure::new(format!("cannot read \"{}\"", item.shown), e))?;
        own.bytes = sample.scaled(look.packed.iter().map(|source| source.len()).sum());
        own.longest = own.bytes;
        own.sample = Some(sample);
    }
    Ok(Some(own))
}

/// Where what stands around a source is the form itself: that, as it is.
fn around(item: &Item, target: &Target) -> Option<Way> {
    item.around.last().filter(|around| around.format == target.id)?;
    let source = item.address.rsplit_once(INSIDE)?.0.to_owned();
    let bytes = std::fs::metadata(&item.host).ok().filter(|_| item.around.len() == 1)?.len();
    let name = source.rsplit('/').next().unwrap_or(&source).to_owned();
    Some(way(source, &[COPY], Keeps::AsItIs, bytes, PathBuf::from(name)))
}

/// The options of a target, as the profile has them.
///
/// # Errors
/// What is wrong with one.
fn options(target: &Target, rules: &PlatformRules) -> std::result::Result<Options, Failure> {
    let given = rules.choices(target).map_err(|why| Failure::usage("cannot use this profile", why))?;
    Ok(Options { given, ..Options::default() })
}
