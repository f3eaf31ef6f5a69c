//! Cabinets that belong together: those before and after one, found by the names that they give each other.

use super::ID;
use super::folder::{Block, Folder, Keeper, Part};
use super::header::{Cabinet, File, Method};
use crate::lzx::FRAME;
use crate::noticed::Noticed;
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::tell::grouped;
use decanter_core::{Error, Result};
use std::collections::VecDeque;
use std::sync::Arc;

/// Bytes before a data block.
const BLOCK_HEADER: u64 = 8;
/// Cabinets of a set.
const MOST_CABINETS: usize = 1000;

/// All cabinets of a set that are there, in their order.
pub(super) struct Set {
    /// Each with what it is called, but for the one that was opened.
    pub(super) cabinets: Vec<(Option<String>, Cabinet)>,
    /// The first one that should stand before or after them and does not: its name, and why.
    pub(super) missing_before: Option<(String, String)>,
    pub(super) missing_after: Option<(String, String)>,
}

impl Set {
    /// The set of `own`, as far as it stands beside it.
    ///
    /// # Errors
    /// What the machine is to blame for.
    pub(super) fn around(own: Cabinet, opener: &Opener<'_>) -> Result<Self> {
        let mut set = Self { cabinets: Vec::new(), missing_before: None, missing_after: None };
        let mut all = VecDeque::from([(None, own)]);
        loop {
            let first = &all[0].1;
            let Some(name) = first.previous.clone() else { break };
            match neighbour(&name, first, i32::from(first.number) - 1, opener, all.len())? {
                Ok(found) => all.push_front((Some(name), found)),
                Err(why) => {
                    set.missing_before = Some((name, why));
                    break;
                }
            }
        }
        loop {
            let last = &all[all.len() - 1].1;
            let Some(name) = last.next.clone() else { break };
            match neighbour(&name, last, i32::from(last.number) + 1, opener, all.len())? {
                Ok(found) => all.push_back((Some(name), found)),
                Err(why) => {
                    set.missing_after = Some((name, why));
                    break;
                }
            }
        }
        set.cabinets = all.into();
        Ok(set)
    }
}

/// The cabinet called `name`, if it is the one with this number of the same set; else why it is not.
fn neighbour(
    name: &str,
    of: &Cabinet,
    number: i32,
    opener: &Opener<'_>,
    count: usize,
) -> Result<std::result::Result<Cabinet, String>> {
    if count >= MOST_CABINETS {
        let limit = MOST_CABINETS as u64;
        return Err(Error::Limit { what: "cabinets of a set", asked: limit + 1, limit });
    }
    let found = match opener.beside().find(name) {
        Ok(Some((_, source))) => Cabinet::read(source),
        Ok(None) => return Ok(Err("it is not beside it".into())),
        Err(e) => Err(e),
    };
    Ok(match found {
        Ok(found) if found.set != of.set => Err(format!("it is of another set ({}, not {})", found.set, of.set)),
        Ok(found) if i32::from(found.number) != number => {
            Err(format!("it is number {} of the set, not {}", i32::from(found.number) + 1, number + 1))
        }
        Ok(found) => Ok(found),
        Err(e) if matches!(e.blame(), Blame::Source) => Err(e.to_string()),
        Err(e) => return Err(e),
    })
}

/// A folder with all that is packed in it.
pub(super) struct Whole<'a> {
    pub(super) method: Method,
    /// What it unpacks to; nothing where it cannot be unpacked, with why.
    pub(super) view: std::result::Result<Arc<Folder>, String>,
    /// Its files.
    pub(super) files: Vec<&'a File>,
    /// Why nothing stands behind the last block that is there, if so.
    pub(super) ends: Option<String>,
    /// It begins in a cabinet that is not there.
    pub(super) begins: Option<String>,
}

impl Set {
    /// All folders, those that reach over several cabinets as one.
    ///
    /// # Errors
    /// What reading fails with.
    pub(super) fn folders(&self, noticed: &mut Noticed) -> Result<Vec<Whole<'_>>> {
        let mut folders: Vec<Whole<'_>> = Vec::new();
        let keeper = Arc::default();
        // The blocks of the last folder, which may go on in the next cabinet.
        let mut open: Option<Gathering<'_>> = None;
        for (index, (name, cabinet)) in self.cabinets.iter().enumerate() {
            let goes_on = cabinet.files.iter().any(|f| f.spans.from_previous);
            let reaches_on = cabinet.files.iter().any(|f| f.spans.into_next);
            let mut headers = 0;
            let mut by_folder: Vec<Vec<&File>> = vec![Vec::new(); cabinet.folders.len()];
            cabinet.files.iter().for_each(|f| by_folder[f.folder].push(f));
            for (number, folder) in cabinet.folders.iter().enumerate() {
                let files = std::mem::take(&mut by_folder[number]).into_iter();
                let (blocks, cut) = cabinet.blocks(folder)?;
                headers += blocks.len() as u64 * BLOCK_HEADER;
                if headers > cabinet.source.len() {
                    let what = format!("folder {number} has its data blocks where others have theirs");
                    return Err(Error::malformed(ID, what, folder.data_at));
                }
                let continues = number == 0 && goes_on;
                let mut own = match open.take() {
                    Some(own) if continues => own,
                    other => {
                        folders.extend(other.map(|g| g.finish(&keeper)).transpose()?);
                        let begins = continues.then(|| match &self.missing_before {
                            Some((name, why)) if index == 0 => format!("it begins in {name}: {why}"),
                            _ => "it begins in a cabinet before, where nothing goes on".into(),
                        });
                        Gathering { method: folder.method, parts: Vec::new(), files: Vec::new(), ends: None, begins }
                    }
                };
                if own.method != folder.method {
                    noticed
                        .note(format!("a folder goes on in {} with another method", name.as_deref().unwrap_or("it")));
                }
                own.parts.extend(blocks.into_iter().map(|b| Part {
                    source: cabinet.source.clone(),
                    cabinet: name.clone(),
                    at: b.at,
                    data_at: b.data_at,
                    sum: b.sum,
                    packed: b.packed,
                    unpacked: b.unpacked,
                }));
                // A file that goes on is listed in each cabinet.
                own.files.extend(files.filter(|f| !f.spans.from_previous || own.begins.is_some() && index == 0));
                if let Some(at) = cut {
                    let what = name.as_ref().map_or("the cabinet".into(), |n| n.clone());
                    own.ends = Some(format!("{what} ends in the data block at offset {at:#x}"));
                }
                let is_last = number + 1 == cabinet.folders.len();
                if is_last && reaches_on && own.ends.is_none() {
                    if index + 1 == self.cabinets.len() {
                        own.ends = Some(match &self.missing_after {
                            Some((name, why)) => format!("it goes on in {name}: {why}"),
                            None => "it goes on in a cabinet that is not named".into(),
                        });
                    }
                    open = Some(own);
                } else {
                    folders.push(own.finish(&keeper)?);
                }
            }
        }
        folders.extend(open.map(|g| g.finish(&keeper)).transpose()?);
        Ok(folders)
    }
}

/// A folder whose parts are being put together.
struct Gathering<'a> {
    method: Method,
    parts: Vec<Part>,
    files: Vec<&'a File>,
    ends: Option<String>,
    begins: Option<String>,
}

impl<'a> Gathering<'a> {
    fn finish(self, keeper: &Arc<Keeper>) -> Result<Whole<'a>> {
        let Self { method, parts, files, mut ends, begins } = self;
        let (mut blocks, mut waiting, mut start): (Vec<Block>, Vec<Part>, u64) = (Vec::new(), Vec::new(), 0);
        let mut parts = parts.into_iter().peekable();
        while let Some(part) = parts.next() {
            let (at, len) = (part.at, usize::from(part.unpacked));
            waiting.push(part);
            if len == 0 {
                continue;
            }
            let is_full = len == FRAME || (parts.peek().is_none() && len < FRAME) || method == Method::Stored;
            let is_full = is_full || (method == Method::MsZip && len < FRAME);
            if !is_full {
                let found = grouped(len as u64);
                let what =
                    format!("the data block at offset {at:#x} gives {found} bytes, and not 32,768 as all but the last");
                ends.get_or_insert(what);
                break;
            }
            blocks.push(Block { parts: std::mem::take(&mut waiting), start, len });
            start += len as u64;
        }
        let view = match Folder::new(method, blocks, keeper) {
            Ok(folder) => Ok(folder),
            Err(e @ Error::Unsupported { .. }) => Err(e.to_string()),
            Err(e) => return Err(e),
        };
        Ok(Whole { method, view, files, ends, begins })
    }
}

/// What a cabinet is called in a set, for notices.
pub(super) fn number(cabinet: &Cabinet) -> String {
    format!("{} of set {:#06x}", u32::from(cabinet.number) + 1, cabinet.set)
}
