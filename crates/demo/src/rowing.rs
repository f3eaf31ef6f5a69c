//! What belongs to the 360 generation: a disc, packages made of it, a cabinet, a saved game.

use crate::cabinet::{Around, Folder, Lzx, Method, cabinets};
use crate::content::{self, Noise};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::to_memory;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::{Error, Result};
use decanter_formats::optical::xdvdfs;
use decanter_formats::package::x360::header::Signer;
use decanter_formats::package::x360::svod::{self, Laid};
use decanter_formats::package::x360::{Making, kind, stfs};
use decanter_formats::time;
use std::sync::Arc;

/// Titles: the game, and another one on two discs.
const ROWS: u32 = 0x5350_0019;
const REGATTA: u32 = 0x5350_001b;
/// What the packages are called.
pub(crate) const DOWNLOADED: &str = "3C41D9A7E05B2F68C19D";
/// Bytes of anything here.
const MOST: u64 = 8 << 20;

/// Everything, each with its path.
pub(crate) fn all() -> Result<Vec<(String, Vec<u8>)>> {
    let disc = disc("Gullwing Rows", ROWS, [1, 1], 60_000)?;
    let rows = package(&disc, "Gullwing Rows", ROWS, [1, 1])?;
    let mut all = vec![("Gullwing Rows.iso".to_owned(), read_vec(disc.as_ref(), 0, disc.len(), "a disc", MOST)?)];
    let data: Vec<Vec<u8>> = rows.files.iter().map(|b| to_memory(b, MOST, &())).collect::<Result<_>>()?;
    let names: Vec<String> =
        (0..data.len()).map(|i| format!("{DOWNLOADED}.data/{}", svod::data_name(i as u64))).collect();
    let mut files = vec![(DOWNLOADED, rows.header.as_slice())];
    files.extend(names.iter().map(String::as_str).zip(data.iter().map(Vec::as_slice)));
    let method = Method::Lzx(Lzx { bits: 17, calls: true, is_mixed: true });
    let cabinet = cabinets(&[Folder { method, files }], &Around::default());
    let cabinet = cabinet.into_iter().next().ok_or_else(|| Error::Usage("there is no cabinet".into()))?;
    all.push((format!("{}.xcp", DOWNLOADED.to_lowercase()), cabinet));
    let regatta =
        package(&self::disc("Lantern Regatta", REGATTA, [1, 2], 900_000)?, "Lantern Regatta", REGATTA, [1, 2])?;
    let place = format!("{REGATTA:08X}/{:08X}/9E02B57A41C6D83F0E1B", kind::GAME_ON_DEMAND);
    for (index, blueprint) in regatta.files.iter().enumerate() {
        all.push((format!("{place}.data/{}", svod::data_name(index as u64)), to_memory(blueprint, MOST, &())?));
    }
    all.push((place, regatta.header));
    all.push(("Gullwing Songs.live".into(), songs()?));
    all.push(("Rowing.save".into(), save()?));
    Ok(all)
}

fn file(path: &str, bytes: Vec<u8>) -> Node {
    source(path, Arc::new(Bytes(bytes)))
}

fn source(path: &str, source: SourceRef) -> Node {
    Node::new(path.into(), Kind::File(File::of(source)), Some(time::seconds((2026, 11, 23), (7, 14, 4))))
}

fn folder(path: &str) -> Node {
    Node::new(path.into(), Kind::Folder, Some(time::seconds((2026, 11, 23), (7, 14, 4))))
}

/// A disc with a program and what it shows.
fn disc(title: &str, id: u32, discs: [u8; 2], noise: u64) -> Result<SourceRef> {
    let mut nodes = vec![folder("media"), file("default.xex", program(title, id, discs))];
    nodes.extend((0..6).map(|n| file(&format!("media/letter {n}.xml"), content::letter(n))));
    nodes.push(source("media/water.bin", Arc::new(Noise { seed: id.into(), magic: b"WATER", len: noise })));
    xdvdfs::compose_placed(&Tree { nodes })?.blueprint.as_source()
}

fn package(disc: &SourceRef, title: &str, id: u32, discs: [u8; 2]) -> Result<Laid> {
    let picture = content::picture(64, 64);
    let making = Making {
        signer: Signer::Live,
        content_type: kind::GAME_ON_DEMAND,
        title_id: id,
        media_id: 0x4d15_0000 | id & 0xffff,
        versions: [0x2000_0000, 0x2000_0000],
        discs,
        name: title.into(),
        names: vec![(2, format!("{title} (deutsch)"))],
        description: "Six oars, one lamp, and the tide against you.".into(),
        publisher: "Saltmarsh Pier".into(),
        title: title.into(),
        transfer: 0xc0,
        pictures: [picture.clone(), picture],
        ..Making::default()
    };
    svod::compose(disc, &making, &())
}

/// An add-on with more blocks than one table has entries.
fn songs() -> Result<Vec<u8>> {
    let mut nodes = vec![folder("songs"), file("songs.xml", content::letter(3))];
    nodes.extend((0..4).map(|n| {
        let noise = Noise { seed: 700 + n, magic: b"SONG", len: 190_000 + n * 4096 };
        source(&format!("songs/song {n}.bin"), Arc::new(noise))
    }));
    let making = Making {
        signer: Signer::Live,
        content_type: 2,
        title_id: ROWS,
        name: "Gullwing Songs".into(),
        title: "Gullwing Rows".into(),
        publisher: "Saltmarsh Pier".into(),
        ..Making::default()
    };
    stored(stfs::compose(&Tree { nodes }, &making, &())?)
}

/// A saved game.
fn save() -> Result<Vec<u8>> {
    let nodes =
        vec![folder("slots"), file("profile.xml", content::letter(1)), file("slots/one.bin", content::route(2))];
    let making = Making {
        title_id: ROWS,
        console_id: [0x51, 0x0a, 0x17, 0x00, 0x19],
        profile_id: [0xe0, 0, 0x11, 0x22, 0x33, 0x44, 0x55, 0x66],
        device_id: *b"saltmarsh pier nine.",
        name: "Seven lengths ahead".into(),
        title: "Gullwing Rows".into(),
        pictures: [content::picture(64, 64), Vec::new()],
        ..Making::default()
    };
    stored(stfs::compose(&Tree { nodes }, &making, &())?)
}

fn stored(blueprint: Blueprint) -> Result<Vec<u8>> {
    to_memory(&blueprint, MOST, &())
}

/// A program: headers, and a resource with its name and picture. Nothing in it runs.
fn program(title: &str, id: u32, discs: [u8; 2]) -> Vec<u8> {
    const BASE: u32 = 0x8200_0000;
    const DATA_AT: usize = 0x1000;
    const RESOURCE_AT: u32 = 0x400;
    let resource = resource(title, &content::picture(64, 64));
    let mut headers: Vec<(u32, Vec<u8>)> = Vec::new();
    let media = 0x4d15_0000 | id & 0xffff;
    let mut execution: Vec<u8> = [media, 0x2000_0000, 0x2000_0000, id].iter().flat_map(|n| n.to_be_bytes()).collect();
    execution.extend([2, 0, discs[0], discs[1], 0, 0, 0, 0]);
    headers.push((0x0004_0006, execution));
    let mut list = 20u32.to_be_bytes().to_vec();
    list.extend(format!("{id:08X}").bytes());
    list.extend((BASE + RESOURCE_AT).to_be_bytes());
    list.extend((resource.len() as u32).to_be_bytes());
    headers.push((0x0000_02ff, list));
    headers.push((0x0000_03ff, vec![0, 0, 0, 8, 0, 0, 0, 0]));
    let count = headers.len() + 1;
    let mut at = 0x18 + 8 * count;
    let (mut table, mut bodies) = (Vec::new(), Vec::new());
    for (key, body) in headers {
        table.extend(key.to_be_bytes());
        table.extend((at as u32).to_be_bytes());
        at += body.len();
        bodies.extend(body);
    }
    table.extend(0x0001_0201u32.to_be_bytes());
    table.extend(BASE.to_be_bytes());
    let mut bytes = b"XEX2".to_vec();
    bytes.extend([0, DATA_AT as u32, 0, at as u32, count as u32].iter().flat_map(|n| n.to_be_bytes()));
    bytes.extend(table);
    bytes.extend(bodies);
    // Its security information is zeros but for the regions.
    bytes.resize(at + 0x178, 0);
    bytes.extend([0xff; 4]);
    bytes.resize(DATA_AT + RESOURCE_AT as usize, 0);
    bytes.extend(resource);
    bytes
}

/// Names and picture, as programs carry them.
fn resource(title: &str, picture: &[u8]) -> Vec<u8> {
    let mut texts = b"XSTR".to_vec();
    texts.extend(1u32.to_be_bytes());
    texts.extend((title.len() as u32 + 4).to_be_bytes());
    texts.extend(1u16.to_be_bytes());
    texts.extend(0x8000u16.to_be_bytes());
    texts.extend((title.len() as u16).to_be_bytes());
    texts.extend(title.bytes());
    let mut bytes = b"XDBF".to_vec();
    bytes.extend([0x1_0000u32, 2, 2, 0, 0].iter().flat_map(|n| n.to_be_bytes()));
    let entries = [(2u16, 0x8000u64, 0, picture.len()), (3, 1, picture.len(), texts.len())];
    for (kind, id, at, len) in entries {
        bytes.extend(kind.to_be_bytes());
        bytes.extend(id.to_be_bytes());
        bytes.extend((at as u32).to_be_bytes());
        bytes.extend((len as u32).to_be_bytes());
    }
    bytes.extend(picture);
    bytes.extend(texts);
    bytes
}
