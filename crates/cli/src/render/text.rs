//! Pages as text on a terminal, or in a pipe.

use super::page::{Page, Part, Table};
use super::paper;
use super::style;
use std::io::{self, Write};

/// Characters of a label.
const LABEL: usize = 13;

/// Writes a page; notices go to standard error, so that what is piped on stays clean.
///
/// # Errors
/// When it cannot be written.
pub fn write(out: &mut dyn Write, page: &Page) -> io::Result<()> {
    for part in &page.parts {
        match part {
            Part::Title(text) => writeln!(out, "{}{}{}", style::BOLD, line(text), style::PLAIN)?,
            Part::Line(text) => writeln!(out, "{}", line(text))?,
            Part::Row(label, value) => {
                // A label that is as wide as the column still ends before its value.
                let label = format!("{label} ");
                writeln!(out, "  {}{label:<LABEL$}{}{}", style::DIM, style::PLAIN, line(value))?;
            }
            Part::Table(table) => write_table(out, table)?,
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

/// Columns as wide as what is in them; those with nothing in them are left out.
fn write_table(out: &mut dyn Write, table: &Table) -> io::Result<()> {
    let cell = |row: &[String], index: usize| row.get(index).cloned().unwrap_or_default();
    let has_text = |index: &usize| table.rows.iter().any(|row| !cell(row, *index).is_empty());
    let columns: Vec<usize> = (0..table.head.len()).filter(has_text).collect();
    let mut lines: Vec<Vec<String>> = vec![table.head.iter().map(|c| c.name.to_owned()).collect()];
    lines.extend(table.rows.iter().cloned());
    let width = |index: &usize| lines.iter().map(|row| cell(row, *index).chars().count()).max().unwrap_or(0);
    let widths: Vec<usize> = columns.iter().map(width).collect();
    for (number, row) in lines.iter().enumerate() {
        let cells = columns.iter().zip(&widths).map(|(&index, width)| match table.head[index].is_number {
            true => format!("{:>width$}", cell(row, index)),
            false => format!("{:<width$}", cell(row, index)),
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
        write(&mut Paper::new(&mut bytes, false), &page).unwrap();
        String::from_utf8(bytes).unwrap()
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
