//! Several specs in one load: their tables are filled in one transaction, all or none, those
//! that others refer to first.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use barrow_core::escape::{escape_for_display, visible_path};
use barrow_core::source::files::is_address;
use barrow_core::words::{Every, Mode};
use barrow_targets::cascade::{self, Deleted, Loss};
use barrow_targets::ledger::{self, Outcome as Ended};
use barrow_targets::table::{self, same_table};
use barrow_targets::{Job, Session, Value};

use super::request::{LoadRequest, PATIENCE};
use super::run::{self, Loaded, log_end};
use super::selection::Selection;
use super::{begin, rejects_table, select_files};
use crate::error::Error;
use crate::observer::{Observer, Watch, Watcher};
use crate::report::{Outcome, Summary, Together};
use crate::run_rows::losses_of;
use crate::spec_file::Spec;

/// A load of several specs in one transaction.
pub struct LoadTogether<'l> {
    specs: &'l [Spec],
    rejects: Option<PathBuf>,
    again: bool,
    patience: Duration,
    threads: Option<usize>,
    observer: Option<&'l mut dyn Observer>,
}

impl<'l> LoadTogether<'l> {
    /// A load by these specs, each of its own files.
    pub fn new(specs: &'l [Spec]) -> LoadTogether<'l> {
        LoadTogether {
            specs,
            rejects: None,
            again: false,
            patience: PATIENCE,
            threads: None,
            observer: None,
        }
    }

    /// The folder that gets a folder of rejects for each run; each spec's unless said.
    pub fn rejects(self, folder: Option<PathBuf>) -> Self {
        LoadTogether {
            rejects: folder,
            ..self
        }
    }

    /// Loads files that were loaded before, too.
    pub fn again(self, again: bool) -> Self {
        LoadTogether { again, ..self }
    }

    /// How long to wait for another session's lock.
    pub fn patience(self, patience: Duration) -> Self {
        LoadTogether { patience, ..self }
    }

    /// How many threads type records; what suits the machine unless said.
    pub fn threads(self, threads: Option<usize>) -> Self {
        LoadTogether { threads, ..self }
    }

    /// Tells an observer what happens on the way.
    pub fn observe(self, observer: &'l mut dyn Observer) -> Self {
        LoadTogether {
            observer: Some(observer),
            ..self
        }
    }

    /// Loads what the tables do not have yet. Where one spec has more rejects than its limit,
    /// or totals that differ, all are read, all is told, and nothing is committed.
    ///
    /// # Errors
    /// Whatever kept the load from being done; nothing of it is in any table then. The specs
    /// name two databases, commit as they go, or refer to each other in a circle.
    pub fn run(self) -> Result<Together, Error> {
        let clock = Instant::now();
        let watch = Watcher::new(self.observer);
        let specs = self.specs;
        // A circle is told before a database is opened.
        order(specs)?;
        let mut requests = Vec::with_capacity(specs.len());
        for spec in specs {
            requests.push(LoadRequest {
                again: self.again,
                patience: self.patience,
                threads: self.threads,
                is_together: true,
                ..LoadRequest::new(spec, self.rejects.clone(), &watch)?
            });
        }
        can_be_together(&requests)?;
        let mut together = load(specs, &requests)?;
        together.elapsed = clock.elapsed();
        together.loads.iter().for_each(log_end);
        Ok(together)
    }
}

/// The specs by their places, those that others refer to by `[[references]]` first; else as
/// they were given.
///
/// # Errors
/// Some refer to each other in a circle.
pub fn order(specs: &[Spec]) -> Result<Vec<usize>, Error> {
    in_order(&needs(specs)).map_err(|circle| {
        let names: Vec<String> = circle.iter().map(|place| specs[*place].name()).collect();
        Error::request(
            format!(
                "these specs refer to each other in a circle: {}",
                names.join(", ")
            ),
            "take one of their [[references]] out, and add that foreign key to the table afterwards",
        )
    })
}

/// For each spec the places of those that it refers to by `[[references]]`.
fn needs(specs: &[Spec]) -> Vec<Vec<usize>> {
    let fills = |spec: &Spec, table: &str| spec.tables().iter().any(|own| same_table(own, table));
    let needs = |place: usize| {
        let references = &specs[place].plan.target.references;
        let is_needed = |other: &usize| {
            let mut references = references.iter();
            *other != place && references.any(|reference| fills(&specs[*other], &reference.table))
        };
        (0..specs.len()).filter(is_needed).collect()
    };
    (0..specs.len()).map(needs).collect()
}

/// The order by the foreign keys that the tables have, as well as by `[[references]]`. Where
/// tables refer to each other in a circle, that of the specs.
fn order_in_database(specs: &[Spec], session: &mut dyn Session) -> Result<Vec<usize>, Error> {
    let by_specs = order(specs)?;
    let mut needs = needs(specs);
    let dialect = session.dialect();
    for place in 0..specs.len() {
        for table in specs[place].tables() {
            let mut ask = |sql: &str, values: &[Value]| {
                session.query(sql, values, "looking for foreign keys")
            };
            let children = cascade::referring_tables(dialect, &mut ask, table)?;
            let refers = |other: usize| {
                let tables = specs[other].tables();
                let is_child = |own: &&str| children.iter().any(|child| same_table(own, child));
                other != place && tables.iter().any(is_child)
            };
            (0..specs.len())
                .filter(|other| refers(*other))
                .for_each(|other| needs[other].push(place));
        }
    }
    Ok(in_order(&needs).unwrap_or(by_specs))
}

/// The places in such an order that each comes after those that it needs; else as they are.
///
/// # Errors
/// Those that need each other in a circle.
fn in_order(needs: &[Vec<usize>]) -> Result<Vec<usize>, Vec<usize>> {
    let mut order: Vec<usize> = Vec::new();
    while order.len() < needs.len() {
        let is_ready = |place: &usize| {
            !order.contains(place) && needs[*place].iter().all(|other| order.contains(other))
        };
        match (0..needs.len()).find(is_ready) {
            Some(next) => order.push(next),
            None => return Err((0..needs.len()).filter(|p| !order.contains(p)).collect()),
        }
    }
    Ok(order)
}

/// What several specs cannot do in one transaction.
fn can_be_together(requests: &[LoadRequest<'_>]) -> Result<(), Error> {
    let Some(first) = requests.first() else {
        return Ok(());
    };
    for request in requests {
        let name = request.spec.name();
        let target = &request.spec.plan.target;
        let commits_at_once = !request.url.dialect().has_transactional_ddl();
        if !request.url.is_same_place(&first.url) {
            return Err(Error::request(
                format!(
                    "{} goes to {}, and {name} to {}: a transaction has one database",
                    first.spec.name(),
                    first.url,
                    request.url
                ),
                "say --database for all of them, or load each alone",
            ));
        }
        if target.every != Every::All {
            return Err(Error::request(
                format!("{name} commits as it goes, and several specs are committed at once"),
                "say commit_every = \"all\", or load it alone",
            ));
        }
        let other = requests
            .iter()
            .find(|other| !std::ptr::eq(*other, request) && share_a_table(request, other));
        if let (Mode::Replace, Some(other)) = (request.job.mode, other) {
            return Err(Error::request(
                format!(
                    "{name} makes its table anew, and {} fills the same table",
                    other.spec.name()
                ),
                "say mode = \"truncate\", or load each alone",
            ));
        }
        if commits_at_once && request.job.mode == Mode::Replace {
            return Err(Error::request(
                format!("{name} makes a new table, which this server commits at once"),
                "say mode = \"truncate\", or load it alone",
            ));
        }
        if commits_at_once && !(target.before.is_empty() && target.after.is_empty()) {
            return Err(Error::request(
                format!("{name} has SQL to run, which may commit on this server"),
                "load it alone",
            ));
        }
    }
    Ok(())
}

/// Loads by the specs; a request for each.
fn load(specs: &[Spec], requests: &[LoadRequest<'_>]) -> Result<Together, Error> {
    let Some(first) = requests.first() else {
        return Ok(Together::default());
    };
    let creates = requests.iter().any(|request| request.job.create);
    let is_new = !first.url.is_there();
    let mut session = first.url.open(creates)?;
    session.set_patience(first.patience)?;
    let order = order_in_database(specs, session.as_mut())?;
    let ordered: Vec<LoadRequest<'_>> =
        order.iter().map(|place| requests[*place].again()).collect();
    let requests = ordered.as_slice();
    let mut selected = Vec::new();
    for request in requests {
        let files = request.spec.files(&[])?;
        let selection = select_files::select(request, session.as_mut(), files)?;
        selected.push((request, selection));
    }
    load_again_what_goes(&mut selected, session.as_mut())?;
    once_each(&selected)?;
    make_ready(requests, session.as_mut())?;
    let mut loads = Vec::new();
    if selected
        .iter()
        .all(|(_, selection)| selection.files.is_empty())
    {
        for (request, selection) in selected {
            loads.push(run::nothing_new(request, session.as_mut(), selection)?);
        }
        return Ok(ended(requests, loads, true));
    }
    let made_first = missing_tables(requests, session.as_mut())?;
    let jobs: Vec<&Job> = requests.iter().map(|request| &request.job).collect();
    session.open_together(&jobs)?;
    let to_load: Vec<&LoadRequest<'_>> = selected
        .iter()
        .filter(|(_, selection)| !selection.files.is_empty())
        .map(|(request, _)| *request)
        .collect();
    let emptied = empty(session.as_mut(), &to_load).and_then(|emptied| {
        note_emptied(session.as_mut(), &to_load)?;
        Ok(emptied)
    });
    let (mut emptied, lost) = match emptied {
        Ok(emptied) => emptied,
        Err(error) => {
            take_back(session.as_mut(), &mut loads, error.message(), first.watch);
            return Err(error);
        }
    };
    let mut beside: Vec<String> = Vec::new();
    for (request, selection) in selected {
        let request = LoadRequest {
            made_first: made_first.clone(),
            beside: beside.clone(),
            job: Job {
                is_emptied: true,
                ..request.job.clone()
            },
            ..request.again()
        };
        match one(&request, session.as_mut(), selection) {
            Ok(loaded) => {
                beside.push(loaded.summary.run.clone());
                loads.push(loaded);
            }
            Err(error) => {
                let why = format!("the load of {}: {}", request.spec.name(), error.message());
                take_back(session.as_mut(), &mut loads, &why, first.watch);
                return Err(error.and(&format!(
                    "it was {}, and nothing of the {} specs was committed",
                    request.spec.name(),
                    requests.len()
                )));
            }
        }
    }
    if let Some(loaded) = loads.first_mut() {
        let lost = lost.iter().map(ToString::to_string);
        loaded.summary.made.extend(lost);
    }
    // Of several loads of one table, the first begins with the rows that were deleted.
    for table in loads
        .iter_mut()
        .flat_map(|loaded| &mut loaded.summary.tables)
    {
        let found = emptied
            .iter_mut()
            .find(|(name, _)| same_table(name, &table.name));
        table.before += found.map_or(0, |(_, rows)| std::mem::take(rows));
    }
    let is_kept = loads.iter().all(|loaded| loaded.summary.is_kept());
    match is_kept {
        true => {
            if let Err(error) = session.commit_together() {
                take_back(session.as_mut(), &mut loads, &error.message, first.watch);
                let specs = requests.len();
                let nothing = format!("nothing of the {specs} specs was committed");
                return Err(Error::from(error).and(&nothing));
            }
        }
        false => {
            let why = "another table of the same load was rolled back";
            take_back(session.as_mut(), &mut loads, why, first.watch);
        }
    }
    let mut together = ended(requests, loads, is_kept);
    if is_new && is_kept {
        together.made = Some(format!("database {}: created", first.url));
    }
    Ok(together)
}

/// Whether two loads have a table in common.
fn share_a_table(one: &LoadRequest<'_>, other: &LoadRequest<'_>) -> bool {
    let others = other.job.tables();
    let mut own = one.job.tables().into_iter();
    own.any(|table| others.iter().any(|other| same_table(table, other)))
}

/// Where one load empties a table, the files of the others that fill it are loaded anew: what
/// they brought before goes as well.
fn load_again_what_goes(
    selected: &mut [(&LoadRequest<'_>, Selection)],
    session: &mut dyn Session,
) -> Result<(), Error> {
    for place in 0..selected.len() {
        let request = selected[place].0;
        let goes = request.job.mode != Mode::Truncate
            && selected.iter().any(|(other, selection)| {
                other.job.mode == Mode::Truncate
                    && !selection.files.is_empty()
                    && share_a_table(request, other)
            });
        if goes {
            let again = LoadRequest {
                again: true,
                ..request.again()
            };
            let files = request.spec.files(&[])?;
            selected[place].1 = select_files::select(&again, session, files)?;
        }
    }
    Ok(())
}

/// Whether each file goes into a table once: the ledger has one line for each.
fn once_each(selected: &[(&LoadRequest<'_>, Selection)]) -> Result<(), Error> {
    for (place, (request, selection)) in selected.iter().enumerate() {
        for (other, others) in &selected[..place] {
            let mut files = selection.files.iter().map(|file| &file.source);
            let is_there = |source: &&barrow_core::source::SourceFile| {
                let identity = source.identity();
                let mut others = others.files.iter();
                others.any(|file| file.source.identity() == identity)
            };
            if let Some(file) = files
                .find(is_there)
                .filter(|_| share_a_table(request, other))
            {
                return Err(Error::request(
                    format!(
                        "{} is loaded into one table by both {} and {}",
                        file.name(),
                        other.spec.name(),
                        request.spec.name()
                    ),
                    "name it in one of them, or use [[record_type]] to tell its records apart",
                ));
            }
        }
    }
    Ok(())
}

/// Empties the tables whose loads would, those first that refer to others. Returns how many
/// rows each had.
fn empty(session: &mut dyn Session, requests: &[&LoadRequest<'_>]) -> Result<Emptied, Error> {
    let mut emptied: Vec<(String, u64)> = Vec::new();
    let mut lost = Vec::new();
    let empties = |request: &&&LoadRequest<'_>| request.job.mode == Mode::Truncate;
    let emptying = requests.iter().filter(empties);
    let all_emptied: Vec<&str> = emptying.flat_map(|request| request.job.tables()).collect();
    for request in requests.iter().rev().filter(empties) {
        for table in request.job.tables() {
            let is_emptied = emptied.iter().any(|(name, _)| same_table(name, table));
            if !is_emptied && session.describe(table)?.is_some() {
                let all = Deleted::all_of(table, &all_emptied);
                lost.extend(losses_of(session, all, request.job.may_cascade)?);
                let quoted = session.dialect().table(table);
                let sql = format!("DELETE FROM {quoted}");
                let rows = session.execute(&sql, &[], "emptying the table")?;
                let sql = format!("SELECT COUNT(*) FROM {quoted}");
                let left = session.query(&sql, &[], "counting the rows that are left")?;
                let left = left.first().and_then(|row| row.first()?.as_count());
                table::is_empty(table, left.unwrap_or(0))?;
                emptied.push((table.to_string(), rows));
            }
        }
    }
    Ok((emptied, lost))
}

/// Tables that were emptied with the rows that each had, and what other tables lost.
type Emptied = (Vec<(String, u64)>, Vec<Loss>);

/// Has the ledger say that the rows of all runs before are gone from the tables that were
/// emptied.
fn note_emptied(session: &mut dyn Session, requests: &[&LoadRequest<'_>]) -> Result<(), Error> {
    if !ledger::is_there(session)? {
        return Ok(());
    }
    let is_noted =
        |r: &&&LoadRequest<'_>| r.job.mode == Mode::Truncate && r.spec.plan.target.ledger;
    for request in requests.iter().filter(is_noted) {
        let table_key = ledger::table_key(session, &request.job)?;
        ledger::emptied(session, &table_key, &[])?;
    }
    Ok(())
}

fn one(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    selection: Selection,
) -> Result<Loaded, Error> {
    match selection.files.is_empty() {
        true => run::nothing_new(request, session, selection),
        false => run::run(request, session, selection),
    }
}

/// What a server commits at once is made before the transaction.
fn make_ready(requests: &[LoadRequest<'_>], session: &mut dyn Session) -> Result<(), Error> {
    let has_ledger = requests
        .iter()
        .any(|request| request.spec.plan.target.ledger);
    if has_ledger && !session.dialect().has_one_writer() && !ledger::is_there(session)? {
        ledger::make(session)?;
    }
    for request in requests {
        if let Some(table) = &request.spec.plan.rejects.table {
            rejects_table::make_ready(session, table)?;
        }
    }
    Ok(())
}

/// The tables that are made before the transaction, since the server commits them at once.
fn missing_tables(
    requests: &[LoadRequest<'_>],
    session: &mut dyn Session,
) -> Result<Vec<String>, Error> {
    if session.dialect().has_transactional_ddl() {
        return Ok(Vec::new());
    }
    let mut missing = Vec::new();
    for request in requests {
        missing.extend(begin::missing(session, &request.job)?);
    }
    Ok(missing)
}

/// Rolls all back, and has the ledger say so of each.
fn take_back(session: &mut dyn Session, loads: &mut [Loaded], why: &str, watch: &dyn Watch) {
    let mut told = session.roll_back().map_err(Error::from);
    for loaded in loads {
        let summary = &mut loaded.summary;
        let own = match summary.outcome {
            Outcome::BeyondTolerance { .. } => "more rejects than the limit",
            Outcome::TotalsDiffer { .. } => "its totals differ from what was found",
            Outcome::Kept | Outcome::WithOthers { .. } => why,
        };
        if summary.is_kept() {
            summary.outcome = Outcome::WithOthers {
                not_kept: summary.tally.loaded(),
            };
        }
        summary.made.clear();
        summary
            .tables
            .iter_mut()
            .for_each(|table| table.after = table.before);
        loaded.done.clear();
        if let (Some(recorder), Ok(())) = (&mut loaded.recorder, &told) {
            let folder = summary.rejects.as_deref().map(|folder| {
                match is_address(&folder.to_string_lossy()) {
                    true => visible_path(folder),
                    false => visible_path(&std::path::absolute(folder).unwrap_or_default()),
                }
            });
            told =
                recorder.write_taken_back(session, &summary.tally, Ended::RolledBack, own, folder);
        }
        summary.can_be_replayed &= loaded.replay.is_some();
        if let Some(Err(error)) = loaded.replay.take().map(|replay| replay.write()) {
            summary.can_be_replayed = false;
            watch.warning(&format!("the rejects cannot be mended: {error}"));
        }
    }
    if let Err(error) = told {
        watch.warning(&format!(
            "the ledger could not be written: {}",
            error.message()
        ));
    }
}

fn ended(requests: &[LoadRequest<'_>], loads: Vec<Loaded>, is_kept: bool) -> Together {
    let mut summaries: Vec<Summary> = Vec::new();
    for (mut loaded, request) in loads.into_iter().zip(requests) {
        loaded.dispose(request);
        summaries.push(loaded.summary);
    }
    let names = |request: &LoadRequest<'_>| {
        request
            .job
            .tables()
            .iter()
            .map(ToString::to_string)
            .collect()
    };
    let into = requests.first().map(|request| request.url.to_string());
    Together {
        into: escape_for_display(into.unwrap_or_default().as_bytes()),
        loads: summaries,
        tables: requests.iter().map(names).collect(),
        is_kept,
        ..Together::default()
    }
}
