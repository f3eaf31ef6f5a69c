//! What is in a file that is held against lists: archives, compressed images, tracks, headers of ROMs.

use super::matches::{MatchState, MatchedFile, found_through};
use super::readings::{self, container};
use super::seeker::{SMALL, Seeker};
use decanter_core::Result;
use decanter_core::catalogue::last_name;
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::tree::Tree;
use decanter_core::view::{MOST_HELD, held};
use decanter_formats::REGISTRY;
use std::sync::Arc;

/// Containers in containers.
const MOST_DEPTH: usize = 4;

impl Seeker<'_> {
    /// Checks a file, or what is in it. Fails only when the user stops.
    pub(super) fn look(&mut self, source: &SourceRef, name: &str, shown: &str, depth: usize) -> Result<()> {
        let known_as_such = self.against.catalogues.iter().any(|c| {
            c.has_len(source.len()) || (!c.with_name(name).is_empty()) || (!c.knows_all_lens() && c.entries().len() < 2)
        });
        // What is small is read once, and then looked at in memory.
        let small = if source.len() <= SMALL && depth > 0 { self.in_memory(source) } else { Ok(held(source)) };
        let (source, container) = match small.and_then(|s| Ok((s.clone(), container(&s)?))) {
            Ok((small, container)) => (&{ small }, container.filter(|_| depth < MOST_DEPTH)),
            Err(e) => return self.unreadable(source, shown, e),
        };
        if container.is_none() || known_as_such {
            let file =
                match self.check(source, name, shown).and_then(|file| self.look_through(file, source, name, shown)) {
                    Ok(file) => file,
                    Err(e) => return self.unreadable(source, shown, e),
                };
            if container.is_none() || !matches!(file.state, MatchState::Unknown | MatchState::Differs) {
                self.found.push(file);
                return Ok(());
            }
        }
        let names = [last_name(name).rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned()];
        let opener = self.setting.opener(self.keys).with_names(&names).at_depth(depth);
        let opened = container.map_or_else(|| opener.open(source.clone()), |f| opener.open_as(f, source.clone()));
        match opened {
            Ok(opened) => match self.disk(source, &opened, name, shown) {
                Ok(Some(disk)) => {
                    self.found.push(disk);
                    Ok(())
                }
                Ok(None) if !opened.holds.tracks.is_empty() => self.tracks(&opened.holds.tracks, name, shown),
                Ok(None) => self.inside(&opened, name, shown, depth),
                Err(e) => self.unreadable(source, shown, e),
            },
            Err(e) => self.unreadable(source, shown, e),
        }
    }

    fn in_memory(&self, source: &SourceRef) -> Result<SourceRef> {
        decanter_core::watch::check(self.setting.watch)?;
        let mut bytes = vec![0; source.len() as usize];
        source.read_at(0, &mut bytes)?;
        Ok(Arc::new(decanter_core::source::Bytes(bytes)))
    }

    fn inside(&mut self, opened: &Opened, name: &str, shown: &str, depth: usize) -> Result<()> {
        for (node, file) in opened.holds.tree.iter().flat_map(Tree::files) {
            let shown = format!("{shown}::{}", node.path);
            let inner = readings::inner_name(opened.holds.has_own_names, &node.path, name);
            match file.source() {
                Ok(source) => self.look(source, &inner, &shown, depth + 1)?,
                Err(e) => self.unreadable(&nothing(), &shown, e)?,
            }
        }
        Ok(())
    }

    /// A ROM that is not known as it stands may be known without its header, or in another byte order.
    fn look_through(&self, file: MatchedFile, source: &SourceRef, name: &str, shown: &str) -> Result<MatchedFile> {
        let is_settled = !matches!(file.state, MatchState::Unknown | MatchState::Differs);
        if is_settled || source.len() > MOST_HELD {
            return Ok(file);
        }
        let held = held(source);
        let Some(format) = REGISTRY.detect(&Head::new(held.as_ref()))?.filter(|f| f.role() == Role::Rom) else {
            return Ok(file);
        };
        let opener = self.setting.opener(self.keys);
        let Some(rom) = opener.open_as(format, held).ok().and_then(|o| o.holds.rom) else { return Ok(file) };
        for (words, form) in readings::of_rom(&rom) {
            let found = self.check(&form, name, shown)?;
            if matches!(found.state, MatchState::Match | MatchState::OtherName | MatchState::KnownBad) {
                return Ok(found_through(found, words, name, file.bytes));
            }
        }
        Ok(file)
    }
}

/// No bytes at all, for what could not be opened.
pub(super) fn nothing() -> SourceRef {
    Arc::new(decanter_core::source::Bytes(Vec::new()))
}
