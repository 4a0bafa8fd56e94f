//! `barrow peek`: shows records as the spec reads them, or lines as they are.

use std::process::ExitCode;

use barrow_run::{Error, Overrides, Peek, peek};

use super::spec::open;
use crate::args::{self, Report};
use crate::view::{lines, records};

/// Shows a look into files.
pub fn run(args: &args::Peek) -> Result<ExitCode, Error> {
    let look = Peek {
        from: args.from,
        count: args.records,
    };
    let is_spec = args.spec.extension().is_some_and(|ending| ending == "toml");
    match is_spec {
        true => by_spec(&look, args)?,
        false => as_it_is(&look, args)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn by_spec(look: &Peek, args: &args::Peek) -> Result<(), Error> {
    let spec = open(
        &args.spec,
        &Overrides::default(),
        args.report == Report::Json,
    )?;
    match args.at {
        Some(line) => lines::print(&peek::line_by_spec(&spec, &args.files, line)?, args.report),
        None => records::print(&look.records(&spec, &args.files)?, args.report),
    }
}

fn as_it_is(look: &Peek, args: &args::Peek) -> Result<(), Error> {
    let first = args.spec.to_string_lossy().into_owned();
    let names = std::iter::once(first).chain(args.files.iter().cloned());
    let names: Vec<String> = names.collect();
    let found = match args.at {
        Some(line) => peek::line(&names, line)?,
        None => look.lines(&names)?,
    };
    found
        .iter()
        .try_for_each(|lines| lines::print(lines, args.report))
}
