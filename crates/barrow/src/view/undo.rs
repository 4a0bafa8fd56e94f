//! What an undo says.

use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::undo::Undone;
use barrow_run::words::counted;
use owo_colors::OwoColorize;

use super::{json, printed};
use crate::args::Report;

/// Prints it.
pub fn print(undone: &Undone, report: Report) -> Result<(), Error> {
    match report {
        Report::Json => json::print(undone),
        Report::Text => printed(|out| write(undone, out)),
    }
}

fn write(u: &Undone, out: &mut dyn Write) -> io::Result<()> {
    writeln!(
        out,
        "{} → {}\n",
        format!("run {}", u.run).bold(),
        u.database
    )?;
    for (table, rows) in &u.tables {
        let table = escape_for_display(table.as_bytes());
        let verb = if u.rehearsal {
            "would be deleted"
        } else {
            "deleted"
        };
        writeln!(out, "  {table}: {} {verb}", counted(*rows, "row").bold())?;
    }
    if u.forgotten {
        let rows = counted(u.loaded, "row");
        writeln!(out, "  no row was deleted: {rows} are where they are")?;
    }
    for mend in &u.mends {
        writeln!(out, "  run {mend}, which mended its rejects, goes with it")?;
    }
    let verb = if u.files == 1 { "counts" } else { "count" };
    writeln!(out, "  {} {verb} as new again", counted(u.files, "file"))?;
    if u.open_rejects > 0 {
        let rejects = counted(u.open_rejects, "reject");
        writeln!(
            out,
            "  {rejects} of it are closed: they come again with their file"
        )?;
    }
    for remark in &u.remarks {
        writeln!(out, "  {remark}")?;
    }
    let end = match (u.rehearsal, u.forgotten) {
        (true, _) => "nothing was changed".to_string(),
        (false, true) => "the ledger has forgotten it".to_string(),
        (false, false) => "undone, in one transaction".green().to_string(),
    };
    writeln!(out, "  {end}")
}
