//! The ledger: what was loaded, when, from what and with what result. Two tables beside
//! those that are loaded, written in the same transaction as the rows.
//!
//! Their columns are described in docs/ledger.md, for people who ask them with SQL.

mod columns;
mod file_index;
mod read;
mod rejects;
mod tables;
mod write;

use barrow_core::source::content::hash_of;

use std::time::Duration;

use crate::error::{Error, ErrorKind};
use crate::job::Job;
use crate::session::Session;

pub use self::file_index::FileIndex;
pub use self::read::{
    Wanted, exported_files, files_of, known_files, mends_of, run_of_content, runs,
};
pub use self::rejects::{REJECTS_AT_ONCE, RejectRow, forget_rejects, make_rejects, write_rejects};
pub use self::write::{emptied, write_file, write_run};

/// The table of runs.
pub const RUNS: &str = "barrow_runs";

/// The table of the runs' files.
pub const FILES: &str = "barrow_files";

/// What became of a run, or of a file of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Outcome {
    /// Part of it is committed, and the rest is under way or was interrupted.
    Going,
    /// Its rows are in the table.
    #[default]
    Kept,
    /// It was beyond the tolerance or its totals differ, and was rolled back.
    RolledBack,
    /// It could not be done.
    Failed,
    /// Its rows were in the table, which was emptied since.
    Emptied,
    /// It was written from the table.
    Exported,
    /// Its rows were in the table, and were taken out again.
    Undone,
}

impl Outcome {
    const ALL: [Outcome; 7] = [
        Outcome::Going,
        Outcome::Kept,
        Outcome::RolledBack,
        Outcome::Failed,
        Outcome::Emptied,
        Outcome::Exported,
        Outcome::Undone,
    ];

    /// The word in the tables.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Going => "in progress",
            Outcome::Kept => "committed",
            Outcome::RolledBack => "rolled back",
            Outcome::Failed => "failed",
            Outcome::Emptied => "emptied",
            Outcome::Exported => "exported",
            Outcome::Undone => "undone",
        }
    }

    fn of(word: &str) -> Option<Outcome> {
        Outcome::ALL.into_iter().find(|o| o.word() == word)
    }
}

/// The counts of a run or a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counts {
    /// Records found: `loaded + rejected + filtered + rolled_back`.
    pub records: u64,
    /// Records that became rows.
    pub loaded: u64,
    /// Records that did not.
    pub rejected: u64,
    /// Records that the spec leaves out: by `keep_if`, or by their record type.
    pub filtered: u64,
    /// Good records that were rolled back.
    pub rolled_back: u64,
    /// Changes that the spec asked for.
    pub repaired: u64,
    /// Lines that are no records: preamble, header, trailer, comments, empty ones.
    pub other_lines: u64,
}

/// A run.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Run {
    /// Its id.
    pub run: String,
    /// The spec's path as given.
    pub spec: String,
    /// The hash of the spec's text.
    pub spec_hash: String,
    /// The tables, as the spec names them.
    pub table: String,
    /// What stands for these tables, however they are written.
    pub table_key: String,
    /// append, truncate, replace or merge.
    pub mode: String,
    /// Who ran it.
    pub who: String,
    /// On which machine.
    pub host: String,
    /// When it began, in UTC: `2031-04-03 08:05:09.123`.
    pub started_at: String,
    /// When it was last written, in UTC.
    pub ended_at: String,
    /// What became of it.
    pub outcome: Outcome,
    /// Why, where it failed.
    pub message: Option<String>,
    /// How many files it has.
    pub files: u64,
    /// Its counts.
    pub counts: Counts,
    /// Of its rejects, those that were loaded since.
    pub mended: u64,
    /// Of its rejects, those whose records were deleted.
    pub given_up: u64,
    /// Of its rejects, those that are still to be corrected.
    pub still_open: u64,
    /// Where its rejects are.
    pub rejects_folder: Option<String>,
    /// Its reasons in groups, as JSON.
    pub reasons: Option<String>,
    /// The run whose rejects it loaded.
    pub mend_of: Option<String>,
    /// What is needed to go on, as JSON, while it is going.
    pub state: Option<String>,
    /// How its rows are found again, as JSON; none where they cannot be.
    pub undo_by: Option<String>,
    /// The version of the program.
    pub version: String,
}

/// A file of a run.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct File {
    /// The run.
    pub run: String,
    /// Its place in the run, from 1.
    pub number: u64,
    /// Its path, as it was given.
    pub path: String,
    /// Its name without folders.
    pub name: String,
    /// The tables, as [`Run::table`].
    pub table: String,
    /// As [`Run::table_key`].
    pub table_key: String,
    /// Its size in bytes, as stored.
    pub bytes: u64,
    /// The hash of some of its bytes; none for standard input.
    pub sample: Option<String>,
    /// What its place says of its content: of a file that is elsewhere, the hash of its ETag.
    pub version: Option<String>,
    /// The hash of all of its bytes, once it was read to its end.
    pub content: Option<String>,
    /// What became of it.
    pub outcome: Outcome,
    /// The place in the file, unpacked, up to which its records are committed.
    pub committed_to: u64,
    /// Its counts.
    pub counts: Counts,
    /// Whether the same content may be loaded only once.
    pub once: bool,
}

impl File {
    /// What the database itself keeps unique; none for what may come again.
    fn once_key(&self) -> Option<String> {
        let is_once = self.once && self.outcome == Outcome::Kept;
        let content = self.content.as_ref().filter(|_| is_once)?;
        Some(once_key(&self.table_key, content))
    }
}

fn once_key(table_key: &str, content: &str) -> String {
    hash_of(format!("{table_key}\n{content}").as_bytes())
}

/// What stands for the tables of a job, however they are written.
///
/// # Errors
/// The database cannot be asked.
pub fn table_key(target: &mut dyn Session, job: &Job) -> Result<String, Error> {
    let mut names = Vec::new();
    for table in job.tables() {
        names.push(target.full_name(table)?);
    }
    Ok(hash_of(names.join("\n").as_bytes()))
}

/// What stands for a table that was exported. It is another key than that of loads: a file
/// may be loaded into the table that it came from.
///
/// # Errors
/// The database cannot be asked.
pub fn export_key(target: &mut dyn Session, table: &str) -> Result<String, Error> {
    let name = target.full_name(table)?;
    Ok(hash_of(format!("export\n{name}").as_bytes()))
}

/// Whether the database has a ledger.
///
/// # Errors
/// The database cannot be asked.
pub fn is_there(target: &mut dyn Session) -> Result<bool, Error> {
    for table in [RUNS, FILES] {
        let name = target.ledger_table(table)?;
        if target.describe(&name)?.is_none() {
            return Ok(false);
        }
    }
    Ok(true)
}

/// A table of the ledger as it stands in SQL.
fn named(target: &mut dyn Session, table: &str) -> Result<String, Error> {
    let name = target.ledger_table(table)?;
    Ok(target.dialect().table(&name))
}

/// Makes the ledger's tables, those that are missing.
///
/// # Errors
/// The database refuses the statement.
pub fn make(target: &mut dyn Session) -> Result<(), Error> {
    for statement in tables::statements(target.dialect()) {
        let mut tries = 0;
        while let Err(error) = target.execute(&statement, &[], "making the ledger") {
            // Another load makes it in the same moment: then it is there soon.
            tries += 1;
            if error.kind != ErrorKind::Duplicate || tries > MOST_TRIES {
                return Err(without(error));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
    Ok(())
}

/// How often a statement is tried again when another load gets in its way.
const MOST_TRIES: u32 = 100;

fn without(error: Error) -> Error {
    let advice = "let the user create tables once, or do without a ledger: [target] ledger = false \
                  (then nothing knows which files were loaded)";
    Error {
        advice: Some(advice.into()),
        ..error
    }
}

/// Whether the ledger may be written, found out before the load and not at its end.
///
/// # Errors
/// It may not.
pub fn may_be_written(target: &mut dyn Session) -> Result<(), Error> {
    for (table, column) in [(RUNS, "run"), (FILES, "run")] {
        let table = named(target, table)?;
        let statements = [
            format!("INSERT INTO {table} SELECT * FROM {table} WHERE 1 = 0"),
            format!("UPDATE {table} SET {column} = {column} WHERE 1 = 0"),
        ];
        for sql in statements {
            let tried = target.execute(&sql, &[], "writing the ledger");
            tried.map_err(|error| {
                if error.kind != ErrorKind::Denied {
                    return error;
                }
                error.advice(format!(
                    "ask its owner for the right: GRANT SELECT, INSERT, UPDATE ON {RUNS}, {FILES} TO \
                     the user; or do without: [target] ledger = false"
                ))
            })?;
        }
    }
    Ok(())
}
