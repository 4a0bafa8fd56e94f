//! What came of a load, a check, a mend or a conversion.

mod document;
mod file_status;

pub use self::file_status::{FileStatus, State};
use std::path::PathBuf;
use std::time::Duration;

use barrow_core::counts::RunCounts;
use barrow_core::duplicates::Duplicate;
use barrow_core::escape::visible_path;
use barrow_core::source::SourceFile;
use barrow_core::words::Tolerance;
use barrow_targets::Merged;

pub use self::document::{FORMAT, error_document, grouped};

/// What came of a load.
#[derive(Debug, Default)]
pub struct Summary {
    /// The spec's name.
    pub spec: String,
    /// The database; the other spec of a conversion.
    pub into: String,
    /// The tables.
    pub tables: Vec<TableRows>,
    /// The run's id.
    pub run: String,
    /// Whether nothing was loaded, and this is what a load would do.
    pub rehearsal: bool,
    /// Whether a load would stop before it reads.
    pub stops: bool,
    /// Keys that come twice.
    pub twice: Vec<TwiceSeen>,
    /// What became of the rows.
    pub outcome: Outcome,
    /// How many rejects there may be.
    pub tolerance: Tolerance,
    /// What was counted.
    pub tally: RunCounts,
    /// What became of the loaded rows, where they are merged.
    pub merged: Option<Merged>,
    /// The folder of the rejects, where there are any.
    pub rejects: Option<PathBuf>,
    /// Reasons that are counted and not written.
    pub untold: u64,
    /// Whether a load that was rolled back can be mended with the rest of its files.
    pub can_be_replayed: bool,
    /// Whether they can be mended.
    pub can_mend: bool,
    /// Whether the load is in no ledger.
    pub no_ledger: bool,
    /// Files that are in the table already.
    pub skipped: Vec<Skipped>,
    /// Whether that is all of them.
    pub nothing_new: bool,
    /// What was made, in plain words.
    pub made: Vec<String>,
    /// What else people should know.
    pub remarks: Vec<String>,
    /// That an interrupted run went on, and where.
    pub resumed_from: Option<String>,
    /// Files that were rolled back, since they are beyond their tolerance.
    pub rejected_files: Vec<RejectedFile>,
    /// What was done with the files afterwards.
    pub disposed: Vec<Disposed>,
    /// What became of the rejects of an earlier run.
    pub mended: Option<Mended>,
    /// How long each file took.
    pub times: Vec<Duration>,
    /// How long all of it took.
    pub elapsed: Duration,
}

/// A file that is in the table already.
#[derive(Debug, Clone)]
pub struct Skipped {
    /// The file's name for people.
    pub file: String,
    /// The file.
    pub source: Option<SourceFile>,
    /// The run that loaded it; none where another file of this load has its content.
    pub run: Option<String>,
    /// When that was, or which file.
    pub when: String,
    /// Whether its run had rejects.
    pub has_rejects: bool,
    /// How many rejects of its run are open, and whether the spec is another since then.
    pub open: Option<(u64, bool)>,
}

/// A file that was rolled back as a whole.
#[derive(Debug, Clone)]
pub struct RejectedFile {
    /// The file's name for people.
    pub file: String,
    /// How many of its records are rejected.
    pub rejected: u64,
    /// How many records it has.
    pub records: u64,
    /// Whether its totals differ from what it states.
    pub differs: bool,
    /// The file of its rejects.
    pub kept_in: Option<String>,
}

/// What became of the rejects of an earlier run.
#[derive(Debug, Clone)]
pub struct Mended {
    /// The run whose rejects they are.
    pub run: String,
    /// How many were still to be corrected before.
    pub open_before: u64,
    /// How many are rows now.
    pub mended: u64,
    /// How many are still wrong.
    pub still_open: u64,
    /// How many were taken out of the file of rejects.
    pub given_up: u64,
}

/// Keys of one kind of record that come twice.
#[derive(Debug)]
pub struct TwiceSeen {
    /// The columns of the key.
    pub key: Vec<String>,
    /// How many records have a key that was there before.
    pub count: u64,
    /// The first that is found again: its line, and the line before with the same key.
    pub first: (u64, u64),
}

impl TwiceSeen {
    /// None of this key yet.
    pub fn new(key: Vec<String>) -> TwiceSeen {
        TwiceSeen {
            key,
            count: 0,
            first: (0, 0),
        }
    }

    /// Counts one more.
    pub fn note(&mut self, found: &Duplicate) {
        if self.count == 0 || found.again.line < self.first.0 {
            self.first = (found.again.line, found.first.line);
        }
        self.count += 1;
    }
}

/// What was done with a file.
#[derive(Debug, PartialEq, Eq)]
pub struct Disposed {
    /// The file.
    pub file: String,
    /// In plain words.
    pub words: String,
    /// Whether it could not be done.
    pub failed: bool,
}

/// What a shared load came to.
#[derive(Default)]
pub struct Shared {
    /// A load for each file that this one took.
    pub loads: Vec<Summary>,
    /// Files that are in the table already.
    pub skipped: Vec<Skipped>,
}

/// What came of several specs that were loaded in one transaction.
#[derive(Debug, Default)]
pub struct Together {
    /// The database.
    pub into: String,
    /// A load for each spec, in the order that they were loaded in.
    pub loads: Vec<Summary>,
    /// The tables of each.
    pub tables: Vec<Vec<String>>,
    /// Whether all of it is committed; nothing is otherwise.
    pub is_kept: bool,
    /// That the database was made, if it was.
    pub made: Option<String>,
    /// How long all of it took.
    pub elapsed: Duration,
}

/// A table, and how many rows it had and has.
#[derive(Debug)]
pub struct TableRows {
    /// Its name.
    pub name: String,
    /// Rows before the load.
    pub before: u64,
    /// Rows after it.
    pub after: u64,
}

/// Whether the rows stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Outcome {
    /// They do.
    #[default]
    Kept,
    /// There were too many rejects, and so many good rows were undone.
    BeyondTolerance {
        /// Good rows that were rolled back.
        not_kept: u64,
    },
    /// A file is not what it says of itself, and so many good rows were undone.
    TotalsDiffer {
        /// Good rows that were rolled back.
        not_kept: u64,
    },
    /// Another spec of the same load was rolled back, and so many good rows with it.
    WithOthers {
        /// Good rows that were rolled back.
        not_kept: u64,
    },
}

impl Outcome {
    /// In a few words, as programs read it.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Kept => "committed",
            Outcome::BeyondTolerance { .. } => "too many rejects",
            Outcome::WithOthers { .. } => "rolled back with others",
            Outcome::TotalsDiffer { .. } => "totals differ",
        }
    }
}

impl Summary {
    /// Good rows of a load that was undone.
    pub fn rolled_back_rows(&self) -> u64 {
        match self.outcome {
            Outcome::Kept => 0,
            Outcome::BeyondTolerance { not_kept }
            | Outcome::TotalsDiffer { not_kept }
            | Outcome::WithOthers { not_kept } => not_kept,
        }
    }

    /// Good records that are not in the table.
    pub fn not_kept(&self) -> u64 {
        self.rolled_back_rows() + self.tally.not_kept()
    }

    /// Whether the rows stay.
    pub fn is_kept(&self) -> bool {
        self.outcome == Outcome::Kept
    }

    /// Records that are rows now.
    pub fn loaded(&self) -> u64 {
        self.tally.loaded() - self.rolled_back_rows() - self.come_twice()
    }

    /// Records that are not.
    pub fn rejected(&self) -> u64 {
        self.tally.rejected() + self.come_twice()
    }

    fn come_twice(&self) -> u64 {
        self.twice.iter().map(|twice| twice.count).sum()
    }

    /// Whether something was not as it was in the files: rejected, changed or noted.
    pub fn has_news(&self) -> bool {
        self.rejected() > 0
            || self.tally.repairs.all() > 0
            || !self.tally.differences.is_empty()
            || self.tally.files.iter().any(|file| !file.notes.is_empty())
    }

    /// Whether there are no more rejects than may be.
    pub fn is_within(&self) -> bool {
        self.tolerance.allows(self.rejected(), self.tally.records())
    }

    /// What `barrow mend` is told: the run, or the folder where it would not look.
    pub fn mend_words(&self) -> String {
        let usual = std::path::Path::new("rejects").join(&self.run);
        match &self.rejects {
            Some(folder) if *folder != usual => self.folder().unwrap_or_default(),
            _ => self.run.clone(),
        }
    }

    /// The folder of the rejects as people read it.
    pub fn folder(&self) -> Option<String> {
        self.rejects.as_ref().map(|f| visible_path(f))
    }
}
