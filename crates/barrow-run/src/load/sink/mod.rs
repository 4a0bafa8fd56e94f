//! Loads batches into the table, and puts everything else in its place.

mod ending;

use std::sync::Arc;

use std::path::{Path, PathBuf};

use barrow_core::escape::visible_path;
use barrow_core::pipeline;
use barrow_core::pipeline::{Batch, Batches};
use barrow_core::plan::RecordTypePlan;
use barrow_core::words::{Every, Mode, Per, Tolerance};
use barrow_targets::{Batching, EncodedPart, Encoder, Load, Refusal};

use super::batch_group::BatchGroup;
use super::originals::{Originals, told};
use super::rejects_table::RejectsTable;
use super::request::LoadRequest;
use super::run_recorder::RunRecorder;
use super::selection::Selected;
use crate::account::{RunAccount, in_order};
use crate::error::Error;
use crate::observer::Watch;
use crate::refusals;
use crate::reject_manifest::{Manifest, Original};
use crate::rejects_place::Mirror;
use crate::report::{Outcome, RejectedFile, Summary};

/// The sink of a load, where its batches end.
pub(crate) struct LoadSink<'l> {
    load: Box<dyn Load<'l> + 'l>,
    state: SinkState<'l>,
}

/// Everything of a sink but the load itself, which ends before the rest does.
struct SinkState<'l> {
    files: Vec<Selected>,
    record_types: &'l [RecordTypePlan],
    account: RunAccount<'l>,
    recorder: Option<RunRecorder>,
    table: Option<RejectsTable>,
    tolerance: Tolerance,
    per: Per,
    every: Every,
    /// How many batches are sent together.
    together: usize,
    /// The file that comes now, by its place in the pipeline.
    current: Option<usize>,
    /// Files that were rolled back.
    rejected_files: Vec<RejectedFile>,
    /// Rows since the last commit.
    since_commit: u64,
    /// Rows that stay whatever happens.
    committed: u64,
    /// What is done before the last commit.
    before_commit: Option<BeforeCommit<'l>>,
    /// The address that the rejects are kept at, if it is one.
    mirror: Option<Arc<Mirror>>,
    /// What is written beside the rejects.
    manifest: Option<Manifest>,
    /// What each file was like, for a load that is rolled back and mended.
    originals: Originals,
    /// Whether a load that brings no row stops, for it would empty the table.
    may_not_empty: bool,
    /// Whether nothing is to be committed.
    rehearsal: bool,
    /// SQL that runs once all rows are there.
    after: Vec<String>,
    /// Whether one of it ended the load's transaction.
    has_ended: bool,
    /// Why one of it could not be run after the commit.
    failed_after: Option<String>,
    /// Whether others are loaded in the same transaction: then what is beyond its limit is
    /// rolled back with them, once all are read.
    defers: bool,
    watch: &'l dyn Watch,
}

/// What is done before the last commit: with the folder of the rejects, if there are any,
/// and the files that were rolled back.
pub(crate) type BeforeCommit<'l> =
    Box<dyn FnOnce(Option<&Path>, &[RejectedFile]) -> Result<(), Error> + 'l>;

/// What a load came to, and how many rows each table has now.
pub(crate) struct Finished {
    /// What people read.
    pub summary: Summary,
    /// The rows.
    pub rows_after: Vec<u64>,
    /// What records the run.
    pub recorder: Option<RunRecorder>,
    /// By what its rejects can be mended if it is rolled back after all.
    pub replay: Option<Replay>,
}

/// How the rejects of a load that is rolled back with others are made ready to be mended.
pub(crate) struct Replay {
    manifest: Manifest,
    folder: PathBuf,
    mirror: Option<Arc<Mirror>>,
}

impl Replay {
    /// Writes the manifest of a load that was rolled back beside its rejects.
    ///
    /// # Errors
    /// The folder cannot be written, or not sent to its address.
    pub fn write(&self) -> Result<(), Error> {
        self.manifest.write(&self.folder)?;
        match &self.mirror {
            Some(mirror) => mirror.push(&self.folder),
            None => Ok(()),
        }
    }
}

/// Said where a load would leave an empty table behind, which nobody asked for.
pub(crate) fn would_empty() -> Error {
    Error::request(
        "no record of these files would be in the table, which would be empty then",
        "if that is what is meant, say [target] may_empty = true",
    )
}

impl<'l> LoadSink<'l> {
    /// For a load that has begun.
    ///
    /// # Errors
    /// There is no room for the rejects that their table is to get.
    pub fn new(
        request: &LoadRequest<'l>,
        load: Box<dyn Load<'l> + 'l>,
        files: &[Selected],
        run: &str,
        account: RunAccount<'l>,
        recorder: Option<RunRecorder>,
    ) -> Result<LoadSink<'l>, Error> {
        let plan = &request.spec.plan;
        let rejects = &plan.rejects;
        let table = match &rejects.table {
            None => None,
            Some(table) => Some(RejectsTable::new(table, run)?),
        };
        let every = plan.target.every;
        // What commits as it goes does so at a batch's end.
        let together = match (load.batching(), every) {
            (Some(batching), Every::All) => batching.batches,
            _ => 1,
        };
        let state = SinkState {
            files: files.to_vec(),
            record_types: &plan.record_types,
            together,
            recorder,
            table,
            tolerance: rejects.tolerance,
            per: rejects.per,
            every,
            current: None,
            rejected_files: Vec::new(),
            since_commit: 0,
            // A run that goes on has rows in the table.
            committed: account.tally.loaded(),
            rehearsal: false,
            after: plan.target.after.clone(),
            has_ended: false,
            failed_after: None,
            defers: false,
            before_commit: None,
            mirror: request.rejects.mirror.clone(),
            manifest: None,
            originals: Originals::default(),
            may_not_empty: matches!(request.job.mode, Mode::Truncate | Mode::Replace)
                && !plan.target.may_empty,
            account,
            watch: request.watch,
        };
        Ok(LoadSink { load, state })
    }

    /// Does something before the last commit, once all rejects are written.
    pub fn before_commit(mut self, work: BeforeCommit<'l>) -> LoadSink<'l> {
        self.state.before_commit = Some(work);
        self
    }

    /// Writes a manifest beside the rejects, by which they can be mended.
    pub fn with_manifest(mut self, manifest: Manifest) -> LoadSink<'l> {
        self.state.manifest = Some(manifest);
        self
    }

    /// Loads the good records of the first files, whose rejects come from elsewhere.
    pub fn replaying(mut self, originals: Vec<Original>) -> LoadSink<'l> {
        self.state.originals = Originals::of(originals);
        self
    }

    /// Rolls everything back at the end, and says what the load would have done.
    pub fn rehearsing(mut self) -> LoadSink<'l> {
        self.state.rehearsal = true;
        self
    }

    /// Leaves it to whoever loads several whether anything is committed.
    pub fn deferring(mut self) -> LoadSink<'l> {
        self.state.defers = true;
        self
    }

    /// Loads whatever the number of rejects.
    pub fn tolerating_all(mut self) -> LoadSink<'l> {
        self.state.tolerance = Tolerance::Percent(100.0);
        self.state.per = Per::Run;
        self
    }

    /// How the database is best brought rows, if that matters.
    pub fn batching(&self) -> Option<Batching> {
        self.load.batching()
    }

    /// What puts rows into the database's form; to be asked for once.
    pub fn encoder(&mut self) -> Encoder {
        self.load.encoder()
    }

    /// Takes all batches.
    ///
    /// # Errors
    /// A file cannot be read; the database, or the folder of rejects, fails.
    pub fn take_all(
        &mut self,
        batches: &mut Batches<'_, Vec<EncodedPart>>,
    ) -> Result<(), pipeline::Failure<Error>> {
        let mut group = BatchGroup::new(batches, self.state.together);
        while let Some(index) = group.begin().map_err(pipeline::Failure::Source)? {
            self.take(&mut group, index)
                .map_err(pipeline::Failure::Sink)?;
        }
        Ok(())
    }

    /// Takes batches of one file together.
    fn take(&mut self, group: &mut BatchGroup<'_, '_>, index: usize) -> Result<(), Error> {
        use barrow_targets::BatchSource;
        let LoadSink { load, state } = self;
        if state.current != Some(index) {
            state.begin_file(load.as_mut(), index)?;
        }
        let refusals = load.send(group)?;
        for (batch, refusals) in group.ready().iter().zip(refusals) {
            state.taken(load.as_mut(), batch, index, refusals)?;
        }
        Ok(())
    }

    /// Commits the load or rolls it back, according to its outcome.
    ///
    /// # Errors
    /// Whatever kept the load from being done; it is rolled back then.
    pub fn finish(self, flowed: Result<(), pipeline::Failure<Error>>) -> Result<Finished, Error> {
        let LoadSink { load, mut state } = self;
        state.account.end();
        match flowed {
            Ok(()) => state.decide(load),
            Err(failure) => Err(state.rolled_back(load, failure.into())),
        }
    }
}

/// A load that was decided on: to be committed, or rolled back and why.
enum Decision {
    Commit,
    Rehearsed,
    RollBack(Outcome, &'static str),
}

impl<'l> SinkState<'l> {
    /// Handles everything of a batch but its rows, which are loaded.
    fn taken(
        &mut self,
        load: &mut dyn Load<'l>,
        batch: &Batch,
        index: usize,
        refusals: Vec<Refusal>,
    ) -> Result<(), Error> {
        let loaded = (batch.good() - refusals.len()) as u64;
        let refused = refusals::refused(self.record_types, batch, refusals);
        self.originals.note(batch, &refused);
        if self.originals.is_replayed(index) {
            let rejected = told(&batch.rejects) + told(&refused);
            self.account.batch_but_rejects(batch, loaded, rejected);
        } else {
            if let (Some(table), Some(file)) = (&mut self.table, batch.file()) {
                table.keep(&file.name, &in_order(batch, &refused))?;
            }
            self.account.batch(batch, loaded, &refused)?;
        }
        self.since_commit += loaded;
        self.record(batch, index);
        if batch.block.last.is_some() {
            self.originals.end_file(batch, index, &self.files)?;
            self.end_file(load, index, !batch.differences.is_empty())?;
        }
        if let Every::Records(every) = self.every
            && self.since_commit >= every
            && self.is_within()
        {
            self.commit(load)?;
        }
        self.account.advance(batch);
        Ok(())
    }

    fn is_within(&self) -> bool {
        let tally = &self.account.tally;
        self.per == Per::File || self.tolerance.allows(tally.rejected(), tally.records())
    }

    fn begin_file(&mut self, load: &mut dyn Load<'l>, index: usize) -> Result<(), Error> {
        self.current = Some(index);
        self.account.kept_in = None;
        if self.per == Per::File {
            load.begin_file()?;
        }
        Ok(())
    }

    /// A file that is beyond the limit of rejects is skipped whole, where files are judged
    /// one by one.
    fn end_file(
        &mut self,
        load: &mut dyn Load<'l>,
        index: usize,
        differs: bool,
    ) -> Result<(), Error> {
        let place = self.account.tally.place_of(index);
        let Some(file) = self.account.tally.files.get_mut(place) else {
            return Ok(());
        };
        let note = self.files.get(index).and_then(|file| file.note.clone());
        file.notes.extend(note);
        let beyond = !self.tolerance.allows(file.rejected, file.records);
        if self.per == Per::Run || !(beyond || differs) {
            return Ok(());
        }
        self.rejected_files.push(RejectedFile {
            file: file.name.clone(),
            rejected: file.rejected,
            records: file.records,
            differs,
            kept_in: self.account.kept_in.clone(),
        });
        self.since_commit -= file.loaded;
        self.account.tally.take_back_file();
        if let Some(recorder) = &mut self.recorder {
            recorder.take_back(place);
        }
        Ok(load.roll_back_file()?)
    }

    /// Records how far the file was read.
    fn record(&mut self, batch: &Batch, index: usize) {
        let place = self.account.tally.place_of(index);
        if let (Some(recorder), Some(file)) = (&mut self.recorder, self.files.get(index)) {
            let last = batch.block.last.as_ref();
            let content = last.map(|end| end.content.clone().unwrap_or_default());
            let checkpoint = batch.block.checkpoint.clone();
            recorder.file(place, file, batch.block.end(), checkpoint, content);
        }
    }

    fn folder(&self) -> Option<String> {
        let folder = self.account.rejects_folder()?;
        if let Some(mirror) = &self.mirror {
            return Some(mirror.address_of(&folder));
        }
        Some(visible_path(
            &std::path::absolute(&folder).unwrap_or(folder),
        ))
    }

    /// Commits on the way.
    fn commit(&mut self, load: &mut dyn Load<'l>) -> Result<(), Error> {
        if let Some(table) = &mut self.table {
            table.write(load.session())?;
        }
        if let (Some(recorder), Some(rejects)) = (&mut self.recorder, &mut self.account.rejects) {
            let written = rejects.written()?;
            let folder = rejects.folder();
            if let (Some(mirror), Some(folder)) = (&self.mirror, folder) {
                mirror.push(folder)?;
            }
            let shown = |folder| match &self.mirror {
                Some(mirror) => mirror.address_of(folder),
                None => visible_path(folder),
            };
            let folder = folder.map(shown);
            recorder.write_going(load.session(), &self.account.tally, written, folder)?;
        }
        load.commit()?;
        if let Some(recorder) = &mut self.recorder {
            recorder.committed();
        }
        if let Some(table) = &mut self.table {
            table.committed()?;
        }
        self.committed += std::mem::take(&mut self.since_commit);
        Ok(())
    }
}
