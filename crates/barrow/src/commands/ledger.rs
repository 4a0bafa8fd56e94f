//! `barrow ledger`: what was loaded, when, from what and with what result.

use std::path::Path;
use std::process::ExitCode;

use barrow_run::ledger::Filter;
use barrow_run::{Error, Ledger, Overrides};
use barrow_targets::Url;

use super::spec::{database, open};
use crate::args::{self, Report};
use crate::view::ledger as view;

/// Shows runs, or one of them in full.
pub fn run(args: &args::Ledger) -> Result<ExitCode, Error> {
    let has_documents = args.report == Report::Json;
    let url = url(args.database.as_ref(), args.spec.as_deref(), has_documents)?;
    let mut ledger = Ledger::open(url)?;
    match &args.run {
        Some(id) => view::print_run(&ledger.run(id)?, args.report)?,
        None => {
            let filter = Filter {
                table: args.table.clone(),
                since: args.since.clone(),
                failed: args.failed,
                limit: args.limit,
            };
            view::print_runs(&ledger.runs(&filter)?, args.report)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The database that is meant: that of a spec, as it is said, or that of this folder.
pub(super) fn url(
    said: Option<&String>,
    spec: Option<&Path>,
    is_quiet: bool,
) -> Result<Url, Error> {
    if let Some(spec) = spec {
        return open(spec, &Overrides::default(), is_quiet)?.url();
    }
    database(said, is_quiet)?.ok_or_else(|| {
        Error::request(
            "there is no database to ask",
            "say --database sqlite:market.db, or --spec with a spec that names it, set \
             BARROW_DATABASE, or write it into a barrow.toml",
        )
    })
}
