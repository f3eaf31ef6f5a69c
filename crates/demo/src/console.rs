//! What belongs to the big console: made-up keys, a game in a folder, an image of a stick.

use crate::content::{self, LEAFLET, secret};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::hex;
use decanter_core::source::Bytes;
use decanter_formats::record::sfo::{Parameters, Value};
use std::sync::Arc;

/// The game's folder.
pub(crate) const GAME: &str = "Fogbell Rescue";
/// Bytes of a sector of the stick, and sectors in front of its tables.
const SECTOR: u64 = 512;
const RESERVED: u32 = 32;
/// Sectors of the stick: 64 MiB, each a cluster of its own, as FAT32 wants so many.
const SECTORS: u32 = 131_072;
/// Sectors of each of its two tables.
const TABLE: u32 = 1016;

/// The keys, as a list: all of them are made up.
pub(crate) fn key_list() -> String {
    const NAMES: [&str; 16] = [
        "ps3.pkg.key",
        "ps3.pkg.key.psp",
        "ps3.npd.free",
        "ps3.npd.title",
        "ps3.npd.header",
        "ps3.edat.key.0",
        "ps3.edat.key.1",
        "ps3.sdat.key",
        "ps3.rap.key",
        "ps3.rap.e1",
        "ps3.rap.e2",
        "ps2.classics.consumer.data",
        "ps2.classics.consumer.meta",
        "ps2.classics.debug.data",
        "ps2.classics.debug.meta",
        "ps2.classics.iv",
    ];
    let mut text = String::from("# Saltmarsh Pier Arcade Museum, made-up secrets\n");
    NAMES.iter().for_each(|name| text.push_str(&format!("{name} = {}\n", hex(&secret(name)))));
    let order: Vec<u8> = (0..16).map(|n| n * 5 % 16).collect();
    text.push_str(&format!("ps3.rap.pbox = {}\n", hex(&order)));
    text.push_str(&format!("# The licence key of Lamplighter Lane\nDCET20007 = {}\n", hex(&secret("lane licence"))));
    text
}

/// What visitors have noted of these discs.
pub(crate) const NOTES: &str = "id,title,region,target,verdict,remark,source,date,heat\n\
    DCES-00099,Moth Parade,Europe,ps3,runs,wings flicker in the last level,night shift,2026-10-02,warm\n\
    DCET-20007,Lamplighter Lane,Europe,ps3,runs,,night shift,2026-10-09,\n\
    DCNT-10004,Gullwing GP,North America,ps3,stops,at the second title picture,day shift,2026-10-11,hot\n\
    ,Brine & Bramble,,ps3,untried,,day shift,2026-10-12,\n";

/// A recipe for the PSP disc.
pub(crate) const PARADE: &str = "platform = \"ps3\"\n\n\
    [[title]]\n\
    disc = \"../Moth Parade.iso\"\n\
    finalized = true\n\n\
    [title.names]\n\
    title = \"Moth Parade\"\n\
    [title.names.in.german]\n\
    title = \"Mottenparade\"\n\n\
    [title.icon]\n\
    frame = \"#2a4d5c\"\n";

/// A recipe for the PS2 disc, with pictures that the disc has none of.
pub(crate) const LANE: &str = "platform = \"ps3\"\n\n\
    [[title]]\n\
    disc = \"../Lamplighter Lane.iso\"\n\
    finalized = true\n\
    version = \"01.01\"\n\
    cards = [\"empty\"]\n\n\
    [title.names]\n\
    title = \"Lamplighter Lane\"\n\n\
    [title.icon]\n\
    picture = \"lane icon.jpg\"\n\
    fit = \"letterbox\"\n\
    background = \"#1c2833\"\n\n\
    [title.background]\n\
    picture = \"lane.png\"\n\n\
    [title.parameters]\n\
    PARENTAL_LEVEL = 2\n";

/// The pictures of that recipe: one of an odd size, one as the console has it.
pub(crate) fn lane_pictures() -> [(&'static str, Vec<u8>); 2] {
    [("lane icon.jpg", content::picture_jpeg(300, 200)), ("lane.png", content::picture(1920, 1080))]
}

/// The files of the game, by their paths in its folder.
pub(crate) fn game() -> Vec<(&'static str, Vec<u8>)> {
    let program = [b"SCE\0".to_vec(), content::route(3)].concat();
    vec![
        ("PARAM.SFO", parameters().compose()),
        ("ICON0.PNG", content::picture(320, 176)),
        ("PIC1.PNG", content::picture(1920, 1080)),
        ("USRDIR/EBOOT.BIN", program),
        ("USRDIR/routes/harbour.map", content::route(5)),
        ("USRDIR/letters/letter.xml", content::letter(5)),
        ("USRDIR/credits.txt", LEAFLET.as_bytes().to_vec()),
    ]
}

fn parameters() -> Parameters {
    let text = |name: &str, value: &str| (name.to_owned(), Value::Text(value.to_owned()));
    let number = |name: &str, value: u32| (name.to_owned(), Value::Number(value));
    Parameters {
        entries: vec![
            text("APP_VER", "01.00"),
            number("ATTRIBUTE", 5),
            number("BOOTABLE", 1),
            text("CATEGORY", "HG"),
            number("PARENTAL_LEVEL", 1),
            text("PS3_SYSTEM_VER", "03.4100"),
            text("TITLE", GAME),
            text("TITLE_02", "Le secours de la cloche"),
            text("TITLE_04", "Rettung an der Nebelglocke"),
            text("TITLE_ID", "DCNT10009"),
            text("VERSION", "01.00"),
        ],
        ..Parameters::default()
    }
}

/// An empty stick with FAT32.
pub(crate) fn stick() -> Blueprint {
    let mut boot = vec![0xeb, 0x58, 0x90];
    boot.extend(b"SALTMRSH");
    boot.extend([0, 2, 1]);
    boot.extend((RESERVED as u16).to_le_bytes());
    boot.extend([2, 0, 0, 0, 0, 0xf8, 0, 0, 63, 0, 255, 0, 0, 0, 0, 0]);
    boot.extend(SECTORS.to_le_bytes());
    boot.extend(TABLE.to_le_bytes());
    // Flags, version, cluster of the root folder, sectors of the information and of the copy of this one.
    boot.extend([0, 0, 0, 0, 2, 0, 0, 0, 1, 0, 6, 0]);
    boot.resize(64, 0);
    boot.extend([0x80, 0, 0x29, 9, 0x17, 0x26, 0x20]);
    boot.extend(b"NO NAME    FAT32   ");
    boot.resize(510, 0);
    boot.extend([0x55, 0xaa]);
    let clusters = SECTORS - RESERVED - 2 * TABLE;
    let mut information = b"RRaA".to_vec();
    information.resize(484, 0);
    information.extend(b"rrAa");
    information.extend((clusters - 1).to_le_bytes());
    information.extend(3u32.to_le_bytes());
    information.resize(510, 0);
    information.extend([0x55, 0xaa]);
    let mut table = Vec::new();
    [0x0fff_fff8u32, 0x0fff_ffff, 0x0fff_fff8].iter().for_each(|entry| table.extend(entry.to_le_bytes()));
    let mut image = Blueprint::new();
    let mut put = |bytes: Vec<u8>, sectors: u32| {
        let rest = u64::from(sectors) * SECTOR - bytes.len() as u64;
        image.source(Arc::new(Bytes(bytes)));
        image.fill(0, rest);
    };
    put(boot.clone(), 1);
    put(information.clone(), 5);
    put(boot, 1);
    put(information, RESERVED - 7);
    put(table.clone(), TABLE);
    put(table, TABLE);
    put(Vec::new(), clusters);
    image
}
