//! A game in three layers: its base, an update, and files that let it run on an older system.

use crate::content::{self, LEAFLET};
use decanter_core::Keyring;
use decanter_core::Result;
use decanter_core::blueprint::Blueprint;
use decanter_core::source::Bytes;
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_formats::package::ps4::keys::ZEROS;
use decanter_formats::package::ps4::pfs::compose::Form;
use decanter_formats::package::ps4::{Making, compose};
use decanter_formats::record::sfo::{Parameters, Value};
use std::sync::Arc;

const TITLE: &str = "Pier Nine";
const TITLE_ID: &str = "DCNT40009";
const CONTENT_ID: &str = "UP0000-DCNT40009_00-PIERNINE00000000";
/// What the chunks of the base are described with: the update keeps a copy.
const CHUNKS: &[u8] = b"chunks of Pier Nine 01.00, as its maker laid them out\n";

/// Files by their paths.
type Files = Vec<(&'static str, Vec<u8>)>;

/// The base.
pub(crate) fn base() -> Result<Blueprint> {
    package(vec![
        ("sce_sys/param.sfo", parameters("gd", "01.00", 0x0505_0000).compose()),
        ("sce_sys/icon0.png", content::picture(512, 512)),
        ("sce_sys/playgo-chunk.dat", CHUNKS.to_vec()),
        ("eboot.bin", program(1)),
        ("sce_module/libc.prx", content::route(2)),
        ("media/lanes/lane1.dat", content::route(3)),
        ("media/lanes/lane2.dat", content::route(4)),
        ("media/letters/letter.xml", content::letter(4)),
        ("credits.txt", LEAFLET.as_bytes().to_vec()),
    ])
}

/// The update.
pub(crate) fn update() -> Result<Blueprint> {
    let mut own = parameters("gp", "01.08", 0x0900_0000);
    own.put("TITLE_05", Value::Text("Molo nove".into()), 128);
    package(vec![
        ("sce_sys/param.sfo", own.compose()),
        ("sce_sys/app/playgo-chunk.dat", CHUNKS.to_vec()),
        ("sce_sys/changeinfo/changeinfo.xml", b"<changeinfo>A third lane.</changeinfo>\n".to_vec()),
        ("eboot.bin", program(8)),
        ("media/lanes/lane2.dat", content::route(6)),
        ("media/lanes/lane3.dat", content::route(7)),
    ])
}

/// Files for the older system, as they stand in a folder.
pub(crate) fn replacements() -> Files {
    vec![
        ("sce_sys/param.sfo", parameters("gp", "01.08", 0x0505_0000).compose()),
        ("EBOOT.BIN", program(9)),
        ("sce_module/libc.prx", content::route(1)),
    ]
}

fn program(seed: usize) -> Vec<u8> {
    [b"PIER".to_vec(), content::route(seed)].concat()
}

fn parameters(category: &str, version: &str, system: u32) -> Parameters {
    let mut own = Parameters::default();
    for (name, text, room) in [
        ("APP_VER", version, 8),
        ("CATEGORY", category, 4),
        ("CONTENT_ID", CONTENT_ID, 48),
        ("FORMAT", "obs", 4),
        ("PUBTOOLINFO", "c_date=20261012", 512),
        ("TITLE", TITLE, 128),
        ("TITLE_04", "Mole neun", 128),
        ("TITLE_ID", TITLE_ID, 12),
        ("VERSION", "01.00", 8),
    ] {
        own.put(name, Value::Text(text.into()), room);
    }
    for (name, number) in [("APP_TYPE", 1), ("ATTRIBUTE", 0), ("PARENTAL_LEVEL", 1), ("SYSTEM_VER", system)] {
        own.put(name, Value::Number(number), 4);
    }
    own
}

fn package(files: Files) -> Result<Blueprint> {
    let mut tree = Tree::default();
    for (path, bytes) in files {
        for (at, _) in path.match_indices('/') {
            if tree.find(&path[..at]).is_none() {
                tree.nodes.push(Node::new(path[..at].to_owned(), Kind::Folder, None));
            }
        }
        tree.nodes.push(Node::new(path.to_owned(), Kind::File(File::of(Arc::new(Bytes(bytes)))), None));
    }
    let keys = Keyring::default();
    compose(&tree, &Making { content_id: CONTENT_ID.into(), passcode: ZEROS, form: Form::Stored, keys: &keys }, &())
}
