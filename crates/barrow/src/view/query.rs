//! Shows the answer to a query: a table for people, or a document for programs.

use std::io::{self, Read, Seek, SeekFrom, Write};

use barrow_core::escape::{escape_for_display, hexadecimal, visible_short};
use barrow_core::types::Type;
use barrow_query::{Answer, Column, QueryReport, TableReport, Value, write_row};
use barrow_run::Error;
use barrow_run::export::Exported;
use barrow_run::report::FORMAT;
use barrow_run::words::{counted, number};
use owo_colors::OwoColorize;
use serde_json::json;

use super::records::{NULL, WIDEST, align, bands, widest};
use super::summary::kinds;
use super::{display_width, ended, export, json, printed, time};
use crate::args::{Manner, Report};

/// How many rows are shown unless the command says otherwise.
const SHOWN: u64 = 100;

/// How many kinds of reasons are shown, and how many names of columns.
const KINDS: usize = 5;
const NAMES: usize = 5;

/// Up to so many digits after the mark, all numbers of a computed column get as many.
const ALIGNED: usize = 6;

/// Bytes of rows of a document that may wait in memory.
const ROOM: usize = 16 << 20;

/// Prints the rows as a table, and says what was read.
pub fn print(answer: &Answer, limit: Option<u64>, quiet: bool) -> Result<QueryReport, Error> {
    let most = limit.unwrap_or(SHOWN);
    let mut rows: Vec<Vec<Value>> = Vec::new();
    let mut more = false;
    answer.rows(&mut |row| {
        more = rows.len() as u64 >= most;
        if !more {
            rows.push(row.to_vec());
        }
        !more
    })?;
    let report = answer.report(rows.len() as u64);
    printed(|out| table(answer.columns(), &rows, out))?;
    if more && !quiet {
        anstream::eprintln!(
            "{} the first {} are shown: --limit N shows more, and -o FILE has all",
            "note:".yellow(),
            counted(most, "row")
        );
    }
    if !quiet {
        let words = format!("{}, {}", counted(report.rows, "row"), time(report.elapsed));
        anstream::eprintln!("\n{}", words.dimmed());
    }
    reading(&report, quiet)?;
    Ok(report)
}

/// Says what was written, and of what was read: beside the rows, where standard output has them.
pub fn written(exported: &Exported, read: &QueryReport, manner: &Manner) -> Result<(), Error> {
    if manner.report == Report::Text {
        export::print(exported, manner.report, manner.quiet)?;
        return reading(read, manner.quiet);
    }
    let mut document = json!(exported);
    document["reading"] = read.document();
    match exported.to_stdout {
        true => json::write(&document, &mut io::stderr().lock()),
        false => json::print(&document),
    }
}

/// Says what was read, on standard error: standard output has the rows.
fn reading(report: &QueryReport, quiet: bool) -> Result<(), Error> {
    let is_clean = |table: &&TableReport| table.counts.rejected() == 0;
    let mut out = anstream::stderr().lock();
    let mut write = || -> io::Result<()> {
        for note in report.notes.iter().filter(|_| !quiet) {
            writeln!(out, "{} {note}", "note:".yellow())?;
        }
        for table in report
            .tables
            .iter()
            .filter(|table| !quiet || !is_clean(table))
        {
            of_table(table, &mut out)?;
        }
        Ok(())
    };
    ended(write())
}

fn of_table(table: &TableReport, out: &mut dyn Write) -> io::Result<()> {
    let counts = &table.counts;
    let name = escape_for_display(table.table.as_bytes());
    let filtered = match counts.left_out().filtered() {
        0 => String::new(),
        filtered => format!(", {} filtered", number(filtered)),
    };
    let words = format!(
        "{name}: {} read in {}{filtered}",
        counted(counts.all_records(), "record"),
        counted(counts.files.len() as u64, "file"),
    );
    let ended = match (table.is_whole, table.kept) {
        (_, Some(kept)) => format!(", {} kept for the join", counted(kept, "row")),
        (true, None) => String::new(),
        (false, None) => ", no more was needed".to_string(),
    };
    writeln!(out, "{}", format!("{words}{ended}").dimmed())?;
    if counts.rejected() == 0 {
        return Ok(());
    }
    let judged = match table.columns.as_slice() {
        [] => "judged by their form alone: no column was read".to_string(),
        columns => format!("judged by the columns read: {}", some(columns)),
    };
    let limit = match table.is_within {
        true => "within the spec's limit",
        false => "more than the spec's limit",
    };
    writeln!(
        out,
        "{name}: {} and not in the answer, {limit}",
        format!("{} rejected", counted(counts.rejected(), "record"))
            .red()
            .bold(),
    )?;
    writeln!(out, "  {judged}")?;
    let reasons = counts.reason_kinds();
    kinds(
        &reasons[..reasons.len().min(KINDS)],
        counts.files.len() > 1,
        out,
    )?;
    writeln!(out, "          all of them: SELECT * FROM rejects")
}

/// The first of many names.
fn some(names: &[String]) -> String {
    let shown: Vec<String> = names
        .iter()
        .take(NAMES)
        .map(|name| escape_for_display(name.as_bytes()))
        .collect();
    match names.len().saturating_sub(NAMES) {
        0 => shown.join(", "),
        more => format!("{} and {} more", shown.join(", "), number(more as u64)),
    }
}

/// A value as people read it.
fn text(value: &Value, ty: Option<Type>, widest: usize) -> String {
    match (value, ty) {
        (Value::Null, _) => NULL.into(),
        (Value::Integer(n), Some(Type::Boolean)) => (*n != 0).to_string(),
        (Value::Integer(n), Some(Type::Decimal { scale, .. })) if scale > 0 => {
            format!("{n}.{}", "0".repeat(usize::from(scale)))
        }
        (Value::Integer(n), _) => n.to_string(),
        (Value::Real(n), Some(Type::Decimal { scale, .. })) => {
            format!("{n:.scale$}", scale = usize::from(scale))
        }
        (Value::Real(n), _) => float(*n),
        (Value::Text(text), _) if text.is_empty() => "\"\"".into(),
        (Value::Text(text), _) => visible_short(text.as_bytes(), widest),
        (Value::Blob(bytes), _) => visible_short(hexadecimal(bytes).as_bytes(), widest),
    }
}

fn float(n: f64) -> String {
    match n == 0.0 || (1e-5..1e16).contains(&n.abs()) {
        true => n.to_string(),
        false => format!("{n:e}"),
    }
}

/// How many digits stand after the mark in a column that was computed, where they are so few
/// that all its numbers have room for as many: they stand under each other then.
fn decimals<'v>(ty: Option<Type>, values: impl Iterator<Item = &'v Value>) -> Option<usize> {
    let after = |value: &Value| match value {
        Value::Real(n) => float(*n)
            .split_once('.')
            .map_or(0, |(_, after)| after.len()),
        _ => 0,
    };
    let most = values.map(after).max().unwrap_or(0);
    (ty.is_none() && (1..=ALIGNED).contains(&most)).then_some(most)
}

fn table(columns: &[Column], rows: &[Vec<Value>], out: &mut dyn Write) -> io::Result<()> {
    let decimals: Vec<Option<usize>> = (0..columns.len())
        .map(|place| decimals(columns[place].ty, rows.iter().map(|row| &row[place])))
        .collect();
    let widest = widest();
    let cell = |row: &Vec<Value>| -> Vec<String> {
        let cells = row.iter().zip(columns).zip(&decimals);
        cells
            .map(|((value, column), decimals)| match (value, decimals) {
                (Value::Real(n), Some(decimals)) => format!("{n:.decimals$}"),
                (Value::Integer(n), Some(decimals)) => format!("{n}.{}", "0".repeat(*decimals)),
                _ => text(value, column.ty, widest),
            })
            .collect()
    };
    let cells: Vec<Vec<String>> = rows.iter().map(cell).collect();
    let names: Vec<String> = columns
        .iter()
        .map(|c| escape_for_display(c.name.as_bytes()))
        .collect();
    let is_number = |place: usize| {
        let mut values = rows
            .iter()
            .map(|row| &row[place])
            .filter(|v| **v != Value::Null);
        match columns[place].ty {
            Some(ty) => ty.is_number(),
            None => {
                values.clone().next().is_some()
                    && values.all(|v| matches!(v, Value::Integer(_) | Value::Real(_)))
            }
        }
    };
    let numbers: Vec<bool> = (0..columns.len()).map(is_number).collect();
    let widths: Vec<usize> = (0..columns.len())
        .map(|place| {
            let body = cells
                .iter()
                .map(|row| display_width(&row[place]))
                .max()
                .unwrap_or(0);
            body.max(display_width(&names[place]))
        })
        .collect();
    let rules: Vec<String> = widths.iter().map(|width| "─".repeat(*width)).collect();
    let bands = bands(&widths, super::width());
    for (index, band) in bands.iter().enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        let line = |cells: &[String]| {
            let mut line = String::new();
            for (place, c) in band.iter().enumerate() {
                line.push_str(if place > 0 { "  " } else { "" });
                align(&cells[*c], widths[*c], numbers[*c], &mut line);
            }
            line.truncate(line.trim_end().len());
            line
        };
        writeln!(out, "{}", line(&names).bold())?;
        writeln!(out, "{}", line(&rules).dimmed())?;
        for row in &cells {
            writeln!(out, "{}", line(row))?;
        }
    }
    folded(columns.len(), bands.len(), &cells, out)
}

/// What the width of the terminal did to the table, and what its marks mean.
fn folded(
    columns: usize,
    bands: usize,
    cells: &[Vec<String>],
    out: &mut dyn Write,
) -> io::Result<()> {
    let all = || cells.iter().flatten();
    let mut notes = Vec::new();
    if bands > 1 {
        notes.push(format!("{columns} columns, folded into {bands} bands"));
    }
    if all().any(|cell| cell == NULL) {
        notes.push(format!("{NULL} is null"));
    }
    if all().any(|cell| cell.ends_with('…')) {
        notes.push(format!(
            "values are cut after {WIDEST} characters, marked …"
        ));
    }
    if notes.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", notes.join("; ").dimmed())
}

/// Prints the answer as one document, once all of it is there: a failure has a document of its
/// own.
pub fn print_json(answer: &Answer, limit: Option<u64>) -> Result<QueryReport, Error> {
    let mut rows = tempfile::spooled_tempfile(ROOM);
    let (mut count, mut more) = (0, false);
    let mut line = Vec::new();
    let mut failed = None;
    answer.rows(&mut |row| {
        more = limit.is_some_and(|limit| count >= limit);
        if more {
            return false;
        }
        line.clear();
        line.extend_from_slice(if count == 0 { b"\n    " } else { b",\n    " });
        count += 1;
        write_row(row, answer.columns(), &mut line);
        failed = rows.write_all(&line).err();
        failed.is_none()
    })?;
    if let Some(error) = failed {
        return Err(Error::failed(format!(
            "writing to the folder for temporary files: {error}"
        )));
    }
    let report = answer.report(count);
    ended(document(answer, &report, &mut rows, more))?;
    Ok(report)
}

fn document(
    answer: &Answer,
    report: &QueryReport,
    rows: &mut (impl Read + Seek),
    more: bool,
) -> io::Result<()> {
    let column = |column: &Column| serde_json::json!({ "name": column.name, "type": column.ty.map(|ty| ty.to_string()) });
    let columns: Vec<_> = answer.columns().iter().map(column).collect();
    let mut out = io::BufWriter::new(io::stdout().lock());
    writeln!(out, "{{\n  \"format\": {FORMAT},\n  \"kind\": \"query\",")?;
    writeln!(out, "  \"columns\": {},", serde_json::json!(columns))?;
    write!(out, "  \"rows\": [")?;
    rows.seek(SeekFrom::Start(0))?;
    io::copy(rows, &mut out)?;
    let rest = report.document();
    let count = report.rows;
    writeln!(
        out,
        "\n  ],\n  \"row_count\": {count},\n  \"more\": {more},"
    )?;
    let mut parts = rest.as_object().into_iter().flatten().peekable();
    while let Some((key, value)) = parts.next() {
        let end = if parts.peek().is_some() { "," } else { "" };
        writeln!(out, "  \"{key}\": {value}{end}")?;
    }
    writeln!(out, "}}")?;
    out.flush()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_stand_under_each_other_and_are_as_they_are() {
        let column = |ty| Column {
            name: "n".into(),
            ty,
        };
        let shown = |ty, values: &[Value]| {
            let rows: Vec<Vec<Value>> = values.iter().map(|v| vec![v.clone()]).collect();
            let mut out = Vec::new();
            table(&[column(ty)], &rows, &mut out).expect("room");
            let text = anstream::adapter::strip_bytes(&out).into_vec();
            let text = String::from_utf8(text).expect("UTF-8");
            let lines: Vec<String> = text.lines().skip(2).map(str::to_string).collect();
            lines
        };
        let real = Value::Real;
        assert_eq!(
            shown(None, &[real(683.0), real(1274.75)]),
            [" 683.00", "1274.75"]
        );
        assert_eq!(shown(None, &[real(0.5), Value::Integer(7)]), ["0.5", "7.0"]);
        assert_eq!(
            shown(None, &[real(1.0 / 3.0), real(2.0)])[1],
            "                 2"
        );
        assert_eq!(shown(None, &[real(1e300)]), ["1e300"]);
        let decimal = Type::Decimal {
            precision: 8,
            scale: 2,
        };
        assert_eq!(
            shown(Some(decimal), &[Value::Integer(7), real(0.1)]),
            ["7.00", "0.10"]
        );
        assert_eq!(shown(Some(Type::Boolean), &[Value::Integer(1)]), ["true"]);
    }
}
