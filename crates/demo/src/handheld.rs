//! A handheld game on a cartridge and as packages, and a recipe for a GBA title. All keys are the museum's own.

use crate::content::{Noise, letter, picture, route, secret};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, hex, of_bytes};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::label::Picture;
use decanter_core::pour::to_memory;
use decanter_core::source::{Bytes, SourceRef, read_array, read_vec};
use decanter_core::transform::Transform;
use decanter_core::view::{CtrRanges, Direction, Keystream, SectorCbc};
use decanter_core::{Error, Result};
use decanter_formats::package::n3ds::cia::ticket::Ticket;
use decanter_formats::package::n3ds::cia::tmd::{ENCRYPTED, Record, Tmd};
use decanter_formats::package::n3ds::cia::{self, Inner, Making};
use decanter_formats::package::n3ds::ncch::header::{FLAGS_AT, PLAIN};
use decanter_formats::package::n3ds::ncch::{self, Content, Parts, RomFs, exheader};
use decanter_formats::package::n3ds::smdh::{LARGE, Names, SMALL, Smdh};
use decanter_formats::package::n3ds::{UNIT, banner, gba_mode, keys, lz, ncsd};
use std::sync::Arc;

/// Ids of the game and of its update.
const GAME: u64 = 0x0004_0000_0d1a_5b00;
const UPDATE: u64 = 0x0004_000e_0d1a_5b00;
const PLAYER: u64 = 0x0004_0000_0d1a_5c00;
/// Bytes of the chip: smaller than any real one, so that the demo is quick to make.
const CHIP: u64 = 16 << 20;
/// The largest content here.
const MOST: u64 = 64 << 20;
/// Second key slot by its number in the flags: method 1.
const SECOND: (u8, u8) = (1, 0x25);

/// Keys by name.
fn key_names() -> [(&'static str, &'static str); 6] {
    [
        ("n3ds.scrambler", "scrambler"),
        ("n3ds.slot0x2C.x", "slot 2c"),
        ("n3ds.slot0x25.x", "slot 25"),
        ("n3ds.slot0x3D.x", "slot 3d"),
        ("n3ds.common.0", "common 0"),
        ("n3ds.agb.cmac", "gba saves"),
    ]
}

/// The key list.
pub(crate) fn key_list() -> String {
    let mut text = "# Saltmarsh Pier Arcade Museum, made-up secrets of its handhelds\n".to_owned();
    for (name, own) in key_names() {
        text.push_str(&format!("{name} = {}\n", hex(&secret(own))));
    }
    text
}

/// An icon: the marsh at dusk, cut to a square.
fn icon(edge: u32) -> Picture {
    let mut rgba = Vec::new();
    for y in 0..edge {
        for x in 0..edge {
            let (u, v) = (x * 48 / edge, y * 48 / edge);
            let wave = (u * 5 + v * 3) % 11 < 4;
            let moon = (u as i32 - 34).pow(2) + (v as i32 - 13).pow(2) < 60;
            let rgb = match (moon, v > 29, wave) {
                (true, ..) => [248, 228, 170],
                (_, true, true) => [36, 92, 110],
                (_, true, false) => [24, 70, 92],
                _ => [40 + v as u8 * 3, 44 + v as u8 * 2, 92],
            };
            rgba.extend([rgb[0], rgb[1], rgb[2], 255]);
        }
    }
    Picture { width: edge, height: edge, rgba }
}

fn label(short: &str, long: &str) -> Result<Smdh> {
    let mut smdh = Smdh::new();
    let publisher = "Saltmarsh Pier Arcade Museum".to_owned();
    let english = Names { short: short.into(), long: long.into(), publisher: publisher.clone() };
    for language in 0..12 {
        smdh.set_names(language, &english)?;
    }
    smdh.set_names(3, &Names { short: "Tangflitzer".into(), long: format!("{short}: Tangflitzer"), publisher })?;
    smdh.set_icon(LARGE, &icon(LARGE.1));
    smdh.set_icon(SMALL, &icon(SMALL.1));
    Ok(smdh)
}

/// A banner whose model has one texture of 256 by 128 pixels.
fn wide_banner() -> Vec<u8> {
    let mut model = b"CGFX".to_vec();
    model.resize(0x40, 0);
    model.extend(b"TXOB");
    let at = model.len();
    model.resize(at + 0x60, 0);
    let len = 256 * 128 * 2u32;
    for (field, value) in [(0x10, 128u32), (0x14, 256), (0x2c, 3), (0x3c, len), (0x40, 0x20)] {
        model[at + field..at + field + 4].copy_from_slice(&value.to_le_bytes());
    }
    let sky = Picture { width: 256, height: 128, rgba: [60, 84, 120, 255].repeat(256 * 128) };
    model.extend(banner::pixels(&sky, banner::Pixels::Rgb565));
    let mut out = vec![0; 0x88];
    out[..4].copy_from_slice(b"CBMD");
    out[8] = 0x88;
    out.extend(lz::pack11(&model));
    out.resize(out.len().next_multiple_of(0x20), 0);
    let sound = out.len() as u32;
    out[0x84..0x88].copy_from_slice(&sound.to_le_bytes());
    out.extend(b"CWAV: a bell buoy");
    out
}

fn noise(seed: u64, len: u64) -> SourceRef {
    Arc::new(Noise { seed, magic: b"", len })
}

fn bytes_of(source: &SourceRef) -> Result<Vec<u8>> {
    read_vec(source.as_ref(), 0, source.len(), "a part of the demo", MOST)
}

/// A header with ids and flags; places and hashes come from composing.
fn header(id: u64, part: u64, product: &str, kind: u8) -> [u8; 0x200] {
    let mut header = [0; 0x200];
    // The first bytes of the signature are key Y.
    for (index, chunk) in header[..0x100].chunks_exact_mut(16).enumerate() {
        chunk.copy_from_slice(&secret(&format!("signature {part} of {id:x}, {index}")));
    }
    header[0x100..0x104].copy_from_slice(b"NCCH");
    header[0x108..0x110].copy_from_slice(&(id + part).to_le_bytes());
    header[0x110..0x112].copy_from_slice(b"SP");
    header[0x112] = 2;
    header[0x118..0x120].copy_from_slice(&id.to_le_bytes());
    header[0x150..0x150 + product.len()].copy_from_slice(product.as_bytes());
    (header[FLAGS_AT + 4], header[FLAGS_AT + 5], header[FLAGS_AT + 7]) = (1, kind, PLAIN);
    header
}

fn extended(id: u64, name: &[u8; 8]) -> Vec<u8> {
    let mut e = [0; 0x800];
    e[..8].copy_from_slice(name);
    e[0x1c0..0x1c8].copy_from_slice(&(128u64 << 10).to_le_bytes());
    e[0x208] = 2;
    exheader::set_title_id(&mut e, id);
    e.to_vec()
}

fn composed(parts: &Parts) -> Result<SourceRef> {
    Ok(Arc::new(Bytes(to_memory(&ncch::compose(parts)?, MOST, &())?)))
}

/// The game, decrypted. Kept small, but with folders, an empty file, and names that are not ASCII.
fn game(id: u64, files: &[(String, SourceRef)]) -> Result<SourceRef> {
    let folders = ["letters", "routes", "music", "music/empty"].map(str::to_owned);
    let exefs = vec![
        (".code".to_owned(), bytes_of(&noise(11, 300_001))?),
        ("banner".to_owned(), wide_banner()),
        ("icon".to_owned(), label("Kelp Dash", "Kelp Dash\nRace with the tide")?.bytes().to_vec()),
    ];
    composed(&Parts {
        header: header(id, 0, "CTR-P-DKDE", 3),
        extended: Some(extended(id, b"KelpDash")),
        logo: Some(noise(12, 0x2000)),
        plain: Some(Arc::new(Bytes(b"[Saltmarsh+Pier:tide tables]\0".to_vec()))),
        exefs,
        romfs: Some(Arc::new(RomFs::new(files, &folders)?)),
    })
}

fn game_files() -> Vec<(String, SourceRef)> {
    let small = |name: String, bytes: Vec<u8>| (name, Arc::new(Bytes(bytes)) as SourceRef);
    let mut files: Vec<(String, SourceRef)> =
        (0..6).map(|n| small(format!("letters/letter {n}.xml"), letter(n))).collect();
    files.extend((0..3).map(|n| small(format!("routes/route{n}.bin"), route(n))));
    files.push(small("routes/\u{6f6e}.txt".into(), b"tide".to_vec()));
    files.push(small("saved nothing yet".into(), Vec::new()));
    files.push(("music/tide.bin".into(), noise(13, 3 << 20)));
    files
}

/// A content of files only: kind 9 a manual, 5 a system update.
fn data(part: u64, kind: u8, files: &[(String, SourceRef)]) -> Result<SourceRef> {
    composed(&Parts {
        header: header(GAME, part, "CTR-P-DKDE", kind),
        extended: None,
        logo: None,
        plain: None,
        exefs: Vec::new(),
        romfs: Some(Arc::new(RomFs::new(files, &[])?)),
    })
}

/// The same content as a cartridge has it: encrypted under the museum's keys.
fn encrypted(plain: &SourceRef) -> Result<SourceRef> {
    let content = Content::read(plain, &Keyring::default())?;
    let header = &content.header;
    let slot = |name: &str| keys::generate(&secret(name), &header.key_y(), &secret("scrambler"));
    let (first, second) = (slot("slot 2c"), slot("slot 25"));
    let mut streams = Vec::new();
    let mut add = |range: std::ops::Range<u64>, origin: u64, part: u8, key: &Key| {
        streams.push(Keystream { range, origin, counter: header.counter(part, origin), key: key.clone() });
    };
    if let Some(range) = &header.extended {
        add(range.clone(), range.start, 1, &first);
    }
    if let Some(area) = &header.exefs {
        let start = area.range.start;
        let mut at = start;
        for member in content.members.iter().filter(|m| !m.is_of_first_slot()) {
            add(at..member.range.start, start, 2, &first);
            at = member.range.end.next_multiple_of(UNIT);
            add(member.range.start..at, start, 2, &second);
        }
        add(at..area.range.end, start, 2, &first);
    }
    if let Some(area) = &header.romfs {
        add(area.range.clone(), area.range.start, 3, &second);
    }
    let mut bytes = bytes_of(plain)?;
    CtrRanges::new(streams)?.apply(0, &mut bytes);
    (bytes[FLAGS_AT + 3], bytes[FLAGS_AT + 7]) = (SECOND.0, 0);
    Ok(Arc::new(Bytes(bytes)))
}

/// An image of these partitions, with the length of a small chip in its header.
fn image(contents: &[(usize, SourceRef)]) -> Result<Vec<SourceRef>> {
    let inner = |(index, source): &(usize, SourceRef)| -> Result<ncsd::Inner> {
        Ok(ncsd::Inner { index: *index, header: read_array(source.as_ref(), 0)?, len: source.len() })
    };
    let mut head = ncsd::head(0x0410, &contents.iter().map(inner).collect::<Result<Vec<_>>>()?)?;
    head[0x104..0x108].copy_from_slice(&((CHIP / UNIT) as u32).to_le_bytes());
    let head: SourceRef = Arc::new(Bytes(head));
    Ok(std::iter::once(head).chain(contents.iter().map(|(_, s)| s.clone())).collect())
}

/// A package whose one content is under a title key, as it is downloaded.
fn sealed_package(id: u64, version: u16, content: &SourceRef) -> Result<Blueprint> {
    let common = keys::generate(&secret("slot 3d"), &secret("common 0"), &secret("scrambler"));
    let title_key = Key::new(secret(&format!("title key of {id:x}")).to_vec());
    let len = content.len();
    let sealed = SectorCbc::new(&title_key, Direction::Encrypt, len, Arc::new([0..len]))?;
    let mut bytes = bytes_of(content)?;
    let hash = of_bytes(Algorithm::Sha256, &bytes).bytes;
    sealed.apply(0, &mut bytes);
    // One block of CBC is one of the cipher over the key and the vector.
    let mut block = title_key.bytes().to_vec();
    block.iter_mut().zip(id.to_be_bytes()).for_each(|(b, iv)| *b ^= iv);
    SectorCbc::new(&common, Direction::Encrypt, 16, Arc::new([0..16]))?.apply(0, &mut block);
    let mut ticket = Ticket::new(id, version);
    ticket.bytes[0x1bf..0x1cf].copy_from_slice(&block);
    let mut tmd = Tmd::new(id, version, 0);
    let mut record = Record { id: 0, index: 0, kind: ENCRYPTED, len, hash: [0; 32] };
    record.hash.copy_from_slice(&hash);
    tmd.records.push(record.clone());
    // The hash is of the plaintext, so it is not the one that composing computes.
    let metadata = tmd.bytes();
    let whole = cia::compose(Making {
        certificates: None,
        ticket,
        tmd,
        contents: vec![Inner { record, source: Arc::new(Bytes(bytes)), proof: None }],
        meta: None,
    })?;
    let mut out = to_memory(&whole, MOST, &())?;
    let at = [cia::HEADER, 0xa00, 0x350].iter().fold(0u64, |at, len| (at + len).next_multiple_of(cia::ALIGN)) as usize;
    out[at..at + metadata.len()].copy_from_slice(&metadata);
    Ok(Blueprint::of(Arc::new(Bytes(out))))
}

/// Everything in the folder, by file name.
pub(crate) struct Handheld {
    pub(crate) encrypted: Blueprint,
    pub(crate) trimmed: Blueprint,
    pub(crate) decrypted: Blueprint,
    pub(crate) update: Blueprint,
    pub(crate) player: Blueprint,
}

/// Makes the images and packages. `rom` is the Game Boy ROM that the player plays.
pub(crate) fn case(rom: Vec<u8>) -> Result<Handheld> {
    let game_plain = game(GAME, &game_files())?;
    let manual = data(1, 9, &[("Manual.txt".into(), Arc::new(Bytes(letter(7))) as SourceRef)])?;
    let system = data(7, 5, &[("firmware of nobody.bin".into(), noise(14, 20_000))])?;
    let sealed = [(0, encrypted(&game_plain)?), (1, encrypted(&manual)?), (7, encrypted(&system)?)];
    let blueprint = |sources: Vec<SourceRef>| {
        let mut blueprint = Blueprint::new();
        sources.into_iter().for_each(|s| {
            blueprint.source(s);
        });
        blueprint
    };
    let trimmed = blueprint(image(&sealed)?);
    let mut full = trimmed.clone();
    let rest = CHIP.checked_sub(full.len()).ok_or_else(|| Error::Usage("the demo's game outgrew its chip".into()))?;
    full.fill(ncsd::FILLER, rest);
    let decrypted = blueprint(image(&[(0, game_plain), (1, manual), (7, system)])?);
    let update = game(UPDATE, &[("letters/letter 6.xml".to_owned(), Arc::new(Bytes(letter(6))) as SourceRef)])?;
    Ok(Handheld {
        encrypted: full,
        trimmed,
        decrypted,
        update: sealed_package(UPDATE, 0x0420, &update)?,
        player: player(rom)?,
    })
}

/// A package of the museum's own that plays a Game Boy ROM.
fn player(rom: Vec<u8>) -> Result<Blueprint> {
    let files = [
        ("rom/FOGBELL".to_owned(), Arc::new(Bytes(rom)) as SourceRef),
        ("settings.txt".to_owned(), Arc::new(Bytes(b"palette = pier\n".to_vec())) as SourceRef),
    ];
    let exefs = vec![
        (".code".to_owned(), bytes_of(&noise(15, 90_000))?),
        ("banner".to_owned(), wide_banner()),
        ("icon".to_owned(), label("Fogbell", "Fogbell\nwith the museum's player")?.bytes().to_vec()),
    ];
    let program = composed(&Parts {
        header: header(PLAYER, 0, "CTR-N-DFGE", 3),
        extended: Some(extended(PLAYER, b"PierPlay")),
        logo: None,
        plain: None,
        exefs,
        romfs: Some(Arc::new(RomFs::new(&files, &[])?)),
    })?;
    let mut tmd = Tmd::new(PLAYER, 0, 128 << 10);
    let record = Record { id: 0, index: 0, kind: 0, len: program.len(), hash: [0; 32] };
    tmd.records.push(record.clone());
    let whole = cia::compose(Making {
        certificates: None,
        ticket: Ticket::new(PLAYER, 0),
        tmd,
        contents: vec![Inner { record, source: program, proof: None }],
        meta: None,
    })?;
    Ok(Blueprint::of(Arc::new(Bytes(to_memory(&whole, MOST, &())?))))
}

/// The recipe for the GBA title.
pub(crate) const RECIPE: &str = "# Moth Hour for the handheld in case 9.

[[title]]
rom = \"../drawer/Moth Hour.gba\"
output = \"Moth Hour.cia\"

[title.names]
short = \"Moth Hour\"
long = \"Moth Hour\\nthe last lamp on the pier\"
publisher = \"Saltmarsh Pier Arcade Museum\"

[title.names.in.german]
short = \"Mottenstunde\"
long = \"Mottenstunde\\ndie letzte Lampe am Pier\"

[title.icon]
picture = \"moth.png\"
frame = \"#e8c468\"

[title.wide]
picture = \"dusk.png\"
frame = \"#1d2530\"
frame-width = 5
text = \"Moth Hour\"
text-colour = \"#fff4d6\"
text-size = 30

[title.gba]
gamma = 1.4
brightness = 0.85
";

/// A recipe for another ROM in the museum's player.
pub(crate) const PLAYER_RECIPE: &str = "# Another Game Boy ROM in the player that the museum has.

[[title]]
rom = \"../drawer/Fogbell (Deep Water).gb\"
base = \"Player.cia\"
output = \"Deep Water.cia\"

[title.names]
short = \"Fogbell: Deep Water\"
publisher = \"Saltmarsh Pier Arcade Museum\"

[title.wide]
picture = \"dusk.png\"
text = \"Deep Water\"
";

/// Pictures for the recipes: an icon, and a wide one.
pub(crate) fn pictures() -> [Vec<u8>; 2] {
    [picture(240, 240), picture(640, 320)]
}

/// What a console keeps as the save of the GBA title made of `rom`: 8 KiB in two copies.
pub(crate) fn save_block(rom: &[u8]) -> Result<Vec<u8>> {
    let sum = of_bytes(Algorithm::Sha1, rom).bytes;
    let mut save = bytes_of(&noise(16, 8 << 10))?;
    save[..9].copy_from_slice(b"MOTHHOUR\x03");
    save[1000..].fill(0xff);
    gba_mode::new_block(&save, gba_mode::derived_title_id(&sum), &Key::new(secret("gba saves").to_vec()))
}
