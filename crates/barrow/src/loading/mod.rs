//! Loading: which files are to be loaded, the way into the table, and the books about it.

pub mod afterwards;
pub mod books;
pub mod choose;
mod group;
pub mod note;
pub mod originals;
pub mod reasons;
mod recover;
pub mod rejects_table;
pub mod replay;
pub mod share;
pub mod sink;
pub mod waiting;

use std::path::PathBuf;
use std::time::Duration;

use barrow_core::flow;
use barrow_core::rejects::Keeper;
use barrow_core::source::SourceFile;
use barrow_core::tally::{FileTally, Tally};
use barrow_core::words::{Every, Mode};
use barrow_targets::ledger::Outcome as Ended;
use barrow_targets::{Job, Batching, Session, Url};

use self::afterwards::Done;
use self::books::Books;
use self::choose::{Choice, Chosen};
use self::note::Note;
use self::sink::{Finished, LoadSink};
use crate::args::Shared;
use crate::commands::job::{Spec, flow_options};
use crate::failure::Failure;
use crate::view::summary::{Skipped, Summary, TableRows};

/// A load as it was asked for.
pub struct Order<'o> {
    /// By this spec.
    pub spec: &'o Spec,
    /// Into this database.
    pub url: &'o Url,
    /// Into these tables.
    pub job: Job,
    /// The folder that holds a folder of rejects for each run.
    pub rejects: PathBuf,
    /// Whether files are loaded that were loaded already.
    pub again: bool,
    /// How long a lock of another session is waited for.
    pub patience: Duration,
    /// What the command line shares.
    pub shared: &'o Shared,
}

/// A run's id: twelve hexadecimal digits. It names a folder and a line of the ledger for
/// ever, so it must be new, not secret: of a million runs two have the same with a chance of
/// one in five hundred.
pub fn run_id() -> String {
    format!("{:012x}", fastrand::u64(..1 << 48))
}

impl Order<'_> {
    /// Opens the target.
    ///
    /// # Errors
    /// The database is not there, or will not have us.
    pub fn open(&self) -> Result<Box<dyn Session>, Failure> {
        let mut target = self.url.open(self.job.create)?;
        target.set_patience(self.patience)?;
        Ok(target)
    }
}

/// Loads files: those of them that the ledger does not know.
///
/// # Errors
/// Whatever kept the load from being done; nothing of it is kept then, but what was
/// committed on the way.
pub fn load(order: &Order<'_>, files: Vec<SourceFile>) -> Result<Loaded, Failure> {
    let is_new = !order.url.is_there();
    let mut target = order.open()?;
    let choice = choose::choose(order, target.as_mut(), files)?;
    if choice.files.is_empty() {
        return nothing_new(order, target.as_mut(), choice);
    }
    let loaded = run_chosen(order, target.as_mut(), choice);
    let mut loaded = loaded.map_err(|failure| {
        failure.naming_rights(|| {
            let about = target.about(&order.job.tables()).ok()?;
            let dialect = order.url.dialect();
            let lacks = barrow_targets::about::missing(&about, &order.job, dialect);
            (!lacks.is_empty()).then(|| lacks.join("; "))
        })
    })?;
    if is_new && loaded.summary.is_kept() {
        let made = format!("database {}: created", order.url);
        loaded.summary.made.insert(0, made);
    }
    Ok(loaded)
}

/// What a load came to.
pub struct Loaded {
    /// What people read.
    pub summary: Summary,
    /// The files whose rows are in the table.
    pub done: Vec<Done>,
}

impl Loaded {
    /// Does with the files what the spec says is to be done afterwards.
    pub fn dispose(&mut self, order: &Order<'_>) {
        let afterwards = &order.spec.plan.source.afterwards;
        let disposed = afterwards::dispose(afterwards, &order.spec.base, &self.done);
        self.summary.disposed = disposed;
    }
}

fn done(files: &[Chosen], skipped: &[Skipped], summary: &Summary) -> Vec<Done> {
    let was_left = |name: &str| summary.left_whole.iter().any(|left| left.file == name);
    let first = summary.tally.files.len().saturating_sub(files.len());
    let counted = files.iter().zip(&summary.tally.files[first..]);
    let is_loaded = |file: &Chosen, tally: &FileTally| {
        file.source.is_repeatable() && summary.is_kept() && !was_left(&tally.name)
    };
    let loaded = counted
        .filter(|&(file, tally)| is_loaded(file, tally))
        .map(|(file, tally)| Done {
            source: file.source.clone(),
            outline: file.outline.clone(),
            has_rejects: tally.rejected > 0,
        });
    let before = skipped.iter().filter_map(|skipped| {
        Some(Done {
            source: skipped.source.clone()?,
            outline: None,
            has_rejects: skipped.has_rejects,
        })
    });
    loaded.chain(before).collect()
}

/// Every file is in the table already.
fn nothing_new(
    order: &Order<'_>,
    target: &mut dyn Session,
    choice: Choice,
) -> Result<Loaded, Failure> {
    if let Some(on) = choice.going_on {
        // It was interrupted after its last commit: nothing of it is missing, but for the
        // note beside its rejects.
        let folder = order.rejects.join(&on.run.run);
        if folder.is_dir() {
            Note::of(order, &on.run.run).write(&folder)?;
        }
        books::close(target, on.run)?;
    }
    let summary = Summary {
        spec: order.spec.name(),
        into: order.url.to_string(),
        skipped: choice.skipped,
        nothing_new: true,
        tolerance: order.spec.plan.rejects.tolerance,
        ..Summary::default()
    };
    Ok(Loaded {
        done: done(&[], &summary.skipped, &summary),
        summary,
    })
}

/// Loads the files that were chosen, in one run.
///
/// # Errors
/// As [`load`].
pub fn run_chosen(
    order: &Order<'_>,
    target: &mut dyn Session,
    choice: Choice,
) -> Result<Loaded, Failure> {
    run_chosen_by(order, target, choice, false, |sink| sink)
}

/// The same with a sink that is set up otherwise. A rehearsal takes all back in the end, and
/// leaves no trace.
///
/// # Errors
/// As [`load`].
pub fn run_chosen_by<'s>(
    order: &'s Order<'s>,
    target: &'s mut dyn Session,
    choice: Choice,
    rehearses: bool,
    set_up: impl FnOnce(LoadSink<'s>) -> LoadSink<'s>,
) -> Result<Loaded, Failure> {
    let plan = &order.spec.plan;
    let Choice {
        files,
        going_on,
        table_key,
        skipped,
    } = choice;
    let went_on = going_on.as_ref().map(|on| on.words.clone());
    let mut job = order.job.clone();
    if going_on.is_some() && job.mode == Mode::Truncate {
        // What there is was loaded after the table was emptied.
        job.mode = Mode::Append;
    }
    let run = going_on
        .as_ref()
        .map_or_else(run_id, |on| on.run.run.clone());
    let mut books = match plan.target.ledger && !rehearses {
        true => Some(Books::open(
            order,
            target,
            &run,
            table_key,
            going_on.as_ref(),
        )?),
        false => None,
    };
    let begun = begin(order, target, &job, &mut books);
    let Begun { rows_before, made } = match begun {
        Ok(begun) => begun,
        Err(failure) => return Err(not_begun(target, books, failure)),
    };
    let aside = match rehearses {
        true => Some(tempfile::tempdir().map_err(|e| note::failed(&order.rejects, &e))?),
        false => None,
    };
    let rejects = aside
        .as_ref()
        .map_or(order.rejects.as_path(), |aside| aside.path());
    let folder = rejects.join(&run);
    let keep = plan.rejects.keep;
    let (tally, keeper, start) = match going_on {
        None => (
            Tally::default(),
            Keeper::new(folder, keep),
            Start::default(),
        ),
        Some(on) => (
            Tally::go_on(on.counted, on.first),
            Keeper::go_on(folder, keep, &on.written)?,
            Start {
                from: on.from,
                expected: on.expected,
            },
        ),
    };
    let sink = LoadSink::new(order, target, &files, &run, tally, keeper, books)?;
    let note = Note::of(order, &run);
    let sink = set_up(sink.noting(note));
    let mut sink = match rehearses {
        true => sink.rehearsing(),
        false => sink,
    };
    let flowed = flow_through(order, &run, &files, start, &mut sink);
    let finished = sink.finish(flowed)?;
    let mut summary = summed_up(order, run, &job, &rows_before, finished);
    summary.no_ledger = !plan.target.ledger;
    summary.can_mend = plan.target.ledger;
    if summary.is_kept() {
        summary.made = made;
    }
    if rehearses {
        summary.rejects = None;
    }
    let done = done(&files, &skipped, &summary);
    summary.skipped = skipped;
    summary.went_on = went_on;
    Ok(Loaded { summary, done })
}

/// Where a flow begins in its first file.
#[derive(Default)]
pub struct Start {
    /// The place, 0-based.
    pub from: u64,
    /// What the file was like up to there.
    pub expected: Option<String>,
}

/// A load whose transaction is open.
struct Begun {
    rows_before: Vec<u64>,
    /// What was made, in plain words.
    made: Vec<String>,
}

/// Begins a load: alone where it empties or makes a table.
fn begin(
    order: &Order<'_>,
    target: &mut dyn Session,
    job: &Job,
    books: &mut Option<Books>,
) -> Result<Begun, Failure> {
    let empties = matches!(job.mode, Mode::Truncate | Mode::Replace);
    if empties || !missing(target, job)?.is_empty() {
        let table_key = barrow_targets::ledger::table_key(target, job)?;
        let lock = waiting::table_lock(&table_key);
        let what = "another load that empties or makes the table";
        waiting::claim(target, lock, what, order.shared.quiet)?;
    }
    if let Some(books) = books {
        books.note_start(target)?;
    }
    if let Some(table) = &order.spec.plan.rejects.table {
        rejects_table::make_ready(target, table)?;
    }
    // Another load may have made them while this one waited.
    let missing = missing(target, job)?;
    let rows_before = waiting::begin(order, target, job)?;
    let mut emptied = 0;
    if let Some(books) = books {
        emptied = books.begin(target, !missing.is_empty() || empties)?;
    }
    target.keep_so_far()?;
    let made = missing.iter().map(|table| {
        let table = barrow_core::visible::visible(table.as_bytes());
        match emptied {
            0 => format!("table {table}: created"),
            files => format!(
                "table {table}: created, for it was gone; {} that had been loaded into it count as new",
                crate::view::counted(files, "file")
            ),
        }
    });
    Ok(Begun {
        rows_before,
        made: made.collect(),
    })
}

/// A load that could not begin: the ledger says why.
fn not_begun(target: &mut dyn Session, books: Option<Books>, failure: Failure) -> Failure {
    let undone = target.undo();
    if let (Some(mut books), Ok(_)) = (books, undone) {
        let ended = books.write_ended(
            target,
            &Tally::default(),
            Ended::Failed,
            &failure.message(),
            None,
        );
        if let Err(error) = ended {
            waiting::could_not_note(&error);
        }
    }
    failure
}

/// The tables that are to be made: what the ledger says of them is then of others.
fn missing(target: &mut dyn Session, job: &Job) -> Result<Vec<String>, Failure> {
    let mut missing = Vec::new();
    for table in job.tables() {
        if target.describe(table)?.is_none() {
            missing.push(table.to_string());
        }
    }
    Ok(missing)
}

/// Reads the files into the sink.
pub fn flow_through(
    order: &Order<'_>,
    run: &str,
    files: &[Chosen],
    start: Start,
    sink: &mut LoadSink<'_>,
) -> Result<(), flow::Failure<Failure>> {
    let plan = &order.spec.plan;
    let mut options = flow_options(order.shared, run);
    if let Some(portions) = sink.portions() {
        options = beside_server(order, portions, options);
    }
    options.hashes = plan.target.ledger;
    options.from = start.from;
    options.expected = start.expected;
    // What is committed on the way is known again when the load goes on.
    options.prefixes = plan.target.ledger && plan.target.every != Every::All;
    let encode = sink.encoder();
    let sources = files.iter().map(|file| file.source.clone()).collect();
    flow::run_into(plan, sources, options, &*encode, |batches| {
        sink.take_all(batches)
    })
}

/// Batches that lie typed while others are with the server.
const TYPED_AHEAD: usize = 8;

/// How the flow is run where a server takes the rows.
fn beside_server(order: &Order<'_>, portions: Batching, usual: flow::Options) -> flow::Options {
    let mut options = usual;
    if order.shared.threads.is_none() {
        // The server is slower than one thread that types, and may well run on this
        // machine, where its own would wait for ours: on two processors, with two that
        // type, it waited 8 % of its time, and 3 % with one.
        options.threads = (options.threads - 1).max(1);
    }
    if order.spec.plan.target.every == Every::All {
        // A load that commits as it goes does so at a block's end: there they stay small,
        // and always the same, so that it can go on at one.
        options.block_size = portions.block_size;
        options.waiting = portions.together + TYPED_AHEAD;
    }
    options
}

/// What people read of a load that ended.
pub fn summed_up(
    order: &Order<'_>,
    run: String,
    job: &Job,
    before: &[u64],
    finished: Finished,
) -> Summary {
    let rows = before.iter().zip(&finished.rows_after);
    let tables = job.tables().into_iter().zip(rows);
    let each = tables.map(|(name, (before, after))| TableRows {
        name: name.to_string(),
        before: *before,
        after: *after,
    });
    Summary {
        spec: order.spec.name(),
        into: order.url.to_string(),
        tables: each.collect(),
        run,
        tolerance: order.spec.plan.rejects.tolerance,
        ..finished.summary
    }
}
