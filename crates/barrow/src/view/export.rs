//! What an export says when it is done.

use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::export::Exported;
use barrow_run::export::files::Made;
use barrow_run::export::output::Counts;
use barrow_run::words::{counted, number};
use owo_colors::OwoColorize;

use super::{ended, json, printed, summary, time};
use crate::args::Report;

/// Prints it.
///
/// # Errors
/// It cannot be written.
pub fn print(exported: &Exported, report: Report, quiet: bool) -> Result<(), Error> {
    // Silence is for what went as it should.
    if exported.to_stdout && quiet && !exported.has_news() {
        return Ok(());
    }
    match (report, exported.to_stdout) {
        (Report::Text, true) => ended(text(exported, &mut anstream::stderr().lock())),
        (Report::Text, false) => printed(|out| text(exported, out)),
        // Standard output has the rows.
        (Report::Json, true) => json::write(exported, &mut io::stderr().lock()),
        (Report::Json, false) => json::print(exported),
    }
}

fn text(e: &Exported, out: &mut dyn Write) -> io::Result<()> {
    if let Some(reading) = e.reading.as_ref().filter(|reading| reading.has_news()) {
        let mut text = Vec::new();
        summary::write(reading, &mut text)?;
        writeln!(out, "{}\n", String::from_utf8_lossy(&text).trim_end())?;
    }
    writeln!(out, "{} ← {}\n", e.spec.bold(), e.from)?;
    let names: Vec<String> = e.made.iter().map(Made::name).collect();
    let width = names.iter().map(|n| n.chars().count()).max().unwrap_or(0);
    let rows = e
        .made
        .iter()
        .map(|m| number(m.rows).len())
        .max()
        .unwrap_or(0);
    for (name, made) in names.iter().zip(&e.made) {
        writeln!(
            out,
            "  {name:width$}   {:>rows$} {}, {} bytes",
            number(made.rows),
            if made.rows == 1 { "row" } else { "rows" },
            number(made.content.bytes)
        )?;
    }
    if !e.made.is_empty() {
        writeln!(out)?;
    }
    let c = &e.counts;
    let all = c.rows + c.unfit;
    let digits = number(all).len();
    writeln!(out, "  read      {:>digits$}", number(all))?;
    let written = if e.beyond.is_some() { 0 } else { c.rows };
    let shown = format!("{:>digits$}", number(written));
    writeln!(
        out,
        "  written   {}   {}",
        shown.green().bold(),
        time(e.elapsed)
    )?;
    if c.unfit > 0 {
        let shown = format!("{:>digits$}", number(c.unfit));
        let why = e.beyond.as_deref().unwrap_or("skipped, as the spec says");
        writeln!(out, "  unfit     {}   {why}", shown.red().bold())?;
    }
    if let (Some(why), 1..) = (&e.beyond, c.rows) {
        writeln!(out, "  held back {:>digits$}   {why}", number(c.rows))?;
    }
    if c.replaced > 0 {
        writeln!(
            out,
            "  replaced  {:>digits$}   characters that the encoding lacks",
            number(c.replaced)
        )?;
    }
    if c.repairs.all() > 0 {
        writeln!(out, "\n  {}", "what was repaired".bold())?;
        for repair in c.repairs.iter() {
            writeln!(
                out,
                "  {:>6}  {}  {}   first: row {}",
                number(repair.count),
                escape_for_display(repair.column.as_deref().unwrap_or("").as_bytes()),
                repair.what,
                number(repair.line)
            )?;
        }
    }
    unfit(c, out)
}

/// At most so many unfit rows are listed.
const MOST: usize = 12;

fn unfit(c: &Counts, out: &mut dyn Write) -> io::Result<()> {
    if c.told.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n  {}", "why unfit".bold())?;
    for one in c.told.iter().take(MOST) {
        let value = match one.why.value.as_str() {
            "" => String::new(),
            value => format!("  \"{value}\""),
        };
        writeln!(
            out,
            "  row {}  {}  {}{value}",
            number(one.row),
            escape_for_display(one.column.as_deref().unwrap_or("").as_bytes()),
            one.why.says
        )?;
    }
    let more = c.unfit.saturating_sub(MOST as u64);
    match more {
        0 => Ok(()),
        more => writeln!(
            out,
            "  and {}; --report json has more",
            counted(more, "other")
        ),
    }
}
