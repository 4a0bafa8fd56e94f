//! Shows physical lines, with everything invisible written out.

use std::io::{self, Write};
use std::ops::Range;

use barrow_core::escape::escape_for_display;
use barrow_core::inspect::{Line, Place, RecordAt};
use barrow_run::Error;
use barrow_run::peek::Lines;
use barrow_run::words::number;
use owo_colors::OwoColorize;
use unicode_width::UnicodeWidthChar;

use super::{display_width, json, printed};
use crate::args::Report;

/// Prints them.
pub fn print(view: &Lines, report: Report) -> Result<(), Error> {
    match report {
        Report::Json => json::print(view),
        Report::Text => printed(|out| text(view, out)),
    }
}

fn text(view: &Lines, out: &mut dyn Write) -> io::Result<()> {
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

fn place(view: &Lines) -> String {
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
                ", line {}: not a record (preamble, header, trailer, comment or empty line)",
                number(line)
            )
        }
        (Some(line), None) => format!(", line {}", number(line)),
        (None, _) => String::new(),
    }
}

/// The characters of a line, and where each stands on the screen: some take two
/// columns.
struct Drawn {
    characters: Vec<char>,
    /// The column of each character, and of the line's end.
    columns: Vec<usize>,
}

impl Drawn {
    fn new(line: &str) -> Drawn {
        let characters: Vec<char> = line.chars().collect();
        let mut columns = vec![0];
        for c in &characters {
            columns.push(columns[columns.len() - 1] + c.width().unwrap_or(0));
        }
        Drawn {
            characters,
            columns,
        }
    }

    /// Ranges of characters that fit side by side.
    fn pieces(&self, width: usize) -> Vec<Range<usize>> {
        let mut pieces = Vec::new();
        let mut from = 0;
        for next in 0..self.characters.len() {
            if self.columns[next + 1] - self.columns[from] > width {
                pieces.push(from..next);
                from = next;
            }
        }
        pieces.push(from..self.characters.len());
        pieces
    }

    /// Where a field starts in a piece of the line, if it does.
    fn start(&self, field: &Place, piece: &Range<usize>) -> Option<usize> {
        let is_last = piece.end == self.characters.len();
        let here = piece.contains(&field.start) || (is_last && field.start == piece.end);
        here.then(|| self.columns[field.start] - self.columns[piece.start])
    }
}

/// A line folded to the width, with a ruler and what is wrong under it.
fn close(
    view: &Lines,
    line: &Line,
    label: &str,
    width: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let drawn = Drawn::new(&line.shown);
    let none = RecordAt::default();
    let record = view.record.as_ref().unwrap_or(&none);
    let blank = " ".repeat(label.chars().count());
    for (number, piece) in drawn.pieces(width).into_iter().enumerate() {
        let lead = if number == 0 { label } else { &blank };
        let text: String = drawn.characters[piece.clone()].iter().collect();
        writeln!(out, "{}{}", lead.bold(), text.bold())?;
        if view.by_width {
            writeln!(out, "{blank}{}", places(&drawn, &piece).dimmed())?;
        } else if !record.fields.is_empty() {
            let starts = record
                .fields
                .iter()
                .filter_map(|f| Some((f.field, drawn.start(f, &piece)?)));
            writeln!(out, "{blank}{}", numbers(starts).dimmed())?;
        }
        for field in &record.fields {
            if let Some(start) = drawn.start(field, &piece) {
                let end = (field.start + field.length).min(piece.end).max(field.start);
                let wide = drawn.columns[end] - drawn.columns[field.start];
                trouble(field, start, wide, &blank, out)?;
            }
        }
    }
    for words in &record.troubles {
        writeln!(out, "{blank}{} {}", "^".red().bold(), words.red())?;
    }
    Ok(())
}

fn trouble(
    field: &Place,
    start: usize,
    wide: usize,
    blank: &str,
    out: &mut dyn Write,
) -> io::Result<()> {
    let carets = "^".repeat(wide.max(1));
    let column = field
        .column
        .as_deref()
        .map(|c| format!("{}: ", escape_for_display(c.as_bytes())))
        .unwrap_or_default();
    for words in &field.troubles {
        let lead = " ".repeat(start);
        writeln!(out, "{blank}{lead}{} {column}{words}", carets.red().bold())?;
    }
    Ok(())
}

/// Each field's number under its first character, as far as there is room.
fn numbers(starts: impl Iterator<Item = (usize, usize)>) -> String {
    let mut ruler = String::new();
    for (field, start) in starts {
        if start >= ruler.len() {
            ruler.push_str(&" ".repeat(start - ruler.len()));
            ruler.push_str(&format!("{field} "));
        }
    }
    ruler.trim_end().to_string()
}

/// Places counted from 1: a number at every tenth, a plus at every fifth.
fn places(drawn: &Drawn, piece: &Range<usize>) -> String {
    let mut ruler = String::new();
    for place in piece.clone() {
        let number = (place + 1).to_string();
        let end = drawn.columns[place + 1] - drawn.columns[piece.start];
        let mark = match (place + 1) % 10 {
            0 => number.as_str(),
            5 => "+",
            _ => ".",
        };
        // A number stands to the left of its place, over the dots before it.
        ruler.truncate(end.saturating_sub(mark.len()));
        ruler.push_str(&" ".repeat(end.saturating_sub(mark.len() + ruler.len())));
        ruler.push_str(mark);
    }
    ruler
}

fn cut(text: &str, width: usize) -> String {
    if display_width(text) <= width {
        return text.to_string();
    }
    text.chars()
        .take(width.saturating_sub(1))
        .chain(['…'])
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rulers_count_from_one() {
        let drawn = Drawn::new(&"x".repeat(30));
        assert_eq!(places(&drawn, &(0..21)), "....+...10....+...20.");
        assert_eq!(places(&drawn, &(20..30)), "....+...30");
        assert_eq!(numbers([(1, 0), (2, 5), (3, 6)].into_iter()), "1    2");
    }

    #[test]
    fn characters_of_two_columns_keep_marks_under_their_fields() {
        let drawn = Drawn::new("ポテ|ab|c");
        let place = |start| Place {
            field: 1,
            column: None,
            start,
            length: 1,
            troubles: vec![],
        };
        assert_eq!(drawn.start(&place(3), &(0..7)), Some(5));
        assert_eq!(drawn.start(&place(7), &(0..7)), Some(9));
        assert_eq!(drawn.pieces(4), [0..2, 2..6, 6..7]);
        assert_eq!(places(&drawn, &(0..5)), " . ...+");
    }
}
