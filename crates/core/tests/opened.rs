//! Taking over what was opened inside: every field of it survives.

use decanter_core::catalogue::Catalogue;
use decanter_core::expectation::Expectation;
use decanter_core::label::Label;
use decanter_core::opened::{Disc, Region, TitlePart};
use decanter_core::patch::{End, Patch};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::rom::{Rom, SaveKind, SaveMemory, Shape};
use decanter_core::seal::{Sealed, Settled};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::title::HeldTitle;
use decanter_core::track::{Track, TrackKind};
use decanter_core::{Keyring, Notice, Opened, Result, Tree};
use std::ops::Range;
use std::sync::Arc;

struct NoPatch;

impl Patch for NoPatch {
    fn source(&self) -> End {
        End { len: None, crc32: None }
    }
    fn target(&self) -> End {
        End { len: None, crc32: None }
    }
    fn records(&self) -> u64 {
        0
    }
    fn touches(&self) -> Vec<Range<u64>> {
        Vec::new()
    }
    fn apply(&self, source: &SourceRef) -> Result<SourceRef> {
        Ok(source.clone())
    }
    fn undo(&self, target: &SourceRef) -> Result<SourceRef> {
        Ok(target.clone())
    }
}

fn bytes() -> SourceRef {
    Arc::new(Bytes(vec![7; 16]))
}

/// One in which every field has something.
fn full() -> Opened {
    let mut full = Opened::new("inner", "the inner one").with_role(Role::Rom);
    full.titled("Fogbell");
    full.identified("DCNT-10001");
    full.belonging("titles 0f1e2d", TitlePart::Update);
    full.holds.disc = Some(Disc::Dvd);
    full.holds.is_bridge = true;
    full.told.parameters.push(("TITLE".into(), "Fogbell".into()));
    full.told.notices.push(Notice::new("the tide is out"));
    full.told.label =
        Some(Label { titles: vec![("English", "Fogbell".into())], pictures: Vec::new(), packed: Vec::new() });
    full.extent.unit = Some(512);
    full.extent.promised_len = Some(16);
    full.extent.free = Some(8);
    full.extent.regions.push(Region { range: 0..8, encrypted: false });
    full.extent.structure.push(0..4);
    full.protection = Some(Protection {
        state: State::Decrypted,
        evidence: "it reads well".into(),
        key: KeyState::NotNeeded,
        unseal: None,
        seal: None,
        clear: None,
        has_clear_form: true,
        clear_as_it_is: None,
    });
    full.proof.sealed.push(Sealed {
        name: "all of it".into(),
        source: bytes(),
        transform: None,
        locked: Vec::new(),
        trouble: None,
        seals: Vec::new(),
        examine: None,
    });
    full.proof.settled.push(Settled::holds("the header"));
    full.proof.inspections.push(Arc::new(|_| Ok(Vec::new())));
    full.proof.on_reading.push(Arc::new(|_| Ok(Vec::new())));
    full.proof.untried.push("the tide table".into());
    full.holds.tree = Some(Tree::default());
    full.holds.more = Some(Arc::new(|| Ok((Tree::default(), Vec::new()))));
    full.holds.keys = Some(Arc::new(Keyring::default()));
    full.holds.titles.push(HeldTitle {
        id: "0500000000010000".into(),
        family: "0500000000010000".into(),
        part: TitlePart::Program,
        number: None,
        version: 0,
        version_text: "v0".into(),
        needs: None,
        missing: Vec::new(),
        mark: "a".into(),
        bytes: 1,
    });
    full.holds.has_own_names = false;
    full.holds.volume = Some(bytes());
    full.holds.tracks.push(Track {
        number: 1,
        kind: TrackKind::Mode1,
        file: String::new(),
        first_sector: 0,
        gap_sectors: 0,
        pregap_sectors: 0,
        source: bytes(),
        sector_len: 2352,
    });
    full.holds.rom = Some(Rom {
        body: bytes(),
        form: "gb",
        forms: Vec::new(),
        through: None,
        prefix: Vec::new(),
        declared: None,
        chip: None,
        shape: Shape::Complete,
        checks: Vec::new(),
        save: SaveMemory::new(SaveKind::None, &[], "nothing"),
    });
    full.holds.patch = Some(Arc::new(NoPatch));
    full.holds.expectation = Some(Arc::new(Expectation::default()));
    full.holds.catalogue = Some(Arc::new(Catalogue::default()));
    full
}

/// Which fields have something, by name. The patterns name every field: a new one does not compile until it is here.
fn filled(opened: &Opened) -> Vec<(&'static str, bool)> {
    use decanter_core::opened::{Extents, Holds, Identity, Proof, Told};
    let Opened { identity, told, extent, protection, proof, holds } = opened;
    let Identity { format: _, role: _, kind: _, title, id, belongs } = identity;
    let Told { facts, parameters, notices, label } = told;
    let Extents { unit, promised_len, free, regions, structure } = extent;
    let Proof { sealed, settled, inspections, on_reading, untried } = proof;
    let Holds {
        tree,
        more,
        titles,
        keys,
        has_own_names,
        volume,
        tracks,
        disc,
        is_bridge,
        rom,
        patch,
        expectation,
        catalogue,
    } = holds;
    vec![
        ("title", title.is_some()),
        ("id", id.is_some()),
        ("belongs", belongs.is_some()),
        ("facts", !facts.is_empty()),
        ("parameters", !parameters.is_empty()),
        ("notices", !notices.is_empty()),
        ("label", label.is_some()),
        ("unit", unit.is_some()),
        ("promised_len", promised_len.is_some()),
        ("free", free.is_some()),
        ("regions", !regions.is_empty()),
        ("structure", !structure.is_empty()),
        ("protection", protection.is_some()),
        ("sealed", !sealed.is_empty()),
        ("settled", !settled.is_empty()),
        ("inspections", !inspections.is_empty()),
        ("on_reading", !on_reading.is_empty()),
        ("untried", !untried.is_empty()),
        ("tree", tree.is_some()),
        ("more", more.is_some()),
        ("titles", !titles.is_empty()),
        ("keys", keys.is_some()),
        ("has_own_names", !has_own_names),
        ("volume", volume.is_some()),
        ("disc", disc.is_some()),
        ("is_bridge", *is_bridge),
        ("tracks", !tracks.is_empty()),
        ("rom", rom.is_some()),
        ("patch", patch.is_some()),
        ("expectation", expectation.is_some()),
        ("catalogue", catalogue.is_some()),
    ]
}

#[test]
fn nothing_that_the_inner_one_knows_is_dropped() {
    let mut outer = Opened::new("outer", "the outer one").with_role(Role::Wrapper);
    assert!(filled(&outer).iter().all(|(_, is_filled)| !is_filled));
    outer.wrap(full());
    for (field, is_filled) in filled(&outer) {
        assert!(is_filled, "{field} is dropped");
    }
    assert_eq!((outer.identity.format, outer.identity.role), ("outer", Role::Wrapper), "what it is stays");
}

#[test]
fn lists_grow_and_both_sides_of_them_stay() {
    let mut outer = full();
    outer.fact("volume", "TIDE");
    outer.wrap(full());
    assert_eq!(
        outer.told.facts.iter().map(|f| f.name).collect::<Vec<_>>(),
        ["title", "id", "belongs to", "volume", "title", "id", "belongs to"]
    );
    assert_eq!((outer.proof.settled.len(), outer.proof.sealed.len(), outer.proof.inspections.len()), (2, 2, 2));
    assert_eq!((outer.extent.structure.len(), outer.told.notices.len()), (2, 2));
    assert_eq!(outer.holds.tracks.len(), 1, "the tracks are those of the outer one");
    assert_eq!(outer.get("title"), Some("Fogbell"));
}
