//! `barrow convert`: from one format to another, without a database between.

use std::process::ExitCode;

use barrow_run::report::Outcome;
use barrow_run::{Convert, Error, Overrides};

use super::spec::open;
use crate::args;
use crate::exit;
use crate::view::export as view;
use crate::view::progress::Progress;

/// Converts, and says what came of it.
pub fn run(args: &args::Convert) -> Result<ExitCode, Error> {
    let overrides = Overrides {
        max_rejects: args.max_rejects,
        ..Overrides::default()
    };
    let from = open(&args.spec, &overrides, args.manner.is_silent())?;
    let to = open(&args.to, &Overrides::default(), args.manner.is_silent())?;
    let mut progress = Progress::new(args.manner.quiet);
    let converted = Convert::new(&from, &to, args.out.request())
        .files(args.files.clone())
        .rejects(args.rejects.clone())
        .threads(args.manner.threads())
        .observe(&mut progress)
        .run()?;
    // None where whoever read the records has had enough.
    let Some(converted) = converted else {
        return Ok(ExitCode::SUCCESS);
    };
    view::print(&converted.exported, args.manner.report, args.manner.quiet)?;
    Ok(match converted.outcome {
        Outcome::Kept => ExitCode::SUCCESS,
        Outcome::BeyondTolerance { .. } => ExitCode::from(exit::BEYOND_LIMIT),
        Outcome::TotalsDiffer { .. } | Outcome::WithOthers { .. } => ExitCode::from(exit::FAILED),
    })
}
