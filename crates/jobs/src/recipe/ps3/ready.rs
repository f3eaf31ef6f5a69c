//! A title of a recipe, ready to be made: its files, and what there is to say of them.

use super::disc::{self, Kind};
use super::media::{self, Made, Media};
use super::{Recipe, Title};
use crate::convert::add_folders;
use crate::convert::playstation::classics::closing;
use crate::recipe::{ShownFile, ShownTitle};
use crate::{Item, Setting, grouped, locate};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::head::Head;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{self, Kind as NodeKind, Node, Tree};
use decanter_core::{Error, Format, Notice, Result};
use decanter_formats::REGISTRY;
use decanter_formats::package::ps3::classics::{self, card, limg};
use decanter_formats::package::ps3::npd;
use decanter_formats::package::ps3::pkg::PARAMETERS;
use decanter_formats::record::sfo::Parameters;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

/// What tells the console that a PSP disc is in the package.
pub(super) const MARKER: &str = "USRDIR/MINIS2.EDAT";
/// What is in the marker where the user has none.
const IN_MARKER: [u8; 16] = [0; 16];
/// Settings of the console's emulator, and the memory cards.
const CONFIG: &str = "USRDIR/CONFIG";
pub(super) const CARDS: [&str; 2] = ["USRDIR/SAVEDATA/SCEVMC0.VME", "USRDIR/SAVEDATA/SCEVMC1.VME"];
/// The card that the user need not have.
pub(super) const EMPTY: &str = "empty";
/// A title, ready to be made.
pub(super) struct TitlePs3 {
    /// The recipe, and what it says of this title.
    pub(super) recipe: Arc<Recipe>,
    pub(super) title: Title,
    /// The disc as it was opened, whose it is, and the bytes that the package gets of it.
    pub(super) item: Item,
    pub(super) kind: Kind,
    pub(super) disc: disc::Wanted,
    /// What the menu calls it, and its ids.
    pub(super) name: String,
    pub(super) id: String,
    pub(super) content_id: String,
    pub(super) parameters: Parameters,
    /// The keys that are missing.
    pub(super) lacks: Vec<String>,
    pub(super) output: PathBuf,
    pub(super) notices: Vec<Notice>,
}

impl TitlePs3 {
    /// Everything of the menu. It is made when it is wanted: a recipe of a hundred titles has pictures for a hundred menus.
    pub(super) fn media(&self, setting: &Setting<'_>) -> Result<Media> {
        let colour = of_bytes(Algorithm::Sha1, self.content_id.as_bytes()).bytes;
        media::media(&self.recipe, &self.title, &self.item, &self.name, &colour, setting)
    }

    /// Its files but for the disc and what the recipe adds, by their paths.
    fn small_files(&self, media: &Media) -> Vec<Made> {
        let own = |path: &str, source: SourceRef, from: &str| Made { path: path.into(), source, from: from.into() };
        let parameters: SourceRef = Arc::new(Bytes(self.parameters.compose()));
        let from =
            self.title.parameter_file.as_ref().map_or_else(|| "written anew".into(), |p| format!("{p}, changed"));
        let mut files = vec![own(PARAMETERS, parameters, &from)];
        let drawn = [Some(&media.icon), media.background.as_ref(), media.overlay.as_ref()];
        let made = drawn.into_iter().flatten().map(|d| &d.made).chain(&media.others);
        files.extend(made.map(|m| own(&m.path, m.source.clone(), &m.from)));
        files
    }

    /// Paths of the other files, and what each is made of.
    fn others(&self) -> Vec<(String, String)> {
        let disc = format!("the {} disc, encrypted", self.kind.name());
        let mut all = vec![(self.kind.place().to_owned(), disc)];
        match self.kind {
            Kind::Psp => all.push((MARKER.into(), self.title.marker.clone().unwrap_or("zeros, wrapped".into()))),
            Kind::Ps2 => {
                all.extend(self.title.config.clone().map(|config| (CONFIG.to_owned(), config)));
                let cards = self.title.cards().into_iter().zip(CARDS);
                let from = |card| if card == EMPTY { "an empty memory card" } else { card };
                all.extend(cards.map(|(card, path)| (path.to_owned(), from(card).to_owned())));
            }
        }
        all
    }

    /// Every file of the package.
    pub(super) fn tree(&self, media: &Media, setting: &Setting<'_>) -> Result<Tree> {
        let mut files: BTreeMap<String, SourceRef> =
            self.small_files(media).into_iter().map(|made| (made.path, made.source)).collect();
        match self.kind {
            Kind::Psp => {
                files.insert(
                    self.kind.place().into(),
                    self.wrapped(self.disc.bytes.clone(), self.kind.place(), setting)?,
                );
                files.insert(MARKER.into(), self.marker(setting)?);
            }
            Kind::Ps2 => {
                let closed = closing(&self.item, &self.content_id, self.title.debug_console)?;
                let whole = limg::with(self.disc.bytes.clone(), self.disc.pressed)?;
                let image = classics::source(whole, &self.content_id, &closed.lock, &closed.hashes)?;
                files.insert(self.kind.place().into(), image);
                if let Some(config) = &self.title.config {
                    files.insert(CONFIG.into(), locate::bytes(&self.recipe.path(config), setting)?);
                }
                for (name, path) in self.title.cards().into_iter().zip(CARDS) {
                    files.insert(path.into(), self.card(name, setting)?);
                }
            }
        }
        for (path, own) in &self.title.files {
            self.check_path(path)?;
            files.insert(path.clone(), locate::bytes(&self.recipe.path(own), setting)?);
        }
        if let Some(path) = files.keys().find(|path| files.keys().any(|other| is_below(other, path))) {
            return Err(Error::Usage(format!("\"{path}\" is a folder in the package, and cannot be a file as well")));
        }
        let node = |(path, source)| Node::new(path, NodeKind::File(tree::File::of(source)), None);
        let mut tree = Tree { nodes: files.into_iter().map(node).collect() };
        add_folders(&mut tree);
        Ok(tree)
    }

    /// Refuses paths that a package has no place for, and those that other fields stand for.
    fn check_path(&self, path: &str) -> Result<()> {
        let is_plain = !path.contains('\\') && path.split('/').all(|name| !matches!(name, "" | "." | ".."));
        if !is_plain {
            return Err(Error::Usage(format!("\"{path}\" is no path in a package: names with / between them")));
        }
        match path {
            PARAMETERS => Err(Error::Usage(format!("{PARAMETERS} is taken with parameter-file = \"FILE\""))),
            path if path == self.kind.place() => Err(Error::Usage(format!("{path} is the disc itself"))),
            _ => Ok(()),
        }
    }

    /// A file wrapped with a free licence, under the name that it has on the console.
    fn wrapped(&self, content: SourceRef, path: &str, setting: &Setting<'_>) -> Result<SourceRef> {
        let name = path.rsplit('/').next().unwrap_or(path);
        let making = npd::Making::of(&self.content_id, name, &self.item.keyring)?;
        setting.watch.begin(&format!("hashing {}", self.title.disc), Some(content.len()));
        let file = npd::compose(content, &making, setting.watch);
        setting.watch.end();
        file
    }

    /// The marker: what the user brings, wrapped unless it is already.
    fn marker(&self, setting: &Setting<'_>) -> Result<SourceRef> {
        let Some(path) = &self.title.marker else {
            return self.wrapped(Arc::new(Bytes(IN_MARKER.to_vec())), MARKER, setting);
        };
        let source = locate::bytes(&self.recipe.path(path), setting)?;
        let known = REGISTRY.detect(&Head::new(source.as_ref()))?;
        if known.is_none_or(|format| format.id() != npd::WRAPPED.id()) {
            return self.wrapped(source, MARKER, setting);
        }
        let own = npd::header::Header::read(source.as_ref())?.content_id();
        if own != self.content_id {
            return Err(Error::Usage(format!(
                "the marker \"{path}\" is wrapped for {own}, the title is {}: give what \"decanter decrypt\" makes of it",
                self.content_id
            )));
        }
        Ok(source)
    }

    fn card(&self, name: &str, setting: &Setting<'_>) -> Result<SourceRef> {
        if name == EMPTY {
            return card::empty();
        }
        let source = locate::bytes(&self.recipe.path(name), setting)?;
        match source.len() {
            card::LEN => Ok(source),
            len => Err(Error::Usage(format!(
                "\"{name}\" has {} bytes, a memory card has {}: pages of 512 with 16 of their codes",
                grouped(len),
                grouped(card::LEN)
            ))),
        }
    }

    /// What there is to say of it.
    pub(super) fn told(&self, media: &Media) -> ShownTitle {
        let category = self.parameters.category();
        let mut facts = vec![("content id", self.content_id.clone()), ("category", category)];
        facts.push(("version", self.parameters.text("VERSION").unwrap_or_default().to_owned()));
        if self.kind == Kind::Ps2 {
            let medium = if self.disc.pressed.is_cd { "CD" } else { "DVD" };
            facts.push(("medium", self.item.opened.get("medium").unwrap_or(medium).to_owned()));
        }
        if !self.title.names.languages.is_empty() {
            let own = self.title.names.languages.iter().map(|(language, texts)| format!("{language}: {}", texts.title));
            facts.push(("own names", own.collect::<Vec<_>>().join(", ")));
        }
        let form = if self.title.finalized { "finalized" } else { "debug" };
        facts.push(("form", form.to_owned()));
        for left in &self.disc.left_out {
            facts.push(("without", format!("{} ({}, {} bytes)", left.what, left.why, grouped(left.bytes))));
        }
        for lacks in &self.lacks {
            facts.push(("lacks", format!("{lacks}: it cannot be made before that is there")));
        }
        let small = self.small_files(media).into_iter();
        let shown = small.map(|m| ShownFile { path: m.path, bytes: Some(m.source.len()), from: m.from });
        let others = self.others().into_iter().map(|(path, from)| ShownFile { path, bytes: None, from });
        let mut files: Vec<ShownFile> = shown.chain(others).collect();
        for (path, own) in &self.title.files {
            files.retain(|file| file.path != *path);
            files.push(ShownFile { path: path.clone(), bytes: None, from: own.clone() });
        }
        ShownTitle {
            source: self.title.disc.clone(),
            kind: self.item.opened.identity.kind.clone(),
            bytes: self.disc.bytes.len(),
            title: self.name.clone(),
            title_id: self.id.clone(),
            id_from: if self.title.id.is_none() { "the disc's own" } else { "the recipe says so" },
            facts,
            files,
            output: self.output.clone(),
        }
    }
}

/// Whether a path is that of something in the folder `above`.
fn is_below(path: &str, above: &str) -> bool {
    path.strip_prefix(above).is_some_and(|rest| rest.starts_with('/'))
}
