//! Shows physical lines, with everything invisible written out.

use std::io::{self, Write};

use barrow_core::look::{Line, Place, RecordAt};
use owo_colors::OwoColorize;
use serde_json::json;
use unicode_width::UnicodeWidthStr;

use super::{ended, number};
use crate::args::Report;
use crate::failure::Failure;

/// Lines of a file, one of them perhaps looked at closely.
pub struct LinesView {
    pub file: String,
    /// The line that was asked for.
    pub at: Option<u64>,
    pub lines: Vec<Line>,
    /// The record that has it.
    pub record: Option<RecordAt>,
    /// Whether a spec reads the file.
    pub by_spec: bool,
    /// Whether fields have a set width, so that a ruler counts places.
    pub by_width: bool,
}

/// Prints them.
pub fn print(view: &LinesView, report: Report) -> Result<(), Failure> {
    match report {
        Report::Json => ended(writeln!(io::stdout(), "{:#}", document(view))),
        Report::Text => ended(text(view, &mut anstream::stdout().lock())),
    }
}

fn text(view: &LinesView, out: &mut impl Write) -> io::Result<()> {
    writeln!(out, "{}{}\n", view.file.bold(), place(view))?;
    let digits = view
        .lines
        .iter()
        .map(|l| number(l.number).len())
        .max()
        .unwrap_or(1);
    let width = super::width().saturating_sub(digits + 4).max(20);
    for line in &view.lines {
        let here = view.at == Some(line.number);
        let mark = if here { "→" } else { " " };
        let label = format!("{mark} {:>digits$}  ", number(line.number));
        if !here {
            writeln!(out, "{}{}", label.dimmed(), cut(&line.shown, width))?;
            continue;
        }
        close(view, line, &label, width, out)?;
    }
    if view.lines.is_empty() {
        writeln!(out, "  no lines")?;
    }
    Ok(())
}

fn place(view: &LinesView) -> String {
    match (view.at, &view.record) {
        (Some(line), Some(record)) if record.first_line < line => format!(
            ", line {}: record {}, which starts on line {}",
            number(line),
            number(record.record),
            number(record.first_line)
        ),
        (Some(line), Some(record)) => {
            format!(", line {}: record {}", number(line), number(record.record))
        }
        (Some(line), None) if view.by_spec => {
            format!(
                ", line {}: no record (preamble, header, trailer, comment or blank)",
                number(line)
            )
        }
        (Some(line), None) => format!(", line {}", number(line)),
        (None, _) => String::new(),
    }
}

/// A line folded to the width, with a ruler and what is wrong under it.
fn close(
    view: &LinesView,
    line: &Line,
    label: &str,
    width: usize,
    out: &mut impl Write,
) -> io::Result<()> {
    let characters: Vec<char> = line.shown.chars().collect();
    let none = RecordAt::default();
    let record = view.record.as_ref().unwrap_or(&none);
    let blank = " ".repeat(label.chars().count());
    let pieces = characters
        .chunks(width)
        .map(|c| c.iter().collect::<String>());
    for (number, piece) in pieces.enumerate() {
        let from = number * width;
        let lead = if number == 0 { label } else { &blank };
        writeln!(out, "{}{}", lead.bold(), piece.bold())?;
        if view.by_width {
            writeln!(
                out,
                "{blank}{}",
                places(from, piece.chars().count()).dimmed()
            )?;
        } else if !record.fields.is_empty() {
            writeln!(
                out,
                "{blank}{}",
                numbers(&record.fields, from, width).dimmed()
            )?;
        }
        for field in record
            .fields
            .iter()
            .filter(|f| (from..from + width).contains(&f.start))
        {
            trouble(field, from, width, &blank, out)?;
        }
    }
    for words in &record.troubles {
        writeln!(out, "{blank}{} {}", "^".red().bold(), words.red())?;
    }
    Ok(())
}

fn trouble(
    field: &Place,
    from: usize,
    width: usize,
    blank: &str,
    out: &mut impl Write,
) -> io::Result<()> {
    let carets = "^".repeat(field.length.clamp(1, (width - (field.start - from)).max(1)));
    let column = field
        .column
        .as_deref()
        .map(|c| format!("{c}: "))
        .unwrap_or_default();
    for words in &field.troubles {
        let lead = " ".repeat(field.start - from);
        writeln!(out, "{blank}{lead}{} {column}{words}", carets.red().bold())?;
    }
    Ok(())
}

/// Each field's number under its first character.
fn numbers(fields: &[Place], from: usize, width: usize) -> String {
    let mut ruler = String::new();
    for field in fields
        .iter()
        .filter(|f| (from..from + width).contains(&f.start))
    {
        let at = field.start - from;
        if at >= ruler.len() {
            ruler.push_str(&" ".repeat(at - ruler.len()));
            ruler.push_str(&field.field.to_string());
            ruler.push(' ');
        }
    }
    ruler
}

/// Places counted from 1: a number at every tenth, a dot at every fifth.
fn places(from: usize, width: usize) -> String {
    let mut ruler = String::new();
    for place in from + 1..=from + width {
        let label = place.to_string();
        if place % 10 == 0 {
            let keep = (place - from - 1).saturating_sub(label.len() - 1);
            ruler.truncate(keep);
            ruler.push_str(&label);
        } else {
            ruler.push(if place % 5 == 0 { '+' } else { '.' });
        }
    }
    ruler
}

fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_string();
    }
    text.chars()
        .take(width.saturating_sub(1))
        .chain(['…'])
        .collect()
}

fn document(view: &LinesView) -> serde_json::Value {
    let lines: Vec<_> = view
        .lines
        .iter()
        .map(|l| json!({ "line": l.number, "shown": l.shown }))
        .collect();
    let record = view.record.as_ref().map(|record| {
        let fields = record.fields.iter().map(|f| {
            json!({ "field": f.field, "column": f.column, "start": f.start, "length": f.length,
                    "troubles": f.troubles })
        });
        json!({
            "record": record.record, "first_line": record.first_line,
            "fields": fields.collect::<Vec<_>>(), "troubles": record.troubles,
        })
    });
    json!({ "file": view.file, "at": view.at, "lines": lines, "record": record })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rulers_count_from_one() {
        assert_eq!(places(0, 21), "....+...10....+...20.");
        assert_eq!(places(20, 10), "....+...30");
        let place = |field, start| Place {
            field,
            column: None,
            start,
            length: 1,
            troubles: vec![],
        };
        assert_eq!(
            numbers(&[place(1, 0), place(2, 5), place(3, 6)], 0, 40),
            "1    2 "
        );
    }
}
