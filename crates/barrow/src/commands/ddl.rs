//! `barrow ddl`: prints the CREATE TABLE for a spec, or what would make a table fit.

use std::io::{self, Write};
use std::process::ExitCode;

use barrow_run::{Error, Overrides, Spec, ddl};
use barrow_targets::registry;

use crate::args;
use crate::view::ended;

/// Prints SQL.
pub fn run(args: &args::Ddl) -> Result<ExitCode, Error> {
    let overrides = Overrides {
        database: args.database.clone(),
        table: args.table.clone(),
        ..Overrides::default()
    };
    let spec = Spec::open(&args.spec, &overrides)?;
    let sql = match args.alter {
        true => ddl::alterations(&spec)?,
        false => {
            let dialect = args.dialect.as_deref().and_then(registry::dialect);
            ddl::create_tables(&spec, dialect)?
        }
    };
    ended(io::stdout().write_all(sql.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}
