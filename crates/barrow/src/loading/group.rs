//! Batches of one file that go to the database together.

use barrow_core::error::Error;
use barrow_core::flow::{Batch, Batches};
use barrow_targets::Coming;

/// Takes batches from the flow as the target asks for them, and keeps them until it is
/// known what became of their rows.
pub struct Group<'g, 'f> {
    batches: &'g mut Batches<'f>,
    /// How many are taken together at most.
    most: usize,
    /// How many of `come` the target has seen.
    seen: usize,
    come: Vec<Batch>,
    /// What kept the next from coming.
    failed: Option<Error>,
    /// Batches of the group before. They go back one by one, after one of this group: to
    /// type more rows can wait, and to send those that are typed cannot.
    done: Vec<Batch>,
}

impl<'g, 'f> Group<'g, 'f> {
    /// Groups of so many batches.
    pub fn new(batches: &'g mut Batches<'f>, most: usize) -> Group<'g, 'f> {
        Group {
            batches,
            most,
            seen: 0,
            come: Vec::new(),
            failed: None,
            done: Vec::new(),
        }
    }

    /// Begins the next group, and says of which file it is, by its place in the flow;
    /// none after the last. The batches of the group before are used again.
    ///
    /// # Errors
    /// A file that cannot be read. Batches before that were in the group before.
    pub fn begin(&mut self) -> Result<Option<usize>, Error> {
        self.seen = 0;
        self.done.append(&mut self.come);
        while self.fetch() {
            match self.come.last().and_then(Batch::file) {
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
        if let Some(batch) = self.done.pop() {
            self.batches.give_back(batch);
        }
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

    /// Whether another batch may join.
    fn has_room(&self) -> bool {
        let is_at_end = |batch: &Batch| batch.block.last.is_some();
        self.come.len() < self.most && !self.come.last().is_some_and(is_at_end)
    }
}

impl Coming for Group<'_, '_> {
    fn wait(&mut self) -> bool {
        let is_there = self.seen < self.come.len() || (self.has_room() && self.fetch());
        self.seen += usize::from(is_there);
        is_there
    }

    fn come(&self) -> &[Batch] {
        &self.come[..self.seen]
    }
}
