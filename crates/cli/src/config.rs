//! The configuration file, the environment and the options, merged before any job is called.

use crate::global::{Global, KeyArg, When};
use decanter_core::{Error, Watch};
use decanter_jobs::launcher::Starter;
use decanter_jobs::{Failure, Setting};
use etcetera::BaseStrategy;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// What a configuration file may say.
#[derive(Debug, Default, serde::Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Files and folders with keys; relative ones are relative to the configuration's folder.
    #[serde(default)]
    keys: Vec<PathBuf>,
    /// As the option of this name.
    color: Option<When>,
    /// As the option of this name.
    jobs: Option<u16>,
    /// Two letters, instead of what the environment says.
    language: Option<String>,
    /// Ways to start things, by name.
    #[serde(default)]
    launch: BTreeMap<String, Starter>,
}

/// Everything that is settled before a job begins.
pub struct Settled {
    /// The configuration, which is read and so never written.
    pub path: Option<PathBuf>,
    pub key_places: Vec<PathBuf>,
    pub color: When,
    pub jobs: Option<u16>,
    pub language: Option<String>,
    pub launch: BTreeMap<String, Starter>,
}

/// Merges the configuration with the environment and the options; options win.
///
/// # Errors
/// When a configuration that was asked for is not there, or cannot be read.
pub fn settle(global: &Global) -> Result<Settled, Failure> {
    let home = etcetera::choose_base_strategy().ok();
    let own = home.as_ref().map(|h| h.config_dir().join("decanter"));
    let path = global.config.clone().or_else(|| own.as_ref().map(|o| o.join("config.toml")));
    let config = match &path {
        Some(path) if global.config.is_some() || path.exists() => read(path)?,
        _ => Config::default(),
    };
    let base = path.as_deref().and_then(Path::parent).unwrap_or(Path::new("")).to_owned();
    let mut key_places = global.keys.clone();
    let from_environment = std::env::var_os("DECANTER_KEYS");
    key_places.extend(from_environment.iter().flat_map(std::env::split_paths).filter(|p| !p.as_os_str().is_empty()));
    key_places.extend(config.keys.iter().map(|p| base.join(p)));
    key_places.extend(own.map(|o| o.join("keys")));
    Ok(Settled {
        path,
        key_places,
        color: global.color.or(config.color).unwrap_or(When::Auto),
        jobs: global.jobs.or(config.jobs),
        language: config.language.or_else(own_language),
        launch: config.launch,
    })
}

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
    let what = || format!("cannot use the configuration \"{}\"", path.display());
    let text = std::fs::read_to_string(path).map_err(|e| Failure::new(what(), Error::io("read", path, e)))?;
    toml::from_str(&text).map_err(|e| {
        // The line itself may hold what nobody else should read.
        let line = e.span().map_or(0, |span| text[..span.start.min(text.len())].matches('\n').count() + 1);
        Failure::usage(what(), format!("line {line}: {}", e.message().replace('\n', " ")))
            .hint("it may have: keys = [\"FOLDER\", ...], color = \"auto\", jobs = 2, language = \"de\", [launch.NAME]")
    })
}

impl Settled {
    /// The setting of one job.
    pub fn setting<'a>(&self, global: &Global, key: Option<&KeyArg>, watch: &'a dyn Watch) -> Setting<'a> {
        let mut setting = Setting::new(watch);
        setting.key = key.and_then(KeyArg::key);
        setting.key_places.clone_from(&self.key_places);
        setting.replace = global.replace;
        setting.dry_run = global.dry_run;
        if let Some(meta) = self.path.as_ref().and_then(|p| std::fs::metadata(p).ok()) {
            setting.guard.reads(&meta);
        }
        setting.language.clone_from(&self.language);
        if let Some(jobs) = self.jobs {
            setting.jobs = jobs.into();
        }
        setting
    }
}
