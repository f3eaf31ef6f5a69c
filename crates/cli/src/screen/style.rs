//! Colours. They say nothing that the words do not say too.

use anstyle::{AnsiColor, Reset, Style};

/// What was typed or asked.
pub const BOLD: Style = Style::new().bold();
/// Labels.
pub const DIM: Style = Style::new().dimmed();
/// As it should be.
pub const GOOD: Style = AnsiColor::Green.on_default().bold();
/// Worth a look.
pub const WARN: Style = AnsiColor::Yellow.on_default();
/// Not as it should be.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
/// Back to normal.
pub const PLAIN: Reset = Reset;
