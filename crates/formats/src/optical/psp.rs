//! PSP discs: an ISO 9660 volume with UMD_DATA.BIN and a folder PSP_GAME.
//!
//! Layout, checks and what is not sure: docs/formats/psp-disc.md.

use super::iso9660::{root_has, system_id};
use super::playstation::region;
use crate::record::sfo;
use decanter_core::Result;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::SourceRef;

const ID: &str = "psp-disc";
/// The disc's id and kind, in a line of text.
const DATA: &str = "UMD_DATA.BIN";
/// The parameter files, the game's first.
const PARAMETERS: [&str; 2] = ["PSP_GAME/PARAM.SFO", "UMD_VIDEO/PARAM.SFO"];
const ICON: &str = "PSP_GAME/ICON0.PNG";
const SYSTEM: &str = "PSP GAME";

/// The format.
pub struct PspDisc;

impl Format for PspDisc {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PSP disc image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Disc)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["iso"]
    }

    fn reads(&self) -> &'static str {
        "title, id, version, region and icon"
    }

    fn marks(&self) -> &'static [Mark] {
        &[super::iso9660::MARK]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        let Some(system) = system_id(source)? else { return Ok(None) };
        Ok((system == SYSTEM || root_has(source, DATA)?).then_some(76))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut inner = opener.open_among(source, &|f| f.id() != ID)?;
        let tree = inner.holds.tree.take().unwrap_or_default();
        let mut opened = Opened::new(ID, "PSP disc image");
        let data = tree.read(DATA, 4096).unwrap_or_default().unwrap_or_default();
        let data = String::from_utf8_lossy(&data).into_owned();
        let mut fields = data.split('|').map(|f| f.trim_matches(['\0', ' ', '\r', '\n']));
        let data_id = fields.next().unwrap_or_default().to_owned();
        let parameters = sfo::in_tree(&mut opened, &tree, &PARAMETERS, opener)?;
        let parameter = |name: &str| {
            let values = parameters.iter().flat_map(|p| &p.told.parameters);
            values.into_iter().find(|(n, _)| n == name).map(|(_, v)| v.clone()).unwrap_or_default()
        };
        let disc_id = parameter("DISC_ID");
        let id = if data_id.is_empty() { spelled(&disc_id) } else { data_id.clone() };
        let same = |a: &str, b: &str| decanter_core::keyring::plain(a) == decanter_core::keyring::plain(b);
        if !data_id.is_empty() && !disc_id.is_empty() && !same(&data_id, &disc_id) {
            opened.notice(format!("{DATA} says {data_id}, the parameter file says {disc_id}"));
        }
        opened.titled(parameter("TITLE"));
        opened.fact("region", region(&id).unwrap_or_default());
        opened.identified(id);
        opened.fact("version", parameter("DISC_VERSION"));
        opened.fact("needs system", parameter("PSP_SYSTEM_VER"));
        opened.fact("icon", if tree.find(ICON).is_some() { ICON } else { "" });
        opened.wrap(inner);
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// `DCUS10007` as `DCUS-10007`.
fn spelled(id: &str) -> String {
    match id.is_char_boundary(4) && id.len() == 9 {
        true => format!("{}-{}", &id[..4], &id[4..]),
        false => id.to_owned(),
    }
}
