//! Packages of the PlayStation 3 generation. Layout, checks and what is not sure: docs/formats/pkg.md.

mod compose;
pub mod header;
pub mod items;
mod proof;
mod raw;
mod sha1_lanes;
mod stream;
mod tell;

pub use compose::{Making, compose, compose_early};
pub use tell::{LANGUAGES, PARAMETERS};

use super::keys::{self, Role as KeyRole};
use decanter_core::Result;
use decanter_core::error::KeyTrouble;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::KeyState;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef};
use decanter_core::tree::Tree;
use decanter_core::view::{Locked, Slice};
use header::Header;
use items::{Area, Item, View};
use std::sync::Arc;
use stream::Stream;

pub(crate) const ID: &str = "pkg";
/// Entries of the table by which a key is judged.
const JUDGED: usize = 16;

/// The format.
pub struct Pkg;
/// The one instance.
pub static PACKAGE: Pkg = Pkg;

/// A package, opened.
pub struct Package {
    /// Header and metadata.
    pub header: Header,
    /// The items; none where the key is missing.
    pub items: Vec<Item>,
    /// The data area, where it can be read.
    area: Option<Area>,
    /// What is known of the key.
    pub key: KeyState,
    /// What proves its table right or wrong, whatever the table says.
    mac_holds: Option<bool>,
    /// Why there are no items, in words.
    pub closed: Option<String>,
}

impl Package {
    /// Opens a package.
    ///
    /// # Errors
    /// For a header or a table that cannot be right, and what reading fails with.
    pub fn read(source: &SourceRef, keys: &Keyring) -> Result<Self> {
        let header = Header::read(source.as_ref())?;
        let (data_at, data_len) = (header.raw.data_at.get(), header.raw.data_len.get());
        let there = source.len().saturating_sub(data_at).min(data_len);
        let stored: SourceRef = Arc::new(Slice::new(source.clone(), data_at.min(source.len()), there)?);
        let mut own =
            Self { header, items: Vec::new(), area: None, key: KeyState::NotNeeded, mac_holds: None, closed: None };
        let count = u64::from(own.header.raw.items.get());
        if count.saturating_mul(items::ENTRY) > there && there < data_len {
            own.closed = Some("it ends before its table of items does".into());
            return Ok(own);
        }
        if own.header.is_finalized() {
            own.unlock(&stored, keys, count, data_len)?;
        } else {
            let source = Stream::Debug { seed: own.header.raw.digest }.over(stored)?;
            let view = View { source, trouble: None };
            own.fill(Area { own: view.clone(), psp: view }, count, data_len)?;
        }
        Ok(own)
    }

    fn fill(&mut self, area: Area, count: u64, data_len: u64) -> Result<()> {
        let entries = items::table(&self.table_view(&area).source, count, data_len)?;
        self.items = items::read(&entries, &area, data_len)?;
        self.area = Some(area);
        Ok(())
    }

    /// What the table is under.
    fn table_view<'a>(&self, area: &'a Area) -> &'a View {
        if self.header.is_handheld() { &area.psp } else { &area.own }
    }

    /// Opens the data area of a finalized package, if the keys for it are there and right.
    fn unlock(&mut self, stored: &SourceRef, keys: &Keyring, count: u64, data_len: u64) -> Result<()> {
        if let 2..=4 = self.header.key_number {
            self.closed = Some(format!(
                "its items are under key {} of the PS Vita, which is not read here",
                self.header.key_number
            ));
            return Ok(());
        }
        let (main, other) = match self.header.is_handheld() {
            true => (KeyRole::PspPackage, KeyRole::Package),
            false => (KeyRole::Package, KeyRole::PspPackage),
        };
        let what = match self.header.content_id() {
            id if id.is_empty() => "this package".to_owned(),
            id => id,
        };
        let (key, origin) = match keys::find(keys, main, &what) {
            Ok(found) => found,
            Err(trouble) => {
                self.key = KeyState::Trouble(trouble);
                return Ok(());
            }
        };
        let view = self.view(stored, Ok(key.clone()))?;
        let entries = items::table(&view.source, count, data_len)?;
        let judged = &entries[..entries.len().min(JUDGED)];
        let is_plausible = judged.iter().any(|e| items::is_plausible(e, count, data_len));
        self.mac_holds = self.header.mac_holds(&key)?;
        if self.header.is_handheld() && self.mac_holds == Some(false) {
            // Under which key that stands on this platform is not known for sure.
            let holds = keys::find(keys, other, &what).map(|(key, _)| self.header.mac_holds(&key));
            self.mac_holds = holds.unwrap_or(Ok(None))?.filter(|holds| *holds);
        }
        let proof = match (self.mac_holds, is_plausible) {
            (Some(true), _) => Some("the CMAC of its header"),
            (_, true) => Some("the table of its items"),
            (None, false) if judged.is_empty() => None,
            _ => {
                self.mac_holds = None;
                self.key = KeyState::Trouble(keys::wrong(keys, main, &what, &origin));
                return Ok(());
            }
        };
        self.key = KeyState::Found { origin, proof: proof.map(str::to_owned) };
        let is_handheld = self.header.is_handheld();
        let area = |second: View| match is_handheld {
            true => Area { own: second, psp: view.clone() },
            false => Area { own: view.clone(), psp: second },
        };
        let found = keys::find(keys, other, &what);
        let origin = found.as_ref().ok().map(|(_, origin)| origin.clone());
        let mut area_of_both = area(self.view(stored, found.map(|(key, _)| key))?);
        self.items = items::read(&entries, &area_of_both, data_len)?;
        let mut others = self.items.iter().filter(|item| item.is_psp() != is_handheld).peekable();
        if let Some(origin) = origin.filter(|_| others.peek().is_some() && others.all(|item| item.is_garbled)) {
            let trouble = keys::wrong(keys, other, &what, &origin);
            area_of_both = area(self.view(stored, Err(trouble))?);
            self.items = items::read(&entries, &area_of_both, data_len)?;
        }
        let area = area_of_both;
        if let Some(trouble) = self.items.iter().find_map(|item| area.of(item).trouble.clone()) {
            self.key = KeyState::Trouble(trouble);
        }
        self.area = Some(area);
        Ok(())
    }

    fn view(&self, stored: &SourceRef, key: std::result::Result<Key, KeyTrouble>) -> Result<View> {
        Ok(match key {
            Ok(key) => {
                let stream = Stream::Finalized { key, counter: self.header.raw.counter };
                View { source: stream.over(stored.clone())?, trouble: None }
            }
            Err(trouble) => {
                let locked = Locked::new(stored.clone(), Arc::new([0..stored.len()]), trouble.clone());
                View { source: Arc::new(locked), trouble: Some(trouble) }
            }
        })
    }

    /// Where the data area ends in the package.
    pub fn data_end(&self) -> u64 {
        self.header.raw.data_at.get() + self.header.raw.data_len.get()
    }

    /// Its length, as the header says it, and at least that of what it describes.
    pub fn end(&self) -> u64 {
        self.header.raw.total_len.get().max(self.data_end())
    }

    /// The files and folders.
    ///
    /// # Errors
    /// What making views fails with.
    pub fn tree(&self) -> Result<Option<Tree>> {
        let Some(area) = &self.area else { return Ok(None) };
        Ok(Some(Tree { nodes: items::nodes(&self.items, area)? }))
    }
}

impl Format for Pkg {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PS3 package"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["pkg"]
    }

    fn reads(&self) -> &'static str {
        "finalized and debug: title, ids, versions, icon, files, every digest; PSP items, too"
    }

    fn least_len(&self) -> u64 {
        header::LEN
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&header::MAGIC)] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        Ok((head.len() >= header::LEN).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let package = Package::read(&source, opener.keys())?;
        let mut opened = Opened::new(ID, tell::kind(&package.header));
        opened.holds.tree = package.tree()?;
        let parameters = tell::tell(&mut opened, &package, opener)?;
        proof::add(&mut opened, &package, &source, parameters.as_ref())?;
        opened.extent.promised_len = Some(package.end());
        let (data_at, data_end) = (package.header.raw.data_at.get(), package.data_end());
        opened.extent.regions.push(Region { range: data_at..data_end, encrypted: package.header.is_finalized() });
        crate::package::trailing(&mut opened, &source, package.end());
        Ok(opened)
    }
}
