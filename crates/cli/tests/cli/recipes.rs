//! Recipes for the big console: PSP and PS2 discs as packages with a title, pictures and a sound, and back; refusals.

use crate::support::{Run, demo, folder, run, text, tree};
use decanter_formats::record::sfo::{Parameters, Value};
use std::fs;
use std::path::Path;

fn keys() -> &'static str {
    text(&demo().console.keys)
}

fn with_keys(folder: &Path, words: &[&str]) -> Run {
    run(folder, &[words, &["--keys", keys()]].concat())
}

/// A PSP disc without pictures, and with a few files only: nothing of it has to be scaled.
fn plain_disc(folder: &Path) {
    let disc = text(&demo().handheld);
    let gone = ["--without", "PSP_GAME/PIC1.PNG", "--without", "wing2.gim", "--without", "wing3.gim"];
    run(folder, &[&["convert", disc, "--to", "iso", "-o", "moth.iso"][..], &gone].concat()).expect(0);
}

/// Width and height of a PNG, by the layout of its first chunk.
fn png_size(bytes: &[u8]) -> (u32, u32) {
    assert_eq!(&bytes[..8], b"\x89PNG\r\n\x1a\n");
    let word = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap());
    (word(16), word(20))
}

fn names(folder: &Path) -> Vec<String> {
    tree(folder).into_iter().map(|(name, _)| name).collect()
}

#[test]
fn a_psp_disc_becomes_a_title_and_comes_out_again() {
    let folder = folder();
    let parade = text(&demo().console.recipes[0]);
    let shown = with_keys(folder.path(), &["recipe", "show", parade, "--picture", "sheet.png"]).expect(0);
    let shown = shown.says("EP0000-DCES00099_00-MOTHPARADE000000").says("the disc's own").says("MINIS2.EDAT");
    shown.says("the icon has 144 by 80 pixels").says("decanter recipe make").says("is not known");
    assert_eq!(png_size(&fs::read(folder.path().join("sheet.png")).unwrap()), (1280, 800));
    let made = with_keys(folder.path(), &["recipe", "make", parade, "-o", "parade.pkg"]).expect(0);
    made.says("the disc in it has the same").says("placeholders");
    with_keys(folder.path(), &["verify", "parade.pkg"]).expect(0).says("SOUND");
    let told = with_keys(folder.path(), &["identify", "parade.pkg"]).expect(0);
    told.says("Moth Parade").says("DCES00099").says("PSP remaster").says("finalized");
    with_keys(folder.path(), &["extract", "parade.pkg", "-o", "out"]).expect(0);
    let out = folder.path().join("out");
    assert_eq!(
        names(&out),
        ["ICON0.PNG", "PARAM.SFO", "PIC1.PNG", "SND0.AT3", "USRDIR/ISO.BIN.EDAT", "USRDIR/MINIS2.EDAT"]
    );
    let file = |name: &str| fs::read(out.join(name)).unwrap();
    assert_eq!((png_size(&file("ICON0.PNG")), png_size(&file("PIC1.PNG"))), ((320, 176), (1920, 1080)));
    for name in ["USRDIR/ISO.BIN.EDAT", "USRDIR/MINIS2.EDAT"] {
        let bytes = file(name);
        assert_eq!((&bytes[..4], &bytes[0x10..0x34]), (&b"NPD\0"[..], &b"EP0000-DCES00099_00-MOTHPARADE000000"[..]));
    }
    run(folder.path(), &["extract", text(&demo().handheld), "-o", "disc", "--only", "PSP_GAME/SND0.AT3"]).expect(0);
    assert!(file("SND0.AT3") == fs::read(folder.path().join("disc/PSP_GAME/SND0.AT3")).unwrap());
    let listed = run(folder.path(), &["list", "out/PARAM.SFO"]).expect(0);
    listed.says("CATEGORY        PP").says("TITLE_04        Mottenparade").says("BOOTABLE        1");
    with_keys(folder.path(), &["convert", "parade.pkg", "--to", "iso", "-o", "again.iso", "--prove"]).expect(0);
    assert!(fs::read(folder.path().join("again.iso")).unwrap() == fs::read(&demo().handheld).unwrap());
    // The same recipe makes the same bytes, and never over what is there.
    with_keys(folder.path(), &["recipe", "make", parade, "-o", "again.pkg"]).expect(0);
    assert!(fs::read(folder.path().join("again.pkg")).unwrap() == fs::read(folder.path().join("parade.pkg")).unwrap());
    with_keys(folder.path(), &["recipe", "make", parade, "-o", "again.pkg"]).expect(2).says("--replace");
}

#[test]
fn a_ps2_disc_becomes_a_title_with_a_memory_card() {
    let folder = folder();
    let lane = text(&demo().console.recipes[1]);
    let made = with_keys(folder.path(), &["recipe", "make", lane, "-o", "lane.pkg"]).expect(0);
    made.says("300 by 200").says("letterbox").says("memory card is in the clear");
    with_keys(folder.path(), &["verify", "lane.pkg"]).expect(0);
    with_keys(folder.path(), &["extract", "lane.pkg", "-o", "out"]).expect(0);
    let out = folder.path().join("out");
    assert_eq!(
        names(&out),
        ["ICON0.PNG", "PARAM.SFO", "PIC1.PNG", "USRDIR/ISO.BIN.ENC", "USRDIR/SAVEDATA/SCEVMC0.VME"]
    );
    let card = fs::read(out.join("USRDIR/SAVEDATA/SCEVMC0.VME")).unwrap();
    assert!(card.len() == 8_650_752 && card.starts_with(b"Sony PS2 Memory Card Format 1.2.0.0"));
    // A picture that has the right size already stays as it is.
    let place = demo().console.folder.join("lane.png");
    assert!(fs::read(out.join("PIC1.PNG")).unwrap() == fs::read(place).unwrap());
    let listed = run(folder.path(), &["list", "out/PARAM.SFO"]).expect(0);
    listed.says("CATEGORY        2P").says("VERSION         01.01").says("PARENTAL_LEVEL  2");
    // The image in it is the one that convert makes.
    let disc = text(&demo().dvd);
    with_keys(folder.path(), &["convert", disc, "--to", "ps2-classics", "-o", "lane.enc"]).expect(0);
    assert!(fs::read(out.join("USRDIR/ISO.BIN.ENC")).unwrap() == fs::read(folder.path().join("lane.enc")).unwrap());
    with_keys(folder.path(), &["convert", "lane.pkg", "--to", "iso", "-o", "again.iso"]).expect(0);
    assert!(fs::read(folder.path().join("again.iso")).unwrap() == fs::read(disc).unwrap());
}

#[test]
fn the_licence_key_of_a_ps2_disc_may_be_typed() {
    let folder = folder();
    let list = fs::read_to_string(&demo().console.keys).unwrap();
    let without: String = list.lines().filter(|l| !l.starts_with("DCET20007")).fold(String::new(), |a, l| a + l + "\n");
    fs::write(folder.path().join("w.keys"), without).unwrap();
    fs::copy(&demo().dvd, folder.path().join("lane.iso")).unwrap();
    fs::write(
        folder.path().join("r.toml"),
        "platform = \"ps3\"\n[[title]]\ndisc = \"lane.iso\"\ncards = []\nfinalized = true\n",
    )
    .unwrap();
    let make = ["recipe", "make", "r.toml", "--keys", "w.keys"];
    run(folder.path(), &["recipe", "show", "r.toml", "--keys", "w.keys"]).expect(0).says("lacks").says("licence key");
    run(folder.path(), &make).expect(4).says("licence key").says("--key");
    assert!(!folder.path().join("lane.pkg").exists());
    let typed = [&make[..], &["--key", "00112233445566778899aabbccddeeff"]].concat();
    run(folder.path(), &typed).expect(0).says("the disc in it has the same");
    // What makes no use of a key says so.
    let moth = text(&demo().case.recipe);
    run(folder.path(), &["recipe", "make", moth, "--key", "00112233445566778899aabbccddeeff"]).expect(2).says("--key");
}

#[test]
fn a_new_recipe_of_a_folder_of_discs_can_be_made_as_it_is() {
    let folder = folder();
    fs::create_dir(folder.path().join("discs")).unwrap();
    for source in [&demo().handheld, &demo().dvd, &demo().plain] {
        fs::copy(source, folder.path().join("discs").join(source.file_name().unwrap())).unwrap();
    }
    fs::copy(&demo().drawer.gba, folder.path().join("discs/other.gba")).unwrap();
    let made = with_keys(folder.path(), &["recipe", "new", "discs", "-o", "all.toml"]).expect(0);
    made.says("titles       2").says("1 source is left out, discs/other.gba first");
    let recipe = fs::read_to_string(folder.path().join("all.toml")).unwrap();
    assert!(recipe.contains("platform = \"ps3\"") && recipe.contains("disc = \"discs/Moth Parade.iso\""), "{recipe}");
    assert!(recipe.contains("PSP_GAME/ICON0.PNG, 144 by 80") && recipe.contains("# id = \"DCET20007\""), "{recipe}");
    fs::create_dir(folder.path().join("made")).unwrap();
    let made = with_keys(folder.path(), &["recipe", "make", "all.toml", "-o", "made"]).expect(0);
    made.says("2 of 2 titles");
    for name in ["Moth Parade.pkg", "Lamplighter Lane.pkg"] {
        let made = folder.path().join("made");
        with_keys(&made, &["verify", name]).expect(0).says("SOUND");
        run(&made, &["identify", name]).expect(0).says("finalized");
    }
    // Every line that is commented out is a field with its default: none of them is unknown.
    let skipped = ["own", "title = \"\"", "frame", "background = \"#", "[title.names.in", "[title.files]"];
    let open = |line: &str| match line.strip_prefix("# ") {
        Some(l) if (l.contains(" = ") || l.starts_with('[')) && !skipped.iter().any(|s| l.contains(s)) => l.to_owned(),
        _ => line.to_owned(),
    };
    let all: String = recipe.lines().map(open).fold(String::new(), |all, line| all + &line + "\n");
    fs::write(folder.path().join("open.toml"), all).unwrap();
    fs::create_dir(folder.path().join("open")).unwrap();
    with_keys(folder.path(), &["recipe", "make", "open.toml", "-o", "open"]).expect(0);
    for name in ["Moth Parade.pkg", "Lamplighter Lane.pkg"] {
        let [one, two] = ["made", "open"].map(|f| fs::read(folder.path().join(f).join(name)).unwrap());
        assert!(one == two, "{name}");
    }
}

#[test]
fn what_lists_say_of_a_disc_is_told_before_it_is_made() {
    let folder = folder();
    let notes = folder.path().join("notes");
    fs::create_dir(&notes).unwrap();
    fs::copy(&demo().console.notes, notes.join("shifts.csv")).unwrap();
    fs::write(folder.path().join("own.toml"), "notes = [\"notes\"]\n").unwrap();
    let (disc, recipe) = (text(&demo().handheld), text(&demo().console.recipes[0]));
    for words in [&["recipe", "new", disc, "-o", "p.toml"][..], &["recipe", "show", recipe]] {
        let words = [words, &["--config", "own.toml"]].concat();
        with_keys(folder.path(), &words).expect(0).says("noted: ps3: runs (wings flicker in the last level)");
    }
}

/// What is transparent in a picture stays so, unless the recipe says what is behind it.
#[test]
fn pictures_stay_transparent_where_they_are() {
    let folder = folder();
    plain_disc(folder.path());
    let clear: Vec<u8> = (0..10 * 8).flat_map(|i| [200, 10, 10, if i % 10 < 5 { 0 } else { 255 }]).collect();
    let mut png = Vec::new();
    let mut encoder = png::Encoder::new(&mut png, 10, 8);
    encoder.set_color(png::ColorType::Rgba);
    encoder.write_header().unwrap().write_image_data(&clear).unwrap();
    fs::write(folder.path().join("half.png"), png).unwrap();
    let corner = |more: &str, name: &str| -> Vec<u8> {
        let recipe = "platform = \"ps3\"\n[[title]]\ndisc = \"moth.iso\"\noutput = \"m.pkg\"\n";
        fs::write(folder.path().join("m.toml"), format!("{recipe}{more}")).unwrap();
        with_keys(folder.path(), &["recipe", "make", "m.toml", "--replace"]).expect(0);
        let only = ["extract", "m.pkg", "-o", "out", "--only", name, "--replace"];
        with_keys(folder.path(), &only).expect(0);
        let file = fs::read(folder.path().join("out").join(name)).unwrap();
        let mut reader = png::Decoder::new(std::io::Cursor::new(file)).read_info().unwrap();
        let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
        reader.next_frame(&mut pixels).unwrap();
        pixels[..4].to_vec()
    };
    assert_eq!(corner("[title.overlay]\npicture = \"half.png\"\n", "PIC0.PNG")[3], 0);
    assert_eq!(corner("[title.icon]\npicture = \"half.png\"\nfit = \"letterbox\"\n", "ICON0.PNG")[3], 0);
    let behind = "[title.icon]\npicture = \"half.png\"\nbackground = \"#0a0b0c\"\n";
    assert_eq!(corner(behind, "ICON0.PNG"), [10, 11, 12, 255]);
}

/// A compressed image, and one of whose files some are blank or left out.
#[test]
fn the_disc_may_be_compressed_and_parts_of_it_left_out() {
    let folder = folder();
    plain_disc(folder.path());
    run(folder.path(), &["convert", "moth.iso", "--to", "cso", "-o", "moth.cso"]).expect(0);
    let recipe = |more: &str| {
        let text =
            format!("platform = \"ps3\"\n[[title]]\ndisc = \"moth.cso\"\noutput = \"m.pkg\"\nfinalized = true\n{more}");
        fs::write(folder.path().join("m.toml"), text).unwrap();
        let made = with_keys(folder.path(), &["recipe", "make", "m.toml", "--replace"]);
        if made.code == 0 {
            with_keys(folder.path(), &["convert", "m.pkg", "--to", "iso", "-o", "m.iso", "--replace"]).expect(0);
        }
        made
    };
    recipe("").expect(0);
    let whole = fs::read(folder.path().join("moth.iso")).unwrap();
    assert!(fs::read(folder.path().join("m.iso")).unwrap() == whole);
    recipe("blank = [\"wing1.gim\"]\n").expect(0);
    let blank = fs::read(folder.path().join("m.iso")).unwrap();
    let changed = blank.iter().zip(&whole).filter(|(a, b)| a != b).count();
    assert!(blank.len() == whole.len() && (290_000..=300_000).contains(&changed), "{changed}");
    recipe("without = [\"PSP_GAME/USRDIR/wing*\"]\n").expect(0);
    let listed = run(folder.path(), &["list", "m.iso"]).expect(0);
    assert!(!listed.out.contains("wing1") && listed.out.contains("swarm1"), "{listed:?}");
    recipe("blank = [\"nothing*\"]\n").expect(2).says("nothing matches");
}

#[test]
fn a_raw_cd_is_taken_by_its_cue_sheet() {
    let folder = folder();
    fs::create_dir_all(folder.path().join("cd")).unwrap();
    fs::write(folder.path().join("cd/SYSTEM.CNF"), "BOOT2 = cdrom0:\\DCET_200.99;1\r\nVER = 1.00\r\n").unwrap();
    fs::write(folder.path().join("cd/DCET_200.99"), [9; 5000]).unwrap();
    run(folder.path(), &["convert", "cd", "--to", "iso", "-o", "cd.iso"]).expect(0);
    run(folder.path(), &["convert", "cd.iso", "--to", "cd-raw", "-o", "cd.bin"]).expect(0);
    assert!(folder.path().join("cd.cue").exists());
    let keys = fs::read_to_string(keys()).unwrap() + "DCET20099 = 00112233445566778899aabbccddeeff\n";
    fs::write(folder.path().join("own.keys"), keys).unwrap();
    let recipe = "platform = \"ps3\"\n[[title]]\ndisc = \"cd.cue\"\noutput = \"cd.pkg\"\ncards = []\n";
    fs::write(folder.path().join("r.toml"), recipe).unwrap();
    let with = |words: &[&str]| run(folder.path(), &[words, &["--keys", "own.keys"]].concat());
    with(&["recipe", "make", "r.toml"]).expect(0).says("the disc in it has the same");
    with(&["decrypt", "cd.pkg::USRDIR/ISO.BIN.ENC", "-o", "again.bin"]).expect(0);
    assert!(fs::read(folder.path().join("again.bin")).unwrap() == fs::read(folder.path().join("cd.bin")).unwrap());
    fs::write(folder.path().join("b.toml"), format!("{recipe}blank = [\"DCET_200.99\"]\n")).unwrap();
    with(&["recipe", "make", "b.toml"]).expect(2).says("2048-byte sectors");
}

#[test]
fn own_files_and_values_go_into_the_package() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    plain_disc(folder.path());
    // A parameter file with a value of a kind of its own, which has to stay as it is.
    let mut sfo = b"\0PSF\x01\x01\0\0\x34\0\0\0\x44\0\0\0\x02\0\0\0".to_vec();
    sfo.extend(b"\0\0\x04\0\x03\0\0\0\x08\0\0\0\0\0\0\0");
    sfo.extend(b"\x08\0\x04\x02\x05\0\0\0\x08\0\0\0\x08\0\0\0");
    sfo.extend(b"ODDDATA\0TITLE\0\0\0");
    sfo.extend(b"\x01\x02\x03\0\0\0\0\0Tide\0\0\0\0");
    fs::write(at("own.sfo"), sfo).unwrap();
    fs::write(at("hip.bin"), b"about the museum").unwrap();
    fs::write(at("mark.bin"), b"a marker of my own").unwrap();
    fs::write(at("film.pam"), b"PAMF0041 a moth").unwrap();
    let recipe = "platform = \"ps3\"\n[[title]]\ndisc = \"moth.iso\"\noutput = \"m.pkg\"\nfinalized = true\nid = \"DCNT10077\"\n\
        content-id = \"EP9999-DCNT10077_00-MOTHPARADEMUSEUM\"\nsound = \"\"\nanimation = \"film.pam\"\n\
        parameter-file = \"own.sfo\"\nmarker = \"mark.bin\"\n\
        [title.names]\ntitle = \"Moths at Dusk\"\n[title.background]\npicture = \"\"\n\
        [title.parameters]\nATTRIBUTE = 37\nSUB_TITLE = \"at the pier\"\n\
        [title.files]\n\"PARAM.HIP\" = \"hip.bin\"\n\"USRDIR/deep/own.txt\" = \"hip.bin\"\n";
    fs::write(at("r.toml"), recipe).unwrap();
    with_keys(folder.path(), &["recipe", "make", "r.toml"]).expect(0);
    with_keys(folder.path(), &["extract", "m.pkg", "-o", "out"]).expect(0);
    let all = ["ICON0.PNG", "ICON1.PAM", "PARAM.HIP", "PARAM.SFO", "USRDIR/ISO.BIN.EDAT", "USRDIR/MINIS2.EDAT"];
    assert_eq!(names(&at("out")), [&all[..], &["USRDIR/deep/own.txt"]].concat());
    let listed = run(folder.path(), &["list", "out/PARAM.SFO"]).expect(0);
    let listed = listed.says("Moths at Dusk").says("37 (0x25)").says("at the pier").says("DCNT10077").says("PP");
    listed.says("ODDDATA      3 bytes");
    let written = fs::read(at("out/PARAM.SFO")).unwrap();
    assert!(written.windows(8).any(|w| w == [1, 2, 3, 0, 0, 0, 0, 0]), "the odd value, with its room");
    with_keys(folder.path(), &["decrypt", "out/USRDIR/MINIS2.EDAT", "-o", "mark.out"]).expect(0);
    assert_eq!(fs::read(at("mark.out")).unwrap(), b"a marker of my own");
    // A marker that is wrapped already is taken as it is, if it is of this title.
    fs::copy(at("out/USRDIR/MINIS2.EDAT"), at("mark.bin")).unwrap();
    with_keys(folder.path(), &["recipe", "make", "r.toml", "-o", "n.pkg"]).expect(0);
    assert!(fs::read(at("n.pkg")).unwrap() == fs::read(at("m.pkg")).unwrap());
    fs::write(at("s.toml"), recipe.replace("EP9999-DCNT10077", "EP9998-DCNT10077")).unwrap();
    with_keys(folder.path(), &["recipe", "make", "s.toml", "-o", "x.pkg"]).expect(2).says("is wrapped for EP9999");
}

fn parameters(values: &[(&str, &str)]) -> Vec<u8> {
    let mut all = Parameters::default();
    values.iter().for_each(|(name, value)| all.put(name, Value::Text((*value).into()), 4));
    all.compose()
}

/// What a parameter file of one's own says is what the package says, too.
#[test]
fn version_and_content_id_are_said_once() {
    let folder = folder();
    plain_disc(folder.path());
    let own = parameters(&[("CONTENT_ID", "UP0000-DCNT10009_00-SOMETHINGELSE000"), ("VERSION", "01.05")]);
    fs::write(folder.path().join("own.sfo"), own).unwrap();
    let recipe = "platform = \"ps3\"\n[[title]]\ndisc = \"moth.iso\"\nfinalized = true\noutput = \"m.pkg\"\n";
    fs::write(folder.path().join("m.toml"), format!("{recipe}parameter-file = \"own.sfo\"\n")).unwrap();
    with_keys(folder.path(), &["recipe", "make", "m.toml"]).expect(0);
    with_keys(folder.path(), &["verify", "m.pkg"]).expect(0).says("SOUND");
    let told = with_keys(folder.path(), &["identify", "m.pkg"]).expect(0);
    told.says("  version      01.05").says("pkg version  01.05").says("EP0000-DCES00099_00-MOTHPARADE000000");
    fs::write(folder.path().join("own.sfo"), parameters(&[("VERSION", "1.5")])).unwrap();
    with_keys(folder.path(), &["recipe", "make", "m.toml", "--replace"]).expect(2).says("\"1.5\" is no version");
}

/// Whatever a disc says of itself, it is a comment or a text in quotes.
#[test]
fn what_a_disc_says_does_not_get_out_of_its_place() {
    let folder = folder();
    let game = folder.path().join("disc/PSP_GAME");
    fs::create_dir_all(&game).unwrap();
    let title = "Moth\nfinalized = 5\n[[title]]\ndisc = \"x\"";
    fs::write(game.join("PARAM.SFO"), parameters(&[("DISC_ID", "DCES00098"), ("TITLE", title)])).unwrap();
    fs::write(folder.path().join("disc/UMD_DATA.BIN"), "DCES-00098|1|").unwrap();
    run(folder.path(), &["convert", "disc", "--to", "iso", "-o", "odd.iso"]).expect(0);
    with_keys(folder.path(), &["recipe", "new", "odd.iso", "-o", "odd.toml"]).expect(0);
    let json = with_keys(folder.path(), &["recipe", "show", "odd.toml", "--json"]).expect(0).json();
    let titles = json["titles"].as_array().unwrap();
    assert_eq!((titles.len(), &titles[0]["title"]), (1, &title.into()));
}

#[test]
fn what_is_missing_is_told_before_anything_is_made() {
    let folder = folder();
    plain_disc(folder.path());
    let recipe = "platform = \"ps3\"\n[[title]]\ndisc = \"moth.iso\"\nfinalized = true\n";
    fs::write(folder.path().join("m.toml"), recipe).unwrap();
    let shown = run(folder.path(), &["recipe", "show", "m.toml"]).expect(0);
    let lacks: Vec<&str> = shown.out.lines().filter(|l| l.trim_start().starts_with("lacks")).collect();
    assert_eq!(lacks.len(), 2, "{shown:?}");
    assert!(lacks[0].contains("ps3.npd.free") && lacks[1].contains("ps3.pkg.key"), "{lacks:?}");
    // Cards of one's own are nobody else's business.
    fs::copy(&demo().dvd, folder.path().join("lane.iso")).unwrap();
    fs::File::create(folder.path().join("own.vme")).unwrap().set_len(8_650_752).unwrap();
    let cards = |cards: &str| {
        let recipe = format!("platform = \"ps3\"\n[[title]]\ndisc = \"lane.iso\"\ncards = {cards}\n");
        fs::write(folder.path().join("l.toml"), recipe).unwrap();
        with_keys(folder.path(), &["recipe", "show", "l.toml"]).expect(0).err
    };
    assert!(cards("[\"own.vme\", \"empty\"]").contains("1 memory card is in the clear"));
    assert!(!cards("[\"own.vme\"]").contains("in the clear"));
}

#[test]
fn recipes_that_cannot_be_are_refused() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    plain_disc(folder.path());
    fs::copy(&demo().dvd, at("lane.iso")).unwrap();
    fs::copy(&demo().cue, at("Pier Nine Pinball.cue")).unwrap();
    fs::copy(demo().cue.with_extension("bin"), at("Pier Nine Pinball.bin")).unwrap();
    fs::write(at("note.txt"), b"no picture, no sound").unwrap();
    let with = |disc: &str, more: &str| {
        fs::write(at("r.toml"), format!("platform = \"ps3\"\n[[title]]\ndisc = \"{disc}\"\n{more}")).unwrap();
        let run = with_keys(folder.path(), &["recipe", "make", "r.toml", "-o", "x.pkg"]);
        assert!(!at("x.pkg").exists(), "a refusal leaves nothing behind: {run:?}");
        run
    };
    let psp = |more: &str| with("moth.iso", more);
    psp("icn = 1\n").expect(2).says("line 4").says("\"icon\"");
    psp("id = \"DCES-0009\"\n").expect(2).says("9 letters and digits");
    psp("version = \"1.0\"\n").expect(2).says("01.00");
    psp("content-id = \"UP0001-DCNT10001_00-KELPCOURIER0000!\"\n").expect(2).says("its label");
    psp("sound = \"note.txt\"\n").expect(2).says("ATRAC3");
    psp("animation = \"note.txt\"\n").expect(2).says("PAM");
    psp("cards = []\n").expect(2).says("cards is for PS2 discs");
    psp("config = \"note.txt\"\n").expect(2).says("config is for PS2 discs");
    psp("parameter-file = \"note.txt\"\n").expect(3).says("is no parameter file");
    psp("[title.icon]\npicture = \"note.txt\"\n").expect(2).says("is no picture");
    psp("[title.icon]\npicture = \"gone.png\"\n").expect(5).says("gone.png");
    psp("[title.names.in.germn]\ntitle = \"x\"\n").expect(2).says("\"german\"");
    psp(&format!("[title.names]\ntitle = \"{}\"\n", "x".repeat(128))).expect(2).says("room for 127");
    psp("[title.parameters]\nTITLE = \"x\"\n").expect(2).says("[title.names] title");
    psp("[title.parameters]\ntitle = \"x\"\n").expect(2).says("capital letters");
    psp("[title.files]\n\"../x\" = \"note.txt\"\n").expect(2).says("no path in a package");
    psp("[title.files]\n\"USRDIR\" = \"note.txt\"\n").expect(2).says("is a folder in the package");
    psp("[title.files]\n\"PARAM.SFO\" = \"note.txt\"\n").expect(2).says("parameter-file");
    psp("[title.files]\n\"USRDIR/ISO.BIN.EDAT\" = \"note.txt\"\n").expect(2).says("the disc itself");
    let ps2 = |more: &str| with("lane.iso", more);
    ps2("marker = \"note.txt\"\n").expect(2).says("marker is for PSP discs");
    ps2("cards = [\"note.txt\"]\n").expect(2).says("8,650,752");
    ps2("cards = [\"empty\", \"empty\", \"empty\"]\n").expect(2).says("two memory cards");
    with("Pier Nine Pinball.cue", "").expect(2).says("PS1 disc").says("neither a PSP nor a PS2 disc");
    with("gone.iso", "").expect(5).says("gone.iso");
    // A disc that is not all there.
    let cut = |name: &str, len: usize| fs::write(at(name), &fs::read(at(name)).unwrap()[..len]).unwrap();
    cut("moth.iso", 900 << 10);
    cut("lane.iso", 8 << 20);
    psp("").expect(3).says("missing at its end");
    ps2("").expect(3).says("missing at its end");
    with_keys(folder.path(), &["convert", "lane.iso", "--to", "ps2-classics"]).expect(3).says("missing at its end");
    fs::copy(&demo().handheld, at("moth.iso")).unwrap();
    // Without its ring, what is needed is named.
    fs::write(at("r.toml"), "platform = \"ps3\"\n[[title]]\ndisc = \"moth.iso\"\n").unwrap();
    run(folder.path(), &["recipe", "make", "r.toml", "-o", "x.pkg"]).expect(4).says("ps3.npd.free");
    let twice = "platform = \"ps3\"\n[[title]]\ndisc = \"moth.iso\"\n[[title]]\ndisc = \"moth.iso\"\n";
    fs::write(at("r.toml"), twice).unwrap();
    with_keys(folder.path(), &["recipe", "make", "r.toml"]).expect(2).says("one would replace the other");
}
