//! Folders that are titles, laid out as a disc or an installation of a console is: which machine they are of, and what their parameter
//! file says.

use crate::{Item, Setting};
use decanter_core::Result;
use decanter_core::role::Role;
use std::collections::HashSet;

/// How the folders of a machine are laid out.
struct Layout {
    /// Its name in profiles.
    platform: &'static str,
    /// The file with title, id and category.
    parameters: &'static str,
    /// What stands beside it in a whole title: a file, or with a slash at its end a folder with something in it.
    beside: &'static str,
    /// How the category of a title begins that can be played by itself.
    categories: &'static [&'static str],
    /// What is made of it, where that is not as with any disc: an installation in an image of a disc is nothing that loads.
    forms: Option<&'static [&'static str]>,
}

/// What fits several is the first.
static LAYOUTS: [Layout; 4] = [
    Layout {
        platform: "ps3",
        parameters: "PS3_GAME/PARAM.SFO",
        beside: "PS3_GAME/USRDIR/",
        categories: &["DG"],
        forms: None,
    },
    Layout {
        platform: "psp",
        parameters: "PSP_GAME/PARAM.SFO",
        beside: "PSP_GAME/SYSDIR/",
        categories: &["UG"],
        forms: None,
    },
    Layout {
        platform: "ps4",
        parameters: "sce_sys/param.sfo",
        beside: "eboot.bin",
        categories: &["gd"],
        forms: Some(&["ps4-pkg", "folder"]),
    },
    Layout {
        platform: "ps3",
        parameters: "PARAM.SFO",
        beside: "USRDIR/",
        categories: &["HG", "MN", "1P", "2P"],
        forms: Some(&["pkg", "folder"]),
    },
];

/// What a folder says of the title that it is.
pub(crate) struct TitleFolder {
    /// Its machine's name in profiles.
    pub(crate) platform: &'static str,
    pub(crate) title: Option<String>,
    pub(crate) id: Option<String>,
    /// The forms that it can have; `None` where it is a disc like others.
    pub(crate) forms: Option<&'static [&'static str]>,
    /// What it is by its category, where that is no title that can be played by itself.
    pub(crate) unfit: Option<String>,
}

/// The folders that are laid out as titles, by the paths of all files; none of them lies in another.
pub(crate) fn among(paths: &[String]) -> Vec<String> {
    let mut sorted: Vec<&str> = paths.iter().map(String::as_str).collect();
    sorted.sort_unstable();
    let mut folders: Vec<&str> = sorted.iter().filter_map(|path| folder_of(path, &sorted)).collect();
    folders.sort_unstable();
    folders.dedup();
    let all: HashSet<String> = folders.iter().map(|folder| (*folder).to_owned()).collect();
    folders.retain(|folder| !lies_in(folder, &all));
    folders.into_iter().map(str::to_owned).collect()
}

/// Whether a path lies in one of these folders.
pub(crate) fn lies_in(path: &str, folders: &HashSet<String>) -> bool {
    path.match_indices('/').any(|(at, _)| folders.contains(&path[..at]))
}

/// The folder whose parameter file stands at `path`; all paths are sorted.
fn folder_of<'a>(path: &'a str, sorted: &[&str]) -> Option<&'a str> {
    LAYOUTS.iter().find_map(|layout| {
        let start = without_end(path, layout.parameters)?;
        let folder = start.strip_suffix('/')?;
        let first = sorted.partition_point(|other| *other < start);
        let mut below = sorted[first..].iter().map_while(|other| other.strip_prefix(start));
        below.any(|below| fits(below, layout.beside)).then_some(folder)
    })
}

/// Whether a path in a folder is what a layout looks for, in whatever case.
fn fits(path: &str, wanted: &str) -> bool {
    let is_start = path.get(..wanted.len()).is_some_and(|start| start.eq_ignore_ascii_case(wanted));
    is_start && (path.len() == wanted.len() || wanted.ends_with('/'))
}

fn without_end<'a>(path: &'a str, end: &str) -> Option<&'a str> {
    let at = path.len().checked_sub(end.len())?;
    path.get(at..).filter(|own| own.eq_ignore_ascii_case(end)).and_then(|_| path.get(..at))
}

/// What the title is that a folder, or an archive of one, holds; `None` where it is laid out as none.
///
/// # Errors
/// What reading its parameter file fails with.
pub(crate) fn of(item: &Item, setting: &Setting<'_>) -> Result<Option<TitleFolder>> {
    if !matches!(item.opened.identity.role, Role::Folder | Role::Archive) {
        return Ok(None);
    }
    let Some(tree) = &item.opened.holds.tree else { return Ok(None) };
    let has = |wanted: &str| tree.files().any(|(node, _)| fits(&node.path, wanted));
    let Some(layout) = LAYOUTS.iter().find(|l| has(l.parameters) && has(l.beside)) else { return Ok(None) };
    let Some(file) = tree.find(layout.parameters).and_then(|node| node.file()) else { return Ok(None) };
    let opened = setting.opener(&item.keyring).open(file.source()?.clone())?;
    let value = |name: &str| {
        let found = opened.told.parameters.iter().find(|(own, _)| own == name);
        found.map(|(_, value)| value.trim().to_owned()).filter(|value| !value.is_empty())
    };
    let category = value("CATEGORY").unwrap_or_default();
    let is_whole = layout.categories.iter().any(|own| category.starts_with(own));
    Ok(Some(TitleFolder {
        platform: layout.platform,
        title: value("TITLE"),
        forms: layout.forms,
        id: value("TITLE_ID").or_else(|| value("DISC_ID")),
        unfit: (!is_whole).then(|| match category.as_str() {
            "" => "its parameter file has no category".into(),
            own => format!("its category is {own}, which is no title that is played by itself"),
        }),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn paths(all: &[&str]) -> Vec<String> {
        all.iter().map(|path| (*path).to_owned()).collect()
    }

    #[test]
    fn titles_are_found_by_two_of_their_files() {
        let all = paths(&[
            "shelf/kelp/PS3_GAME/PARAM.SFO",
            "shelf/kelp/PS3_GAME/USRDIR/EBOOT.BIN",
            "shelf/nine/sce_sys/param.sfo",
            "shelf/nine/eboot.bin",
            "shelf/umd/psp_game/param.sfo",
            "shelf/umd/psp_game/sysdir/boot.bin",
            "shelf/hdd/PARAM.SFO",
            "shelf/hdd/USRDIR/EBOOT.BIN",
            // A disc with an installation in it is one title.
            "shelf/kelp/PS3_EXTRA/D001/PARAM.SFO",
            "shelf/kelp/PS3_EXTRA/D001/USRDIR/EBOOT.BIN",
        ]);
        assert_eq!(among(&all), ["shelf/hdd", "shelf/kelp", "shelf/nine", "shelf/umd"]);
    }

    #[test]
    fn a_parameter_file_alone_makes_no_title() {
        let all = paths(&[
            "shelf/PARAM.SFO",
            "shelf/a/USRDIR/EBOOT.BIN",
            "shelf/saves/PARAM.SFO",
            "shelf/saves/ICON0.PNG",
            "shelf/update/sce_sys/param.sfo",
            "shelf/update/eboot.bin.bak",
            "shelf/b/USRDIRECTORY",
            "shelf/b/PARAM.SFO",
            "PARAM.SFO",
            "USRDIR/EBOOT.BIN",
        ]);
        assert!(among(&all).is_empty(), "{:?}", among(&all));
    }

    #[test]
    fn folders_that_begin_alike_are_two() {
        let title = |name: &str| [format!("s/{name}/PARAM.SFO"), format!("s/{name}/USRDIR/EBOOT.BIN")];
        let all: Vec<String> = ["Pier", "Pier 2", "Pier/extra"].into_iter().flat_map(title).collect();
        assert_eq!(among(&all), ["s/Pier", "s/Pier 2"]);
        let folders = HashSet::from(["s/Pier".to_owned()]);
        assert!(lies_in("s/Pier/a", &folders) && !lies_in("s/Pier 2/a", &folders) && !lies_in("s/Pier", &folders));
    }
}
