//! Platforms: which machine a source was made for, by what it was recognised as.

use crate::Item;

/// A machine that sources are made for.
#[derive(Debug)]
pub struct Platform {
    /// Its name in profiles.
    pub id: &'static str,
    /// What people call it.
    pub name: &'static str,
    /// Formats (empty: any) and how the kind of the source begins (empty: any); one of these has to fit.
    marks: &'static [(&'static str, &'static str)],
}

impl Platform {
    const fn new(id: &'static str, name: &'static str, marks: &'static [(&'static str, &'static str)]) -> Self {
        Self { id, name, marks }
    }

    /// The one with this name.
    pub fn named(id: &str) -> Option<&'static Self> {
        PLATFORMS.iter().find(|p| p.id == id)
    }

    /// The one that a source was made for; `None` for what is of no machine.
    pub(crate) fn of(item: &Item) -> Option<&'static Self> {
        let identity = &item.opened.identity;
        let fits = |(format, kind): &(&str, &str)| {
            (format.is_empty() || *format == identity.format) && identity.kind.starts_with(kind)
        };
        PLATFORMS.iter().find(|p| p.marks.iter().any(fits))
    }
}

/// All of them; what fits several belongs to the first.
pub static PLATFORMS: [Platform; 25] = [
    Platform::new("gb", "Game Boy", &[("gb", "")]),
    Platform::new("gba", "Game Boy Advance", &[("gba", "")]),
    Platform::new("nds", "Nintendo DS", &[("nds", "")]),
    Platform::new("3ds", "3DS", &[("3ds", ""), ("cia", "")]),
    Platform::new("nes", "NES", &[("nes", "")]),
    Platform::new("snes", "SNES", &[("snes", "")]),
    Platform::new("n64", "Nintendo 64", &[("n64", "")]),
    Platform::new("switch", "Switch", &[("nsp", ""), ("xci", "")]),
    Platform::new("md", "Mega Drive", &[("md", "")]),
    Platform::new("sms", "Master System", &[("sms", "Master System")]),
    Platform::new("gg", "Game Gear", &[("sms", "Game Gear")]),
    Platform::new("pce", "PC Engine", &[("pce", "")]),
    Platform::new("ps1", "PS1", &[("", "PS1")]),
    Platform::new("ps2", "PS2", &[("ps2-classics", ""), ("", "PS2")]),
    Platform::new("psp", "PSP", &[("psp-disc", "")]),
    Platform::new("ps3", "PS3", &[("ps3-disc", ""), ("pkg", "PS3")]),
    Platform::new("ps4", "PS4", &[("ps4-pkg", "")]),
    Platform::new("xbox360", "Xbox 360", &[("xdvdfs", "Xbox 360"), ("god", ""), ("stfs", "")]),
    Platform::new("xbox", "Xbox", &[("xdvdfs", "")]),
    Platform::new("c64", "C64", &[("d64", ""), ("d71", ""), ("d81", ""), ("crt", ""), ("prg", ""), ("t64", "")]),
    Platform::new("amiga", "Amiga", &[("adf", ""), ("hdf", ""), ("rdb", ""), ("lha", ""), ("lzx", "")]),
    Platform::new("cd", "CDs of no console", &[("cd-raw", ""), ("cue", "")]),
    Platform::new("disc", "discs of no console", &[("iso9660", ""), ("high-sierra", ""), ("udf", "")]),
    Platform::new("drive", "hard drives", &[("mbr", ""), ("gpt", "")]),
    Platform::new("volume", "sticks and partitions", &[("fat", ""), ("exfat", ""), ("ntfs", ""), ("ext", "")]),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_unique_and_every_format_named_is_known() {
        for (at, platform) in PLATFORMS.iter().enumerate() {
            assert!(PLATFORMS[..at].iter().all(|p| p.id != platform.id), "{}", platform.id);
            for (format, _) in platform.marks {
                assert!(format.is_empty() || decanter_formats::REGISTRY.get(format).is_some(), "{format}");
            }
        }
    }
}
