//! From a shelf to a machine: plans, profiles, what is made and read back, and what is refused before the first byte.

mod follow;
mod launch;
mod profile;

use crate::support::{Run, demo, folder, run, text, tree};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// A folder with a shelf, a card, and whatever a test puts there.
struct Bench(TempDir);

impl Bench {
    fn new() -> Self {
        let own = Self(folder());
        for name in ["shelf", "card"] {
            fs::create_dir(own.at(name)).unwrap();
        }
        own
    }

    /// One with a copy of the drawer as its shelf.
    fn with_drawer() -> Self {
        let own = Self::new();
        for (path, bytes) in tree(&demo().drawer.folder) {
            own.put(&format!("shelf/{path}"), &bytes);
        }
        own
    }

    fn at(&self, path: &str) -> PathBuf {
        self.0.path().join(path)
    }

    fn put(&self, path: &str, bytes: &[u8]) {
        let path = self.at(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    fn copy(&self, from: &Path, to: &str) {
        self.put(to, &fs::read(from).unwrap());
    }

    fn read(&self, path: &str) -> Vec<u8> {
        fs::read(self.at(path)).unwrap_or_else(|e| panic!("{path}: {e}"))
    }

    fn run(&self, words: &[&str]) -> Run {
        run(self.0.path(), words)
    }

    /// A profile of this text, and the plan that it makes of the shelf.
    fn plan(&self, profile: &str) -> Run {
        self.put("own.toml", profile.as_bytes());
        self.run(&["prepare", "shelf", "--for", "own.toml", "--plan", "plan.toml", "--replace"])
    }

    fn follow(&self) -> Run {
        self.run(&["prepare", "--follow", "plan.toml", "--onto", "card"])
    }

    fn on_card(&self) -> Vec<String> {
        let own = ["decanter delivery.sha1", "decanter sheet.html"];
        tree(&self.at("card")).into_iter().map(|(path, _)| path).filter(|path| !own.contains(&path.as_str())).collect()
    }
}

/// A profile that takes these forms of a platform.
fn takes(platform: &str, forms: &str, more: &str) -> String {
    format!(
        "profile = 1\nname = \"own\"\n{more}\n[[platform]]\nof = \"{platform}\"\nforms = [{forms}]\nfolder = \"games\"\n"
    )
}

#[test]
fn a_drawer_becomes_what_consoles_read() {
    let own = Bench::with_drawer();
    own.run(&["prepare", "shelf", "--for", "cartridges"]).expect(0).says("N64/Bramble Run.z64").says("next");
    assert!(own.on_card().is_empty());
    own.run(&["prepare", "shelf", "--for", "cartridges", "--onto", "card"]).expect(0).says("read back");
    // What was another byte order, interleaved or behind a header is as the consoles read it.
    assert_eq!(own.read("card/N64/Bramble Run.z64")[..4], [0x80, 0x37, 0x12, 0x40]);
    let smd = own.read("shelf/Pier Pinball.smd");
    assert_eq!(own.read("card/MD/Pier Pinball.md").len(), smd.len() - 512);
    assert_eq!(own.read("card/SNES/Brine Racer.sfc"), own.read("shelf/Brine Racer.smc")[512..]);
    assert_eq!(own.read("card/GBA/Moth Hour.gba"), own.read("shelf/Moth Hour.gba"));
    // Everything is listed as checksum programs read it.
    own.run(&["deliver", "--check", "card"]).expect(0);
    let list = String::from_utf8(own.read("card/decanter delivery.sha1")).unwrap();
    assert_eq!(list.lines().filter(|l| !l.starts_with('#')).count(), own.on_card().len());
    let sheet = String::from_utf8(own.read("card/decanter sheet.html")).unwrap();
    assert!(sheet.contains("N64/Bramble Run.z64") && sheet.contains("Left out") && sheet.ends_with("</html>\n"));
}

#[test]
fn a_plan_says_what_will_not_load_and_why() {
    let own = Bench::new();
    own.copy(&demo().short, "shelf/cut.iso");
    own.copy(&demo().plain, "shelf/plain.iso");
    own.put("shelf/notes.txt", b"low tide at nine");
    own.put("shelf/patch.ips", b"PATCHEOF");
    let told = own.plan(&takes("psp", "\"cso\"", "")).expect(1);
    let told =
        told.says("takes nothing of PS3").says("takes nothing of discs of no console").says("2 files of other kinds");
    told.says("0, 2 left out");
    let told = own.plan(&takes("ps3", "\"decrypted\"", "")).expect(1);
    told.says("it is cut short: 1.5 MiB are missing");
    let json = own.run(&["prepare", "shelf", "--for", "own.toml", "--json"]).expect(1).json();
    assert_eq!(
        (json["schema"].as_str(), json["left_out"].as_array().unwrap().len()),
        (Some("decanter.prepare-plan/1"), 2)
    );
    own.run(&["prepare", "shelf/notes.txt", "--for", "psp"]).expect(1).says("it seems to be a text");
    own.run(&["prepare", "nowhere", "--for", "psp"]).expect(1).says("nowhere");
}

#[test]
fn what_the_machine_looks_for_in_one_place_is_made_once() {
    let own = Bench::new();
    own.put("own.toml", takes("xbox360", "\"god\"", "").as_bytes());
    let told =
        own.run(&["prepare", text(&demo().downloads.folder), "--for", "own.toml", "--onto", "card", "-v"]).expect(0);
    told.says("another source becomes what the machine looks for in the same place, 53500019/00007000/");
    let files = own.on_card();
    let heads: Vec<_> = files.iter().filter(|name| !name.contains(".data/")).collect();
    assert_eq!(heads.len(), 2, "{files:?}");
    assert!(heads.iter().all(|name| name.starts_with("games/5350001") && name.contains("/00007000/")), "{files:?}");
    own.run(&["deliver", "--check", "card"]).expect(0);
}

/// Forms of the machines whose titles may be folders.
const OF_FOLDERS: &str = "profile = 1\nname = \"own\"\n[names]\ntemplate = \"{title} [{id}]\"\n\
    [[platform]]\nof = \"ps3\"\nforms = [\"pkg\", \"iso\"]\nfolder = \"three\"\n\
    [[platform]]\nof = \"ps4\"\nforms = [\"ps4-pkg\"]\nfolder = \"four\"\n\
    [[platform]]\nof = \"psp\"\nforms = [\"cso\"]\nfolder = \"umd\"\n";

impl Bench {
    fn copy_folder(&self, from: &Path, to: &str) {
        for (path, bytes) in tree(from) {
            self.put(&format!("{to}/{path}"), &bytes);
        }
    }
}

#[test]
fn folders_that_are_titles_become_what_machines_load() {
    let own = Bench::new();
    own.put("own.toml", OF_FOLDERS.as_bytes());
    own.copy_folder(&demo().console.folder.join("Fogbell Rescue"), "shelf/Fogbell Rescue");
    own.run(&["extract", text(&demo().image), "-o", "shelf/deep/kelp", "--keys", text(&demo().key)]).expect(0);
    own.run(&["extract", text(&demo().handheld), "-o", "shelf/umd"]).expect(0);
    let told = own.run(&["prepare", "shelf", "--for", "own.toml", "--plan", "plan.toml"]).expect(0);
    told.says("iso, then cso").says("3, 0 left out");
    own.follow().expect(0).says("3 made").says("read back: all 40 files are identical");
    let made = ["three/Fogbell Rescue [DCNT10009].pkg", "three/Kelp Courier [DCNT10001].iso"];
    let cso = own.on_card().into_iter().find(|name| name.starts_with("umd/") && name.ends_with(".cso")).unwrap();
    assert_eq!(own.on_card(), [made[0], made[1], &cso]);
    own.run(&["identify", &format!("card/{}", made[1])]).expect(0).says("PS3 disc").says("Kelp Courier");
    own.run(&["verify", &format!("card/{}", made[0])]).expect(0).says("SOUND");
    own.follow().expect(0).says("3 there already");
    // One file of it is another one: it is not the folder that was planned.
    own.put("shelf/umd/UMD_DATA.BIN", b"DCES-99999|0000000000000000|0001|G");
    own.follow().expect(1).says("it was changed after the plan was made").says("2 there already, 1 failed");
}

#[test]
fn a_title_in_an_archive_is_its_files() {
    let own = Bench::new();
    own.copy_folder(&demo().console.folder.join("Fogbell Rescue"), "title");
    let mut zip = zip::ZipWriter::new(fs::File::create(own.at("shelf/Fogbell.zip")).unwrap());
    for (path, bytes) in tree(&own.at("title")) {
        zip.start_file(path, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(&bytes).unwrap();
    }
    zip.finish().unwrap();
    // As it is, it would be an archive.
    own.plan(&takes("ps3", "\"same\"", "")).expect(1).says("does not become same");
    own.plan(&takes("ps3", "\"same\", \"pkg\", \"folder\"", "")).expect(0).says("games/Fogbell.pkg");
    own.follow().expect(0).says("1 made").says("digests and checks hold");
    let made = own.on_card();
    assert!(made.len() == 1 && made[0].ends_with(".pkg"), "{made:?}");
    own.follow().expect(0).says("1 there already");
}

#[test]
fn an_installed_title_is_no_disc_and_part_of_one_is_no_title() {
    let own = Bench::with_drawer();
    let title = demo().console.folder.join("Fogbell Rescue");
    own.copy_folder(&title, "shelf/Fogbell Rescue");
    // A dump that lies in a title is part of it.
    own.copy(&demo().drawer.gb, "shelf/Fogbell Rescue/USRDIR/inner.gb");
    own.copy(&title.join("PARAM.SFO"), "shelf/save/PARAM.SFO");
    own.copy(&title.join("PARAM.SFO"), "shelf/update/PS3_GAME/PARAM.SFO");
    own.put("shelf/update/PS3_GAME/USRDIR/EBOOT.BIN", b"later");
    let profile = takes("ps3", "\"iso\", \"same\"", "");
    let gb = "[[platform]]\nof = \"gb\"\nforms = [\"same\"]\nfolder = \"gb\"\n";
    own.put("own.toml", (profile + gb).as_bytes());
    let told = own.run(&["prepare", "shelf", "--for", "own.toml", "--json"]).expect(0).json();
    let left: Vec<(&str, &str, &str)> = (told["left_out"].as_array().unwrap().iter())
        .map(|l| (l["source"].as_str().unwrap(), l["why"].as_str().unwrap(), l["next"].as_str().unwrap_or_default()))
        .filter(|(source, ..)| ["shelf/Fogbell Rescue", "shelf/save", "shelf/update"].contains(source))
        .collect();
    assert_eq!(
        left,
        [
            (
                "shelf/save",
                "a folder with a PARAM.SFO that is no whole title: a part of one, or saves",
                "decanter identify shelf/save says what it can become"
            ),
            (
                "shelf/Fogbell Rescue",
                "a folder with a PS3 title becomes none of what is loaded: iso, same",
                "decanter identify \"shelf/Fogbell Rescue\" says what it can become"
            ),
            (
                "shelf/update",
                "a folder laid out as a title, but its category is HG, which is no title that is played by itself",
                "decanter identify shelf/update says what it can become"
            ),
        ]
    );
    let made = told["make"].as_array().unwrap();
    assert!(made.iter().all(|m| !m["source"].as_str().unwrap().contains("inner")) && !made.is_empty());
}

#[test]
fn a_missing_key_is_what_a_plan_asks_for() {
    let own = Bench::new();
    own.copy(&demo().image, "shelf/Kelp Courier.iso");
    own.plan(&takes("ps3", "\"decrypted\"", "")).expect(1).says("the disc key for DCNT-10001");
    own.copy(&demo().key, "box/ring/DCNT-10001.dkey");
    let words = ["prepare", "shelf", "--for", "own.toml", "--plan", "plan.toml", "--keys", "box/ring", "--replace"];
    own.run(&words).expect(0).says("--follow plan.toml --onto CARD --keys box/ring");
    // Without the key it is said again, and nothing stands under its name.
    own.follow().expect(1).says("does not become that any more");
    assert!(own.on_card().is_empty());
    own.run(&["prepare", "--follow", "plan.toml", "--onto", "card", "--keys", "box/ring"]).expect(0);
    own.run(&["decrypt", "shelf/Kelp Courier.iso", "-o", "clear.iso", "--keys", "box/ring"]).expect(0);
    assert!(own.read("card/games/Kelp Courier.iso") == own.read("clear.iso"));
}

#[test]
fn what_takes_two_stages_is_written_once() {
    let own = Bench::new();
    own.copy(&demo().dvd, "lane.iso");
    own.put("keys/own.keys", b"ps2.classics.licence = 00112233445566778899aabbccddeeff\n");
    let key = ["--key", "00112233445566778899aabbccddeeff"];
    let made =
        own.run(&[&["convert", "lane.iso", "--to", "ps2-classics", "-o", "shelf/lane.bin.enc"][..], &key].concat());
    if made.code != 0 {
        // Its console keys are the user's own; the tests of that format bring some.
        own.copy(&demo().dvd, "shelf/lane.iso");
    }
    own.plan(&takes("ps2", "\"cso\"", "")).expect(if made.code == 0 { 1 } else { 0 });
    // A disc inside a package of another machine is laid out by a stage before the last one.
    let own = Bench::new();
    own.copy(&demo().full_disc, "disc.iso");
    own.run(&["convert", "disc.iso", "--to", "xdvdfs", "-o", "shelf/disc.xiso"]).expect(0);
    own.plan(&takes("xbox", "\"zst\"", "")).expect(0).says("zst");
    own.follow().expect(0);
    own.run(&["convert", "card/games/disc.zst", "--to", "xdvdfs", "-o", "again.xiso"]).expect(0);
    assert!(own.read("again.xiso") == own.read("shelf/disc.xiso"));
}

#[test]
fn of_copies_the_best_is_taken_and_discs_of_a_set_stay() {
    let own = Bench::new();
    let rom = fs::read(demo().drawer.folder.join("Tide Table.nes")).unwrap();
    let names =
        ["Tide (Japan)", "Tide (USA)", "Tide (Europe) (Fr)", "Tide (Europe) (En,De)", "Gull (Disk 1)", "Gull (Disk 2)"];
    for (number, name) in names.iter().enumerate() {
        let mut rom = rom.clone();
        *rom.last_mut().unwrap() = number as u8;
        own.put(&format!("shelf/{name}.nes"), &rom);
    }
    let choose = "[choose]\none-each = true\nregions = [\"Europe\", \"USA\"]\nlanguages = [\"en\"]";
    own.plan(&takes("nes", "\"same\"", choose)).expect(0).says("3, 3 left out");
    own.follow().expect(0);
    assert_eq!(
        own.on_card(),
        ["games/Gull (Disk 1).nes", "games/Gull (Disk 2).nes", "games/Tide (Europe) (En,De).nes"]
    );
    own.plan(&takes("nes", "\"same\"", "[choose]\nonly-these-regions = true\nregions = [\"Japan\"]")).expect(0);
    let plan = String::from_utf8(own.read("plan.toml")).unwrap();
    assert!(plan.contains("it is for USA, which the profile does not take"), "{plan}");
}

#[test]
fn base_update_and_add_ons_become_one_file() {
    let own = Bench::new();
    let keys = text(&demo().shelf.join("keys")).to_owned();
    own.put("own.toml", takes("switch", "\"nsp\"", "").replace("folder", "together = true\nfolder").as_bytes());
    let shelf = text(&demo().shelf).to_owned();
    let words = ["prepare", &shelf, "--for", "own.toml", "--onto", "card", "--keys", &keys];
    own.run(&words).expect(0).says("digests in it hold");
    assert_eq!(own.on_card(), ["games/Fogbell.nsp", "games/Kelp Courier (base).nsp"]);
    let told = own.run(&["identify", "card/games/Kelp Courier (base).nsp", "--keys", &keys]).expect(0);
    told.says("update 2").says("add-on");
    // Once more: it is there, and is known by its digests.
    own.run(&words).expect(0).says("2 there already");
    // Another title under that name is not it, however well its own digests hold.
    fs::copy(own.at("card/games/Fogbell.nsp"), own.at("card/games/Kelp Courier (base).nsp")).unwrap();
    own.run(&words).expect(1).says("it is another file than the one of the plan");
}

#[test]
fn a_part_that_is_another_than_it_was_is_not_merged() {
    let own = Bench::new();
    let keys = text(&demo().shelf.join("keys")).to_owned();
    own.put("own.toml", takes("switch", "\"nsp\"", "").replace("folder", "together = true\nfolder").as_bytes());
    let names = tree(&demo().shelf).into_iter().map(|(name, _)| name);
    let names: Vec<String> = names.filter(|name| name.ends_with(".nsp") || name.ends_with(".xci")).collect();
    for name in &names {
        own.copy(&demo().shelf.join(name), &format!("shelf/{}", name.rsplit('/').next().unwrap()));
    }
    own.run(&["prepare", "shelf", "--for", "own.toml", "--plan", "plan.toml", "--keys", &keys]).expect(0);
    let plan = String::from_utf8(own.read("plan.toml")).unwrap();
    // The last of them grows by a byte; the first is as it was.
    let (_, last) = plan.rsplit_once("[[make.more]]").unwrap();
    let last = last.lines().find_map(|line| line.strip_prefix("source = \"")).unwrap().trim_end_matches('"').to_owned();
    let mut bytes = fs::read(own.at(&last)).unwrap();
    bytes.push(0);
    fs::write(own.at(&last), bytes).unwrap();
    let told = own.run(&["prepare", "--follow", "plan.toml", "--onto", "card", "--keys", &keys]).expect(1);
    told.says("its part \"").says("was changed after the plan was made").says("1 made, 1 failed");
    assert_eq!(own.on_card(), ["games/Fogbell.nsp"]);
    // Keys that lie beside the sources are enough, also to know again what is on the card.
    fs::create_dir(own.at("shelf/keys")).unwrap();
    for (name, bytes) in tree(&demo().shelf.join("keys")) {
        own.put(&format!("shelf/keys/{name}"), &bytes);
    }
    let words = ["prepare", "shelf", "--for", "own.toml", "--onto", "card"];
    own.run(&words).expect(0).says("1 made, 1 there already");
    own.run(&words).expect(0).says("2 there already");
}

#[test]
fn a_split_image_is_one_file_on_the_card() {
    let own = Bench::new();
    let moth = fs::read(&demo().handheld).unwrap();
    let middle = moth.len() / 2 / 2048 * 2048;
    own.put("shelf/Moth Parade.iso.0", &moth[..middle]);
    own.put("shelf/Moth Parade.iso.1", &moth[middle..]);
    own.plan(&takes("psp", "\"same\"", "")).expect(0);
    own.follow().expect(0);
    assert_eq!(own.on_card(), ["games/Moth Parade.iso"]);
    assert!(own.read("card/games/Moth Parade.iso") == moth);
}

#[test]
fn names_are_as_the_machine_takes_them() {
    let own = Bench::new();
    let rom = fs::read(demo().drawer.folder.join("Fogbell.gb")).unwrap();
    own.put("shelf/Möwe & große Fahrt, a name that goes on and on (Europe).gb", &rom);
    own.put("shelf/two/Möwe & große Fahrt, a name that goes on and on (Europe).gb", &rom);
    let names = "[names]\ntemplate = \"{name}\"\ncharacters = \"plain\"\nlongest = 20";
    own.plan(&takes("gb", "\"same\"", names)).expect(0);
    own.follow().expect(0);
    assert_eq!(own.on_card(), ["games/Mowe_grosse_Fah_2.gb", "games/Mowe_grosse_Fahrt.gb"]);
}

#[test]
fn a_browser_loads_the_sheet() {
    let browsers = ["/usr/bin/chromium", "/usr/bin/chromium-browser", "/usr/bin/google-chrome"];
    let Some(browser) = browsers.into_iter().find(|path| Path::new(path).exists()) else {
        eprintln!("skipped: there is no browser here to load the sheet with");
        return;
    };
    let own = Bench::with_drawer();
    own.put("shelf/<b>&.gb", &own.read("shelf/Fogbell.gb"));
    own.run(&["prepare", "shelf", "--for", "handheld", "--onto", "card"]).expect(0);
    let address = format!("file://{}", own.at("card/decanter sheet.html").display());
    let profile = format!("--user-data-dir={}", own.at("profile").display());
    let output = std::process::Command::new(browser)
        .args(["--headless", "--no-sandbox", "--disable-gpu", &profile, "--dump-dom", &address])
        .output()
        .unwrap();
    let page = String::from_utf8_lossy(&output.stdout);
    assert!(page.contains("class=\"sortable") && page.contains("n64/Bramble Run.z64"), "scripts ran");
    assert!(
        page.contains("_b_&amp;.gb") && page.contains("data:image/png;base64,"),
        "names are text, pictures are there"
    );
}
