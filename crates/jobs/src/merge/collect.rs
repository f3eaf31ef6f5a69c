//! Everything in the sources that holds titles: files, what is in folders and archives, merged files.

use super::Found;
use crate::below::Below;
use crate::family::Member;
use crate::{Failure, Item, Setting, locate};
use decanter_core::error::{Blame, KeyTrouble};
use decanter_core::role::Role;
use decanter_core::{Error, Format, Keyring, Notice, tell};
use decanter_formats::package::nx::{self, contents::Contents};

/// A package or gamecard image.
pub(super) struct Package {
    /// Where it is.
    pub(super) address: String,
    /// What is in it.
    pub(super) contents: Contents,
    /// What its titles are called.
    name: Option<String>,
    titles: Vec<decanter_core::title::HeldTitle>,
    /// The keys that it was opened with.
    pub(super) keyring: Keyring,
}

/// What was found in the sources.
#[derive(Default)]
pub(super) struct Collected {
    pub(super) packages: Vec<Package>,
    /// What cannot be used, and why.
    pub(super) failed: Vec<String>,
    /// The first key without which some of it cannot be used.
    pub(super) trouble: Option<KeyTrouble>,
    pub(super) notices: Vec<Notice>,
}

impl Collected {
    /// Looks through all sources; a file is taken once, however often it is named.
    pub(super) fn of(sources: &[String], setting: &Setting<'_>) -> Result<Self, Failure> {
        let mut own = Self::default();
        let mut paths: Vec<(String, bool)> = Vec::new();
        for source in sources {
            if !setting.is_folder(source) {
                paths.push((source.clone(), true));
                continue;
            }
            let below = Below::of(source, setting);
            paths.extend(below.files.into_iter().map(|p| (p, false)));
            own.failed
                .extend(below.failed.into_iter().map(|(path, e)| format!("\"{path}\" cannot be looked into: {e}")));
        }
        let mut seen = std::collections::HashSet::new();
        paths.retain(|(path, _)| seen.insert(path.clone()));
        for (path, is_named) in paths {
            if setting.watch.cancelled() {
                return Err(Failure::new("merge was stopped", Error::Cancelled));
            }
            own.path(&path, is_named, setting)?;
        }
        Ok(own)
    }

    /// A file: a package, or an archive with some.
    fn path(&mut self, path: &str, is_named: bool, setting: &Setting<'_>) -> Result<(), Failure> {
        let fail = |e| Failure::new(format!("cannot merge \"{path}\""), e);
        let item = match locate::open_container(path, setting) {
            Ok(item) => item,
            Err(e @ Error::Cancelled) => return Err(fail(e)),
            Err(e @ Error::Io { .. }) if is_named => return Err(fail(e)),
            // A folder may hold anything.
            Err(Error::NotUnderstood { .. }) if !is_named => return Ok(()),
            Err(e) => {
                self.failed.push(format!("\"{path}\": {e}"));
                return Ok(());
            }
        };
        if item.opened.identity.role == Role::Archive && !is_package(&item) {
            return self.archive(&item, setting);
        }
        if is_package(&item) {
            return self.package(&item).map_err(fail);
        }
        if is_named {
            let kind = crate::failure::with_article(&item.opened.identity.kind);
            self.failed.push(format!("\"{path}\" is {kind}, which holds no titles"));
        }
        Ok(())
    }

    /// The packages in an archive, by their names there.
    fn archive(&mut self, item: &Item, setting: &Setting<'_>) -> Result<(), Failure> {
        let names = item.opened.holds.tree.iter().flat_map(|t| t.files()).map(|(node, _)| node.path.clone());
        let wanted: Vec<String> =
            names.filter(|n| ["nsp", "xci"].iter().any(|e| nx::contents::has_extension(n, e))).collect();
        for name in wanted {
            let address = format!("{}{}{name}", item.address, locate::INSIDE);
            self.path(&address, true, setting)?;
        }
        Ok(())
    }

    fn package(&mut self, item: &Item) -> decanter_core::Result<()> {
        let Some(source) = &item.source else { return Ok(()) };
        let keyring = item.opened.holds.keys.as_deref().unwrap_or(&item.keyring).clone();
        let contents = match nx::open_contents(source, &keyring) {
            Ok(contents) => contents,
            Err(e) if e.blame() == Blame::Source => {
                self.failed.push(format!("\"{}\": {e}", item.address));
                return Ok(());
            }
            Err(e) => return Err(e),
        };
        if let Some(trouble) = &contents.trouble {
            self.failed.push(format!("\"{}\": {trouble}", item.address));
            self.trouble.get_or_insert(trouble.clone());
            return Ok(());
        }
        for (index, why) in &contents.failed {
            self.failed
                .push(format!("\"{}\": the list of contents {}: {why}", item.address, contents.files[*index].name));
        }
        if contents.titles.is_empty() && contents.failed.is_empty() {
            self.failed.push(format!("\"{}\" has no list of contents", item.address));
        }
        if nx::xci::CARD.is_of(&item.opened) {
            let card = nx::xci::Card::read(source, &keyring)?;
            self.notices.extend(card.besides().map(|(name, files, bytes)| {
                let what = tell::count(files as u64, "file", "files");
                let text = format!(
                    "partition {name} of \"{}\" is left out: {what}, {}; it is the card's, not the title's",
                    item.address,
                    tell::size(bytes)
                );
                Notice::new(text)
            }));
        }
        self.packages.push(Package {
            address: item.address.clone(),
            contents,
            name: item.opened.identity.title.clone(),
            titles: item.opened.holds.titles.clone(),
            keyring,
        });
        Ok(())
    }

    /// All titles.
    pub(super) fn members(&self) -> Vec<Member> {
        let of = |(number, package): (usize, &Package)| {
            let member = move |title: &decanter_core::title::HeldTitle| Member {
                source: package.address.clone(),
                number,
                name: package.name.clone(),
                title: title.clone(),
            };
            package.titles.iter().map(member).collect::<Vec<_>>()
        };
        self.packages.iter().enumerate().flat_map(of).collect()
    }

    /// The title that a member stands for.
    pub(super) fn title(&self, member: &Member) -> Found<'_> {
        let contents = &self.packages[member.number].contents;
        let index = self.packages[member.number].titles.iter().position(|t| *t == member.title).unwrap_or_default();
        (contents, &contents.titles[index])
    }
}

/// Whether titles can be in it: packages and gamecard images.
fn is_package(item: &Item) -> bool {
    nx::nsp::PACKAGE.is_of(&item.opened) || nx::xci::CARD.is_of(&item.opened)
}
