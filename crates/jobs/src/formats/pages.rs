//! The pages on layouts in docs/formats, as far as they say what nobody is sure of.

macro_rules! pages {
    ($($name:literal: $($id:literal)*;)*) => {
        /// Every page: its name, its text, and the formats and targets that it is about.
        static PAGES: &[(&str, &str, &[&str])] =
            &[$(($name, include_str!(concat!("../../../../docs/formats/", $name, ".md")), &[$($id),*])),*];
    };
}

pages! {
    "7z": "7z";
    "amiga-disk": "adf" "hdf" "rdb";
    "bktr": "nca";
    "c64-moment": "prg";
    "cab": "cab";
    "cbm": "d64" "d71" "d81" "t64" "prg" "crt";
    "cd": "cd-raw" "cue";
    "chd": "chd";
    "cnmt": "nsp" "xci" "nca";
    "content-package": "stfs" "god";
    "cso": "cso" "zso";
    "dat": "dat";
    "edat": "edat";
    "exfat": "exfat";
    "ext": "ext";
    "fat": "fat";
    "gb": "gb" "gbc";
    "gba": "gba";
    "gz-bz2-xz": "gz" "bz2" "xz" "zst";
    "high-sierra": "high-sierra";
    "ird": "ird";
    "iso9660": "iso9660" "iso";
    "lha": "lha";
    "lzx": "lzx";
    "megadrive": "md" "smd" "32x";
    "n3ds-cartridge": "3ds";
    "n3ds-content": "ncch" "3ds" "cia";
    "n3ds-gba": "cia";
    "n3ds-label": "smdh" "cia";
    "n3ds-package": "cia";
    "n64": "n64" "z64" "v64";
    "nca": "nca" "nsp" "xci";
    "nds": "nds";
    "nes": "nes" "nes-bare";
    "ntfs": "ntfs";
    "partitions": "mbr" "gpt" "img";
    "patches": "ips" "ups" "bps" "vcdiff";
    "pce": "pce";
    "pfs": "pfs" "pfsc";
    "pfs0-hfs0": "pfs0" "hfs0" "nsp" "xci";
    "pkg": "pkg";
    "playstation-disc": "ps-disc" "ps3-disc" "psp-disc" "iso";
    "ps2-card": "pkg";
    "ps2-classics": "ps2-classics";
    "ps3-disc": "ps3-disc";
    "ps3-title": "pkg";
    "ps4-pkg": "ps4-pkg";
    "save": "gb" "gba" "md" "n64" "nds" "nes" "pce" "sms" "snes";
    "sfo": "sfo";
    "sms": "sms" "gg";
    "snes": "snes" "sfc" "smc";
    "stfs": "stfs";
    "svod": "god";
    "tar": "tar";
    "udf": "udf" "iso";
    "vsf": "vsf" "prg";
    "xbe-xex": "xbe" "xex";
    "xci": "xci";
    "xdvdfs": "xdvdfs";
    "zip": "zip";
    "zst": "zst";
}

/// The names of the pages on a format or target.
pub(super) fn named(id: &str) -> Vec<&'static str> {
    of(id).map(|(name, _)| *name).collect()
}

fn of(id: &str) -> impl Iterator<Item = (&'static &'static str, &'static &'static str)> {
    PAGES.iter().filter(move |(_, _, ids)| ids.contains(&id)).map(|(name, text, _)| (name, text))
}

/// What the pages on a format or target say that nobody is sure of, sentence by sentence.
pub(super) fn doubts(id: &str) -> Vec<String> {
    of(id).flat_map(|(_, text)| sentences(text)).filter(|s| s.to_lowercase().contains("not sure")).collect()
}

/// The sentences of a page, each on one line and without marks of emphasis.
fn sentences(text: &str) -> Vec<String> {
    let mut all = Vec::new();
    for paragraph in text.split("\n\n") {
        let line = paragraph.split_whitespace().collect::<Vec<_>>().join(" ").replace(['*', '`'], "");
        let mut rest = line.trim_start_matches("- ").to_owned();
        // A full stop within a name or a number has no space behind it.
        while let Some(end) = rest.find(". ") {
            all.push(rest[..=end].to_owned());
            rest = rest[end + 2..].to_owned();
        }
        all.push(rest);
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::convert::table::targets;
    use decanter_formats::REGISTRY;

    #[test]
    fn every_format_and_target_has_a_page_and_every_page_a_format() {
        for id in REGISTRY.formats().iter().map(|f| f.id()).filter(|id| *id != "sums").chain(targets().map(|t| t.id)) {
            assert!(!named(id).is_empty(), "{id} is on no page");
        }
        let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats");
        for entry in std::fs::read_dir(folder).unwrap() {
            let name = entry.unwrap().file_name().into_string().unwrap();
            let is_named = PAGES.iter().any(|(page, ..)| format!("{page}.md") == name);
            // Folders are no format that is detected: what a bag is, and what is kept of files beside their bytes.
            let is_of_folders = ["attributes.md", "bagit.md"].contains(&name.as_str());
            assert!(is_named || is_of_folders, "{name} is about nothing");
        }
        for (page, _, ids) in PAGES {
            for id in *ids {
                assert!(REGISTRY.get(id).is_some() || targets().any(|t| t.id == *id), "{page}: {id} is nothing");
            }
        }
    }

    #[test]
    fn doubts_are_whole_sentences() {
        let of_card = doubts("xci");
        assert!(of_card.iter().any(|d| d.starts_with("Not sure: what consumers want")), "{of_card:?}");
        assert_eq!(sentences("One 0.5 is. *Two*\ngoes on.\n\n- Three"), ["One 0.5 is.", "Two goes on.", "Three"]);
        assert!(doubts("zip").is_empty());
    }
}
