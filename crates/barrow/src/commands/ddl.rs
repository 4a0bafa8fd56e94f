//! `barrow ddl`: prints the CREATE TABLE for specs, or what would make tables fit.

use std::io::{self, Write};
use std::process::ExitCode;

use barrow_run::load::order;
use barrow_run::{Error, Overrides, Spec, ddl};
use barrow_targets::registry;

use super::spec::open;
use crate::args;
use crate::view::ended;

/// Prints SQL, tables first that others refer to.
pub fn run(args: &args::Ddl) -> Result<ExitCode, Error> {
    let overrides = Overrides {
        database: args::database(args.database.as_ref()),
        table: args.table.clone(),
        ..Overrides::default()
    };
    let specs = args.specs.iter().map(|spec| open(spec, &overrides, false));
    let specs = specs.collect::<Result<Vec<Spec>, Error>>()?;
    let mut sql = Vec::new();
    for place in order(&specs)? {
        sql.push(of(args, &specs[place])?);
    }
    ended(io::stdout().write_all(sql.join("\n").as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}

fn of(args: &args::Ddl, spec: &Spec) -> Result<String, Error> {
    match args.alter {
        true => ddl::alterations(spec),
        false => {
            let dialect = args.dialect.as_deref().and_then(registry::dialect);
            ddl::create_tables(spec, dialect)
        }
    }
}
