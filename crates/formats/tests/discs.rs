//! Optical formats and compressed images on fixtures laid out here: what they read, and that no damage makes them panic.

mod udf_volume;

use decanter_core::blueprint::Blueprint;
use decanter_core::format::{Beside, Format, Opener};
use decanter_core::opened::Opened;
use decanter_core::pour::{self, Output};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::track::TrackKind;
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::{Door, Error, Guard, Keyring};
use decanter_formats::REGISTRY;
use decanter_formats::chunked::cso::{self, Coding};
use decanter_formats::chunked::zst::{self, Choice};
use decanter_formats::optical::cd::{RawSectors, sector};
use decanter_formats::optical::iso9660::{Volume, compose};
use decanter_formats::optical::xdvdfs::Xdvdfs;
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

/// Files next to a source, in memory.
#[derive(Default)]
struct Shelf(HashMap<String, Vec<u8>>);

impl Beside for Shelf {
    fn find(&self, name: &str) -> decanter_core::Result<Option<(String, SourceRef)>> {
        Ok(self.0.get(name).map(|b| (name.to_owned(), Arc::new(Bytes(b.clone())) as SourceRef)))
    }
}

fn open_beside(bytes: Vec<u8>, beside: &dyn Beside) -> Result<Opened, Error> {
    let keys = Keyring::default();
    let names = ["moth".to_owned()];
    let opener = Opener::new(&REGISTRY, &keys).with_names(&names).with_beside(beside);
    opener.open(Arc::new(Bytes(bytes)))
}

fn open(bytes: Vec<u8>) -> Result<Opened, Error> {
    open_beside(bytes, &())
}

fn all(source: &SourceRef) -> Vec<u8> {
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes).unwrap();
    bytes
}

fn tree(files: &[(&str, usize)]) -> Tree {
    let mut tree = Tree::default();
    tree.nodes.push(Node::new("lanes".into(), Kind::Folder, Some(1_000_000_000)));
    for (seed, (path, len)) in files.iter().enumerate() {
        let bytes = (0..*len).map(|i| ((i / 3 * (seed + 1)) ^ (i >> 5)) as u8).collect();
        let source: SourceRef = Arc::new(Bytes(bytes));
        let file = File { len: source.len(), spans: vec![], content: Content::Whole(source) };
        tree.nodes.push(Node::new((*path).into(), Kind::File(file), Some(1_000_000_000)));
    }
    tree
}

const FILES: [(&str, usize); 5] =
    [("lanes/a.dat", 5000), ("lanes/\u{6f6e}.txt", 1), ("empty", 0), ("z.bin", 70_000), ("lanes/b.dat", 2048)];

fn bridge() -> Vec<u8> {
    let volume = Volume { label: "MOTH".into(), udf: true, ..Volume::default() };
    all(&compose(&tree(&FILES), &volume).unwrap().as_source().unwrap())
}

/// The bridge disc with nothing left of ISO 9660 but its sectors.
fn udf_alone() -> Vec<u8> {
    let mut bytes = bridge();
    for sector in 16..19 {
        bytes[sector * 2048 + 1..sector * 2048 + 6].copy_from_slice(b"BOOT2");
    }
    bytes
}

fn plain() -> Vec<u8> {
    all(&compose(&tree(&FILES), &Volume { label: "MOTH".into(), ..Volume::default() }).unwrap().as_source().unwrap())
}

fn raw(kind: TrackKind) -> Vec<u8> {
    let raw: SourceRef = Arc::new(RawSectors::new(Arc::new(Bytes(plain())), kind, 0));
    all(&raw)
}

fn xbox() -> Vec<u8> {
    let files = [("default.xbe", 600), ("lanes/a.dat", 5000), ("lanes/b.dat", 0)];
    all(&Xdvdfs.compose(&tree(&files), "").unwrap().as_source().unwrap())
}

fn poured(blueprint: &Blueprint) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("out");
    pour::pour(Output::new(blueprint, &path), Door { guard: &Guard::default(), replace: false }, &()).unwrap();
    std::fs::read(path).unwrap()
}

fn packed(which: &str) -> Vec<u8> {
    let source: SourceRef = Arc::new(Bytes(plain()));
    let choice = Choice { level: 3, long: false };
    poured(&match which {
        "cso" => cso::compose(source, Coding::Deflate, 6).unwrap(),
        "zso" => cso::compose(source, Coding::Lz4, 6).unwrap(),
        _ => {
            zst::compose(source, choice, "moth.iso", "ISO 9660 disc image", &[decanter_core::Algorithm::Sha1]).unwrap()
        }
    })
}

/// A program of the 360 with one optional header, by hand.
fn xex() -> Vec<u8> {
    let mut bytes = vec![0; 0x400];
    let mut put = |at: usize, words: &[u32]| {
        for (index, word) in words.iter().enumerate() {
            bytes[at + index * 4..at + index * 4 + 4].copy_from_slice(&word.to_be_bytes());
        }
    };
    put(0x10, &[0x100, 1, 0x0004_0006, 0x40]);
    put(0x40, &[0x1234_5678, 0x2000_0c01, 0x2000_0000, 0x4443_002a, 0x0000_0102]);
    put(0x100 + 0x178, &[0x00ff_0000]);
    bytes[..4].copy_from_slice(b"XEX2");
    bytes
}

const SHEET: &str = "FILE \"moth.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n";
const DAT: &str = "<?xml version=\"1.0\"?>\n<datafile><header><name>Moths &amp; more</name></header>\n\
    <game name=\"Moth\" cloneof=\"Wing\"><rom name=\"moth.iso\" size=\"3\" crc=\"352441c2\" sha1=\"a9993e364706816aba3e25717850c26c9cd0d89d\"/>\
    <rom name=\"bad.iso\" size=\"3\" crc=\"1\" status=\"baddump\"/></game>\n<machine name=\"None\"><rom name=\"no.iso\" status=\"nodump\"/></machine></datafile>\n";
const OLD_DAT: &str = "shelf (\n\tname \"Moths\"\n\tversion 7\n)\n\ngame (\n\tname \"Moth (1)\"\n\trom ( name \"moth (a).iso\" size 3 crc 352441C2 )\n\
    \trom ( name bad.iso size 3 crc 00000001 flags baddump )\n)\n";

fn fixtures() -> &'static [(&'static str, Vec<u8>)] {
    static MADE: OnceLock<Vec<(&'static str, Vec<u8>)>> = OnceLock::new();
    MADE.get_or_init(make_fixtures)
}

fn make_fixtures() -> Vec<(&'static str, Vec<u8>)> {
    vec![
        ("iso9660", bridge()),
        ("udf", udf_alone()),
        ("udf", udf_volume::image()),
        ("cd-raw", raw(TrackKind::Mode1)),
        ("cd-raw", raw(TrackKind::Mode2)),
        ("xdvdfs", xbox()),
        ("cso", packed("cso")),
        ("zso", packed("zso")),
        ("zst", packed("zst")),
        ("xex", xex()),
        ("cue", SHEET.as_bytes().to_vec()),
        ("dat", DAT.as_bytes().to_vec()),
        ("dat", OLD_DAT.as_bytes().to_vec()),
        ("sums", b"d41d8cd98f00b204e9800998ecf8427e  empty\n".to_vec()),
        ("udf", udf_volume::written_once(true)),
    ]
}

fn shelf() -> Shelf {
    Shelf(HashMap::from([("moth.bin".to_owned(), fixtures()[3].1.clone())]))
}

#[test]
fn the_fixtures_are_what_they_should_be() {
    let shelf = shelf();
    for (format, bytes) in fixtures() {
        assert_eq!(open_beside(bytes.clone(), &shelf).map(|o| o.identity.format).ok(), Some(*format));
    }
}

fn contents(opened: Opened) -> Vec<(String, Vec<u8>)> {
    let tree = opened.holds.tree.unwrap();
    let mut all: Vec<_> = tree.files().map(|(n, f)| (n.path.clone(), self::all(f.source().unwrap()))).collect();
    all.sort();
    all
}

#[test]
fn a_tree_comes_back_from_every_disc_that_holds_it() {
    let mut wanted: Vec<_> = tree(&FILES).files().map(|(n, f)| (n.path.clone(), all(f.source().unwrap()))).collect();
    wanted.sort();
    for bytes in [plain(), bridge(), udf_alone(), raw(TrackKind::Mode1), raw(TrackKind::Mode2)] {
        assert!(contents(open(bytes).unwrap()) == wanted);
    }
    let opened = open_beside(SHEET.as_bytes().to_vec(), &shelf()).unwrap();
    assert_eq!(opened.holds.tracks.len(), 1);
    assert!(contents(opened) == wanted);
}

/// A volume from sector 9 of the disc on: its places count from the beginning of the disc, its descriptors stand sixteen
/// sectors behind its own beginning, where the file that comes first has them instead of its own bytes.
#[test]
fn a_volume_of_a_later_session_counts_from_the_beginning_of_the_disc() {
    let mut files = tree(&[("aside", 20_000), ("b.dat", 9_000), ("c.txt", 77)]);
    files.nodes.remove(0);
    let whole =
        all(&compose(&files, &Volume { label: "LATER".into(), ..Volume::default() }).unwrap().as_source().unwrap());
    let mut session = whole[9 * 2048..].to_vec();
    session[16 * 2048..19 * 2048].copy_from_slice(&whole[16 * 2048..19 * 2048]);
    let raw: SourceRef = Arc::new(RawSectors::new(Arc::new(Bytes(session)), TrackKind::Mode1, 9));
    let opened = open(all(&raw)).unwrap();
    assert_eq!(opened.holds.tracks[0].first_sector, 9);
    assert_eq!(opened.get("volume"), Some("LATER"));
    let tree = opened.holds.tree.unwrap();
    for name in ["b.dat", "c.txt"] {
        let wanted = all(files.find(name).unwrap().file().unwrap().source().unwrap());
        assert!(tree.read(name, 1 << 20).unwrap().unwrap() == wanted, "{name}");
    }
}

#[test]
fn compressed_images_give_their_bytes_back() {
    for which in ["cso", "zso", "zst"] {
        let opened = open(packed(which)).unwrap();
        let (node, file) = opened.holds.tree.as_ref().unwrap().files().next().unwrap();
        assert_eq!(node.path, "moth.iso");
        let source = file.source().unwrap();
        assert!(all(source) == plain(), "{which}");
        let mut middle = vec![0; 5000];
        source.read_at(34_567, &mut middle).unwrap();
        assert!(middle == plain()[34_567..39_567], "{which}");
    }
    // Plain zstd knows nothing of tables and records, and restores the exact bytes.
    assert!(::zstd::decode_all(packed("zst").as_slice()).unwrap() == plain());
}

/// Two blocks by hand: zeros as raw deflate (a stored block), and one that is kept as it is.
#[test]
fn a_ciso_by_hand() {
    let mut bytes = b"CISO\x18\0\0\0\0\x10\0\0\0\0\0\0\0\x08\0\0\x01\0\0\0".to_vec();
    let first = 24 + 12;
    // Three bytes of padding, as there are where blocks begin on multiples of four.
    let deflated = [&[1, 0, 8, 0xff, 0xf7][..], &[0; 2048], &[0; 3]].concat();
    let second = first + deflated.len() as u32;
    for entry in [first, second | 0x8000_0000, second + 2048] {
        bytes.extend(entry.to_le_bytes());
    }
    bytes.extend(&deflated);
    bytes.extend([7; 2048]);
    let read = |bytes: Vec<u8>| {
        let opened = open(bytes)?;
        let (_, file) = opened.holds.tree.as_ref().unwrap().files().next().unwrap();
        let source = file.source()?.clone();
        let mut content = vec![0; source.len() as usize];
        source.read_at(0, &mut content).map(|()| content)
    };
    assert!(read(bytes.clone()).unwrap() == [[0; 2048], [7; 2048]].concat());
    // An image that ends within its last block, which was filled up before it was packed.
    let mut short = bytes[..first as usize + deflated.len()].to_vec();
    short[8..12].copy_from_slice(&1000u32.to_le_bytes());
    assert!(read(short).unwrap() == [0; 1000]);
    let mut wrong = bytes.clone();
    wrong[first as usize] = 7;
    assert!(read(wrong).unwrap_err().to_string().contains("block 0 (sector 0) is damaged"));
    let mut wrong = bytes.clone();
    wrong[28..32].copy_from_slice(&0x7fff_0000u32.to_le_bytes());
    assert!(read(wrong).unwrap_err().to_string().contains("points past the end of the file at block 1 (sector 1)"));
    bytes[20] = 3;
    assert!(matches!(read(bytes), Err(Error::Unsupported { .. })));
}

#[test]
fn what_begins_alike_and_is_another_form_is_told_as_such() {
    let mut bytes = b"CISO\0\0\x20\0\x01\x01\0\x01".to_vec();
    bytes.resize(0x8000 + (2 << 20), 0);
    let told = open(bytes).map(|_| ()).unwrap_err();
    assert!(matches!(told, Error::Unsupported { .. }), "{told}");
    assert!(
        told.to_string().contains("blocks of 2097152 bytes") && told.to_string().contains("not supported"),
        "{told}"
    );
}

#[test]
fn a_damaged_frame_is_named_with_its_sectors() {
    let mut bytes = packed("zst");
    let middle = bytes.len() / 3;
    bytes[middle] ^= 0x55;
    let opened = open(bytes).unwrap();
    let (_, file) = opened.holds.tree.as_ref().unwrap().files().next().unwrap();
    let mut head = [0; 16];
    let why = file.source().unwrap().read_at(0, &mut head).unwrap_err().to_string();
    assert!(why.contains("frame 0 (sectors 0 to ") && why.contains("is damaged"), "{why}");
}

#[test]
fn udf_structures_that_tools_seldom_write() {
    let opened = open(udf_volume::image()).unwrap();
    assert!(opened.told.notices.is_empty(), "{:?}", opened.told.notices);
    assert_eq!(opened.get("revision"), Some("2.50"));
    assert_eq!(opened.get("partitions"), Some("metadata"));
    let found = contents(opened);
    let names: Vec<&str> = found.iter().map(|(n, _)| n.as_str()).collect();
    assert_eq!(names, ["embedded", "extents", "versions"]);
    assert_eq!(found[0].1, b"kept in its own entry");
    assert!(found[1].1 == [vec![1; 2048], vec![0; 2048], vec![2; 100]].concat(), "recorded, not recorded, recorded");
    assert_eq!(found[2].1, b"the second version");
    // The entry of the metadata file, in block 1 of the partition, is damaged: its mirror does.
    let mut bytes = udf_volume::image();
    bytes[301 * 2048 + 60] ^= 1;
    let opened = open(bytes).unwrap();
    assert!(opened.told.notices[0].text.contains("its mirror is"), "{:?}", opened.told.notices);
    assert_eq!(opened.holds.tree.unwrap().files().count(), 3);
}

#[test]
fn discs_that_are_written_once_are_read_by_their_last_table() {
    for is_new in [true, false] {
        let opened = open(udf_volume::written_once(is_new)).unwrap();
        assert_eq!(opened.get("partitions"), Some("virtual"));
        assert_eq!(contents(opened), [("tide.txt".to_owned(), b"high tide".to_vec())]);
        // What a drive leaves behind is passed over.
        let mut longer = udf_volume::written_once(is_new);
        let len = longer.len();
        longer.resize(len + 9_000_000, 0);
        let opened = open(longer).unwrap();
        assert_eq!(opened.extent.promised_len, Some(len as u64), "the dump ends with what was written");
        assert_eq!(contents(opened)[0].1, b"high tide");
        // So are blocks that it wrote behind the table, which is told.
        let mut longer = udf_volume::written_once(is_new);
        longer.resize(len + 150 * 2048, 0x5a);
        let opened = open(longer).unwrap();
        assert!(opened.told.notices[0].text.contains("something follows behind the table"));
        // Cut before the last table, the disc is as it was then; without any, it is told.
        let mut before = udf_volume::written_once(is_new);
        before.truncate(325 * 2048);
        assert_eq!(contents(open(before).unwrap())[0].1, b"low tide");
        let mut none = udf_volume::written_once(is_new);
        none.truncate(318 * 2048);
        let told = open(none).err().unwrap().to_string();
        assert!(told.contains("the table of its virtual partition"), "{told}");
    }
}

#[test]
fn xbox_folders_with_loops_and_missing_tables_are_told() {
    let mut bytes = xbox();
    // The root table's first entry gets itself as its left child's child: offset 0 cannot be one, so use its own sibling.
    let root = 33 * 2048;
    let left = u16::from_le_bytes([bytes[root], bytes[root + 1]]);
    let child = root + usize::from(left) * 4;
    bytes[child..child + 2].copy_from_slice(&left.to_le_bytes());
    let told = |bytes: Vec<u8>| open(bytes).unwrap().told.notices.iter().map(|n| n.text.clone()).collect::<String>();
    assert!(told(bytes).contains("search tree has a loop"));
    let mut bytes = xbox();
    bytes.truncate(34 * 2048);
    assert!(told(bytes).contains("ends after"));
    let opened = open(xex()).unwrap();
    assert_eq!(opened.get("id"), Some("DC-042 (4443002A)"));
    assert_eq!(opened.get("disc"), Some("1 of 2"));
    assert_eq!(opened.get("region"), Some("Europe and Australia"));
}

#[test]
fn cue_sheets_that_cannot_be_followed() {
    let why =
        |sheet: &str, shelf: &Shelf| open_beside(sheet.into(), shelf).err().map(|e| e.to_string()).unwrap_or_default();
    assert!(why(SHEET, &Shelf::default()).contains("moth.bin, named in line 1, is missing"));
    let short = SHEET.replace("00:00:00", "50:00:00");
    assert!(why(&short, &shelf()).contains("is too short"), "{}", why(&short, &shelf()));
}

#[test]
fn dat_files_of_both_forms() {
    let opened = open(DAT.into()).unwrap();
    let catalogue = opened.holds.catalogue.unwrap();
    assert_eq!(catalogue.name, "Moths & more");
    assert_eq!((catalogue.games().len(), catalogue.entries().len()), (2, 3));
    assert_eq!(catalogue.games()[0].parent.as_deref(), Some("Wing"));
    let old = open(OLD_DAT.into()).unwrap().holds.catalogue.unwrap();
    assert_eq!((old.name.as_str(), old.version.as_str()), ("Moths", "7"));
    assert_eq!(&*old.entries()[0].name, "moth (a).iso");
    assert_eq!(old.entries()[1].status, decanter_core::catalogue::Status::BadDump);
    let why = |text: &str| open(text.into()).err().map(|e| e.to_string()).unwrap_or_default();
    let broken = DAT.replace("</header>", "</heading>");
    assert!(why(&broken).contains("line 2, column"), "{}", why(&broken));
    assert!(why(&OLD_DAT.replace("flags baddump )\n)", "flags baddump\n")).contains("the file ends within"));
    assert!(why(&format!("{OLD_DAT})")).contains("line 11, column 1"), "{}", why(&format!("{OLD_DAT})")));
}

/// Opens, and reads what is offered.
fn exercise(bytes: Vec<u8>, shelf: &Shelf) {
    let Ok(opened) = open_beside(bytes, shelf) else { return };
    for track in &opened.holds.tracks {
        let _ = track.source.read_at(0, &mut [0; 16]);
    }
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(50) {
        if let Ok(source) = file.source() {
            let mut head = vec![0; source.len().min(4096) as usize];
            let _ = source.read_at(0, &mut head);
            if let Some(last) = source.len().checked_sub(1).filter(|&l| l < 1 << 20) {
                let _ = source.read_at(last, &mut [0]);
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(384))]
    #[test]
    fn no_damage_can_panic(
        which in 0usize..14,
        flips in proptest::collection::vec((any::<usize>(), any::<u8>()), 0..10),
        fields in proptest::collection::vec((any::<usize>(), prop_oneof![Just(0u32), Just(u32::MAX), Just(0x7fff_ffff), any::<u32>()]), 0..4),
        cut in prop_oneof![3 => Just(usize::MAX), 1 => any::<usize>()],
    ) {
        let mut bytes = fixtures()[which].1.clone();
        let n = bytes.len();
        for (at, value) in flips {
            bytes[at % n] ^= value;
        }
        // Lengths and places stand in the first bytes, in descriptors from 32 KiB on, and in folders.
        for (index, (at, value)) in fields.into_iter().enumerate() {
            let base = [0, 32_768, 65_536, 526_336][(index + at) % 4];
            let at = (base + at % 4096) % (n - 4);
            bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        if cut != usize::MAX {
            bytes.truncate(cut % n);
        }
        exercise(bytes, &shelf());
    }

    #[test]
    fn no_repair_makes_a_sector_worse(seed: u64, errors in proptest::collection::vec((0usize..2352, 1u8..), 0..40)) {
        let mut good: Vec<u8> = (0..2352u64).map(|i| (i.wrapping_mul(seed | 1) >> 17) as u8).collect();
        sector::seal(&mut good, 99, sector::Layout::Mode1);
        let mut bad = good.clone();
        for (at, value) in errors {
            bad[at] ^= value;
        }
        let before = bad.clone();
        match decanter_formats::optical::cd::repair::repair(&mut bad, Some(99)) {
            decanter_formats::optical::cd::repair::Outcome::Beyond => prop_assert!(bad == before),
            _ => prop_assert!(bad == good),
        }
    }
}

#[test]
fn the_tree_that_is_not_shown_and_the_path_tables_are_looked_at_too() {
    let good = plain();
    let told = |bytes: Vec<u8>| -> Vec<String> {
        open(bytes).unwrap().told.notices.into_iter().filter(|n| n.is_damage).map(|n| n.text).collect()
    };
    assert!(told(good.clone()).is_empty());
    let word = |at: usize| u32::from_le_bytes(good[at..at + 4].try_into().unwrap()) as usize;
    // The primary tree: Joliet's names are shown.
    let root = word(16 * 2048 + 156 + 2) * 2048;
    let record = (root..root + 2048).find(|at| good[*at..].starts_with(b"Z.BIN")).unwrap() - 33;
    let mut bad = good.clone();
    bad[record + 2..record + 10].copy_from_slice(&[0, 0, 0, 0x10, 0x10, 0, 0, 0]);
    let found = told(bad);
    assert!(found.iter().any(|t| t.starts_with("in the tree of ISO 9660 names: ") && t.contains("Z.BIN")), "{found:?}");
    // Both tables of both trees: byte 140 has the place of the first, 148 that of the second.
    for descriptor in [16, 17] {
        let little = word(descriptor * 2048 + 140) * 2048;
        let at = descriptor * 2048 + 148;
        let big = u32::from_be_bytes(good[at..at + 4].try_into().unwrap()) as usize * 2048;
        for (table, order) in [(little, "little"), (big, "big")] {
            let mut bad = good.clone();
            // The block of the root, in either order.
            bad[table + 2] ^= 0x40;
            let found = told(bad);
            assert!(found.iter().any(|t| t.contains(&format!("in {order}-endian order leads to block"))), "{found:?}");
            assert!(found.iter().any(|t| t.contains("say different things")), "{found:?}");
            let mut bad = good.clone();
            bad[table] = 0;
            let found = told(bad);
            assert!(found.iter().any(|t| t.contains("is damaged")), "{found:?}");
        }
    }
}
