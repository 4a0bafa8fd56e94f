//! What an export says when it is done.

use std::io::{self, Write};
use std::time::Duration;

use barrow_core::visible::{visible, visible_path};
use owo_colors::OwoColorize;
use serde_json::{Value, json};

use super::Counts;
use super::files::Made;
use crate::args::Report;
use crate::failure::Failure;
use crate::view::summary::{Summary, document as summary_document};
use crate::view::{counted, ended, number, time};

/// What came of an export.
pub struct Exported {
    /// What it was written from, in words.
    pub from: String,
    /// By which spec.
    pub spec: String,
    /// The files.
    pub made: Vec<Made>,
    /// What was counted.
    pub counts: Counts,
    /// How long it took.
    pub elapsed: Duration,
    /// Whether standard output has the rows, so that this goes elsewhere.
    pub to_stdout: bool,
    /// Whether too many rows were unfit, and nothing is kept.
    pub beyond: Option<String>,
    /// What was said of the files that were read, where it is files.
    pub reading: Option<Summary>,
}

/// Prints it.
///
/// # Errors
/// It cannot be written.
pub fn print(exported: &Exported, report: Report, quiet: bool) -> Result<(), Failure> {
    // Silence is for what went as it should.
    let has_news = exported.counts.unfit > 0
        || exported.counts.replaced > 0
        || exported.counts.repairs.all() > 0
        || exported.reading.as_ref().is_some_and(Summary::has_news);
    if exported.to_stdout && quiet && !has_news {
        return Ok(());
    }
    let written = match (report, exported.to_stdout) {
        (Report::Text, true) => text(exported, &mut anstream::stderr().lock()),
        (Report::Text, false) => text(exported, &mut anstream::stdout().lock()),
        (Report::Json, true) => writeln!(io::stderr(), "{:#}", document(exported)),
        (Report::Json, false) => writeln!(io::stdout(), "{:#}", document(exported)),
    };
    ended(written)
}

fn name(made: &Made) -> String {
    made.path
        .as_ref()
        .map_or("standard output".into(), |path| visible_path(path))
}

fn text(e: &Exported, out: &mut impl Write) -> io::Result<()> {
    if let Some(reading) = e.reading.as_ref().filter(|reading| reading.has_news()) {
        reading.write_text(out)?;
        writeln!(out)?;
    }
    writeln!(out, "{} ← {}\n", e.spec.bold(), e.from)?;
    let names: Vec<String> = e.made.iter().map(name).collect();
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
                visible(repair.column.as_deref().unwrap_or("").as_bytes()),
                repair.what,
                number(repair.line)
            )?;
        }
    }
    unfit(c, out)
}

/// At most so many unfit rows are listed.
const MOST: usize = 12;

fn unfit(c: &Counts, out: &mut impl Write) -> io::Result<()> {
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
            visible(one.column.as_deref().unwrap_or("").as_bytes()),
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

fn document(e: &Exported) -> Value {
    let files: Vec<Value> = e
        .made
        .iter()
        .map(|made| {
            json!({
                "file": name(made), "rows": made.rows, "bytes": made.content.bytes,
                "content": made.content.hash,
            })
        })
        .collect();
    let repairs: Vec<Value> = e
        .counts
        .repairs
        .iter()
        .map(|r| json!({ "what": r.what.to_string(), "column": r.column, "count": r.count }))
        .collect();
    let unfit: Vec<Value> = e
        .counts
        .told
        .iter()
        .map(|one| {
            json!({
                "row": one.row, "column": one.column, "code": one.why.code.word(),
                "says": one.why.says, "value": one.why.value,
            })
        })
        .collect();
    json!({
        "reading": e.reading.as_ref().map(summary_document),
        "from": e.from, "spec": e.spec, "files": files, "read": e.counts.rows + e.counts.unfit,
        "written": if e.beyond.is_some() { 0 } else { e.counts.rows }, "unfit": e.counts.unfit,
        "unfit_rows": unfit, "replaced": e.counts.replaced, "repairs": repairs,
        "finished": e.beyond.is_none(), "seconds": e.elapsed.as_secs_f64(),
    })
}
