//! Rejects as rows of a table, for those who would rather query it than read files.
//!
//! They wait in a temporary file until the load is decided: written before its rows are
//! committed, and written all the same where it is undone.

use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Seek, SeekFrom, Write};

use barrow_core::reason::Reject;
use barrow_targets::Session;
use barrow_targets::ledger::{self, REJECTS_AT_ONCE, RejectRow};

use crate::error::Error;

/// The rejects that are still to be written.
pub struct RejectsTable {
    table: String,
    run: String,
    waiting: BufWriter<File>,
    count: u64,
    was_created: bool,
}

fn failed(error: impl std::fmt::Display) -> Error {
    Error::failed(format!("keeping rejects for their table: {error}"))
}

/// Makes the table before the load begins, but in SQLite, which makes it within the
/// transaction: MariaDB would commit what was loaded so far.
///
/// # Errors
/// The database refuses the statement.
pub fn make_ready(session: &mut dyn Session, table: &str) -> Result<(), Error> {
    if !session.dialect().has_one_writer() && session.describe(table)?.is_none() {
        ledger::make_rejects(session, table)?;
    }
    Ok(())
}

impl RejectsTable {
    /// For the rejects of a run.
    ///
    /// # Errors
    /// There is no room for a temporary file.
    pub fn new(table: &str, run: &str) -> Result<RejectsTable, Error> {
        Ok(RejectsTable {
            table: table.to_string(),
            run: run.to_string(),
            waiting: BufWriter::new(tempfile::tempfile().map_err(failed)?),
            count: 0,
            was_created: false,
        })
    }

    /// Keeps the reasons of rejects until they are written.
    ///
    /// # Errors
    /// There is no room for them.
    pub fn keep(&mut self, file: &str, rejects: &[&Reject]) -> Result<(), Error> {
        for reject in rejects {
            for reason in &reject.reasons {
                let waiting = RejectRow {
                    run: self.run.clone(),
                    file: file.to_string(),
                    record: reject.record,
                    line: reject.line,
                    offset: reason.offset,
                    column: reason.column.as_deref().map(str::to_string),
                    code: reason.code.word().to_string(),
                    value: reason.value.clone(),
                    says: reason.says.to_string(),
                    expected: reason.expected.to_string(),
                    raw: reject.raw.clone(),
                };
                serde_json::to_writer(&mut self.waiting, &waiting).map_err(failed)?;
                self.waiting.write_all(b"\n").map_err(failed)?;
                self.count += 1;
            }
        }
        Ok(())
    }

    /// Writes those that wait, within the transaction that is open.
    ///
    /// # Errors
    /// The database refuses the statement.
    pub fn write(&mut self, session: &mut dyn Session) -> Result<(), Error> {
        if self.count == 0 {
            return Ok(());
        }
        if !self.was_created && session.describe(&self.table)?.is_none() {
            ledger::make_rejects(session, &self.table)?;
        }
        self.was_created = true;
        self.waiting.flush().map_err(failed)?;
        self.each(&mut |rows| Ok(ledger::write_rejects(session, &self.table, rows)?))?;
        Ok(())
    }

    /// Forgets those that were written, now that they are committed.
    ///
    /// # Errors
    /// The temporary file fails.
    pub fn committed(&mut self) -> Result<(), Error> {
        let file = self.waiting.get_mut();
        file.set_len(0).map_err(failed)?;
        file.seek(SeekFrom::Start(0)).map_err(failed)?;
        self.count = 0;
        Ok(())
    }

    /// Writes those of a load that was undone: its table may have been undone with it.
    ///
    /// # Errors
    /// The database refuses the statement.
    pub fn write_undone(&mut self, session: &mut dyn Session) -> Result<(), Error> {
        self.was_created = false;
        self.write(session)
    }

    fn each(&self, write: &mut dyn FnMut(&[RejectRow]) -> Result<(), Error>) -> Result<(), Error> {
        let mut file = self.waiting.get_ref();
        file.seek(SeekFrom::Start(0)).map_err(failed)?;
        let mut rows: Vec<RejectRow> = Vec::new();
        for line in BufReader::new(file).lines() {
            rows.push(serde_json::from_str(&line.map_err(failed)?).map_err(failed)?);
            if rows.len() == REJECTS_AT_ONCE {
                write(&rows)?;
                rows.clear();
            }
        }
        match rows.is_empty() {
            true => Ok(()),
            false => write(&rows),
        }
    }
}
