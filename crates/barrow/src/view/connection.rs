//! Shows what a database says of itself, and what a load would lack there.

use std::io::{self, Write};

use barrow_core::escape::escape_for_display;
use barrow_run::Error;
use barrow_run::check::Connection;
use barrow_targets::{ServerInfo, Url};
use owo_colors::OwoColorize;

use super::printed;

/// Prints what a database answers.
pub fn print(spec: &str, connection: &Connection) -> Result<(), Error> {
    let Connection { url, missing, .. } = connection;
    printed(|out| match &connection.server_info {
        Some(server_info) => text(spec, url, server_info, missing, out),
        None => writeln!(
            out,
            "{spec} → {url}\n\n  the file is not there yet; a load would make it"
        ),
    })
}

fn text(
    spec: &str,
    url: &Url,
    server_info: &ServerInfo,
    missing: &[String],
    out: &mut dyn Write,
) -> io::Result<()> {
    writeln!(out, "{} → {url}\n", spec.bold())?;
    let line = match server_info.encrypted {
        Some(true) => ", and the line to it is encrypted",
        Some(false) => ", and the line to it is not encrypted",
        None => "",
    };
    writeln!(out, "  server   {}{line}", server_info.server)?;
    if let Some(user) = &server_info.user {
        writeln!(out, "  user     {}", escape_for_display(user.as_bytes()))?;
    }
    for rights in &server_info.tables {
        let there = match rights.is_there {
            true => "is there",
            false => "is not there",
        };
        writeln!(
            out,
            "  table    {} {there}",
            escape_for_display(rights.table.as_bytes())
        )?;
        writeln!(out, "  rights   {}", rights.words())?;
    }
    if !server_info.ledger.is_empty() {
        let words = match server_info.has_ledger() {
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
