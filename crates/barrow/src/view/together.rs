//! What a load of several specs says: a line for each, and what was not as it was in its files.

use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::report::{Outcome, Summary, Together};
use barrow_run::words::{counted, number};
use owo_colors::OwoColorize;

use super::summary::{disposed, news, next};
use super::{json, printed, time};
use crate::args::Report;

/// Prints it.
pub fn print(together: &Together, report: Report) -> Result<(), Error> {
    match report {
        Report::Json => json::print(together),
        Report::Text => printed(|out| write(together, out)),
    }
}

fn write(t: &Together, out: &mut dyn Write) -> io::Result<()> {
    let specs = counted(t.loads.len() as u64, "spec");
    if t.loads.iter().all(|load| load.nothing_new) {
        return writeln!(out, "{} → {}: nothing new", specs.bold(), t.into);
    }
    writeln!(out, "{} → {}, in one transaction\n", specs.bold(), t.into)?;
    lines(t, out)?;
    for (load, tables) in t.loads.iter().zip(&t.tables) {
        of_one(load, &named(tables), out)?;
    }
    if let Some(made) = &t.made {
        writeln!(out, "  {made}")?;
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

/// What is said of one spec beside its line: the same as of a load by itself.
fn of_one(load: &Summary, tables: &str, out: &mut dyn Write) -> io::Result<()> {
    let has_more = load.has_news()
        || load.merged.is_some()
        || load.resumed_from.is_some()
        || !(load.remarks.is_empty() && load.disposed.is_empty());
    if !has_more {
        return Ok(());
    }
    writeln!(out, "  {}", tables.bold())?;
    let notes = load.tally.files.iter().flat_map(|file| &file.notes);
    for note in load.resumed_from.iter().chain(notes).chain(&load.remarks) {
        writeln!(out, "    {} {note}", "note:".yellow())?;
    }
    if let Some(merged) = load.merged {
        let (new, changed, same) = (merged.new, merged.changed, merged.same);
        writeln!(
            out,
            "    merged: {} new, {} changed, {} the same",
            number(new),
            number(changed),
            number(same)
        )?;
    }
    news(load, out)?;
    next(load, out)?;
    disposed(load, out)?;
    writeln!(out)
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
    let all = t.loads.iter().zip(&t.tables).filter_map(why);
    all.collect::<Vec<_>>().join("; ")
}

/// The tables of a load, as people read them.
fn named(tables: &[String]) -> String {
    let names: Vec<String> = tables
        .iter()
        .map(|t| escape_for_display(t.as_bytes()))
        .collect();
    names.join(", ")
}

/// A count of each load, with its title.
type Counted = (&'static str, fn(&Summary) -> u64);

/// What is counted, in the order of the balance; what is 0 for all of them may be left out.
const COUNTS: [(Counted, bool); 6] = [
    (("files", |load| load.tally.files.len() as u64), true),
    (("records", |load| load.tally.all_records()), true),
    (("loaded", Summary::loaded), true),
    (("rejected", Summary::rejected), true),
    (("filtered", |load| load.tally.left_out().filtered()), false),
    (("rolled back", Summary::not_kept), false),
];

/// A line for each spec, and one for all of them.
fn lines(t: &Together, out: &mut dyn Write) -> io::Result<()> {
    let is_shown =
        |((_, of), always): &&(Counted, bool)| *always || t.loads.iter().any(|load| of(load) > 0);
    let counts: Vec<&Counted> = COUNTS
        .iter()
        .filter(is_shown)
        .map(|(count, _)| count)
        .collect();
    let row = |load: &Summary| {
        let rows: u64 = load.tables.iter().map(|table| table.after).sum();
        let rows = if load.nothing_new {
            String::new()
        } else {
            number(rows)
        };
        counts
            .iter()
            .map(|(_, of)| number(of(load)))
            .chain([rows])
            .collect()
    };
    let titles = counts.iter().map(|(title, _)| (*title).to_string());
    let sums = counts
        .iter()
        .map(|(_, of)| number(t.loads.iter().map(of).sum()));
    let mut cells: Vec<Vec<String>> = vec![titles.chain(["rows".to_string()]).collect()];
    cells.extend(t.loads.iter().map(row));
    cells.push(sums.chain([String::new()]).collect());
    let mut names = vec!["table".to_string()];
    names.extend(t.tables.iter().map(|tables| named(tables)));
    names.push("all".to_string());
    let widest = |texts: &mut dyn Iterator<Item = &String>| {
        texts.map(|text| text.chars().count()).max().unwrap_or(0)
    };
    let first = widest(&mut names.iter());
    let widths: Vec<usize> = (0..=counts.len())
        .map(|place| widest(&mut cells.iter().map(|row| &row[place])))
        .collect();
    for (number, (name, row)) in names.iter().zip(&cells).enumerate() {
        let row = row.iter().zip(&widths);
        let row: Vec<String> = row.map(|(cell, width)| format!("{cell:>width$}")).collect();
        let line = format!("{name:first$}   {}", row.join("   "));
        match number.checked_sub(1).and_then(|load| t.loads.get(load)) {
            Some(load) => writeln!(out, "  {line}{}", beside(load).dimmed())?,
            None => writeln!(out, "  {}", line.trim_end().bold())?,
        }
    }
    writeln!(out)
}

/// What stands beside the counts: files that are in the table already, and what was made.
fn beside(load: &Summary) -> String {
    let skipped = match load.skipped.len() as u64 {
        0 => None,
        skipped => Some(format!("{} already loaded", counted(skipped, "file"))),
    };
    let all: Vec<String> = skipped
        .into_iter()
        .chain(load.made.iter().cloned())
        .collect();
    match all.is_empty() {
        true => String::new(),
        false => format!("   {}", all.join("; ")),
    }
}
