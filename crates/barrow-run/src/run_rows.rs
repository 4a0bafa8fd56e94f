//! The rows of runs, found again by the column that has their ids.

use barrow_core::escape::escape_for_display;
use barrow_targets::cascade::{self, Deleted, Loss};
use barrow_targets::ledger::{self, File, Outcome, Run};
use barrow_targets::{Session, Value, table};
use serde::{Deserialize, Serialize};

use crate::error::Error;

/// How a run's rows are found again: kept in the ledger as JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct UndoBy {
    /// The column that has the run's id.
    pub column: String,
    /// The tables.
    pub tables: Vec<String>,
}

/// The runs that mended its rejects and whose rows are in the table.
///
/// # Errors
/// The ledger cannot be read.
pub fn mends(session: &mut dyn Session, run: &Run) -> Result<Vec<Run>, Error> {
    let mends = ledger::mends_of(session, &run.run)?;
    Ok(mends
        .into_iter()
        .filter(|mend| mend.outcome == Outcome::Kept)
        .collect())
}

/// How its rows are found.
///
/// # Errors
/// They cannot be: the spec had no column for the run, the rows were merged, or the column is gone.
pub fn by(session: &mut dyn Session, run: &Run) -> Result<UndoBy, Error> {
    let by = run
        .undo_by
        .as_deref()
        .and_then(|by| serde_json::from_str::<UndoBy>(by).ok());
    let Some(by) = by else {
        return Err(Error::request(
            format!(
                "the rows of run {} cannot be found: its spec has no run_column",
                run.run
            ),
            "say [target] run_column for the loads to come; delete these rows by hand, and let the \
             ledger forget the run: barrow undo RUN --forget",
        ));
    };
    if run.mode == "merge" {
        return Err(Error::request(
            format!(
                "run {} merged its rows: those that it changed were there before, and would be lost",
                run.run
            ),
            "load the earlier files again, or correct the rows by hand; --forget makes the ledger \
             forget the run",
        ));
    }
    for table in &by.tables {
        let shown = escape_for_display(table.as_bytes());
        let Some(found) = session.describe(table)? else {
            return Err(Error::request(
                format!("the table {shown} is not there any more"),
                "--forget makes the ledger forget the run",
            ));
        };
        if found.column(&by.column).is_none() {
            return Err(Error::request(
                format!(
                    "the table {shown} has no column {}",
                    escape_for_display(by.column.as_bytes())
                ),
                "delete the rows by hand; --forget makes the ledger forget the run",
            ));
        }
    }
    Ok(by)
}

/// What was deleted with the rows of runs.
#[derive(Debug, Default)]
pub struct TakenOut {
    /// Rows that are gone from each table.
    pub tables: Vec<(String, u64)>,
    /// Files that count as new.
    pub files: u64,
    /// What other tables lost with them.
    pub losses: Vec<Loss>,
}

/// What other tables lose with the rows of a table that have a value in a column, or with all.
///
/// # Errors
/// They lose something, and `may_cascade` is not so; the database cannot be asked.
pub fn losses_of(
    session: &mut dyn Session,
    deleted: Deleted<'_>,
    may_cascade: bool,
) -> Result<Vec<Loss>, Error> {
    let dialect = session.dialect();
    let mut ask =
        |sql: &str, values: &[Value]| session.query(sql, values, "looking for foreign keys");
    Ok(cascade::losses(dialect, &mut ask, deleted, may_cascade)?)
}

/// What other tables lose with the rows of runs that are deleted from all their tables.
///
/// # Errors
/// As [`losses_of`].
pub fn losses_of_runs(
    session: &mut dyn Session,
    runs: &[&Run],
    by: &UndoBy,
    may_cascade: bool,
) -> Result<Vec<Loss>, Error> {
    let mut losses = Vec::new();
    let tables: Vec<&str> = by.tables.iter().map(String::as_str).collect();
    for table in &tables {
        for run in runs {
            let deleted = Deleted {
                table,
                with: Some((&by.column, &run.run)),
                beside: &tables,
            };
            losses.extend(losses_of(session, deleted, may_cascade)?);
        }
    }
    Ok(losses)
}

/// Deletes the rows of runs, and has the ledger say why. Nothing is committed.
///
/// # Errors
/// The database refuses.
pub fn taken_out(
    session: &mut dyn Session,
    runs: &[&Run],
    by: Option<&UndoBy>,
    message: &str,
    rehearses: bool,
    may_cascade: bool,
) -> Result<TakenOut, Error> {
    let mut tables = Vec::new();
    let mut losses = Vec::new();
    // Tables that refer to others come after them in a run, and go before them.
    for table in by
        .iter()
        .flat_map(|by| by.tables.iter().rev().map(|table| (*by, table)))
    {
        let (by, table_name) = table;
        let (name, column) = {
            let dialect = session.dialect();
            (dialect.table(table_name), dialect.quoted(&by.column))
        };
        let mut rows = 0;
        for run in runs {
            let sql = format!("DELETE FROM {name} WHERE {column} = ?");
            let deleted = Deleted {
                table: table_name,
                with: Some((&by.column, &run.run)),
                beside: &[],
            };
            losses.extend(losses_of(session, deleted, may_cascade)?);
            let own = [Value::from(run.run.as_str())];
            rows += session.execute(&sql, &own, "deleting the rows")?;
            let sql = format!("SELECT COUNT(*) FROM {name} WHERE {column} = ?");
            let left = session.query(&sql, &own, "counting the rows that are left")?;
            let left = left.first().and_then(|row| row.first()?.as_count());
            if let Some(left) = left.filter(|left| *left > 0) {
                return Err(table::kept_by_the_database(table_name, left).into());
            }
        }
        tables.push((table_name.clone(), rows));
    }
    tables.reverse();
    let mut files = 0;
    for run in runs {
        for file in ledger::files_of(session, &run.run)? {
            files += u64::from(run.mend_of.is_none() && file.outcome == Outcome::Kept);
            let undone = File {
                outcome: Outcome::Undone,
                committed_to: 0,
                ..file
            };
            if !rehearses {
                ledger::write_file(session, &undone, false)?;
            }
        }
        let undone = Run {
            outcome: Outcome::Undone,
            message: Some(message.to_string()),
            still_open: 0,
            state: None,
            ..(*run).clone()
        };
        if !rehearses {
            ledger::write_run(session, &undone, false)?;
        }
    }
    Ok(TakenOut {
        tables,
        files,
        losses,
    })
}
