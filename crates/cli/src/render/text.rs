//! Pages as text on a terminal, or in a pipe.

use super::page::{Page, Part, Table};
use super::paper;
use super::style;
use std::io::{self, Write};

/// Characters of a label.
const LABEL: usize = 13;

/// Writes a page; notices go to standard error, so that what is piped on stays clean. Tables are no wider than `width`,
/// where that is known.
///
/// # Errors
/// When it cannot be written.
pub fn write(out: &mut dyn Write, page: &Page, width: Option<usize>) -> io::Result<()> {
    for part in &page.parts {
        match part {
            Part::Title(text) => writeln!(out, "{}{}{}", style::BOLD, line(text), style::PLAIN)?,
            Part::Line(text) => writeln!(out, "{}", line(text))?,
            Part::Row(label, value) => {
                // A label that is as wide as the column still ends before its value.
                let label = format!("{label} ");
                writeln!(out, "  {}{label:<LABEL$}{}{}", style::DIM, style::PLAIN, line(value))?;
            }
            Part::Table(table) => write_table(out, table, width)?,
            Part::Brief(_) => {}
            Part::Blank => writeln!(out)?,
            Part::Notices(notices) => {
                out.flush()?;
                let mut err = paper::stderr();
                for notice in notices {
                    writeln!(err, "{}notice:{} {}", style::WARN, style::PLAIN, line(&notice.text))?;
                }
            }
        }
    }
    out.flush()
}

/// A text that may hold names of others: none of them ends a line of ours.
fn line(text: &str) -> String {
    text.replace('\n', "\\n")
}

/// The narrowest that a column is made to fit a table into the terminal.
const LEAST_COLUMN: usize = 12;

/// Makes columns narrower, the widest one first, until all of them fit.
fn fit(widths: &mut [usize], room: usize) {
    let gaps = 2 * widths.len().saturating_sub(1);
    while widths.iter().sum::<usize>() + gaps > room {
        let Some(widest) = widths.iter_mut().max().filter(|width| **width > LEAST_COLUMN) else { return };
        *widest -= 1;
    }
}

/// A text of at most so many characters: what is left out is left out in the middle, as names differ at both ends.
pub fn shortened(text: &str, most: usize) -> String {
    let count = text.chars().count();
    if count <= most || most < 3 {
        return text.to_owned();
    }
    let (head, tail) = ((most - 1) / 2, most / 2);
    let head: String = text.chars().take(head).collect();
    let tail: String = text.chars().skip(count - tail).collect();
    format!("{head}\u{2026}{tail}")
}

/// Columns as wide as what is in them, as far as there is room; those with nothing in them are left out.
fn write_table(out: &mut dyn Write, table: &Table, room: Option<usize>) -> io::Result<()> {
    let cell = |row: &[String], index: usize| row.get(index).cloned().unwrap_or_default();
    let has_text = |index: &usize| table.rows.iter().any(|row| !cell(row, *index).is_empty());
    let columns: Vec<usize> = (0..table.head.len()).filter(has_text).collect();
    let mut lines: Vec<Vec<String>> = vec![table.head.iter().map(|c| c.name.to_owned()).collect()];
    lines.extend(table.rows.iter().cloned());
    let width = |index: &usize| lines.iter().map(|row| cell(row, *index).chars().count()).max().unwrap_or(0);
    let mut widths: Vec<usize> = columns.iter().map(width).collect();
    if let Some(room) = room {
        fit(&mut widths, room);
    }
    for (number, row) in lines.iter().enumerate() {
        let cells = columns.iter().zip(&widths).map(|(&index, width)| match table.head[index].is_number {
            true => format!("{:>width$}", cell(row, index)),
            false => format!("{:<width$}", shortened(&cell(row, index), *width)),
        });
        let text = line(cells.collect::<Vec<_>>().join("  ").trim_end());
        match number {
            0 => writeln!(out, "{}{text}{}", style::BOLD, style::PLAIN)?,
            _ => writeln!(out, "{text}")?,
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::page::Column;
    use super::super::paper::Paper;
    use super::*;

    fn text(make: impl FnOnce(&mut Page)) -> String {
        let mut page = Page::default();
        make(&mut page);
        let mut bytes = Vec::new();
        write(&mut Paper::new(&mut bytes, false), &page, None).unwrap();
        String::from_utf8(bytes).unwrap()
    }

    #[test]
    fn a_table_fits_the_terminal() {
        let head = vec![Column::number("BYTES"), Column::text("PATH"), Column::text("NOTE")];
        let rows = vec![vec!["7".into(), "a long way/to the moth.iso".into(), "as it is".into()]];
        let mut bytes = Vec::new();
        write_table(&mut Paper::new(&mut bytes, false), &Table { head, rows }, Some(34)).unwrap();
        let told = String::from_utf8(bytes).unwrap();
        assert!(told.lines().all(|line| line.chars().count() <= 34), "{told}");
        assert!(told.contains("a long w\u{2026}moth.iso"), "{told}");
        assert_eq!(
            (shortened("abcdef", 5), shortened("abc", 3), shortened("abcdef", 2)),
            ("ab\u{2026}ef".into(), "abc".into(), "abcdef".into())
        );
    }

    #[test]
    fn a_short_page_has_results_only() {
        let mut page = Page::default();
        page.line("wrote a");
        page.brief("a");
        page.row("size", "1");
        page.shorten();
        let mut bytes = Vec::new();
        write(&mut Paper::new(&mut bytes, false), &page, None).unwrap();
        assert_eq!(bytes, b"a\n");
        let mut page = Page::default();
        page.line("what is asked for");
        page.shorten();
        assert_eq!(page.parts.len(), 1);
    }

    #[test]
    fn parts_stand_below_each_other() {
        let told = text(|page| {
            page.title("kelp.iso");
            page.row("what", "a disc");
            page.row("", "and more");
            page.row("prepared with", "a tool");
            page.blank();
            page.line("done");
        });
        assert_eq!(told, "kelp.iso\n  what         a disc\n               and more\n  prepared with a tool\n\ndone\n");
    }

    #[test]
    fn names_do_not_begin_lines() {
        let told = text(|page| {
            page.title("a\nnext: rm");
            page.row("what", "b\n");
            page.line("c\r\nd");
        });
        assert_eq!(told, "a\\nnext: rm\n  what         b\\n\nc\\r\\nd\n");
    }

    #[test]
    fn columns_are_as_wide_as_what_is_in_them() {
        let head = vec![Column::number("BYTES"), Column::text("NAME"), Column::text("STATE")];
        let rows =
            vec![vec!["7".into(), "moth".into(), String::new()], vec!["123,456".into(), "b".into(), "bad".into()]];
        let told = text(|page| page.table(Table { head: head.clone(), rows }));
        assert_eq!(told, "  BYTES  NAME  STATE\n      7  moth\n123,456  b     bad\n");
        let rows = vec![vec![String::new(), "moth".into(), String::new()]];
        assert_eq!(text(|page| page.table(Table { head: head.clone(), rows })), "NAME\nmoth\n", "no empty columns");
        assert_eq!(text(|page| page.table(Table { head, rows: Vec::new() })), "", "an empty table has no head");
    }
}
