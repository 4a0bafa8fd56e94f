//! Rows of the ledger, from what a run counted.

use super::super::selection::Selected;
use super::now;
use crate::error::Error;
use barrow_core::counts::FileCounts;
use barrow_core::escape::visible_path;
use barrow_core::source::{Content, SourceFile};
use barrow_targets::Session;
use barrow_targets::ledger::{self, Counts, Outcome, Run};

/// The content of a file that was read to its end. An unpacker may stop before bytes that
/// follow what it unpacks: then those are read as well, or the file would not be known
/// again.
pub(super) fn whole(file: &Selected, read: Content) -> Content {
    match &file.fingerprint {
        Some(fingerprint) if read.bytes < fingerprint.size => file.source.content().unwrap_or(read),
        _ => read,
    }
}

/// The sample of a file that was still written to when it was first looked at, if it has
/// just what was read of it: or it would not be known again.
pub(super) fn sample_now(file: &Selected, read: &Content) -> Option<String> {
    let now = file.source.fingerprint().ok()??;
    (now.size == read.bytes).then_some(now.sample)
}

pub(super) fn path(source: &SourceFile) -> String {
    visible_path(&source.identity())
}

pub(super) fn counts(file: &FileCounts) -> Counts {
    Counts {
        records: file.all_records(),
        loaded: file.loaded,
        rejected: file.rejected,
        filtered: file.left_out.filtered(),
        rolled_back: file.not_kept,
        repaired: file.repaired,
        other_lines: file.left_out.lines(),
    }
}

/// A run of whose open rejects some were loaded and some are still wrong. The others are
/// gone from their files: they are given up.
pub(crate) fn mended(run: &Run, loaded: u64, rejected: u64) -> Run {
    Run {
        mended: run.mended + loaded,
        still_open: rejected,
        given_up: run.given_up + run.still_open.saturating_sub(loaded + rejected),
        ..run.clone()
    }
}

/// A run with nothing but who runs it, where, and with which version.
pub(crate) fn by_whom() -> Run {
    Run {
        who: whoami::username().unwrap_or_default(),
        host: whoami::hostname().unwrap_or_default(),
        version: env!("CARGO_PKG_VERSION").into(),
        ..Run::default()
    }
}

/// Closes a run that was interrupted when all of it was there.
///
/// # Errors
/// The ledger cannot be written.
pub(crate) fn close(session: &mut dyn Session, run: Run) -> Result<(), Error> {
    let run = Run {
        outcome: Outcome::Kept,
        state: None,
        message: None,
        ended_at: now(),
        ..run
    };
    Ok(ledger::write_run(session, &run, false)?)
}
