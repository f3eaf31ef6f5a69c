//! A real server: nginx, in a folder of its own on loopback; skipped, loudly, where there is none.

use crate::support::{demo, folder, run, text};
use std::fs;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

struct Nginx {
    folder: TempDir,
    child: Child,
    address: String,
}

impl Nginx {
    fn start() -> Option<Self> {
        if !Path::new("/usr/sbin/nginx").exists() {
            eprintln!("skipped: there is no nginx here to read from");
            return None;
        }
        let folder = folder();
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let own = text(folder.path());
        fs::create_dir(folder.path().join("root")).unwrap();
        let temporary: String = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"]
            .iter()
            .map(|name| format!("{name}_temp_path {own}/{name};\n"))
            .collect();
        let config = format!(
            "daemon off; user root; worker_processes 2; pid {own}/pid; error_log {own}/errors;\nevents {{}}\n\
             http {{ access_log off; {temporary} server {{ listen 127.0.0.1:{port}; root {own}/root; autoindex on;\n\
             location /hidden {{ deny all; }} }} }}\n"
        );
        fs::write(folder.path().join("conf"), config).unwrap();
        let mut command = Command::new("/usr/sbin/nginx");
        command.arg("-c").arg(folder.path().join("conf")).stderr(Stdio::null());
        let child = command.spawn().unwrap();
        let began = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(began.elapsed() < Duration::from_secs(20), "the server does not come up");
            std::thread::sleep(Duration::from_millis(20));
        }
        Some(Self { folder, child, address: format!("http://127.0.0.1:{port}") })
    }

    fn put(&self, name: &str, bytes: &[u8]) {
        let path = self.folder.path().join("root").join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
}

impl Drop for Nginx {
    fn drop(&mut self) {
        // Its workers end with it.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

#[test]
fn files_and_what_is_in_them_are_read() {
    let Some(server) = Nginx::start() else { return };
    let folder = folder();
    server.put("a shelf/box + 1.zip", &fs::read(demo().archive.as_ref().unwrap()).unwrap());
    server.put("lane.iso", &fs::read(&demo().dvd).unwrap());
    server.put("empty", b"");
    let at = |path: &str| format!("{}/{path}", server.address);
    let zip = at("a%20shelf/box + 1.zip");
    run(folder.path(), &["identify", &format!("{zip}::Kelp Courier.iso")]).expect(0).says("PS3 disc image");
    run(folder.path(), &["digest", &at("lane.iso::SYSTEM.CNF")]).expect(0);
    run(folder.path(), &["digest", &at("lane.iso::NONE.CNF")]).expect(5);
    run(folder.path(), &["extract", &at("lane.iso"), "-o", "there"]).expect(0);
    run(folder.path(), &["extract", text(&demo().dvd), "-o", "here"]).expect(0);
    let tree = |name: &str| crate::support::tree(&folder.path().join(name));
    assert!(tree("there") == tree("here"));
    run(folder.path(), &["digest", &at("empty")]).expect(0).says("e3b0c44298fc1c14");
    run(folder.path(), &["digest", &at("none")]).expect(5).says("no such file");
    run(folder.path(), &["digest", &at("hidden")]).expect(4).says("refuses");
}

#[test]
fn a_folder_that_a_server_lists_is_a_place() {
    let Some(server) = Nginx::start() else { return };
    let folder = folder();
    server.put("shelf/a.rom", b"kelp");
    server.put("shelf/deep/er/fog & bell 100%.rom", b"fogbell");
    server.put("shelf/deep/café.rom", b"moth");
    server.put("shelf/box.zip", &fs::read(demo().archive.as_ref().unwrap()).unwrap());
    server.put("elsewhere/x", b"not below");
    let shelf = format!("{}/shelf/", server.address);
    let at = |words: &[&str]| run(folder.path(), words);
    at(&["identify", &shelf]).expect(0).says("ps3-disc");
    at(&["cellar", "new", "c"]).expect(0);
    let scan = |more: &[&str]| at(&[&["cellar", "scan", "--cellar", "c", "--json"], more].concat());
    let first = scan(&[&shelf]).expect(0).json();
    assert_eq!((&first["files"], &first["new"]), (&4.into(), &4.into()), "{first}");
    let again = scan(&[]).expect(0).json();
    assert_eq!((&again["unchanged"], &again["bytes_read"]), (&4.into(), &0.into()), "{again}");
    at(&["cellar", "status", "--cellar", "c", "--json"]).expect(0).says("\"files\": 4");
    at(&["cellar", "check", "--cellar", "c"]).expect(0);
    server.put("shelf/a.rom", b"other bytes");
    fs::remove_file(server.folder.path().join("root/shelf/deep/café.rom")).unwrap();
    let found = at(&["cellar", "check", "--cellar", "c", "--json"]).expect(1).json();
    assert_eq!(found["mismatches"][0]["damage"], "edited", "{found}");
    assert!(found["unread"][0]["path"].as_str().unwrap().ends_with("deep/café.rom"), "{found}");
    let changed = scan(&[]).expect(0).json();
    assert_eq!((&changed["changed"], &changed["gone"]), (&1.into(), &1.into()), "{changed}");
    scan(&[&format!("{}/elsewhere/x", server.address)]).expect(2).says("lists no files");
    let address = server.address.clone();
    drop(server);
    let lost = scan(&["--patience", "1s"]).expect(1).json();
    assert_eq!(lost["gone"], 0, "{lost}");
    assert_eq!(lost["unread"][0]["path"], format!("{address}/shelf"));
}
