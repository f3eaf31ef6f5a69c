//! A PostgreSQL server for tests: one for each test program, in a folder of its own, on loopback. It ends with the program.

use std::fs;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// The address of a database that nobody has used yet; `None`, told loudly, where there is no server to start.
pub fn database() -> Option<String> {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    static SERVER: OnceLock<Option<u16>> = OnceLock::new();
    let port = (*SERVER.get_or_init(start))?;
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    Some(format!("postgres://keeper@127.0.0.1:{port}/cellar_{number}"))
}

fn start() -> Option<u16> {
    let Some(programs) = programs() else {
        eprintln!("skipped: there is no PostgreSQL server here to share a catalogue with");
        return None;
    };
    let folder = folder();
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let (give, take) = std::sync::mpsc::channel();
    // The server ends with the thread that started it: one that stays until the program ends.
    std::thread::spawn(move || {
        let data = folder.join("data");
        let made = as_user(&folder, &programs.join("initdb"))
            .args(["--username=keeper", "--auth=trust", "--encoding=UTF8", "--no-sync", "--pgdata"])
            .arg(&data)
            .output()
            .unwrap();
        assert!(made.status.success(), "{made:?}");
        let log = fs::File::create(folder.join("log")).unwrap();
        let mut server = as_user(&folder, &programs.join("postgres"));
        server.args(["-F", "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="]);
        let mut server = server.args(["-p", &port.to_string(), "-D"]).arg(&data).stderr(log).spawn().unwrap();
        give.send(()).unwrap();
        server.wait().unwrap();
    });
    take.recv().unwrap();
    let began = Instant::now();
    while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
        assert!(began.elapsed() < Duration::from_secs(60), "the server does not come up");
        std::thread::sleep(Duration::from_millis(50));
    }
    // It listens before it answers.
    std::thread::sleep(Duration::from_millis(300));
    Some(port)
}

/// The newest server's programs.
fn programs() -> Option<PathBuf> {
    let versions = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let mut places: Vec<PathBuf> = versions.map(|entry| entry.path().join("bin")).collect();
    places.sort();
    places.push("/usr/bin".into());
    places.into_iter().rev().find(|place| place.join("initdb").exists() && place.join("postgres").exists())
}

/// A folder for this program; those of programs that have ended go.
fn folder() -> PathBuf {
    const NAME: &str = "decanter-postgres-";
    let all = std::env::temp_dir();
    for entry in fs::read_dir(&all).unwrap().flatten() {
        let name = entry.file_name().into_string().unwrap_or_default();
        let is_over = |pid: &str| !Path::new("/proc").join(pid).exists();
        if name.strip_prefix(NAME).is_some_and(is_over) {
            // Another program may be at it, too.
            let _ = fs::remove_dir_all(entry.path());
        }
    }
    let folder = all.join(format!("{NAME}{}", std::process::id()));
    fs::create_dir_all(&folder).unwrap();
    if is_root() {
        assert!(Command::new("chown").arg(USER).arg(&folder).status().unwrap().success());
    }
    folder
}

/// The server refuses to work for root.
const USER: &str = "nobody";

fn is_root() -> bool {
    Command::new("id").arg("-u").output().unwrap().stdout == b"0\n"
}

fn as_user(folder: &Path, program: &Path) -> Command {
    let mut command = Command::new("setpriv");
    if is_root() {
        command.args([&format!("--reuid={USER}"), "--clear-groups"]);
    }
    command.args(["--pdeathsig", "INT", "--"]).arg(program).current_dir(folder).stdin(Stdio::null());
    command.stdout(Stdio::null());
    command
}
