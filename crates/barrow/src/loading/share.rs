//! One list of files, shared by several loads, on one machine or many: each takes the
//! next file that nobody has, and commits it with its line in the ledger. A file that a
//! load had when it died is free again, for its lock went with its session.

use std::collections::VecDeque;

use barrow_core::source::SourceFile;
use barrow_core::words::{Every, Mode};
use barrow_targets::ledger;

use super::choose::{Claimed, choose_if_free};
use super::{Order, run_chosen};
use crate::failure::Failure;
use crate::view::summary::{Skipped, Summary};

/// Loads what others do not. What came of the files is returned with a failure too: each
/// is committed by itself.
pub fn share(order: &Order<'_>, files: Vec<SourceFile>) -> (Shared, Result<(), Failure>) {
    let mut shared = Shared::default();
    let ended = can_be_shared(order, &files)
        .and_then(|()| prepare(order))
        .and_then(|()| take_files(order, files.into(), &mut shared));
    (shared, ended)
}

fn take_files(
    order: &Order<'_>,
    mut open: VecDeque<SourceFile>,
    shared: &mut Shared,
) -> Result<(), Failure> {
    // How many files in a row others had.
    let mut busy = 0;
    let mut target = order.open()?;
    while let Some(file) = open.pop_front() {
        let wait = busy > open.len();
        match choose_if_free(order, target.as_mut(), file.clone(), wait)? {
            Claimed::ByOthers => {
                busy += 1;
                open.push_back(file);
                continue;
            }
            Claimed::Ours(choice) if choice.files.is_empty() => {
                shared.skipped.extend(choice.skipped);
            }
            Claimed::Ours(choice) => {
                let mut loaded = run_chosen(order, target.as_mut(), *choice)?;
                loaded.dispose(order);
                shared.loads.push(loaded.summary);
            }
        }
        busy = 0;
        // Another session: the lock on the file goes with the old one.
        drop(target);
        target = order.open()?;
    }
    Ok(())
}

/// What a shared load came to.
#[derive(Default)]
pub struct Shared {
    /// A load for each file that this one took.
    pub loads: Vec<Summary>,
    /// Files that are in the table already.
    pub skipped: Vec<Skipped>,
}

fn can_be_shared(order: &Order<'_>, files: &[SourceFile]) -> Result<(), Failure> {
    let target = &order.spec.plan.target;
    let trouble = match (target.mode, target.every) {
        _ if !target.ledger => "the ledger, which tells the loads who has what, is switched off",
        _ if order.again => "with --again every load would load every file",
        (Mode::Truncate | Mode::Replace, _) => {
            "each load would empty the table of the others' rows"
        }
        (_, Every::Records(_)) => "files are committed one by one, and the spec commits by records",
        _ if files.iter().any(|file| !file.is_repeatable()) => "standard input is nobody else's",
        _ => return Ok(()),
    };
    Err(Failure::wrong(
        format!("--share: {trouble}"),
        "share files that are appended or merged, with commit_every = \"all\" and a ledger",
    ))
}

/// Makes the ledger and the tables before the first file is taken, or two loads would
/// make them at once.
fn prepare(order: &Order<'_>) -> Result<(), Failure> {
    let mut target = order.open()?;
    let mut is_ready = ledger::is_there(target.as_mut())?;
    for table in order.job.tables() {
        is_ready &= target.describe(table)?.is_some();
    }
    if is_ready {
        return Ok(());
    }
    target.lock(0, true)?;
    if !ledger::is_there(target.as_mut())? {
        ledger::make(target.as_mut())?;
    }
    if order.job.create {
        target.begin(&order.job)?;
        target.finish()?;
    }
    Ok(())
}
