//! A shelf of the hybrid console: a title with base, two updates and two add-ons, another one on a gamecard. All ids, keys,
//! names and pictures are the museum's own.

mod card;
mod cipher;
mod content;
pub mod keys;
mod romfs;
mod section;

pub use content::Crypto;

use crate::content::{Noise, letter, picture_jpeg, route};
use content::{List, Spec};
use decanter_core::Result;
use decanter_core::digest::hex;
use decanter_core::source::read_vec;
use decanter_formats::package::sha256;
use section::Section;

/// Ids of the bases.
pub const COURIER: u64 = 0x0500_9a3e_11d2_0000;
/// Id of the game on the gamecard.
pub const FOGBELL: u64 = 0x0500_9a3e_22c4_0000;
/// What the first title's parts are called once they are one file.
pub const MERGED: &str = "Kelp Courier [05009A3E11D20000] [v131072] (1 base, 1 update, 2 add-ons).xci";
/// Version of the system that the titles need: 5.1.0.
const SYSTEM: u32 = 5 << 26 | 1 << 20;

/// A package as files by name, in the order in which they stand in it.
pub type Files = Vec<(String, Vec<u8>)>;

/// Noise that is the same every time.
fn noise(seed: u64, len: u64) -> Result<Vec<u8>> {
    let noise = Noise { seed, magic: b"", len };
    read_vec(&noise, 0, len, "noise", len)
}

/// What a title is made of.
#[derive(Debug, Clone, Copy)]
pub struct Wish<'a> {
    /// Id of the title.
    pub title_id: u64,
    /// Id of its base.
    pub base: u64,
    /// Its version.
    pub version: u32,
    /// How its contents are encrypted.
    pub crypto: Crypto,
    /// Generation of the keys.
    pub generation: u8,
    /// Its names: language and title.
    pub names: &'a [(usize, &'a str)],
    /// Its version, as users see it.
    pub shown: &'a str,
    /// Whether it is made for a gamecard.
    pub is_for_card: bool,
}

/// The files of the game: letters and routes, some of which an update changes.
fn game_files(version: u32, len: u64, more: u64) -> Result<Files> {
    let release = (version >> 16) as usize;
    let mut files = vec![("data/sea.bin".to_owned(), noise(7, len)?)];
    for number in 0..6 {
        files.push((format!("letters/{number:02}.xml"), letter(number + if number < release { 40 } else { 0 })));
        files.push((format!("data/routes/{number:02}.rte"), route(number)));
    }
    files.extend((0..more).map(|n| (format!("many/{:03}/{n:05}.txt", n / 500), format!("Tide {n}\n").into_bytes())));
    if release > 0 {
        files.push((format!("tides/new in {release}.txt"), format!("Release {release}: new tides.\n").into_bytes()));
    }
    Ok(files)
}

fn program_section() -> Result<Section> {
    let code = vec![
        ("main".to_owned(), noise(11, 40_000)?),
        ("main.npdm".to_owned(), [b"META".to_vec(), noise(12, 0x2fc)?].concat()),
        ("rtld".to_owned(), noise(13, 9_000)?),
    ];
    Ok(section::files(&code, 0x1000, 3))
}

/// Puts a title together: contents, their list, and a ticket where one is needed.
fn title(
    wish: &Wish<'_>,
    kind: u8,
    needs: u32,
    mut contents: Vec<(u8, Vec<u8>)>,
    gone: &[(u8, Vec<u8>)],
) -> Result<Files> {
    let spec = |kind: u8, sections: Vec<Section>| Spec {
        kind,
        program_id: wish.title_id,
        generation: wish.generation,
        crypto: Crypto::KeyArea,
        is_for_card: wish.is_for_card,
        sections,
    };
    if !wish.names.is_empty() {
        let icons =
            wish.names.iter().map(|(language, _)| (format!("icon_{}.dat", ICONS[*language]), picture_jpeg(256, 256)));
        let mut files: Files = icons.collect();
        files.push(("control.nacp".into(), content::control(wish.names, "Saltmarsh Pier", wish.shown)));
        contents.push((3, content::nca(&spec(2, vec![section::rom(&romfs::build(&files), 3)]))?));
    }
    let (title_id, version, base) = (wish.title_id, wish.version, wish.base);
    let list = List { title_id, version, kind, base, needs, contents: &contents, gone };
    let name = match kind {
        0x80 => "Application",
        0x81 => "Patch",
        _ => "AddOnContent",
    };
    let list = vec![(format!("{name}_{:016x}.cnmt", wish.title_id), list.bytes())];
    let meta = content::nca(&spec(1, vec![section::files(&list, 0x1000, 3)]))?;
    let id = |bytes: &[u8]| hex(&sha256(bytes)[..16]);
    let mut files: Files = contents.into_iter().map(|(_, bytes)| (format!("{}.nca", id(&bytes)), bytes)).collect();
    files.push((format!("{}.cnmt.nca", id(&meta)), meta));
    if wish.crypto == Crypto::TitleKey {
        let (name, ticket) = content::ticket(wish.title_id, wish.generation);
        files.push((name.replace(".tik", ".cert"), vec![0x5a; 0x700]));
        files.push((name, ticket));
    }
    Ok(files)
}

/// Names of icons by language.
const ICONS: [&str; 5] = ["AmericanEnglish", "BritishEnglish", "Japanese", "French", "German"];

/// The sections of a program.
fn program(wish: &Wish<'_>, sections: Vec<Section>) -> Result<Vec<u8>> {
    content::nca(&Spec {
        kind: 0,
        program_id: wish.title_id,
        generation: wish.generation,
        crypto: wish.crypto,
        is_for_card: wish.is_for_card,
        sections,
    })
}

/// The files of a base, with `len` bytes of data that nothing changes.
///
/// # Errors
/// When a key has the wrong length, which it has not.
pub fn base(wish: &Wish<'_>, len: u64) -> Result<Files> {
    base_with(wish, len, 0)
}

/// The same with so many more small files.
///
/// # Errors
/// As [`base`].
pub fn base_with(wish: &Wish<'_>, len: u64, more: u64) -> Result<Files> {
    let rom = section::rom(&romfs::build(&game_files(0, len, more)?), 3);
    let logo = section::files(&[("logo.bin".to_owned(), noise(14, 600)?)], 0x1000, 1);
    let contents = vec![(1, program(wish, vec![program_section()?, rom, logo])?)];
    title(wish, 0x80, SYSTEM, contents, &[])
}

/// The files of an update of the base that was made with the same `len`; a delta fragment is listed and not there.
///
/// # Errors
/// As [`base`].
pub fn update(wish: &Wish<'_>, len: u64) -> Result<Files> {
    update_with(wish, len, 0)
}

/// The same for a base with so many more small files.
///
/// # Errors
/// As [`base`].
pub fn update_with(wish: &Wish<'_>, len: u64, more: u64) -> Result<Files> {
    let old = section::rom(&romfs::build(&game_files(0, len, more)?), 3);
    let new = section::rom(&romfs::build(&game_files(wish.version, len, more)?), 3);
    let contents = vec![(1, program(wish, vec![program_section()?, section::update(&old, &new)])?)];
    title(wish, 0x81, SYSTEM, contents, &[(6, noise(15, 0x400)?)])
}

/// The files of an add-on.
///
/// # Errors
/// As [`base`].
pub fn add_on(wish: &Wish<'_>, needs: u32) -> Result<Files> {
    add_on_with(wish, needs, 0)
}

/// The same with a file of so many bytes.
///
/// # Errors
/// As [`base`].
pub fn add_on_with(wish: &Wish<'_>, needs: u32, len: u64) -> Result<Files> {
    let number = wish.title_id & 0xff;
    let mut files = vec![
        (format!("extra/tide {number}.rte"), route(20 + number as usize)),
        ("extra/read me.txt".to_owned(), format!("Add-on {number} of Kelp Courier.\n").into_bytes()),
    ];
    if len > 0 {
        files.push(("extra/sea.bin".to_owned(), noise(17, len)?));
    }
    let data = content::nca(&Spec {
        kind: 4,
        program_id: wish.title_id,
        generation: wish.generation,
        crypto: wish.crypto,
        is_for_card: wish.is_for_card,
        sections: vec![section::rom(&romfs::build(&files), if wish.crypto == Crypto::KeyArea { 2 } else { 3 })],
    })?;
    title(wish, 0x82, needs, vec![(2, data)], &[])
}

/// A package of these files.
pub fn package(files: &Files) -> Vec<u8> {
    section::pfs0(files, 0x20)
}

/// A gamecard image with these files, and a system update of one file.
///
/// # Errors
/// As [`base`].
pub fn gamecard(files: &Files) -> Result<Vec<u8>> {
    card::build(files, &[("system.nca".to_owned(), noise(16, 5_000)?)])
}

/// Bytes of data of the games that nothing changes.
const SEA: u64 = 600_000;
const NAMES: [(usize, &str); 3] = [(0, "Kelp Courier"), (2, "ケルプ・クーリエ"), (4, "Tangkurier")];

/// Every file of the shelf, by its path.
///
/// # Errors
/// As [`base`].
pub fn shelf() -> Result<Files> {
    let wish = Wish {
        title_id: COURIER,
        base: COURIER,
        version: 0,
        crypto: Crypto::KeyArea,
        generation: 3,
        names: &NAMES,
        shown: "1.0.0",
        is_for_card: false,
    };
    let first = Wish { title_id: COURIER | 0x800, version: 1 << 16, shown: "1.1.0", ..wish };
    let second = Wish { version: 2 << 16, crypto: Crypto::TitleKey, generation: 5, shown: "1.2.0", ..first };
    let one = Wish { title_id: COURIER + 0x1001, crypto: Crypto::TitleKey, generation: 4, names: &[], ..wish };
    let two = Wish { title_id: COURIER + 0x1002, names: &[], ..wish };
    let fogbell = Wish {
        title_id: FOGBELL,
        base: FOGBELL,
        names: &[(0, "Fogbell"), (4, "Nebelglocke")],
        is_for_card: true,
        ..wish
    };
    let at = |name: &str, files: &Files| (format!("Kelp Courier/Kelp Courier ({name}).nsp"), package(files));
    Ok(vec![
        at("base", &base(&wish, SEA)?),
        at("update 1", &update(&first, SEA)?),
        at("update 2", &update(&second, SEA)?),
        at("add-on 1", &add_on(&one, 0)?),
        at("add-on 2", &add_on(&two, 1 << 16)?),
        ("Fogbell.xci".to_owned(), gamecard(&base(&fogbell, SEA / 2)?)?),
        ("keys/museum.keys".to_owned(), keys::list().into_bytes()),
    ])
}
