//! What a load says when it is done.

mod document;
mod text;

use std::io::{self, Write};
use std::path::PathBuf;
use std::time::Duration;

use barrow_core::keys::Twice;
use barrow_core::source::SourceFile;
use barrow_core::tally::Tally;
use barrow_core::visible::visible_path;
use barrow_core::words::Tolerance;
use barrow_targets::Merged;
use serde_json::Value;

pub use self::document::document;
use self::text::text;
use super::ended;
use crate::failure::Failure;
use crate::loading::afterwards::Disposed;

/// What came of a load.
#[derive(Debug, Default)]
pub struct Summary {
    pub spec: String,
    pub into: String,
    pub tables: Vec<TableRows>,
    pub run: String,
    /// Whether nothing was loaded, and this is what a load would do.
    pub rehearsal: bool,
    /// Whether a load would stop before it reads.
    pub stops: bool,
    /// Keys that come twice.
    pub twice: Vec<TwiceSeen>,
    pub outcome: Outcome,
    pub tolerance: Tolerance,
    pub tally: Tally,
    /// What became of the loaded rows, where they are merged.
    pub merged: Option<Merged>,
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
    pub went_on: Option<String>,
    /// Files that were taken back, for they are beyond their tolerance.
    pub left_whole: Vec<LeftWhole>,
    /// What was done with the files afterwards.
    pub disposed: Vec<Disposed>,
    /// What became of the rejects of an earlier run.
    pub mended: Option<Mended>,
    /// How long each file took.
    pub times: Vec<Duration>,
    pub elapsed: Duration,
}

/// A file that is in the table already.
#[derive(Debug, Clone)]
pub struct Skipped {
    pub file: String,
    pub source: Option<SourceFile>,
    /// The run that loaded it; none where another file of this load has its content.
    pub run: Option<String>,
    /// When that was, or which file.
    pub when: String,
    pub has_rejects: bool,
    /// How many rejects of its run are open, and whether the spec is another since then.
    pub open: Option<(u64, bool)>,
}

/// A file that was taken back whole.
#[derive(Debug, Clone)]
pub struct LeftWhole {
    pub file: String,
    pub rejected: u64,
    pub records: u64,
    /// Whether its totals differ from what it states.
    pub differs: bool,
    /// The file of its rejects.
    pub kept_in: Option<String>,
}

/// What became of the rejects of an earlier run.
#[derive(Debug, Clone)]
pub struct Mended {
    pub run: String,
    /// How many were still to be corrected before.
    pub open_before: u64,
    pub mended: u64,
    pub still_open: u64,
    pub given_up: u64,
}

/// Keys of one kind of record that come twice.
#[derive(Debug)]
pub struct TwiceSeen {
    pub key: Vec<String>,
    pub count: u64,
    /// The first that is found again: its line, and the line before with the same key.
    pub first: (u64, u64),
}

impl TwiceSeen {
    pub fn new(key: Vec<String>) -> TwiceSeen {
        TwiceSeen {
            key,
            count: 0,
            first: (0, 0),
        }
    }

    pub fn note(&mut self, found: &Twice) {
        if self.count == 0 || found.again.line < self.first.0 {
            self.first = (found.again.line, found.first.line);
        }
        self.count += 1;
    }
}

/// A table, and how many rows it had and has.
#[derive(Debug)]
pub struct TableRows {
    pub name: String,
    pub before: u64,
    pub after: u64,
}

/// Whether the rows stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Outcome {
    /// They do.
    #[default]
    Kept,
    /// There were too many rejects, and so many good rows were undone.
    BeyondTolerance { not_kept: u64 },
    /// A file is not what it says of itself, and so many good rows were undone.
    TotalsDiffer { not_kept: u64 },
}

impl Summary {
    /// Good rows of a load that was undone.
    fn undone(&self) -> u64 {
        match self.outcome {
            Outcome::Kept => 0,
            Outcome::BeyondTolerance { not_kept } | Outcome::TotalsDiffer { not_kept } => not_kept,
        }
    }

    fn not_kept(&self) -> u64 {
        self.undone() + self.tally.not_kept()
    }

    /// Whether the rows stay.
    pub fn is_kept(&self) -> bool {
        self.outcome == Outcome::Kept
    }

    /// Records that are rows now.
    pub fn loaded(&self) -> u64 {
        self.tally.loaded() - self.undone() - self.come_twice()
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

    /// Writes it for people.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn write_text(&self, out: &mut impl Write) -> io::Result<()> {
        text(self, out)
    }

    /// Whether there are no more rejects than may be.
    pub fn is_within(&self) -> bool {
        self.tolerance.allows(self.rejected(), self.tally.records())
    }

    /// What `barrow mend` is told: the run, or the folder where it would not look.
    fn mend_words(&self) -> String {
        let usual = std::path::Path::new("rejects").join(&self.run);
        match &self.rejects {
            Some(folder) if *folder != usual => self.folder().unwrap_or_default(),
            _ => self.run.clone(),
        }
    }

    fn folder(&self) -> Option<String> {
        self.rejects.as_ref().map(|f| visible_path(f))
    }
}

/// Writes the summary for people.
pub fn print_text(summary: &Summary) -> Result<(), Failure> {
    ended(text(summary, &mut anstream::stdout().lock()))
}

/// Writes the summary as one JSON document.
pub fn print_json(summary: &Summary) -> Result<(), Failure> {
    write_json(&document(summary))
}

/// The same with one more key.
pub fn print_json_with(summary: &Summary, key: &str, value: Value) -> Result<(), Failure> {
    let mut document = document(summary);
    document[key] = value;
    write_json(&document)
}

fn write_json(document: &Value) -> Result<(), Failure> {
    let mut out = io::stdout().lock();
    ended(
        serde_json::to_writer_pretty(&mut out, document)
            .map_err(io::Error::from)
            .and_then(|()| writeln!(out)),
    )
}
