//! What a load of several specs says: a line for each, and what was wrong.

use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::report::{Outcome, Summary, Together};
use barrow_run::words::{counted, number};
use owo_colors::OwoColorize;

use super::summary::kinds;
use super::{ended, json, time};
use crate::args::Report;

/// So many kinds of reasons are shown of one spec.
const KINDS: usize = 8;

/// Prints it.
pub fn print(together: &Together, report: Report) -> Result<(), Error> {
    match report {
        Report::Json => json::print(together),
        Report::Text => ended(write(together, &mut anstream::stdout().lock())),
    }
}

fn write(t: &Together, out: &mut impl Write) -> io::Result<()> {
    let all_known = t.loads.iter().all(|load| load.nothing_new);
    let specs = counted(t.loads.len() as u64, "spec");
    if all_known {
        return writeln!(out, "{} → {}: nothing new", specs.bold(), t.into);
    }
    writeln!(out, "{} → {}, in one transaction\n", specs.bold(), t.into)?;
    lines(t, out)?;
    for (load, tables) in t.loads.iter().zip(&t.tables) {
        if !load.tally.reason_kinds().is_empty() {
            reasons(load, &named(tables), out)?;
        }
    }
    made(t, out)?;
    for load in &t.loads {
        for words in &load.remarks {
            writeln!(out, "  {words}")?;
        }
        for done in &load.disposed {
            writeln!(out, "  {}: {}", done.file, done.words)?;
        }
    }
    match t.is_kept {
        true => writeln!(out, "  {}, {}", "committed".green(), time(t.elapsed)),
        false => writeln!(
            out,
            "  {}: {}",
            "rolled back, so nothing of them is in the database"
                .red()
                .bold(),
            why(t)
        ),
    }
}

/// What was made: plain tables together, whatever else in words of its own.
fn made(t: &Together, out: &mut impl Write) -> io::Result<()> {
    if let Some(made) = &t.made {
        writeln!(out, "  {made}")?;
    }
    let all = || t.loads.iter().flat_map(|load| &load.made);
    let table = |words: &String| {
        let name = words.strip_prefix("table ")?.strip_suffix(": created")?;
        Some(name.to_string())
    };
    let tables: Vec<String> = all().filter_map(table).collect();
    if !tables.is_empty() {
        let word = if tables.len() == 1 { "table" } else { "tables" };
        writeln!(out, "  {word} {}: created", tables.join(", "))?;
    }
    for words in all().filter(|words| table(words).is_none()) {
        writeln!(out, "  {words}")?;
    }
    Ok(())
}

/// Which of them are why nothing is committed.
fn why(t: &Together) -> String {
    let why = |(load, tables): (&Summary, &Vec<String>)| {
        let table = named(tables);
        match load.outcome {
            Outcome::BeyondTolerance { .. } => Some(format!(
                "{table} has more rejects than its limit of {}",
                load.tolerance
            )),
            Outcome::TotalsDiffer { .. } => Some(format!(
                "{table} has totals that differ from what was found"
            )),
            Outcome::Kept | Outcome::WithOthers { .. } => None,
        }
    };
    t.loads
        .iter()
        .zip(&t.tables)
        .filter_map(why)
        .collect::<Vec<_>>()
        .join("; ")
}

/// The tables of a load, as people read them.
fn named(tables: &[String]) -> String {
    let names: Vec<String> = tables
        .iter()
        .map(|t| escape_for_display(t.as_bytes()))
        .collect();
    names.join(", ")
}

/// A line for each spec, and one for all of them.
fn lines(t: &Together, out: &mut impl Write) -> io::Result<()> {
    let head = ["files", "records", "loaded", "rejected", "rows"].map(String::from);
    let of = |load: &Summary| {
        let rows: u64 = load.tables.iter().map(|table| table.after).sum();
        let rows = if load.nothing_new {
            String::new()
        } else {
            number(rows)
        };
        [
            number(load.tally.files.len() as u64),
            number(load.tally.all_records()),
            number(load.loaded()),
            number(load.rejected()),
            rows,
        ]
    };
    let sum = |of: &dyn Fn(&Summary) -> u64| number(t.loads.iter().map(of).sum());
    let all = [
        sum(&|load| load.tally.files.len() as u64),
        sum(&|load| load.tally.all_records()),
        sum(&|load| load.loaded()),
        sum(&|load| load.rejected()),
        String::new(),
    ];
    let rows: Vec<[String; 5]> = t.loads.iter().map(of).collect();
    let names: Vec<String> = t.tables.iter().map(|tables| named(tables)).collect();
    let longest = names.iter().map(|name| name.chars().count()).max();
    let first = longest.unwrap_or(0).max("table".len());
    let width = |place: usize| {
        let cells = rows.iter().chain([&head, &all]).map(|row| row[place].len());
        cells.max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..5).map(width).collect();
    let line = |name: &str, row: &[String; 5]| {
        let cells = row
            .iter()
            .zip(&widths)
            .map(|(cell, width)| format!("{cell:>width$}"));
        format!("{name:first$}   {}", cells.collect::<Vec<_>>().join("   "))
    };
    writeln!(out, "  {}", line("table", &head).bold())?;
    for ((load, row), name) in t.loads.iter().zip(&rows).zip(&names) {
        let known = match load.skipped.len() as u64 {
            0 => String::new(),
            skipped => format!("   {} already loaded", counted(skipped, "file")),
        };
        writeln!(out, "  {}{}", line(name, row), known.dimmed())?;
    }
    writeln!(out, "  {}\n", line("all", &all).bold())
}

/// Why records of one spec were rejected, and where they are.
fn reasons(load: &Summary, table: &str, out: &mut impl Write) -> io::Result<()> {
    writeln!(out, "  {table}: {}", "why rejected".bold())?;
    let reasons = load.tally.reason_kinds();
    kinds(
        &reasons[..reasons.len().min(KINDS)],
        load.tally.files.len() > 1,
        out,
    )?;
    if reasons.len() > KINDS {
        let more = counted((reasons.len() - KINDS) as u64, "kind");
        writeln!(out, "          and {more} more, in reasons.jsonl")?;
    }
    if let Some(folder) = load.folder() {
        let next = match load.is_kept() && load.can_mend {
            true => format!(
                "correct them there, then: barrow mend {}",
                load.mend_words()
            ),
            false => format!(
                "correct the file, or allow them: --max-rejects {}",
                load.rejected()
            ),
        };
        writeln!(out, "  kept in {folder}/ · {next}")?;
    }
    writeln!(out)
}
