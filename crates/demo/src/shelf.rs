//! The rest of the shelf: one disc of each kind, all small.

use crate::content::{self, Noise};
use decanter_core::format::Format;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::track::{Track, TrackKind};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::view::{Concat, Fill, Overlay};
use decanter_core::{Result, SECTOR};
use decanter_formats::optical::cd::{RawSectors, XA_MARK, sector::RAW, sheet};
use decanter_formats::optical::iso9660::{Volume, compose};
use decanter_formats::optical::xdvdfs::{PLACES, Xdvdfs};
use decanter_formats::record::sfo::{Parameters, Value};
use std::sync::Arc;

/// When these discs were mastered: 2001-10-19 08:00:00 UTC.
const MASTERED: i64 = 1_003_478_400;
/// Sectors of the gap before a track of sound: two seconds.
const GAP: u64 = 150;
/// Bytes of one sample of sound: two channels of 16 bits.
const SAMPLE: usize = 4;

fn bytes(path: &str, bytes: Vec<u8>) -> (String, SourceRef) {
    (path.to_owned(), Arc::new(Bytes(bytes)))
}

fn noise(path: &str, seed: u64, magic: &'static [u8], len: u64) -> (String, SourceRef) {
    (path.to_owned(), Arc::new(Noise { seed, magic, len }))
}

/// A tree of files, in this order, with the folders that they need.
fn tree_of(files: Vec<(String, SourceRef)>) -> Tree {
    let modified = Some(MASTERED);
    let mut folders: Vec<String> =
        files.iter().flat_map(|(p, _)| p.match_indices('/').map(|(at, _)| p[..at].to_owned())).collect();
    folders.sort_unstable();
    folders.dedup();
    let folder = |path| Node::new(path, Kind::Folder, modified);
    let mut tree = Tree { nodes: folders.into_iter().map(folder).collect() };
    for (path, source) in files {
        let file = File { len: source.len(), spans: Vec::new(), content: Content::Whole(source) };
        tree.nodes.push(Node::new(path, Kind::File(file), modified));
    }
    tree
}

/// Pier Nine Pinball (DCUT-00042): a PS1 CD with a data track and two tracks of sound. The image and its cue sheet.
pub(crate) fn pinball(name: &str) -> Result<(SourceRef, String)> {
    let mut program = b"PS-X EXE".to_vec();
    program.resize(SECTOR as usize, 0);
    let mut files = vec![
        bytes("SYSTEM.CNF", b"BOOT = cdrom:\\DCUT_000.42;1\r\nTCB = 4\r\nEVENT = 10\r\nSTACK = 801FFF00\r\n".to_vec()),
        bytes("DCUT_000.42", program),
    ];
    for (number, table) in ["pier", "arcade", "storm"].into_iter().enumerate() {
        files.push(noise(&format!("TABLES/{}.TBL", table.to_uppercase()), 40 + number as u64, b"TBL1", 400_000));
        files.push(bytes(&format!("TABLES/{}.MAP", table.to_uppercase()), content::route(number + 1)));
    }
    let volume = Volume { label: "PIER_NINE".into(), system: "PLAYSTATION".into(), ..Volume::default() };
    let plain = compose(&tree_of(files), &volume)?.as_source()?;
    let marked: SourceRef = Arc::new(Overlay::new(plain, vec![(XA_MARK.0, Arc::new(Bytes(XA_MARK.1.to_vec())))])?);
    // A data track ends with two seconds of blank sectors.
    let body: SourceRef = Arc::new(Concat::new(vec![marked, Arc::new(Fill { byte: 0, len: GAP * SECTOR })])?);
    let data: SourceRef = Arc::new(RawSectors::new(body, TrackKind::Mode2, 0));
    let mut tracks = vec![track(1, TrackKind::Mode2, data, 0)];
    for (number, pitch) in [(2, 220), (3, 330)] {
        let silence: SourceRef = Arc::new(Fill { byte: 0, len: GAP * RAW as u64 });
        let sound: SourceRef = Arc::new(Bytes(tone(pitch, 4)));
        tracks.push(track(number, TrackKind::Audio, Arc::new(Concat::new(vec![silence, sound])?), GAP));
    }
    let whole: SourceRef = Arc::new(Concat::new(tracks.iter().map(|t| t.source.clone()).collect())?);
    Ok((whole, sheet(name, &tracks)))
}

fn track(number: u8, kind: TrackKind, source: SourceRef, gap_sectors: u64) -> Track {
    let sector_len = RAW as u64;
    Track { number, kind, file: String::new(), first_sector: 0, gap_sectors, pregap_sectors: 0, source, sector_len }
}

/// A fairground organ with one pipe: so many seconds of a triangle wave, in whole sectors.
fn tone(pitch: usize, seconds: usize) -> Vec<u8> {
    let samples = seconds * 75 * RAW / SAMPLE;
    let wave = |index: usize| {
        let phase = index * pitch % 44_100;
        let height = if phase < 22_050 { phase as i32 } else { 44_100 - phase as i32 };
        (height - 11_025) as i16
    };
    (0..samples).flat_map(|i| [wave(i).to_le_bytes(), wave(i + 7).to_le_bytes()].concat()).collect()
}

/// The CD with scratches: most of them can be corrected by parity, one cannot.
pub(crate) fn scratched(good: &SourceRef) -> Result<SourceRef> {
    let mut patches: Vec<(u64, SourceRef)> = Vec::new();
    for (sector, from, len) in [(120u64, 700usize, 60usize), (121, 64, 80), (300, 1500, 40), (420, 100, 1900)] {
        let mut raw = vec![0; RAW];
        good.read_at(sector * RAW as u64, &mut raw)?;
        raw[from..from + len].iter_mut().for_each(|b| *b ^= 0xa5);
        patches.push((sector * RAW as u64, Arc::new(Bytes(raw))));
    }
    Ok(Arc::new(Overlay::new(good.clone(), patches)?))
}

/// Lamplighter Lane (DCET-20007): a PS2 DVD with a UDF volume beside ISO 9660, and with filler.
pub(crate) fn lane() -> Result<SourceRef> {
    let mut files = vec![
        bytes("SYSTEM.CNF", b"BOOT2 = cdrom0:\\DCET_200.07;1\r\nVER = 1.02\r\nVMODE = PAL\r\n".to_vec()),
        noise("DCET_200.07", 70, b"\x7fELF", 640_000),
    ];
    for number in 1..=6 {
        files.push(bytes(&format!("STREETS/STREET{number}.MAP"), content::route(number)));
        files.push(noise(&format!("STREETS/STREET{number}.TEX"), 80 + number as u64, b"TEX0", 900_000));
    }
    files.push(noise("FILMS/DUSK.PSS", 90, &[0, 0, 1, 0xba], 3_000_000));
    files.push(("DUMMY.DAT".to_owned(), Arc::new(Fill { byte: 0, len: 4 << 20 })));
    let volume = Volume { label: "LAMPLIGHTER".into(), system: "PLAYSTATION".into(), udf: true, ..Volume::default() };
    compose(&tree_of(files), &volume)?.as_source()
}

/// Moth Parade (DCES-00099): a PSP disc.
pub(crate) fn moth() -> Result<SourceRef> {
    let text = |name: &str, value: &str| (name.to_owned(), Value::Text(value.to_owned()));
    let parameters = Parameters {
        entries: vec![
            text("CATEGORY", "UG"),
            text("DISC_ID", "DCES00099"),
            text("DISC_VERSION", "1.01"),
            text("PSP_SYSTEM_VER", "3.71"),
            text("TITLE", "Moth Parade"),
        ],
        ..Parameters::default()
    };
    let mut files = vec![
        bytes("UMD_DATA.BIN", b"DCES-00099|0123456789ABCDEF|0001|G               |".to_vec()),
        bytes("PSP_GAME/PARAM.SFO", parameters.compose()),
        bytes("PSP_GAME/ICON0.PNG", content::picture(144, 80)),
        bytes("PSP_GAME/PIC1.PNG", content::picture(480, 272)),
        bytes("PSP_GAME/SND0.AT3", content::bell()),
        noise("PSP_GAME/SYSDIR/EBOOT.BIN", 110, b"~PSP", 500_000),
    ];
    for number in 1..=5 {
        files.push(bytes(&format!("PSP_GAME/USRDIR/swarm{number}.txt"), content::letter(number)));
        files.push(noise(&format!("PSP_GAME/USRDIR/wing{number}.gim"), 120 + number as u64, b"MIG.", 300_000));
    }
    let volume = Volume { label: "MOTH PARADE".into(), system: "PSP GAME".into(), ..Volume::default() };
    compose(&tree_of(files), &volume)?.as_source()
}

/// Gullwing GP (DC-042): a full disc of the original Xbox, the game partition behind a video partition. What lies
/// between is a hole.
pub(crate) fn gullwing() -> Result<SourceRef> {
    let mut files = vec![bytes("default.xbe", program())];
    for number in 1..=4 {
        files.push(noise(&format!("tracks/circuit{number}.trk"), 150 + number as u64, b"TRK0", 700_000));
        files.push(bytes(&format!("tracks/circuit{number}.txt"), content::letter(number)));
    }
    files.push(noise("media/anthem.wma", 160, b"0&\xb2u", 400_000));
    let partition = Xdvdfs.compose(&tree_of(files), "")?.as_source()?;
    let video = tree_of(vec![bytes("VIDEO_TS/README.TXT", b"Play this disc in its console.\n".to_vec())]);
    let video = compose(&video, &Volume { label: "VIDEO".into(), ..Volume::default() })?.as_source()?;
    let gap = Fill { byte: 0, len: PLACES[1].offset - video.len() };
    let tail: SourceRef = Arc::new(Noise { seed: 170, magic: b"", len: 3 << 20 });
    Ok(Arc::new(Concat::new(vec![video, Arc::new(gap), partition, tail])?))
}

/// A program with a certificate, a picture and nothing to run.
fn program() -> Vec<u8> {
    let picture = content::picture_texture();
    let mut xbe = vec![0; 0x1000 + picture.len()];
    let mut put = |at: usize, bytes: &[u8]| xbe[at..at + bytes.len()].copy_from_slice(bytes);
    let word = |value: u32| value.to_le_bytes();
    put(0, b"XBEH");
    put(0x104, &word(0x1_0000));
    put(0x108, &word(0x1000));
    put(0x118, &word(0x1_0178));
    let certificate = 0x178;
    put(certificate, &word(0x1d0));
    put(certificate + 4, &word(MASTERED as u32));
    put(certificate + 8, &[0x2a, 0, b'C', b'D']);
    let name: Vec<u8> = "Gullwing GP".encode_utf16().flat_map(u16::to_le_bytes).collect();
    put(certificate + 12, &name);
    put(certificate + 0x9c, &word(2));
    put(certificate + 0xa0, &word(5));
    put(certificate + 0xac, &word(1));
    // One section: where it stands in the file, how long it is, and its name.
    put(0x11c, &word(1));
    put(0x120, &word(0x1_0350));
    put(0x350 + 0xc, &word(0x1000));
    put(0x350 + 0x10, &word(picture.len() as u32));
    put(0x350 + 0x14, &word(0x1_0390));
    put(0x390, b"$$XTIMAGE");
    put(0x1000, &picture);
    xbe
}

/// Brine & Bramble: a plain disc for home computers.
pub(crate) fn bramble() -> Result<SourceRef> {
    let mut files = vec![bytes("Read me first.txt", content::LEAFLET.as_bytes().to_vec())];
    for number in 1..=8 {
        files.push(bytes(&format!("Letters/letter {number:02}.xml"), content::letter(number)));
        files.push(bytes(&format!("Maps/route {number:02}.map"), content::route(number)));
    }
    files.push(bytes("Pictures/pier at dusk.png", content::picture(640, 400)));
    let volume = Volume { label: "BRINE & BRAMBLE".into(), ..Volume::default() };
    compose(&tree_of(files), &volume)?.as_source()
}

/// The simulated drive with Lamplighter Lane in it: one scratch that never reads, one that answers on the third try.
pub(crate) const DRIVE: &str = "# A simulated drive for \"decanter dump sim:drive.toml -o lane.iso\".\n\
    # docs/simulated-drive.md describes every line.\n\
    image = \"Lamplighter Lane.iso\"\n\
    \n\
    # A deep scratch: these sectors never answer in this drive.\n\
    [[bad]]\n\
    first = 2100\n\
    last = 2123\n\
    \n\
    # A light one: these answer on the third try.\n\
    [[flaky]]\n\
    first = 4000\n\
    last = 4007\n\
    answers_on = 3\n";

/// Another drive, which has trouble elsewhere on the same disc.
pub(crate) const OTHER_DRIVE: &str = "# Another drive with the same disc: it reads what the first cannot, and not what the first can.\n\
    image = \"Lamplighter Lane.iso\"\n\
    \n\
    [[bad]]\n\
    first = 3300\n\
    last = 3301\n";
