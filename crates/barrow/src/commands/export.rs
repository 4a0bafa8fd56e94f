//! `barrow export`: writes a table or a query out as a flat file.

use std::process::ExitCode;

use barrow_run::export::Wanted;
use barrow_run::{Error, Export, Overrides};

use super::spec::{database, open};
use crate::args;
use crate::exit;
use crate::view::export as view;
use crate::view::progress::Progress;

/// Exports, and says what came of it.
pub fn run(args: &args::Export) -> Result<ExitCode, Error> {
    let mut progress = Progress::of_rows(args.manner.quiet);
    let exported = request(args)?
        .threads(args.manner.threads())
        .observe(&mut progress)
        .run()?;
    // None where whoever read the rows has had enough.
    let Some(exported) = exported else {
        return Ok(ExitCode::SUCCESS);
    };
    view::print(&exported, args.manner.report, args.manner.quiet)?;
    Ok(match exported.beyond {
        None => ExitCode::SUCCESS,
        Some(_) => ExitCode::from(exit::BEYOND_LIMIT),
    })
}

fn request(args: &args::Export) -> Result<Export<'_>, Error> {
    let wanted = Wanted {
        query: args.query.clone(),
        condition: args.condition.clone(),
        order: args.order_by.clone(),
    };
    let out = args.out.request();
    let is_quiet = args.manner.is_silent();
    if let Some(path) = &args.spec {
        let overrides = Overrides {
            database: args::database(args.database.as_ref()),
            table: args.table.clone(),
            ..Overrides::default()
        };
        return Ok(Export::by_spec(
            open(path, &overrides, is_quiet)?,
            wanted,
            out,
        ));
    }
    let Some(database) = database(args.database.as_ref(), is_quiet)? else {
        return Err(Error::request(
            "there is no database to read from",
            "say --database sqlite:market.db, postgres://… or mysql://…, or set BARROW_DATABASE",
        ));
    };
    let (table, spec_out) = (args.table.as_deref(), args.spec_out.as_deref());
    Ok(Export::without_spec(database, table, spec_out, wanted, out))
}
