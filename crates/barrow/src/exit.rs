//! Exit codes: what a shell script goes by.

use std::process::ExitCode;

use barrow_run::report::{Outcome, Summary};
use barrow_run::{Error, ErrorKind};

/// It could not be done.
pub const FAILED: u8 = 1;
/// The command line or the spec is wrong.
pub const WRONG: u8 = 2;
/// There are more rejects than the limit.
pub const BEYOND_LIMIT: u8 = 3;
/// The files are not as the spec says.
pub const NOT_ALIKE: u8 = 4;

/// The exit code of a command that could not be done.
pub fn of_error(error: &Error) -> ExitCode {
    match error.kind() {
        ErrorKind::Spec | ErrorKind::Request => ExitCode::from(WRONG),
        ErrorKind::OutputClosed => ExitCode::SUCCESS,
        ErrorKind::Input | ErrorKind::Database | ErrorKind::Failed => ExitCode::from(FAILED),
    }
}

/// The exit code of a load that was done or rolled back.
pub fn of_load(summary: &Summary) -> ExitCode {
    let is_mended = summary.mended.as_ref().is_none_or(|m| m.still_open == 0);
    match summary.outcome {
        Outcome::TotalsDiffer { .. } | Outcome::WithOthers { .. } => ExitCode::from(FAILED),
        Outcome::Kept if summary.disposed.iter().any(|d| d.failed) => ExitCode::from(FAILED),
        // What is still wrong is what the mend was for.
        Outcome::Kept if is_mended && summary.rejected_files.is_empty() => ExitCode::SUCCESS,
        Outcome::Kept | Outcome::BeyondTolerance { .. } => ExitCode::from(BEYOND_LIMIT),
    }
}

/// The exit code of several: that of the first that is not all in its table, and of one that
/// was rolled back for itself before one that was with it.
pub fn of_loads(loads: &[Summary]) -> ExitCode {
    let with_others = |load: &&Summary| matches!(load.outcome, Outcome::WithOthers { .. });
    let own = loads.iter().filter(|load| !with_others(load));
    let mut codes = own.chain(loads.iter().filter(with_others)).map(of_load);
    codes
        .find(|code| *code != ExitCode::SUCCESS)
        .unwrap_or(ExitCode::SUCCESS)
}

#[cfg(test)]
mod tests {
    use barrow_run::report::Mended;

    use super::*;

    fn mended(still_open: u64) -> Summary {
        Summary {
            mended: Some(Mended {
                run: "x".into(),
                open_before: 2,
                mended: 2 - still_open,
                still_open,
                given_up: 0,
            }),
            ..Summary::default()
        }
    }

    #[test]
    fn a_code_of_0_means_that_all_is_in_the_table() {
        assert_eq!(of_load(&Summary::default()), ExitCode::SUCCESS);
        assert_eq!(of_load(&mended(0)), ExitCode::SUCCESS);
        assert_eq!(of_load(&mended(1)), ExitCode::from(BEYOND_LIMIT));
        let rolled_back = Summary {
            outcome: Outcome::BeyondTolerance { not_kept: 1 },
            ..Summary::default()
        };
        assert_eq!(of_load(&rolled_back), ExitCode::from(BEYOND_LIMIT));
    }

    #[test]
    fn what_is_wrong_with_the_request_is_told_apart_from_what_failed() {
        assert_eq!(of_error(&Error::request("a", "b")), ExitCode::from(WRONG));
        assert_eq!(of_error(&Error::failed("a")), ExitCode::from(FAILED));
        assert_eq!(of_error(&Error::output_closed()), ExitCode::SUCCESS);
    }
}
