//! Completions of shells, made from the definitions of the command line.

use super::{Run, With};
use crate::Stop;
use crate::choices::with_values;
use clap::Args;
use clap_complete::Shell;
use std::io::Write;

/// Print a completion script for a shell
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter completions bash > ~/.local/share/bash-completion/completions/decanter")]
pub struct Completions {
    /// The shell
    shell: Shell,
}

impl Run for Completions {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let mut script = Vec::new();
        let mut definition = with_values((with.program.definition)());
        clap_complete::generate(self.shell, &mut definition, "decanter", &mut script);
        script.split_inclusive(|b| *b == b'\n').try_for_each(|line| out.write_all(line))?;
        Ok(0)
    }
}
