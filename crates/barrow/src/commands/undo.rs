//! `barrow undo`: takes a run's rows out again.

use std::process::ExitCode;
use std::time::Duration;

use barrow_run::Error;
use barrow_run::undo::Undo;

use super::ledger::url;
use crate::args;
use crate::view::progress::Progress;
use crate::view::undo as view;

/// Undoes a run, and says how many rows were deleted.
pub fn run(args: &args::Undo) -> Result<ExitCode, Error> {
    let mut progress = Progress::new(args.quiet);
    let undone = Undo::new(
        &args.run,
        url(args.database.as_ref(), args.spec.as_deref(), args.quiet)?,
    )
    .rehearse(args.check)
    .forget(args.forget)
    .cascade(args.cascade)
    .patience(Duration::from_secs(args.lock_wait.into()))
    .observe(&mut progress)
    .run()?;
    view::print(&undone, args.report)?;
    Ok(ExitCode::SUCCESS)
}
