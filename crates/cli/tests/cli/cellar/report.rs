//! The page: complete by itself, with every set as a row, and readable in a real browser.

use super::{Collection, dat, entry};
use std::fs;
use std::path::Path;
use std::process::Command;

fn with_something_of_everything() -> Collection {
    let own = Collection::of(&[
        ("a.rom", b"kelp"),
        ("b.rom", b"kelp"),
        ("<i>odd & \"name\"</i>.rom", b"odd"),
        ("m.rom", b"worn"),
    ]);
    let games = [
        ("Kelp", vec![entry("a.rom", b"kelp")]),
        ("Moth", vec![entry("m.rom", b"good")]),
        ("Gone", vec![entry("g.rom", b"gone")]),
    ];
    fs::write(own.at("one.dat"), dat("Salt &amp; Sea", "1", &games)).unwrap();
    fs::write(own.at("two.dat"), dat("Empty", "2", &[("x", vec![entry("x.rom", b"x")])])).unwrap();
    own.run(&["match", "--dat", "one.dat", "two.dat"]).expect(0);
    own
}

#[test]
pub fn a_page_needs_nothing_else() {
    let own = with_something_of_everything();
    own.run(&["report", "-o", "r.html"]).expect(0);
    let page = fs::read_to_string(own.at("r.html")).unwrap();
    for row in ["<td>Salt &amp; Sea</td>", "<td>Empty</td>", "g.rom", "m.rom", "&lt;i&gt;odd &amp; &quot;name&quot;"] {
        assert!(page.contains(row), "{row}");
    }
    for outside in ["http:", "https:", "src=\"/", "@import", "<link", "url("] {
        assert!(!page.contains(outside), "{outside}");
    }
    assert!(page.contains("prefers-color-scheme: dark") && page.contains("@media print"));
    let table = fs::read_to_string(own.at("r.csv")).unwrap();
    assert!(table.starts_with("list,set,game,name,path,bytes"), "{table}");
    let object: serde_json::Value = serde_json::from_slice(&fs::read(own.at("r.json")).unwrap()).unwrap();
    assert_eq!(object["sets"].as_array().unwrap().len(), 2);
    let (missing, doubles) = (object["missing"].as_array().unwrap(), object["doubles"].as_array().unwrap());
    assert_eq!((missing.len(), doubles.len(), object["damaged"].as_array().unwrap().len()), (2, 2, 1));
    own.run(&["report", "-o", "r.html"]).expect(2).says("already exists");
    std::thread::sleep(std::time::Duration::from_millis(1100));
    own.put("later.rom", b"later");
    own.scan().expect(0);
    own.run(&["report", "-o", "r.html", "--replace"]).expect(0);
    let page = fs::read_to_string(own.at("r.html")).unwrap();
    assert!(
        page.contains("Since the report of") && page.contains("later.rom") && page.contains("1 new"),
        "what has changed"
    );
    own.run(&["report", "-o", "r.csv"]).expect(2);
}

#[test]
fn a_browser_shows_it_with_and_without_scripts() {
    let Some(browser) = ["/usr/bin/chromium", "/usr/bin/chromium-browser", "/usr/bin/google-chrome"]
        .into_iter()
        .find(|path| Path::new(path).exists())
    else {
        eprintln!("skipped: there is no browser here to load the page with");
        return;
    };
    let own = with_something_of_everything();
    for number in 0..150 {
        own.put(&format!("many/{number:03}.rom"), format!("unknown {number}").as_bytes());
    }
    own.scan().expect(0);
    own.run(&["report", "-o", "r.html"]).expect(0);
    let address = format!("file://{}", own.at("r.html").display());
    let profile = format!("--user-data-dir={}", own.at("profile").display());
    let dom = |more: &[&str]| {
        let output = Command::new(browser)
            .args(["--headless", "--no-sandbox", "--disable-gpu", &profile, "--dump-dom"])
            .args(more)
            .arg(&address)
            .output()
            .unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    let page = dom(&[]);
    assert!(page.contains("class=\"sortable") && page.contains("page 1 of 2"), "scripts ran: {}", page.len());
    assert!(page.contains("149.rom"), "every row stands in the page");
    let plain = fs::read_to_string(own.at("r.html")).unwrap();
    assert!(plain.contains("149.rom") && !plain.contains("page 1 of 2"));
}
