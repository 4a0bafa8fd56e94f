//! `barrow export`: writes a table or a query out as a flat file.

use std::process::ExitCode;

use barrow_run::export::Wanted;
use barrow_run::{Error, Export, Overrides, Spec};

use crate::args;
use crate::exit;
use crate::view::export as view;
use crate::view::progress::Progress;

/// Exports, and says what came of it.
pub fn run(args: &args::Export) -> Result<ExitCode, Error> {
    let mut progress = Progress::of_rows(args.manner.quiet);
    let database = args::database(args.database.as_ref());
    let exported = request(args, database.as_ref())?
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

fn request<'e>(args: &'e args::Export, database: Option<&'e String>) -> Result<Export<'e>, Error> {
    let wanted = Wanted {
        query: args.query.clone(),
        condition: args.condition.clone(),
        order: args.order_by.clone(),
    };
    let out = args.out.request();
    match (&args.spec, database) {
        (Some(path), _) => {
            let overrides = Overrides {
                database: database.cloned(),
                table: args.table.clone(),
                ..Overrides::default()
            };
            Ok(Export::by_spec(Spec::open(path, &overrides)?, wanted, out))
        }
        (None, Some(database)) => Ok(Export::without_spec(
            database,
            args.table.as_deref(),
            args.spec_out.as_deref(),
            wanted,
            out,
        )),
        (None, None) => Err(Error::request(
            "there is no database to read from",
            "say --database sqlite:market.db, postgres://… or mariadb://…",
        )),
    }
}
