//! Shows records as a table of typed values.

use std::io::{self, Write};

use barrow_core::escape::{escape_for_display, visible_short};
use barrow_core::reason::{Code, Reject};
use barrow_core::types::Type;
use barrow_run::Error;
use barrow_run::peek::{Entry, Records};
use barrow_run::words::number;
use owo_colors::OwoColorize;

use super::{display_width, json, printed};
use crate::args::Report;

/// A cell is cut after so many characters.
pub const WIDEST: usize = 30;

/// The same where values go into a file or another program.
pub fn widest() -> usize {
    match super::is_cut() {
        true => WIDEST,
        false => super::UNCUT,
    }
}

/// What stands for null, which no text is likely to be.
pub const NULL: &str = "∅";

/// Prints them.
pub fn print(view: &Records, report: Report) -> Result<(), Error> {
    match report {
        Report::Json => json::print(view),
        Report::Text => printed(|out| text(view, out)),
    }
}

/// Records of one kind.
struct TableView<'v> {
    columns: &'v [(String, Type)],
    entries: &'v [&'v Entry],
}

/// A cell as it is shown, and whether that is dimmed.
struct Shown(String, bool);

fn text(view: &Records, out: &mut dyn Write) -> io::Result<()> {
    for note in &view.notes {
        writeln!(out, "{} {note}", "note:".yellow())?;
    }
    if view.entries.is_empty() {
        return writeln!(out, "no records here");
    }
    if let [only] = view.record_types.as_slice() {
        let all: Vec<&Entry> = view.entries.iter().collect();
        return table(&only.columns, &all, out);
    }
    by_kind(view, out)
}

/// A table for each kind of record, and what is of none.
fn by_kind(view: &Records, out: &mut dyn Write) -> io::Result<()> {
    let mut first = true;
    let mut heading = |words: String, out: &mut dyn Write| {
        let gap = if std::mem::take(&mut first) { "" } else { "\n" };
        writeln!(out, "{gap}{}", words.bold().underline())
    };
    for (number, kind) in view.record_types.iter().enumerate() {
        let is_of = |entry: &&Entry| entry.kind == number && entry.values.is_ok();
        let entries: Vec<&Entry> = view.entries.iter().filter(is_of).collect();
        if !entries.is_empty() {
            let name = escape_for_display(kind.name.as_deref().unwrap_or("").as_bytes());
            heading(format!("record type {name}"), out)?;
            table(&kind.columns, &entries, out)?;
        }
    }
    let rejects: Vec<&Entry> = view.entries.iter().filter(|e| e.values.is_err()).collect();
    if !rejects.is_empty() {
        heading("rejected".into(), out)?;
        table(&[], &rejects, out)?;
    }
    Ok(())
}

/// One table of records that have the same columns.
fn table(columns: &[(String, Type)], entries: &[&Entry], out: &mut dyn Write) -> io::Result<()> {
    let view = &TableView { columns, entries };
    let widest = widest();
    let cells: Vec<Option<Vec<Shown>>> = view
        .entries
        .iter()
        .map(|entry| cells_of(entry, widest))
        .collect();
    let widths: Vec<usize> = (0..view.columns.len())
        .map(|c| width_of(view, &cells, c))
        .collect();
    let label = view
        .entries
        .iter()
        .map(|e| number(e.record).len())
        .max()
        .unwrap_or(1)
        .max(6);
    let mut bands = bands(&widths, super::width().saturating_sub(label + 2));
    if bands.is_empty() {
        bands.push(Vec::new());
    }
    for (index, band) in bands.iter().enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        if !band.is_empty() {
            heading(view, band, &widths, label, out)?;
        }
        let mut file = "";
        for (entry, cells) in view.entries.iter().zip(&cells) {
            if entry.file != file {
                file = &entry.file;
                writeln!(out, "{}", file.dimmed())?;
            }
            match (cells, &entry.values) {
                (Some(cells), _) => row(view, entry, cells, band, &widths, label, out)?,
                (None, Err(reject)) => rejected(entry, reject, index == 0, label, out)?,
                (None, Ok(_)) => {}
            }
        }
    }
    folded(view, &bands, &cells, out)
}

fn cells_of(entry: &Entry, widest: usize) -> Option<Vec<Shown>> {
    let values = entry.values.as_ref().ok()?;
    let cell = |value: &Option<String>| match value {
        None => Shown(NULL.into(), true),
        Some(text) if text.is_empty() => Shown("\"\"".into(), true),
        Some(text) => Shown(visible_short(text.as_bytes(), widest), false),
    };
    Some(values.iter().map(cell).collect())
}

fn width_of(view: &TableView<'_>, cells: &[Option<Vec<Shown>>], column: usize) -> usize {
    let (name, ty) = &view.columns[column];
    let name = escape_for_display(name.as_bytes());
    let head = display_width(&name).max(display_width(&ty.to_string()));
    let body = cells
        .iter()
        .flatten()
        .map(|row| display_width(&row[column].0));
    body.max().unwrap_or(0).max(head)
}

/// Columns that fit side by side, band below band.
pub fn bands(widths: &[usize], room: usize) -> Vec<Vec<usize>> {
    let mut bands: Vec<Vec<usize>> = Vec::new();
    let mut used = usize::MAX;
    for (column, width) in widths.iter().enumerate() {
        match bands.last_mut() {
            Some(band) if used + 2 + width <= room => {
                used += 2 + width;
                band.push(column);
            }
            _ => {
                used = *width;
                bands.push(vec![column]);
            }
        }
    }
    bands
}

fn heading(
    view: &TableView<'_>,
    band: &[usize],
    widths: &[usize],
    label: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let line = |of: &dyn Fn(usize) -> String| {
        let cells = band
            .iter()
            .map(|c| padded(&of(*c), widths[*c], view.columns[*c].1));
        cells.collect::<Vec<_>>().join("  ")
    };
    let names = line(&|c| escape_for_display(view.columns[c].0.as_bytes()));
    let types = line(&|c| view.columns[c].1.to_string());
    writeln!(
        out,
        "{:>label$}  {}",
        "record".dimmed(),
        names.trim_end().bold()
    )?;
    writeln!(out, "{:>label$}  {}", "", types.trim_end().cyan())
}

fn row(
    view: &TableView<'_>,
    entry: &Entry,
    cells: &[Shown],
    band: &[usize],
    widths: &[usize],
    label: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    write!(out, "{:>label$}", number(entry.record).dimmed())?;
    for column in band {
        let Shown(text, dim) = &cells[*column];
        let text = padded(text, widths[*column], view.columns[*column].1);
        if *dim {
            write!(out, "  {}", text.dimmed())?;
        } else {
            write!(out, "  {text}")?;
        }
    }
    writeln!(out)
}

/// A reject in its place: its reasons, or in a later band that it is one.
fn rejected(
    entry: &Entry,
    reject: &Reject,
    first: bool,
    label: usize,
    out: &mut dyn Write,
) -> io::Result<()> {
    let record = number(entry.record);
    if !first {
        return writeln!(
            out,
            "{:>label$}  {}",
            record.dimmed(),
            "rejected, see above".red()
        );
    }
    for (index, reason) in reject.reasons.iter().enumerate() {
        let lead = match index {
            0 => format!(
                "{record:>label$}  {} line {}: ",
                "rejected,".red().bold(),
                number(entry.line)
            ),
            _ => " ".repeat(label + 2),
        };
        let column = reason
            .column
            .as_deref()
            .map(|c| format!("{}: ", escape_for_display(c.as_bytes())));
        let value = reason.value.as_deref().map(|v| match reason.code {
            Code::CheckFailed => format!("  {}", super::cut(v, widest().saturating_mul(2))),
            _ => format!("  \"{}\"", super::cut(v, widest())),
        });
        writeln!(
            out,
            "{lead}{}{}{}",
            column.unwrap_or_default(),
            reason.says,
            value.unwrap_or_default()
        )?;
    }
    Ok(())
}

/// Numbers to the right, everything else to the left.
fn padded(text: &str, width: usize, ty: Type) -> String {
    let mut cell = String::new();
    align(text, width, ty.is_number(), &mut cell);
    cell
}

/// Appends text with spaces beside it, up to a width.
pub fn align(text: &str, width: usize, right: bool, line: &mut String) {
    let (before, after) = if right { ("", text) } else { (text, "") };
    let blanks = width.saturating_sub(display_width(text));
    line.push_str(before);
    line.extend(std::iter::repeat_n(' ', blanks));
    line.push_str(after);
}

/// What the width of the terminal did to the table.
fn folded(
    view: &TableView<'_>,
    bands: &[Vec<usize>],
    cells: &[Option<Vec<Shown>>],
    out: &mut dyn Write,
) -> io::Result<()> {
    let cut = cells
        .iter()
        .flatten()
        .flatten()
        .filter(|c| c.0.ends_with('…'))
        .count();
    if bands.len() > 1 {
        writeln!(
            out,
            "\n{}",
            format!(
                "{} columns, folded into {} bands",
                view.columns.len(),
                bands.len()
            )
            .dimmed()
        )?;
    }
    if cells.iter().flatten().flatten().any(|c| c.1 && c.0 == NULL) {
        writeln!(
            out,
            "{}",
            format!("{NULL} is null, \"\" is empty text").dimmed()
        )?;
    }
    if cut > 0 {
        let are = if cut == 1 { "value is" } else { "values are" };
        let words = format!("{cut} {are} cut after {WIDEST} characters, marked …");
        writeln!(out, "{}", words.dimmed())?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_fold_into_bands() {
        assert_eq!(bands(&[5, 5, 5], 12), [vec![0, 1], vec![2]]);
        assert_eq!(bands(&[50, 5], 12), [vec![0], vec![1]]);
    }
}
