//! `barrow check --connect`: what the database is, and what may be done there.

use std::process::ExitCode;

use barrow_run::{Check, Error};
use serde_json::{Value, json};

use crate::args::Report;
use crate::exit;
use crate::view::connection;

/// Asks the database: how it ends, and what programs read of it.
pub(super) fn run(
    check: Check<'_>,
    spec: &str,
    report: Report,
) -> Result<(ExitCode, Option<Value>), Error> {
    let connection = check.connect()?;
    let document = match report {
        Report::Json => Some(json!(connection)),
        Report::Text => connection::print(spec, &connection).map(|()| None)?,
    };
    let code = match connection.missing.is_empty() {
        true => ExitCode::SUCCESS,
        false => ExitCode::from(exit::FAILED),
    };
    Ok((code, document))
}
