//! `barrow load`: reads files by a spec and loads them.

use std::process::ExitCode;
use std::time::{Duration, Instant};

use barrow_core::flow::{self, Batch, Sink};
use barrow_core::rejects::{Keeper, Reject};
use barrow_core::source::SourceFile;
use barrow_core::spec::plan::{Every, Mode, Tolerance};
use barrow_core::tally::Tally;
use barrow_targets::{Job, Refusal, Target};

use super::job::{Spec, flow_options};
use crate::args::{Load, Report};
use crate::failure::{BEYOND_TOLERANCE, Failure};
use crate::view::progress::Progress;
use crate::view::summary::{self, Outcome, Summary, TableRows};

/// Loads, and says what came of it.
pub fn run(args: &Load) -> Result<ExitCode, Failure> {
    let shared = &args.shared;
    let mut spec = Spec::read(&args.spec, shared.into.as_deref(), shared.table.as_deref())?;
    apply(args, &mut spec)?;
    let files = spec.files(&args.files)?;
    let url = spec.url(args.shared.into.as_deref())?;
    let job = spec.job(args.shared.table.as_deref())?;
    let run = run_id();
    let folder = match &args.rejects {
        Some(folder) => folder.clone(),
        None => spec.base.join(&spec.plan.rejects.folder),
    };
    let mut target = barrow_targets::open(&url, job.create)?;
    let rows_before = target.begin(&job)?;
    let encode = target.encoder();
    let mut options = flow_options(&args.shared, &run);
    if let (Some(size), Every::All) = (target.block_size(), spec.plan.target.every) {
        // A load that commits as it goes does so at a block's end: there they stay small.
        options.block_size = size;
        options.waiting = 4;
    }
    let mut sink = LoadSink {
        files: &files,
        target: target.as_mut(),
        keeper: Keeper::new(folder.join(&run)),
        tally: Tally::default(),
        progress: Progress::new(&files, args.shared.quiet),
        tolerance: spec.plan.rejects.tolerance,
        every: spec.plan.target.every,
        since_commit: 0,
        committed: 0,
        clock: Instant::now(),
        times: Vec::new(),
    };
    let flowed = flow::run(&spec.plan, files.clone(), options, &*encode, &mut sink);
    let finished = sink.finish(flowed)?;
    let summary = Summary {
        spec: spec.name(),
        into: url.to_string(),
        tables: tables(&job, &rows_before, &finished.rows_after),
        run,
        tolerance: spec.plan.rejects.tolerance,
        ..finished.summary
    };
    match args.shared.report {
        Report::Text => summary::print_text(&summary)?,
        Report::Json => summary::print_json(&summary)?,
    }
    Ok(match summary.outcome {
        Outcome::Kept => ExitCode::SUCCESS,
        Outcome::BeyondTolerance { .. } => ExitCode::from(BEYOND_TOLERANCE),
        Outcome::TotalsDiffer { .. } => ExitCode::FAILURE,
    })
}

/// What the command line says wins over the spec.
fn apply(args: &Load, spec: &mut Spec) -> Result<(), Failure> {
    if let Some(mode) = args.mode {
        spec.plan.target.mode = mode.into();
    }
    if let Some(tolerance) = args.tolerance {
        spec.plan.rejects.tolerance = tolerance;
    }
    if spec.plan.target.mode == Mode::Replace && spec.plan.target.every != Every::All {
        return Err(Failure::wrong(
            "--mode replace swaps the whole table in at once, and the spec commits as it goes",
            "say --mode truncate, or [target] every = \"all\"",
        ));
    }
    Ok(())
}

/// A run's id: eight hexadecimal digits. It names a folder, so it must be new,
/// not secret.
pub fn run_id() -> String {
    use std::hash::{BuildHasher, RandomState};
    // RandomState is seeded anew for each process by the standard library.
    let random = RandomState::new().hash_one(std::process::id());
    format!("{:08x}", random as u32)
}

/// What a load came to, and how many rows each table has now.
struct Finished {
    summary: Summary,
    rows_after: Vec<u64>,
}

/// Each table with its rows before and after.
fn tables(job: &Job, before: &[u64], after: &[u64]) -> Vec<TableRows> {
    let rows = before.iter().zip(after);
    let tables = job.tables().into_iter().zip(rows);
    let each = tables.map(|(name, (before, after))| TableRows {
        name: name.to_string(),
        before: *before,
        after: *after,
    });
    each.collect()
}

/// Takes batches into the table, and everything else to its place.
struct LoadSink<'l> {
    files: &'l [SourceFile],
    target: &'l mut dyn Target,
    keeper: Keeper,
    tally: Tally,
    progress: Progress,
    tolerance: Tolerance,
    every: Every,
    /// Rows since the last commit.
    since_commit: u64,
    /// Rows that stay whatever happens.
    committed: u64,
    clock: Instant,
    /// How long each file took.
    times: Vec<Duration>,
}

impl Sink for LoadSink<'_> {
    type Error = Failure;

    fn take(&mut self, batch: &mut Batch) -> Result<(), Failure> {
        let refusals = self.target.take(batch)?;
        let loaded = (batch.good() - refusals.len()) as u64;
        let refused = refused(batch, refusals);
        self.keep(batch, &refused)?;
        self.tally.add(batch, loaded, &refused);
        self.since_commit += loaded;
        if batch.block.last.is_some() {
            let before: Duration = self.times.iter().sum();
            self.times.push(self.clock.elapsed().saturating_sub(before));
        }
        if let Every::Records(every) = self.every
            && self.since_commit >= every
            && self
                .tolerance
                .allows(self.tally.rejected(), self.tally.records())
        {
            self.target.commit()?;
            self.committed += std::mem::take(&mut self.since_commit);
        }
        self.progress
            .advance(batch.block.taken, self.tally.records());
        Ok(())
    }
}

impl LoadSink<'_> {
    fn keep(&mut self, batch: &Batch, refused: &[Reject]) -> Result<(), Failure> {
        let Some(file) = batch.file() else {
            return Ok(());
        };
        let mut rejects: Vec<&Reject> = batch.rejects.iter().chain(refused).collect();
        if !refused.is_empty() {
            rejects.sort_by_key(|reject| reject.offset);
        }
        if !rejects.is_empty() {
            self.keeper
                .keep(file, &self.files[file.index].file_name(), rejects)?;
        }
        if let Some(end) = &batch.block.last {
            self.keeper.end_file(file.index, end)?;
        }
        Ok(())
    }

    /// Keeps the load or undoes it, by how it went.
    fn finish(mut self, flowed: Result<(), flow::Failure<Failure>>) -> Result<Finished, Failure> {
        self.progress.end();
        let ended = flowed.map_err(|failure| match failure {
            flow::Failure::Source(error) => error.into(),
            flow::Failure::Sink(failure) => failure,
        });
        match ended.and_then(|()| self.decide()) {
            Ok((outcome, rows_after)) => Ok(Finished {
                summary: Summary {
                    outcome,
                    merged: self.target.merged(),
                    rejects: self.keeper.folder().map(std::path::Path::to_path_buf),
                    times: self.times,
                    elapsed: self.clock.elapsed(),
                    tally: self.tally,
                    ..Summary::default()
                },
                rows_after,
            }),
            Err(failure) => Err(self.undone(failure)),
        }
    }

    /// Commits within the tolerance, undoes beyond it, or where a file is not what
    /// it says of itself.
    fn decide(&mut self) -> Result<(Outcome, Vec<u64>), Failure> {
        self.keeper.finish()?;
        if !self.tally.differences.is_empty() {
            let not_kept = self.since_commit;
            return Ok((Outcome::TotalsDiffer { not_kept }, self.target.undo()?));
        }
        if self
            .tolerance
            .allows(self.tally.rejected(), self.tally.records())
        {
            return Ok((Outcome::Kept, self.target.finish()?));
        }
        let not_kept = self.since_commit;
        Ok((Outcome::BeyondTolerance { not_kept }, self.target.undo()?))
    }

    /// The failure, with what stays of the load.
    fn undone(&mut self, failure: Failure) -> Failure {
        let _ = self.keeper.finish();
        let undone = self.target.undo();
        let stays = match (self.committed, undone) {
            (_, Err(error)) => format!("undoing it failed too: {error}"),
            (0, _) => "nothing of this load was kept".to_string(),
            (rows, _) => format!(
                "{} rows that were committed on the way stay in the table",
                crate::view::number(rows)
            ),
        };
        let with = |message: String| format!("{message}\n{stays}");
        match failure {
            Failure::Wrong { message, advice } => Failure::Wrong {
                message: with(message),
                advice,
            },
            Failure::NotDone { message, advice } => Failure::NotDone {
                message: with(message),
                advice,
            },
            spec @ Failure::Spec { .. } => spec,
        }
    }
}

fn refused(batch: &Batch, refusals: Vec<Refusal>) -> Vec<Reject> {
    let reject =
        |r: Refusal| batch.refuse(r.part, r.row as usize, r.code, r.column, r.words, r.detail);
    refusals.into_iter().map(reject).collect()
}
