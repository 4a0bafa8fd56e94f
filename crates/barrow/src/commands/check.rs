//! `barrow check`: what a load would do, without loading.

use std::collections::HashSet;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use barrow_core::flow::{self, Batch, Encoded, Sink};
use barrow_core::keys::{self, Keys, Twice};
use barrow_core::plan::Plan;
use barrow_core::plan::{ColumnPlan, KindPlan};
use barrow_core::reason::Reject;
use barrow_core::records::block::BLOCK;
use barrow_core::records::prologue;
use barrow_core::records::splitter::Splitter;
use barrow_core::rejects::Keeper;
use barrow_core::seen::Seen;
use barrow_core::source::SourceFile;
use barrow_core::tally::Tally;
use barrow_core::visible::visible;
use barrow_core::words::{Mode, Per, WhenNewColumn};
use barrow_targets::{EncodedBatch, EncodedPart, Foresight, Job, Refusal, Table, Url, ledger};

use super::job::{Spec, flow_options};
use super::sides::{Side, Sides};
use crate::args::{Check, Report};
use crate::failure::Failure;
use crate::loading::choose::{self, Choice};
use crate::loading::sink::would_empty;
use crate::loading::{Order, reasons, run_id};
use crate::view::progress::Progress;
use crate::view::summary::{self, LeftWhole, Outcome, Summary, TableRows, TwiceSeen};
use crate::view::{connection, failure, sides};

/// Checks, and says what a load would do.
pub fn run(args: &Check) -> Result<ExitCode, Failure> {
    let shared = &args.shared;
    let mut spec = Spec::read(
        &args.spec,
        shared.database.as_deref(),
        shared.table.as_deref(),
    )?;
    if let Some(tolerance) = args.max_rejects {
        spec.plan.rejects.tolerance = tolerance;
    }
    failure::odd(&spec.path, &spec.text, &spec.plan.oddities);
    if args.connect {
        return connect(&spec, args);
    }
    let mut target = Compared::new(&spec, args, spec.files(&args.files)?)?;
    if target.choice.files.is_empty() {
        return nothing_new(&spec, args, target);
    }
    let files: Vec<SourceFile> = target
        .choice
        .files
        .iter()
        .map(|f| f.source.clone())
        .collect();
    let header = match files.first() {
        // Where it cannot be read, reading all of it says so as a load would.
        Some(file) if file.is_repeatable() => {
            let splitter = Splitter::new(&spec.plan, Vec::new(), BLOCK);
            splitter.header_names(file).ok().flatten()
        }
        _ => None,
    };
    let new_columns = new_columns(&spec.plan, &files);
    target.unfit = target.unfit.take().or(new_columns);
    // All else that is wrong with the files is told as well.
    spec.plan.records.when_new_column = WhenNewColumn::Ignore;
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
    let mut sink = CheckSink::new(&spec, &target, &files, args, &run);
    let keys = sink.unique.clone();
    let encode = |batch: &mut Encoded<Looked>| look(&spec.plan, &keys, &target.foresight, batch);
    let mut options = flow_options(shared, &run);
    if let Some(on) = &target.choice.going_on {
        options.from = on.from;
        options.expected.clone_from(&on.expected);
        options.prefixes = true;
    }
    let flowed = flow::run(&spec.plan, files.clone(), options, &encode, &mut sink);
    sink.progress.end();
    flowed.map_err(|failure| match failure {
        flow::Failure::Source(error) => error.into(),
        flow::Failure::Sink(failure) => failure,
    })?;
    let (seen, summary) = sink.finish(&spec, &target, run)?;
    let empties = matches!(spec.plan.target.mode, Mode::Truncate | Mode::Replace)
        && !spec.plan.target.may_empty
        && summary.is_kept()
        && summary.loaded() == 0;
    let unfit = target.unfit.take().or_else(|| empties.then(would_empty));
    let all = target.sides(&spec.plan, header.as_deref(), &seen);
    match shared.report {
        Report::Text => {
            sides::print(&all)?;
            summary::print_text(&summary)?;
        }
        Report::Json => summary::print_json_with(&summary, "columns", sides::document(&all))?,
    }
    match unfit {
        Some(unfit) => Err(unfit),
        None => Ok(super::load::code(&summary)),
    }
}

/// Why a load would stop at a header that has more than the spec names.
fn new_columns(plan: &Plan, files: &[SourceFile]) -> Option<Failure> {
    let splitter = Splitter::new(plan, Vec::new(), BLOCK);
    let paths = files.iter().filter(|file| file.is_repeatable());
    let mut stops = paths.filter_map(|file| {
        let header = splitter.header_names(file).ok().flatten()?;
        prologue::new_columns(plan, &file.name(), &header)
    });
    stops.next().map(Failure::from)
}

/// Every file is in the table already: a load would do nothing.
fn nothing_new(spec: &Spec, args: &Check, target: Compared) -> Result<ExitCode, Failure> {
    let summary = Summary {
        spec: spec.name(),
        into: target
            .url
            .as_ref()
            .map(ToString::to_string)
            .unwrap_or_default(),
        skipped: target.choice.skipped,
        nothing_new: true,
        rehearsal: true,
        tolerance: spec.plan.rejects.tolerance,
        ..Summary::default()
    };
    match args.shared.report {
        Report::Text => summary::print_text(&summary)?,
        Report::Json => summary::print_json(&summary)?,
    }
    match target.unfit {
        Some(unfit) => Err(unfit),
        None => Ok(ExitCode::SUCCESS),
    }
}

/// Asks the database what it is and what may be done there, and reads no file.
fn connect(spec: &Spec, args: &Check) -> Result<ExitCode, Failure> {
    let shared = &args.shared;
    let url = spec.url(shared.database.as_deref())?;
    let job = spec.job_in(shared.table.as_deref(), url.dialect())?;
    if !url.is_there() && job.create {
        return connection::print_new(&spec.name(), &url, shared.report)
            .map(|()| ExitCode::SUCCESS);
    }
    let mut target = url.open(false)?;
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
    /// What finds the rows that the tables would refuse.
    foresight: Foresight,
    /// The files that a load would read, and those that it would pass over.
    choice: Choice,
    /// Places of files that another load is reading now.
    in_other_hands: Vec<usize>,
    /// Why a load would stop, if it is not for a record.
    unfit: Option<Failure>,
}

impl Compared {
    fn new(spec: &Spec, args: &Check, files: Vec<SourceFile>) -> Result<Compared, Failure> {
        let shared = &args.shared;
        let named = shared.database.is_some() || spec.plan.target.into.is_some();
        let mut compared = Compared {
            url: None,
            job: None,
            tables: spec.plan.kinds.iter().map(|_| None).collect(),
            foresight: Foresight::default(),
            choice: Choice::default(),
            in_other_hands: Vec::new(),
            unfit: None,
        };
        if !named {
            let files = files.into_iter().map(choose::outlined);
            compared.choice.files = files.collect::<Result<_, _>>()?;
            return Ok(compared);
        }
        let url = spec.url(shared.database.as_deref())?;
        let job = spec.job_in(shared.table.as_deref(), url.dialect())?;
        let order = Order {
            spec,
            url: &url,
            job: job.clone(),
            rejects: spec.base.join(&spec.plan.rejects.folder),
            again: args.again,
            patience: Duration::ZERO,
            shared,
        };
        match url.is_there() {
            true => compared.ask(&order, files)?,
            false => {
                if !job.create {
                    compared.unfit = url.open(false).err().map(Failure::from);
                }
                let files = files.into_iter().map(choose::outlined);
                compared.choice.files = files.collect::<Result<_, _>>()?;
                compared.foresight = url.foresight_of_new(&job)?;
            }
        }
        compared.miss(&job);
        (compared.url, compared.job) = (Some(url), Some(job));
        Ok(compared)
    }

    /// Holds the job against the tables, and the files against the ledger.
    fn ask(&mut self, order: &Order<'_>, files: Vec<SourceFile>) -> Result<(), Failure> {
        let job = &order.job;
        let mut target = order.url.open(false)?;
        for part in &job.parts {
            let table = target.describe(&part.table)?;
            if job.mode == Mode::Replace {
                continue;
            }
            if let Some(table) = &table
                && let Err(error) = target.fits(job.mode, part, table)
            {
                self.unfit = self.unfit.take().or(Some(error.into()));
            }
            self.tables[part.number] = table;
        }
        if self.unfit.is_none() {
            match target.foresight(job) {
                Ok(foresight) => self.foresight = foresight,
                Err(error) => self.unfit = Some(error.into()),
            }
        }
        let (choice, stops) = choose::foresee(order, target.as_mut(), files)?;
        self.in_other_hands = choose::in_other_hands(order, &choice)?;
        self.choice = choice;
        self.unfit = self.unfit.take().or(stops);
        Ok(())
    }

    /// A table that is not there and would not be made.
    fn miss(&mut self, job: &Job) {
        for part in &job.parts {
            if self.tables[part.number].is_none() && !makes(job) && self.unfit.is_none() {
                self.unfit = Some(Failure::wrong(
                    format!("there is no table {}", visible(part.table.as_bytes())),
                    "say [target] create = true to have it made from the spec, or see barrow ddl",
                ));
            }
        }
    }

    /// The sets of columns of which no two records may have the same values: the spec's key,
    /// and those of the table. For each kind of record, as places in what is read.
    fn unique(&self, plan: &Plan) -> Vec<Vec<Key>> {
        let each = plan.kinds.iter().enumerate().map(|(number, kind)| {
            let mut sets: Vec<Vec<String>> = vec![kind_key(kind)];
            if plan.target.mode == Mode::Merge {
                // Rows with the same key are merged one after the other.
                sets.clear();
            }
            let theirs = self.tables[number].iter().flat_map(|table| &table.unique);
            let is_merged = |set: &Vec<String>| {
                plan.target.mode == Mode::Merge && is_same_set(set, &kind_key(kind))
            };
            for set in theirs.filter(|set| !is_merged(set)) {
                if !sets.iter().any(|other| is_same_set(other, set)) {
                    sets.push(set.clone());
                }
            }
            let placed = sets
                .into_iter()
                .filter(|set| !set.is_empty())
                .filter_map(|names| {
                    let slot = |name: &String| {
                        // The exact name wins over one that differs in case, here and in
                        // the table.
                        let exact = kind.columns.iter().position(|c| c.name == *name);
                        let is_another = |c: &ColumnPlan| {
                            let mut columns = self.tables[number].iter().flat_map(|t| &t.columns);
                            columns.any(|column| column.name == c.name)
                        };
                        let alike =
                            |c: &ColumnPlan| c.name.eq_ignore_ascii_case(name) && !is_another(c);
                        kind.slot(exact.or_else(|| kind.columns.iter().position(alike))?)
                    };
                    let slots = names.iter().map(slot).collect::<Option<Vec<usize>>>()?;
                    Some(Key { names, slots })
                });
            placed.collect()
        });
        each.collect()
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
                    .is_some_and(|url| url.dialect().enforces_lengths()),
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

fn kind_key(kind: &KindPlan) -> Vec<String> {
    let names = kind
        .key
        .iter()
        .map(|place| kind.columns[*place].name.clone());
    names.collect()
}

fn is_same_set(a: &[String], b: &[String]) -> bool {
    let has = |set: &[String], name: &String| set.iter().any(|n| n.eq_ignore_ascii_case(name));
    a.len() == b.len() && a.iter().all(|name| has(b, name))
}

/// Columns of which no two records may have the same values.
#[derive(Clone)]
struct Key {
    names: Vec<String>,
    /// Their places in what is read.
    slots: Vec<usize>,
}

/// What the workers find out of a batch beside its rows.
#[derive(Default)]
struct Looked {
    parts: Vec<LookedPart>,
    /// Rows that the table would refuse.
    refused: Vec<Refusal>,
    /// Room for the rows in the form of the database.
    ahead: Vec<EncodedPart>,
}

/// What they find out of a part of it.
#[derive(Default)]
struct LookedPart {
    seen: Vec<Seen>,
    /// For each key the hashes of its values, with the lines.
    keys: Vec<Vec<(u128, u64)>>,
}

/// Looks at the good rows of a batch, in the worker that typed them.
fn look(plan: &Plan, unique: &[Vec<Key>], foresight: &Foresight, batch: &mut Encoded<Looked>) {
    let mut ahead = EncodedBatch {
        batch: std::mem::take(&mut batch.batch),
        encoded: std::mem::take(&mut batch.encoded.ahead),
    };
    let refused = foresight.refusals(&mut ahead);
    batch.batch = ahead.batch;
    batch.encoded.ahead = ahead.encoded;
    let Encoded { batch, encoded } = batch;
    let Batch { block, parts, .. } = batch;
    encoded.parts.clear();
    for (number, (kind, rows)) in plan.kinds.iter().zip(parts).enumerate() {
        let own = refused.iter().filter(|refusal| refusal.part == number);
        let own: HashSet<u32> = own.map(|refusal| refusal.row).collect();
        let mut looked = LookedPart {
            seen: vec![Seen::default(); kind.read.len()],
            ..LookedPart::default()
        };
        for (slot, seen) in looked.seen.iter_mut().enumerate() {
            seen.column(slot, rows, &block.bytes);
        }
        for key in &unique[number] {
            let mut hashes = Vec::new();
            for row in rows.good.iter().filter(|row| !own.contains(row)) {
                let mark = &block.marks[rows.marks[*row as usize] as usize];
                let hash = keys::hash(&key.slots, rows, *row as usize, &block.bytes);
                let line = block.first_line + u64::from(mark.line);
                hashes.extend(hash.map(|hash| (hash, line)));
            }
            looked.keys.push(hashes);
        }
        encoded.parts.push(looked);
    }
    encoded.refused = refused;
}

/// Counts what a load would do.
struct CheckSink<'c> {
    plan: &'c Plan,
    files: &'c [SourceFile],
    unique: Vec<Vec<Key>>,
    /// Files that a load would leave out whole.
    left_whole: Vec<LeftWhole>,
    keeper: Option<Keeper>,
    tally: Tally,
    progress: Progress,
    seen: Vec<Vec<Seen>>,
    keys: Vec<Vec<Keys>>,
    clock: Instant,
    times: Vec<Duration>,
    /// How long all of them took.
    timed: Duration,
}

impl<'c> CheckSink<'c> {
    fn new(
        spec: &'c Spec,
        target: &Compared,
        files: &'c [SourceFile],
        args: &Check,
        run: &str,
    ) -> CheckSink<'c> {
        let plan = &spec.plan;
        let seen = |kind: &KindPlan| vec![Seen::default(); kind.read.len()];
        let unique = target.unique(plan);
        let keys = |keys: &Vec<Key>| keys.iter().map(|_| Keys::default()).collect();
        CheckSink {
            plan,
            files,
            keys: unique.iter().map(keys).collect(),
            unique,
            left_whole: Vec::new(),
            keeper: args
                .rejects
                .as_ref()
                .map(|folder| Keeper::new(folder.join(run), plan.rejects.keep)),
            tally: Tally::default(),
            progress: Progress::new(files, args.shared.quiet),
            seen: plan.kinds.iter().map(seen).collect(),
            clock: Instant::now(),
            times: Vec::new(),
            timed: Duration::ZERO,
        }
    }
}

fn not_kept(error: std::io::Error) -> Failure {
    Failure::not_done(format!("looking for keys that come twice: {error}"))
}

impl Sink for CheckSink<'_> {
    type Encoded = Looked;
    type Error = Failure;

    fn take(&mut self, batch: &mut Encoded<Looked>) -> Result<(), Failure> {
        let file = batch.file().map_or(0, |file| file.index);
        let refusals = std::mem::take(&mut batch.encoded.refused);
        for (number, looked) in batch.encoded.parts.iter().enumerate() {
            for (all, seen) in self.seen[number].iter_mut().zip(&looked.seen) {
                all.add(seen);
            }
            for (all, hashes) in self.keys[number].iter_mut().zip(&looked.keys) {
                for (hash, line) in hashes {
                    let key = keys::Key {
                        hash: *hash,
                        file: file as u32,
                        line: *line,
                    };
                    all.add(key).map_err(not_kept)?;
                }
            }
        }
        let good = (batch.good() - refusals.len()) as u64;
        let refused = reasons::refused(&self.plan.kinds, batch, refusals);
        self.keep(batch, &refused)?;
        self.tally.add(batch, good, &refused);
        if batch.block.last.is_some() {
            let so_far = self.clock.elapsed();
            self.times.push(so_far.saturating_sub(self.timed));
            self.timed = so_far;
            self.end_file(file, !batch.differences.is_empty());
        }
        self.progress
            .advance(batch.block.taken, self.tally.records());
        Ok(())
    }
}

impl CheckSink<'_> {
    /// A file that is beyond its tolerance would be left out whole, where files are judged
    /// one by one.
    fn end_file(&mut self, index: usize, differs: bool) {
        let place = self.tally.place_of(index);
        let Some(file) = self.tally.files.get(place) else {
            return;
        };
        let beyond = !self
            .plan
            .rejects
            .tolerance
            .allows(file.rejected, file.records);
        if self.plan.rejects.per == Per::File && (beyond || differs) {
            self.left_whole.push(LeftWhole {
                file: file.name.clone(),
                rejected: file.rejected,
                records: file.records,
                differs,
                kept_in: None,
            });
            self.tally.take_back_file();
        }
    }

    fn keep(&mut self, batch: &Batch, refused: &[Reject]) -> Result<(), Failure> {
        let (Some(keeper), Some(file)) = (&mut self.keeper, batch.file()) else {
            return Ok(());
        };
        let mut rejects: Vec<&Reject> = batch.rejects.iter().chain(refused).collect();
        rejects.sort_by_key(|reject| reject.offset);
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
        for (keys, unique) in self.keys.into_iter().zip(&self.unique) {
            for (keys, key) in keys.into_iter().zip(unique) {
                let mut seen = TwiceSeen::new(key.names.clone());
                keys.finish(&mut |found: Twice| seen.note(&found))
                    .map_err(not_kept)?;
                if seen.count > 0 {
                    twice.push(seen);
                }
            }
        }
        let place_of = |index: usize| self.tally.place_of(index);
        let places: Vec<(usize, usize)> = (0..self.files.len()).map(|i| (i, place_of(i))).collect();
        for (index, place) in places {
            let Some(file) = self.tally.files.get_mut(place) else {
                continue;
            };
            file.notes
                .extend(target.choice.files.get(index).and_then(|f| f.note.clone()));
            if target.in_other_hands.contains(&index) {
                file.notes
                    .push("another load is reading it now; a load would wait for that".into());
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
            remarks: remarks(target),
            skipped: target.choice.skipped.clone(),
            went_on: target.choice.going_on.as_ref().map(|on| on.words.clone()),
            left_whole: self.left_whole,
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
        let is_judged = spec.plan.rejects.per == Per::File;
        let is_within = is_judged || summary.is_within();
        let differs = !is_judged && !summary.tally.differences.is_empty();
        summary.outcome = match (!differs, is_within) {
            (false, _) => Outcome::TotalsDiffer {
                not_kept: summary.loaded(),
            },
            (true, false) => Outcome::BeyondTolerance {
                not_kept: summary.loaded(),
            },
            (true, true) => Outcome::Kept,
        };
        Ok((self.seen, summary))
    }
}

/// What a check could not hold the files against.
fn remarks(target: &Compared) -> Vec<String> {
    match &target.url {
        Some(_) => Vec::new(),
        None => {
            vec!["no database was named, so nothing was held against a table or a ledger".into()]
        }
    }
}
