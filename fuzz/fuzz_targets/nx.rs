#![no_main]
//! The family of the hybrid console: contents, tables of updates, file systems, lists of contents, tickets, control data,
//! gamecards. The first byte chooses one, and its mark is put where it belongs.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener};
use decanter_core::source::{Bytes, SourceRef};
use decanter_formats::REGISTRY;
use decanter_formats::package::nx::partition::{Kinds, Partition};
use decanter_formats::package::nx::{bktr, cnmt, content, nacp, nsp, romfs, ticket, xci};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let mut bytes = data.to_vec();
    let mut mark = |at: usize, mark: &[u8]| {
        if bytes.len() >= at + mark.len() {
            bytes[at..at + mark.len()].copy_from_slice(mark);
        }
    };
    let format: &dyn Format = match which % 9 {
        0 => {
            // A header in the clear, sections that are not encrypted.
            mark(0x200, b"NCA3");
            (0..4).for_each(|section| mark(0x400 + section * 0x200, &[2, 0]));
            &content::CONTENT
        }
        1 => {
            mark(0, b"PFS0");
            &nsp::PACKAGE
        }
        2 => {
            mark(0x100, b"HEAD");
            &xci::CARD
        }
        3 => {
            mark(0, b"HFS0");
            &nsp::HASHED
        }
        4 => {
            mark(0, &0x50u64.to_le_bytes());
            let source: SourceRef = Arc::new(Bytes(bytes));
            if let Ok(files) = romfs::Files::read(source.as_ref(), source.len()) {
                let _ = files.nodes(&source, "");
            }
            return;
        }
        5 => {
            let _ = cnmt::Cnmt::parse(bytes);
            return;
        }
        6 => {
            mark(0, &[4, 0, 1, 0]);
            let _ = ticket::Ticket::parse(&bytes);
            let _ = nacp::Nacp::parse(&bytes);
            return;
        }
        7 => {
            let count = u32::from(data.first().copied().unwrap_or_default());
            let place = bktr::Place { range: 0..bytes.len() as u64, count };
            let source: SourceRef = Arc::new(Bytes(bytes));
            let _ = bktr::counters(source.as_ref(), &place);
            if let Ok(moves) = bktr::Moves::read(source.as_ref(), &place, source.len())
                && let Ok(view) = bktr::Patched::new(source.clone(), source.clone(), moves)
            {
                use decanter_core::source::Source;
                let _ = view.read_at(0, &mut vec![0; view.len().min(4096) as usize]);
            }
            return;
        }
        _ => {
            mark(0, b"PFS0");
            let source: SourceRef = Arc::new(Bytes(bytes));
            if let Ok(files) = Partition::read(source.as_ref(), Kinds::Plain) {
                let _ = files.nodes(&source, "");
            }
            return;
        }
    };
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let Ok(mut opened) = format.open(Arc::new(Bytes(bytes)), &opener) else { return };
    let _ = opened.look_inside();
    for inspect in &opened.proof.inspections {
        let _ = inspect(&());
    }
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(50) {
        if let Ok(source) = file.source() {
            let _ = source.read_at(0, &mut vec![0; source.len().min(64) as usize]);
        }
    }
});
