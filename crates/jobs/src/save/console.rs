//! Saves as a console keeps them for its GBA mode: two copies, each with a header and a code made with a key.

use super::{MoveReport, Options, ShowReport, advised, blank, write};
use crate::{Failure, Setting, grouped, locate};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::keyring::Key;
use decanter_core::rom::{SaveKind, SaveMemory};
use decanter_core::{Error, Result};
use decanter_formats::cartridge::save::{self, Layout};
use decanter_formats::package::n3ds::gba_mode::{self, Copy, SAVE_HEADER};
use decanter_formats::package::n3ds::keys::{self, Role};
use decanter_formats::package::n3ds::title as ids;
use serde::Serialize;
use std::path::Path;

/// What the key is for, in messages.
const FOR: &str = "the code of a save of the GBA mode";
/// What the block is called.
const LAYOUT: &str = "the block that a console keeps for its GBA mode";

/// One copy in a block.
#[derive(Debug, Serialize)]
pub struct CopyReport {
    /// Where its header begins.
    pub offset: u64,
    /// How often the game was saved.
    pub times: u32,
    /// The title.
    pub title_id: String,
    /// Bytes of the save.
    pub bytes: u64,
    /// Whether its code holds; nothing without the key.
    pub holds: Option<bool>,
    /// Whether the console would load it.
    pub is_current: bool,
}

/// Whether a file is such a block.
pub(super) fn is_block(file: &[u8]) -> bool {
    file.len() >= SAVE_HEADER && file.starts_with(b".SAV")
}

/// The key, from the keyring around the file.
fn key(shown: &str, setting: &Setting<'_>) -> Result<Key> {
    let keyring = locate::open_lightly(shown, "use", setting).map_err(|f| *f.cause)?.keyring;
    Ok(keys::find(&keyring, Role::GbaSave, FOR)?.0)
}

/// Adds what a block is to a report.
pub(super) fn show(file: &[u8], shown: &str, report: &mut ShowReport, setting: &Setting<'_>) -> Result<()> {
    let key = match key(shown, setting) {
        Ok(key) => Some(key),
        Err(Error::Key(trouble)) => {
            report.notices.push(decanter_core::Notice::new(format!("the codes are not checked: {trouble}")));
            None
        }
        Err(e) => return Err(e),
    };
    let copies = gba_mode::copies(file, key.as_ref())?;
    let current = gba_mode::current(&copies);
    report.misfit = current.is_none();
    report.next = match current {
        Some(_) => format!("decanter save export {} -o FILE", crate::quoted(shown)),
        None => "no copy has a code that holds: is it the key of this console, and is the file whole?".into(),
    };
    let told = |(index, copy): (usize, &Copy)| CopyReport {
        offset: copy.range.start as u64,
        times: copy.times,
        title_id: ids::shown(copy.title_id),
        bytes: copy.save_len as u64,
        holds: copy.holds,
        is_current: Some(index) == current,
    };
    report.copies = copies.iter().enumerate().map(told).collect();
    report.bytes = file.len() as u64;
    report.digest = Some(of_bytes(Algorithm::Sha1, file));
    Ok(())
}

/// Fails when the block is of another title than the one asked for.
fn check_title(copies: &[Copy], wanted: Option<u64>) -> Result<()> {
    match (wanted, copies.first()) {
        (Some(wanted), Some(copy)) if copy.title_id != wanted => Err(Error::WrongDescription {
            text: format!("the block is of title {}, not of {}", ids::shown(copy.title_id), ids::shown(wanted)),
        }),
        _ => Ok(()),
    }
}

/// Writes the current copy as a plain file.
pub(super) fn export(
    file: &[u8],
    shown: &str,
    output: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<MoveReport, Failure> {
    let fail = |e: Error| advised(format!("cannot export the save in \"{shown}\""), e);
    let take = || -> Result<Vec<u8>> {
        let key = key(shown, setting)?;
        let copies = gba_mode::copies(file, Some(&key))?;
        check_title(&copies, options.title)?;
        let Some(copy) = gba_mode::current(&copies).map(|i| &copies[i]) else {
            let text = "no copy in it has a code that holds: key or file is wrong".to_owned();
            return Err(Error::WrongDescription { text });
        };
        Ok(file[copy.range.start + SAVE_HEADER..copy.range.end].to_vec())
    };
    let mut content = take().map_err(fail)?;
    options.swap.apply(&mut content);
    write(blank("decanter.save-export/1", shown, None, LAYOUT.into(), output, &content, setting), content, setting)
}

/// Puts a plain save into a copy of a block, or into a new one for the title that was asked for.
pub(super) fn import(
    content: &[u8],
    shown: &str,
    into: Option<&str>,
    output: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<MoveReport, Failure> {
    let fail = |e: Error| advised(format!("cannot import the save \"{shown}\""), e);
    let mut plain = content.to_vec();
    options.swap.apply(&mut plain);
    let make = || -> Result<(Vec<u8>, Option<Vec<u8>>)> {
        let Some(into) = into else {
            let title = options.title.unwrap_or_default();
            if !save::SIZES.iter().any(|(size, _)| *size == plain.len() as u64) {
                let text =
                    format!("it has {} bytes, which no save memory of the GBA mode has", grouped(plain.len() as u64));
                return Err(Error::WrongDescription { text });
            }
            return Ok((gba_mode::new_block(&plain, title, &key(shown, setting)?)?, None));
        };
        let key = key(into, setting)?;
        let block = super::read_block(into, setting)?;
        let copies = gba_mode::copies(&block, Some(&key))?;
        check_title(&copies, options.title)?;
        let size = copies.first().map_or(0, |c| c.save_len);
        let fitted = fitted(&plain, size)?;
        let old = gba_mode::current(&copies)
            .map(|i| block[copies[i].range.start + SAVE_HEADER..copies[i].range.end].to_vec());
        Ok((gba_mode::with_save(&block, &fitted, &key)?, old))
    };
    let (bytes, old) = make().map_err(fail)?;
    let mut report = blank("decanter.save-import/1", shown, into, LAYOUT.into(), output, &plain, setting);
    report.bytes = bytes.len() as u64;
    report.old = old.map(|old| of_bytes(Algorithm::Sha1, &old));
    write(report, bytes, setting)
}

/// A save as a memory of `size` bytes has it, out of whatever an emulator adds to it.
fn fitted(plain: &[u8], size: usize) -> Result<Vec<u8>> {
    if plain.len() == size {
        return Ok(plain.to_vec());
    }
    let memory = SaveMemory::new(SaveKind::Unknown, &[size as u64], "the block");
    // What is cut short is not a save of this size, whatever else it may be.
    match save::holders(plain, Some(&memory)).iter().find(|h| h.layout != Layout::Short) {
        Some(holder) => save::take(plain, holder, None, Some(&memory)),
        None => {
            let (found, wanted) = (grouped(plain.len() as u64), grouped(size as u64));
            let text = format!("it has {found} bytes, the save in the block {wanted}: that is what fits");
            Err(Error::WrongDescription { text })
        }
    }
}
