//! What a package says of itself: the header, the parameter file, pictures.

use super::entry;
use super::header::Header;
use super::keys::Access;
use crate::package::ps3::content_id::title_id;
use crate::record::sfo;
use decanter_core::Result;
use decanter_core::format::Opener;
use decanter_core::opened::{Opened, TitlePart};
use decanter_core::tell::{grouped, size};

/// The parameter file of a title.
pub const PARAMETERS: &str = "sce_sys/param.sfo";
/// Languages in the order of the numbered titles of a parameter file, behind those that the generation before had.
const MORE_LANGUAGES: [&str; 10] = [
    "Spanish (Latin America)",
    "Arabic",
    "French (Canada)",
    "Czech",
    "Hungarian",
    "Greek",
    "Romanian",
    "Thai",
    "Vietnamese",
    "Indonesian",
];
/// The same, all of them.
const LANGUAGES: [&str; 30] = {
    let mut all = [""; 30];
    let mut index = 0;
    while index < 30 {
        all[index] = if index < 20 { crate::package::ps3::pkg::LANGUAGES[index] } else { MORE_LANGUAGES[index - 20] };
        index += 1;
    }
    all
};

/// What it is, in a few words.
pub(super) fn kind(header: &Header) -> String {
    match header.content_type() {
        (number, "content of another kind") => format!("PS4 package: content of type {number:#x}"),
        (_, words) => format!("PS4 package: {words}"),
    }
}

/// A version of the system as people write it: 0x05050000 is 5.05.
pub fn system(number: u32) -> String {
    format!("{:x}.{:02x}", number >> 24, number >> 16 & 0xff)
}

/// Which part of a title it is, by its category.
fn part(category: &str, header: &Header) -> TitlePart {
    match category.get(..2) {
        Some("gd") => TitlePart::Program,
        Some("gp") => TitlePart::Update,
        Some("ac") => TitlePart::AddOn,
        _ if header.is_delta() => TitlePart::Update,
        _ => match header.content_type().0 {
            0x1b | 0x1c => TitlePart::AddOn,
            _ => TitlePart::Other,
        },
    }
}

/// Tells title, ids, versions, sizes, and returns the parameter file that has some of them.
///
/// # Errors
/// What the machine is to blame for.
pub(super) fn tell(
    opened: &mut Opened,
    header: &Header,
    access: &Access,
    opener: &Opener<'_>,
) -> Result<Option<Opened>> {
    let tree = opened.holds.tree.take();
    let parameters = match &tree {
        Some(tree) => sfo::in_tree(opened, tree, &[PARAMETERS], opener)?,
        None => None,
    };
    let all = || parameters.iter().flat_map(|p| &p.told.parameters);
    let value = |name: &str| all().find(|(n, _)| n == name).map(|(_, v)| v.trim().to_owned()).unwrap_or_default();
    let number = |name: &str| value(name).split(' ').next().and_then(|n| n.parse::<u32>().ok()).filter(|n| *n > 0);
    let content_id = header.content_id();
    let id = title_id(&content_id).map_or_else(|| value("TITLE_ID"), str::to_owned);
    opened.titled(value("TITLE"));
    opened.identified(id.clone());
    opened.fact("content id", content_id);
    let category = value("CATEGORY");
    if part(&category, header) == TitlePart::Update && !header.is_delta() {
        opened.identity.kind = "PS4 package: update".into();
    }
    opened.fact("category", parameters.as_ref().and_then(|p| p.get("category")).unwrap_or_default());
    opened.fact("app version", value("APP_VER"));
    opened.fact("version", value("VERSION"));
    opened.fact("needs system", number("SYSTEM_VER").map(system).unwrap_or_default());
    if !id.is_empty() {
        opened.belonging(format!("title {id}"), part(&category, header));
    }
    if parameters.is_none() {
        opened.notice(format!("there is no {PARAMETERS} that can be read: what it is called is not known"));
    }
    opened.fact("DRM", header.drm());
    if header.is_delta() {
        opened.fact("changes alone", "yes: it goes over one version of the title, and holds no whole files");
    }
    let made = value("PUBTOOLINFO");
    let made = made.split(',').find_map(|part| part.trim().strip_prefix("c_date="));
    opened.fact("made", made.unwrap_or_default());
    opened.fact("passcode", access.words);
    if let Some((at, len)) = header.image() {
        opened.fact("image", format!("{} ({} bytes) at {at:#x}", size(len), grouped(len)));
    }
    opened.told.label = sfo::label(all(), &LANGUAGES, tree.as_ref(), &entry::PICTURES);
    opened.holds.tree = tree;
    Ok(parameters)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_and_languages_are_told() {
        assert_eq!(
            (system(0x0505_0000), system(0x1100_0000), system(0x0900_8000)),
            ("5.05".into(), "11.00".into(), "9.00".into())
        );
        assert_eq!(
            (LANGUAGES[1], LANGUAGES[19], LANGUAGES[20], LANGUAGES[29]),
            ("English", "Turkish", "Spanish (Latin America)", "Indonesian")
        );
    }
}
