//! Shows what a database says of itself, and what a load would lack there.

use std::io::{self, Write};

use barrow_core::visible::visible;
use barrow_run::Error;
use barrow_run::check::Connection;
use barrow_targets::{About, Url};
use owo_colors::OwoColorize;

use super::{ended, json};
use crate::args::Report;

/// Prints what a database answers.
pub fn print(spec: &str, connection: &Connection, report: Report) -> Result<(), Error> {
    let out = &mut anstream::stdout().lock();
    match (report, &connection.about) {
        (Report::Json, _) => json::print(connection),
        (Report::Text, Some(about)) => {
            ended(text(spec, &connection.url, about, &connection.missing, out))
        }
        (Report::Text, None) => ended(writeln!(
            out,
            "{spec} → {}\n\n  the file is not there yet; a load would make it",
            connection.url
        )),
    }
}

fn text(
    spec: &str,
    url: &Url,
    about: &About,
    missing: &[String],
    out: &mut impl Write,
) -> io::Result<()> {
    writeln!(out, "{} → {url}\n", spec.bold())?;
    let line = match about.encrypted {
        Some(true) => ", and the line to it is encrypted",
        Some(false) => ", and the line to it is not encrypted",
        None => "",
    };
    writeln!(out, "  server   {}{line}", about.server)?;
    if let Some(user) = &about.user {
        writeln!(out, "  user     {}", visible(user.as_bytes()))?;
    }
    for rights in &about.tables {
        let there = match rights.is_there {
            true => "is there",
            false => "is not there",
        };
        writeln!(
            out,
            "  table    {} {there}",
            visible(rights.table.as_bytes())
        )?;
        writeln!(out, "  rights   {}", rights.words())?;
    }
    if !about.ledger.is_empty() {
        let words = match about.has_ledger() {
            true => "is there",
            false => "is not there; the first load makes it",
        };
        writeln!(out, "  ledger   {words}")?;
    }
    writeln!(out)?;
    match missing {
        [] => writeln!(
            out,
            "  {}",
            "a load has all that it needs here".green().bold()
        ),
        missing => {
            writeln!(out, "  {}", "a load would lack".red().bold())?;
            missing
                .iter()
                .try_for_each(|one| writeln!(out, "    {one}"))
        }
    }
}
