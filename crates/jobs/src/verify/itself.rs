//! A source by itself, without a description: everything has to be readable, and what it says of itself has to hold.

use super::report::{Counts, FileReport, FileState, InnerRom, VerifyReport};
use super::verdict::Finding;
use super::{disc, seals, settle};
use crate::locate::{self, Inner};
use crate::quoted;
use crate::rom::RomReport;
use crate::{Item, Setting};
use decanter_core::protection::KeyState;
use decanter_core::role::Role;
use decanter_core::rom::Shape;
use decanter_core::source::SourceRef;
use decanter_core::tree::Content;
use decanter_core::view::held;
use decanter_core::{Error, Result, SECTOR, tell};
use std::sync::atomic::Ordering;

/// Without a description: everything has to be readable, and the digests that it and what is around it carry have to fit.
pub(super) fn check_itself(item: &Item, setting: &Setting<'_>) -> Result<VerifyReport> {
    let opened = &item.opened;
    let says_more = !opened.proof.is_empty();
    // Without the key to its lists nothing is known of what a package holds: that is no verdict.
    if let Some(KeyState::Trouble(trouble)) = opened.protection.as_ref().map(|p| &p.key)
        && opened.identity.role == Role::Package
        && opened.proof.sealed.is_empty()
    {
        return Err(trouble.clone().into());
    }
    if let Some(trouble) = opened.closed_by().filter(|_| opened.proof.is_empty()) {
        return Err(trouble.clone().into());
    }
    let mut report = if item.opened.identity.role == Role::Package && !opened.proof.sealed.is_empty() {
        seals::check(item, setting)?
    } else {
        let mut report = if opened.holds.tracks.is_empty() {
            check_files(item, setting)?
        } else {
            disc::check_tracks(item, setting)?
        };
        if says_more {
            seals::add(&mut report, item, setting)?;
        }
        report
    };
    settle::settle(&mut report, item, setting)?;
    Ok(report)
}

/// Reads an image from front to back: what cannot be read of it, and whether encrypted sectors of it were never read
/// when it was dumped, so that its files have to be asked one by one.
fn read_whole(item: &Item, setting: &Setting<'_>) -> Result<(Vec<FileReport>, bool)> {
    let is_one = item.opened.identity.role.is_image() || item.opened.identity.role == Role::Rom;
    // What a seal covers is read for it.
    let Some(source) = item.source.as_ref().filter(|_| is_one && item.opened.proof.sealed.is_empty()) else {
        return Ok((Vec::new(), false));
    };
    let decrypted = item.opened.protection.as_ref().and_then(|p| p.clear_as_it_is.as_ref());
    let read = match decrypted {
        Some(as_it_is) => read_through(&as_it_is.clear.as_source()?, setting),
        None => read_through(source, setting),
    };
    let is_blank = decrypted.is_some_and(|a| a.blank.load(Ordering::Relaxed) > 0);
    match read {
        Err(e) if matches!(e.blame(), decanter_core::error::Blame::Source) => {
            let report = FileReport::new("the whole image".into(), FileState::Unreadable, source.len());
            Ok((vec![FileReport { note: Some(e.to_string()), ..report }], is_blank))
        }
        read => read.map(|()| (Vec::new(), is_blank)),
    }
}

/// Every file has to be readable, and ROMs have to have the checksums that they carry.
pub(super) fn check_files(item: &Item, setting: &Setting<'_>) -> Result<VerifyReport> {
    let (mut files, is_blank_somewhere) = read_whole(item, setting)?;
    let mut roms = Vec::new();
    let mut proven = 0;
    let holds_files = item.opened.identity.role.is_files();
    for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
        let mut report = FileReport {
            sector: file.spans.first().map(|s| s.start / SECTOR),
            ..FileReport::new(node.path.clone(), FileState::Match, file.len)
        };
        // A package is read file by file: nobody has gone through all of it.
        let is_image = item.source.is_some() && item.opened.identity.role != Role::Package;
        let whole_image_is_read = is_image && !file.spans.is_empty() && !is_blank_somewhere;
        let read = match &file.content {
            Content::Locked(_) => {
                report.state = FileState::Locked;
                Ok(())
            }
            Content::Whole(_) if whole_image_is_read => Ok(()),
            Content::Whole(source) if holds_files => {
                // Read once, for its digest and for what it is.
                let source = held(source);
                read_through(&source, setting).and_then(|()| {
                    if let Inner::Rom(inner) = locate::inner(item, &node.path, &source, setting)? {
                        let rom = inner.opened.holds.rom.as_ref().map(RomReport::of);
                        roms.extend(rom.map(|rom| InnerRom { path: inner.address, rom }));
                    }
                    Ok(())
                })
            }
            Content::Whole(source) => read_through(source, setting),
            Content::Cut { missing } => {
                let (missing, len) = (tell::grouped(*missing), tell::grouped(file.len));
                Err(Error::Unreadable {
                    why: format!("{missing} of its {len} bytes are missing: the source ends before"),
                })
            }
            _ => file.source().map(|_| ()),
        };
        match read {
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            Err(e) => {
                report.state = FileState::Unreadable;
                report.is_read_error = matches!(e, Error::Io { .. });
                report.note = Some(e.to_string());
            }
            Ok(()) => {}
        }
        proven += usize::from(report.state == FileState::Match && file.source().is_ok_and(|s| s.is_checked()));
        files.push(report);
    }
    let counts = Counts::of(&files);
    let len = item.source.as_ref().map_or(0, |s| s.len());
    let missing = item.opened.extent.promised_len.map_or(0, |p| p.saturating_sub(len)).div_ceil(SECTOR);
    let rom = item.opened.holds.rom.as_ref().map(RomReport::of);
    let all_right = rom.iter().chain(roms.iter().map(|r| &r.rom)).all(|r| r.is_right() && !is_two(&r.shape));
    let is_short = rom.as_ref().is_some_and(|r| r.declared_bytes.is_some() && matches!(r.shape, Shape::Trimmed { .. }));
    let source = quoted(&item.shown);
    let good = if rom.is_some() || !roms.is_empty() {
        format!(
            "checksums of its own prove little: decanter verify {source} --against DAT holds it against a known dump"
        )
    } else if item.opened.holds.expectation.is_some() {
        format!("decanter verify SOURCE --against {source}")
    } else {
        "it reads well; to prove its content, give a description of it with --against".into()
    };
    let mut report = VerifyReport::of(item, good);
    if is_short {
        let next = "it ends before its declared length: dump it again, or pad it (convert --pad) if it was trimmed";
        report.findings.next(Finding::Short, next);
    }
    if missing > 0 {
        let bytes = item.opened.extent.promised_len.map_or(0, |p| p.saturating_sub(len));
        let what = match item.opened.identity.role == Role::Package {
            true => tell::count(bytes, "byte is", "bytes are"),
            false => tell::count(missing, "sector is", "sectors are"),
        };
        let next = format!("{what} missing at its end: copy or dump it again");
        report.findings.next(Finding::Short, next);
    }
    if !all_right {
        let next = format!(
            "a checksum of its own does not hold: a bad dump, or one that was changed; decanter verify {source} --against DAT tells"
        );
        report.findings.next(Finding::Differs, next);
    }
    if counts.unreadable > 0 {
        let next = "what is damaged has to be copied or dumped again; \"decanter extract\" takes what is whole";
        report.findings.next(Finding::Broken, next);
    }
    if proven > 0 {
        report.proofs.push(tell::count(proven as u64, "checksum of a file", "checksums of files"));
    }
    (report.counts, report.files, report.rom, report.roms) = (counts, files, rom, roms);
    Ok(report)
}

/// Whether a file holds a second ROM.
fn is_two(shape: &Shape) -> bool {
    matches!(shape, Shape::Trailing { is_rom: true, .. })
}

/// Reads all of a source, which is what makes its own digests be checked.
fn read_through(source: &SourceRef, setting: &Setting<'_>) -> Result<()> {
    decanter_core::digest::of_source(source, &[], setting.watch).map(|_| ())
}
