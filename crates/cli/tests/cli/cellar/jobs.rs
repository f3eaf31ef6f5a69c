//! Where files come from: jobs are recorded, and told.

use super::Collection;
use crate::support::{demo, run};
use serde_json::Value;
use std::fs;

#[test]
pub fn a_chain_of_jobs_leads_back_to_the_first_source() {
    let own = Collection::new();
    fs::copy(&demo().dvd, own.at("shelf/lane.iso")).unwrap();
    fs::write(own.at("c.toml"), format!("cellar = \"{}\"\n", own.cellar())).unwrap();
    run(own.root(), &["convert", "shelf/lane.iso", "--to", "zst", "-o", "one.zst", "--cellar", own.cellar()]).expect(0);
    run(own.root(), &["convert", "one.zst", "--to", "iso", "-o", "two.iso", "--config", "c.toml"]).expect(0);
    run(own.root(), &["extract", "two.iso", "-o", "files", "--cellar", own.cellar(), "--key", &"0".repeat(32)])
        .expect(0);
    // What was moved is known by its bytes.
    fs::rename(own.at("two.iso"), own.at("renamed.iso")).unwrap();
    let report = own.json(&["history", "renamed.iso"]);
    let jobs = report["jobs"].as_array().unwrap();
    assert_eq!(jobs.iter().map(|j| j["command"].as_str().unwrap()).collect::<Vec<_>>(), ["convert", "convert"]);
    assert_eq!(jobs[1]["inputs"][0]["path"], own.whole("lane.iso"));
    assert_eq!(jobs[1]["inputs"][0]["sha1"], report["sha1"], "through the compressed image and back");
    let any = fs::read_dir(own.at("files")).unwrap().next().unwrap().unwrap().path();
    let any = if any.is_dir() { fs::read_dir(&any).unwrap().next().unwrap().unwrap().path() } else { any };
    let deep = own.json(&["history", any.to_str().unwrap()]);
    assert_eq!(deep["jobs"].as_array().unwrap().len(), 3, "{deep}");
    assert!(!deep.to_string().contains(&"0".repeat(32)), "no key is recorded");
    own.run(&["history", "shelf/lane.iso"]).expect(1).says("no job that was recorded");
    own.run(&["history", "gone.iso"]).expect(5);
    fs::write(own.at("renamed.iso"), "other bytes").unwrap();
    fs::rename(own.at("renamed.iso"), own.at("two.iso")).unwrap();
    own.run(&["history", "two.iso"]).expect(0).says("has other bytes now");
}

#[test]
pub fn prov_has_what_the_standard_asks_for() {
    let own = Collection::new();
    fs::copy(&demo().dvd, own.at("shelf/lane.iso")).unwrap();
    run(own.root(), &["convert", "shelf/lane.iso", "--to", "zst", "-o", "one.zst", "--cellar", own.cellar()]).expect(0);
    let prov: Value = own.run(&["history", "one.zst", "--prov"]).expect(0).json();
    let ids = |name: &str| prov[name].as_object().unwrap().keys().cloned().collect::<Vec<_>>();
    let prefixes: Vec<String> = ids("prefix");
    for kind in ["entity", "activity", "agent"] {
        for id in ids(kind) {
            assert!(prefixes.contains(&id.split(':').next().unwrap().to_owned()), "{id} has a prefix that is declared");
        }
    }
    assert_eq!((ids("entity").len(), ids("activity").len()), (2, 1));
    let of = |relation: &str, role: &str| prov[relation].as_object().unwrap().values().next().unwrap()[role].clone();
    let activity = prov["activity"].as_object().unwrap().values().next().unwrap();
    assert!(activity["prov:startTime"].as_str().unwrap().ends_with('Z'));
    let path = |id: Value| prov["entity"][id.as_str().unwrap()]["prov:location"].clone();
    assert_eq!(path(of("used", "prov:entity")), own.whole("lane.iso"));
    assert!(path(of("wasGeneratedBy", "prov:entity")).as_str().unwrap().ends_with("one.zst"));
    assert_eq!(of("wasDerivedFrom", "prov:usedEntity"), of("used", "prov:entity"));
}

#[test]
pub fn recording_never_makes_a_job_fail() {
    let own = Collection::new();
    fs::copy(&demo().dvd, own.at("shelf/lane.iso")).unwrap();
    let convert = |to: &str, cellar: &str| {
        run(own.root(), &["convert", "shelf/lane.iso", "--to", "zst", "-o", to, "--cellar", cellar]).expect(0)
    };
    convert("1.zst", "nothing").says("not recorded");
    assert!(!own.at("nothing").exists());
    fs::create_dir(own.at("broken")).unwrap();
    fs::write(own.at("broken/catalogue.sqlite"), "no catalogue at all ".repeat(500)).unwrap();
    convert("2.zst", "broken").says("not recorded");
    let before = own.json(&["status"]);
    run(
        own.root(),
        &["convert", "shelf/lane.iso", "--to", "zst", "-o", "3.zst", "--cellar", own.cellar(), "--dry-run"],
    )
    .expect(0);
    run(own.root(), &["verify", "shelf/lane.iso", "--cellar", own.cellar()]).expect(2).says("has no meaning");
    own.run(&["history", "1.zst"]).expect(1);
    assert_eq!(own.json(&["status"]), before);
}
