//! What a package says of itself: header, metadata, and the parameter file and pictures in it.

use super::Package;
use super::header::Header;
use crate::record::sfo;
use decanter_core::Result;
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::tell::count;

/// The parameter file of a title.
pub const PARAMETERS: &str = "PARAM.SFO";
/// Pictures of the menu: file, and what it is.
const PICTURES: [(&str, &str); 4] =
    [("ICON0.PNG", "icon"), ("PIC1.PNG", "background"), ("PIC0.PNG", "overlay"), ("PIC2.PNG", "small overlay")];
/// Languages in the order of the numbered titles of a parameter file.
pub const LANGUAGES: [&str; 20] = [
    "Japanese",
    "English",
    "French",
    "Spanish",
    "German",
    "Italian",
    "Dutch",
    "Portuguese",
    "Russian",
    "Korean",
    "Traditional Chinese",
    "Simplified Chinese",
    "Finnish",
    "Swedish",
    "Danish",
    "Norwegian",
    "Polish",
    "Portuguese (Brazil)",
    "English (UK)",
    "Turkish",
];

/// What it is, in a few words.
pub(super) fn kind(header: &Header) -> String {
    let platform = if header.is_handheld() { "PSP or PS Vita package" } else { "PS3 package" };
    let form = if header.is_finalized() { "finalized" } else { "debug" };
    match header.content_type() {
        Some((number, "content")) => format!("{platform}, {form}: content of type {number}"),
        Some((_, name)) => format!("{platform}, {form}: {name}"),
        None => format!("{platform}, {form}"),
    }
}

/// Tells title, ids and versions, and returns the parameter file that has some of them.
///
/// # Errors
/// What the machine is to blame for.
pub(super) fn tell(opened: &mut Opened, package: &Package, opener: &Opener<'_>) -> Result<Option<Opened>> {
    let header = &package.header;
    let tree = opened.holds.tree.take();
    let parameters = match &tree {
        Some(tree) => sfo::in_tree(opened, tree, &[PARAMETERS], opener)?,
        None => None,
    };
    let all = || parameters.iter().flat_map(|p| &p.told.parameters);
    let value = |name: &str| all().find(|(n, _)| n == name).map(|(_, v)| v.trim().to_owned()).unwrap_or_default();
    opened.titled(value("TITLE"));
    opened.identified(header.title_id().unwrap_or_else(|| value("TITLE_ID")));
    opened.fact("content id", header.content_id());
    opened.fact("category", parameters.as_ref().and_then(|p| p.get("category")).unwrap_or_default());
    opened.fact("version", value("VERSION"));
    opened.fact("app version", value("APP_VER"));
    opened.fact("pkg version", header.version().unwrap_or_default());
    opened.fact("DRM", header.drm().unwrap_or_default());
    let system = Some(value("PS3_SYSTEM_VER")).filter(|v| !v.is_empty()).or(header.system());
    opened.fact("needs system", system.unwrap_or_default());
    opened.fact("installs to", header.folder().unwrap_or_default());
    opened.fact("items", header.raw.items.to_string());
    if let Some(closed) = &package.closed {
        opened.notice(format!("what is in it cannot be listed: {closed}"));
    }
    let hidden = package.items.iter().filter(|i| i.fault.is_some()).count();
    if hidden > 0 {
        let first = package.items.iter().find_map(|i| Some(format!("{}: {}", i.name, i.fault.as_ref()?)));
        opened.damage(format!(
            "{} cannot be used; {}",
            count(hidden as u64, "item", "items"),
            first.unwrap_or_default()
        ));
    }
    opened.told.label = sfo::label(all(), &LANGUAGES, tree.as_ref(), &PICTURES);
    opened.holds.tree = tree;
    Ok(parameters)
}
