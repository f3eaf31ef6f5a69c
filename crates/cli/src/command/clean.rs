//! Leftovers of runs that were killed.

use super::{Run, With};
use crate::Stop;
use crate::render::Page;
use crate::render::count;
use clap::Args;
use decanter_core::native;
use decanter_jobs::clean::{self, CleanReport};
use std::io::Write;
use std::path::{Path, PathBuf};

/// Remove what runs that were killed have left in a folder
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter clean saltmarsh --dry-run\n\n\
    Unfinished files are hidden (.NAME.….part) and held by the run that writes them; what nobody holds is\n\
    left over. The next run onto the same target removes its own; this removes all in the folder.")]
pub struct Clean {
    /// The folder
    #[arg(value_name = "DIR")]
    folder: PathBuf,
}

impl Run for Clean {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let report = clean::clean(&self.folder, &with.setting(None)?)?;
        with.show(out, &report, |page| show(page, &report, &self.folder, with.global.dry_run))?;
        Ok(0)
    }
}

/// What was removed, or would be.
fn show(page: &mut Page, report: &CleanReport, folder: &Path, is_dry: bool) {
    let verb = if is_dry { "would remove" } else { "removed" };
    for path in &report.removed {
        page.line(format!("{verb} {}", native::text(path)));
    }
    page.line(format!("{verb} {} from {}", count(report.removed.len(), "leftover"), native::text(folder)))
}
