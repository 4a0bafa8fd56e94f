//! `barrow ledger`: what was loaded, when, from what and with what result.

use std::path::Path;
use std::process::ExitCode;

use barrow_run::ledger::Filter;
use barrow_run::spec_file::environment;
use barrow_run::{Error, Ledger, Overrides, Spec};
use barrow_targets::Url;

use crate::args;
use crate::view::ledger as view;

/// Shows runs, or one of them in full.
pub fn run(args: &args::Ledger) -> Result<ExitCode, Error> {
    let mut ledger = Ledger::open(url(args.database.as_ref(), args.spec.as_deref())?)?;
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

/// The database that is meant: as it is said, or that of a spec.
pub(super) fn url(database: Option<&String>, spec: Option<&Path>) -> Result<Url, Error> {
    match (args::database(database), spec) {
        (_, Some(spec)) => Spec::open(spec, &Overrides::default())?.url(),
        (Some(url), None) => Ok(Url::parse(&url, Path::new(""), environment)?),
        (None, None) => Err(Error::request(
            "there is no database to ask",
            "say --database sqlite:market.db, or --spec with a spec that names it, or set \
             BARROW_DATABASE",
        )),
    }
}
