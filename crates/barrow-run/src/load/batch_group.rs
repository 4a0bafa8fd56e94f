//! Batches of one file that go to the database together.

use std::time::Duration;

use barrow_core::error::Error;
use barrow_core::pipeline::Batches;
use barrow_targets::{BatchSource, EncodedBatch, EncodedPart};

/// Takes batches from the pipeline as the target asks for them, and keeps them until it is
/// known what became of their rows.
pub(super) struct BatchGroup<'g, 'f> {
    batches: &'g mut Batches<'f, Vec<EncodedPart>>,
    /// How many are taken together at most.
    most: usize,
    /// How many of `come` the target has seen.
    seen: usize,
    come: Vec<EncodedBatch>,
    /// What kept the next from coming.
    failed: Option<Error>,
    /// Batches of the group before. They go back one by one, after one of this group: to
    /// type more rows can wait, and to send those that are typed cannot.
    done: Vec<EncodedBatch>,
    /// Whether one went back already for the next that is to come.
    has_given: bool,
}

/// Rows that do not come within this time are not waited for in the middle of a
/// statement: the server may have a limit to how long one takes. They come within some
/// hundredths of a second where the file is all there.
const PATIENCE: Duration = Duration::from_millis(500);

impl<'g, 'f> BatchGroup<'g, 'f> {
    /// Groups of so many batches.
    pub fn new(batches: &'g mut Batches<'f, Vec<EncodedPart>>, most: usize) -> BatchGroup<'g, 'f> {
        BatchGroup {
            batches,
            most,
            seen: 0,
            come: Vec::new(),
            failed: None,
            done: Vec::new(),
            has_given: false,
        }
    }

    /// Begins the next group, and says of which file it is, by its place in the pipeline;
    /// none after the last. The batches of the group before are used again.
    ///
    /// # Errors
    /// A file that cannot be read. Batches before that were in the group before.
    pub fn begin(&mut self) -> Result<Option<usize>, Error> {
        self.seen = 0;
        self.done.append(&mut self.come);
        while self.fetch() {
            match self.come.last().and_then(|batch| batch.file()) {
                Some(file) => return Ok(Some(file.index)),
                // Nothing was read yet.
                None => self.done.append(&mut self.come),
            }
        }
        self.failed.take().map_or(Ok(None), Err)
    }

    /// Gets one more batch; false where there is none.
    fn fetch(&mut self) -> bool {
        if self.failed.is_some() {
            return false;
        }
        self.give_one();
        self.has_given = false;
        match self.batches.next() {
            Some(Ok(batch)) => self.come.push(batch),
            None => return false,
            Some(Err(error)) => {
                self.failed = Some(error);
                return false;
            }
        }
        true
    }

    /// Gives one batch back, so that another can come.
    fn give_one(&mut self) {
        if self.has_given {
            return;
        }
        if let Some(batch) = self.done.pop() {
            self.batches.give_back(batch);
        }
        self.has_given = true;
    }

    /// Whether another batch may join.
    fn has_room(&self) -> bool {
        let is_at_end = |batch: &EncodedBatch| batch.block.last.is_some();
        self.come.len() < self.most && !self.come.last().is_some_and(is_at_end)
    }
}

impl BatchSource for BatchGroup<'_, '_> {
    fn wait(&mut self) -> bool {
        let is_there = self.seen < self.come.len() || (self.has_room() && self.fetch());
        self.seen += usize::from(is_there);
        is_there
    }

    fn is_late(&mut self) -> bool {
        if self.seen < self.come.len() || !self.has_room() || self.failed.is_some() {
            return false;
        }
        self.give_one();
        self.batches.is_late(PATIENCE)
    }

    fn ready(&self) -> &[EncodedBatch] {
        &self.come[..self.seen]
    }
}
