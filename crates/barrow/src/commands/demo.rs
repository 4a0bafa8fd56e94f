//! `barrow demo`: lays out the demo market and runs the tour on it.

use std::process::ExitCode;

use barrow_run::Error;

use crate::args;
use crate::tour;

/// Lays it out and runs the tour.
pub fn run(args: &args::Demo) -> Result<ExitCode, Error> {
    tour::run(&args.folder)?;
    Ok(ExitCode::SUCCESS)
}
