//! What loads of one spec and of several have in common.

use std::process::ExitCode;

use barrow_run::words::counted;
use barrow_run::{Overrides, Spec};

use crate::args;

/// Says how many remarks of a draft are still in the spec.
pub(super) fn mention_remarks(spec: &Spec, is_quiet: bool) {
    let count = spec.remarks();
    if count > 0 && !is_quiet {
        anstream::eprintln!(
            "{} still has {} of its draft, marked with !",
            spec.name(),
            counted(count, "remark")
        );
    }
}

/// What the command line says over the spec.
pub(super) fn overrides(args: &args::Load) -> Overrides {
    Overrides {
        mode: args.mode.map(Into::into),
        max_rejects: args.max_rejects,
        ..args.common.overrides()
    }
}

/// Whether nothing is said: it is asked for, and all is in the table.
pub(super) fn is_quiet(common: &args::Common, code: ExitCode, rejected: u64) -> bool {
    let is_text = common.manner.report == args::Report::Text;
    common.manner.quiet && is_text && code == ExitCode::SUCCESS && rejected == 0
}
