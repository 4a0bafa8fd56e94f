//! Rows of a plain table, taken by a function of ours within the statement.
//!
//! A value that a statement gives back is asked for by three calls, each of which looks for
//! its row and its lock again; one that a function is given is there. So
//! `SELECT barrow_take(a, b) FROM t` puts the values where they belong while it steps, and
//! an export takes 0.85 of the time. It is done for a table alone: where rows are sorted,
//! the function might be called before.

use std::cell::RefCell;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::{Connection, OptionalExtension};

use super::DIALECT;
use super::errors::explained;
use super::raw::put;
use crate::error::Error;
use crate::query::Select;
use crate::query_rows::RawRows;

const FUNCTION: &str = "barrow_take";

/// How many arguments a function may have in every SQLite that was not built for fewer
/// ("Limits in SQLite", 6).
const MOST: usize = 100;

/// The statement that has the function take the rows; none where more is asked for than the
/// columns of a table.
pub fn statement(connection: &Connection, select: &Select) -> rusqlite::Result<Option<String>> {
    if !select.is_whole_table() || select.columns.len() > MOST {
        return Ok(None);
    }
    let names: Vec<String> = select.columns.iter().map(|n| DIALECT.quoted(n)).collect();
    let is_table = "SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ? COLLATE NOCASE";
    let found: Option<i64> = connection
        .query_row(is_table, [&select.table], |row| row.get(0))
        .optional()?;
    let table = DIALECT.quoted(&select.table);
    let taking = format!("SELECT {FUNCTION}({}) FROM {table}", names.join(", "));
    Ok(found.map(|_| taking))
}

/// Rows that fill a batch, until they are given on.
#[derive(Default)]
struct Slot {
    is_full: AtomicBool,
    rows: Mutex<RawRows>,
}

/// Steps through the statement, and gives the rows that its function takes.
///
/// # Errors
/// SQLite's own, or it stepped through more or fewer rows than the function was called for.
pub fn give(
    connection: &Connection,
    taking: &str,
    give: &mut dyn FnMut(&mut RawRows) -> bool,
) -> Result<(), Error> {
    let failed = |e| explained(&e, "reading the rows");
    let slot = Arc::new(Slot::default());
    let filling = RefCell::new(RawRows::default());
    let shared = slot.clone();
    let take = move |values: &mut Context<'_>| -> rusqlite::Result<Option<i64>> {
        let rows = &mut *filling.borrow_mut();
        for value in 0..values.len() {
            put(values.get_raw(value), rows);
        }
        // Called without values, it gives what it has.
        if values.is_empty() || rows.end_row() {
            std::mem::swap(
                rows,
                &mut shared.rows.lock().unwrap_or_else(PoisonError::into_inner),
            );
            shared.is_full.store(true, Ordering::Relaxed);
        }
        Ok(None)
    };
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DIRECTONLY;
    connection
        .create_scalar_function(FUNCTION, -1, flags, take)
        .map_err(failed)?;
    let (mut stepped, mut taken) = (0, 0);
    let mut hand_over = || {
        slot.is_full.store(false, Ordering::Relaxed);
        let mut rows = slot.rows.lock().unwrap_or_else(PoisonError::into_inner);
        taken += rows.ends.len();
        rows.ends.is_empty() || give(&mut rows)
    };
    for (sql, count) in [(taking, 1), (&format!("SELECT {FUNCTION}()"), 0)] {
        let mut statement = connection.prepare(sql).map_err(failed)?;
        let mut rows = statement.query([]).map_err(failed)?;
        while rows.next().map_err(failed)?.is_some() {
            stepped += count;
            if slot.is_full.load(Ordering::Relaxed) && !hand_over() {
                return Ok(());
            }
        }
    }
    match stepped == taken {
        true => Ok(()),
        false => Err(Error::new(format!(
            "SQLite has {stepped} rows and gave {taken} of them"
        ))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tables() -> Connection {
        let connection = Connection::open_in_memory().unwrap();
        let sql = "CREATE TABLE \"a\"\"b\" (x TEXT, y INTEGER); \
                   CREATE VIEW v AS SELECT x, y FROM \"a\"\"b\" ORDER BY y DESC";
        connection.execute_batch(sql).unwrap();
        connection
    }

    #[test]
    fn only_a_table_alone_is_taken_so() {
        let connection = tables();
        let select = |table: &str| Select {
            table: table.into(),
            columns: vec!["x".into(), "y".into()],
            ..Select::default()
        };
        let taking = |select: Select| statement(&connection, &select).unwrap();
        assert_eq!(
            taking(select("a\"b")).as_deref(),
            Some("SELECT barrow_take(\"x\", \"y\") FROM \"a\"\"b\"")
        );
        let sorted = Select {
            order: Some("\"y\"".into()),
            ..select("a\"b")
        };
        let some = Select {
            condition: Some("x > \"y\"".into()),
            ..select("a\"b")
        };
        for select in [select("v"), select("none"), sorted, some] {
            assert_eq!(taking(select.clone()), None, "{select:?}");
        }
    }

    #[test]
    fn all_rows_come_in_their_order_in_batches() {
        let connection = tables();
        let sql = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 40000) \
                   INSERT INTO \"a\"\"b\" SELECT 'row ' || i, i FROM n";
        connection.execute_batch(sql).unwrap();
        let select = Select {
            table: "a\"b".into(),
            columns: vec!["x".into(), "y".into()],
            ..Select::default()
        };
        let taking = statement(&connection, &select);
        let (mut text, mut counts) = (Vec::new(), Vec::new());
        let mut keep = |rows: &mut RawRows| {
            text.extend_from_slice(&rows.text);
            counts.push(rows.ends.len());
            rows.clear();
            true
        };
        give(&connection, &taking.unwrap().unwrap(), &mut keep).unwrap();
        let wanted: String = (1..=40_000).map(|i| format!("row {i}")).collect();
        assert!(text == wanted.as_bytes());
        assert!(counts.len() > 2, "{counts:?}");
        assert_eq!(counts.iter().sum::<usize>(), 40_000);
    }

    #[test]
    fn nobody_who_wants_no_more_gets_more() {
        let connection = tables();
        connection
            .execute_batch("INSERT INTO \"a\"\"b\" VALUES ('x', 1), ('y', 2)")
            .unwrap();
        let mut times = 0;
        let mut once = |_: &mut RawRows| {
            times += 1;
            false
        };
        give(
            &connection,
            "SELECT barrow_take(x) FROM \"a\"\"b\"",
            &mut once,
        )
        .unwrap();
        assert_eq!(times, 1);
    }
}
