#![no_main]
//! The headers of every family of cartridges: the first byte chooses one, and where its header would stand.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener, likelihood};
use decanter_core::source::Bytes;
use decanter_formats::cartridge::{gb, gba, md, n64, nds, nes, pce, sms, snes};
use decanter_formats::REGISTRY;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let families: [(&dyn Format, usize); 9] = [
        (&gb::GAME_BOY, 0x100),
        (&gba::GAME_BOY_ADVANCE, 0),
        (&md::MEGA_DRIVE, 0x100),
        (&n64::NINTENDO_64, 0),
        (&nds::NINTENDO_DS, 0),
        (&nes::NES, 0),
        (&pce::PC_ENGINE, 0x1e00),
        (&sms::MASTER_SYSTEM, 0x7ff0),
        (&snes::SNES, 0x7fb0),
    ];
    let (family, place) = families[usize::from(which) % families.len()];
    // Sizes as ROMs have them, so that more than the length is looked at.
    let mut bytes = vec![0; (place + data.len()).next_multiple_of(0x8000)];
    bytes[place..place + data.len()].copy_from_slice(data);
    if which & 0x80 != 0 {
        bytes.truncate(place + data.len());
    }
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let source = Arc::new(Bytes(bytes));
    if !matches!(likelihood(family, &decanter_core::Head::new(source.as_ref())), Ok(Some(_))) {
        return;
    }
    let Ok(opened) = family.open(source, &opener) else { return };
    for form in opened.holds.rom.iter().flat_map(|r| &r.forms) {
        let len = form.source.len();
        let _ = form.source.read_at(len / 2, &mut vec![0; (len - len / 2).min(64) as usize]);
    }
});
