//! What the parts of one query know in common.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use barrow_core::counts::RunCounts;
use barrow_run::Error;

use crate::exact::LongSums;

/// What one look through a table's files has counted.
#[derive(Debug, Default)]
pub struct Scan {
    /// The table.
    pub table: String,
    /// The columns that were read.
    pub columns: Vec<String>,
    /// The counts.
    pub counts: RunCounts,
    /// Whether the files were read to their ends.
    pub is_whole: bool,
    /// Rows that were kept on disk, to be found again.
    pub kept: Option<u64>,
}

/// What the parts of one query know in common.
#[derive(Clone, Default)]
pub struct Shared(Arc<Mutex<Inner>>);

#[derive(Default)]
struct Inner {
    scans: BTreeMap<u64, Scan>,
    failure: Option<Error>,
    refused: Option<String>,
    next: u64,
    long_sums: LongSums,
    /// Files that can be read only once, and were.
    read_once: HashSet<PathBuf>,
}

impl Shared {
    fn inner(&self) -> MutexGuard<'_, Inner> {
        // What is in it is whole after every change.
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What becomes of sums that no number of SQLite's gives back.
    pub fn long_sums(&self) -> LongSums {
        self.inner().long_sums.clone()
    }

    /// A number that no other place of a table in a query has.
    pub fn number(&self) -> u64 {
        let mut inner = self.inner();
        inner.next += 1;
        inner.next
    }

    /// Whether a file that can be read only once is still to be read; afterwards it was.
    pub fn may_read(&self, identity: PathBuf) -> bool {
        self.inner().read_once.insert(identity)
    }

    /// Changes what one scan has counted.
    pub fn count(&self, number: u64, change: impl FnOnce(&mut Scan)) {
        change(self.inner().scans.entry(number).or_default());
    }

    /// All scans, and none afterwards.
    pub fn take_scans(&self) -> Vec<Scan> {
        std::mem::take(&mut self.inner().scans)
            .into_values()
            .collect()
    }

    /// Notes why the query cannot go on: SQLite carries only words.
    pub fn fail(&self, error: Error) -> rusqlite::Error {
        let words = error.message().to_string();
        self.inner().failure.get_or_insert(error);
        rusqlite::Error::ModuleError(words)
    }

    /// Why the query could not go on.
    pub fn take_failure(&self) -> Option<Error> {
        self.inner().failure.take()
    }

    /// Notes what a query may not do.
    pub fn refuse(&self, what: &str) {
        self.inner().refused.get_or_insert_with(|| what.to_string());
    }

    /// What the query may not do.
    pub fn take_refused(&self) -> Option<String> {
        self.inner().refused.take()
    }
}
