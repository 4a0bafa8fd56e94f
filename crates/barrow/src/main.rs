//! `barrow`: bulk loads delimited and fixed-width files into databases.
//!
//! Arguments become a request to [`barrow_run`], and its report is printed: nothing is
//! decided here.

mod args;
mod commands;
mod exit;
mod log;
mod tour;
mod view;

use std::process::ExitCode;

use barrow_run::Error;
use clap::Parser;

use args::{Args, Command};

fn main() -> ExitCode {
    commands::help_files::complete_if_asked();
    let args = Args::parse();
    args.color.apply();
    let has_documents = args.command.reports_json() && args.command.writes_rows();
    if args.command.goes_by_environment() && !has_documents {
        anstream::eprintln!("the database is that of {}", args::DATABASE);
    }
    let outcome = match args.log.as_deref().map_or(Ok(()), log::begin) {
        Ok(()) => done(&args.command),
        Err(error) => Err(error),
    };
    log::ended(&outcome);
    outcome.unwrap_or_else(|error| {
        let (is_json, has_rows) = (args.command.reports_json(), args.command.writes_rows());
        // Where standard output has rows, the document has standard error to itself.
        if !(is_json && has_rows) {
            view::failure::show(&error);
        }
        if is_json {
            view::failure::print_json(&error, has_rows);
        }
        exit::of_error(&error)
    })
}

fn done(command: &Command) -> Result<ExitCode, Error> {
    tracing::info!(
        command = command.name(),
        version = env!("CARGO_PKG_VERSION"),
        "a command began"
    );
    match command {
        Command::Load(load) => commands::load::run(load),
        Command::Draft(draft) => commands::draft::run(draft),
        Command::Check(check) => commands::check::run(check),
        Command::Ddl(ddl) => commands::ddl::run(ddl),
        Command::Peek(peek) => commands::peek::run(peek),
        Command::Export(export) => commands::export::run(export),
        Command::Query(query) => commands::query::run(query),
        Command::Convert(convert) => commands::convert::run(convert),
        Command::Mend(mend) => commands::mend::run(mend),
        Command::Ledger(ledger) => commands::ledger::run(ledger),
        Command::Undo(undo) => commands::undo::run(undo),
        Command::Status(status) => commands::status::run(status),
        Command::Help(help) => commands::help::run(help),
        Command::Demo(demo) => commands::demo::run(demo),
    }
}
