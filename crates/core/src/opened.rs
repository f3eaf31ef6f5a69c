//! What is known of a source that was opened, in parts that travel together.

use crate::catalogue::Catalogue;
use crate::error::{KeyTrouble, Result};
use crate::expectation::Expectation;
use crate::keyring::Keyring;
use crate::label::Label;
use crate::patch::Patch;
use crate::protection::{KeyState, Protection};
use crate::role::Role;
use crate::rom::Rom;
use crate::seal::{Sealed, Settled};
use crate::source::SourceRef;
use crate::title::HeldTitle;
pub use crate::title::TitlePart;
use crate::track::Track;
use crate::tree::Tree;
use crate::watch::{Notice, Watch};
use serde::Serialize;
use std::ops::Range;
use std::sync::Arc;

/// A source that was opened as some format.
#[derive(Clone)]
pub struct Opened {
    /// What it is.
    pub identity: Identity,
    /// What it says of itself.
    pub told: Told,
    /// How much of the source it takes, and where.
    pub extent: Extents,
    /// Whether and how it is encrypted.
    pub protection: Option<Protection>,
    /// What its own bytes can be proven by.
    pub proof: Proof,
    /// What is in it.
    pub holds: Holds,
}

/// What a source is.
#[derive(Debug, Clone)]
pub struct Identity {
    /// The format's id.
    pub format: &'static str,
    /// What that is for: the opener says so.
    pub role: Role,
    /// What it is, in a few words.
    pub kind: String,
    /// Its title, as it says itself.
    pub title: Option<String>,
    /// The id that its platform gave it.
    pub id: Option<String>,
    /// Which other sources it goes with, and as what.
    pub belongs: Option<Belongs>,
}

/// What a source is among those of the same title.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Belongs {
    /// What all of them have in common, as people write it: "titles 0f1e2d".
    pub to: String,
    /// Which of them it is.
    pub part: TitlePart,
}

/// What a source says of itself.
#[derive(Clone, Default)]
pub struct Told {
    /// Title, id, version and so on, in the order in which they are shown.
    pub facts: Vec<Fact>,
    /// Every named value of a record, in its own order.
    pub parameters: Vec<(String, String)>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
    /// Titles and pictures that it carries.
    pub label: Option<Label>,
}

/// How much of a source is taken, and by what.
#[derive(Clone, Default)]
pub struct Extents {
    /// Bytes of a block as the source itself counts them; without it, 2,048.
    pub unit: Option<u64>,
    /// Length that the headers promise, in bytes.
    pub promised_len: Option<u64>,
    /// Bytes of a file system that belong to nothing yet.
    pub free: Option<u64>,
    /// Named stretches of the source.
    pub regions: Vec<Region>,
    /// What the file system itself takes of the source (or of the volume, where there is one): descriptors, folders.
    pub structure: Vec<Range<u64>>,
}

/// What proves the bytes of a source.
#[derive(Clone, Default)]
pub struct Proof {
    /// Stretches with the digests that it carries of them.
    pub sealed: Vec<Sealed>,
    /// What its headers say of each other, and whether that holds.
    pub settled: Vec<Settled>,
    /// Checks that take more than headers.
    pub inspections: Vec<Inspect>,
    /// The same for what every reading checks anyway: only who asks whether all of it is sound runs these.
    pub on_reading: Vec<Inspect>,
    /// What none of these says anything about, though it should: then nothing is sound.
    pub untried: Vec<String>,
}

/// What is in a source: most of it is absent.
#[derive(Clone)]
pub struct Holds {
    /// The files inside.
    pub tree: Option<Tree>,
    /// Further files, which it takes looking into what is inside to know: asked for by who lists or copies them.
    pub more: Option<More>,
    /// The titles, where several may stand in one source or go together with others.
    pub titles: Vec<HeldTitle>,
    /// Keys that it carries for what is in it, with those that it was opened with.
    pub keys: Option<Arc<Keyring>>,
    /// Whether they are called there as they are called; a compressed image does not know what its image is called.
    pub has_own_names: bool,
    /// The logical sectors of 2,048 bytes, where the source has other bytes around them.
    pub volume: Option<SourceRef>,
    /// The tracks, if it is an image of a CD with all bytes of its sectors.
    pub tracks: Vec<Track>,
    /// What it was pressed on, where its content shows that.
    pub disc: Option<Disc>,
    /// Whether a UDF volume stands beside another file system with the same files.
    pub is_bridge: bool,
    /// The ROM, if it is one.
    pub rom: Option<Rom>,
    /// The patch, if it is one.
    pub patch: Option<Arc<dyn Patch>>,
    /// What some other source should hold, if this is a description of one.
    pub expectation: Option<Arc<Expectation>>,
    /// What many other sources should hold, if this is a list of them.
    pub catalogue: Option<Arc<Catalogue>>,
}

/// Looks for further files in a source; says what was noticed.
pub type More = Arc<dyn Fn() -> Result<(Tree, Vec<String>)> + Send + Sync>;

/// What an image was pressed on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Disc {
    /// A CD.
    Cd,
    /// A DVD.
    Dvd,
}

/// Checks that are made when somebody asks whether a source is sound: chains, allocation maps, checksums of blocks.
pub type Inspect = Arc<dyn Fn(&dyn Watch) -> Result<Vec<Settled>> + Send + Sync>;

/// Something known about a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Fact {
    /// What it is: "title", "id", "version".
    pub name: &'static str,
    /// Its value, as it is shown.
    pub value: String,
}

/// A named stretch of a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Region {
    /// Byte range.
    pub range: Range<u64>,
    /// True where the medium carries ciphertext.
    pub encrypted: bool,
}

impl Opened {
    /// One of `format` with nothing known yet.
    pub fn new(format: &'static str, kind: impl Into<String>) -> Self {
        Self {
            identity: Identity { format, role: Role::Unknown, kind: kind.into(), title: None, id: None, belongs: None },
            told: Told::default(),
            extent: Extents::default(),
            protection: None,
            proof: Proof::default(),
            holds: Holds::default(),
        }
    }

    /// The same, for what is of no format in the registry.
    pub fn with_role(mut self, role: Role) -> Self {
        self.identity.role = role;
        self
    }

    /// Adds a fact, unless it is empty.
    pub fn fact(&mut self, name: &'static str, value: impl Into<String>) {
        let value = value.into();
        if !value.is_empty() {
            self.told.facts.push(Fact { name, value });
        }
    }

    /// Says its title, unless that is empty: as a fact too.
    pub fn titled(&mut self, title: impl Into<String>) {
        self.fact("title", title);
        self.identity.title = self.get("title").map(str::to_owned);
    }

    /// Says its id, unless that is empty: as a fact too.
    pub fn identified(&mut self, id: impl Into<String>) {
        self.fact("id", id);
        self.identity.id = self.get("id").map(str::to_owned);
    }

    /// Says what it belongs to: as a fact too.
    pub fn belonging(&mut self, to: impl Into<String>, part: TitlePart) {
        let to = to.into();
        self.fact("belongs to", to.clone());
        self.identity.belongs = Some(Belongs { to, part });
    }

    /// The value of the fact called `name`.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.told.facts.iter().find(|f| f.name == name).map(|f| f.value.as_str())
    }

    /// Adds a notice.
    pub fn notice(&mut self, text: impl Into<String>) {
        self.told.notices.push(Notice::new(text));
    }

    /// Adds a notice that tells of damage.
    pub fn damage(&mut self, text: impl Into<String>) {
        self.told.notices.push(Notice::damage(text));
    }

    /// The trouble with the key without which not even the names of its files are known.
    pub fn closed_by(&self) -> Option<&KeyTrouble> {
        match self.protection.as_ref().map(|p| &p.key) {
            Some(KeyState::Trouble(trouble)) if self.holds.tree.is_none() => Some(trouble),
            _ => None,
        }
    }

    /// Looks for the files that it takes looking into what is inside to know, and adds them to the tree.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn look_inside(&mut self) -> Result<()> {
        if let Some(more) = self.holds.more.take() {
            let (tree, notices) = more()?;
            self.holds.tree.get_or_insert_default().nodes.extend(tree.nodes);
            notices.into_iter().for_each(|n| self.notice(n));
        }
        Ok(())
    }

    /// Takes over all that is known of what is inside: what it is stays, lists grow, and what this one has itself goes
    /// before what the inner one has, but for the files, the protection and the length, which the inner one knows better.
    pub fn wrap(&mut self, inner: Opened) {
        // Field by field, so that none is forgotten when one is added.
        let Opened { identity, told, extent, protection, proof, holds } = inner;
        let Identity { format: _, role: _, kind: _, title, id, belongs } = identity;
        self.identity.title = self.identity.title.take().or(title);
        self.identity.id = self.identity.id.take().or(id);
        self.identity.belongs = self.identity.belongs.take().or(belongs);
        let Told { facts, parameters, notices, label } = told;
        self.told.facts.extend(facts);
        self.told.parameters.extend(parameters);
        self.told.notices.extend(notices);
        self.told.label = self.told.label.take().or(label);
        let Extents { unit, promised_len, free, regions, structure } = extent;
        self.extent.unit = self.extent.unit.or(unit);
        self.extent.promised_len = promised_len.or(self.extent.promised_len);
        self.extent.free = self.extent.free.or(free);
        self.extent.regions.extend(regions);
        self.extent.structure.extend(structure);
        self.protection = protection.or(self.protection.take());
        let Proof { sealed, settled, inspections, on_reading, untried } = proof;
        self.proof.sealed.extend(sealed);
        self.proof.settled.extend(settled);
        self.proof.inspections.extend(inspections);
        self.proof.on_reading.extend(on_reading);
        self.proof.untried.extend(untried);
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
        self.holds.disc = self.holds.disc.or(disc);
        self.holds.is_bridge |= is_bridge;
        self.holds.has_own_names &= has_own_names;
        self.holds.tree = tree.or(self.holds.tree.take());
        self.holds.more = more.or(self.holds.more.take());
        self.holds.titles.extend(titles);
        self.holds.keys = keys.or(self.holds.keys.take());
        self.holds.volume = self.holds.volume.take().or(volume);
        if self.holds.tracks.is_empty() {
            self.holds.tracks = tracks;
        }
        self.holds.rom = self.holds.rom.take().or(rom);
        self.holds.patch = self.holds.patch.take().or(patch);
        self.holds.expectation = self.holds.expectation.take().or(expectation);
        self.holds.catalogue = self.holds.catalogue.take().or(catalogue);
    }
}

impl Proof {
    /// Whether there is anything to check.
    pub fn is_empty(&self) -> bool {
        let Self { sealed, settled, inspections, on_reading, untried: _ } = self;
        sealed.is_empty() && settled.is_empty() && inspections.is_empty() && on_reading.is_empty()
    }
}

impl Default for Holds {
    fn default() -> Self {
        Self {
            tree: None,
            more: None,
            titles: Vec::new(),
            keys: None,
            has_own_names: true,
            volume: None,
            tracks: Vec::new(),
            disc: None,
            is_bridge: false,
            rom: None,
            patch: None,
            expectation: None,
            catalogue: None,
        }
    }
}
