//! What the ledger knows of files, without loading any.

use std::collections::HashSet;

use barrow_core::source::SourceFile;
use barrow_targets::ledger::File;
use barrow_targets::{Session, ledger};

use super::known_files::KnownFiles;
use super::request::LoadRequest;
use super::select_files::in_other_hands;
use super::selection::{Selected, Selection};
use crate::error::Error;
use crate::report::{FileStatus, State};

/// What is known of each file, in order.
///
/// # Errors
/// A file or the ledger cannot be read.
pub(crate) fn of(
    request: &LoadRequest<'_>,
    sources: Vec<SourceFile>,
) -> Result<Vec<FileStatus>, Error> {
    if !request.url.is_there() || !request.spec.plan.target.ledger {
        return Ok(sources.iter().map(unknown).collect());
    }
    let mut session = request.url.open(false)?;
    if !ledger::is_there(session.as_mut())? {
        return Ok(sources.iter().map(unknown).collect());
    }
    let table_key = ledger::table_key(session.as_mut(), &request.job)?;
    known(request, session.as_mut(), table_key, sources)
}

fn known(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    table_key: String,
    sources: Vec<SourceFile>,
) -> Result<Vec<FileStatus>, Error> {
    let by_version = KnownFiles::ask(request, session, &table_key, &[], &sources)?.whatever_mode();
    let mut states = Vec::new();
    let mut left = Vec::new();
    for (place, source) in sources.iter().enumerate() {
        match by_version.same_version(source) {
            Some(file) => states.push((place, loaded(source, &by_version, file))),
            None => left.push((place, source.clone())),
        }
    }
    let sources: Vec<SourceFile> = left.iter().map(|(_, source)| source.clone()).collect();
    let files = Selected::all(sources.clone())?;
    let mut known =
        KnownFiles::ask(request, session, &table_key, &files, &sources)?.whatever_mode();
    let mut selection = Selection {
        table_key,
        ..Selection::default()
    };
    let mut waiting = Vec::new();
    for ((place, source), file) in left.iter().zip(files) {
        let (skipped, fingerprint) = (selection.skipped.len(), file.fingerprint.clone());
        known.place(file, &mut selection)?;
        let state = match selection.skipped.get(skipped) {
            Some(one) => match (&one.run, known.in_the_table(source)) {
                (None, _) => FileStatus {
                    state: State::SameAs(one.when.clone()),
                    ..unknown(source)
                },
                (Some(_), Some(file)) => loaded(source, &known, file),
                (Some(run), None) => FileStatus {
                    state: State::Loaded,
                    run: Some(run.clone()),
                    when: Some(one.when.clone()),
                    ..unknown(source)
                },
            },
            None => {
                waiting.push(states.len());
                let fingerprint = fingerprint.as_ref();
                let before = fingerprint.and_then(|f| known.earlier(source, f));
                match (known.interrupted_in(source), before) {
                    (Some(file), _) => FileStatus {
                        state: State::Interrupted,
                        ..loaded(source, &known, file)
                    },
                    (None, Some(file)) => FileStatus {
                        state: State::Changed,
                        ..loaded(source, &known, file)
                    },
                    (None, None) => unknown(source),
                }
            }
        };
        states.push((*place, state));
    }
    let theirs: HashSet<usize> = in_other_hands(request, &selection)?.into_iter().collect();
    for (number, at) in waiting.into_iter().enumerate() {
        if theirs.contains(&number) {
            states[at].1.state = State::InProgress;
        }
    }
    states.sort_by_key(|(place, _)| *place);
    Ok(states.into_iter().map(|(_, state)| state).collect())
}

fn unknown(source: &SourceFile) -> FileStatus {
    FileStatus {
        file: source.name(),
        size: source.size(),
        modified: source.modified(),
        state: State::New,
        run: None,
        when: None,
        loaded: 0,
        open_rejects: 0,
        given_up: 0,
    }
}

fn loaded(source: &SourceFile, known: &KnownFiles, file: &File) -> FileStatus {
    let (open_rejects, given_up) = known.rejects_of(file);
    FileStatus {
        state: State::Loaded,
        run: Some(file.run.clone()),
        when: Some(known.when(file)),
        loaded: file.counts.loaded,
        open_rejects,
        given_up,
        ..unknown(source)
    }
}
