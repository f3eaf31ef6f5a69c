//! Programs: a load address and what goes there; and what shows whether it is one that starts.

use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tell;
use decanter_core::{Error, Result};

const ID: &str = "prg";
/// Where BASIC programs of the C64 begin.
const BASIC: u16 = 0x0801;
/// The token of SYS.
const SYS: u8 = 0x9e;
/// The most bytes that fit in memory, with the address.
const MOST_LEN: u64 = 65538;

/// The format.
pub struct Prg;

/// What the beginning of a program shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Start {
    /// Where it is loaded.
    pub load: u16,
    /// Whether it begins with a line of BASIC.
    pub is_basic: bool,
    /// The address that its first line starts, with SYS.
    pub sys: Option<u32>,
}

/// Looks at the beginning of a program; `None` if it is too short to have an address.
pub fn start(head: &[u8]) -> Option<Start> {
    let load = u16::from_le_bytes([*head.first()?, *head.get(1)?]);
    let none = Start { load, is_basic: false, sys: None };
    // The start of BASIC of the C64, the C128 and their kin.
    if !matches!(load, 0x0401 | 0x0801 | 0x1001 | 0x1201 | 0x1c01 | 0x4001) {
        return Some(none);
    }
    let Some(&[next_low, next_high, _, _, ref line @ ..]) = head.get(2..).filter(|l| l.len() >= 6) else {
        return Some(none);
    };
    let next = u16::from_le_bytes([next_low, next_high]);
    let Some(end) = line.iter().take(250).position(|b| *b == 0) else { return Some(none) };
    // Loaders may leave a wrong link: BASIC mends it. A line has to end where it says, or have a token.
    let is_basic =
        next == load.wrapping_add(end as u16 + 5) || line.iter().take(end).any(|b| *b >= 0x80) && next > load;
    let digits = line.iter().take(end).position(|b| *b == SYS).map(|at| &line[at + 1..end]);
    let sys = digits.and_then(|text| {
        let number: String = text
            .iter()
            .skip_while(|b| **b == b' ' || **b == b'(')
            .take_while(|b| b.is_ascii_digit())
            .map(|b| char::from(*b))
            .collect();
        number.parse().ok()
    });
    Some(Start { load, is_basic, sys })
}

/// The same in words, as a directory lists it.
pub fn words(head: &[u8]) -> Vec<String> {
    let Some(start) = start(head) else { return Vec::new() };
    let mut words = vec![format!("loads at ${:04x}", start.load)];
    match (start.is_basic, start.sys) {
        (true, Some(address)) => words.push(format!("SYS {address}")),
        (true, None) => words.push("BASIC".into()),
        _ => {}
    }
    words
}

/// How likely it is that a program is the one to start, and why: the more, the likelier.
pub fn judge(name: &str, content: &[u8]) -> (i32, Vec<String>) {
    let (mut points, mut why) = (0, Vec::new());
    let mut add = |more: i32, text: String| {
        points += more;
        why.push(text);
    };
    let Some(start) = start(content) else { return (-50, vec!["too short for a program".into()]) };
    match (start.is_basic, start.sys) {
        (true, Some(address)) => add(50, format!("its first line is SYS {address}")),
        (true, None) => add(30, "a BASIC program, which RUN starts".into()),
        _ if start.load == BASIC => add(5, "loads where BASIC begins, but has no first line".into()),
        _ => add(-15, format!("loads at ${:04x}, where RUN starts nothing", start.load)),
    }
    let blocks = content.len().div_ceil(254);
    match blocks {
        0..=3 => add(-5, format!("small: {}", tell::count(blocks as u64, "block", "blocks"))),
        4..=19 => add(5, format!("{blocks} blocks")),
        20..=220 => add(15, format!("{blocks} blocks, the size of a game")),
        _ => add(10, format!("{blocks} blocks")),
    }
    let body = content.get(2..).unwrap_or_default();
    let readable = body.iter().filter(|b| matches!(b, 0x20..=0x5f | 0x0d | 0xc1..=0xda)).count();
    if !start.is_basic && body.len() > 64 && readable * 10 > body.len() * 9 {
        add(-40, "reads like a text".into());
    }
    let lower = name.to_lowercase();
    if ["note", "docs", "read", "info", "instr", "hiscore", "hi-score", "score"].iter().any(|w| lower.contains(w)) {
        add(-20, "named like a text or a table".into());
    }
    (points, why)
}

impl Format for Prg {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "C64 program"
    }

    fn role(&self) -> Role {
        Role::Program
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["prg"]
    }

    fn reads(&self) -> &'static str {
        "load address, BASIC start line"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if !(8..=MOST_LEN).contains(&source.len()) {
            return Ok(None);
        }
        let head = read_vec(source, 0, source.len().min(256), "the start of a program", 256)?;
        let found = start(&head).filter(|s| s.is_basic && u64::from(s.load) + source.len() - 2 <= 0x1_0000);
        Ok(found.map(|s| if s.sys.is_some() { 55 } else { 30 }))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let head = read_vec(source.as_ref(), 0, source.len().min(256), "the start of a program", 256)?;
        let Some(start) = start(&head) else { return Err(Error::malformed(ID, "too short for an address", 0)) };
        let mut opened = Opened::new(ID, self.name());
        let end = u64::from(start.load) + source.len().saturating_sub(2);
        opened.fact("loads at", format!("${:04x} to ${:04x}", start.load, end.saturating_sub(1)));
        match (start.is_basic, start.sys) {
            (true, Some(address)) => opened.fact("starts", format!("RUN: SYS {address} (${address:04x})")),
            (true, None) => opened.fact("starts", "RUN: a BASIC program"),
            _ => {}
        }
        Ok(opened)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_first_line_tells_how_it_starts() {
        let program = b"\x01\x08\x0b\x08\x0a\x00\x9e2061\0\0\0\x60";
        assert_eq!(start(program), Some(Start { load: 0x0801, is_basic: true, sys: Some(2061) }));
        assert_eq!(words(program), ["loads at $0801", "SYS 2061"]);
        assert_eq!(words(b"\x00\xc0\xa9\x00"), ["loads at $c000"]);
        assert!(judge("FOGBELL", program).0 > judge("HISCORE", b"\x00\xc0\x01\x02").0);
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(head in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = words(&head);
            let _ = judge("X", &head);
        }
    }
}
