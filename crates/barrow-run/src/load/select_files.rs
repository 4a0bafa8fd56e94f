//! Which files are loaded: those whose content is not in the table yet, from where an
//! interrupted run left off.

use std::collections::BTreeSet;

use barrow_core::source::SourceFile;
use barrow_targets::{Session, ledger};

use super::known_files::KnownFiles;
use super::locks::lock_of;
use super::owed;
use super::recover::recover;
use super::request::LoadRequest;
use super::selection::{Selected, Selection};
use crate::error::Error;
use crate::report::Skipped;

/// Decides, and keeps other loads of the same files away until the target is dropped.
///
/// # Errors
/// A file or the ledger cannot be read.
pub(crate) fn select(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    sources: Vec<SourceFile>,
) -> Result<Selection, Error> {
    if !request.spec.plan.target.ledger {
        return Ok(Selection {
            files: Selected::all(sources)?,
            ..Selection::default()
        });
    }
    let table_key = ledger::table_key(session, &request.job)?;
    let (known, sources) = known_by_version(request, session, &table_key, sources)?;
    let files = Selected::all(sources)?;
    claim(request, session, &table_key, &files)?;
    if ledger::is_there(session)? {
        recover(session, &table_key)?;
        owed::pay(request, session, &table_key)?;
    }
    let mut selection = decide(request, session, table_key, files)?;
    selection.skipped.splice(0..0, known);
    Ok(selection)
}

/// Files that are elsewhere and that the ledger has under the same address, size and version
/// are told from the others without a byte of them being read.
pub(super) fn known_by_version(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    table_key: &str,
    sources: Vec<SourceFile>,
) -> Result<(Vec<Skipped>, Vec<SourceFile>), Error> {
    if sources.iter().all(|source| source.version().is_none()) {
        return Ok((Vec::new(), sources));
    }
    let known = KnownFiles::ask(request, session, table_key, &[], &sources)?;
    let mut skipped = Vec::new();
    let mut others = Vec::new();
    for source in sources {
        match known.passed_over(&source) {
            Some(known) => skipped.push(known),
            None => others.push(source),
        }
    }
    Ok((skipped, others))
}

/// What would be loaded, without keeping anybody away: for a look ahead. Where a load would
/// stop, the reason comes as well.
///
/// # Errors
/// A file or the ledger cannot be read.
pub(crate) fn predict(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    sources: Vec<SourceFile>,
) -> Result<(Selection, Option<Error>), Error> {
    let table_key = match request.spec.plan.target.ledger {
        true => ledger::table_key(session, &request.job)?,
        false => String::new(),
    };
    if table_key.is_empty() || !ledger::is_there(session)? {
        let selection = Selection {
            files: Selected::all(sources)?,
            table_key,
            ..Selection::default()
        };
        return Ok((selection, None));
    }
    let (passed, sources) = known_by_version(request, session, &table_key, sources)?;
    let files = Selected::all(sources)?;
    let (known, mut selection) = placed(request, session, table_key, files)?;
    selection.skipped.splice(0..0, passed);
    let replaced = known.replaced(request, session);
    let stops = known.may_come_again(request).err();
    let stops = match replaced {
        Ok(runs) => {
            selection.replaces = runs;
            stops
        }
        Err(error) => stops.or(Some(error)),
    };
    selection.resumed = known.resume(request, &mut selection.files)?;
    Ok((selection, stops))
}

/// The files that another load is loading now, by their places.
///
/// # Errors
/// The database cannot be asked.
pub(crate) fn in_other_hands(
    request: &LoadRequest<'_>,
    selection: &Selection,
) -> Result<Vec<usize>, Error> {
    let mut theirs = Vec::new();
    if selection.table_key.is_empty() {
        return Ok(theirs);
    }
    // In a session of its own, which releases the locks at once.
    let mut session = request.url.open(false)?;
    for (place, file) in selection.files.iter().enumerate() {
        let Some(fingerprint) = &file.fingerprint else {
            continue;
        };
        if !session.lock(lock_of(&selection.table_key, &fingerprint.sample), false)? {
            theirs.push(place);
        }
    }
    Ok(theirs)
}

/// Whether a file could be locked.
pub(crate) enum Claimed {
    /// Another load has it now.
    ByOthers,
    /// It is ours until the target is dropped.
    Ours(Box<Selection>),
}

/// Decides on one file, unless another load has it; with `wait`, once that has ended.
///
/// # Errors
/// The file or the ledger cannot be read.
pub(crate) fn select_if_free(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    source: SourceFile,
    wait: bool,
) -> Result<Claimed, Error> {
    let table_key = ledger::table_key(session, &request.job)?;
    let (skipped, mut left) = known_by_version(request, session, &table_key, vec![source])?;
    let Some(source) = left.pop() else {
        return Ok(Claimed::Ours(Box::new(Selection {
            skipped,
            table_key,
            ..Selection::default()
        })));
    };
    let file = Selected::of(source)?;
    let sample = file
        .fingerprint
        .as_ref()
        .map_or("", |fingerprint| &fingerprint.sample);
    if !session.lock(lock_of(&table_key, sample), wait)? {
        return Ok(Claimed::ByOthers);
    }
    if ledger::is_there(session)? {
        recover(session, &table_key)?;
        owed::pay(request, session, &table_key)?;
    }
    let selection = decide(request, session, table_key, vec![file])?;
    Ok(Claimed::Ours(Box::new(selection)))
}

fn decide(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    table_key: String,
    outlined: Vec<Selected>,
) -> Result<Selection, Error> {
    let (known, mut selection) = placed(request, session, table_key, outlined)?;
    known.may_come_again(request)?;
    selection.replaces = known.replaced(request, session)?;
    selection.resumed = known.resume(request, &mut selection.files)?;
    Ok(selection)
}

/// The files, each to load or to pass over.
fn placed(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    table_key: String,
    files: Vec<Selected>,
) -> Result<(KnownFiles, Selection), Error> {
    let mut selection = Selection {
        table_key,
        ..Selection::default()
    };
    let sources: Vec<SourceFile> = files.iter().map(|file| file.source.clone()).collect();
    let mut known = KnownFiles::ask(request, session, &selection.table_key, &files, &sources)?;
    for file in files {
        known.place(file, &mut selection)?;
    }
    Ok((known, selection))
}

/// Waits until no other load has any of the files. All loads take the locks in the same
/// request, so that no two wait for each other.
fn claim(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    table_key: &str,
    files: &[Selected],
) -> Result<(), Error> {
    let samples = files.iter().filter_map(|file| file.fingerprint.as_ref());
    let locks: BTreeSet<i64> = samples
        .map(|fingerprint| lock_of(table_key, &fingerprint.sample))
        .collect();
    let mut told = false;
    for lock in locks {
        if session.lock(lock, false)? {
            continue;
        }
        if !told {
            request.watch.waiting("another load of these files to end");
            told = true;
        }
        session.lock(lock, true)?;
    }
    Ok(())
}
