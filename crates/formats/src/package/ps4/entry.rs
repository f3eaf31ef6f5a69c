//! What the entries of a container are, by their ids: parts of the container itself, and files of `sce_sys/`.

use crate::package::sha256;
use decanter_core::tree::below;

/// Digests of all entries.
pub(super) const DIGESTS: u32 = 0x1;
/// Keys that entries are under, each under a key of the console.
pub(super) const KEYS: u32 = 0x10;
/// The image key under a key of the console.
pub(super) const IMAGE_KEY: u32 = 0x20;
/// Digests of some parts.
pub(super) const GENERAL: u32 = 0x80;
/// The table of entries.
pub(super) const TABLE: u32 = 0x100;
/// Names of entries.
pub(super) const NAMES: u32 = 0x200;
/// The parameter file.
pub const PARAMETERS: u32 = 0x1000;
/// What a package with changes alone has.
pub(super) const DELTA: [u32; 2] = [0x407, 0x408];
/// What an update keeps of the base that it was made for, and what that has itself: chunks, and their digests.
pub const CHUNKS_OF_BASE: [(u32, u32); 2] = [(0x1008, 0x1001), (0x1009, 0x1002)];

/// The folder that entries are files of.
pub const FOLDER: &str = "sce_sys";
/// The picture of a package, and the one behind it.
pub(super) const PICTURES: [(&str, &str); 3] =
    [("sce_sys/icon0.png", "icon"), ("sce_sys/pic1.png", "background"), ("sce_sys/pic0.png", "overlay")];

/// The bits of an entry that is a file, as new packages have them.
const PLAIN: [u32; 2] = [0, 0];
/// In the flags: it is encrypted.
pub(super) const ENCRYPTED: u32 = 0x8000_0000;

/// Ids of files that have one of their own.
const FILES: [(u32, &str); 31] = [
    (0x400, "license.dat"),
    (0x401, "license.info"),
    (0x402, "nptitle.dat"),
    (0x403, "npbind.dat"),
    (0x404, "selfinfo.dat"),
    (0x406, "imageinfo.dat"),
    (0x407, "target-deltainfo.dat"),
    (0x408, "origin-deltainfo.dat"),
    (0x409, "psreserved.dat"),
    (PARAMETERS, "param.sfo"),
    (0x1001, "playgo-chunk.dat"),
    (0x1002, "playgo-chunk.sha"),
    (0x1003, "playgo-manifest.xml"),
    (0x1004, "pronunciation.xml"),
    (0x1005, "pronunciation.sig"),
    (0x1006, "pic1.png"),
    (0x1007, "pubtoolinfo.dat"),
    (0x1008, "app/playgo-chunk.dat"),
    (0x1009, "app/playgo-chunk.sha"),
    (0x100a, "app/playgo-manifest.xml"),
    (0x100b, "shareparam.json"),
    (0x100c, "shareoverlayimage.png"),
    (0x100d, "save_data.png"),
    (0x100e, "shareprivacyguardimage.png"),
    (0x1200, "icon0.png"),
    (0x1220, "pic0.png"),
    (0x1240, "snd0.at9"),
    (0x1260, "changeinfo/changeinfo.xml"),
    (0x1280, "icon0.dds"),
    (0x12a0, "pic0.dds"),
    (0x12c0, "pic1.dds"),
];

/// Ids of files that are numbered: the first id, how many there are, and what stands around the number.
const NUMBERED: [(u32, u32, &str, &str); 7] = [
    (0x1201, 31, "icon0_", ".png"),
    (0x1241, 31, "pic1_", ".png"),
    (0x1261, 31, "changeinfo/changeinfo_", ".xml"),
    (0x1281, 31, "icon0_", ".dds"),
    (0x12c1, 31, "pic1_", ".dds"),
    (0x1400, 100, "trophy/trophy", ".trp"),
    (0x1600, 10, "keymap_rp/0", ".png"),
];

/// The numbered name of an id.
fn numbered(id: u32) -> Option<String> {
    let (first, _, front, behind) =
        NUMBERED.into_iter().find(|(first, count, ..)| (*first..first + count).contains(&id))?;
    // Those of the last kind are counted from 1.
    let number = id - first + u32::from(first == 0x1600);
    Some(format!("{front}{number:02}{behind}"))
}

/// What the file with this id is called in its folder; `None` for parts of the container and ids that are not known.
pub(super) fn name(id: u32) -> Option<String> {
    numbered(id).or_else(|| FILES.iter().find(|(own, _)| *own == id).map(|(_, name)| (*name).to_owned()))
}

/// The id of the file at this path in a package, whatever its case; `None` where it is a file of the image.
pub fn id(path: &str) -> Option<u32> {
    let path = path.to_ascii_lowercase();
    let own = path.strip_prefix(FOLDER)?.strip_prefix('/')?;
    let numbers = NUMBERED.iter().flat_map(|(first, count, ..)| *first..first + count);
    let found = numbers.into_iter().find(|id| numbered(*id).is_some_and(|name| name == own));
    found.or_else(|| FILES.iter().find(|(_, name)| *name == own).map(|(id, _)| *id))
}

/// The path of a file in a package.
pub(super) fn path(name: &str) -> String {
    below(FOLDER, name)
}

/// The path of the file with this id; empty for ids that are not known.
pub fn path_of(id: u32) -> String {
    name(id).map(|name| path(&name)).unwrap_or_default()
}

/// Whether an entry is a part of the container, and no file.
pub(super) fn is_part(id: u32) -> bool {
    matches!(id, DIGESTS | KEYS | IMAGE_KEY | GENERAL | TABLE | NAMES)
}

/// Whether `stored` bytes, of which an entry says that it has `len`, have this digest: with what they were filled up with, or
/// without.
pub(super) fn has_digest(stored: &[u8], len: u64, digest: &[u8]) -> bool {
    let own = &stored[..stored.len().min(len as usize)];
    sha256(own) == digest || own.len() < stored.len() && sha256(stored) == digest
}

/// What an id is called where it is told of.
pub(super) fn told(id: u32) -> String {
    let part = match id {
        DIGESTS => "the digests of the entries",
        KEYS => "the keys of the entries",
        IMAGE_KEY => "the image key",
        GENERAL => "the general digests",
        TABLE => "the table of entries",
        NAMES => "the names of the entries",
        _ => return name(id).map_or_else(|| format!("entry {id:#x}"), |name| path(&name)),
    };
    part.to_owned()
}

/// The flags of an entry in new packages, and what says under which key it is.
pub(super) fn flags(id: u32) -> [u32; 2] {
    match id {
        DIGESTS | NAMES => [0x4000_0000, 0],
        KEYS | GENERAL | TABLE => [0x6000_0000, 0],
        IMAGE_KEY => [0xe000_0000, 0x3000],
        _ => PLAIN,
    }
}

/// Why a file of one package has no place in another; `None` where it has.
pub fn why_not_kept(path: &str) -> Option<&'static str> {
    Some(match id(path)? {
        0x400 | 0x401 => "a licence is that of its own package",
        0x404 | 0x406 => "it describes the image of its own package",
        0x407 | 0x408 => "it describes a package with changes alone",
        0x409 => "it is reserved, and that of its own package",
        0x1001..=0x1003 | 0x1008..=0x100a => "it describes the places of the files in its own package",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_lead_to_ids_and_back() {
        for id in (0x400..0x1700).filter(|id| name(*id).is_some()) {
            assert_eq!(super::id(&path(&name(id).unwrap())), Some(id), "{id:#x}");
        }
        assert_eq!(name(0x1463).as_deref(), Some("trophy/trophy99.trp"));
        assert_eq!(
            (name(0x121f).as_deref(), name(0x1600).as_deref()),
            (Some("icon0_30.png"), Some("keymap_rp/001.png"))
        );
        assert_eq!(id("SCE_SYS/Param.SFO"), Some(PARAMETERS));
        assert_eq!((id("sce_sys/keystone"), id("eboot.bin"), name(0x1)), (None, None, None));
    }
}
