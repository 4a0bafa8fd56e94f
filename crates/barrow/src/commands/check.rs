//! `barrow check`: what a load would do, without loading.

use std::process::ExitCode;
use std::time::{Duration, Instant};

use barrow_core::flow::{self, Batch, Sink};
use barrow_core::keys::{self, Key, Keys, Twice};
use barrow_core::records::splitter::{BLOCK, Splitter};
use barrow_core::rejects::{Keeper, Reject};
use barrow_core::seen::Seen;
use barrow_core::source::SourceFile;
use barrow_core::spec::Plan;
use barrow_core::spec::plan::Mode;
use barrow_core::tally::Tally;
use barrow_core::visible::visible;
use barrow_targets::{Dialect, Job, Table, Url, ledger};

use super::job::{Spec, flow_options};
use super::sides::{Side, Sides};
use crate::args::{Check, Report};
use crate::failure::{BEYOND_TOLERANCE, Failure};
use crate::loading::run_id;
use crate::view::progress::Progress;
use crate::view::summary::{self, Outcome, Summary, TableRows, TwiceSeen};
use crate::view::{connection, failure, sides};

/// Checks, and says what a load would do.
pub fn run(args: &Check) -> Result<ExitCode, Failure> {
    let shared = &args.shared;
    let mut spec = Spec::read(&args.spec, shared.into.as_deref(), shared.table.as_deref())?;
    if let Some(tolerance) = args.tolerance {
        spec.plan.rejects.tolerance = tolerance;
    }
    failure::odd(&spec.path, &spec.text, &spec.plan.oddities);
    if args.connect {
        return connect(&spec, args);
    }
    let files = spec.files(&args.files)?;
    let target = Compared::new(&spec, args)?;
    let header = match files.first() {
        Some(SourceFile::Stdin) | None => None,
        Some(file) => Splitter::new(&spec.plan, Vec::new(), BLOCK).header_names(file)?,
    };
    let before = target.sides(&spec.plan, header.as_deref(), &[]);
    if before
        .iter()
        .any(|(_, sides)| sides.iter().any(Side::lacks_header))
    {
        if shared.report == Report::Text {
            sides::print(&before)?;
        }
        return Err(Failure::wrong(
            "the header does not have every column of the spec, so no record was read",
            "correct the names in the spec (from = \"…\" names the header's), or the file's header",
        ));
    }
    let run = run_id();
    let mut sink = CheckSink::new(&spec.plan, &files, args, &run);
    let encode = |batch: &mut Batch| look(&spec.plan, batch);
    let options = flow_options(shared, &run);
    let flowed = flow::run(&spec.plan, files.clone(), options, &encode, &mut sink);
    sink.progress.end();
    flowed.map_err(|failure| match failure {
        flow::Failure::Source(error) => error.into(),
        flow::Failure::Sink(failure) => failure,
    })?;
    let (seen, summary) = sink.finish(&spec, &target, run)?;
    let all = target.sides(&spec.plan, header.as_deref(), &seen);
    match shared.report {
        Report::Text => {
            sides::print(&all)?;
            summary::print_text(&summary)?;
        }
        Report::Json => summary::print_json_with(&summary, "columns", sides::document(&all))?,
    }
    if let Some(unfit) = target.unfit {
        return Err(unfit);
    }
    Ok(match summary.outcome {
        Outcome::Kept => ExitCode::SUCCESS,
        Outcome::BeyondTolerance { .. } => ExitCode::from(BEYOND_TOLERANCE),
        Outcome::TotalsDiffer { .. } => ExitCode::FAILURE,
    })
}

/// Asks the database what it is and what may be done there, and reads no file.
fn connect(spec: &Spec, args: &Check) -> Result<ExitCode, Failure> {
    let shared = &args.shared;
    let url = spec.url(shared.into.as_deref())?;
    let job = spec.job(shared.table.as_deref())?;
    if !barrow_targets::is_there(&url) && job.create {
        return connection::print_new(&spec.name(), &url, shared.report)
            .map(|()| ExitCode::SUCCESS);
    }
    let mut target = barrow_targets::open(&url, false)?;
    let mut about = target.about(&job.tables())?;
    if spec.plan.target.ledger {
        about.ledger = target.about(&[ledger::RUNS, ledger::FILES])?.tables;
    }
    let missing = barrow_targets::about::missing(&about, &job, url.dialect());
    connection::print(&spec.name(), &url, &about, &missing, shared.report)?;
    Ok(match missing.is_empty() {
        true => ExitCode::SUCCESS,
        false => ExitCode::FAILURE,
    })
}

/// The target as far as it was named.
struct Compared {
    url: Option<Url>,
    job: Option<Job>,
    /// For each kind of record its table.
    tables: Vec<Option<Table>>,
    /// Why a load would stop before it reads.
    unfit: Option<Failure>,
}

impl Compared {
    fn new(spec: &Spec, args: &Check) -> Result<Compared, Failure> {
        let shared = &args.shared;
        let named = shared.into.is_some() || spec.plan.target.into.is_some();
        let url = match named {
            true => Some(spec.url(shared.into.as_deref())?),
            false => None,
        };
        let job = match url {
            Some(_) => Some(spec.job(shared.table.as_deref())?),
            None => None,
        };
        let mut unfit = None;
        let mut tables: Vec<Option<Table>> = spec.plan.kinds.iter().map(|_| None).collect();
        if let (Some(url), Some(job)) = (&url, &job)
            && job.mode != Mode::Replace
            && barrow_targets::is_there(url)
        {
            let mut target = barrow_targets::open(url, false)?;
            for part in &job.parts {
                let table = target.describe(&part.table)?;
                if let Some(table) = &table
                    && let Err(error) = target.fits(job.mode, part, table)
                {
                    unfit = unfit.or(Some(error.into()));
                }
                tables[part.number] = table;
            }
        }
        for part in job.iter().flat_map(|job| &job.parts) {
            let makes = job.as_ref().is_some_and(makes);
            if tables[part.number].is_none() && !makes && unfit.is_none() {
                unfit = Some(Failure::wrong(
                    format!("there is no table {}", visible(part.table.as_bytes())),
                    "say [target] create = true to have it made from the spec, or see barrow ddl",
                ));
            }
        }
        Ok(Compared {
            url,
            job,
            tables,
            unfit,
        })
    }

    /// Each kind's columns, side by side.
    fn sides(
        &self,
        plan: &Plan,
        header: Option<&[String]>,
        seen: &[Vec<Seen>],
    ) -> Vec<(String, Vec<Side>)> {
        let kinds = plan.kinds.iter().enumerate();
        let each = kinds.map(|(number, kind)| {
            let sides = Sides {
                kind,
                header,
                table: self.tables[number].as_ref(),
                makes: self.job.as_ref().map(makes),
                enforces: self
                    .url
                    .as_ref()
                    .is_some_and(|url| url.dialect() != Dialect::Sqlite),
                seen: seen.get(number).map_or(&[], Vec::as_slice),
            };
            (kind.name.clone().unwrap_or_default(), sides.all())
        });
        each.collect()
    }
}

/// Whether a load would make its table where it is missing. One that is replaced is
/// made anew whatever it was like.
fn makes(job: &Job) -> bool {
    job.create || job.mode == Mode::Replace
}

/// What the workers find out of a part of a batch beside its rows.
#[derive(Default)]
struct Looked {
    seen: Vec<Seen>,
    keys: Vec<(u128, u64)>,
}

/// Looks at the good rows of a batch, in the worker that typed them.
fn look(plan: &Plan, batch: &mut Batch) {
    let Batch {
        block,
        parts,
        encoded,
        ..
    } = batch;
    encoded.clear();
    for (kind, rows) in plan.kinds.iter().zip(parts) {
        let mut looked = Looked {
            seen: vec![Seen::default(); kind.read.len()],
            keys: Vec::new(),
        };
        for (slot, seen) in looked.seen.iter_mut().enumerate() {
            seen.column(slot, rows, &block.bytes);
        }
        let key: Option<Vec<usize>> = kind.key.iter().map(|place| kind.slot(*place)).collect();
        if let Some(key) = key.filter(|key| !key.is_empty()) {
            for row in &rows.good {
                let mark = &block.marks[rows.marks[*row as usize] as usize];
                let hash = keys::hash(&key, rows, *row as usize, &block.bytes);
                let line = block.first_line + u64::from(mark.line);
                looked.keys.extend(hash.map(|hash| (hash, line)));
            }
        }
        encoded.push(Box::new(looked));
    }
}

/// Counts what a load would do.
struct CheckSink<'c> {
    files: &'c [SourceFile],
    keeper: Option<Keeper>,
    tally: Tally,
    progress: Progress,
    seen: Vec<Vec<Seen>>,
    keys: Vec<Keys>,
    clock: Instant,
    times: Vec<Duration>,
}

impl<'c> CheckSink<'c> {
    fn new(plan: &Plan, files: &'c [SourceFile], args: &Check, run: &str) -> CheckSink<'c> {
        let seen =
            |kind: &barrow_core::spec::plan::KindPlan| vec![Seen::default(); kind.read.len()];
        CheckSink {
            files,
            keeper: args
                .rejects
                .as_ref()
                .map(|folder| Keeper::new(folder.join(run), plan.rejects.keep)),
            tally: Tally::default(),
            progress: Progress::new(files, args.shared.quiet),
            seen: plan.kinds.iter().map(seen).collect(),
            keys: plan.kinds.iter().map(|_| Keys::default()).collect(),
            clock: Instant::now(),
            times: Vec::new(),
        }
    }
}

fn not_kept(error: std::io::Error) -> Failure {
    Failure::not_done(format!("looking for keys that come twice: {error}"))
}

impl Sink for CheckSink<'_> {
    type Error = Failure;

    fn take(&mut self, batch: &mut Batch) -> Result<(), Failure> {
        let file = batch.file().map_or(0, |file| file.index);
        for (number, looked) in batch.encoded.iter().enumerate() {
            let Some(looked) = looked.downcast_ref::<Looked>() else {
                continue;
            };
            for (all, seen) in self.seen[number].iter_mut().zip(&looked.seen) {
                all.add(seen);
            }
            for (hash, line) in &looked.keys {
                let key = Key {
                    hash: *hash,
                    file: file as u32,
                    line: *line,
                };
                self.keys[number].add(key).map_err(not_kept)?;
            }
        }
        self.keep(batch)?;
        self.tally.add(batch, batch.good() as u64, &[]);
        if batch.block.last.is_some() {
            let before: Duration = self.times.iter().sum();
            self.times.push(self.clock.elapsed().saturating_sub(before));
        }
        self.progress
            .advance(batch.block.taken, self.tally.records());
        Ok(())
    }
}

impl CheckSink<'_> {
    fn keep(&mut self, batch: &Batch) -> Result<(), Failure> {
        let (Some(keeper), Some(file)) = (&mut self.keeper, batch.file()) else {
            return Ok(());
        };
        let rejects: Vec<&Reject> = batch.rejects.iter().collect();
        if !rejects.is_empty() {
            keeper.keep(file, &self.files[file.index].file_name(), rejects)?;
        }
        if let Some(end) = &batch.block.last {
            keeper.end_file(file.index, end)?;
        }
        Ok(())
    }

    /// What the columns' values were like, and what a load would say.
    fn finish(
        mut self,
        spec: &Spec,
        target: &Compared,
        run: String,
    ) -> Result<(Vec<Vec<Seen>>, Summary), Failure> {
        if let Some(keeper) = &mut self.keeper {
            keeper.finish()?;
        }
        let mut twice = Vec::new();
        for (keys, kind) in self.keys.into_iter().zip(&spec.plan.kinds) {
            let names = kind
                .key
                .iter()
                .map(|place| kind.columns[*place].name.clone());
            let mut seen = TwiceSeen::new(names.collect());
            keys.finish(&mut |found: Twice| seen.note(&found))
                .map_err(not_kept)?;
            // A merge takes rows with the same key one after the other.
            if seen.count > 0 && spec.plan.target.mode != Mode::Merge {
                twice.push(seen);
            }
        }
        let tables = target
            .job
            .iter()
            .flat_map(Job::tables)
            .map(|name| TableRows {
                name: name.to_string(),
                before: 0,
                after: 0,
            });
        let mut summary = Summary {
            spec: spec.name(),
            into: target
                .url
                .as_ref()
                .map_or("no database".into(), ToString::to_string),
            tables: tables.collect(),
            run,
            rehearsal: true,
            stops: target.unfit.is_some(),
            twice,
            tolerance: spec.plan.rejects.tolerance,
            rejects: self
                .keeper
                .as_ref()
                .and_then(Keeper::folder)
                .map(std::path::Path::to_path_buf),
            times: self.times,
            elapsed: self.clock.elapsed(),
            tally: self.tally,
            ..Summary::default()
        };
        summary.outcome = match (summary.tally.differences.is_empty(), summary.is_within()) {
            (false, _) => Outcome::TotalsDiffer { not_kept: 0 },
            (true, false) => Outcome::BeyondTolerance { not_kept: 0 },
            (true, true) => Outcome::Kept,
        };
        Ok((self.seen, summary))
    }
}
