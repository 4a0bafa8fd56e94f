//! Shows the ledger: runs as a table, and one run in full.

use std::io::{self, Write};
use std::path::Path;

use barrow_core::escape::{escape_for_display, visible_path};
use barrow_run::Error;
use barrow_run::ledger::{RunInFull, Runs};
use barrow_run::words::{counted, number};
use barrow_targets::ledger::{Counts, File, Outcome, Run};
use jiff::civil::DateTime;
use owo_colors::OwoColorize;
use serde_json::Value;

use super::{cut, json, printed, time};
use crate::args::Report;

/// Prints runs, the newest first.
pub fn print_runs(runs: &Runs, report: Report) -> Result<(), Error> {
    match report {
        Report::Text => printed(|out| list(runs, out)),
        Report::Json => json::print(runs),
    }
}

/// Prints everything of one run.
pub fn print_run(run: &RunInFull, report: Report) -> Result<(), Error> {
    match report {
        Report::Text => printed(|out| whole(&run.run, &run.files, &run.mends, out)),
        Report::Json => json::print(run),
    }
}

/// A column of the list: its title, whether it is a number, and its cells.
struct Column {
    title: &'static str,
    is_number: bool,
    cells: Vec<String>,
}

fn column(
    title: &'static str,
    is_number: bool,
    runs: &[Run],
    cell: impl Fn(&Run) -> String,
) -> Column {
    Column {
        title,
        is_number,
        cells: runs.iter().map(cell).collect(),
    }
}

impl Column {
    fn width(&self) -> usize {
        let cells = self.cells.iter().map(|cell| cell.chars().count());
        cells.max().unwrap_or(0).max(self.title.chars().count())
    }

    fn padded(&self, text: &str) -> String {
        let width = self.width();
        match self.is_number {
            true => format!("{text:>width$}"),
            false => format!("{text:<width$}"),
        }
    }
}

fn list(listed: &Runs, out: &mut dyn Write) -> io::Result<()> {
    let (url, runs) = (&listed.database, &listed.runs);
    if !listed.has_ledger {
        return writeln!(
            out,
            "{url} has no ledger yet; the first load makes one, unless [target] ledger = false"
        );
    }
    if runs.is_empty() {
        return writeln!(out, "{url}: the ledger has no such run");
    }
    writeln!(
        out,
        "{} · {}\n",
        url.bold(),
        counted(runs.len() as u64, "run")
    )?;
    let columns = [
        column("run", false, runs, |r| r.run.clone()),
        column("began (UTC)", false, runs, |r| minute(&r.started_at)),
        column("table", false, runs, |r| {
            cut(&escape_for_display(r.table.as_bytes()), 24)
        }),
        column("files", true, runs, |r| number(r.files)),
        column("loaded", true, runs, |r| number(r.counts.loaded)),
        column("rejected", true, runs, |r| number(r.counts.rejected)),
        column("took", true, runs, took),
    ];
    let titles: Vec<String> = columns.iter().map(|c| c.padded(c.title)).collect();
    writeln!(
        out,
        "  {}  {}",
        titles.join("   ").dimmed(),
        " outcome".dimmed()
    )?;
    for (at, run) in runs.iter().enumerate() {
        let cells: Vec<String> = columns.iter().map(|c| c.padded(&c.cells[at])).collect();
        writeln!(out, "  {}   {}", cells.join("   "), outcome(run))?;
    }
    match listed.has_more {
        true => writeln!(out, "\n  and older ones; --limit shows more"),
        false => Ok(()),
    }
}

/// What became of a run, in color.
fn outcome(run: &Run) -> String {
    let rows = number(run.counts.loaded);
    match run.outcome {
        Outcome::Going => format!("interrupted, or under way: {rows} rows are in the table")
            .yellow()
            .to_string(),
        Outcome::Kept => {
            let mut words = "committed".green().to_string();
            if let Some(of) = &run.mend_of {
                words += &format!(", mends {of}");
            }
            if run.counts.rolled_back > 0 {
                words += ", but for files beyond their limit";
            }
            if run.still_open > 0 {
                words += &format!(", {} open", counted(run.still_open, "reject"));
            } else if run.counts.rejected > 0 && run.mend_of.is_none() {
                words += ", no reject open";
            }
            words
        }
        Outcome::RolledBack => "rolled back".red().to_string(),
        Outcome::Exported => "exported".green().to_string(),
        Outcome::Undone => "undone".yellow().to_string(),
        Outcome::Failed | Outcome::Emptied => "failed".red().to_string(),
    }
}

/// `2031-04-03 08:05:09.123` to the minute.
fn minute(moment: &str) -> String {
    moment.get(..16).unwrap_or(moment).to_string()
}

fn took(run: &Run) -> String {
    let moment = |text: &str| text.parse::<DateTime>().ok();
    let span = moment(&run.started_at).zip(moment(&run.ended_at));
    let length = span.and_then(|(from, to)| to.duration_since(from).try_into().ok());
    length.map(time).unwrap_or_default()
}

fn whole(run: &Run, files: &[File], mends: &[Run], out: &mut dyn Write) -> io::Result<()> {
    let shown = |text: &str| escape_for_display(text.as_bytes());
    writeln!(
        out,
        "{} · {}\n",
        format!("run {}", run.run).bold(),
        outcome(run)
    )?;
    writeln!(
        out,
        "  {} → table {}, {}",
        shown(&run.spec),
        shown(&run.table).bold(),
        shown(&run.mode)
    )?;
    writeln!(
        out,
        "  {} UTC, {}, by {} on {}, with barrow {}",
        run.started_at.get(..19).unwrap_or(&run.started_at),
        took(run),
        shown(&run.who),
        shown(&run.host),
        shown(&run.version)
    )?;
    if let Some(message) = &run.message {
        writeln!(out, "  {}", shown(message).red())?;
    }
    writeln!(out)?;
    file_lines(files, out)?;
    counts(&run.counts, out)?;
    reasons(run, out)?;
    rejects(run, mends, out)
}

fn file_lines(files: &[File], out: &mut dyn Write) -> io::Result<()> {
    let width = files
        .iter()
        .map(|f| f.name.chars().count())
        .max()
        .unwrap_or(0);
    for file in files {
        let c = &file.counts;
        let mut words = format!("{} loaded", number(c.loaded));
        if c.rejected > 0 {
            words += &format!(", {} rejected", number(c.rejected));
        }
        match file.outcome {
            Outcome::Kept => {}
            Outcome::Exported => words = format!("{} written", number(c.loaded)),
            Outcome::Going => {
                words += &format!(", interrupted after byte {}", number(file.committed_to));
            }
            Outcome::RolledBack => words += ", rolled back",
            Outcome::Failed => words += ", failed",
            Outcome::Undone => words += ", undone: it counts as new",
            Outcome::Emptied => words += ", no longer in the table, which was emptied since",
        }
        writeln!(out, "  {:width$}   {words}", file.name)?;
        let path = escape_for_display(file.path.as_bytes());
        let hash = file.content.as_deref().unwrap_or("not hashed");
        let more = format!("{path}, {} bytes, {hash}", number(file.bytes));
        writeln!(out, "  {:width$}   {}", "", more.dimmed())?;
    }
    writeln!(out)
}

fn counts(c: &Counts, out: &mut dyn Write) -> io::Result<()> {
    let lines = [
        ("records", c.records, true),
        ("loaded", c.loaded, true),
        ("rolled back", c.rolled_back, c.rolled_back > 0),
        ("rejected", c.rejected, true),
        ("filtered", c.filtered, true),
        ("repaired", c.repaired, c.repaired > 0),
    ];
    let digits = lines
        .iter()
        .map(|(_, n, _)| number(*n).len())
        .max()
        .unwrap_or(0);
    let shown = || lines.iter().filter(|(_, _, shown)| *shown);
    let width = shown().map(|(word, ..)| word.len() + 2).max().unwrap_or(0);
    for (word, n, _) in shown() {
        writeln!(out, "  {word:<width$}{:>digits$}", number(*n))?;
    }
    writeln!(out)
}

fn reasons(run: &Run, out: &mut dyn Write) -> io::Result<()> {
    let text = run.reasons.as_deref().unwrap_or("[]");
    let reason_kinds: Vec<Value> = serde_json::from_str(text).unwrap_or_default();
    if reason_kinds.is_empty() {
        return Ok(());
    }
    writeln!(out, "  {}", "why rejected".bold())?;
    let text =
        |kind: &Value, key: &str| escape_for_display(kind[key].as_str().unwrap_or("").as_bytes());
    let width = |key: &str| {
        reason_kinds
            .iter()
            .map(|k| text(k, key).chars().count())
            .max()
            .unwrap_or(0)
    };
    let (columns, says) = (width("column"), width("says").min(60));
    for kind in &reason_kinds {
        writeln!(
            out,
            "  {:>6}  {:columns$}  {:says$}   first: {} line {}",
            number(kind["count"].as_u64().unwrap_or(0)),
            text(kind, "column"),
            text(kind, "says"),
            text(&kind["first"], "file"),
            number(kind["first"]["line"].as_u64().unwrap_or(0)),
        )?;
    }
    writeln!(out)
}

fn rejects(run: &Run, mends: &[Run], out: &mut dyn Write) -> io::Result<()> {
    if run.outcome == Outcome::Kept && run.counts.rejected > 0 && run.mend_of.is_none() {
        writeln!(
            out,
            "  of its rejects {} are mended, {} given up, {} still open",
            number(run.mended),
            number(run.given_up),
            number(run.still_open)
        )?;
    }
    for mend in mends {
        writeln!(
            out,
            "    {}   run {} mended {}",
            minute(&mend.started_at),
            mend.run,
            counted(mend.counts.loaded, "record")
        )?;
    }
    if let (Some(folder), true) = (&run.rejects_folder, run.still_open > 0) {
        let here = std::env::current_dir().unwrap_or_default();
        let folder = Path::new(folder);
        let near = folder.strip_prefix(&here).unwrap_or(folder);
        let shown = visible_path(near);
        let said = match near == Path::new("rejects").join(&run.run) {
            true => &run.run,
            false => &shown,
        };
        writeln!(
            out,
            "  kept in {shown}/ · correct them there, then: barrow mend {said}"
        )?;
    }
    Ok(())
}
