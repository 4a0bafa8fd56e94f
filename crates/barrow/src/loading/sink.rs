//! Takes batches into the table, and everything else to its place.

use std::path::Path;
use std::time::{Duration, Instant};

use barrow_core::flow::{self, Batch, Batches};
use barrow_core::plan::KindPlan;
use barrow_core::reason::Reject;
use barrow_core::rejects::Keeper;
use barrow_core::tally::Tally;
use barrow_core::visible::visible_path;
use barrow_core::words::{Every, Mode, Per, Tolerance};
use barrow_targets::ledger::Outcome as Ended;
use barrow_targets::{BatchSource, Encoder, Batching, Refusal, Session};

use super::Order;
use super::books::Books;
use super::choose::Chosen;
use super::group::Group;
use super::note::{Note, Original};
use super::originals::{Originals, told};
use super::reasons;
use super::rejects_table::RejectsTable;
use super::waiting;
use crate::failure::Failure;
use crate::view::progress::Progress;
use crate::view::summary::{LeftWhole, Outcome, Summary};

/// The end of the way of a load.
pub struct LoadSink<'l> {
    files: Vec<Chosen>,
    kinds: &'l [KindPlan],
    target: &'l mut dyn Session,
    keeper: Keeper,
    books: Option<Books>,
    table: Option<RejectsTable>,
    tally: Tally,
    progress: Progress,
    tolerance: Tolerance,
    per: Per,
    every: Every,
    /// How many batches are taken together.
    together: usize,
    /// The file that comes now, by its place in the flow.
    current: Option<usize>,
    /// The file of rejects of the file that comes now, if it has any.
    kept_in: Option<String>,
    /// Files that were taken back.
    left_whole: Vec<LeftWhole>,
    /// Rows since the last commit.
    since_commit: u64,
    /// Rows that stay whatever happens.
    committed: u64,
    /// What is done before the last commit.
    before_commit: Option<BeforeCommit<'l>>,
    /// What is written beside the rejects.
    note: Option<Note>,
    /// What each file was like, for a load that is rolled back and mended.
    originals: Originals,
    /// Whether a load that brings no row stops, for it would empty the table.
    may_not_empty: bool,
    /// Whether nothing is to be kept.
    rehearsal: bool,
    clock: Instant,
    /// How long each file took.
    times: Vec<Duration>,
    /// And all of them.
    timed: Duration,
}

/// What is done before the last commit: with the folder of the rejects, if there are any,
/// and the files that were taken back.
pub type BeforeCommit<'l> =
    Box<dyn FnOnce(Option<&Path>, &[LeftWhole]) -> Result<(), Failure> + 'l>;

/// What a load came to, and how many rows each table has now.
pub struct Finished {
    /// What people read.
    pub summary: Summary,
    /// The rows.
    pub rows_after: Vec<u64>,
}

/// Said where a load would leave an empty table behind, which nobody asked for.
pub fn would_empty() -> Failure {
    Failure::wrong(
        "no record of these files would be in the table, which would be empty then",
        "if that is what is meant, say [target] may_empty = true",
    )
}

impl<'l> LoadSink<'l> {
    /// For a load that has begun.
    ///
    /// # Errors
    /// The table of rejects cannot be made.
    pub fn new(
        order: &Order<'l>,
        target: &'l mut dyn Session,
        files: &[Chosen],
        run: &str,
        tally: Tally,
        keeper: Keeper,
        books: Option<Books>,
    ) -> Result<LoadSink<'l>, Failure> {
        let rejects = &order.spec.plan.rejects;
        let sources: Vec<_> = files.iter().map(|file| file.source.clone()).collect();
        let table = match &rejects.table {
            None => None,
            Some(table) => Some(RejectsTable::new(table, run)?),
        };
        let every = order.spec.plan.target.every;
        // What commits as it goes does so at a batch's end.
        let together = match (target.portions(), every) {
            (Some(portions), Every::All) => portions.together,
            _ => 1,
        };
        Ok(LoadSink {
            files: files.to_vec(),
            kinds: &order.spec.plan.kinds,
            target,
            together,
            keeper,
            books,
            table,
            progress: Progress::new(&sources, order.shared.quiet),
            tolerance: rejects.tolerance,
            per: rejects.per,
            every,
            current: None,
            kept_in: None,
            left_whole: Vec::new(),
            since_commit: 0,
            // A run that goes on has rows in the table.
            committed: tally.loaded(),
            rehearsal: false,
            before_commit: None,
            note: None,
            originals: Originals::default(),
            may_not_empty: matches!(order.job.mode, Mode::Truncate | Mode::Replace)
                && !order.spec.plan.target.may_empty,
            tally,
            clock: Instant::now(),
            times: Vec::new(),
            timed: Duration::ZERO,
        })
    }

    /// Does something before the last commit, once all rejects are written.
    pub fn before_commit(self, work: BeforeCommit<'l>) -> LoadSink<'l> {
        LoadSink {
            before_commit: Some(work),
            ..self
        }
    }

    /// Writes a note beside the rejects, by which they can be mended.
    pub fn noting(self, note: Note) -> LoadSink<'l> {
        LoadSink {
            note: Some(note),
            ..self
        }
    }

    /// Loads the good records of the first files, whose rejects come from elsewhere.
    pub fn replaying(self, originals: Vec<Original>) -> LoadSink<'l> {
        LoadSink {
            originals: Originals::of(originals),
            ..self
        }
    }

    /// Takes everything back in the end, and says what it would have come to.
    pub fn rehearsing(self) -> LoadSink<'l> {
        LoadSink {
            rehearsal: true,
            ..self
        }
    }

    /// Loads whatever the number of rejects.
    pub fn tolerating_all(self) -> LoadSink<'l> {
        LoadSink {
            tolerance: Tolerance::Percent(100.0),
            per: Per::Run,
            ..self
        }
    }

    /// How the target is best brought rows, if that matters.
    pub fn portions(&self) -> Option<Batching> {
        self.target.portions()
    }

    /// What puts rows into the target's form.
    pub fn encoder(&self) -> Encoder {
        self.target.encoder()
    }
}

impl LoadSink<'_> {
    /// Takes all batches.
    ///
    /// # Errors
    /// Whatever ends the load.
    pub fn take_all(&mut self, batches: &mut Batches<'_>) -> Result<(), flow::Failure<Failure>> {
        let mut group = Group::new(batches, self.together);
        while let Some(index) = group.begin().map_err(flow::Failure::Source)? {
            self.take(&mut group, index).map_err(flow::Failure::Sink)?;
        }
        Ok(())
    }

    /// Takes batches of one file together.
    fn take(&mut self, group: &mut Group<'_, '_>, index: usize) -> Result<(), Failure> {
        if self.current != Some(index) {
            self.begin_file(index)?;
        }
        let refusals = self.target.take(group)?;
        for (batch, refusals) in group.come().iter().zip(refusals) {
            self.taken(batch, index, refusals)?;
        }
        Ok(())
    }

    /// Sees to everything of a batch but its rows, which are loaded.
    fn taken(
        &mut self,
        batch: &Batch,
        index: usize,
        refusals: Vec<Refusal>,
    ) -> Result<(), Failure> {
        let loaded = (batch.good() - refusals.len()) as u64;
        let refused = reasons::refused(self.kinds, batch, refusals);
        self.originals.note(batch, index, &refused);
        if self.originals.is_replayed(index) {
            let rejected = told(&batch.rejects) + told(&refused);
            self.tally.add_but_rejects(batch, loaded, rejected);
        } else {
            self.keep(batch, &refused)?;
            self.tally.add(batch, loaded, &refused);
        }
        self.since_commit += loaded;
        self.note(batch, index);
        if batch.block.last.is_some() {
            let so_far = self.clock.elapsed();
            self.times.push(so_far.saturating_sub(self.timed));
            self.timed = so_far;
            self.originals.end_file(batch, index, &self.files)?;
            self.end_file(index, !batch.differences.is_empty())?;
        }
        if let Every::Records(every) = self.every
            && self.since_commit >= every
            && self.is_within()
        {
            self.commit()?;
        }
        self.progress
            .advance(batch.block.taken, self.tally.records());
        Ok(())
    }

    fn is_within(&self) -> bool {
        self.per == Per::File
            || self
                .tolerance
                .allows(self.tally.rejected(), self.tally.records())
    }

    fn begin_file(&mut self, index: usize) -> Result<(), Failure> {
        self.current = Some(index);
        self.kept_in = None;
        if self.per == Per::File {
            self.target.begin_file()?;
        }
        Ok(())
    }

    /// A file that is beyond its tolerance is left out whole, where files are judged one
    /// by one.
    fn end_file(&mut self, index: usize, differs: bool) -> Result<(), Failure> {
        let place = self.tally.place_of(index);
        let Some(file) = self.tally.files.get_mut(place) else {
            return Ok(());
        };
        let note = self.files.get(index).and_then(|file| file.note.clone());
        file.notes.extend(note);
        let beyond = !self.tolerance.allows(file.rejected, file.records);
        if self.per == Per::Run || !(beyond || differs) {
            return Ok(());
        }
        self.left_whole.push(LeftWhole {
            file: file.name.clone(),
            rejected: file.rejected,
            records: file.records,
            differs,
            kept_in: self.kept_in.clone(),
        });
        self.since_commit -= file.loaded;
        self.tally.take_back_file();
        if let Some(books) = &mut self.books {
            books.take_back(place);
        }
        Ok(self.target.take_back_file()?)
    }

    /// Keeps the rejects in their files, and for their table.
    fn keep(&mut self, batch: &Batch, refused: &[Reject]) -> Result<(), Failure> {
        let Some(file) = batch.file() else {
            return Ok(());
        };
        let mut rejects: Vec<&Reject> = batch.rejects.iter().chain(refused).collect();
        if !refused.is_empty() {
            rejects.sort_by_key(|reject| reject.offset);
        }
        if let Some(table) = &mut self.table {
            table.keep(&file.name, &rejects)?;
        }
        if !rejects.is_empty() {
            let name = self.files[file.index].source.file_name();
            self.keeper.keep(file, &name, rejects)?;
        }
        if let Some(name) = self.keeper.current() {
            self.kept_in = Some(name.to_string_lossy().into_owned());
        }
        if let Some(end) = &batch.block.last {
            self.keeper.end_file(file.index, end)?;
        }
        Ok(())
    }

    /// Notes in the books how far the file was read.
    fn note(&mut self, batch: &Batch, index: usize) {
        let place = self.tally.place_of(index);
        if let (Some(books), Some(file)) = (&mut self.books, self.files.get(index)) {
            let last = batch.block.last.as_ref();
            let content = last.map(|end| end.content.clone().unwrap_or_default());
            let prefix = batch.block.prefix.clone();
            books.file(place, file, batch.block.end(), prefix, content);
        }
    }

    fn folder(&self) -> Option<String> {
        let folder = self.keeper.folder()?;
        let folder = std::path::absolute(folder).unwrap_or_else(|_| folder.to_path_buf());
        Some(visible_path(&folder))
    }

    /// Commits on the way.
    fn commit(&mut self) -> Result<(), Failure> {
        if let Some(table) = &mut self.table {
            table.write(self.target)?;
        }
        if let Some(books) = &mut self.books {
            let written = self.keeper.written()?;
            let folder = self.keeper.folder().map(visible_path);
            books.write_going(self.target, &self.tally, written, folder)?;
        }
        self.target.commit()?;
        if let Some(books) = &mut self.books {
            books.committed();
        }
        if let Some(table) = &mut self.table {
            table.committed()?;
        }
        self.committed += std::mem::take(&mut self.since_commit);
        Ok(())
    }

    /// Keeps the load or undoes it, by how it went.
    pub fn finish(
        mut self,
        flowed: Result<(), flow::Failure<Failure>>,
    ) -> Result<Finished, Failure> {
        self.progress.end();
        let ended = flowed.map_err(|failure| match failure {
            flow::Failure::Source(error) => error.into(),
            flow::Failure::Sink(failure) => failure,
        });
        match ended.and_then(|()| self.decide()) {
            Ok((outcome, rows_after)) => Ok(Finished {
                summary: Summary {
                    outcome,
                    rehearsal: self.rehearsal,
                    merged: self.target.merged(),
                    rejects: self.keeper.folder().map(std::path::Path::to_path_buf),
                    untold: self.keeper.untold(),
                    can_be_replayed: self.originals.is_complete() && self.committed == 0,
                    left_whole: self.left_whole,
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
        if self.rehearsal {
            return Ok((Outcome::Kept, self.target.undo()?));
        }
        let not_kept = self.since_commit;
        let is_empty = self.tally.loaded() == 0 && self.committed == 0;
        if self.may_not_empty && is_empty && self.is_within() {
            return Err(would_empty());
        }
        if !self.tally.differences.is_empty() && self.per == Per::Run {
            let outcome = Outcome::TotalsDiffer { not_kept };
            return Ok((
                outcome,
                self.take_back("its totals differ from what was found")?,
            ));
        }
        if !self.is_within() {
            let outcome = Outcome::BeyondTolerance { not_kept };
            let rows = self.take_back("more rejects than the limit")?;
            self.note_rolled_back()?;
            return Ok((outcome, rows));
        }
        if let Some(table) = &mut self.table {
            table.write(self.target)?;
        }
        if let Some(work) = self.before_commit.take() {
            work(self.keeper.folder(), &self.left_whole)?;
        }
        if let (Some(note), Some(folder)) = (self.note.take(), self.keeper.folder()) {
            note.leaving_out(&self.left_whole).write(folder)?;
        }
        let folder = self.folder();
        let swaps = self.target.swaps();
        if let Some(books) = &mut self.books {
            match swaps.is_empty() {
                true => books.write_kept(self.target, &self.tally, folder)?,
                false => books.write_loaded(self.target, &self.tally, folder, swaps.clone())?,
            }
        }
        let rows = self.target.finish()?;
        if !swaps.is_empty() {
            self.swap()?;
        }
        Ok((Outcome::Kept, rows))
    }

    /// Puts the tables that were loaded beside others into their places. Until that is done
    /// the ledger says that it is not.
    fn swap(&mut self) -> Result<(), Failure> {
        self.target.swap()?;
        let told = match &mut self.books {
            Some(books) => books.write_swapped(self.target),
            None => Ok(()),
        };
        if let Err(failure) = told {
            // The rows are in the table, and the next load of it tells the ledger so.
            waiting::could_not_note(&failure);
        }
        Ok(())
    }

    /// The note of a load that was rolled back: by it its rejects are mended with the rest
    /// of its files.
    fn note_rolled_back(&mut self) -> Result<(), Failure> {
        let is_mendable = self.books.is_some() && self.committed == 0;
        if let (Some(note), Some(folder), true) =
            (self.note.take(), self.keeper.folder(), is_mendable)
            && let Some(originals) = self.originals.found()
        {
            note.rolled_back(originals).write(folder)?;
        }
        Ok(())
    }

    /// Undoes a load that was read to its end, and notes why.
    fn take_back(&mut self, why: &str) -> Result<Vec<u64>, Failure> {
        let rows = self.target.undo()?;
        self.note_end(Ended::Undone, why);
        Ok(rows)
    }

    /// Notes the end of a load that was undone. The load failed before the ledger did:
    /// that it cannot be noted is said, and no more.
    fn note_end(&mut self, outcome: Ended, why: &str) {
        let folder = self.folder();
        let mut noted = Ok(());
        if let Some(table) = &mut self.table {
            noted = table.write_undone(self.target);
        }
        if let Some(books) = &mut self.books {
            let ended = books.write_ended(self.target, &self.tally, outcome, why, folder);
            noted = noted.and(ended);
        }
        if let Err(failure) = noted {
            waiting::could_not_note(&failure);
        }
    }

    /// The failure, with what stays of the load.
    fn undone(&mut self, failure: Failure) -> Failure {
        if let Err(error) = self.keeper.finish() {
            anstream::eprintln!("note: the rejects are not all there: {error}");
        }
        let undone = self.target.undo();
        if undone.is_ok() {
            self.note_end(Ended::Failed, &failure.message());
        }
        let goes_on = match self.books {
            Some(_) => "; run this again, and it goes on from there",
            None => "",
        };
        let stays = match self.committed {
            0 => "nothing of this load was committed".to_string(),
            rows => format!(
                "{} rows that were committed on the way stay in the table{goes_on}",
                crate::view::number(rows)
            ),
        };
        match (self.committed, undone) {
            (0, Err(error)) => failure.and(&format!("undoing it failed too: {error}")),
            (_, Err(error)) => failure
                .and(&stays)
                .and(&format!("undoing the rest: {error}")),
            (_, Ok(_)) => failure.and(&stays),
        }
    }
}
