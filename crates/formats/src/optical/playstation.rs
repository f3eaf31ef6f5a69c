//! PS1 and PS2 discs: an ISO 9660 volume with a text, SYSTEM.CNF, that names the program to start.
//!
//! Layout, checks and what is not sure: docs/formats/playstation-disc.md.

use super::cd::{MOST_SECTORS, is_mode_2_volume};
use super::iso9660::{root_has, system_id};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::{Disc, Opened};
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef};
use decanter_core::{Result, SECTOR};

const ID: &str = "ps-disc";
/// The text that names the program.
const SETTINGS: &str = "SYSTEM.CNF";
/// The program of PS1 discs without such a text.
const PROGRAM: &str = "PSX.EXE";
/// System identifier of the volume.
const SYSTEM: &str = "PLAYSTATION";
/// The text is a few lines long.
const MOST_SETTINGS: u64 = 16 << 10;
/// First letters of ids by region: the third letter of the prefix.
const REGIONS: [(char, &str); 6] =
    [('U', "North America"), ('E', "Europe"), ('P', "Japan"), ('J', "Japan"), ('K', "Korea"), ('A', "Asia")];

/// The format.
pub struct PlayStationDisc;

impl Format for PlayStationDisc {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PS1 or PS2 disc image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Disc)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["iso"]
    }

    fn reads(&self) -> &'static str {
        "CDs and DVDs; id, version, video mode and program from SYSTEM.CNF"
    }

    fn marks(&self) -> &'static [Mark] {
        &[super::iso9660::MARK]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        let Some(system) = system_id(source)? else { return Ok(None) };
        let starts = root_has(source, SETTINGS)? || (system == SYSTEM && root_has(source, PROGRAM)?);
        Ok(starts.then_some(75))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut inner = opener.open_among(source.clone(), &|f| f.id() != ID)?;
        let tree = inner.holds.tree.take().unwrap_or_default();
        let settings = tree.read(SETTINGS, MOST_SETTINGS).unwrap_or_default().unwrap_or_default();
        let settings = String::from_utf8_lossy(&settings).into_owned();
        let value = |name: &str| {
            let mut lines = settings.lines().filter_map(|l| l.split_once('='));
            lines.find(|(n, _)| n.trim().eq_ignore_ascii_case(name)).map(|(_, v)| v.trim().to_owned())
        };
        let (kind, program) = match (value("BOOT2"), value("BOOT")) {
            (Some(program), _) => ("PS2 disc image", program),
            (None, Some(program)) => ("PS1 disc image", program),
            (None, None) if tree.find(PROGRAM).is_some() => ("PS1 disc image", PROGRAM.to_owned()),
            (None, None) => {
                inner.holds.tree = Some(tree);
                return Ok(inner);
            }
        };
        let mut opened = Opened::new(ID, kind);
        let path = program_path(&program);
        let id = id_of(&path);
        opened.identified(id.clone().unwrap_or_default());
        opened.fact("version", value("VER").unwrap_or_default());
        opened.fact("region", id.and_then(|id| region(&id)).unwrap_or_default());
        opened.fact("video", value("VMODE").unwrap_or_default());
        match tree.find(&path).or_else(|| tree.find(path.trim_end_matches(";1"))) {
            Some(node) => opened.fact("starts", node.path.clone()),
            None => opened.notice(format!("{SETTINGS} starts \"{program}\", which is not on the disc")),
        }
        if kind == "PS2 disc image" {
            let (disc, how) = medium(source.as_ref(), inner.holds.is_bridge)?;
            opened.fact("medium", how);
            opened.holds.disc = Some(disc);
        }
        opened.wrap(inner);
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// The path in `cdrom0:\SLUS_123.45;1`, as the volume spells it.
fn program_path(program: &str) -> String {
    let program = program.split_whitespace().next().unwrap_or_default();
    let path = program.rsplit_once(':').map_or(program, |(_, p)| p);
    path.split(';').next().unwrap_or(path).trim_start_matches(['\\', '/']).replace('\\', "/")
}

/// The id in a program's name: `SLUS_123.45` is `SLUS-12345`.
fn id_of(path: &str) -> Option<String> {
    let name = path.rsplit('/').next()?;
    let letters: String = name.chars().take_while(char::is_ascii_alphabetic).collect();
    let digits: String = name[letters.len()..].chars().filter(char::is_ascii_digit).collect();
    let rest = name[letters.len()..].trim_start_matches(['_', '-']).replace('.', "");
    (letters.len() == 4 && digits.len() == 5 && rest == digits).then(|| format!("{}-{digits}", letters.to_uppercase()))
}

/// The region that an id's third letter stands for.
pub(super) fn region(id: &str) -> Option<&'static str> {
    let letter = id.chars().nth(2)?;
    REGIONS.iter().find(|(l, _)| *l == letter).map(|(_, name)| *name)
}

/// CD or DVD, and how that is known.
fn medium(source: &dyn Source, has_udf: bool) -> Result<(Disc, &'static str)> {
    let xa = is_mode_2_volume(source)?;
    Ok(if has_udf {
        (Disc::Dvd, "DVD (it has a UDF volume beside ISO 9660)")
    } else if source.len() / SECTOR > MOST_SECTORS {
        (Disc::Dvd, "DVD (it has more sectors than a CD can)")
    } else if xa {
        (Disc::Cd, "CD (its descriptor says CD-XA001: sectors of mode 2)")
    } else {
        (Disc::Cd, "CD, probably (neither UDF nor the mark of mode 2 sectors, and small enough)")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn programs_and_ids() {
        assert_eq!(program_path("cdrom0:\\DCNT_200.07;1"), "DCNT_200.07");
        assert_eq!(program_path("cdrom:\\GAME\\MAIN.EXE;1 arg"), "GAME/MAIN.EXE");
        assert_eq!(id_of("DCUT_200.07").as_deref(), Some("DCUT-20007"));
        assert_eq!(id_of("MAIN.EXE"), None);
        assert_eq!(region("DCUT-20007"), Some("North America"));
    }
}
