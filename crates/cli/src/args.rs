//! The command line. Completions and manual pages are made from these definitions.

use crate::Stop;
use crate::command::{Command, With};
use crate::config::Settled;
use crate::global::Global;
use crate::progress::Screen;
use clap::Parser;
use std::io::Write;

/// Turns raw dumps of game discs, cartridges and packages into verified, loadable copies.
#[derive(Debug, Clone, Parser)]
#[command(
    name = "decanter",
    version,
    max_term_width = 100,
    infer_subcommands = false,
    arg_required_else_help = true,
    after_help = "A SOURCE is a file or a folder, and may look inside: \"box.zip::disc.iso::PS3_GAME/PARAM.SFO\".\n\
        An archive that holds exactly one image is looked through; end with :: to mean the archive itself.\n\
        Sources are never written to.\n\n\
        Exit codes: 0 done, or everything matched; 1 the answer is no; 2 wrong usage, or a target exists;\n\
        3 the source is not understood or broken; 4 a key or description is missing or wrong;\n\
        5 reading or writing failed; 130 interrupted.\n\n\
        Start with:  decanter demo saltmarsh"
)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

impl Cli {
    /// Runs the command and returns its exit code.
    ///
    /// # Errors
    /// A failed job, or an output that cannot be written.
    pub fn run(&self, settled: &Settled, watch: &Screen, out: &mut dyn Write) -> Result<u8, Stop> {
        self.command.run(&With::new(&self.global, settled, watch), out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn definitions_are_consistent() {
        Cli::command().debug_assert();
    }

    #[test]
    fn a_wrong_key_is_not_repeated() {
        let cli = Cli::try_parse_from(["decanter", "list", "x", "--key", "0011223344"]).unwrap();
        assert!(!format!("{cli:?}").contains("0011223344"));
    }
}
