use super::written::speed;
use super::{Manner, count, exact, number, row, size, style};
use decanter_core::native;
use decanter_core::rom::{Lanes, SaveKind, SaveMemory, Shape};
use decanter_jobs::dump::cartridge::{CartridgeReport, MemoryWish};
use decanter_jobs::rom::RomReport;
use std::io::{self, Write};
use std::time::Duration;

/// Unstable banks that are told one by one, unless everything is asked for.
const MOST_BANKS: usize = 10;

/// Shows what is known of a ROM: its shape, its checksums, its save memory.
///
/// # Errors
/// When it cannot be written.
pub fn show_rom(out: &mut dyn Write, rom: &RomReport) -> io::Result<()> {
    if let Some(through) = &rom.through {
        row(out, "through", &format!("{through}; the ROM itself has {} bytes", number(rom.bytes)))?;
    }
    row(out, "length", &shape(rom))?;
    for check in &rom.checks {
        let note = check.note.as_deref().map(|n| format!(" ({n})")).unwrap_or_default();
        let words = if check.is_right {
            format!("{}{} right{}{note}", check.stored, style::GOOD, style::PLAIN)
        } else {
            format!("{}{} wrong{}, it should be {}{note}", check.stored, style::BAD, style::PLAIN, check.right)
        };
        let (label, more) =
            if check.name.len() > 12 { ("checksum", format!("{} ", check.name)) } else { (check.name, String::new()) };
        row(out, label, &format!("{more}{words}"))?;
    }
    row(out, "save memory", &save(&rom.save))
}

/// The same in a word or two, where there is something to say.
pub fn short_state(rom: &RomReport) -> Vec<String> {
    let mut words = Vec::new();
    match &rom.shape {
        Shape::Trimmed { .. } if rom.declared_bytes.is_none() => words.push("trimmed".into()),
        Shape::Trimmed { missing } => words.push(format!("{} bytes short", number(*missing))),
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
            format!("{what}the last {} bytes are nothing but {byte:#04x}", number(rom.bytes - from))
        }
        (Shape::Trimmed { missing }, Some(declared)) => {
            format!("{bad}TOO SHORT{plain}: {declared}, {} are missing at its end", number(*missing))
        }
        (Shape::Trimmed { missing }, None) => {
            format!("{warn}trimmed{plain}, by the look of it: a chip has {} bytes more", number(*missing))
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

/// Shows what was read from a cartridge.
///
/// # Errors
/// When it cannot be written.
pub fn show_dump(out: &mut dyn Write, report: &CartridgeReport, took: Duration, manner: Manner) -> io::Result<()> {
    let most = if manner.is_verbose { usize::MAX } else { MOST_BANKS };
    for bank in report.unstable.iter().take(most) {
        let lines: Vec<String> = bank.lines.iter().map(|l| format!("D{l}")).collect();
        let (colour, word) =
            if bank.unsettled_bytes > 0 { (style::BAD, "unsettled") } else { (style::WARN, "settled") };
        let unsettled = match bank.unsettled_bytes {
            0 => String::new(),
            n => format!(", {} without a clear value", number(n)),
        };
        writeln!(
            out,
            "  {colour}{word:<13}{}bank {} at {:#x}: {} differed in {} reads{unsettled}; data lines {}",
            style::PLAIN,
            bank.number,
            bank.offset,
            count(bank.differing_bytes as usize, "byte"),
            bank.reads,
            lines.join(", ")
        )?;
    }
    if report.unstable.len() > most {
        writeln!(out, "  and {}; -v names them all", count(report.unstable.len() - most, "more bank"))?;
    }
    let (colour, verb) = match (report.dry_run, report.unsettled_bytes) {
        (true, _) => (style::GOOD, "would write"),
        (_, 0) => (style::GOOD, "wrote"),
        _ => (style::BAD, "incomplete"),
    };
    writeln!(out, "{colour}{verb}{} {}", style::PLAIN, native::text(&report.path))?;
    let memory = match report.memory {
        MemoryWish::Rom => "ROM",
        MemoryWish::Save => "save memory",
    };
    row(out, "from", &format!("{} ({}), its {memory}", report.reader, report.reader_kind))?;
    row(out, "size", &format!("{} in {}", exact(report.bytes), count(report.banks as usize, "bank")))?;
    if let Some(kind) = &report.kind {
        let facts = ["title", "id"].iter().filter_map(|n| report.facts.iter().find(|f| f.name == *n));
        let facts: String = facts.map(|f| format!(", {}", f.value)).collect();
        row(out, "what", &format!("{kind}{facts}"))?;
    }
    if let Some(rom) = &report.rom {
        show_rom(out, rom)?;
    }
    if !report.confidence.is_empty() {
        row(out, "confidence", &report.confidence)?;
    }
    for digest in &report.digests {
        row(out, digest.algorithm.name(), &digest.hex())?;
    }
    if let Some(written) = &report.written {
        let result = match written.first_wrong {
            None => format!("{}read back, all bytes are right{}", style::GOOD, style::PLAIN),
            Some(at) => format!(
                "{}{} read back wrong{}, the first at {at:#x}",
                style::BAD,
                count(written.wrong_bytes as usize, "byte"),
                style::PLAIN
            ),
        };
        row(out, "written", &format!("{} into the cartridge: {result}", written.from))?;
        row(
            out,
            "old save",
            &format!("{} {}, kept in {}", written.old.algorithm.name(), written.old.hex(), native::text(&report.path)),
        )?;
        row(out, "new save", &format!("{} {}", written.new.algorithm.name(), written.new.hex()))?;
    }
    if !report.dry_run {
        row(out, "took", &speed(report.bytes * 2, took))?;
    }
    row(out, "next", &report.next)?;
    out.flush()?;
    super::notices(&report.notices, manner)
}
