//! The files on their way: several at once, each held against what is known of it.

use super::plan::Job;
use super::{ExtractReport, LeftOut};
use crate::Setting;
use decanter_core::Error;
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::{Stage, StagedFile};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Writes all files: on several threads, unless the source is cheaper to read in one go.
pub(super) fn write_all(
    jobs: &[Job<'_>],
    stage: &mut Stage<'_>,
    report: &mut ExtractReport,
    setting: &Setting<'_>,
) -> Result<(), Error> {
    let sequential = jobs.iter().any(|j| j.source.prefers_sequential());
    let mut order: Vec<&Job<'_>> = jobs.iter().collect();
    order.sort_by_key(|j| j.at);
    let workers = if sequential { 1 } else { setting.jobs.clamp(1, jobs.len().max(1)) };
    let next = AtomicUsize::new(0);
    let fatal: Mutex<Option<Error>> = Mutex::new(None);
    let results = Mutex::new(Vec::with_capacity(jobs.len()));
    let work = || {
        while let Some(job) = order.get(next.fetch_add(1, Ordering::Relaxed)) {
            setting.watch.item(&job.node.path);
            let blueprint = Blueprint::of(job.source.clone());
            let wanted = job.expected.as_ref().map(|d| d.algorithm);
            let written = stage.write(&job.to, &blueprint, job.node.modified, wanted.as_slice(), setting.watch);
            match written.and_then(|written| as_described(job, written, stage)) {
                Err(e) if !is_of_source(&e) => {
                    *fatal.lock().unwrap_or_else(|e| e.into_inner()) = Some(e);
                    next.store(usize::MAX / 2, Ordering::Relaxed);
                    return;
                }
                result => results.lock().unwrap_or_else(|e| e.into_inner()).push((*job, result)),
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..workers {
            scope.spawn(work);
        }
        work();
    });
    if let Some(error) = fatal.into_inner().unwrap_or_else(|e| e.into_inner()) {
        return Err(error);
    }
    let mut results = results.into_inner().unwrap_or_else(|e| e.into_inner());
    results.sort_by(|a, b| a.0.to.cmp(&b.0.to));
    for (job, result) in results {
        match result {
            Ok(file) => {
                stage.add(job.to.clone());
                report.files += 1;
                report.bytes += job.source.len();
                report.kernel_bytes += file.kernel_bytes + file.hole_bytes;
            }
            Err(e) => report.left_out.push(LeftOut {
                path: job.node.path.clone(),
                why: e.to_string(),
                is_read_error: matches!(e, Error::Io { .. }),
            }),
        }
    }
    Ok(())
}

/// Fails if what was written is not what a description says.
fn as_described(job: &Job<'_>, mut written: StagedFile, stage: &Stage<'_>) -> Result<StagedFile, Error> {
    let found = written.digests.pop();
    match (&job.expected, found) {
        (Some(expected), Some(found)) if *expected != found => {
            stage.discard(&job.to)?;
            Err(Error::Checksum {
                what: "by the description of the disc it".into(),
                expected: expected.to_string(),
                found: found.hex(),
            })
        }
        _ => Ok(written),
    }
}

/// Whether an error lies with the one file that was read, so that the others can go on.
fn is_of_source(error: &Error) -> bool {
    match error {
        Error::Io { op, .. } => *op == "read",
        Error::Cancelled | Error::NoSpace { .. } | Error::FileTooLarge { .. } => false,
        _ => true,
    }
}
