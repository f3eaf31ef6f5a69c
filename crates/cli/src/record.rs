//! Jobs that write are recorded in the cellar of the run, so that whoever finds their outputs knows what they were made of.

use crate::args::Cli;
use crate::command::Command;
use crate::config::Settled;
use crate::progress::Screen;
use decanter_core::trail::Trail;
use decanter_core::{Notice, Watch};
use decanter_jobs::Failure;
use decanter_jobs::cellar::{self, Done};
use std::sync::Arc;

/// Options whose values are secrets: they are left out, with what belongs to them.
const SECRETS: [&str; 2] = ["--key", "--passcode"];

/// A trail for a run that is to be recorded; none for others.
pub fn trail(command: &Command, settled: &Settled) -> Option<Arc<Trail>> {
    (settled.cellar.0.is_some() && command.is_recorded()).then(Arc::default)
}

/// Records a run that wrote something. What goes wrong with that is told, and the job is done all the same.
pub fn keep(cli: &Cli, settled: &Settled, began: i64, code: u8, screen: &Screen) {
    let (Some(location), Some(trail)) = (&settled.cellar.0, &settled.trail) else { return };
    let written = trail.written();
    if written.is_empty() {
        return;
    }
    let done = Done {
        command: cli.command.name().to_owned(),
        words: words(),
        version: env!("CARGO_PKG_VERSION"),
        began,
        result: code,
        read: trail.read(),
        written,
    };
    let kept = match settled.setting(&cli.global, None, screen) {
        Ok(setting) => cellar::record(location, &done, &setting),
        Err(e) => Err(Failure::new("cannot set the record up", e)),
    };
    if let Err(failure) = kept {
        let told = format!("the job is done, but not recorded: {}: {}", failure.what, failure.cause);
        let hint = failure.hint.map(|hint| format!("; {hint}")).unwrap_or_default();
        screen.notice(&Notice::new(told + &hint));
    }
}

/// What was typed, without secrets.
fn words() -> Vec<String> {
    let mut words = Vec::new();
    let mut is_secret = false;
    for word in std::env::args_os().skip(1) {
        let word = decanter_core::native::text(word);
        let own =
            SECRETS.iter().find(|s| word == **s || word.strip_prefix(**s).is_some_and(|rest| rest.starts_with('=')));
        match own {
            Some(option) => {
                is_secret = word == **option;
                words.push(format!("{option}=..."));
            }
            None if is_secret => is_secret = false,
            None => words.push(decanter_core::address::plain(&word)),
        }
    }
    words
}
