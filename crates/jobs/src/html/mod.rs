//! Pages that people keep: one file, no network, light and dark; tables can be sorted and turned over where scripts run, and read
//! where they do not.

use crate::grouped;
use decanter_core::tell::size;

const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// A whole page; `body` is what stands between its header and its end.
pub(crate) fn document(title: &str, body: &str) -> String {
    let title = plain(title);
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <meta name=\"color-scheme\" content=\"light dark\">\n<title>{title}</title>\n\
         <style>\n{STYLE}</style>\n</head>\n<body>\n{body}</main>\n<script>\n{SCRIPT}</script>\n</body>\n</html>\n"
    )
}

/// Text that is no markup.
pub(crate) fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            // What would turn the line around, or not show at all, is told by its number.
            c if c.is_control()
                || matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}') =>
            {
                out.push_str(&format!("\\u{{{:x}}}", u32::from(c)));
            }
            c => match decanter_core::native::byte(c) {
                Some(byte) => out.push_str(&format!("\\x{byte:02x}")),
                None => out.push(c),
            },
        }
    }
    out
}

/// A cell: what is shown, and what it is sorted by where that is a number.
pub(crate) enum Cell {
    Text(String),
    Number(u64, String),
    Raw(String),
}

/// A number, sorted as one.
pub(crate) fn number(value: u64) -> Cell {
    Cell::Number(value, grouped(value))
}

/// A number of bytes.
pub(crate) fn bytes(value: u64) -> Cell {
    Cell::Number(value, size(value))
}

/// A text that may be missing.
pub(crate) fn text(value: &Option<String>) -> Cell {
    Cell::Text(value.clone().unwrap_or_default())
}

/// A table with its head.
pub(crate) fn table(id: &str, head: &[&str], rows: impl Iterator<Item = Vec<Cell>>) -> String {
    let mut rows = rows.peekable();
    let mut is_number =
        |at: usize| rows.peek().is_some_and(|row: &Vec<Cell>| matches!(row.get(at), Some(Cell::Number(..))));
    let mut heads = String::new();
    for (at, name) in head.iter().enumerate() {
        let class = if is_number(at) { " class=\"n\"" } else { "" };
        heads.push_str(&format!("<th scope=\"col\"{class}>{}</th>", plain(name)));
    }
    let mut body = String::new();
    for row in rows {
        body.push_str("<tr>");
        for cell in row {
            match cell {
                // Paths may be broken anywhere; words are not.
                Cell::Text(text) if text.contains(['/', '\\']) => {
                    body.push_str(&format!("<td class=\"p\">{}</td>", plain(&text)));
                }
                Cell::Text(text) => body.push_str(&format!("<td>{}</td>", plain(&text))),
                Cell::Number(value, shown) => {
                    body.push_str(&format!("<td class=\"n\" data-v=\"{value}\">{}</td>", plain(&shown)));
                }
                Cell::Raw(html) => body.push_str(&format!("<td>{html}</td>")),
            }
        }
        body.push_str("</tr>\n");
    }
    format!("<table id=\"{id}\"><thead><tr>{heads}</tr></thead>\n<tbody>\n{body}</tbody></table>\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_no_markup_and_do_not_turn_lines_around() {
        assert_eq!(plain("<b>&\"'"), "&lt;b&gt;&amp;&quot;&#39;");
        assert_eq!(plain("a\u{202e}b\n"), "a\\u{202e}b\\u{a}");
    }
}
