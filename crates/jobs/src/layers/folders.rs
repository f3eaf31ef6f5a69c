//! Folders with files of a title among other sources: they are meant as a whole.

use crate::Setting;
use decanter_core::store;
use decanter_core::tree::Tree;
use std::collections::BTreeSet;

/// Paths that only folders with files of a title have, below them.
pub(crate) const TITLE_MARKS: [&str; 3] = ["sce_sys/param.sfo", "eboot.bin", "sce_module/libc.prx"];

/// The folders among `paths` that hold files of a title, the outermost of those in each other.
pub(crate) fn title_folders(paths: &[String], setting: &Setting<'_>) -> Vec<String> {
    let found = paths.iter().filter_map(|path| {
        let folded = path.to_ascii_lowercase();
        let mark = TITLE_MARKS.iter().find(|mark| folded.ends_with(*mark))?;
        let folder = path.get(..path.len() - mark.len())?.strip_suffix('/')?;
        // The folders of other consoles have the same names of programs, and none of these around them.
        let is_one = *mark != "eboot.bin" || !is_of_another(folder);
        (is_one && setting.is_folder(folder)).then(|| folder.to_owned())
    });
    let all: BTreeSet<String> = found.collect();
    let is_inside = |path: &str, folder: &str| path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'));
    all.iter().filter(|path| !all.iter().any(|folder| is_inside(path, folder))).cloned().collect()
}

/// Takes the one folder at the top for the root, where the files of a title stand in it and not at the top: archives are often
/// made so. Returns its name.
pub(crate) fn take_root(tree: &mut Tree) -> Option<String> {
    let has_mark =
        |tree: &Tree, below: &str| TITLE_MARKS.iter().any(|mark| tree.find(&format!("{below}{mark}")).is_some());
    let first = |path: &str| path.split('/').next().unwrap_or_default().to_owned();
    let top = first(&tree.nodes.first()?.path);
    let is_alone = tree.nodes.iter().all(|n| first(&n.path) == top);
    if !is_alone || has_mark(tree, "") || !has_mark(tree, &format!("{top}/")) {
        return None;
    }
    tree.nodes.retain_mut(|node| match node.path.get(top.len() + 1..).map(str::to_owned) {
        Some(path) => {
            node.path = path;
            true
        }
        None => false,
    });
    Some(top)
}

/// Whether a folder is the one that programs of the generations before stand in.
fn is_of_another(folder: &str) -> bool {
    matches!(store::name_of(folder).to_ascii_uppercase().as_str(), "USRDIR" | "SYSDIR")
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use decanter_core::tree::{File, Kind, Node};
    use std::sync::Arc;

    #[test]
    fn one_folder_around_a_title_is_its_root() {
        let file = |path: &str| Node::new(path.into(), Kind::File(File::of(Arc::new(Bytes(vec![1])))), None);
        let of = |paths: &[&str]| Tree { nodes: paths.iter().map(|p| file(p)).collect() };
        let mut around = of(&["fix/eboot.bin", "fix/media/a"]);
        around.nodes.insert(0, Node::new("fix".into(), Kind::Folder, None));
        assert_eq!(take_root(&mut around).as_deref(), Some("fix"));
        assert_eq!(around.nodes.iter().map(|n| n.path.as_str()).collect::<Vec<_>>(), ["eboot.bin", "media/a"]);
        for paths in [&["eboot.bin"][..], &["media/a", "media/b"], &["fix/eboot.bin", "read.me"]] {
            assert_eq!(take_root(&mut of(paths)), None, "{paths:?}");
        }
    }

    #[test]
    fn the_outermost_folder_of_a_title_is_meant() {
        let root = tempfile::tempdir().unwrap();
        let at = |path: &str| decanter_core::native::text(root.path().join(path));
        let paths =
            ["fix/sce_sys/param.sfo", "fix/eboot.bin", "fix/more/eboot.bin", "old/USRDIR/EBOOT.BIN", "base.pkg"];
        for path in paths {
            let path = root.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, "").unwrap();
        }
        let setting = Setting::new(&());
        assert_eq!(title_folders(&paths.map(at), &setting), [at("fix")]);
    }
}
