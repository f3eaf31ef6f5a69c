//! How long a plan would take, about: by what reading and packing samples took, and by how fast the card takes a short file.

use super::planning::Planned;
use crate::Setting;
use decanter_core::{Error, Result, os};
use serde::Serialize;
use std::io::Write;
use std::path::Path;
use std::time::{Duration, Instant};

/// Bytes that are written to a card to see how fast it is.
const PROBE: usize = 8 << 20;
/// Bytes a second that a card takes where nobody has looked: a slow one.
const SLOW: f64 = 12.0 * 1024.0 * 1024.0;

/// How long something would take.
#[derive(Debug, Clone, Serialize)]
pub struct About {
    /// Seconds.
    pub seconds: u64,
    /// How that is known.
    pub known_by: String,
}

impl About {
    /// The time for a plan; `None` for one that makes nothing.
    pub(super) fn of(planned: &Planned, onto: Option<&Path>, setting: &Setting<'_>) -> Option<Self> {
        let plan = &planned.plan;
        if plan.make.is_empty() {
            return None;
        }
        let written: u64 = plan.make.iter().map(|make| make.about_bytes).sum();
        let packing = rate(planned.sample.bytes, planned.sample.packing) * setting.jobs.max(1) as f64;
        let probed = onto.filter(|_| !setting.dry_run).and_then(|folder| probe(folder).ok());
        let card = probed.unwrap_or(SLOW);
        // Written once and read back; packing goes on beside writing.
        let writing = 2.0 * written as f64 / card;
        let packed = if planned.to_pack > 0 { planned.to_pack as f64 / packing.max(1.0) } else { 0.0 };
        let seconds = writing.max(packed).ceil() as u64;
        let samples = match planned.sampled {
            0 => String::new(),
            n => format!(", {} packed by samples of them", decanter_core::tell::count(n as u64, "source", "sources")),
        };
        let by_card = match probed {
            Some(rate) => format!("the card took a short file with {}/s", decanter_core::tell::size(rate as u64)),
            None => "a slow card, 12 MiB/s".to_owned(),
        };
        Some(Self { seconds, known_by: format!("{by_card}{samples}") })
    }
}

fn rate(bytes: u64, took: Duration) -> f64 {
    bytes as f64 / took.as_secs_f64().max(1e-6)
}

/// Bytes a second that a folder takes.
fn probe(folder: &Path) -> Result<f64> {
    let fail = |e| Error::io("write", folder, e);
    if os::free_bytes(folder).map_err(fail)?.is_some_and(|free| free < 4 * PROBE as u64) {
        return Err(Error::Usage("there is too little room to look".into()));
    }
    let mut file = tempfile::tempfile_in(folder).map_err(fail)?;
    // Nothing that a card could make smaller.
    let mut state = 0x9e37_79b9_7f4a_7c15_u64;
    let next = || {
        state = state.wrapping_mul(0x5851_f42d_4c95_7f2d).wrapping_add(1);
        (state >> 56) as u8
    };
    let bytes: Vec<u8> = std::iter::repeat_with(next).take(PROBE).collect();
    let begun = Instant::now();
    file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(fail)?;
    Ok(rate(PROBE as u64, begun.elapsed()))
}
