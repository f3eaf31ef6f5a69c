//! From a shelf to a machine: what a receiving machine loads stands in a profile; a plan says what would be made of what, how large,
//! and what will not load and why; following it makes all of that on a card, reads it back and leaves a sheet.

mod copies;
mod follow;
mod making;
mod names;
mod plan;
mod planning;
pub mod platform;
pub mod profile;
mod profiles;
mod report;
mod sheet;
mod shipped;
mod spelled;
mod start;
mod tags;
mod time;
mod ways;

pub use copies::ANOTHER_COPY;
pub use follow::{Following, SHEET};
pub use making::{Prepared, PreparedFile};
pub use plan::{LeftOut, Make, Plan};
pub use profile::Profile;
pub use profiles::{
    CheckedProfile, Loads, NewProfile, ShownProfile, check_profile, names as profile_names, new_profile, show_profile,
};
pub use report::FollowReport;
pub use time::About;
pub use ways::Keeps;

use crate::shelf::Row;
use crate::{Failure, Setting, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Error, native};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What a plan comes to.
#[derive(Debug, Serialize)]
pub struct PlanReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The profile that it is for.
    pub profile: String,
    /// For which kind of machine that is.
    pub about_machine: String,
    /// What is made of what.
    #[serde(serialize_with = "spelled::for_programs")]
    pub make: Vec<Make>,
    /// What is not, and why.
    pub left_out: Vec<LeftOut>,
    /// Files in the folders that are nothing of a machine.
    pub unknown: usize,
    /// Bytes of the sources.
    pub bytes_before: u64,
    /// Bytes of the results, about.
    pub about_bytes: u64,
    /// How long it would take, about; nothing where that cannot be told.
    pub about_time: Option<About>,
    /// The file that the plan was written to.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub plan: Option<PathBuf>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
}

/// Plans what a machine would load of `sources`; writes the plan to `output`, if one is given. With `onto`, the speed of that card
/// is measured by a short file.
///
/// # Errors
/// When the profile is not right, nothing is found, or writing fails.
pub fn plan(
    sources: &[String],
    profile: &str,
    output: Option<&Path>,
    onto: Option<&Path>,
    setting: &Setting<'_>,
) -> Result<(PlanReport, Plan), Failure> {
    let (profile, _) = Profile::read(profile, setting)?;
    let output = output.map(|path| place::file(Some(path), "plan.toml"));
    if let Some(output) = &output {
        let advice = "choose another name with --plan, or add --replace to replace it";
        setting.check_target(output).map_err(|f| match *f.cause {
            Error::Exists { .. } => f.hint(advice),
            _ => f,
        })?;
    }
    let planned = planning::plan(sources, &profile, setting)?;
    let about = About::of(&planned, onto, setting);
    let plan = planned.plan;
    if let Some(output) = &output {
        let what = format!("cannot write \"{}\"", native::text(output));
        let folder = output.parent().unwrap_or(Path::new(""));
        let text = plan.text(folder).map_err(|e| Failure::new(what.clone(), Error::io("write", output, e)))?;
        setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(text.into_bytes()))), output), &what)?;
    }
    let report = PlanReport {
        schema: "decanter.prepare-plan/1",
        profile: profile.name,
        about_machine: profile.about,
        bytes_before: plan.make.iter().map(|make| make.bytes).sum(),
        about_bytes: plan.make.iter().map(|make| make.about_bytes).sum(),
        make: plan.make.clone(),
        left_out: plan.left_out.clone(),
        unknown: planned.unknown,
        about_time: about,
        plan: output,
        dry_run: setting.dry_run,
    };
    Ok((report, plan))
}

/// Follows a plan that was written.
///
/// # Errors
/// As [`follow_plan`]; when it is none.
pub fn follow<E>(
    path: &str,
    onto: &Path,
    how: &Following,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<Prepared>) -> Result<(), E>,
) -> Result<Result<FollowReport, E>, Failure> {
    follow_plan(Plan::read(path, setting)?, onto, how, setting, tell)
}

/// Follows a plan onto a card; `tell` is given every row in the order of the plan.
///
/// # Errors
/// When the card is not there or cannot hold it: before the first byte. What fails later is a row.
pub fn follow_plan<E>(
    plan: Plan,
    onto: &Path,
    how: &Following,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<Prepared>) -> Result<(), E>,
) -> Result<Result<FollowReport, E>, Failure> {
    follow::follow(plan, onto, how, setting, tell)
}
