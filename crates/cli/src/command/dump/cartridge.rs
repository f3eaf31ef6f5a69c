//! A cartridge that was read, as text.

use crate::render::speed;
use crate::render::{Manner, Page, count, exact, number, style};
use decanter_core::native;
use decanter_jobs::dump::cartridge::{CartridgeReport, MemoryWish};
use std::time::Duration;

/// Unstable banks that are told one by one, unless everything is asked for.
const MOST_BANKS: usize = 10;

/// Shows what was read from a cartridge.
pub fn show_dump(page: &mut Page, report: &CartridgeReport, took: Duration, manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_BANKS };
    for bank in report.unstable.iter().take(most) {
        let lines: Vec<String> = bank.lines.iter().map(|l| format!("D{l}")).collect();
        let (colour, word) =
            if bank.unsettled_bytes > 0 { (style::BAD, "unsettled") } else { (style::WARN, "settled") };
        let unsettled = match bank.unsettled_bytes {
            0 => String::new(),
            n => format!(", {} without a clear value", number(n)),
        };
        page.line(format!(
            "  {colour}{word:<12} {}bank {} at {:#x}: {} differed in {} reads{unsettled}; data lines {}",
            style::PLAIN,
            bank.number,
            bank.offset,
            count(bank.differing_bytes as usize, "byte"),
            bank.reads,
            lines.join(", ")
        ));
    }
    if report.unstable.len() > most {
        page.line(format!("  and {}; -v names them all", count(report.unstable.len() - most, "more bank")));
    }
    let (colour, verb) = match (report.dry_run, report.unsettled_bytes) {
        (true, _) => (style::GOOD, "would write"),
        (_, 0) => (style::GOOD, "wrote"),
        _ => (style::BAD, "incomplete"),
    };
    page.line(format!("{colour}{verb}{} {}", style::PLAIN, native::text(&report.path)));
    let memory = match report.memory {
        MemoryWish::Rom => "ROM",
        MemoryWish::Save => "save memory",
    };
    page.row("from", format!("{} ({}), its {memory}", report.reader, report.reader_kind));
    page.row("size", format!("{} in {}", exact(report.bytes), count(report.banks as usize, "bank")));
    if let Some(kind) = &report.kind {
        let facts = ["title", "id"].iter().filter_map(|n| report.facts.iter().find(|f| f.name == *n));
        let facts: String = facts.map(|f| format!(", {}", f.value)).collect();
        page.row("what", format!("{kind}{facts}"));
    }
    if let Some(rom) = &report.rom {
        crate::render::rom::show(page, rom);
    }
    if !report.confidence.is_empty() {
        page.row("confidence", &report.confidence);
    }
    page.digests(&report.digests);
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
        page.row("written", format!("{} into the cartridge: {result}", written.from));
        page.row(
            "old save",
            format!("{} {}, kept in {}", written.old.algorithm.name(), written.old.hex(), native::text(&report.path)),
        );
        page.row("new save", format!("{} {}", written.new.algorithm.name(), written.new.hex()));
    }
    if !report.dry_run {
        page.row("took", speed(report.bytes * 2, took));
    }
    page.row("next", &report.next);
    page.notices(&report.notices, manner)
}
