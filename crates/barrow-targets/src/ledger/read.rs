//! Reading runs and their files.

use std::collections::HashMap;

use super::{Counts, FILES, File, Outcome, RUNS, Run, tables};
use crate::Target;
use crate::asking::{Value, marks};
use crate::error::Error;

/// An id has so many characters.
const ID: usize = 8;

/// So many values are asked for at once.
const AT_ONCE: usize = 200;

/// The files that were loaded into a table and have one of these samples or names.
///
/// # Errors
/// The database cannot be asked.
pub fn known_files(
    target: &mut dyn Target,
    table_key: &str,
    samples: &[String],
    names: &[String],
) -> Result<Vec<File>, Error> {
    let mut found: HashMap<(String, u64), File> = HashMap::new();
    for (column, wanted) in [("sample", samples), ("file_name", names)] {
        for some in wanted.chunks(AT_ONCE) {
            let condition = format!(
                "table_key = ? AND outcome IN ('kept', 'going') AND {column} IN ({})",
                marks(some.len())
            );
            let mut values = vec![Value::from(table_key)];
            values.extend(some.iter().map(|one| Value::from(one.as_str())));
            for file in files_where(target, &condition, &values)? {
                found.insert((file.run.clone(), file.number), file);
            }
        }
    }
    Ok(found.into_values().collect())
}

/// The files of a run, in their order.
///
/// # Errors
/// The database cannot be asked.
pub fn files_of(target: &mut dyn Target, run: &str) -> Result<Vec<File>, Error> {
    files_where(target, "run = ?", &[Value::from(run)])
}

const FILE_COLUMNS: &str = "run, number, path, file_name, table_name, table_key, stored_bytes, \
                            sample, content, outcome, committed_to, total_read, loaded, rejected, \
                            left_out, repaired, not_kept, once_key";

fn files_where(
    target: &mut dyn Target,
    condition: &str,
    values: &[Value],
) -> Result<Vec<File>, Error> {
    let sql = format!("SELECT {FILE_COLUMNS} FROM {FILES} WHERE {condition} ORDER BY run, number");
    let rows = target.ask(&sql, values, "reading the ledger")?;
    Ok(rows.iter().map(|row| file(row)).collect())
}

fn text(value: &Value) -> String {
    value.as_text().unwrap_or_default().to_string()
}

fn maybe(value: &Value) -> Option<String> {
    value.as_text().map(str::to_string)
}

fn counts(values: &[Value]) -> Counts {
    let count = |at: usize| values[at].as_count();
    Counts {
        read: count(0),
        loaded: count(1),
        rejected: count(2),
        left_out: count(3),
        repaired: count(4),
        not_kept: count(5),
    }
}

fn file(row: &[Value]) -> File {
    File {
        run: text(&row[0]),
        number: row[1].as_count(),
        path: text(&row[2]),
        name: text(&row[3]),
        table: text(&row[4]),
        table_key: text(&row[5]),
        bytes: row[6].as_count(),
        sample: maybe(&row[7]),
        content: maybe(&row[8]),
        outcome: Outcome::of(&text(&row[9])),
        committed_to: row[10].as_count(),
        counts: counts(&row[11..17]),
        once: row[17] != Value::Null,
    }
}

/// Which runs to list.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Runs whose id begins so.
    pub run: Option<String>,
    /// Runs into this table, as the spec named it.
    pub table: Option<String>,
    /// Runs that began at this moment or later: `2031-04-03 08:05:09`.
    pub since: Option<String>,
    /// Only runs whose rows are not in the table.
    pub failed: bool,
    /// At most so many.
    pub limit: Option<u64>,
}

/// The runs that mended the rejects of a run, the oldest first.
///
/// # Errors
/// The database cannot be asked.
pub fn mends_of(target: &mut dyn Target, of: &str) -> Result<Vec<Run>, Error> {
    let columns = RUN_COLUMNS.map(|column| tables::shown(target.dialect(), column));
    let sql = format!(
        "SELECT {} FROM {RUNS} WHERE mend_of = ? ORDER BY started_at, run",
        columns.join(", ")
    );
    let rows = target.ask(&sql, &[Value::from(of)], "reading the ledger")?;
    Ok(rows.iter().map(|row| run(row)).collect())
}

/// Runs, the newest first.
///
/// # Errors
/// The database cannot be asked.
pub fn runs(target: &mut dyn Target, wanted: &Wanted) -> Result<Vec<Run>, Error> {
    let dialect = target.dialect();
    let mut conditions = vec!["1 = 1".to_string()];
    let mut values = Vec::new();
    if let Some(run) = &wanted.run {
        // A whole id is found by the table's key.
        conditions.push(match run.chars().count() {
            ID.. => "run = ?".to_string(),
            some => format!("SUBSTR(run, 1, {some}) = ?"),
        });
        values.push(Value::from(run.as_str()));
    }
    if let Some(table) = &wanted.table {
        conditions.push("table_name = ?".into());
        values.push(Value::from(table.as_str()));
    }
    if let Some(since) = &wanted.since {
        conditions.push(format!(
            "started_at >= {}",
            tables::mark(dialect, "started_at")
        ));
        values.push(Value::from(since.as_str()));
    }
    if wanted.failed {
        conditions.push("outcome NOT IN ('kept', 'exported')".into());
    }
    let columns = RUN_COLUMNS.map(|column| tables::shown(dialect, column));
    let limit = wanted
        .limit
        .map_or(String::new(), |n| format!(" LIMIT {n}"));
    let sql = format!(
        "SELECT {} FROM {RUNS} WHERE {} ORDER BY started_at DESC, run{limit}",
        columns.join(", "),
        conditions.join(" AND ")
    );
    let rows = target.ask(&sql, &values, "reading the ledger")?;
    Ok(rows.iter().map(|row| run(row)).collect())
}

const RUN_COLUMNS: [&str; 27] = [
    "run",
    "spec",
    "spec_hash",
    "table_name",
    "table_key",
    "load_mode",
    "who",
    "host",
    "started_at",
    "ended_at",
    "outcome",
    "message",
    "files",
    "total_read",
    "loaded",
    "rejected",
    "left_out",
    "repaired",
    "not_kept",
    "mended",
    "given_up",
    "still_open",
    "rejects_folder",
    "reasons",
    "mend_of",
    "state",
    "version",
];

fn run(row: &[Value]) -> Run {
    Run {
        run: text(&row[0]),
        spec: text(&row[1]),
        spec_hash: text(&row[2]),
        table: text(&row[3]),
        table_key: text(&row[4]),
        mode: text(&row[5]),
        who: text(&row[6]),
        host: text(&row[7]),
        started_at: text(&row[8]),
        ended_at: text(&row[9]),
        outcome: Outcome::of(&text(&row[10])),
        message: maybe(&row[11]),
        files: row[12].as_count(),
        counts: counts(&row[13..19]),
        mended: row[19].as_count(),
        given_up: row[20].as_count(),
        still_open: row[21].as_count(),
        rejects_folder: maybe(&row[22]),
        reasons: maybe(&row[23]),
        mend_of: maybe(&row[24]),
        state: maybe(&row[25]),
        version: text(&row[26]),
    }
}
