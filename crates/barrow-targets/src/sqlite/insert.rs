//! Puts rows into the table, many a statement.

use barrow_core::flow::Batch;
use barrow_core::rejects::Code;
use barrow_core::visible::visible;
use rusqlite::ffi::{self, ErrorCode};
use rusqlite::{CachedStatement, Connection};

use super::bind::{Binder, Lossy};
use super::words::explained;
use crate::ddl::quoted;
use crate::error::Error;
use crate::table::Table;
use crate::{Job, Refusal};

/// Rows in one statement. Measured at 10 columns: 16 rows take 1.07 times as
/// long as 64, and 256 no less than 64.
const ROWS: usize = 64;

/// SQLite's own limit on the values of a statement (SQLITE_LIMIT_VARIABLE_NUMBER).
const VALUES: usize = 32_766;

/// Inserts a job's rows.
pub struct Inserter {
    names: Vec<String>,
    binders: Vec<Binder>,
    /// The SQL for 1, 2, 4, … rows.
    statements: Vec<String>,
    triggers: bool,
}

/// Why a statement did not do.
enum Stopped {
    /// The table would not take one of its rows.
    Refused(Code, String),
    /// Something else.
    Failed(Error),
}

impl Inserter {
    /// For the job's columns in `table`.
    pub fn new(job: &Job, table: &Table) -> Inserter {
        let declared = |name: &str| table.column(name).map_or("", |c| c.declared.as_str());
        let most = ROWS.min(VALUES / job.columns.len().max(1)).max(1);
        let sizes = std::iter::successors(Some(1), |n| Some(n * 2)).take_while(|n| *n <= most);
        Inserter {
            names: job.columns.iter().map(|c| c.name.clone()).collect(),
            binders: job.columns.iter().map(|c| Binder::new(c.ty, declared(&c.name))).collect(),
            statements: sizes.map(|rows| sql(job, rows)).collect(),
            triggers: table.triggers,
        }
    }

    /// Inserts a batch's good rows. Returns those that the table refused.
    pub fn insert(&self, connection: &Connection, batch: &Batch) -> Result<Vec<Refusal>, Error> {
        let mut refused = Vec::new();
        let mut rest = batch.rows.good.as_slice();
        while !rest.is_empty() {
            let size = rest.len().ilog2().min(self.statements.len() as u32 - 1);
            let (rows, later) = rest.split_at(1 << size);
            rest = later;
            match self.several(connection, batch, rows, size as usize) {
                Ok(()) => {}
                Err(Stopped::Failed(error)) => return Err(error),
                Err(Stopped::Refused(code, words)) if rows.len() == 1 => {
                    refused.push(self.refusal(rows[0], code, words));
                }
                Err(Stopped::Refused(..)) => {
                    self.one_by_one(connection, batch, rows, &mut refused)?;
                }
            }
        }
        Ok(refused)
    }

    fn one_by_one(
        &self,
        connection: &Connection,
        batch: &Batch,
        rows: &[u32],
        refused: &mut Vec<Refusal>,
    ) -> Result<(), Error> {
        for row in rows {
            match self.several(connection, batch, std::slice::from_ref(row), 0) {
                Ok(()) => {}
                Err(Stopped::Failed(error)) => return Err(error),
                Err(Stopped::Refused(code, words)) => refused.push(self.refusal(*row, code, words)),
            }
        }
        Ok(())
    }

    /// Inserts all of `rows` or none of them.
    fn several(
        &self,
        connection: &Connection,
        batch: &Batch,
        rows: &[u32],
        size: usize,
    ) -> Result<(), Stopped> {
        let failed = |e: rusqlite::Error| Stopped::Failed(explained(&e, "inserting rows"));
        let mut statement =
            connection.prepare_cached(&self.statements[size]).map_err(failed)?;
        self.bind(&mut statement, batch, rows)?;
        if !self.triggers {
            return statement.raw_execute().map(drop).map_err(|e| stopped(connection, &e));
        }
        // A trigger may pass over a row in silence, or stop and leave the rows
        // before it in the table: neither may be left so.
        connection.execute_batch("SAVEPOINT barrow_rows").map_err(failed)?;
        let result = match statement.raw_execute() {
            Ok(count) if count == rows.len() => Ok(()),
            Ok(_) => Err(Stopped::Refused(Code::Refused, "a trigger passed over the row".into())),
            Err(e) => Err(stopped(connection, &e)),
        };
        let end = match result {
            Ok(()) => "RELEASE barrow_rows",
            Err(Stopped::Failed(_)) => return result,
            Err(Stopped::Refused(..)) => "ROLLBACK TO barrow_rows; RELEASE barrow_rows",
        };
        connection.execute_batch(end).map_err(failed)?;
        result
    }

    #[inline]
    fn bind(
        &self,
        statement: &mut CachedStatement<'_>,
        batch: &Batch,
        rows: &[u32],
    ) -> Result<(), Stopped> {
        let mut place = 0;
        for row in rows {
            for (column, binder) in self.binders.iter().enumerate() {
                place += 1;
                let cell = batch.rows.cell(column, *row as usize);
                let value = binder.bind(cell, batch).map_err(|Lossy| self.lossy(column))?;
                statement
                    .raw_bind_parameter(place, value)
                    .map_err(|e| unbindable(&e))?;
            }
        }
        Ok(())
    }

    fn lossy(&self, column: usize) -> Stopped {
        Stopped::Refused(
            Code::TooPrecise,
            format!("the table's column {} would round it to 15 digits", self.names[column]),
        )
    }

    fn refusal(&self, row: u32, code: Code, words: String) -> Refusal {
        // SQLite's words end with the column or columns: "… failed: table.column".
        let named = words.rsplit_once('.').map(|(_, name)| name);
        let column = self.names.iter().find(|n| Some(n.as_str()) == named).cloned();
        Refusal { row, code, column, words: visible(words.as_bytes()) }
    }
}

fn sql(job: &Job, rows: usize) -> String {
    let names: Vec<_> = job.columns.iter().map(|c| quoted(&c.name)).collect();
    let row = format!("({})", vec!["?"; names.len()].join(","));
    format!(
        "INSERT OR ABORT INTO {} ({}) VALUES {}",
        quoted(&job.table),
        names.join(","),
        vec![row; rows].join(",")
    )
}

fn unbindable(error: &rusqlite::Error) -> Stopped {
    match error.sqlite_error_code() {
        Some(ErrorCode::TooBig) => {
            Stopped::Refused(Code::Refused, "a value is longer than SQLite takes".into())
        }
        _ => Stopped::Failed(explained(error, "inserting rows")),
    }
}

/// Tells a row's fault from the database's.
fn stopped(connection: &Connection, error: &rusqlite::Error) -> Stopped {
    let rusqlite::Error::SqliteFailure(failure, words) = error else {
        return Stopped::Failed(explained(error, "inserting rows"));
    };
    let words = words.clone().unwrap_or_else(|| error.to_string());
    match failure.code {
        // "ON CONFLICT ROLLBACK" and RAISE(ROLLBACK) end the whole transaction.
        _ if connection.is_autocommit() => Stopped::Failed(
            Error::new(format!("the table undid the whole load at a row: {}", visible(words.as_bytes())))
                .advice("a constraint or trigger of the table says ROLLBACK; let it say ABORT"),
        ),
        ErrorCode::ConstraintViolation => Stopped::Refused(code_of(failure.extended_code), words),
        ErrorCode::TypeMismatch | ErrorCode::TooBig => Stopped::Refused(Code::Refused, words),
        _ => Stopped::Failed(explained(error, "inserting rows")),
    }
}

fn code_of(extended: i32) -> Code {
    match extended {
        ffi::SQLITE_CONSTRAINT_UNIQUE
        | ffi::SQLITE_CONSTRAINT_PRIMARYKEY
        | ffi::SQLITE_CONSTRAINT_ROWID => Code::DuplicateKey,
        _ => Code::Refused,
    }
}
