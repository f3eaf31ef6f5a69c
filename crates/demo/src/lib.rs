//! The demo collection: what Saltmarsh Pier Arcade Museum found in a donated storage unit, made from nothing.
//!
//! Every title, id, key and picture is invented. The same request makes the same bytes, every time.

pub mod cabinet;
mod cartridges;
mod console;
mod content;
mod disc;
mod handheld;
pub mod hybrid;
mod machines;
mod pier;
mod rack;
mod rowing;
mod saved;
mod shelf;

pub use disc::{Disc, Kelp};
pub use rack::let_a_year_pass;

use content::secret;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, hex, of_bytes, of_source};
use decanter_core::pour::{self, Draft, Output};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::{Fill, Overlay, Slice};
use decanter_core::{Door, Error, Guard, Result, SECTOR, Watch, watch};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use zip::write::{SimpleFileOptions, ZipWriter};

/// Size of the disc, if nothing else is asked for.
pub const DEFAULT_SIZE: u64 = 64 << 20;
/// The smallest disc that holds the whole tree.
pub const LEAST_SIZE: u64 = 4 << 20;
/// The largest disc that is also packed into an archive.
pub const MOST_ZIPPED: u64 = 1 << 30;
/// Sectors cut off the short copy: more than the last region has, so that files are hit.
const CUT_PART: u64 = 4;

/// How the collection is made.
#[derive(Debug, Clone, Copy)]
pub struct Wish {
    /// Size of the disc in bytes, about.
    pub size: u64,
    /// Fill the size with data in an encrypted region, instead of a hole in a plain one.
    pub dense: bool,
    /// Replace files that are there.
    pub replace: bool,
}

/// What was made.
#[derive(Debug, Clone)]
pub struct Collection {
    /// The encrypted image.
    pub image: PathBuf,
    /// The same in an archive; very large images are not packed.
    pub archive: Option<PathBuf>,
    /// The file with its key.
    pub key: PathBuf,
    /// Its description.
    pub description: PathBuf,
    /// A copy in which one sector could not be read.
    pub damaged: PathBuf,
    /// A copy that ends too early.
    pub short: PathBuf,
    /// A key list with the museum's own derivation secret.
    pub keys: PathBuf,
    /// A PS1 CD: its cue sheet; the image stands beside it.
    pub cue: PathBuf,
    /// The same CD with scratches, without a cue sheet.
    pub scratched: PathBuf,
    /// A PS2 DVD.
    pub dvd: PathBuf,
    /// A simulated drive with that DVD, and another one.
    pub drives: [PathBuf; 2],
    /// A PSP disc.
    pub handheld: PathBuf,
    /// A full disc of the original Xbox.
    pub full_disc: PathBuf,
    /// A plain disc.
    pub plain: PathBuf,
    /// A database of what these images should be.
    pub dat: PathBuf,
    /// What is in the drawer of cartridges.
    pub drawer: Drawer,
    /// What is in the case of handhelds.
    pub case: Case,
    /// What came with the home computers and the arcade cabinet.
    pub bench: Bench,
    /// The folder with titles of the hybrid console.
    pub shelf: PathBuf,
    /// What belongs to the big console.
    pub console: Console,
    /// What was downloaded for another one.
    pub downloads: Downloads,
    /// A game in three layers.
    pub pier: Pier,
    /// Dumps that nobody has looked at for years, and the list of what they should be.
    pub rack: Rack,
    /// Folders that stand for the cards of two machines.
    pub cards: [PathBuf; 2],
}

/// A rack of dumps.
#[derive(Debug, Clone, serde::Serialize)]
pub struct Rack {
    /// The folder.
    pub folder: PathBuf,
    /// What should be there.
    pub list: PathBuf,
}

/// A game of the fourth generation in three layers.
#[derive(Debug, Clone, serde::Serialize)]
pub struct Pier {
    /// The folder.
    pub folder: PathBuf,
    /// The base.
    pub base: PathBuf,
    /// The update.
    pub update: PathBuf,
    /// The folder with files for an older system.
    pub replacements: PathBuf,
}

/// What belongs to the 360 generation.
#[derive(Debug, Clone, serde::Serialize)]
pub struct Downloads {
    /// The folder.
    pub folder: PathBuf,
    /// A disc.
    pub disc: PathBuf,
    /// The same as it was downloaded: a cabinet with a package that has a disc.
    pub cabinet: PathBuf,
    /// The first of two discs as an installed package.
    pub installed: PathBuf,
    /// An add-on.
    pub add_on: PathBuf,
    /// A saved game.
    pub save: PathBuf,
}

/// What belongs to the big console.
#[derive(Debug, Clone, serde::Serialize)]
pub struct Console {
    /// The folder.
    pub folder: PathBuf,
    /// The museum's keys for it.
    pub keys: PathBuf,
    /// A game, as a folder of its files.
    pub game: PathBuf,
    /// Recipes for the PSP disc and for the PS2 disc; the pictures of the second stand beside it.
    pub recipes: [PathBuf; 2],
    /// A list of what is known to run.
    pub notes: PathBuf,
    /// An image of an empty stick.
    pub stick_image: PathBuf,
    /// The folder that stands for the stick itself.
    pub stick: PathBuf,
}

/// Home computers and the arcade cabinet.
#[derive(Debug, Clone, serde::Serialize)]
pub struct Bench {
    /// The folder.
    pub folder: PathBuf,
    /// Five programs for the C64.
    pub programs: Vec<PathBuf>,
    /// A disk with some of them, one of whose sectors could not be read.
    pub disk: PathBuf,
    /// The description of a running moment; its memory and colours stand beside it.
    pub moment: PathBuf,
    /// The same moment, as an emulator saves it.
    pub saved: PathBuf,
    /// The archive of an Amiga game.
    pub archive: PathBuf,
    /// Texts in an archive of the Amiga's other kind.
    pub letters: PathBuf,
    /// The arcade cabinet's drive, in hunks.
    pub drive: PathBuf,
    /// A folder with fixes for the program on it.
    pub fixes: PathBuf,
}

/// The case of handhelds.
#[derive(Debug, Clone, serde::Serialize)]
pub struct Case {
    /// The folder.
    pub folder: PathBuf,
    /// The museum's keys for them.
    pub keys: PathBuf,
    /// A cartridge image: encrypted, full.
    pub full: PathBuf,
    /// The same, trimmed.
    pub trimmed: PathBuf,
    /// The same, trimmed and decrypted.
    pub decrypted: PathBuf,
    /// A package with an update of it, under a title key.
    pub update: PathBuf,
    /// A package that plays a Game Boy ROM.
    pub player: PathBuf,
    /// A recipe for a GBA title.
    pub recipe: PathBuf,
    /// A recipe for another Game Boy ROM in that player.
    pub player_recipe: PathBuf,
    /// What a console keeps as the save of the GBA title.
    pub save: PathBuf,
}

/// The drawer of cartridges.
#[derive(Debug, Clone, serde::Serialize)]
pub struct Drawer {
    /// The folder.
    pub folder: PathBuf,
    /// A Game Boy ROM with a clock.
    pub gb: PathBuf,
    /// What a patch makes of it.
    pub gb_patched: PathBuf,
    /// The patches: BPS, UPS, IPS.
    pub patches: [PathBuf; 3],
    /// Its save as an emulator keeps it, with the clock.
    pub save: PathBuf,
    /// A Game Boy Advance ROM.
    pub gba: PathBuf,
    /// The same, padded.
    pub gba_padded: PathBuf,
    /// A DS ROM with a banner and files.
    pub nds: PathBuf,
    /// A NES ROM.
    pub nes: PathBuf,
    /// An SNES ROM behind a copier's header.
    pub smc: PathBuf,
    /// A patch for the same without that header.
    pub smc_patch: PathBuf,
    /// An interleaved Mega Drive ROM.
    pub smd: PathBuf,
    /// Its save, with every byte taking two.
    pub smd_save: PathBuf,
    /// A Nintendo 64 ROM with bytes swapped in pairs.
    pub v64: PathBuf,
    /// A Master System ROM.
    pub sms: PathBuf,
    /// A Game Gear ROM.
    pub gg: PathBuf,
    /// A PC Engine ROM.
    pub pce: PathBuf,
    /// All ROMs in an archive.
    pub archive: PathBuf,
    /// A database of them, in the forms that databases list.
    pub dat: PathBuf,
    /// A simulated cartridge reader.
    pub reader: PathBuf,
    /// What stands for the save memory of the cartridge in it.
    pub memory: PathBuf,
}

/// Makes the collection in `folder`, which is made if it is not there.
///
/// # Errors
/// [`Error::Usage`] for a size that is too small, else what writing fails with.
pub fn make(folder: &Path, wish: Wish, watch: &dyn Watch) -> Result<Collection> {
    if wish.size < LEAST_SIZE {
        return Err(Error::Usage(format!("the demo disc needs at least {LEAST_SIZE} bytes")));
    }
    std::fs::create_dir_all(folder).map_err(|e| Error::io("make folder", folder, e))?;
    let kelp = Kelp::new(wish.size, wish.dense)?;
    let guard = Guard::default();
    let door = Door { guard: &guard, replace: wish.replace };
    let put = |name: &str, blueprint: &Blueprint| -> Result<PathBuf> {
        let path = folder.join(name);
        watch.begin(&format!("writing {name}"), Some(blueprint.len()));
        pour::pour(Output::new(blueprint, &path), door, watch)?;
        watch.end();
        Ok(path)
    };
    let small = |bytes: Vec<u8>| Blueprint::of(Arc::new(Bytes(bytes)));

    let image = put("Kelp Courier.iso", &Blueprint::of(kelp.disc.encrypted.clone()))?;
    // From here on the written file is the source: copies of it stay inside the kernel.
    let written: SourceRef = Arc::new(decanter_core::source::FileSource::own(&image)?);
    let damage = Arc::new(Fill { byte: 0, len: SECTOR });
    let damaged = Overlay::new(written.clone(), vec![(kelp.damaged_sector * SECTOR, damage as SourceRef)])?;
    let damaged = put("Kelp Courier (damaged).iso", &Blueprint::of(Arc::new(damaged)))?;
    let kept = (written.len() / SECTOR - written.len() / SECTOR / CUT_PART) * SECTOR;
    let short = put("Kelp Courier (cut short).iso", &Blueprint::of(Arc::new(Slice::new(written.clone(), 0, kept)?)))?;
    let digits = hex(kelp.disc.key.bytes());
    let key = put("DCNT-10001.dkey", &small(format!("{digits}\n").into_bytes()))?;
    let description = put("Kelp Courier.ird", &small(kelp.description(watch)?.compose()?))?;
    let archive = if written.len() <= MOST_ZIPPED {
        Some(pack(&folder.join("Kelp Courier.zip"), "Kelp Courier.iso", &written, wish.replace, watch)?)
    } else {
        None
    };
    std::fs::create_dir_all(folder.join("keys")).map_err(|e| Error::io("make folder", folder, e))?;
    let list = format!(
        "# Saltmarsh Pier Arcade Museum, made-up secrets\n{} = {}\n{} = {}\n",
        "ps3.disc.derive.key",
        hex(&secret("derive key")),
        "ps3.disc.derive.iv",
        hex(&secret("derive iv")),
    );
    let keys = put("keys/museum.keys", &small(list.into_bytes()))?;
    let (cd, sheet) = shelf::pinball("Pier Nine Pinball.bin")?;
    put("Pier Nine Pinball.bin", &Blueprint::of(cd.clone()))?;
    let cue = put("Pier Nine Pinball.cue", &small(sheet.into_bytes()))?;
    let scratched = put("Pier Nine Pinball (scratched).bin", &Blueprint::of(shelf::scratched(&cd)?))?;
    let dvd = put("Lamplighter Lane.iso", &Blueprint::of(shelf::lane()?))?;
    let drives = [("drive.toml", shelf::DRIVE), ("other drive.toml", shelf::OTHER_DRIVE)];
    let [one, other] = drives.map(|(name, text)| put(name, &small(text.as_bytes().to_vec())));
    let handheld = put("Moth Parade.iso", &Blueprint::of(shelf::moth()?))?;
    let full_disc = put("Gullwing GP (full disc).iso", &Blueprint::of(shelf::gullwing()?))?;
    let plain = put("Brine & Bramble.iso", &Blueprint::of(shelf::bramble()?))?;
    let listed = [
        ("Pier Nine Pinball (Saltmarsh)", vec!["Pier Nine Pinball.cue", "Pier Nine Pinball.bin"]),
        ("Lamplighter Lane (Saltmarsh)", vec!["Lamplighter Lane.iso"]),
        ("Moth Parade (Saltmarsh)", vec!["Moth Parade.iso"]),
        ("Brine & Bramble (Saltmarsh)", vec!["Brine & Bramble.iso"]),
    ];
    let dat = put("saltmarsh.dat", &small(dat(folder, &listed, watch)?.into_bytes()))?;
    let drawer = drawer(folder, &put, wish.replace)?;
    let case = case(folder, &put)?;
    let bench = bench(folder, &put)?;
    let shelf = hybrid_shelf(folder, &put)?;
    let console = console(folder, &put)?;
    let downloads = downloads(folder, &put)?;
    let pier = pier(folder, &put)?;
    let rack = rack(folder, wish.replace, &put)?;
    let cards = ["card for the handheld", "card for the television"].map(|name| folder.join(name));
    for card in &cards {
        std::fs::create_dir_all(card).map_err(|e| Error::io("make folder", card, e))?;
    }
    Ok(Collection {
        image,
        archive,
        key,
        description,
        damaged,
        short,
        keys,
        cue,
        scratched,
        dvd,
        drives: [one?, other?],
        handheld,
        full_disc,
        plain,
        dat,
        drawer,
        case,
        bench,
        shelf,
        console,
        downloads,
        pier,
        rack,
        cards,
    })
}

/// Fills the rack.
fn rack(folder: &Path, replace: bool, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>) -> Result<Rack> {
    let place = folder.join("rack");
    for inner in ["a", "b"] {
        let inner = place.join(inner);
        std::fs::create_dir_all(&inner).map_err(|e| Error::io("make folder", &inner, e))?;
    }
    for (name, bytes) in rack::files() {
        let path = put(&format!("rack/{name}"), &Blueprint::of(Arc::new(Bytes(bytes))))?;
        rack::date(&path)?;
    }
    let archive = place.join("b/box.zip");
    zip_all(&archive, &rack::packed(), replace)?;
    rack::date(&archive)?;
    Ok(Rack { list: put("rack.dat", &Blueprint::of(Arc::new(Bytes(rack::list().into_bytes()))))?, folder: place })
}

/// Fills the folder of the game in three layers.
fn pier(folder: &Path, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>) -> Result<Pier> {
    let place = folder.join("pier9");
    let replacements = place.join("backport");
    for (path, bytes) in pier::replacements() {
        let target = replacements.join(path);
        let around = target.parent().unwrap_or(&place);
        std::fs::create_dir_all(around).map_err(|e| Error::io("make folder", around, e))?;
        put(&format!("pier9/backport/{path}"), &Blueprint::of(Arc::new(Bytes(bytes))))?;
    }
    Ok(Pier {
        base: put("pier9/base.pkg", &pier::base()?)?,
        update: put("pier9/update.pkg", &pier::update()?)?,
        folder: place,
        replacements,
    })
}

/// Fills the folder of the big console.
fn console(folder: &Path, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>) -> Result<Console> {
    let place = folder.join("console");
    let (game, stick) = (place.join(console::GAME), place.join("stick"));
    std::fs::create_dir_all(&stick).map_err(|e| Error::io("make folder", &stick, e))?;
    let file = |name: &str, bytes: Vec<u8>| put(&format!("console/{name}"), &Blueprint::of(Arc::new(Bytes(bytes))));
    for (path, bytes) in console::game() {
        file(&format!("{}/{path}", console::GAME), bytes)?;
    }
    for (name, bytes) in console::lane_pictures() {
        file(name, bytes)?;
    }
    Ok(Console {
        recipes: [
            file("parade.toml", console::PARADE.as_bytes().to_vec())?,
            file("lane.toml", console::LANE.as_bytes().to_vec())?,
        ],
        keys: file("keys/museum.keys", console::key_list().into_bytes())?,
        notes: file("notes.csv", console::NOTES.as_bytes().to_vec())?,
        stick_image: put("console/stick.img", &console::stick())?,
        folder: place,
        game,
        stick,
    })
}

/// Fills the folder of downloads.
fn downloads(folder: &Path, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>) -> Result<Downloads> {
    let place = folder.join("downloads");
    let mut paths = Vec::new();
    for (path, bytes) in rowing::all()? {
        let target = place.join(&path);
        let around = target.parent().unwrap_or(&place);
        std::fs::create_dir_all(around).map_err(|e| Error::io("make folder", around, e))?;
        paths.push(put(&format!("downloads/{path}"), &Blueprint::of(Arc::new(Bytes(bytes))))?);
    }
    paths.retain(|path| path.file_stem().is_none_or(|stem| !stem.to_string_lossy().starts_with("Data0")));
    let [disc, cabinet, installed, add_on, save] =
        <[PathBuf; 5]>::try_from(paths).map_err(|_| Error::Usage("the downloads lack one".into()))?;
    Ok(Downloads { folder: place, disc, cabinet, installed, add_on, save })
}

/// Fills the drawer of cartridges.
fn drawer(folder: &Path, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>, replace: bool) -> Result<Drawer> {
    use cartridges as c;
    let place = folder.join("drawer");
    std::fs::create_dir_all(&place).map_err(|e| Error::io("make folder", &place, e))?;
    let file = |name: &str, bytes: Vec<u8>| put(&format!("drawer/{name}"), &Blueprint::of(Arc::new(Bytes(bytes))));
    let (moth, racer) = (c::moth_hour(), c::brine_racer());
    let padded = [moth.clone(), vec![0xff; (512 << 10) - moth.len()]].concat();
    let [bps, ups, ips] = c::fogbell_patches()?;
    let smc = [c::copier_header(racer.len()), racer.clone()].concat();
    let mut swapped = c::bramble_run();
    let bramble = swapped.clone();
    decanter_formats::cartridge::order::swap_pairs(&mut swapped);
    let roms = [
        ("Fogbell.gb", c::fogbell()),
        ("Moth Hour.gba", moth),
        ("Lantern Post.nds", c::lantern_post()),
        ("Tide Table.nes", c::tide_table()),
        ("Brine Racer.smc", smc),
        ("Pier Pinball.smd", c::pier_pinball_interleaved()),
        ("Bramble Run.v64", bramble),
        ("Kelp Dive.sms", c::kelp_dive(74, "Kelp Dive", 4)),
        ("Pocket Tide.gg", c::kelp_dive(75, "Pocket Tide", 7)),
        ("Lamplight.pce", c::lamplight()),
    ];
    let archive = place.join("drawer.zip");
    zip_all(&archive, &roms, replace)?;
    // Databases list ROMs without copiers' headers, and in the console's own order.
    let listed: Vec<(String, Vec<u8>)> = roms
        .iter()
        .map(|(name, bytes)| match *name {
            "Brine Racer.smc" => ("Brine Racer.sfc".to_owned(), racer.clone()),
            "Pier Pinball.smd" => ("Pier Pinball.md".to_owned(), c::pier_pinball()),
            "Bramble Run.v64" => ("Bramble Run.z64".to_owned(), swapped.clone()),
            "Tide Table.nes" => ("Tide Table.nes".to_owned(), bytes[16..].to_vec()),
            name => (name.to_owned(), bytes.clone()),
        })
        .collect();
    let dat = file("drawer.dat", drawer_dat(&listed).into_bytes())?;
    let mut paths = Vec::new();
    for (name, bytes) in roms {
        paths.push(file(name, bytes)?);
    }
    let [gb, gba, nds, nes, smc, smd, v64, sms, gg, pce] =
        <[PathBuf; 10]>::try_from(paths).map_err(|_| Error::Usage("the drawer lacks a cartridge".into()))?;
    Ok(Drawer {
        folder: place.clone(),
        gb,
        gb_patched: file("Fogbell (Deep Water).gb", c::fogbell_deep())?,
        patches: [file("Fogbell.bps", bps)?, file("Fogbell.ups", ups)?, file("Fogbell.ips", ips)?],
        save: file("Fogbell.sav", c::fogbell_save())?,
        gba,
        gba_padded: file("Moth Hour (padded).gba", padded)?,
        nds,
        nes,
        smc,
        smc_patch: file("Brine Racer.bps", decanter_formats::patch::bps::make(&racer, &c::brine_racer_fast(), b"")?)?,
        smd,
        smd_save: file("Pier Pinball.srm", c::pier_pinball_save())?,
        v64,
        sms,
        gg,
        pce,
        archive,
        dat,
        reader: file("reader.toml", c::READER.as_bytes().to_vec())?,
        memory: file("cartridge memory.bin", c::fogbell_memory())?,
    })
}

/// Fills the case of handhelds.
fn case(folder: &Path, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>) -> Result<Case> {
    let place = folder.join("handheld");
    let keys = place.join("keys");
    std::fs::create_dir_all(&keys).map_err(|e| Error::io("make folder", &keys, e))?;
    let file = |name: &str, bytes: Vec<u8>| put(&format!("handheld/{name}"), &Blueprint::of(Arc::new(Bytes(bytes))));
    let made = handheld::case(cartridges::fogbell())?;
    let [icon, wide] = handheld::pictures();
    file("moth.png", icon)?;
    file("dusk.png", wide)?;
    Ok(Case {
        folder: place,
        keys: file("keys/museum.keys", handheld::key_list().into_bytes())?,
        full: put("handheld/Kelp Dash.3ds", &made.encrypted)?,
        trimmed: put("handheld/Kelp Dash (trimmed).3ds", &made.trimmed)?,
        decrypted: put("handheld/Kelp Dash (decrypted).3ds", &made.decrypted)?,
        update: put("handheld/Kelp Dash (update).cia", &made.update)?,
        player: put("handheld/Player.cia", &made.player)?,
        recipe: file("moth.toml", handheld::RECIPE.as_bytes().to_vec())?,
        player_recipe: file("deep water.toml", handheld::PLAYER_RECIPE.as_bytes().to_vec())?,
        save: file("moth save.bin", handheld::save_block(&cartridges::moth_hour())?)?,
    })
}

/// Fills the shelf of the hybrid console.
fn hybrid_shelf(folder: &Path, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>) -> Result<PathBuf> {
    let place = folder.join("shelf");
    for inner in ["Kelp Courier", "keys"] {
        let inner = place.join(inner);
        std::fs::create_dir_all(&inner).map_err(|e| Error::io("make folder", &inner, e))?;
    }
    for (path, bytes) in hybrid::shelf()? {
        put(&format!("shelf/{path}"), &Blueprint::of(Arc::new(Bytes(bytes))))?;
    }
    Ok(place)
}

/// Fills the bench of home computers.
fn bench(folder: &Path, put: &dyn Fn(&str, &Blueprint) -> Result<PathBuf>) -> Result<Bench> {
    use machines as m;
    let place = folder.join("machines");
    let fixes = place.join("fixes");
    let levels = fixes.join("LEVELS");
    std::fs::create_dir_all(&levels).map_err(|e| Error::io("make folder", &levels, e))?;
    let file = |name: &str, bytes: Vec<u8>| put(&format!("machines/{name}"), &Blueprint::of(Arc::new(Bytes(bytes))));
    let mut programs = Vec::new();
    for (name, bytes) in m::programs() {
        programs.push(file(name, bytes)?);
    }
    file("lantern.ram", m::memory())?;
    file("lantern.col", m::colours())?;
    for (name, bytes) in m::fixes() {
        file(&format!("fixes/{name}"), bytes)?;
    }
    Ok(Bench {
        folder: place,
        programs,
        disk: file("Storage Unit 9.d64", m::damaged_disk()?)?,
        moment: file("lantern.toml", m::MOMENT.as_bytes().to_vec())?,
        saved: file("lantern.vsf", saved::snapshot())?,
        archive: file("Tide Table.lha", m::archive())?,
        letters: file("Letters.lzx", m::letters())?,
        drive: put("machines/Fogbell arcade.chd", &m::drive()?)?,
        fixes,
    })
}

/// A database of the ROMs in the drawer.
fn drawer_dat(roms: &[(String, Vec<u8>)]) -> String {
    let mut text = String::from(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<datafile>\n\t<header>\n\t\t<name>Saltmarsh Pier cartridges</name>\n\
         \t\t<version>2026-11-23</version>\n\t</header>\n",
    );
    for (name, bytes) in roms {
        let game = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
        let [crc, sha1] = [Algorithm::Crc32, Algorithm::Sha1].map(|a| of_bytes(a, bytes).hex());
        text.push_str(&format!(
            "\t<game name=\"{game}\">\n\t\t<rom name=\"{name}\" size=\"{}\" crc=\"{crc}\" sha1=\"{sha1}\"/>\n\t</game>\n",
            bytes.len()
        ));
    }
    text.push_str("</datafile>\n");
    text
}

/// Packs small files into an archive.
fn zip_all(target: &Path, files: &[(&str, Vec<u8>)], replace: bool) -> Result<()> {
    let sum = files.iter().map(|(_, b)| b.len() as u64).sum();
    let draft = Draft::new(target, Door { guard: &Guard::default(), replace }, sum, sum, &())?;
    let options =
        SimpleFileOptions::default().system(zip::System::Unix).compression_method(zip::CompressionMethod::Deflated);
    let mut writer = ZipWriter::new(BufWriter::new(draft.file()));
    let mut write = || -> zip::result::ZipResult<()> {
        for (name, bytes) in files {
            writer.start_file(*name, options)?;
            writer.write_all(bytes)?;
        }
        Ok(())
    };
    let result = write().and_then(|()| writer.finish().map(|_| ()));
    result.map_err(|e| Error::io("write", target, io::Error::other(e)))?;
    draft.finish()
}

/// A database, in the XML form, of games with their files in `folder`; and of one that nobody has dumped.
fn dat(folder: &Path, games: &[(&str, Vec<&str>)], watch: &dyn Watch) -> Result<String> {
    let escaped = |text: &str| text.replace('&', "&amp;");
    let mut text = String::from(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<datafile>\n\t<header>\n\t\t<name>Saltmarsh Pier discs</name>\n\
         \t\t<version>2026-11-01</version>\n\t</header>\n",
    );
    for (game, files) in games {
        text.push_str(&format!("\t<game name=\"{}\">\n", escaped(game)));
        for name in files {
            let source: SourceRef = Arc::new(decanter_core::source::FileSource::own(&folder.join(name))?);
            let sums = of_source(&source, &[Algorithm::Crc32, Algorithm::Md5, Algorithm::Sha1], watch)?;
            let [crc, md5, sha1] = [0, 1, 2].map(|i: usize| sums[i].hex());
            let (name, len) = (escaped(name), source.len());
            text.push_str(&format!(
                "\t\t<rom name=\"{name}\" size=\"{len}\" crc=\"{crc}\" md5=\"{md5}\" sha1=\"{sha1}\"/>\n"
            ));
        }
        text.push_str("\t</game>\n");
    }
    text.push_str("\t<game name=\"Fogbell (Saltmarsh)\">\n\t\t<rom name=\"Fogbell.iso\" status=\"nodump\"/>\n\t</game>\n</datafile>\n");
    Ok(text)
}

/// Packs one source into an archive, deflated, with a short text beside it.
fn pack(target: &Path, name: &str, source: &SourceRef, replace: bool, watch: &dyn Watch) -> Result<PathBuf> {
    let draft = Draft::new(target, Door { guard: &Guard::default(), replace }, source.len(), source.len(), watch)?;
    watch.begin(&format!("packing {name}"), Some(source.len()));
    let report = |e: io::Error| Error::io("write", target, e);
    let options = SimpleFileOptions::default()
        .system(zip::System::Unix)
        .compression_method(zip::CompressionMethod::Deflated)
        .compression_level(Some(1))
        .large_file(source.len() >= u64::from(u32::MAX));
    let mut writer = ZipWriter::new(BufWriter::with_capacity(1 << 20, draft.file()));
    let mut write = || -> zip::result::ZipResult<()> {
        writer.start_file("read me.txt", options)?;
        writer.write_all(content::LEAFLET.as_bytes())?;
        writer.start_file(name, options)?;
        let mut block = vec![0; 1 << 20];
        let mut at = 0;
        while at < source.len() {
            let len = block.len().min((source.len() - at) as usize);
            watch::check(watch).map_err(io::Error::other)?;
            source.read_at(at, &mut block[..len]).map_err(io::Error::other)?;
            writer.write_all(&block[..len])?;
            watch.advance(len as u64);
            at += len as u64;
        }
        Ok(())
    };
    let result = write().and_then(|()| writer.finish().map(|_| ()));
    result.map_err(|e| match watch::check(watch) {
        Err(stopped) => stopped,
        Ok(()) => report(io::Error::other(e)),
    })?;
    draft.finish()?;
    watch.end();
    Ok(target.to_owned())
}
