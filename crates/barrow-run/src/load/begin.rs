//! How a load begins: alone where it empties or makes a table, in a transaction, with what
//! comes before its rows.

use barrow_core::counts::RunCounts;
use barrow_core::escape::escape_for_display;
use barrow_core::types::Type;
use barrow_core::words::{Every, Mode};
use barrow_targets::ledger::{self, Outcome as Ended, Run};
use barrow_targets::table::is_text_decimal;
use barrow_targets::{Job, Load, Session};

use super::locks;
use super::rejects_table;
use super::request::LoadRequest;
use super::run_recorder::{self, RunRecorder};
use super::statements;
use crate::error::Error;
use crate::run_rows;
use crate::words::counted;

/// A load whose transaction is open.
pub(super) struct Begun<'s> {
    /// The load.
    pub load: Box<dyn Load<'s> + 's>,
    /// What records the run.
    pub recorder: Option<RunRecorder>,
    /// What was made, in plain words.
    pub made: Vec<String>,
}

/// Begins a load: alone where it empties or makes a table. Where it cannot begin, the
/// ledger says why.
pub(super) fn begin<'s>(
    request: &LoadRequest<'_>,
    session: &'s mut dyn Session,
    job: &Job,
    mut recorder: Option<RunRecorder>,
    rehearses: bool,
    replaces: &[Run],
) -> Result<Begun<'s>, Error> {
    if let Err(error) = may_truncate(request, session, job) {
        return Err(not_begun(request, session, recorder, error));
    }
    let missing = match ready(request, session, job, &mut recorder, rehearses, replaces) {
        Ok(missing) => missing,
        Err(error) => return Err(not_begun(request, session, recorder, error)),
    };
    let mut load = match locks::begin(request, session, job) {
        Ok(load) => load,
        Err((session, error)) => return Err(not_begun(request, session, recorder, error)),
    };
    let first = First {
        missing: &missing,
        before: &request.spec.plan.target.before,
        replaces,
        beside: &request.beside,
    };
    tell_text_decimals(request, load.session(), job);
    match opened(load.as_mut(), job, &mut recorder, &first) {
        Ok(made) => Ok(Begun {
            load,
            recorder,
            made,
        }),
        Err(error) => {
            let (session, _) = load.roll_back();
            Err(not_begun(request, session, recorder, error))
        }
    }
}

/// Says which decimals a table has as text, unless the spec asks for that.
fn tell_text_decimals(request: &LoadRequest<'_>, session: &mut dyn Session, job: &Job) {
    // A server's numbers hold every decimal of a spec.
    if !session.dialect().has_one_writer() {
        return;
    }
    for part in &job.parts {
        // Where it cannot be described, the load itself says so.
        let Ok(Some(found)) = session.describe(&part.table) else {
            continue;
        };
        let is_unasked = |name: &str| {
            let mut own = part.columns.iter();
            own.any(|column| {
                column.name.eq_ignore_ascii_case(name)
                    && matches!(column.ty, Type::Decimal { .. })
                    && !column.inexact_as_text
            })
        };
        let names: Vec<String> = found
            .columns
            .iter()
            .filter(|column| is_text_decimal(column) && is_unasked(&column.name))
            .map(|column| escape_for_display(column.name.as_bytes()))
            .collect();
        if !names.is_empty() {
            request.watch.warning(&format!(
                "{} has decimals as text, which SQL compares as text ({}): make it anew by mode = \
                 \"replace\", or say when_inexact = \"text\"",
                escape_for_display(part.table.as_bytes()),
                names.join(", ")
            ));
        }
    }
}

/// Whether the table may be emptied as the spec says.
fn may_truncate(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    job: &Job,
) -> Result<(), Error> {
    let is_asked = job.truncates && job.mode == Mode::Truncate;
    let is_all_or_nothing = request.spec.plan.target.every == Every::All;
    match is_asked && is_all_or_nothing && !session.dialect().has_transactional_ddl() {
        false => Ok(()),
        true => Err(Error::request(
            "this server commits a TRUNCATE at once, and the load is all or nothing",
            "leave empty_with out, or say commit_every = N: then rows may be lost where it fails",
        )),
    }
}

/// What comes before the transaction. Returns the tables that are to be made.
fn ready(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    job: &Job,
    recorder: &mut Option<RunRecorder>,
    rehearses: bool,
    replaces: &[Run],
) -> Result<Vec<String>, Error> {
    for run in replaces {
        let what = "the run that loads the file's earlier content";
        locks::take(request.watch, session, locks::run_lock(&run.run), what)?;
    }
    if empties(job) || !request.made_first.is_empty() || !missing(session, job)?.is_empty() {
        let table_key = ledger::table_key(session, job)?;
        let what = "another load that empties or makes the table";
        locks::take(request.watch, session, locks::table_lock(&table_key), what)?;
    }
    if let Some(recorder) = recorder {
        recorder.note_start(session)?;
    }
    if let Some(table) = &request.spec.plan.rejects.table {
        rejects_table::make_ready(session, table)?;
    }
    // The server may commit with each of them, so they come before the transaction.
    if !rehearses && !session.dialect().has_transactional_ddl() {
        statements::run(session, "before", &request.spec.plan.target.before)?;
    }
    // Another load may have made them while this one waited.
    let mut missing = missing(session, job)?;
    let made = request
        .made_first
        .iter()
        .filter(|made| job.tables().contains(&made.as_str()));
    missing.extend(made.cloned());
    Ok(missing)
}

/// What comes first within the transaction.
struct First<'f> {
    /// Tables that were missing.
    missing: &'f [String],
    /// SQL of the spec.
    before: &'f [String],
    /// Runs whose rows are deleted.
    replaces: &'f [Run],
    /// Runs of the same transaction that came before.
    beside: &'f [String],
}

/// Does what comes first within the transaction. Returns what was made, in plain words.
fn opened<'s>(
    load: &mut (dyn Load<'s> + 's),
    job: &Job,
    recorder: &mut Option<RunRecorder>,
    first: &First<'_>,
) -> Result<Vec<String>, Error> {
    let missing = first.missing;
    let mut emptied = 0;
    if let Some(recorder) = recorder {
        let swaps = !load.swaps().is_empty();
        emptied = recorder.begin(
            load.session(),
            !missing.is_empty() || empties(job),
            swaps,
            first.beside,
        )?;
    }
    if load.session().dialect().has_transactional_ddl() {
        statements::run(load.session(), "before", first.before)?;
    }
    let mut replaced = Vec::new();
    for run in first.replaces {
        replaced.extend(replace(load.session(), run, job.may_cascade)?);
    }
    if !(first.before.is_empty() && first.replaces.is_empty()) {
        load.recount();
    }
    load.keep_so_far()?;
    let made = missing.iter().map(|table| {
        let table = escape_for_display(table.as_bytes());
        match emptied {
            0 => format!("table {table}: created"),
            files => format!(
                "table {table}: created, for it was gone; {} that had been loaded into it count as new",
                counted(files, "file")
            ),
        }
    });
    let lost = load.lost().iter().map(ToString::to_string);
    Ok(made.chain(lost).chain(replaced).collect())
}

/// Takes the rows of a file's earlier content out. Returns what was done, in plain words.
fn replace(session: &mut dyn Session, run: &Run, may_cascade: bool) -> Result<Vec<String>, Error> {
    let by = run_rows::by(session, run)?;
    let mends = run_rows::mends(session, run)?;
    let runs: Vec<&Run> = std::iter::once(run).chain(&mends).collect();
    let message = format!(
        "replaced on {} by the file's new content",
        run_recorder::now()
    );
    let taken = run_rows::taken_out(session, &runs, Some(&by), &message, false, may_cascade)?;
    let rows = taken.tables.iter().map(|(_, rows)| rows).sum();
    let replaced = format!(
        "{} of run {}, of earlier content, replaced",
        counted(rows, "row"),
        run.run
    );
    let losses = taken.losses.iter().map(ToString::to_string);
    Ok(std::iter::once(replaced).chain(losses).collect())
}

fn empties(job: &Job) -> bool {
    matches!(job.mode, Mode::Truncate | Mode::Replace)
}

/// A load that could not begin: the ledger says why.
fn not_begun(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    recorder: Option<RunRecorder>,
    error: Error,
) -> Error {
    let rolled_back = session.roll_back();
    if let (Some(mut recorder), Ok(())) = (recorder, rolled_back) {
        let tally = RunCounts::default();
        let ended = recorder.write_ended(session, &tally, Ended::Failed, error.message(), None);
        if let Err(error) = ended {
            let text = format!("the ledger could not be written: {}", error.message());
            request.watch.warning(&text);
        }
    }
    error
}

/// The tables that are to be made: what the ledger says of them is then of others.
pub(super) fn missing(session: &mut dyn Session, job: &Job) -> Result<Vec<String>, Error> {
    let mut missing = Vec::new();
    for table in job.tables() {
        if session.describe(table)?.is_none() {
            missing.push(table.to_string());
        }
    }
    Ok(missing)
}
