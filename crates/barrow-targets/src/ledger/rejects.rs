//! The table of rejects, beside their files.

use serde::{Deserialize, Serialize};

use super::tables;
use crate::dialect::Dialect;
use crate::error::Error;
use crate::session::Session;
use crate::sql::{Value, marks};

/// The table that a run's rejects are written to as well.
///
/// # Errors
/// The database refuses the statement.
pub fn make_rejects(target: &mut dyn Session, table: &str) -> Result<(), Error> {
    let sql = tables::rejects(target.dialect(), table);
    match target.execute(&sql, &[], "making the table of rejects") {
        Ok(_) => Ok(()),
        Err(_) if target.describe(table)?.is_some() => Ok(()),
        Err(error) => Err(error),
    }
}

/// A reason of a reject, as a row of that table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RejectRow {
    /// The run.
    pub run: String,
    /// The file as people named it.
    pub file: String,
    /// The record's number in its file, 1-based.
    pub record: u64,
    /// Its first line, 1-based.
    pub line: u64,
    /// Where in the file, in bytes, 0-based.
    pub offset: u64,
    /// The column, where it is about one.
    pub column: Option<String>,
    /// The code's word.
    pub code: String,
    /// The value.
    pub value: Option<String>,
    /// What is wrong.
    pub says: String,
    /// What was expected.
    pub expected: String,
    /// The record's bytes as they came.
    pub raw: Vec<u8>,
}

/// Rows that are inserted with one statement: their values are as many as any of the
/// databases takes.
pub const REJECTS_AT_ONCE: usize = 200;

/// Writes reasons to that table.
///
/// # Errors
/// The database refuses the statement.
pub fn write_rejects(
    target: &mut dyn Session,
    table: &str,
    rows: &[RejectRow],
) -> Result<(), Error> {
    let dialect = target.dialect();
    for some in rows.chunks(REJECTS_AT_ONCE) {
        let one = format!("({})", marks(tables::REJECT_COLUMNS.len()));
        let sql = format!(
            "INSERT INTO {} ({}) VALUES {}",
            dialect.table(table),
            tables::REJECT_COLUMNS.map(|c| dialect.quoted(c)).join(", "),
            vec![one.as_str(); some.len()].join(", ")
        );
        let values: Vec<Value> = some
            .iter()
            .flat_map(|row| reject_values(dialect, row))
            .collect();
        target.execute(&sql, &values, "writing the table of rejects")?;
    }
    Ok(())
}

fn reject_values(dialect: Dialect, row: &RejectRow) -> [Value; 11] {
    // What a column of text has no room for, the raw record has.
    let clean = |text: &str| dialect.holdable(text);
    [
        Value::from(row.run.as_str()),
        Value::from(clean(&row.file)),
        Value::count(row.record),
        Value::count(row.line),
        Value::count(row.offset),
        Value::maybe(row.column.as_deref().map(clean)),
        Value::from(row.code.as_str()),
        Value::maybe(row.value.as_deref().map(clean)),
        Value::from(clean(&row.says)),
        Value::from(clean(&row.expected)),
        Value::Bytes(row.raw.clone()),
    ]
}

/// Takes a run's rejects out of that table.
///
/// # Errors
/// The database refuses the statement.
pub fn forget_rejects(target: &mut dyn Session, table: &str, run: &str) -> Result<(), Error> {
    let dialect = target.dialect();
    let sql = format!("DELETE FROM {} WHERE run = ?", dialect.table(table));
    target
        .execute(&sql, &[Value::from(run)], "writing the table of rejects")
        .map(drop)
}
