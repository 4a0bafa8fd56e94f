//! Puts rows into the table, many a statement.

use std::ops::Range;
use std::rc::Rc;
use std::sync::Arc;

use barrow_core::escape::escape_for_display;
use barrow_core::reason::Code;
use rusqlite::Connection;
use rusqlite::ffi::{self, ErrorCode};
use rusqlite::types::ValueRef;

use super::DIALECT;
use super::encode::Encoding;
use super::errors::explained;
use super::prepared::{Bound, Prepared};
use crate::encoded::{EncodedBatch, EncodedPart, Slot, not_encoded};
use crate::error::Error;
use crate::job::Refusal;
use crate::order::Order;
use crate::record_table::RecordTable;
use crate::table::Table;

/// Rows in one statement. Measured in a bare loop over 3,000,000 rows of 10
/// columns, in one run each: 4 to 16 rows are the fastest; 1 takes 1.1 times as
/// long, 64 takes 1.3 times.
const ROWS: usize = 8;

/// SQLite's own limit on the values of a statement (SQLITE_LIMIT_VARIABLE_NUMBER).
const VALUES: usize = 32_766;

/// Inserts the rows of one kind.
pub struct Inserter {
    part: usize,
    names: Vec<String>,
    encodings: Arc<[Encoding]>,
    /// The SQL for 1, 2, 4, … rows.
    sql: Vec<String>,
    triggers: bool,
}

/// What an inserter's SQL is prepared to, when the first rows come.
#[derive(Default)]
pub struct PreparedInserts(Vec<Prepared>);

/// Why a statement failed.
pub(super) enum Stopped {
    /// The table would not take one of its rows.
    Refused(Why),
    /// Something else.
    Failed(Error),
}

/// Why a row is refused.
pub(super) struct Why {
    pub code: Code,
    /// SQLite's words, or ours.
    pub words: String,
    /// The column, where one is at fault and known without reading the words.
    pub column: Option<String>,
}

impl Why {
    pub fn new(code: Code, words: impl Into<String>) -> Why {
        Why {
            code,
            words: words.into(),
            column: None,
        }
    }

    /// The column that SQLite's words end with: "… failed: table.column". Where they are
    /// several, it is none of them alone.
    fn ends_with(&self, names: &[String]) -> Option<String> {
        let (_, named) = self.words.rsplit_once('.')?;
        let is_one = !self.words.contains(", ");
        names.iter().find(|name| is_one && *name == named).cloned()
    }
}

impl Inserter {
    /// For a part's columns in `table`.
    pub fn new(part: &RecordTable, table: &Table) -> Inserter {
        let most = match Order::of(part, table) {
            None => ROWS.min(VALUES / part.columns.len().max(1)).max(1),
            // A parent is looked for at a statement's end: it must come before its children.
            Some(_) => 1,
        };
        let sizes = std::iter::successors(Some(1), |n| Some(n * 2)).take_while(|n| *n <= most);
        Inserter {
            part: part.number,
            names: part.columns.iter().map(|c| c.name.clone()).collect(),
            encodings: part
                .columns
                .iter()
                .map(|c| {
                    let found = table.column(&c.name);
                    let is_older = |name: &String| found.is_some_and(|found| found.name == *name);
                    let older_times = table.older_times.iter().any(is_older);
                    Encoding::new(c.ty, found, older_times)
                })
                .collect(),
            sql: sizes.map(|rows| sql(part, rows)).collect(),
            triggers: table.triggers,
        }
    }

    /// Which of a batch's parts it inserts.
    pub fn part(&self) -> usize {
        self.part
    }

    /// Inserts some of a batch's good rows: all, or it says why not, and those before
    /// stay for the caller to roll back.
    pub(super) fn stage_row(
        &self,
        connection: &Rc<Connection>,
        statements: &mut PreparedInserts,
        batch: &EncodedBatch,
        rows: Range<usize>,
    ) -> Result<(), Stopped> {
        let statements = self
            .prepared(connection, statements)
            .map_err(Stopped::Failed)?;
        let mut next = rows.start;
        while next < rows.end {
            let size = ((rows.end - next).ilog2() as usize).min(statements.len() - 1);
            let some = next..next + (1 << size);
            next = some.end;
            self.several(connection, &mut statements[size], batch, some)?;
        }
        Ok(())
    }

    /// The statements, which are prepared with the first rows.
    fn prepared<'p>(
        &self,
        connection: &Rc<Connection>,
        statements: &'p mut PreparedInserts,
    ) -> Result<&'p mut [Prepared], Error> {
        if statements.0.is_empty() {
            let prepare = |sql: &String| Prepared::new(connection, sql);
            let prepared: Result<Vec<_>, _> = self.sql.iter().map(prepare).collect();
            statements.0 = prepared.map_err(|e| explained(&e, "inserting rows"))?;
        }
        Ok(&mut statements.0)
    }

    /// How each column is encoded.
    pub fn encodings(&self) -> Arc<[Encoding]> {
        self.encodings.clone()
    }

    /// Inserts a batch's good rows, which have been encoded. Returns those that the table refused.
    pub fn insert(
        &self,
        connection: &Rc<Connection>,
        statements: &mut PreparedInserts,
        batch: &EncodedBatch,
    ) -> Result<Vec<Refusal>, Error> {
        let statements = self.prepared(connection, statements)?;
        let mut refused = Vec::new();
        let mut next = 0;
        while next < batch.parts[self.part].good.len() {
            let left = batch.parts[self.part].good.len() - next;
            let size = (left.ilog2() as usize).min(statements.len() - 1);
            let rows = next..next + (1 << size);
            next = rows.end;
            match self.several(connection, &mut statements[size], batch, rows.clone()) {
                Ok(()) => {}
                Err(Stopped::Failed(error)) => return Err(error),
                Err(Stopped::Refused(why)) if rows.len() == 1 => {
                    refused.push(self.refusal(batch, rows.start, why));
                }
                Err(Stopped::Refused(..)) => {
                    self.one_by_one(connection, &mut statements[0], batch, rows, &mut refused)?;
                }
            }
        }
        Ok(refused)
    }

    fn one_by_one(
        &self,
        connection: &Connection,
        statement: &mut Prepared,
        batch: &EncodedBatch,
        rows: Range<usize>,
        refused: &mut Vec<Refusal>,
    ) -> Result<(), Error> {
        for row in rows {
            match self.several(connection, statement, batch, row..row + 1) {
                Ok(()) => {}
                Err(Stopped::Failed(error)) => return Err(error),
                Err(Stopped::Refused(why)) => {
                    refused.push(self.refusal(batch, row, why));
                }
            }
        }
        Ok(())
    }

    /// Inserts all of `rows`, places among the batch's good rows, or none of them.
    fn several(
        &self,
        connection: &Connection,
        statement: &mut Prepared,
        batch: &EncodedBatch,
        rows: Range<usize>,
    ) -> Result<(), Stopped> {
        let failed = |e: rusqlite::Error| Stopped::Failed(explained(&e, "inserting rows"));
        let count = rows.len();
        let bound = self.bind(statement, batch, rows)?;
        if !self.triggers {
            return bound.run().map(drop).map_err(|e| stopped(connection, &e));
        }
        // A trigger may pass over a row in silence, or stop and leave the rows
        // before it in the table: neither may be left so.
        connection
            .execute_batch("SAVEPOINT barrow_rows")
            .map_err(failed)?;
        let result = match bound.run() {
            Ok(inserted) if inserted == count => Ok(()),
            Ok(_) => Err(Stopped::Refused(Why::new(
                Code::Refused,
                "a trigger skipped the row",
            ))),
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
    fn bind<'p, 'b>(
        &self,
        statement: &'p mut Prepared,
        batch: &'b EncodedBatch,
        rows: Range<usize>,
    ) -> Result<Bound<'p, 'b>, Stopped> {
        let width = self.names.len();
        let store = &batch.parts[self.part].store;
        let slots = self.slots(batch).get(rows.start * width..rows.end * width);
        let Some(slots) = slots else {
            return Err(Stopped::Failed(not_encoded()));
        };
        let values = slots.iter().enumerate().map(|(place, slot)| {
            Ok(match slot {
                Slot::Null => ValueRef::Null,
                Slot::Int(n) => ValueRef::Integer(*n),
                Slot::Float(n) => ValueRef::Real(*n),
                Slot::Text(piece) => ValueRef::Text(piece.of(&batch.block.bytes, store)),
                Slot::Bytes(piece) => ValueRef::Blob(piece.of(&batch.block.bytes, store)),
                Slot::Lossy => return Err(self.lossy(place % width)),
                Slot::Numbered => return Err(self.numbered(place % width)),
            })
        });
        statement.bind(values, unbindable)
    }

    /// The values of the batch's good rows; none where they were not encoded.
    #[inline]
    fn slots<'b>(&self, batch: &'b EncodedBatch) -> &'b [Slot] {
        match batch.encoded.get(self.part) {
            Some(EncodedPart::Slots(slots)) => slots,
            _ => &[],
        }
    }

    fn lossy(&self, column: usize) -> Stopped {
        Stopped::Refused(Why {
            column: Some(self.names[column].clone()),
            ..Why::new(
                Code::Inexact,
                "SQLite would round it: its numbers hold 15 digits of a decimal",
            )
        })
    }

    fn numbered(&self, column: usize) -> Stopped {
        Stopped::Refused(Why {
            column: Some(self.names[column].clone()),
            ..Why::new(
                Code::Required,
                "SQLite would put its own number in place of null",
            )
        })
    }

    /// The good rows of a batch, which have been encoded, that the table would not keep as
    /// they are.
    pub fn unfit(&self, batch: &EncodedBatch) -> Vec<Refusal> {
        let width = self.encodings.len().max(1);
        let each = self.slots(batch).iter().enumerate();
        let unfit = each.filter_map(|(at, slot)| {
            let why = match slot {
                Slot::Lossy => self.lossy(at % width),
                Slot::Numbered => self.numbered(at % width),
                _ => return None,
            };
            match why {
                Stopped::Refused(why) => Some(self.refusal(batch, at / width, why)),
                Stopped::Failed(_) => None,
            }
        });
        unfit.collect()
    }

    pub(super) fn refusal(&self, batch: &EncodedBatch, place: usize, why: Why) -> Refusal {
        let column = why.ends_with(&self.names);
        Refusal {
            part: self.part,
            row: batch.parts[self.part].good[place],
            code: why.code,
            column: why.column.or(column),
            words: escape_for_display(why.words.as_bytes()),
            detail: None,
        }
    }
}

fn sql(part: &RecordTable, rows: usize) -> String {
    let names: Vec<_> = part
        .columns
        .iter()
        .map(|c| DIALECT.quoted(&c.name))
        .collect();
    let row = format!("({})", vec!["?"; names.len()].join(","));
    format!(
        "INSERT OR ABORT INTO {} ({}) VALUES {}",
        DIALECT.quoted(&part.table),
        names.join(","),
        vec![row; rows].join(",")
    )
}

fn unbindable(error: &rusqlite::Error) -> Stopped {
    match error.sqlite_error_code() {
        Some(ErrorCode::TooBig) => Stopped::Refused(Why::new(
            Code::Refused,
            "a value is longer than SQLite takes",
        )),
        _ => Stopped::Failed(explained(error, "inserting rows")),
    }
}

/// Tells a row's fault from the database's.
pub(super) fn stopped(connection: &Connection, error: &rusqlite::Error) -> Stopped {
    let rusqlite::Error::SqliteFailure(failure, words) = error else {
        return Stopped::Failed(explained(error, "inserting rows"));
    };
    let words = words.clone().unwrap_or_else(|| error.to_string());
    match failure.code {
        // "ON CONFLICT ROLLBACK" and RAISE(ROLLBACK) end the whole transaction.
        _ if connection.is_autocommit() => Stopped::Failed(
            Error::new(format!(
                "the table undid the whole load at a row: {}",
                escape_for_display(words.as_bytes())
            ))
            .advice("a constraint or trigger of the table says ROLLBACK; let it say ABORT"),
        ),
        ErrorCode::ConstraintViolation => {
            Stopped::Refused(Why::new(code_of(failure.extended_code), words))
        }
        ErrorCode::TypeMismatch | ErrorCode::TooBig => {
            Stopped::Refused(Why::new(Code::Refused, words))
        }
        // What a trigger, a check or a computed column stumbles over when it runs.
        _ if failure.extended_code == ffi::SQLITE_ERROR => {
            Stopped::Refused(Why::new(Code::Refused, words))
        }
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
