//! Shows what a check found.

use std::io::Write;

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::check::CheckReport;
use owo_colors::OwoColorize;

use super::{columns, ended, summary};
use crate::args::Report;

/// Prints what the spec has from other files, the columns, and what a load would say.
pub fn print(report: &CheckReport) -> Result<(), Error> {
    let out = &mut anstream::stdout().lock();
    for (file, keys) in &report.settings {
        let keys = escape_for_display(keys.join(", ").as_bytes());
        ended(writeln!(out, "{}  {keys}", format!("from {file}").bold()))?;
    }
    if !report.settings.is_empty() {
        ended(writeln!(out))?;
    }
    columns::print(&report.columns)?;
    match &report.summary {
        Some(summary) => summary::print(summary, Report::Text),
        None => Ok(()),
    }
}
