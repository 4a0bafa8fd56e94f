//! Writing runs and their files.

use super::columns::{Column, FILE_COLUMNS, RUN_COLUMNS};
use super::{FILES, File, RUNS, Run, tables};
use crate::error::{Error, ErrorKind};
use crate::session::Session;
use crate::sql::{Value, marks};

/// Writes a run: anew, or what has changed of it.
///
/// # Errors
/// The database refuses the statement.
pub fn write_run(target: &mut dyn Session, run: &Run, is_new: bool) -> Result<(), Error> {
    write(target, RUNS, values(&RUN_COLUMNS, run), 1, is_new)
}

/// Writes a file of a run: anew, or what has changed of it.
///
/// # Errors
/// The database refuses it: another load has put the same content into the same
/// table, for one.
pub fn write_file(target: &mut dyn Session, file: &File, is_new: bool) -> Result<(), Error> {
    let written = write(target, FILES, values(&FILE_COLUMNS, file), 2, is_new);
    written.map_err(|error| match error.kind == ErrorKind::Duplicate {
        true => error.advice(format!(
            "another load put the content of {} into the table in the same moment; run this \
             again, and it is passed over",
            file.name
        )),
        false => error,
    })
}

/// The values of a row, by the columns' names.
fn values<R>(columns: &[Column<R>], row: &R) -> Vec<(&'static str, Value)> {
    let value = |column: &Column<R>| (column.name, (column.write)(row));
    columns.iter().map(value).collect()
}

/// Inserts a row, or changes the one whose first `keys` values are the same.
fn write(
    target: &mut dyn Session,
    table: &str,
    values: Vec<(&str, Value)>,
    keys: usize,
    is_new: bool,
) -> Result<(), Error> {
    let table = super::named(target, table)?;
    let dialect = target.dialect();
    let mark = |column: &str| tables::mark(dialect, column);
    let (sql, values): (String, Vec<Value>) = if is_new {
        let columns: Vec<&str> = values.iter().map(|(column, _)| *column).collect();
        let marks: Vec<&str> = columns.iter().map(|column| mark(column)).collect();
        let (columns, marks) = (columns.join(", "), marks.join(", "));
        (
            format!("INSERT INTO {table} ({columns}) VALUES ({marks})"),
            values.into_iter().map(|(_, value)| value).collect(),
        )
    } else {
        let set = |(column, _): &(&str, Value)| format!("{column} = {}", mark(column));
        let sets: Vec<String> = values[keys..].iter().map(set).collect();
        let are: Vec<String> = values[..keys].iter().map(set).collect();
        let (changed, kept) = (&values[keys..], &values[..keys]);
        (
            format!(
                "UPDATE {table} SET {} WHERE {}",
                sets.join(", "),
                are.join(" AND ")
            ),
            changed.iter().chain(kept).map(|(_, v)| v.clone()).collect(),
        )
    };
    target
        .execute(&sql, &values, "writing the ledger")
        .map(drop)
}

/// Notes that the rows of all runs but these are no longer in the table. Returns how many
/// files that was.
///
/// # Errors
/// The database refuses the statement.
pub fn emptied(target: &mut dyn Session, table_key: &str, but: &[&str]) -> Result<u64, Error> {
    let files = super::named(target, FILES)?;
    let but_these = match but.len() {
        0 => String::new(),
        some => format!("AND run NOT IN ({}) ", marks(some)),
    };
    let sql = format!(
        "UPDATE {files} SET outcome = 'emptied', once_key = NULL \
         WHERE table_key = ? {but_these}AND outcome IN ('committed', 'in progress')"
    );
    let but = but.iter().map(|run| Value::from(*run));
    let values: Vec<Value> = std::iter::once(Value::from(table_key)).chain(but).collect();
    target.execute(&sql, &values, "writing the ledger")
}
