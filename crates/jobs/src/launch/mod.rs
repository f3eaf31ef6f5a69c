//! Starts what a description says, waits for its end or for a chord on a joystick, and ends what it started, in order. So a
//! program that has no way out but the keyboard has one on the sofa.

mod describe;
mod pad;
mod starter;

pub(crate) use describe::Description;
pub use pad::check_chord;
pub use starter::Starter;

use crate::{Answer, Failure, Setting};
use decanter_core::{Error, native, os};
use pad::{Chord, Pad};
use serde::Serialize;
use std::path::Path;
use std::process::{Child, Command, ExitStatus};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant};

/// How long a program may take to end when it is asked to.
const PATIENCE: Duration = Duration::from_secs(5);
/// How often it is looked whether the program has ended.
const LOOK: Duration = Duration::from_millis(50);

/// How something that was started came to its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// It ended by itself.
    ByItself,
    /// The chord was held.
    ByChord,
    /// The user stopped us.
    Stopped,
}

/// What was started, and how it went.
#[derive(Debug, Serialize)]
pub struct LaunchReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// What it is called.
    pub title: String,
    /// The command, word by word.
    pub command: Vec<String>,
    /// How it ended.
    pub end: Option<End>,
    /// What it gave back; nothing where a signal ended it.
    pub code: Option<i32>,
    /// The joystick that was listened to.
    pub joystick: Option<String>,
    /// True when nothing was started because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<String>,
}

/// Starts what the description at `path` says, and stays until it has ended.
///
/// # Errors
/// When it is none, a program cannot be started, or the joystick that it names is not there.
pub fn launch(path: &Path, joystick: Option<&Path>, setting: &Setting<'_>) -> Result<(LaunchReport, Answer), Failure> {
    let shown = native::text(path);
    let what = format!("cannot start \"{shown}\"");
    let own = Description::read(path, setting).map_err(|failure| Failure { what: what.clone(), ..failure })?;
    let chord = own.quit.as_deref().map(Chord::parse).transpose();
    let chord = chord.map_err(|why| Failure::usage(what.clone(), why))?;
    let command = own.command(path);
    let mut report = LaunchReport {
        schema: "decanter.launch/1",
        title: own.title.clone(),
        command: command.clone(),
        end: None,
        code: None,
        joystick: None,
        dry_run: setting.dry_run,
        notices: Vec::new(),
    };
    let pressed = match &chord {
        None => None,
        Some(chord) => {
            let wanted = joystick.or(own.joystick.as_deref());
            let pad = Pad::open(wanted, chord).map_err(|(why, hint)| Failure::usage(what.clone(), why).hint(hint))?;
            report.joystick = Some(native::text(&pad.path));
            Some(pad).filter(|_| !setting.dry_run).map(Pad::listen)
        }
    };
    if setting.dry_run {
        return Ok((report, Answer::Yes));
    }
    let folder = own.folder(path);
    let mut crew = Crew::default();
    let run = run(&own, &command, &folder, pressed, &mut crew, &mut report, setting);
    // However it went, what was started is ended, the last one first; then comes what is run last.
    crew.end();
    for words in &own.after {
        let ended = start(words, &folder).and_then(|mut child| child.wait().map_err(|e| failed(words, e)));
        match ended {
            Ok(status) if status.success() => {}
            Ok(_) => report.notices.push(format!("failed after: {}", words.join(" "))),
            Err(e) => report.notices.push(e.to_string()),
        }
    }
    let status = run.map_err(|e| Failure::new(what, e))?;
    report.code = status.and_then(|status| status.code());
    let is_well = report.end != Some(End::ByItself) || status.is_some_and(|status| status.success());
    Ok((report, if is_well { Answer::Yes } else { Answer::No }))
}

fn failed(words: &[String], error: std::io::Error) -> Error {
    Error::io("start", &native::path(words.first().map_or("", String::as_str)), error)
}

fn start(words: &[String], folder: &Path) -> Result<Child, Error> {
    let Some((program, rest)) = words.split_first() else {
        return Err(Error::Usage("a command without a word".into()));
    };
    let mut command = Command::new(native::os(program));
    command.args(rest.iter().map(|word| native::os(word))).current_dir(folder);
    command.spawn().map_err(|e| failed(words, e))
}

/// Everything that was started and may still run.
#[derive(Default)]
struct Crew(Vec<Child>);

impl Crew {
    /// Ends all of them, the last one first.
    fn end(&mut self) {
        while let Some(child) = self.0.pop() {
            end(child);
        }
    }
}

/// Asks a program to end, and ends it if it does not, or cannot be asked.
fn end(mut child: Child) {
    let begun = Instant::now();
    let is_asked = os::ask_to_end(child.id());
    while is_asked && begun.elapsed() < PATIENCE {
        match child.try_wait() {
            Ok(None) => std::thread::sleep(LOOK),
            // It is gone, or nobody can tell any more.
            Ok(Some(_)) | Err(_) => return,
        }
    }
    let _ = child.kill();
    let _ = child.wait();
}

fn run(
    own: &Description,
    command: &[String],
    folder: &Path,
    pressed: Option<Receiver<Result<(), std::io::Error>>>,
    crew: &mut Crew,
    report: &mut LaunchReport,
    setting: &Setting<'_>,
) -> Result<Option<ExitStatus>, Error> {
    for words in &own.before {
        let status = start(words, folder)?.wait().map_err(|e| failed(words, e))?;
        if !status.success() {
            return Err(Error::Usage(format!("what runs before it failed: {}", words.join(" "))));
        }
    }
    for words in &own.beside {
        crew.0.push(start(words, folder)?);
    }
    crew.0.push(start(command, folder)?);
    // Without a joystick nobody sends; the other end is kept so that waiting is the same.
    let (_keeper, silent) = channel();
    let mut presses = pressed.unwrap_or(silent);
    loop {
        match presses.recv_timeout(LOOK) {
            Ok(Ok(())) => {
                report.end = Some(End::ByChord);
                return Ok(None);
            }
            Ok(Err(e)) => {
                report.notices.push(format!("the joystick is gone ({e}): only the program itself ends it now"));
                presses = channel().1;
            }
            Err(RecvTimeoutError::Disconnected) => std::thread::sleep(LOOK),
            Err(RecvTimeoutError::Timeout) => {}
        }
        if setting.watch.cancelled() {
            report.end = Some(End::Stopped);
            return Ok(None);
        }
        let last = crew.0.last_mut().ok_or(Error::Cancelled)?;
        if let Some(status) = last.try_wait().map_err(|e| failed(command, e))? {
            report.end = Some(End::ByItself);
            return Ok(Some(status));
        }
    }
}
