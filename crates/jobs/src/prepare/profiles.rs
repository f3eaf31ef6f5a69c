//! Profiles by themselves: one for a start, one explained, one checked.

use super::platform::Platform;
use super::profile::{First, OWN_FORMS, Profile, source_text};
use super::shipped;
use crate::convert::table;
use crate::toml_text;
use crate::{Answer, Failure, Setting, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::native;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A profile that was written.
#[derive(Debug, Serialize)]
pub struct NewProfile {
    /// Layout of this report.
    pub schema: &'static str,
    /// The one that it is a copy of.
    pub like: String,
    /// The file.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub target: PathBuf,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
}

/// A profile, explained.
#[derive(Debug, Serialize)]
pub struct ShownProfile {
    /// Layout of this report.
    pub schema: &'static str,
    /// Everything in it.
    #[serde(serialize_with = "super::spelled::for_programs")]
    pub profile: Profile,
    /// What is loaded of each platform, in words.
    pub loads: Vec<Loads>,
    /// What goes first where a source can be brought into several forms, in words.
    pub first: &'static str,
}

/// What is loaded of a platform.
#[derive(Debug, Serialize)]
pub struct Loads {
    /// The platform.
    pub platform: &'static str,
    /// The folder for it.
    pub folder: String,
    /// Forms, the best first: what each is.
    pub forms: Vec<(String, String)>,
    /// Options for them.
    pub with: Vec<(String, String)>,
}

/// What is wrong with a profile.
#[derive(Debug, Serialize)]
pub struct CheckedProfile {
    /// Layout of this report.
    pub schema: &'static str,
    /// The profile, as it was named.
    pub profile: String,
    /// What is wrong, everything at once.
    pub faults: Vec<String>,
    /// Platforms that it takes.
    pub platforms: Vec<String>,
}

/// All that ship: name, and for which kind of machine.
pub fn names() -> Vec<(&'static str, String)> {
    let about = |text: &str| Profile::parse(text).map(|profile| profile.about).unwrap_or_default();
    shipped::all().map(|(name, text)| (name, about(text))).collect()
}

/// Writes a profile of one's own, as a copy of one that is there.
///
/// # Errors
/// When that is not right, or writing fails.
pub fn new_profile(like: &str, output: &Path, setting: &Setting<'_>) -> Result<NewProfile, Failure> {
    let (profile, text) = Profile::read(like, setting)?;
    let output = place::file(Some(output), "profile.toml");
    let name = place::stem_of_shown(&native::text(&output));
    let own = |name: &str| format!("name = {}", toml::Value::String(name.to_owned()));
    let text = text.replacen(&own(&profile.name), &own(&name), 1);
    let what = format!("cannot write \"{}\"", native::text(&output));
    setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(text.into_bytes()))), &output), &what)?;
    Ok(NewProfile { schema: "decanter.profile-new/1", like: like.into(), target: output, dry_run: setting.dry_run })
}

/// Explains a profile.
///
/// # Errors
/// When it is not right.
pub fn show_profile(name: &str, setting: &Setting<'_>) -> Result<ShownProfile, Failure> {
    let (profile, _) = Profile::read(name, setting)?;
    let words = |form: &String| {
        let own = OWN_FORMS.iter().find(|(own, _)| own == form).map(|(_, words)| (*words).to_owned());
        own.or_else(|| table::target(form).map(|target| target.what.to_owned())).unwrap_or_default()
    };
    let loads = profile.platform.iter().map(|rules| Loads {
        platform: Platform::named(&rules.of).map_or("", |platform| platform.name),
        folder: rules.folder.clone(),
        forms: rules.forms.iter().map(|form| (form.clone(), words(form))).collect(),
        with: rules.with.iter().map(|(name, value)| (name.clone(), value.to_string())).collect(),
    });
    let first = match profile.choose.first {
        First::WhatKeepsMost => "the form that keeps most of the source, of these the first in the list",
        First::FirstForm => "the first form in the list that there is a way to",
    };
    Ok(ShownProfile { schema: "decanter.profile/1", loads: loads.collect(), first, profile })
}

/// Checks a profile: everything that is wrong with it at once.
///
/// # Errors
/// When it cannot be read.
pub fn check_profile(name: &str, setting: &Setting<'_>) -> Result<(CheckedProfile, Answer), Failure> {
    let text = source_text(name, setting)?;
    let (faults, platforms) = match toml_text::parse::<Profile>(&text) {
        Ok(profile) => (profile.faults(), profile.platform.iter().map(|rules| rules.of.clone()).collect()),
        Err(why) => (vec![why], Vec::new()),
    };
    let answer = if faults.is_empty() { Answer::Yes } else { Answer::No };
    Ok((CheckedProfile { schema: "decanter.profile-check/1", profile: name.into(), faults, platforms }, answer))
}
