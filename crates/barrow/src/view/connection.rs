//! Shows what a database says of itself, and what a load would lack there.

use std::io::{self, Write};

use barrow_core::visible::visible;
use barrow_targets::{About, Url};
use owo_colors::OwoColorize;
use serde_json::{Value, json};

use super::ended;
use crate::args::Report;
use crate::failure::Failure;

/// Prints a database that answers.
pub fn print(
    spec: &str,
    url: &Url,
    about: &About,
    missing: &[String],
    report: Report,
) -> Result<(), Failure> {
    match report {
        Report::Text => ended(text(
            spec,
            url,
            about,
            missing,
            &mut anstream::stdout().lock(),
        )),
        Report::Json => ended(writeln!(
            io::stdout(),
            "{:#}",
            document(url, about, missing)
        )),
    }
}

/// Says of a file that is not there yet that a load would make it.
pub fn print_new(spec: &str, url: &Url, report: Report) -> Result<(), Failure> {
    match report {
        Report::Text => ended(writeln!(
            io::stdout(),
            "{spec} → {url}\n\n  the file is not there yet; a load would make it"
        )),
        Report::Json => {
            let document = json!({ "database": url.to_string(), "is_there": false, "missing": [] });
            ended(writeln!(io::stdout(), "{document:#}"))
        }
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

fn document(url: &Url, about: &About, missing: &[String]) -> Value {
    let tables: Vec<Value> = about
        .tables
        .iter()
        .map(|r| {
            json!({
                "table": r.table, "is_there": r.is_there, "select": r.select, "insert": r.insert,
                "update": r.update, "delete": r.delete, "create": r.create,
            })
        })
        .collect();
    json!({
        "database": url.to_string(), "is_there": true, "server": about.server, "user": about.user,
        "encrypted": about.encrypted, "tables": tables,
        "ledger": (!about.ledger.is_empty()).then(|| json!({ "is_there": about.has_ledger() })),
        "missing": missing,
    })
}
