//! `barrow mend`: loads a run's rejects again, once they are corrected.

use std::process::ExitCode;
use std::time::Duration;

use barrow_run::{Error, Mend};

use crate::args;
use crate::exit;
use crate::view::progress::Progress;
use crate::view::summary;

/// Loads what was corrected, and says what is left.
pub fn run(args: &args::Mend) -> Result<ExitCode, Error> {
    let mut progress = Progress::new(args.quiet);
    let summary = Mend::new(&args.run)
        .database(args::database(args.database.as_ref()))
        .rejects(args.rejects.clone())
        .rehearse(args.check)
        .patience(Duration::from_secs(args.lock_wait.into()))
        .observe(&mut progress)
        .run()?;
    summary::print(&summary, args.report)?;
    Ok(exit::of_load(&summary))
}
