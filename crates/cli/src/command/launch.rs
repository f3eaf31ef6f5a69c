//! Starting what a description says.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use clap::Args;
use decanter_jobs::launch::{self, End};
use decanter_jobs::typed;
use std::io::Write;
use std::path::PathBuf;

/// Start a program by its description, wait for its end or for a chord on a joystick, and end what was started
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter launch fogbell.toml\n\n\
    \"decanter launcher FILE -o NAME --quit select+start\" writes such a description, and an entry that starts it.\n\
    Buttons: south east north west c z l1 r1 l2 r2 l3 r3 select start mode, or numbers from 0 on.\n\
    What was started is asked to end, the last one first, and ended after five seconds if it does not.")]
pub struct Launch {
    /// The description
    #[arg(value_name = "FILE.toml")]
    file: PathBuf,
    /// The joystick to listen to [default: the description's, or the first one]
    #[arg(long, value_name = "DEVICE")]
    joystick: Option<PathBuf>,
}

impl Run for Launch {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let (report, answer) = launch::launch(&self.file, self.joystick.as_deref(), &with.setting(None)?)?;
        with.show(out, &report, |page| {
            if report.dry_run {
                let words: Vec<String> = report.command.iter().map(|word| typed(word)).collect();
                page.row("would start", words.join(" "));
            }
            if let Some(joystick) = &report.joystick {
                page.row("joystick", joystick);
            }
            if let Some(end) = report.end {
                let how = match end {
                    End::ByItself => "by itself",
                    End::ByChord => "by the chord",
                    End::Stopped => "stopped",
                };
                let code = report.code.map(|code| format!(", with code {code}")).unwrap_or_default();
                page.row("ended", format!("{how}{code}"));
            }
            report.notices.iter().for_each(|notice| page.row("note", notice));
        })?;
        Ok(if report.end == Some(End::Stopped) { 130 } else { code_of_answer(answer) })
    }
}
