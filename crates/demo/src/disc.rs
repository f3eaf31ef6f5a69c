//! Kelp Courier (DCNT-10001): an encrypted disc of the PS3 family with a believable tree.

use crate::content::{self, Noise, secret};
use decanter_core::digest::{self, Algorithm};
use decanter_core::format::{Format, Opener};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::view::{Ciphered, Concat, Direction, Fill, Overlay, SectorCbc, Slice};
use decanter_core::{Error, Key, Keyring, Result, SECTOR, Watch};
use decanter_formats::REGISTRY;
use decanter_formats::optical::iso9660::Iso9660;
use decanter_formats::record::ird::Description;
use decanter_formats::record::sfo::{Parameters, Value};
use std::ops::Range;
use std::sync::Arc;

/// When the disc was mastered: 2009-03-14 09:26:53 UTC.
const MASTERED: i64 = 1_237_022_813;
/// Sectors of zeros at the end of the disc.
const FOOTER_SECTORS: u64 = 32;
/// The disc's id as it is printed.
const ID: &str = "DCNT-10001";

/// A disc in its encrypted and its decrypted form.
pub struct Disc {
    /// As it stands on the medium.
    pub encrypted: SourceRef,
    /// With nothing encrypted in it.
    pub plain: SourceRef,
    /// The key between the two.
    pub key: Key,
    /// Byte ranges that are encrypted.
    pub ranges: Arc<[Range<u64>]>,
    /// The files.
    pub tree: Tree,
}

impl Disc {
    /// Makes a disc of a tree. `plain_files` are the paths that stand in plain regions; the others are encrypted.
    /// Files keep the order of the tree, so groups of plain and encrypted files become regions.
    ///
    /// # Errors
    /// When the tree cannot be laid out.
    pub fn new(tree: &Tree, id: &str, key: &Key, plain_files: &[&str]) -> Result<Self> {
        let volume = Iso9660.compose(tree, "KELP_COURIER")?.as_source()?;
        let footer = Arc::new(Fill { byte: 0, len: FOOTER_SECTORS * SECTOR });
        let whole: SourceRef = Arc::new(Concat::new(vec![volume, footer])?);
        let keys = Keyring::default();
        let opener = Opener::new(&REGISTRY, &keys);
        let opened = opener.open_among(whole.clone(), &|f| f.id() != "ps3-disc")?;
        let placed = opened.holds.tree.unwrap_or_default();
        let ranges: Arc<[Range<u64>]> = encrypted_ranges(&placed, plain_files, whole.len()).into();

        let mut table = Vec::new();
        table.extend((ranges.len() as u32 + 1).to_be_bytes());
        table.extend([0; 4]);
        let mut first = 0;
        for range in ranges.iter().chain(std::iter::once(&(whole.len()..0))) {
            table.extend(((first / SECTOR) as u32).to_be_bytes());
            table.extend(((range.start / SECTOR - 1) as u32).to_be_bytes());
            first = range.end;
        }
        table.resize(SECTOR as usize, 0);
        table.extend(b"PlayStation3\0\0\0\0");
        table.extend(format!("{id:<32}").into_bytes());
        let patches = vec![(0, Arc::new(Bytes(table)) as SourceRef)];
        let plain: SourceRef = Arc::new(Overlay::new(whole, patches)?);
        let cbc = SectorCbc::new(key, Direction::Encrypt, SECTOR, ranges.clone())?;
        let encrypted: SourceRef = Arc::new(Ciphered::new(plain.clone(), Arc::new(cbc)));
        Ok(Self { encrypted, plain, key: key.clone(), ranges, tree: placed })
    }

    /// Runs of files that are to be encrypted, and the plain regions between them, in the order of the disc.
    fn regions(&self) -> Vec<Range<u64>> {
        let mut regions = Vec::new();
        let mut at = 0;
        for range in self.ranges.iter() {
            regions.extend([at..range.start, range.clone()]);
            at = range.end;
        }
        regions.push(at..self.encrypted.len());
        regions
    }
}

/// The byte ranges of the files that are not in `plain_files`, joined where they follow each other.
fn encrypted_ranges(tree: &Tree, plain_files: &[&str], len: u64) -> Vec<Range<u64>> {
    let mut files: Vec<(&Range<u64>, bool)> = tree
        .files()
        .flat_map(|(n, f)| f.spans.iter().map(move |s| (s, plain_files.contains(&n.path.as_str()))))
        .filter(|(s, _)| !s.is_empty())
        .collect();
    files.sort_by_key(|(s, _)| s.start);
    let mut ranges: Vec<Range<u64>> = Vec::new();
    let mut was_plain = true;
    for (span, is_plain) in files {
        let end = span.end.next_multiple_of(SECTOR).min(len);
        match ranges.last_mut() {
            Some(last) if !is_plain && !was_plain => last.end = end,
            _ if !is_plain => ranges.push(span.start..end),
            _ => {}
        }
        was_plain = is_plain;
    }
    ranges
}

/// The demo's disc.
pub struct Kelp {
    /// The disc.
    pub disc: Disc,
    /// The sector that the damaged copy lacks.
    pub damaged_sector: u64,
    /// The file it belongs to.
    pub damaged_file: String,
}

/// Paths that stand in plain regions.
const PLAIN: [&str; 4] = [
    "PS3_DISC.SFB",
    "PS3_GAME/USRDIR/movies/opening.pam",
    "PS3_GAME/USRDIR/movies/timelapse.pam",
    "PS3_UPDATE/PS3UPDAT.PUP",
];

/// The file that gets what is left of the wanted size.
const LARGE: &str = "PS3_GAME/USRDIR/data/harbour.pak";

impl Kelp {
    /// Lays out the disc, `size` bytes large or a little less.
    ///
    /// # Errors
    /// When the content does not fit.
    pub fn new(size: u64, dense: bool) -> Result<Self> {
        let (key, iv) = (Key::new(secret("derive key").to_vec()), Key::new(secret("derive iv").to_vec()));
        let disc_key = blank_description().disc_key(&key, &iv)?;
        let base = Disc::new(&tree(0, 0)?, ID, &disc_key, &PLAIN)?.plain.len();
        let left = size.saturating_sub(base) / SECTOR * SECTOR;
        // Up to the usual size all of it is data; what is more becomes a hole, unless data is asked for.
        let data = if dense { left } else { left.min(crate::DEFAULT_SIZE.saturating_sub(base)) / SECTOR * SECTOR };
        let disc = Disc::new(&tree(data, left - data)?, ID, &disc_key, &PLAIN)?;
        let large = disc.tree.find(LARGE).and_then(Node::file);
        let span =
            large.and_then(|f| f.spans.first()).ok_or_else(|| Error::Usage("the demo disc is too small".into()))?;
        let damaged_sector = span.start / SECTOR + (span.end - span.start) / SECTOR / 3;
        Ok(Self { disc, damaged_sector, damaged_file: LARGE.into() })
    }

    /// The disc's description. Reads the whole disc.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub fn description(&self, watch: &dyn Watch) -> Result<Description> {
        let disc = &self.disc;
        let md5 = |source: SourceRef| -> Result<[u8; 16]> {
            let digests = digest::of_source(&source, &[Algorithm::Md5], watch)?;
            let mut bytes = [0; 16];
            bytes.copy_from_slice(&digests[0].bytes);
            Ok(bytes)
        };
        let read = |start: u64, len: u64| -> Result<Vec<u8>> {
            let mut bytes = vec![0; len as usize];
            disc.encrypted.read_at(start, &mut bytes)?;
            Ok(bytes)
        };
        watch.begin("describing Kelp Courier.iso", Some(2 * disc.encrypted.len()));
        let mut d = blank_description();
        let first_file = disc.tree.files().flat_map(|(_, f)| &f.spans).map(|s| s.start).min().unwrap_or(0);
        d.header = read(0, first_file)?;
        d.footer = read(disc.encrypted.len() - FOOTER_SECTORS * SECTOR, FOOTER_SECTORS * SECTOR)?;
        for region in disc.regions() {
            let part = Slice::new(disc.encrypted.clone(), region.start, region.end - region.start)?;
            d.region_md5.push(md5(Arc::new(part))?);
        }
        for (_, file) in disc.tree.files() {
            let Some(span) = file.spans.first() else { continue };
            let part = Slice::new(disc.plain.clone(), span.start, file.len)?;
            d.file_md5.push((span.start / SECTOR, md5(Arc::new(part))?));
        }
        d.file_md5.sort_unstable();
        watch.end();
        Ok(d)
    }
}

/// The description with nothing of the disc in it yet.
fn blank_description() -> Description {
    Description {
        version: 9,
        id: ID.replace('-', ""),
        title: "Kelp Courier".into(),
        update_version: "3.41".into(),
        game_version: "01.00".into(),
        app_version: "01.00".into(),
        uid: Some(0x5a17_0117),
        header: Vec::new(),
        footer: Vec::new(),
        region_md5: Vec::new(),
        file_md5: Vec::new(),
        extra: [0, 0],
        pic: Box::new([0; 115]),
        data1: Key::new(secret("data 1").to_vec()),
        data2: Key::new(secret("data 2").to_vec()),
    }
}

/// The files of the disc, in their order on it: `data` bytes in the large file, `hole` bytes in the long film.
fn tree(data: u64, hole: u64) -> Result<Tree> {
    let mut seed = 0x5a17;
    let mut files: Vec<(String, SourceRef)> = Vec::new();
    let mut noise = |path: &str, magic: &'static [u8], len: u64| -> (String, SourceRef) {
        seed += 1;
        (path.to_owned(), Arc::new(Noise { seed, magic, len }))
    };
    let bytes = |path: &str, bytes: Vec<u8>| -> (String, SourceRef) { (path.to_owned(), Arc::new(Bytes(bytes))) };
    let user = "PS3_GAME/USRDIR";
    let mut sfb = b".SFB".to_vec();
    sfb.extend([0, 1, 0, 0]);
    sfb.resize(0x200, 0);
    sfb.extend(format!("TITLE_ID {ID}").into_bytes());
    sfb.resize(0x600, 0);
    files.push(bytes("PS3_DISC.SFB", sfb));
    files.push(bytes("PS3_GAME/PARAM.SFO", parameters().compose()));
    files.push(bytes("PS3_GAME/ICON0.PNG", content::picture(320, 176)));
    files.push(bytes("PS3_GAME/PIC1.PNG", content::picture(960, 540)));
    files.push(noise("PS3_GAME/LICDIR/LIC.DAT", b"PS3LICDA", 0x10000));
    files.push(noise("PS3_GAME/TROPDIR/DCNT10001_00/TROPHY.TRP", &[0xdc, 0xa2, 0x4d, 0], 90_112));
    files.push(noise(&format!("{user}/EBOOT.BIN"), b"SCE\0", 812_345));
    for module in ["tide", "wind", "ledger"] {
        files.push(noise(&format!("{user}/modules/{module}.sprx"), b"SCE\0", 61_000));
    }
    for number in 1..=8 {
        files.push(bytes(&format!("{user}/data/routes/route{number:02}.map"), content::route(number)));
    }
    files.push(noise(&format!("{user}/movies/opening.pam"), b"PAMF", 300_000));
    if hole > 0 {
        files.push((format!("{user}/movies/timelapse.pam"), Arc::new(Fill { byte: 0, len: hole })));
    }
    for number in 1..=8 {
        files.push(bytes(&format!("{user}/data/letters/letter{number:02}.xml"), content::letter(number)));
    }
    for song in ["low water", "slack tide", "night post", "gull chorus"] {
        files.push(noise(&format!("{user}/audio/{song}.at3"), b"RIFF", 64_000));
    }
    for texture in ["rope", "plank", "barnacle", "brass", "sailcloth", "fog"] {
        files.push(noise(&format!("{user}/textures/{texture}.dds"), b"DDS ", 43_816));
    }
    files.push(noise(LARGE, b"HBR1", 100_000 + data));
    files.push(bytes(&format!("{user}/data/credits.txt"), content::LEAFLET.as_bytes().to_vec()));
    files.push(noise("PS3_UPDATE/PS3UPDAT.PUP", b"SCEUF\0\0\0", 262_144));
    let mut tree = Tree::default();
    let modified = Some(MASTERED);
    let mut folders: Vec<&str> = files.iter().flat_map(|(p, _)| p.match_indices('/').map(|(at, _)| &p[..at])).collect();
    folders.sort_unstable();
    folders.dedup();
    for folder in folders {
        tree.nodes.push(Node::new(folder.to_owned(), Kind::Folder, modified));
    }
    for (path, source) in &files {
        let file = File { len: source.len(), spans: Vec::new(), content: Content::Whole(source.clone()) };
        tree.nodes.push(Node::new(path.clone(), Kind::File(file), modified));
    }
    Ok(tree)
}

fn parameters() -> Parameters {
    let text = |name: &str, value: &str| (name.to_owned(), Value::Text(value.to_owned()));
    let number = |name: &str, value: u32| (name.to_owned(), Value::Number(value));
    Parameters {
        entries: vec![
            text("APP_VER", "01.00"),
            number("BOOTABLE", 1),
            text("CATEGORY", "DG"),
            number("PARENTAL_LEVEL", 1),
            text("PS3_SYSTEM_VER", "03.4100"),
            number("RESOLUTION", 63),
            text("TITLE", "Kelp Courier"),
            text("TITLE_ID", "DCNT10001"),
            text("VERSION", "01.00"),
        ],
        ..Parameters::default()
    }
}
