//! Content packages of the 360 generation: discs as packages, and files of one's own.

use super::Options;
use super::choice::{Choice, Kind as ChoiceKind};
use super::folder::chosen;
use super::made::{Back, LeftOut, Made};
use super::open::image;
use super::shared::{BLANK, WITHOUT};
use super::target::{Target, is_folder};
use crate::label::{self, Filter, Fit};
use crate::{Item, Setting, locate};
use decanter_core::digest::{Algorithm, Hasher};
use decanter_core::source::SourceRef;
use decanter_core::tree::Tree;
use decanter_core::view::Fill;
use decanter_core::{Error, Format, Notice, Result};
use decanter_formats::optical::xdvdfs::{self, Xdvdfs};
use decanter_formats::package::x360::header::{Header, Signer};
use decanter_formats::package::x360::{self, Change, MOST_PICTURE, Making, kind, stfs, svod};
use decanter_formats::record::{xbe, xex};
use std::path::PathBuf;
use std::sync::Arc;

/// Packages of the family.
pub(super) static TARGETS: [Target; 2] = [
    Target {
        id: "god",
        what: "an Xbox 360 package with a disc in data files",
        extension: "god",
        made_of: "Xbox family images and folders of such discs",
        options: &[&TITLE, &ICON, &LAYOUT, &PUBLISHER, &DESCRIPTION, &BLANK, &WITHOUT],
        is_of_files: true,
        accepts: accepts_disc,
        place: Some(place),
        lay: disc,
        ..Target::BASE
    },
    Target {
        id: "stfs",
        what: "an Xbox 360 package with files",
        extension: "stfs",
        made_of: "folders; other packages with files, made anew",
        options: &[
            &TITLE,
            &ICON,
            &PUBLISHER,
            &DESCRIPTION,
            &TITLE_ID,
            &CONTENT_TYPE,
            &SIGNED_AS,
            &PROFILE_ID,
            &CONSOLE_ID,
            &BLANK,
            &WITHOUT,
        ],
        is_of_files: true,
        accepts: accepts_files,
        lay: files,
        ..Target::BASE
    },
];

static TITLE: Choice = Choice::of(
    "title",
    "TEXT",
    ChoiceKind::Text,
    "What a new package is called in a console's menu [default: the name of the source]",
);
static ICON: Choice = Choice::of(
    "icon",
    "FILE",
    ChoiceKind::Path,
    "Picture of a new package, PNG or JPEG; fitted to 64x64 pixels unless it has that size [default: the program's own, where that can be read]",
);
static LAYOUT: Choice = Choice::of(
    "layout",
    "NAME",
    ChoiceKind::OneOf(&["console", "plain"]),
    "Where a package with a disc goes below the folder of -o: console (TITLEID/00007000/NAME, where consoles look), or plain (NAME) [default: console]",
);
static PUBLISHER: Choice =
    Choice::of("publisher", "TEXT", ChoiceKind::Text, "Publisher of a new package [default: none]");
static DESCRIPTION: Choice =
    Choice::of("description", "TEXT", ChoiceKind::Text, "Description of a new package [default: none]");
static TITLE_ID: Choice = Choice::of(
    "title-id",
    "HEX",
    ChoiceKind::Text,
    "Title that the files belong to, eight hexadecimal digits [default: 00000000, none]",
);
static CONTENT_TYPE: Choice = Choice::of(
    "content-type",
    "HEX",
    ChoiceKind::Text,
    "What a new package is, in hexadecimal digits: 1 saved game, 2 add-on, 20000 gamer picture, 30000 theme, B0000 title update, D0000 arcade title [default: 1]",
);
static SIGNED_AS: Choice = Choice::of(
    "signed-as",
    "NAME",
    ChoiceKind::OneOf(&["con", "live", "pirs"]),
    "By whom a new package says that it is signed; the signature is zeros [default: con for saved games, else live]",
);
static PROFILE_ID: Choice = Choice::of(
    "profile-id",
    "HEX",
    ChoiceKind::Text,
    "Profile that a saved game belongs to, 16 hexadecimal digits [default: zeros, none]",
);
static CONSOLE_ID: Choice = Choice::of(
    "console-id",
    "HEX",
    ChoiceKind::Text,
    "Console that a saved game belongs to, ten hexadecimal digits [default: zeros, none]",
);

/// Pixels of a picture, each way.
const ICON_SIZE: u32 = 64;
/// What is said where the signature is zeros.
const PLACEHOLDER: &str =
    "its signature is a placeholder of zeros: emulators and modded consoles take it, others do not";
/// Programs that consoles start.
const PROGRAMS: [(&str, u32); 2] = [("default.xex", kind::GAME_ON_DEMAND), ("default.xbe", kind::FIRST_CONSOLE)];

/// What the program of a disc says of it.
#[derive(Default)]
struct Program {
    content_type: u32,
    title_id: u32,
    media_id: u32,
    versions: [u32; 2],
    discs: [u8; 2],
    platform: [u8; 2],
    title: Option<String>,
    picture: Option<SourceRef>,
}

fn accepts_disc(item: &Item, _: &Target) -> Option<u8> {
    if Xdvdfs.is_of(&item.opened) {
        return item.opened.holds.tree.is_some().then_some(60);
    }
    if x360::DISC.is_of(&item.opened) {
        return item.opened.holds.tree.is_some().then_some(6);
    }
    let tree = item.opened.holds.tree.as_ref().filter(|_| is_folder(item))?;
    PROGRAMS.iter().any(|(path, _)| tree.find(path).is_some()).then_some(70)
}

fn accepts_files(item: &Item, _: &Target) -> Option<u8> {
    if x360::FILES.is_of(&item.opened) {
        return item.opened.holds.tree.is_some().then_some(8);
    }
    is_folder(item).then_some(3)
}

/// What the program of a disc says; nothing where there is none, or it cannot be read.
fn program(item: &Item, setting: Option<&Setting<'_>>) -> Result<Program> {
    let tree = item.opened.holds.tree.as_ref();
    let found = PROGRAMS.iter().find_map(|(path, kind)| Some((tree?.find(path)?.file()?, *kind)));
    let Some((file, content_type)) = found else {
        return Ok(Program { content_type: kind::GAME_ON_DEMAND, platform: [2, 0], ..Program::default() });
    };
    let source = file.source()?.clone();
    let shown = match setting {
        Some(setting) => Some(setting.opener(&item.keyring).open(source.clone())?),
        None => None,
    };
    let mut own = Program { content_type, platform: [2, 0], ..Program::default() };
    own.title = shown.as_ref().and_then(|s| s.identity.title.clone());
    own.picture =
        shown.and_then(|s| s.told.label).and_then(|l| l.packed.into_iter().next()).map(|(_, picture)| picture);
    if content_type == kind::FIRST_CONSOLE {
        own.title_id = xbe::title_number(source.as_ref())?;
    } else if let Some(found) = xex::Headers::read(source.as_ref())?.execution(source.as_ref())? {
        (own.title_id, own.media_id) = (found.title_id, found.media_id);
        own.versions = [found.version, found.base_version];
        (own.platform, own.discs) = (found.platform, found.discs);
    }
    Ok(own)
}

/// Where a package with a disc goes: its name is made of what the disc is, so that it is the same every time.
fn place(item: &Item, options: &Options) -> PathBuf {
    // A program that cannot be read is told where the package is laid out.
    let program = program(item, None).unwrap_or_default();
    let mut hasher = Hasher::new(Algorithm::Sha1);
    for number in [program.title_id, program.media_id] {
        hasher.update(&number.to_be_bytes());
    }
    hasher.update(&program.discs);
    for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
        hasher.update(node.path.as_bytes());
        hasher.update(&file.len.to_be_bytes());
    }
    let name = hasher.finish().hex()[..20].to_uppercase();
    match options.given.text(&LAYOUT) {
        Some("plain") => PathBuf::from(name),
        _ => {
            PathBuf::from(format!("{:08X}", program.title_id)).join(format!("{:08X}", program.content_type)).join(name)
        }
    }
}

/// The picture that was given, as packages have them.
fn icon(
    options: &Options,
    own: Option<&SourceRef>,
    setting: &Setting<'_>,
    notices: &mut Vec<Notice>,
) -> Result<Vec<u8>> {
    let (path, source) = match (options.given.text(&ICON), own) {
        (Some(path), _) => (path, locate::bytes(path, setting)?),
        (None, Some(own)) => ("the program's own picture", own.clone()),
        (None, None) => return Ok(Vec::new()),
    };
    let Some(picture) = label::unpacked(&source)? else {
        return Err(Error::Usage(format!("\"{path}\" is no picture: PNG and JPEG are read")));
    };
    let fits = (picture.width, picture.height) == (ICON_SIZE, ICON_SIZE);
    if fits && label::is_png(&source)? && source.len() <= MOST_PICTURE as u64 {
        return decanter_core::source::read_vec(source.as_ref(), 0, source.len(), "a picture", MOST_PICTURE as u64);
    }
    if !fits {
        notices.push(Notice::new(format!(
            "\"{path}\" has {}x{} pixels, and was fitted to {ICON_SIZE}x{ICON_SIZE}",
            picture.width, picture.height
        )));
    }
    let size = Some((ICON_SIZE, ICON_SIZE));
    let wish = label::Options { size, fit: Fit::Crop, filter: Filter::Smooth, background: [0; 4] };
    Ok(label::png(&picture, &wish)?.1)
}

fn text(options: &Options, choice: &Choice) -> String {
    options.given.text(choice).unwrap_or_default().to_owned()
}

/// A disc as a package.
fn disc(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let (tree, left_out) = chosen(item, options)?;
    let placed = xdvdfs::compose_placed(&tree)?;
    let partition: SourceRef = placed.blueprint.as_source()?;
    let program = program(item, Some(setting))?;
    let mut notices = Vec::new();
    let picture = icon(options, program.picture.as_ref(), setting, &mut notices)?;
    let title = match options.given.text(&TITLE) {
        Some(title) => title.to_owned(),
        None => program.title.clone().unwrap_or_else(|| item.stem.clone()),
    };
    let making = Making {
        signer: Signer::Live,
        content_type: program.content_type,
        title_id: program.title_id,
        media_id: program.media_id,
        versions: program.versions,
        platform: program.platform,
        discs: program.discs,
        name: title.clone(),
        title: title.clone(),
        publisher: text(options, &PUBLISHER),
        description: text(options, &DESCRIPTION),
        pictures: [picture.clone(), picture],
        transfer: 0xc0,
        ..Making::default()
    };
    setting.watch.begin(&format!("hashing {}", item.stem), Some(partition.len()));
    let laid = svod::compose(&partition, &making, setting.watch)?;
    setting.watch.end();
    if program.title_id == 0 {
        notices.push(Notice::new("its program says no title id: the package has none, and no console finds it"));
    }
    notices.push(Notice::new(PLACEHOLDER));
    let before = image(item).map_or(partition.len(), |s| s.len());
    let header: SourceRef = Arc::new(decanter_core::source::Bytes(laid.header));
    let mut made = Made::new(
        decanter_core::blueprint::Blueprint::of(header),
        Arc::new(Fill { byte: 0, len: before }),
        "all files with their content, in a minimal image; their places are new",
    );
    made.data = laid.files.into_iter().enumerate().map(|(i, b)| (svod::data_name(i as u64), b)).collect();
    made.facts.push(("title".into(), title));
    made.facts.push(("title id".into(), format!("{:08X}", program.title_id)));
    made.facts.push(("data files".into(), made.data.len().to_string()));
    made.left_out = left_out;
    made.notices = notices;
    made.back = Back::Disc(tree);
    Ok(made)
}

/// Hexadecimal digits that were given, as bytes.
fn digits<const N: usize>(options: &Options, choice: &Choice) -> Result<[u8; N]> {
    let Some(text) = options.given.text(choice) else { return Ok([0; N]) };
    let mut own = [0; N];
    match decanter_core::digest::unhex(text, &mut own).map(|found| found.len()) {
        Some(len) if len == N => Ok(own),
        _ => Err(Error::Usage(format!("--{} {text}: {} hexadecimal digits are wanted", choice.name, 2 * N))),
    }
}

/// Files as a package.
fn files(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let (tree, left_out) = chosen(item, options)?;
    if x360::FILES.is_of(&item.opened) {
        return anew(item, &tree, left_out, options, setting);
    }
    let content_type = match options.given.text(&CONTENT_TYPE) {
        None => kind::SAVED_GAME,
        Some(text) => u32::from_str_radix(text, 16)
            .map_err(|_| Error::Usage(format!("--content-type {text}: hexadecimal digits are wanted, as in B0000")))?,
    };
    let signer = match options.given.text(&SIGNED_AS) {
        Some("con") => Signer::Console,
        Some("live") => Signer::Live,
        Some("pirs") => Signer::Pirs,
        _ if content_type == kind::SAVED_GAME => Signer::Console,
        _ => Signer::Live,
    };
    let mut notices = Vec::new();
    let picture = icon(options, None, setting, &mut notices)?;
    let title = options.given.text(&TITLE).unwrap_or(&item.stem).to_owned();
    let making = Making {
        signer,
        content_type,
        title_id: u32::from_be_bytes(digits(options, &TITLE_ID)?),
        console_id: digits(options, &CONSOLE_ID)?,
        profile_id: digits(options, &PROFILE_ID)?,
        name: title.clone(),
        title: title.clone(),
        publisher: text(options, &PUBLISHER),
        description: text(options, &DESCRIPTION),
        pictures: [picture.clone(), picture],
        ..Making::default()
    };
    let bytes = tree.files().map(|(_, f)| f.len).sum();
    setting.watch.begin(&format!("hashing {}", item.stem), Some(bytes));
    let blueprint = stfs::compose(&tree, &making, setting.watch)?;
    setting.watch.end();
    notices.push(Notice::new(PLACEHOLDER));
    let what = "all files and folders with their content; dates where the source says them";
    let mut made = Made::new(blueprint, Arc::new(Fill { byte: 0, len: bytes }), what);
    made.facts.push(("title".into(), title));
    made.facts.push(("kind".into(), kind::of(content_type).0));
    made.left_out = left_out;
    made.notices = notices;
    made.back = Back::Files(tree);
    Ok(made)
}

/// A package with files made anew: its header is kept, but for whose it is.
fn anew(item: &Item, tree: &Tree, left_out: Vec<LeftOut>, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let of_header = [&TITLE, &ICON, &PUBLISHER, &DESCRIPTION, &TITLE_ID, &CONTENT_TYPE, &SIGNED_AS];
    if let Some(choice) = of_header.into_iter().find(|c| options.given.has(c)) {
        let name = choice.name;
        return Err(Error::Usage(format!(
            "--{name} is for packages of folders; one that is made anew keeps its header: extract it, and make one of the folder"
        )));
    }
    let source = item.source.clone().ok_or_else(|| Error::Usage("there is no package".into()))?;
    let header = Header::read(source.as_ref())?;
    let change = Change {
        console_id: options.given.has(&CONSOLE_ID).then(|| digits(options, &CONSOLE_ID)).transpose()?,
        profile_id: options.given.has(&PROFILE_ID).then(|| digits(options, &PROFILE_ID)).transpose()?,
        device_id: None,
    };
    setting.watch.begin(&format!("hashing {}", item.stem), Some(tree.files().map(|(_, f)| f.len).sum()));
    let blueprint = stfs::rebuild(&header, &change, tree, setting.watch)?;
    setting.watch.end();
    let what = "its header, and all files and folders with their content and dates; blocks and tables are new";
    let mut made = Made::new(blueprint, Arc::new(Fill { byte: 0, len: source.len() }), what);
    made.facts.push(("kind".into(), header.what()));
    made.left_out = left_out;
    made.notices.push(Notice::new(PLACEHOLDER));
    made.back = Back::Files(tree.clone());
    Ok(made)
}
