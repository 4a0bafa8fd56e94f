//! One run: from the files that were selected to what came of them.

use barrow_core::counts::{FileCounts, RunCounts};
use barrow_core::pipeline;
use barrow_core::records::checkpoint::Checkpoint;
use barrow_core::rejects::RejectWriter;
use barrow_core::source::SourceFile;
use barrow_core::words::{Every, Mode};
use barrow_targets::{Batching, Job, Session};

use super::begin::{Begun, begin};
use super::disposal::{self, Done};
use super::request::LoadRequest;
use super::run_recorder::{self, RunRecorder};
use super::select_files;
use super::selection::{Selected, Selection};
use super::sink::{Finished, LoadSink, Replay};
use crate::account::RunAccount;
use crate::error::Error;
use crate::reject_manifest::Manifest;
use crate::report::{Skipped, Summary, TableRows};
use crate::run_id::run_id;
use crate::spec_file::pipeline_options;

/// Loads files: those of them that the ledger does not know.
///
/// # Errors
/// Whatever kept the load from being done; nothing of it is in the table then, but what was
/// committed on the way.
pub(crate) fn load(request: &LoadRequest<'_>, files: Vec<SourceFile>) -> Result<Loaded, Error> {
    let is_new = !request.url.is_there();
    let mut session = request.open()?;
    let selection = select_files::select(request, session.as_mut(), files)?;
    if selection.files.is_empty() {
        return nothing_new(request, session.as_mut(), selection);
    }
    let loaded = run(request, session.as_mut(), selection);
    let mut loaded = loaded.map_err(|error| {
        error.naming_rights(|| {
            let server_info = session.server_info(&request.job.tables()).ok()?;
            let dialect = request.url.dialect();
            let lacks = barrow_targets::server_info::missing(&server_info, &request.job, dialect);
            (!lacks.is_empty()).then(|| lacks.join("; "))
        })
    })?;
    if is_new && loaded.summary.is_kept() {
        let made = format!("database {}: created", request.url);
        loaded.summary.made.insert(0, made);
    }
    Ok(loaded)
}

/// What a load came to.
pub(crate) struct Loaded {
    /// What people read.
    pub summary: Summary,
    /// What records the run, where others are loaded with it.
    pub recorder: Option<RunRecorder>,
    /// By what its rejects can be mended if it is rolled back with the others.
    pub replay: Option<Replay>,
    /// The files whose rows are in the table.
    pub done: Vec<Done>,
}

impl Loaded {
    /// Does with the files what the spec says is to be done with them after a load.
    pub fn dispose(&mut self, request: &LoadRequest<'_>) {
        let base = request.spec.origin.base_of("source", "after_load");
        let after_load = &request.spec.plan.source.afterwards;
        let disposed = disposal::dispose(after_load, base, &self.done);
        self.summary.disposed.extend(disposed);
    }
}

fn done(files: &[Selected], skipped: &[Skipped], summary: &Summary) -> Vec<Done> {
    let was_left = |name: &str| summary.rejected_files.iter().any(|left| left.file == name);
    let first = summary.tally.files.len().saturating_sub(files.len());
    let counted = files.iter().zip(&summary.tally.files[first..]);
    let is_loaded = |(file, tally): &(&Selected, &FileCounts)| {
        file.source.is_repeatable() && summary.is_kept() && !was_left(&tally.name)
    };
    let loaded = counted.filter(is_loaded).map(|(file, tally)| Done {
        source: file.source.clone(),
        fingerprint: file.fingerprint.clone(),
        has_rejects: tally.rejected > 0,
    });
    let before = skipped.iter().filter_map(|skipped| {
        Some(Done {
            source: skipped.source.clone()?,
            fingerprint: None,
            has_rejects: skipped.has_rejects,
        })
    });
    loaded.chain(before).collect()
}

/// Every file is in the table already.
pub(super) fn nothing_new(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    selection: Selection,
) -> Result<Loaded, Error> {
    if let Some(resumed) = selection.resumed {
        // It was interrupted after its last commit: nothing of it is missing, but for the
        // manifest beside its rejects.
        let folder = request.rejects.folder.join(&resumed.run.run);
        if let Some(mirror) = &request.rejects.mirror {
            mirror.pull(&resumed.run.run)?;
        }
        if folder.is_dir() {
            Manifest::of(request.spec, &request.url, &resumed.run.run).write(&folder)?;
            if let Some(mirror) = &request.rejects.mirror {
                mirror.push(&folder)?;
            }
        }
        run_recorder::close(session, resumed.run)?;
    }
    let summary = Summary {
        spec: request.spec.name(),
        into: request.url.to_string(),
        skipped: selection.skipped,
        nothing_new: true,
        tolerance: request.spec.plan.rejects.tolerance,
        ..Summary::default()
    };
    Ok(Loaded {
        done: done(&[], &summary.skipped, &summary),
        summary,
        recorder: None,
        replay: None,
    })
}

/// Loads the files that were selected, in one run.
///
/// # Errors
/// As [`load`].
pub(crate) fn run(
    request: &LoadRequest<'_>,
    session: &mut dyn Session,
    selection: Selection,
) -> Result<Loaded, Error> {
    run_by(request, session, selection, false, |sink| sink)
}

/// The same with a sink that is set up otherwise. A rehearsal rolls everything back at the end,
/// and leaves no trace.
///
/// # Errors
/// As [`load`].
pub(crate) fn run_by<'s>(
    request: &'s LoadRequest<'s>,
    session: &'s mut dyn Session,
    selection: Selection,
    rehearses: bool,
    set_up: impl FnOnce(LoadSink<'s>) -> LoadSink<'s>,
) -> Result<Loaded, Error> {
    let plan = &request.spec.plan;
    let Selection {
        files,
        resumed,
        table_key,
        skipped,
        replaces,
    } = selection;
    let resumed_from = resumed.as_ref().map(|resumed| resumed.words.clone());
    let mut job = request.job.clone();
    if resumed.is_some() && job.mode == Mode::Truncate {
        // What there is was loaded after the table was emptied.
        job.mode = Mode::Append;
    }
    let run = resumed
        .as_ref()
        .map_or_else(run_id, |resumed| resumed.run.run.clone());
    tracing::info!(
        run,
        spec = request.spec.name(),
        database = request.url.to_string(),
        files = files.len(),
        rehearsal = rehearses,
        "a run began"
    );
    let recorder = match plan.target.ledger && !rehearses {
        true => Some(RunRecorder::open(
            request,
            session,
            &run,
            table_key,
            resumed.as_ref(),
        )?),
        false => None,
    };
    let Begun {
        load,
        recorder,
        made,
    } = begin(request, session, &job, recorder, rehearses, &replaces)?;
    let rows_before = load.rows_before().to_vec();
    let aside = match rehearses {
        true => Some(tempfile::tempdir().map_err(|e| Error::file(&request.rejects.folder, &e))?),
        false => None,
    };
    let rejects = aside
        .as_ref()
        .map_or(request.rejects.folder.as_path(), |aside| aside.path());
    let folder = rejects.join(&run);
    if let (Some(mirror), Some(_)) = (&request.rejects.mirror, &resumed) {
        mirror.pull(&run)?;
    }
    let keep = plan.rejects.keep;
    let (tally, writer, start) = match resumed {
        None => (
            RunCounts::default(),
            RejectWriter::new(folder, keep),
            Start::default(),
        ),
        Some(resumed) => (
            RunCounts::go_on(resumed.counted, resumed.first),
            RejectWriter::go_on(folder, keep, &resumed.written)?,
            Start {
                from: resumed.from,
                expected: resumed.expected,
                is_same: resumed.is_same,
            },
        ),
    };
    let sources = files.iter().map(|file| file.source.clone()).collect();
    let account = RunAccount::open(sources, tally, Some(writer), request.watch);
    let sink = LoadSink::new(request, load, &files, &run, account, recorder)?;
    let sink = set_up(sink.with_manifest(Manifest::of(request.spec, &request.url, &run)));
    let mut sink = match rehearses {
        true => sink.rehearsing(),
        false if request.is_together => sink.deferring(),
        false => sink,
    };
    let flowed = run_pipeline(request, &run, &files, start, &mut sink);
    let mut finished = sink.finish(flowed)?;
    let recorder = finished.recorder.take();
    let replay = finished.replay.take();
    let mut summary = summed_up(request, run, &job, &rows_before, finished);
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
    summary.resumed_from = resumed_from;
    Ok(Loaded {
        summary,
        done,
        recorder,
        replay,
    })
}

/// Where a pipeline begins in its first file.
#[derive(Default)]
pub(crate) struct Start {
    /// The place, 0-based.
    pub from: u64,
    /// What the file was like up to there.
    pub expected: Option<Checkpoint>,
    /// Whether it is known to be the same still.
    pub is_same: bool,
}

/// Reads the files into the sink.
pub(crate) fn run_pipeline(
    request: &LoadRequest<'_>,
    run: &str,
    files: &[Selected],
    start: Start,
    sink: &mut LoadSink<'_>,
) -> Result<(), pipeline::Failure<Error>> {
    let plan = &request.spec.plan;
    let mut options = pipeline_options(request.threads, run);
    if let Some(batching) = sink.batching() {
        options = beside_server(request, batching, options);
    }
    options.hashes = plan.target.ledger;
    options.from = start.from;
    options.expected = start.expected;
    options.is_same = start.is_same;
    // What is committed on the way is known again when the load goes on.
    options.checkpoints = plan.target.ledger && plan.target.every != Every::All;
    let encode = sink.encoder();
    let sources = files.iter().map(|file| file.source.clone()).collect();
    pipeline::run_into(plan, sources, options, &*encode, |batches| {
        sink.take_all(batches)
    })
}

/// Batches that lie typed while others are with the server.
const TYPED_AHEAD: usize = 8;

/// How the pipeline is run where a server takes the rows.
fn beside_server(
    request: &LoadRequest<'_>,
    batching: Batching,
    usual: pipeline::Options,
) -> pipeline::Options {
    let mut options = usual;
    if request.threads.is_none() {
        // The server is slower than one thread that types, and may well run on this
        // machine, where its own would wait for ours: on two processors, with two that
        // type, it waited 8 % of its time, and 3 % with one.
        options.threads = (options.threads - 1).max(1);
    }
    if request.spec.plan.target.every == Every::All {
        // A load that commits as it goes does so at a block's end: there they stay small,
        // and always the same, so that it can go on at one.
        options.block_size = batching.block_size;
        options.waiting = batching.batches + TYPED_AHEAD;
    }
    options
}

/// What people read of a load that ended.
pub(crate) fn summed_up(
    request: &LoadRequest<'_>,
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
    let rejects = finished.summary.rejects.as_deref();
    let summary = Summary {
        spec: request.spec.name(),
        into: request.url.to_string(),
        tables: each.collect(),
        run,
        tolerance: request.spec.plan.rejects.tolerance,
        rejects: rejects.map(|folder| request.rejects.shown(folder)),
        ..finished.summary
    };
    // Where it is one of several, all of them end together.
    if !request.is_together {
        log_end(&summary);
    }
    summary
}

/// Tells the log how a run ended.
pub(super) fn log_end(summary: &Summary) {
    tracing::info!(
        run = summary.run,
        outcome = summary.outcome.word(),
        records = summary.tally.all_records(),
        loaded = summary.loaded(),
        rejected = summary.rejected(),
        "a run ended"
    );
}
