//! Handheld packages: cartridge image to package and back, decrypted, trimmed, rebuilt; recipes and labels.

use crate::support::{command, demo, folder, run, text, told};
use decanter_core::digest::{Algorithm, of_bytes};
use std::path::{Path, PathBuf};

fn bytes(path: &Path) -> Vec<u8> {
    std::fs::read(path).unwrap()
}

fn keys() -> &'static str {
    text(&demo().case.keys)
}

#[test]
fn a_cartridge_becomes_a_package_and_comes_back() {
    let (d, folder) = (&demo().case, folder());
    let made =
        run(folder.path(), &["convert", text(&d.full), "--to", "cia", "--keys", keys(), "-o", "dash.cia", "--prove"]);
    made.expect(0).says("the system update").says("digests that it carries hold").says("placeholders");
    run(folder.path(), &["verify", "dash.cia"]).expect(0).says("SOUND");
    // Encrypted, trimmed or decrypted, the same game makes the same package.
    for (source, name) in [(&d.trimmed, "b.cia"), (&d.decrypted, "c.cia")] {
        run(folder.path(), &["convert", text(source), "--to", "cia", "--keys", keys(), "-o", name]).expect(0);
        assert!(bytes(&folder.path().join(name)) == bytes(&folder.path().join("dash.cia")), "{name}");
    }
    let identity = run(folder.path(), &["identify", "dash.cia", "--json"]).expect(0).json();
    let facts = identity["sources"][0]["facts"].as_array().unwrap();
    let fact = |name: &str| facts.iter().find(|f| f["name"] == name).map(|f| f["value"].as_str().unwrap().to_owned());
    assert_eq!(fact("title id").as_deref(), Some("000400000d1a5b00"));
    assert_eq!(fact("title").as_deref(), Some("Kelp Dash Race with the tide"));
    assert_eq!(identity["sources"][0]["encryption"]["state"], "decrypted");
    run(folder.path(), &["convert", "dash.cia", "--to", "3ds", "-o", "back.3ds", "--prove"]).expect(0);
    run(folder.path(), &["convert", "back.3ds", "--to", "cia", "-o", "again.cia"]).expect(0);
    assert!(bytes(&folder.path().join("again.cia")) == bytes(&folder.path().join("dash.cia")), "there and back");
    // The program says that it runs from the card in one, from the slot in the other.
    run(folder.path(), &["extract", "dash.cia", "-o", "on card", "--only", "game/extheader.bin"]).expect(0);
    run(folder.path(), &["extract", "back.3ds", "-o", "in slot", "--only", "game/extheader.bin"]).expect(0);
    let flag = |name: &str| bytes(&folder.path().join(name).join("game/extheader.bin"))[0xd];
    assert_eq!((flag("on card"), flag("in slot")), (2, 0));
}

/// Where the layout says that things are, read with nothing but offsets and SHA-256.
#[test]
fn a_package_is_right_by_its_layout() {
    let (d, folder) = (&demo().case, folder());
    run(folder.path(), &["convert", text(&d.trimmed), "--to", "cia", "--keys", keys(), "-o", "a.cia"]).expect(0);
    let a = bytes(&folder.path().join("a.cia"));
    let word = |at: usize| u32::from_le_bytes(a[at..at + 4].try_into().unwrap()) as usize;
    let sha = |bytes: &[u8]| of_bytes(Algorithm::Sha256, bytes).bytes;
    assert_eq!(
        [word(0), word(4), word(8), word(0xc), word(0x10), word(0x14)],
        [0x2020, 0, 0xa00, 0x350, 0xb64, 0x3ac0]
    );
    assert_eq!(a[0x20..0x22], [0xc0, 0], "contents 0 and 1");
    // Certificates at 0x2040, ticket at 0x2a40, metadata at 0x2dc0, contents at 0x3940.
    let (ticket, metadata) = (&a[0x2a40..0x2d90], &a[0x2dc0..0x3924]);
    assert!(a[0x2040..0x2a40].iter().all(|&b| b == 0), "no certificates ship");
    let id = [0, 4, 0, 0, 0x0d, 0x1a, 0x5b, 0];
    assert_eq!((&ticket[0x1dc..0x1e4], &metadata[0x18c..0x194]), (&id[..], &id[..]));
    assert_eq!(metadata[0x19a..0x19e], [0, 0, 2, 0], "128 KiB of save data");
    assert_eq!(metadata[0x1dc..0x1e0], [4, 0x10, 0, 2]);
    assert!(
        sha(&metadata[0x204..0xb04]) == metadata[0x1e4..0x204] && sha(&metadata[0xb04..]) == metadata[0x208..0x228]
    );
    let mut at = 0x3940;
    for record in metadata[0xb04..].chunks(0x30) {
        let len = u64::from_be_bytes(record[8..16].try_into().unwrap()) as usize;
        let content = &a[at..at + len];
        assert!(sha(content) == record[0x10..], "content {}", record[5]);
        assert_eq!((&content[0x100..0x104], content[0x18b], content[0x18f] & 0x25), (&b"NCCH"[..], 0, 4));
        at += len;
    }
    let game = &a[0x3940..];
    assert_eq!(game[0x20d], 2, "runs from the card");
    assert!(sha(&game[0x200..0x600]) == game[0x160..0x180], "the hash over that flag is made anew");
    let meta = &a[at.next_multiple_of(64)..];
    assert_eq!((meta.len(), &meta[0x400..0x404]), (0x3ac0, &b"SMDH"[..]));
}

#[test]
fn an_image_is_decrypted_trimmed_and_padded() {
    let (d, folder) = (&demo().case, folder());
    run(folder.path(), &["decrypt", text(&d.trimmed), "--keys", keys(), "-o", "plain.3ds"]).expect(0).says("proven by");
    assert!(bytes(&folder.path().join("plain.3ds")) == bytes(&d.decrypted));
    run(folder.path(), &["decrypt", text(&d.decrypted)]).expect(2).says("decrypted already");
    run(folder.path(), &["convert", text(&d.full), "--trim", "-o", "trimmed.3ds", "--keys", keys()]).expect(0);
    assert!(bytes(&folder.path().join("trimmed.3ds")) == bytes(&d.trimmed));
    run(folder.path(), &["convert", "trimmed.3ds", "--pad", "-o", "full.3ds", "--keys", keys()]).expect(0);
    assert!(bytes(&folder.path().join("full.3ds")) == bytes(&d.full));
    run(folder.path(), &["convert", "trimmed.3ds", "--trim", "-o", "x.3ds"]).expect(0).says("trimmed already");
    let mut used = bytes(&d.full);
    let last = used.len() - 5;
    used[last] = 0;
    std::fs::write(folder.path().join("used.3ds"), used).unwrap();
    run(folder.path(), &["convert", "used.3ds", "--trim", "-o", "x.3ds"]).expect(3).says("not all 0xff");
    run(folder.path(), &["convert", "full.3ds", "--to", "3ds", "-o", "x.3ds"]).expect(2).says("--trim or --pad");
    assert!(!folder.path().join("x.3ds").exists());
}

#[test]
fn a_content_comes_back_from_its_folder() {
    let (d, folder) = (&demo().case, folder());
    run(folder.path(), &["extract", text(&d.decrypted), "-o", "dash", "--only", "game"]).expect(0);
    run(folder.path(), &["convert", "dash/game", "--to", "ncch", "-o", "game.app", "--prove"]).expect(0);
    let image = bytes(&d.decrypted);
    let again = bytes(&folder.path().join("game.app"));
    assert!(again[..] == image[0x4000..0x4000 + again.len()], "identical, as nothing was changed");
    assert!(folder.path().join("dash/game/romfs/routes/\u{6f6e}.txt").exists());
    std::fs::write(folder.path().join("dash/game/romfs/routes/new.bin"), [3; 70_000]).unwrap();
    run(folder.path(), &["convert", "dash/game", "--to", "ncch", "-o", "changed.app", "--prove"]).expect(0);
    run(folder.path(), &["verify", "changed.app"]).expect(0);
    run(folder.path(), &["extract", "changed.app", "-o", "new", "--only", "romfs/routes/new.bin"]).expect(0);
    assert!(bytes(&folder.path().join("new/romfs/routes/new.bin")) == [3; 70_000]);
    std::fs::write(folder.path().join("dash/game/stray.txt"), "?").unwrap();
    run(folder.path(), &["convert", "dash/game", "--to", "ncch", "-o", "x.app"]).expect(3).says("stray.txt");
}

#[test]
fn damage_is_told_region_by_region() {
    let (d, folder) = (&demo().case, folder());
    let spoil = |source: &Path, at: usize, name: &str| -> PathBuf {
        let mut all = bytes(source);
        all[at] ^= 0x10;
        let path = folder.path().join(name);
        std::fs::write(&path, all).unwrap();
        path
    };
    run(folder.path(), &["convert", text(&d.decrypted), "--to", "cia", "-o", "good.cia"]).expect(0);
    let good = folder.path().join("good.cia");
    let len = bytes(&good).len();
    spoil(&good, len / 2, "music.cia");
    let said = run(folder.path(), &["verify", "music.cia"]).expect(1).says("RomFS, level 3").says("1 of ");
    said.says("hit: romfs/music/tide.bin").says("refuses to install it").says("DAMAGED");
    let report = run(folder.path(), &["verify", "music.cia", "--json"]).expect(1).json();
    let seals = report["sources"][0]["seals"].as_array().unwrap();
    let bad: Vec<_> = seals.iter().filter(|s| s["state"] == "differs").map(|s| s["name"].as_str().unwrap()).collect();
    assert_eq!(bad, ["the content as a whole", "RomFS, level 3: the files"]);
    // Nothing is built on damage, unless that is asked for.
    run(folder.path(), &["convert", "music.cia", "--to", "3ds", "-o", "x.3ds"])
        .expect(3)
        .says("blocks of its RomFS are damaged")
        .says("--keep-damage");
    assert!(!folder.path().join("x.3ds").exists());
    run(folder.path(), &["convert", "music.cia", "--to", "3ds", "--keep-damage", "-o", "x.3ds"]).expect(0);
    spoil(&d.decrypted, 0x4000 + 0x5000, "code.3ds");
    run(folder.path(), &["convert", "code.3ds", "--to", "cia", "-o", "x.cia"]).expect(3).says("content 0: ");
    assert!(!folder.path().join("x.cia").exists());
    std::fs::remove_file(folder.path().join("x.3ds")).unwrap();
    // What is in the card's own data matters to nobody who loads the image.
    spoil(&d.decrypted, 0x1150, "copy.3ds");
    run(folder.path(), &["verify", "copy.3ds"]).expect(0).says("nothing that loads it looks at this");
    let cut = bytes(&d.full)[..0x20_0000].to_vec();
    std::fs::write(folder.path().join("cut.3ds"), cut).unwrap();
    run(folder.path(), &["verify", "cut.3ds", "--keys", keys()]).expect(1).says("INCOMPLETE");
    run(folder.path(), &["identify", "cut.3ds", "--keys", keys()]).expect(0).says("bytes missing at its end");
    for words in [["convert", "cut.3ds", "--to", "cia"], ["decrypt", "cut.3ds", "-o", "x.3ds"]] {
        let mut all = words.to_vec();
        all.extend(["--keys", keys()]);
        run(folder.path(), &all).expect(3);
    }
}

#[test]
fn missing_and_wrong_keys_are_named() {
    let (d, folder) = (&demo().case, folder());
    std::fs::copy(&d.trimmed, folder.path().join("dash.3ds")).unwrap();
    run(folder.path(), &["convert", "dash.3ds", "--to", "cia"])
        .expect(4)
        .says("n3ds.slot0x2C.x")
        .says("extended header");
    run(folder.path(), &["verify", "dash.3ds"]).expect(4).says("--keys FILE");
    let list = std::fs::read_to_string(&d.keys).unwrap();
    let without = |name: &str| list.lines().filter(|l| !l.starts_with(name)).collect::<Vec<_>>().join("\n");
    std::fs::write(folder.path().join("less.keys"), without("n3ds.slot0x25.x")).unwrap();
    let words = ["decrypt", "dash.3ds", "-o", "x.3ds", "--keys", "less.keys"];
    run(folder.path(), &words).expect(4).says("n3ds.slot0x25.x (for RomFS and code");
    let wrong = without("n3ds.slot0x25.x") + "\nslot0x25KeyX = 000102030405060708090a0b0c0d0e0f\n";
    std::fs::write(folder.path().join("less.keys"), wrong).unwrap();
    run(folder.path(), &words).expect(4).says("RomFS").says("is wrong (found in: ./less.keys)");
    std::fs::create_dir(folder.path().join("alone")).unwrap();
    std::fs::copy(&d.update, folder.path().join("alone/update.cia")).unwrap();
    run(folder.path(), &["decrypt", "alone/update.cia"]).expect(4).says("n3ds.common.0");
    assert!(!folder.path().join("x.3ds").exists());
    let shown = run(folder.path(), &["keys", "--keys", keys()]).expect(0);
    assert!(shown.out.contains("n3ds.slot0x2C.x") && !shown.out.contains(&list[list.len() - 20..list.len() - 1]));
}

#[test]
fn titles_that_belong_together_are_grouped() {
    let (d, folder) = (&demo().case, folder());
    let words = ["identify", text(&d.trimmed), text(&d.update), text(&d.player), "--keys", keys()];
    let said = run(folder.path(), &words).expect(0).says("belong together: titles 0d1a5b");
    assert!(said.err.contains("nothing is merged"), "{said:?}");
    let mut json = words.to_vec();
    json.push("--json");
    let groups = run(folder.path(), &json).expect(0).json()["groups"].clone();
    assert_eq!((groups.as_array().unwrap().len(), groups[0]["members"].as_array().unwrap().len()), (1, 2));
    run(folder.path(), &["verify", text(&d.update), "--keys", keys()]).expect(0).says("SOUND");
}

#[test]
fn certificates_come_from_a_file_or_another_package() {
    let (d, folder) = (&demo().case, folder());
    let mut own = vec![0x5a; 0xa00];
    own[..4].copy_from_slice(&[0, 1, 0, 3]);
    std::fs::write(folder.path().join("own.cert"), &own).unwrap();
    let game = text(&d.decrypted);
    run(folder.path(), &["convert", game, "--to", "cia", "--certificates", "own.cert", "-o", "a.cia"]).expect(0);
    run(folder.path(), &["convert", game, "--to", "cia", "--certificates", "a.cia", "-o", "b.cia"]).expect(0);
    assert!(bytes(&folder.path().join("b.cia"))[0x2040..0x2a40] == own);
    std::fs::write(folder.path().join("no.cert"), b"nothing of that kind").unwrap();
    run(folder.path(), &["convert", game, "--to", "cia", "--certificates", "no.cert", "-o", "c.cia"])
        .expect(2)
        .says("certificate");
    run(folder.path(), &["convert", game, "--to", "3ds", "--certificates", "own.cert"]).expect(2).says("no meaning");
}

#[test]
fn icons_and_titles_are_shown_and_drawn() {
    let (d, folder) = (&demo().case, folder());
    run(folder.path(), &["identify", text(&d.decrypted), "--picture", "icon.png"]).expect(0);
    let png = bytes(&folder.path().join("icon.png"));
    assert_eq!(u32::from_be_bytes(png[16..20].try_into().unwrap()), 48 * 8);
    for (language, title) in
        [("de_DE.UTF-8", "Kelp Dash: Tangflitzer"), ("fr", "Kelp Dash Race with the tide"), ("C", "Race")]
    {
        let mut words = command(folder.path());
        let told = told(words.env("LANG", language).args(["identify", text(&d.decrypted)]).output().unwrap());
        told.expect(0).says(title);
    }
    run(folder.path(), &["label", text(&d.update), "--keys", keys()]).expect(0).says("Tangflitzer");
    let inside = format!("{}::game/exefs/icon.bin", text(&d.decrypted));
    run(folder.path(), &["list", &inside]).expect(0).says("German, short").says("Tangflitzer");
}

#[test]
fn a_recipe_makes_the_same_package_twice() {
    let (d, folder) = (&demo().case, folder());
    let recipe = text(&d.recipe);
    let shown = run(folder.path(), &["recipe", "show", recipe, "--picture", "sheet.png"]).expect(0);
    shown.says("eeprom-8k").says("derived from the ROM").says("gamma 1.4").says("own names    german");
    let sheet = bytes(&folder.path().join("sheet.png"));
    assert_eq!(sheet[16..24], [0, 0, 5, 0, 0, 0, 3, 32], "1280 by 800");
    run(folder.path(), &["recipe", "make", recipe, "-o", "a.cia"]).expect(0).says("digests that it carries hold");
    run(folder.path(), &["recipe", "make", recipe, "-o", "b.cia"]).expect(0);
    assert!(bytes(&folder.path().join("a.cia")) == bytes(&folder.path().join("b.cia")));
    run(folder.path(), &["verify", "a.cia"]).expect(0).says("SOUND");
    let identity = run(folder.path(), &["identify", "a.cia"]).expect(0);
    identity.says("GBA mode").says("196,608 bytes, save eeprom-8k").says("CTR-N-DMHE");
    // The program is the ROM and 0x360 bytes of settings.
    run(folder.path(), &["extract", "a.cia", "-o", "a", "--only", "code.bin"]).expect(0);
    let (code, rom) = (bytes(&folder.path().join("a/game/exefs/code.bin")), bytes(&demo().drawer.gba));
    assert!(code.starts_with(&rom) && code.len() == rom.len() + 0x360);
    assert_eq!(code[rom.len() + 8], 2, "EEPROM of 8 KiB");
    let white = code[rom.len() + 0x30f];
    assert_eq!(white, 217, "85 % of 255");
    run(folder.path(), &["recipe", "make", recipe, "-o", "a.cia"]).expect(2).says("--replace");
}

#[test]
fn a_player_of_ones_own_gets_another_rom() {
    let (d, folder) = (&demo().case, folder());
    let made = run(folder.path(), &["recipe", "make", text(&d.player_recipe), "-o", "deep.cia"]).expect(0);
    made.says("as romfs/rom/FOGBELL");
    run(folder.path(), &["verify", "deep.cia"]).expect(0).says("SOUND");
    run(folder.path(), &["extract", "deep.cia", "-o", "deep"]).expect(0);
    run(folder.path(), &["extract", text(&d.player), "-o", "player"]).expect(0);
    let (new, old) = (folder.path().join("deep/game"), folder.path().join("player/game"));
    assert!(bytes(&new.join("romfs/rom/FOGBELL")) == bytes(&demo().drawer.gb_patched));
    assert!(bytes(&new.join("exefs/code.bin")) == bytes(&old.join("exefs/code.bin")), "the player stays");
    assert!(bytes(&new.join("romfs/settings.txt")) == bytes(&old.join("romfs/settings.txt")));
    let (banner, before) = (bytes(&new.join("exefs/banner.bin")), bytes(&old.join("exefs/banner.bin")));
    assert!(banner != before && banner.ends_with(b"CWAV: a bell buoy"), "another picture, the same sound");
    run(folder.path(), &["identify", "deep.cia"]).expect(0).says("Fogbell: Deep Water");
}

/// Writes a recipe beside links to what it names, and runs `recipe make` on it.
fn with_recipe(text_of: &str) -> crate::support::Run {
    let folder = folder();
    std::fs::copy(&demo().drawer.gba, folder.path().join("moth.gba")).unwrap();
    std::fs::copy(&demo().drawer.gb, folder.path().join("fogbell.gb")).unwrap();
    std::fs::write(folder.path().join("picture.png"), b"no picture").unwrap();
    std::fs::write(folder.path().join("r.toml"), text_of).unwrap();
    let run = told(command(folder.path()).args(["recipe", "make", "r.toml"]).output().unwrap());
    let made =
        std::fs::read_dir(folder.path()).unwrap().flatten().any(|e| e.path().extension().is_some_and(|e| e == "cia"));
    assert!(!made || run.code < 2, "a refusal leaves nothing behind: {run:?}");
    run
}

#[test]
fn recipes_that_cannot_be_are_refused_with_the_place_and_what_fits() {
    let gba = "[[title]]\nrom = \"moth.gba\"\n";
    let with = |more: &str| with_recipe(&format!("{gba}{more}"));
    with("").expect(0);
    with_recipe(&format!("platform = \"handheld\"\n{gba}")).expect(0);
    with_recipe(&format!("platform = \"hanheld\"\n{gba}")).expect(2).says("the nearest one is \"handheld\"");
    with("\n[title.icon]\npiture = \"x.png\"\n").expect(2).says("line 5").says("\"picture\"");
    with("[title.gba]\nsave = \"flash-64\"\n").expect(2).says("flash-64k");
    with("[title.gba]\nsleep = [\"Selct\"]\n").expect(2).says("\"Select\"");
    with("[title.gba]\ngamma = 9.0\n").expect(2).says("0.2 to 5");
    with("[title.icon]\nframe = \"red\"\n").expect(2).says("six hexadecimal digits");
    with("[title.icon]\npicture = \"picture.png\"\n").expect(2).says("is no picture");
    with("[title.wide]\ntext = \"a line that is much too long for a wide picture\"\n").expect(2).says("pixels wide");
    with("[title.wide]\ntext = \"1\\n2\\n3\\n4\\n5\\n6\"\n").expect(2).says("pixels high");
    with("[title.wide]\ntext = \"x\"\nfont = \"picture.png\"\n").expect(2).says("is no font");
    with("[title.wide]\ntext = \"short\"\n").expect(0).says("banner");
    with("[title.icon]\npicture = \"none.png\"\n").expect(5).says("none.png");
    with("[title.names.in.germn]\nshort = \"x\"\n").expect(2).says("\"german\"");
    let long = format!("[title.names]\nshort = \"{}\"\n", "x".repeat(65));
    with(&long).expect(2).says("65 characters, there is room for 64");
    with("region-free = false\n").expect(0);
    with("id = \"0004000e00123400\"\n").expect(2).says("programs begin with 00040000");
    with("patches = [\"fogbell.gb\"]\n").expect(2).says("no patch");
    with_recipe("[[title]]\nrom = \"fogbell.gb\"\n").expect(2).says("needs a player");
    with_recipe("[[title]]\nrom = \"fogbell.gb\"\nbase = \"own.cia\"\n").expect(2).says("a package of your own");
    with_recipe("[[title]]\nrom = \"picture.png\"\n").expect(3);
    with_recipe("title = 5\n").expect(2).says("line 1");
    let twice = format!("{gba}output = \"a.cia\"\n{gba}output = \"b.cia\"\n");
    with_recipe(&twice).expect(2).says("one would replace the other");
}

#[test]
fn a_rom_that_is_too_large_is_refused() {
    let folder = folder();
    let mut rom = bytes(&demo().drawer.gba);
    rom.resize((32 << 20) + 16, 1);
    std::fs::write(folder.path().join("large.gba"), rom).unwrap();
    std::fs::write(folder.path().join("r.toml"), "[[title]]\nrom = \"large.gba\"\n").unwrap();
    run(folder.path(), &["recipe", "make", "r.toml"]).expect(3).says("32 MiB");
    run(folder.path(), &["recipe", "new", "large.gba", "-o", "n.toml"]).expect(2).says("at most 32 MiB");
}

#[test]
fn a_new_recipe_can_be_made_as_it_is() {
    let folder = folder();
    std::fs::copy(&demo().drawer.gba, folder.path().join("Moth Hour.gba")).unwrap();
    run(folder.path(), &["recipe", "new", "Moth Hour.gba", "-o", "moth.toml"]).expect(0).says("recipe show moth.toml");
    let text = std::fs::read_to_string(folder.path().join("moth.toml")).unwrap();
    assert!(
        text.contains("rom = \"Moth Hour.gba\"") && text.contains("000400000c8c8000") && text.contains("eeprom-8k")
    );
    run(folder.path(), &["recipe", "make", "moth.toml"]).expect(0).says("wrote Moth Hour.cia");
    // Every line that is commented out is a field with its default: none of them is unknown.
    let open: String = text
        .lines()
        .map(|l| {
            l.strip_prefix("# ")
                .filter(|l| l.contains(" = ") && !l.contains("own.") && !l.contains(".png") && !l.contains("logo"))
                .unwrap_or(l)
        })
        .fold(String::new(), |all, l| all + l + "\n");
    let open = open
        .replace("short = \"\"\n", "")
        .replace("frame = \"#2a4d5c\"        # a frame of this colour; none without it\n", "");
    std::fs::write(folder.path().join("open.toml"), &open).unwrap();
    run(folder.path(), &["recipe", "make", "open.toml", "-o", "open.cia"]).expect(0);
    // A folder of ROMs gives a recipe with all of them; what cannot be made does not stop the rest.
    run(folder.path(), &["recipe", "new", text_of(&demo().drawer.folder), "-o", "all.toml"]).expect(0).says("12");
    std::fs::create_dir(folder.path().join("made")).unwrap();
    let made = run(folder.path(), &["recipe", "make", "all.toml", "-o", "made"]).expect(1);
    made.says("2 of 12 titles").says("a package of your own");
    assert!(folder.path().join("made/Moth Hour.cia").exists());
}

fn text_of(path: &Path) -> &str {
    text(path)
}

#[test]
fn a_consoles_save_goes_out_and_in() {
    let (d, folder) = (&demo().case, folder());
    let block = text(&d.save);
    run(folder.path(), &["save", "show", block, "--keys", keys()])
        .expect(0)
        .says("current copy")
        .says("its code holds");
    run(folder.path(), &["save", "export", block, "--keys", keys(), "-o", "moth.sav"]).expect(0);
    let mut save = bytes(&folder.path().join("moth.sav"));
    assert!(save.len() == 8192 && save.starts_with(b"MOTHHOUR"));
    save[100] ^= 0xff;
    std::fs::write(folder.path().join("new.sav"), &save).unwrap();
    run(folder.path(), &["save", "import", "new.sav", "--into", block, "--keys", keys(), "-o", "new.bin"]).expect(0);
    run(folder.path(), &["save", "export", "new.bin", "--keys", keys(), "-o", "again.sav"]).expect(0);
    assert!(bytes(&folder.path().join("again.sav")) == save);
    let (old, new) = (bytes(&d.save), bytes(&folder.path().join("new.bin")));
    assert!(new[0x2200..] == old[0x2200..], "the copy that was current stays");
    let id = "000400000c8c8000";
    run(folder.path(), &["save", "import", "new.sav", "--title", id, "--keys", keys(), "-o", "fresh.bin"]).expect(0);
    run(folder.path(), &["save", "export", "fresh.bin", "--title", id, "--keys", keys(), "-o", "f.sav"]).expect(0);
    let other = ["save", "export", "fresh.bin", "--title", "000400000c8c8100", "--keys", keys(), "-o", "x.sav"];
    run(folder.path(), &other).expect(4).says("is of title 000400000c8c8000");
    std::fs::write(folder.path().join("short.sav"), &save[..512]).unwrap();
    run(folder.path(), &["save", "import", "short.sav", "--into", block, "--keys", keys(), "-o", "x.bin"])
        .expect(4)
        .says("the save in the block 8,192");
    std::fs::copy(&d.save, folder.path().join("block.bin")).unwrap();
    run(folder.path(), &["save", "export", "block.bin", "-o", "x.sav"]).expect(4).says("n3ds.agb.cmac");
    std::fs::write(folder.path().join("w.keys"), "slot0x24KeyN = 000102030405060708090a0b0c0d0e0f").unwrap();
    run(folder.path(), &["save", "export", "block.bin", "--keys", "w.keys", "-o", "x.sav"])
        .expect(4)
        .says("code that holds");
    assert!(!folder.path().join("x.sav").exists() && !folder.path().join("x.bin").exists());
}
