//! A content (NCA): a header and up to four sections, each encrypted and hashed in its own way. Layout: docs/formats/nca.md.

pub mod header;
pub mod levels;
mod proof;
mod section;
mod unlock;

pub use section::{Cipher, Layout, Section};

use super::{romfs, title};
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::Keyring;
use decanter_core::protection::KeyState;
use decanter_core::seal::{Seal, Sealed};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::transform::Transform;
use decanter_core::tree::{File, Kind as NodeKind, Node};
use decanter_core::view::{Overlay, Slice};
use decanter_core::{Error, Result};
use header::{Header, Kind};
use std::ops::Range;
use std::sync::Arc;

pub(crate) const ID: &str = "nca";

/// A content, opened.
#[derive(Clone)]
pub struct Nca {
    /// Its header.
    pub header: Header,
    /// Its sections, in the order of the header.
    pub sections: Vec<Section>,
    /// Its bytes as they stand in the file; fewer where that is cut.
    pub stored: SourceRef,
    /// The same decrypted; what is under a missing key fails on reading.
    pub clear: SourceRef,
    /// What decrypts the sections.
    pub transform: Option<Arc<dyn Transform>>,
    /// Stretches whose key is missing or wrong.
    pub locked: Vec<Range<u64>>,
    /// What is known of the key of its sections.
    pub key: KeyState,
}

impl Nca {
    /// Opens a content; `what` it is, for messages.
    ///
    /// # Errors
    /// When its header cannot be read. A missing key of its sections is a state.
    pub fn read(source: &SourceRef, keys: &Keyring, what: &str) -> Result<Self> {
        let header = Header::read(source.as_ref(), keys, what)?;
        let stored: SourceRef = Arc::new(Slice::new(source.clone(), 0, header.len().min(source.len()))?);
        let unlocked = unlock::unlock(&header, &stored, keys, what)?;
        let head: SourceRef = Arc::new(Bytes(header.raw.clone()));
        let clear = Arc::new(Overlay::new(unlocked.view, vec![(0, head)])?);
        let (sections, transform, locked, key) = (unlocked.sections, unlocked.transform, unlocked.locked, unlocked.key);
        Ok(Self { header, sections, stored, clear, transform, locked, key })
    }

    /// Why the key is missing or wrong, if so.
    pub fn trouble(&self) -> Option<&KeyTrouble> {
        match &self.key {
            KeyState::Trouble(trouble) => Some(trouble),
            _ => None,
        }
    }

    /// Whether the content `update` of an update stands over this one: by what they say of themselves.
    pub fn is_base_of(&self, update: &Self) -> bool {
        let id = |nca: &Self| title::base_of_update(nca.header.program_id());
        let is_over = |nca: &Self| nca.sections.iter().any(|s| s.patch.is_some());
        is_over(update) && !is_over(self) && self.header.kind() == update.header.kind() && id(self) == id(update)
    }

    /// The bytes of a section, decrypted, as many as are there.
    ///
    /// # Errors
    /// When a slice cannot be made, which checked headers rule out.
    pub fn section(&self, section: &Section) -> Result<SourceRef> {
        let start = section.range.start.min(self.clear.len());
        let end = section.range.end.min(self.clear.len());
        Ok(Arc::new(Slice::new(self.clear.clone(), start, end - start)?))
    }

    /// The section of an update, over the same section of its base.
    ///
    /// # Errors
    /// [`Error::Damaged`] when the base has no such section or is another one; what reading tables fails with.
    pub fn joined(&self, section: &Section, base: Option<&Self>) -> Result<SourceRef> {
        let own = self.section(section)?;
        let Some(patch) = &section.patch else { return Ok(own) };
        let Some(base) = base else {
            return Err(Error::Unreadable { why: format!("it is an update: {}", self.base_needed()) });
        };
        let moves = patch.moves(own.as_ref())?;
        let other = base.sections.iter().find(|s| s.index == section.index && s.patch.is_none());
        let other = other.ok_or_else(|| Error::Damaged { what: "the base has no such section".into() })?;
        let stretches: Vec<Range<u64>> = moves.of_base().collect();
        let view: SourceRef = match super::bktr::Patched::new(base.section(other)?, own, moves) {
            Ok(view) => Arc::new(view),
            Err(Error::PastEnd { .. }) => {
                return Err(Error::Damaged { what: "the base has less than the update takes from it".into() });
            }
            Err(e) => return Err(e),
        };
        match is_right_base(section, &view, &stretches)? {
            true => Ok(view),
            false => Err(Error::Damaged {
                what: "what comes from the base does not have the hashes that the update says: it is for another base, or the base is damaged".into(),
            }),
        }
    }

    /// Which base an update is for, as a message says it.
    fn base_needed(&self) -> String {
        format!("it needs its base {} (give it with --with)", title::shown(title::base_of(self.header.program_id())))
    }

    /// What a section is called in a tree.
    pub fn name_of(&self, section: &Section) -> String {
        match (section.layout, self.header.kind(), section.index) {
            (Layout::Rom, ..) if self.sections.iter().filter(|s| s.layout == Layout::Rom).count() == 1 => {
                "romfs".into()
            }
            (Layout::Files, Kind::Program, 0) => "exefs".into(),
            (Layout::Files, Kind::Program, _) => "logo".into(),
            (Layout::Files, Kind::Meta, _) => "meta".into(),
            (_, _, index) => format!("section {index}"),
        }
    }

    /// The files of its sections below `prefix`, and what was noticed. `base` is the same content of the base, for an update.
    ///
    /// # Errors
    /// What the machine is to blame for. A section that cannot be read is a broken file with the reason.
    pub fn nodes(&self, prefix: &str, base: Option<&Self>, notices: &mut Vec<String>) -> Result<Vec<Node>> {
        let mut nodes = Vec::new();
        for section in &self.sections {
            let name = format!("{prefix}{}", self.name_of(section));
            match self.files(section, &name, base, notices) {
                Ok(more) => nodes.extend(more),
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(e) => {
                    let len = section.range.end - section.range.start;
                    let file = match e {
                        Error::Key(trouble) => {
                            let ranges = Arc::new([0..len]);
                            let source: SourceRef = Arc::new(decanter_core::view::Fill { byte: 0, len });
                            let source = Arc::new(decanter_core::view::Locked::new(source, ranges, trouble));
                            File { len, spans: Vec::new(), content: decanter_core::tree::Content::Locked(source) }
                        }
                        e => File::broken(len, format!("it cannot be read: {e}")),
                    };
                    nodes.push(Node::new(name, NodeKind::File(file), None));
                }
            }
        }
        Ok(nodes)
    }

    fn files(
        &self,
        section: &Section,
        name: &str,
        base: Option<&Self>,
        notices: &mut Vec<String>,
    ) -> Result<Vec<Node>> {
        if let (Some(trouble), true) = (self.trouble(), section.cipher.needs_key()) {
            return Err(trouble.clone().into());
        }
        if let Some(oddity) = &section.oddity {
            return Err(Error::unsupported(ID, oddity.clone()));
        }
        let view = self.joined(section, base)?;
        let data = section.levels.as_ref().map_or(0..view.len(), |l| l.data().clone());
        let start = data.start.min(view.len());
        let there = data.end.min(view.len()) - start;
        let source: SourceRef = Arc::new(Slice::new(view, start, there)?);
        let folder = Node::new(name.to_owned(), NodeKind::Folder, None);
        let inner = match section.layout {
            Layout::Files => {
                let partition = super::partition::Partition::read(source.as_ref(), super::partition::Kinds::Plain)?;
                partition.nodes(&source, &format!("{name}/"))?
            }
            Layout::Rom => {
                let files = romfs::Files::read(source.as_ref(), data.end - data.start)?;
                notices.extend(files.notices.iter().map(|n| format!("{name}: {n}")));
                files.nodes(&source, &format!("{name}/"))?
            }
            Layout::Other(kind) => return Err(Error::unsupported(ID, format!("a section of kind {kind}"))),
        };
        Ok(std::iter::once(folder).chain(inner).collect())
    }

    /// The digests that it carries of its own bytes, after that of `whole`, if somebody has one.
    pub fn sealed(&self, name: &str, whole: Option<Seal>) -> Sealed {
        proof::sealed(self, name, whole)
    }

    /// The digests of the sections of an update, over its base.
    ///
    /// # Errors
    /// As [`Nca::joined`].
    pub fn sealed_over(&self, name: &str, base: &Self) -> Result<Vec<Sealed>> {
        proof::sealed_over(self, name, base)
    }
}

/// Blocks of the base that are looked at to know whether it is the right one.
const SAMPLES: u64 = 16;

/// Whether most blocks that come from the base have their hashes: damage does not hit a quarter of them. Where there is none
/// to tell it by, the base is believed.
fn is_right_base(section: &Section, view: &SourceRef, of_base: &[Range<u64>]) -> Result<bool> {
    let Some(levels) = &section.levels else { return Ok(true) };
    let [.., last] = levels.levels.as_slice() else { return Ok(true) };
    let data = last.range.clone();
    // The whole blocks of each stretch, by their numbers.
    let blocks = |stretch: &Range<u64>| {
        let from = stretch.start.max(data.start) - data.start;
        let end = stretch.end.min(data.end).saturating_sub(data.start);
        let last_too = if stretch.end >= data.end { end.div_ceil(last.block) } else { end / last.block };
        from.div_ceil(last.block)..last_too
    };
    let all: Vec<Range<u64>> = of_base.iter().map(blocks).filter(|r| !r.is_empty()).collect();
    let count: u64 = all.iter().map(|r| r.end - r.start).sum();
    let samples = (0..SAMPLES.min(count)).filter_map(|sample| {
        let mut left = sample * count / SAMPLES.min(count);
        all.iter().find_map(|r| {
            let here = r.end - r.start;
            if left < here {
                return Some(r.start + left);
            }
            left -= here;
            None
        })
    });
    let (mut looked, mut wrong) = (0, 0);
    for number in samples {
        if let Some(holds) = levels.block_holds(view, number)? {
            looked += 1;
            wrong += usize::from(!holds);
        }
    }
    Ok(wrong * 4 <= looked)
}
