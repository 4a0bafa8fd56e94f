//! Shows what a check found.

use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::check::CheckReport;
use owo_colors::OwoColorize;

use super::{columns, printed, summary};
use crate::args::Report;

/// Prints what the spec has from other files, the columns, and what a load would say.
pub fn print(report: &CheckReport) -> Result<(), Error> {
    printed(|out| settings(report, out))?;
    columns::print(&report.columns)?;
    match &report.summary {
        Some(summary) => summary::print(summary, Report::Text),
        None => Ok(()),
    }
}

fn settings(report: &CheckReport, out: &mut dyn Write) -> io::Result<()> {
    for (file, keys) in &report.settings {
        let keys = escape_for_display(keys.join(", ").as_bytes());
        writeln!(out, "{}  {keys}", format!("from {file}").bold())?;
    }
    match report.settings.is_empty() {
        true => Ok(()),
        false => writeln!(out),
    }
}
