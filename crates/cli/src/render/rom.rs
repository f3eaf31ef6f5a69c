//! A ROM, as text: its shape, its checksums, its save memory.

use super::{Page, count, number, size, style};
use decanter_core::rom::{Lanes, SaveKind, SaveMemory, Shape};
use decanter_jobs::rom::RomReport;

/// Shows what is known of a ROM: its shape, its checksums, its save memory.
pub fn show(page: &mut Page, rom: &RomReport) {
    if let Some(through) = &rom.through {
        page.row("through", format!("{through}; the ROM itself has {} bytes", number(rom.bytes)));
    }
    page.row("length", shape(rom));
    for check in &rom.checks {
        let note = check.note.as_deref().map(|n| format!(" ({n})")).unwrap_or_default();
        let words = if check.is_right {
            format!("{}{} right{}{note}", check.stored, style::GOOD, style::PLAIN)
        } else {
            format!("{}{} wrong{}, it should be {}{note}", check.stored, style::BAD, style::PLAIN, check.right)
        };
        let (label, more) =
            if check.name.len() > 12 { ("checksum", format!("{} ", check.name)) } else { (check.name, String::new()) };
        page.row(label, format!("{more}{words}"));
    }
    page.row("save memory", save(&rom.save))
}

/// The same in a word or two, where there is something to say.
pub fn short_state(rom: &RomReport) -> Vec<String> {
    let mut words = Vec::new();
    match &rom.shape {
        Shape::Trimmed { .. } if rom.declared_bytes.is_none() => words.push("trimmed".into()),
        Shape::Trimmed { missing } => words.push(format!("{} short", count(*missing as usize, "byte"))),
        Shape::Overdumped { .. } => words.push("over-dumped".into()),
        Shape::Trailing { is_rom: true, .. } => words.push("two ROMs".into()),
        Shape::Trailing { .. } => words.push("something after it".into()),
        Shape::Padded { .. } | Shape::Complete => {}
    }
    if !rom.is_right() {
        words.push("checksum wrong".into());
    }
    words
}

fn shape(rom: &RomReport) -> String {
    let declared = rom.declared_bytes.map(|d| format!("declared are {} bytes", number(d)));
    let (bad, warn, plain) = (style::BAD, style::WARN, style::PLAIN);
    match (&rom.shape, declared) {
        (Shape::Complete, Some(declared)) => format!("complete; {declared}"),
        (Shape::Complete, None) => "nothing speaks against it; the header declares none".into(),
        (Shape::Padded { from, byte }, declared) => {
            let what = declared.map(|d| format!("{d}, ")).unwrap_or_default();
            format!("{what}nothing but {byte:#04x} in the last {}", count((rom.bytes - from) as usize, "byte"))
        }
        (Shape::Trimmed { missing }, Some(declared)) => {
            format!("{bad}TOO SHORT{plain}: {declared}, {} are missing at its end", number(*missing))
        }
        (Shape::Trimmed { missing }, None) => {
            format!("{warn}trimmed{plain}, by the look of it: a chip has {} more", count(*missing as usize, "byte"))
        }
        (Shape::Overdumped { from }, declared) => {
            let what = declared.map(|d| format!("{d}; ")).unwrap_or_default();
            format!("{warn}over-dumped{plain}: {what}from {from:#x} on the content repeats")
        }
        (Shape::Trailing { from, is_rom }, declared) => {
            let what = if *is_rom { "another ROM follows" } else { "something follows that is no padding" };
            let declared = declared.map(|d| format!("{d}; ")).unwrap_or_default();
            format!("{bad}TOO LONG{plain}: {declared}{what} from {from:#x} on")
        }
    }
}

/// The save memory in words.
pub fn save(save: &SaveMemory) -> String {
    let sizes: Vec<String> = save.sizes.iter().map(|s| size(*s)).collect();
    let what = match save.kind {
        SaveKind::None => "none".into(),
        SaveKind::Unknown if sizes.is_empty() => "not known".into(),
        SaveKind::Unknown => format!("not known; {}", sizes.join(", ")),
        kind => format!("{}, {}", kind.name(), sizes.join(" or ")),
    };
    let lanes = match save.lanes {
        Lanes::All => "",
        Lanes::Even => " at even addresses",
        Lanes::Odd => " at odd addresses",
    };
    let clock = if save.clock { ", and a clock" } else { "" };
    format!("{what}{lanes}{clock} (known by: {})", save.known_by)
}
