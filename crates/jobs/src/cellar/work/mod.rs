//! Work that is shared: what a scan or check has to do is put into the catalogue as pieces, and programs on as many machines as
//! there are take them, one after the other.

mod enqueue;
mod pieces;

pub use enqueue::{EnqueueReport, enqueue_check, enqueue_scan};

use super::check::Tally;
use super::places::{Standing, is_mounted};
use super::{Mismatch, Unread, broke, open};
use crate::{Failure, Setting};
use decanter_cellar::{Cellar, Database, Location, Place, queue};
use decanter_core::{Error, Result, native, watch};
use pieces::Worker;
use serde::Serialize;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long a worker without work waits before it asks again.
const PAUSE: Duration = Duration::from_millis(500);

/// How a worker goes about it.
#[derive(Debug, Clone, Copy)]
pub struct Working {
    /// Ends once nothing is left to do; otherwise it waits for more.
    pub until_idle: bool,
    /// A piece that was not heard of for this long goes to another worker.
    pub lease: Duration,
}

/// What a worker did.
#[derive(Debug, Default, Serialize)]
pub struct WorkReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// Pieces that were done.
    pub pieces: u64,
    /// Pieces that another worker had had and not finished.
    pub taken_over: u64,
    /// Pieces of which nothing was kept: another worker had them by the time they were done.
    pub lost: u64,
    /// Folders that were looked into.
    pub folders: u64,
    /// Files that were read.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files that were not known.
    pub new: u64,
    /// Files that have other bytes than before.
    pub changed: u64,
    /// Files that have another name or place than before.
    pub moved: u64,
    /// Files that are not there any more.
    pub gone: u64,
    /// Files that were held against sets.
    pub matched: usize,
    /// Files that were read again, and held against what is known of them.
    pub checked: u64,
    /// Those of them that are not as they were.
    pub mismatches: Vec<Mismatch>,
    /// Those that were not, and are again.
    pub mended: Vec<String>,
    /// Files whose bytes have changed though nothing else has.
    pub rotten: Vec<String>,
    /// What cannot be read, and why.
    pub unread: Vec<Unread>,
    /// Places of pieces in the queue that are not on this machine.
    pub not_here: Vec<String>,
    /// Pieces that too many workers have not come to the end of.
    pub given_up: u64,
}

impl WorkReport {
    fn tally(&mut self) -> Tally<'_> {
        let Self { checked, bytes, mismatches, mended, unread, .. } = self;
        Tally { checked, bytes, mismatches, mended, unread }
    }
}

/// Takes pieces of work and does them.
///
/// # Errors
/// When the cellar cannot be used, or the user stops: then what was not finished is given back.
pub fn work(how: Working, setting: &Setting<'_>) -> std::result::Result<WorkReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot work");
    let location = cellar.location.clone();
    let name = worker_name();
    let shared =
        Mutex::new(WorkReport { schema: "decanter.cellar-work/1", cellar: location.shown(), ..WorkReport::default() });
    let is_over = AtomicBool::new(false);
    setting.watch.begin("working", None);
    let ended: Vec<Result<()>> = std::thread::scope(|scope| {
        let holding = scope.spawn(|| hold(&location, &name, how.lease, &is_over));
        let work = || take_all(&location, &name, how, &shared, setting);
        let threads: Vec<_> = (0..setting.jobs.max(1)).map(|_| scope.spawn(work)).collect();
        let lost = |_| Err(Error::Usage("a working thread ended early".into()));
        let mut ended: Vec<_> = threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect();
        is_over.store(true, Ordering::Relaxed);
        ended.push(holding.join().unwrap_or_else(lost));
        ended
    });
    setting.watch.end();
    let db = cellar.db.as_mut();
    queue::give_back(db, &name).map_err(&fail)?;
    let hint = "what was done is kept in the cellar, and the rest is in its queue: the same command goes on";
    ended.into_iter().collect::<Result<()>>().map_err(|e| fail(e).hint(hint))?;
    let mut report = shared.into_inner().unwrap_or_else(PoisonError::into_inner);
    let (here, away) = places(db).map_err(&fail)?;
    for place in away {
        if queue::standing(db, Some(&[place.id])).map_err(&fail)?.open > 0 {
            report.not_here.push(place.root);
        }
    }
    report.given_up = queue::standing(db, Some(&here)).map_err(&fail)?.given_up;
    report.mismatches.sort_by(|a, b| a.path.cmp(&b.path));
    report.unread.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(report)
}

/// Holds what the worker has, until it is over.
fn hold(location: &Location, name: &str, lease: Duration, is_over: &AtomicBool) -> Result<()> {
    let mut cellar = Cellar::open(location.clone())?;
    let mut renewed = Instant::now();
    while !is_over.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(50).min(lease / 10));
        if renewed.elapsed() >= lease / 3 {
            renewed = Instant::now();
            // A server that is away for a moment is asked again; who comes too late is told when it writes.
            if queue::renew(cellar.db.as_mut(), name, lease).is_err()
                && let Ok(again) = Cellar::open(location.clone())
            {
                cellar = again;
            }
        }
    }
    Ok(())
}

/// Takes one piece after the other.
fn take_all(
    location: &Location,
    name: &str,
    how: Working,
    shared: &Mutex<WorkReport>,
    setting: &Setting<'_>,
) -> Result<()> {
    let mut cellar = Cellar::open(location.clone())?;
    let db = cellar.db.as_mut();
    let keys = setting.all_keys();
    let worker = Worker { name, location, keys: &keys, shared, setting };
    loop {
        watch::check(setting.watch)?;
        let (here, _) = places(db)?;
        if let Some(piece) = queue::take(db, name, how.lease, &here)? {
            worker.shared(|report| report.taken_over += u64::from(piece.tries > 1));
            worker.piece(&piece, db)?;
            continue;
        }
        // What others have may come back to the queue: nothing is over before they are done.
        if how.until_idle && queue::standing(db, Some(&here))?.open == 0 {
            return Ok(());
        }
        std::thread::sleep(PAUSE.min(how.lease / 2));
    }
}

/// The numbers of the places that can be worked on here, and the places that cannot.
fn places(db: &mut dyn Database) -> Result<(Vec<i64>, Vec<Place>)> {
    let own = machine();
    let (mut here, mut away) = (Vec::new(), Vec::new());
    for place in Place::all(db)? {
        let is_own = queue::machine(db, place.id)?.is_none_or(|machine| machine == own);
        // Elsewhere a disk has another number. An empty folder is where it would be mounted.
        let is_here = match is_own || place.is_far() {
            true => is_mounted(&place),
            false => {
                let has_something =
                    |root: &str| std::fs::read_dir(native::path(root)).is_ok_and(|mut d| d.next().is_some());
                Standing::at(&place.root).is_some() && has_something(&place.root)
            }
        };
        match is_here {
            true => here.push(place.id),
            false => away.push(place),
        }
    }
    Ok((here, away))
}

/// What this machine is called.
fn machine() -> String {
    let file = |path| std::fs::read_to_string(path).ok();
    let own = file("/proc/sys/kernel/hostname").or_else(|| file("/etc/hostname"));
    own.or_else(|| std::env::var("COMPUTERNAME").ok()).unwrap_or_default().trim().to_owned()
}

/// A name that no other worker has.
fn worker_name() -> String {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    format!("{} {} {}", machine(), std::process::id(), since.as_nanos())
}
