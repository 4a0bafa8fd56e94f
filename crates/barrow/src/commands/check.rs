//! `barrow check`: what a load would do, without loading.

use std::{path::Path, process::ExitCode};

use barrow_run::check::CheckReport;
use barrow_run::{Check, Error, Overrides, Spec};

use crate::args::{self, Report};
use crate::exit;
use crate::view::progress::Progress;
use crate::view::{columns, connection, failure, json, summary};

/// Checks, and says what a load would do.
pub fn run(args: &args::Check) -> Result<ExitCode, Error> {
    let (specs, files) = args::specs(&args.spec, &args.files);
    if specs.len() == 1 {
        return one(args, &args.spec, &args.files);
    }
    if !files.is_empty() || args.common.table.is_some() || args.common.report == Report::Json {
        return Err(Error::request(
            "several specs are checked one after the other, each by its own files and table",
            "leave the files, --table and --report out, or check one spec at a time",
        ));
    }
    let codes = specs.iter().map(|spec| one(args, spec, &[]));
    let codes = codes.collect::<Result<Vec<ExitCode>, Error>>()?;
    let bad = codes.into_iter().find(|code| *code != ExitCode::SUCCESS);
    Ok(bad.unwrap_or(ExitCode::SUCCESS))
}

fn one(args: &args::Check, spec: &Path, files: &[String]) -> Result<ExitCode, Error> {
    let common = &args.common;
    let overrides = Overrides {
        max_rejects: args.max_rejects,
        ..common.overrides()
    };
    let mut spec = Spec::open(spec, &overrides)?;
    failure::odd(&spec.path, &spec.text, &spec.plan.oddities);
    let name = spec.name();
    let mut progress = Progress::new(common.quiet);
    let check = Check::new(&mut spec)
        .files(files.to_vec())
        .rejects(args.rejects.clone())
        .again(args.again)
        .threads(common.threads())
        .observe(&mut progress);
    if args.connect {
        return connect(check, &name, common.report);
    }
    let report = check.run()?;
    match common.report {
        Report::Json => json::print(&report)?,
        Report::Text => print(&report)?,
    }
    Ok(match (&report.stops, &report.summary) {
        (Some(stops), _) => {
            failure::show(stops);
            exit::of_error(stops)
        }
        (None, Some(summary)) => exit::of_load(summary),
        (None, None) => ExitCode::SUCCESS,
    })
}

fn print(report: &CheckReport) -> Result<(), Error> {
    columns::print(&report.columns)?;
    match &report.summary {
        Some(summary) => summary::print(summary, Report::Text),
        None => Ok(()),
    }
}

fn connect(check: Check<'_>, spec: &str, report: Report) -> Result<ExitCode, Error> {
    let connection = check.connect()?;
    connection::print(spec, &connection, report)?;
    Ok(match connection.missing.is_empty() {
        true => ExitCode::SUCCESS,
        false => ExitCode::from(exit::FAILED),
    })
}
