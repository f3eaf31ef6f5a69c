//! A title of the GBA mode: its program is the ROM itself, with its settings.

use super::MOST_CONTENT;
use super::ready::Title3ds;
use crate::convert::handheld::meta;
use crate::{Setting, locate};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Keyring, Result, pour};
use decanter_formats::package::n3ds::cia::ticket::Ticket;
use decanter_formats::package::n3ds::cia::tmd::{Record, Tmd};
use decanter_formats::package::n3ds::cia::{self, Inner, Making};
use decanter_formats::package::n3ds::gba_title::save_room;
use decanter_formats::package::n3ds::ncch::{self, Content};
use decanter_formats::package::n3ds::{gba_mode, gba_title};
use std::sync::Arc;

/// A package of the GBA mode.
pub(super) fn package(ready: &Title3ds, certificates: Option<SourceRef>, setting: &Setting<'_>) -> Result<Blueprint> {
    let logo = ready.recipe.named(ready.title.logo.as_deref()).map(|p| locate::bytes(&p, setting)).transpose()?;
    let code = gba_mode::code(&ready.rom, &ready.settings)?;
    let save = ready.settings.save;
    let parts = gba_title::parts(gba_title::Title {
        id: ready.id,
        code,
        game_code: &ready.game_code,
        label: &ready.smdh,
        save,
        logo,
    });
    let bytes = pour::to_memory(&ncch::compose(&parts)?, MOST_CONTENT, setting.watch)?;
    let source: SourceRef = Arc::new(Bytes(bytes));
    let content = Content::read(&source, &Keyring::default())?;
    let meta = meta(&content, content.extended()?.as_ref())?;
    let mut tmd = Tmd::new(ready.id, 0, save_room(save) as u32);
    let record = Record { id: 0, index: 0, kind: 0, len: source.len(), hash: [0; 32] };
    tmd.records.push(record.clone());
    cia::compose(Making {
        certificates,
        ticket: Ticket::new(ready.id, 0),
        tmd,
        contents: vec![Inner { record, source, proof: None }],
        meta: Some(meta),
    })
}
