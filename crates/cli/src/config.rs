//! The configuration file, the environment and the options, merged before any job is called.

use crate::global::{Global, KeyArg, When};
use decanter_core::native;
use decanter_core::trail::Trail;
use decanter_core::{Error, Guard, Watch};
use decanter_far::{Access, Objects, Web};
use decanter_jobs::cellar::Location;
use decanter_jobs::launcher::Starter;
use decanter_jobs::{Failure, Setting, toml_text};
use etcetera::BaseStrategy;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// How long a server may fail before it is given up.
const PATIENCE: Duration = Duration::from_secs(30);

/// What a configuration file may say.
#[derive(Debug, Default, serde::Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Files and folders with keys; relative ones are relative to the configuration's folder.
    #[serde(default)]
    keys: Vec<PathBuf>,
    /// Folders with lists of what is known to run, as with `keys`; new ones are kept in the first.
    #[serde(default)]
    notes: Vec<PathBuf>,
    /// The collection; a relative folder is relative to the configuration's.
    cellar: Option<String>,
    /// As the option of this name.
    color: Option<When>,
    /// As the option of this name.
    jobs: Option<u16>,
    /// Two letters, instead of what the environment says.
    language: Option<String>,
    /// How stores of objects are reached, where the environment does not say it.
    #[serde(default)]
    s3: Bucket,
    /// Ways to start things, by name.
    #[serde(default)]
    launch: BTreeMap<String, Starter>,
}

/// What a configuration says of stores of objects.
#[derive(Debug, Default, serde::Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Bucket {
    endpoint: Option<String>,
    region: Option<String>,
    access_key: Option<String>,
    secret_key: Option<String>,
}

/// Where a value comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// An option of this run.
    Option,
    /// A variable of the environment.
    Environment,
    /// The configuration file.
    Configuration,
    /// Nothing was said.
    Default,
}

/// Everything that is settled before a job begins.
pub struct Settled {
    /// The configuration, which is read and so never written.
    pub path: Option<PathBuf>,
    /// Whether it is there.
    pub has_file: bool,
    pub key_places: Vec<(PathBuf, Origin)>,
    pub note_places: Vec<PathBuf>,
    pub cellar: (Option<Location>, Origin),
    pub color: (When, Origin),
    pub jobs: (Option<u16>, Origin),
    pub language: (Option<String>, Origin),
    pub launch: BTreeMap<String, Starter>,
    pub access: Access,
    /// What this run reads and writes, where it is recorded.
    pub trail: Option<Arc<Trail>>,
}

/// Merges the configuration with the environment and the options; options win.
///
/// # Errors
/// When a configuration that was asked for is not there or cannot be read, or something in it is wrong.
pub fn settle(global: &Global) -> Result<Settled, Failure> {
    let home = etcetera::choose_base_strategy().ok();
    let own = home.as_ref().map(|h| h.config_dir().join("decanter"));
    let path = global.config.clone().or_else(|| own.as_ref().map(|o| o.join("config.toml")));
    let has_file = path.as_ref().is_some_and(|path| path.exists());
    let config = match &path {
        Some(path) if global.config.is_some() || has_file => read(path)?,
        _ => Config::default(),
    };
    let base = path.as_deref().and_then(Path::parent).unwrap_or(Path::new("")).to_owned();
    let from_environment = std::env::var_os("DECANTER_KEYS");
    let from_environment =
        from_environment.iter().flat_map(std::env::split_paths).filter(|p| !p.as_os_str().is_empty());
    let from_file = config.keys.iter().map(|p| base.join(p));
    let mut key_places: Vec<(PathBuf, Origin)> = (global.keys.iter().cloned().map(|p| (p, Origin::Option)))
        .chain(from_environment.map(|p| (p, Origin::Environment)))
        .chain(from_file.map(|p| (p, Origin::Configuration)))
        .collect();
    key_places.iter().try_for_each(|(place, origin)| check_keys(place, *origin, path.as_deref()))?;
    let mut note_places: Vec<PathBuf> = config.notes.iter().map(|p| base.join(p)).collect();
    note_places.extend(own.as_ref().map(|o| o.join("notes")));
    key_places.extend(own.map(|o| (o.join("keys"), Origin::Default)));
    let cellar = cellar(global.location()?, config.cellar.as_deref(), &base)?;
    if let Some(code) = &config.language {
        check_language(code, path.as_deref())?;
    }
    Ok(Settled {
        path,
        has_file,
        key_places,
        note_places,
        cellar,
        color: first([(global.color, Origin::Option), (config.color, Origin::Configuration)])
            .map_or((When::Auto, Origin::Default), |found| found),
        jobs: first([(global.jobs, Origin::Option), (config.jobs, Origin::Configuration)])
            .map_or((None, Origin::Default), |(jobs, origin)| (Some(jobs), origin)),
        language: first([(config.language, Origin::Configuration), (own_language(), Origin::Environment)])
            .map_or((None, Origin::Default), |(code, origin)| (Some(code), origin)),
        launch: config.launch,
        access: Access {
            endpoint: config.s3.endpoint,
            region: config.s3.region,
            access_key: config.s3.access_key,
            secret_key: config.s3.secret_key,
        },
        trail: None,
    })
}

/// Which cellar: the one that was typed, the configuration's, or the current folder if it is one.
fn cellar(
    typed: Option<Location>,
    configured: Option<&str>,
    base: &Path,
) -> Result<(Option<Location>, Origin), Failure> {
    let location = |text: &str| Location::typed(text).map_err(|e| Failure::new(format!("cannot use \"{text}\""), e));
    if typed.is_some() {
        return Ok((typed, Origin::Option));
    }
    if let Some(configured) = configured {
        let place = match location(configured)? {
            Location::Folder(folder) => Location::Folder(base.join(folder)),
            server @ Location::Server(_) => server,
        };
        return Ok((Some(place), Origin::Configuration));
    }
    let here = Location::Folder(PathBuf::from("."));
    // What cannot be looked into is none.
    Ok((here.is_there().unwrap_or(false).then_some(here), Origin::Default))
}

/// The first value that was given, and by whom.
fn first<T>(given: [(Option<T>, Origin); 2]) -> Option<(T, Origin)> {
    given.into_iter().find_map(|(value, origin)| Some((value?, origin)))
}

/// Fails for a place of keys that was named and is not there.
fn check_keys(place: &Path, origin: Origin, config: Option<&Path>) -> Result<(), Failure> {
    let Err(e) = std::fs::metadata(place) else { return Ok(()) };
    let named = match (origin, config) {
        (Origin::Environment, _) => "the list in DECANTER_KEYS".to_owned(),
        (Origin::Configuration, Some(path)) => format!("the line keys in \"{}\"", native::text(path)),
        _ => "the path given with --keys".to_owned(),
    };
    let failure =
        Failure::new(format!("cannot look for keys in \"{}\"", native::text(place)), Error::io("open", place, e));
    Err(failure.hint(format!("correct {named}")))
}

/// Two letters, as ISO 639-1 has them.
fn check_language(code: &str, config: Option<&Path>) -> Result<(), Failure> {
    if LANGUAGES.split(' ').any(|known| known == code) {
        return Ok(());
    }
    let path = config.map(native::text).unwrap_or_default();
    let what = format!("cannot use the configuration \"{path}\"");
    Err(Failure::usage(what, format!("language \"{code}\" is none"))
        .hint("it takes two small letters, as in \"de\", \"en\", \"fr\", \"ja\""))
}

/// Every code of ISO 639-1.
const LANGUAGES: &str = "aa ab ae af ak am an ar as av ay az ba be bg bi bm bn bo br bs ca ce ch co cr cs cu cv cy da de dv dz ee \
el en eo es et eu fa ff fi fj fo fr fy ga gd gl gn gu gv ha he hi ho hr ht hu hy hz ia id ie ig ii ik io is it iu ja jv ka kg ki kj kk kl \
km kn ko kr ks ku kv kw ky la lb lg li ln lo lt lu lv mg mh mi mk ml mn mr ms mt my na nb nd ne ng nl nn no nr nv ny oc oj om or os pa pi \
pl ps pt qu rm rn ro ru rw sa sc sd se sg si sk sl sm sn so sq sr ss st su sv sw ta te tg th ti tk tl tn to tr ts tt tw ty ug uk ur uz ve \
vi vo wa wo xh yi yo za zh zu";

/// The language of messages, as POSIX has it in the environment: `de_DE.UTF-8` is `de`.
fn own_language() -> Option<String> {
    let set = |name| std::env::var(name).ok().filter(|v| !v.is_empty());
    let value = set("LC_ALL").or_else(|| set("LC_MESSAGES")).or_else(|| set("LANG"))?;
    value
        .get(..2)
        .filter(|c| value.len() == 2 || value[2..].starts_with(['_', '.', '@']) && c.is_ascii())
        .map(str::to_lowercase)
}

fn read(path: &Path) -> Result<Config, Failure> {
    let what = || format!("cannot use the configuration \"{}\"", native::text(path));
    let text = std::fs::read_to_string(path).map_err(|e| Failure::new(what(), Error::io("open", path, e)))?;
    let config: Config = toml_text::parse(&text).map_err(|why| {
        Failure::usage(what(), why)
            .hint("it may have: keys = [\"FOLDER\", ...], notes = [\"FOLDER\"], cellar = \"FOLDER\", color = \"auto\", jobs = 2, language = \"de\", [s3], [launch.NAME]")
    })?;
    match config.jobs {
        Some(jobs) if !(1..=256).contains(&jobs) => {
            Err(Failure::usage(what(), format!("jobs = {jobs} is out of range")).hint("it takes 1 to 256"))
        }
        _ => Ok(config),
    }
}

impl Settled {
    /// The setting of one job.
    ///
    /// # Errors
    /// When the system does not say which file the configuration is.
    pub fn setting<'a>(
        &self,
        global: &Global,
        key: Option<&KeyArg>,
        watch: &'a dyn Watch,
    ) -> decanter_core::Result<Setting<'a>> {
        let mut setting = Setting::new(watch);
        setting.key = key.and_then(KeyArg::key);
        setting.key_places = self.key_places.iter().map(|(place, _)| place.clone()).collect();
        setting.typed_key_places.clone_from(&global.keys);
        setting.note_places.clone_from(&self.note_places);
        setting.cellar.clone_from(&self.cellar.0);
        let patience = global.patience.unwrap_or(PATIENCE);
        let objects = Arc::new(Objects::new(self.access.clone(), patience));
        setting.guard = Arc::new(Guard::with_trail(self.trail.clone()).and_depot(objects.clone()));
        setting.stores.push(Arc::new(Web::new(patience)));
        setting.stores.push(objects);
        setting.replace = global.replace;
        setting.dry_run = global.dry_run;
        if let Some(path) = &self.path {
            setting.guard.reads_if_there(path)?;
        }
        setting.language.clone_from(&self.language.0);
        if let Some(jobs) = self.jobs.0 {
            // One at a time works on one thread, too.
            decanter_core::threads::limit(jobs.into());
            setting.jobs = jobs.into();
        }
        Ok(setting)
    }
}
