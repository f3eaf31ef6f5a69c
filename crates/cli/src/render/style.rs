//! Colours. They say nothing that the words do not say too.

use std::fmt;
use std::hash::{BuildHasher, RandomState};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU8, Ordering};

/// A colour, told by a sign that no source can know: [`super::paper`] turns it into what a terminal takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ink(u8);

/// What was typed or asked.
pub const BOLD: Ink = Ink(0);
/// Labels.
pub const DIM: Ink = Ink(1);
/// As it should be.
pub const GOOD: Ink = Ink(2);
/// Worth a look.
pub const WARN: Ink = Ink(3);
/// Not as it should be.
pub const BAD: Ink = Ink(4);
/// Back to normal.
pub const PLAIN: Ink = Ink(5);

/// What a terminal takes, by number (ECMA-48, select graphic rendition).
const SEQUENCES: [&str; 6] =
    ["\u{1b}[1m", "\u{1b}[2m", "\u{1b}[1m\u{1b}[32m", "\u{1b}[33m", "\u{1b}[1m\u{1b}[31m", "\u{1b}[0m"];

/// Another one in every run.
static SIGN: LazyLock<String> = LazyLock::new(|| format!("\u{1b}{:016x}", RandomState::new().hash_one(SEQUENCES)));

impl fmt::Display for Ink {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // In one piece, as whoever looks for it takes text piece by piece.
        f.write_str(&format!("{}{}", *SIGN, self.0))
    }
}

impl Ink {
    /// The colour that `text` begins with, and the bytes that it takes.
    pub(super) fn at(text: &str) -> Option<(Self, usize)> {
        let number = text.strip_prefix(SIGN.as_str())?.bytes().next()?.checked_sub(b'0')?;
        (usize::from(number) < SEQUENCES.len()).then_some((Self(number), SIGN.len() + 1))
    }

    /// What a terminal takes.
    pub(super) fn sequence(self) -> &'static str {
        SEQUENCES[usize::from(self.0)]
    }
}

/// What was asked for: 0 nothing, 1 always, 2 never.
static CHOICE: AtomicU8 = AtomicU8::new(0);

/// Colours always, or never; `None` where they can be seen.
pub fn choose(always: Option<bool>) {
    CHOICE.store(always.map_or(0, |a| if a { 1 } else { 2 }), Ordering::Relaxed);
}

/// Whether there are colours on a stream.
pub fn is_coloured(is_terminal: bool) -> bool {
    let set = |name| std::env::var_os(name).is_some_and(|v| !v.is_empty());
    match CHOICE.load(Ordering::Relaxed) {
        1 => true,
        2 => false,
        // https://no-color.org, and terminals that say that they know nothing.
        _ => is_terminal && !set("NO_COLOR") && std::env::var_os("TERM").is_none_or(|t| t != "dumb"),
    }
}
