//! `barrow status`: which files are waiting.

use std::process::ExitCode;

use barrow_run::{Error, Overrides, Status};

use super::spec::open;
use crate::args::{self, Report};
use crate::view::{json, status};

/// Says of each spec's files what is known of them.
pub fn run(args: &args::Status) -> Result<ExitCode, Error> {
    let overrides = Overrides {
        database: args::database(args.database.as_ref()),
        table: args.table.clone(),
        ..Overrides::default()
    };
    let mut reports = Vec::new();
    for path in &args.specs {
        let spec = open(path, &overrides, args.report == Report::Json)?;
        reports.push(Status::new(&spec).files(args.files.clone()).run()?);
    }
    match (args.report, reports.as_slice()) {
        (Report::Text, reports) => status::print(reports)?,
        (Report::Json, [report]) => json::print(report)?,
        (Report::Json, reports) => json::print(&reports)?,
    }
    Ok(ExitCode::SUCCESS)
}
