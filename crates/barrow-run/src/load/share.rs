//! One list of files, shared by several loads, on one machine or many: each takes the
//! next file that nobody has, and commits it with its line in the ledger. A file that a
//! load had when it died is free again, for its lock went with its session.

use std::collections::VecDeque;

use barrow_core::source::SourceFile;
use barrow_core::words::{Every, Mode};
use barrow_targets::ledger;

use super::request::LoadRequest;
use super::run::run;
use super::select_files::{Claimed, known_by_version, select_if_free};
use crate::error::Error;
use crate::report::Shared;

/// Loads what others do not. What came of the files is returned with a failure too: each
/// is committed by itself.
pub fn share(request: &LoadRequest<'_>, files: Vec<SourceFile>) -> (Shared, Result<(), Error>) {
    let mut shared = Shared::default();
    let ended = can_be_shared(request, &files)
        .and_then(|()| prepare(request))
        .and_then(|()| take_files(request, files.into(), &mut shared));
    (shared, ended)
}

fn take_files(
    request: &LoadRequest<'_>,
    open: VecDeque<SourceFile>,
    shared: &mut Shared,
) -> Result<(), Error> {
    // How many files in a row others had.
    let mut busy = 0;
    let mut session = request.open()?;
    let table_key = ledger::table_key(session.as_mut(), &request.job)?;
    let (known, others) = known_by_version(request, session.as_mut(), &table_key, open.into())?;
    shared.skipped.extend(known);
    let mut open = VecDeque::from(others);
    while let Some(file) = open.pop_front() {
        let wait = busy > open.len();
        match select_if_free(request, session.as_mut(), file.clone(), wait)? {
            Claimed::ByOthers => {
                busy += 1;
                open.push_back(file);
                continue;
            }
            Claimed::Ours(selection) if selection.files.is_empty() => {
                shared.skipped.extend(selection.skipped);
            }
            Claimed::Ours(selection) => {
                let mut loaded = run(request, session.as_mut(), *selection)?;
                loaded.dispose(request);
                shared.loads.push(loaded.summary);
            }
        }
        busy = 0;
        // Another session: the lock on the file goes with the old one.
        drop(session);
        session = request.open()?;
    }
    Ok(())
}

fn can_be_shared(request: &LoadRequest<'_>, files: &[SourceFile]) -> Result<(), Error> {
    let target = &request.spec.plan.target;
    let trouble = match (target.mode, target.every) {
        _ if !target.ledger => "the ledger, by which the loads share the files, is switched off",
        _ if request.again => "with --again every load would load every file",
        (Mode::Truncate | Mode::Replace, _) => {
            "each load would empty the table of the others' rows"
        }
        (_, Every::Records(_)) => "files are committed one by one, and the spec commits by records",
        _ if files.iter().any(|file| !file.is_repeatable()) => "standard input cannot be shared",
        _ => return Ok(()),
    };
    Err(Error::request(
        format!("--share: {trouble}"),
        "share files that are appended or merged, with commit_every = \"all\" and a ledger",
    ))
}

/// Makes the ledger and the tables before the first file is taken, or two loads would
/// make them at once.
fn prepare(request: &LoadRequest<'_>) -> Result<(), Error> {
    let mut session = request.open()?;
    let mut is_ready = ledger::is_there(session.as_mut())?;
    for table in request.job.tables() {
        is_ready &= session.describe(table)?.is_some();
    }
    if is_ready {
        return Ok(());
    }
    session.lock(0, true)?;
    if !ledger::is_there(session.as_mut())? {
        ledger::make(session.as_mut())?;
    }
    if request.job.create {
        let load = session.begin(&request.job).map_err(|n| n.error)?;
        let (_, made) = load.finish();
        made?;
    }
    Ok(())
}
