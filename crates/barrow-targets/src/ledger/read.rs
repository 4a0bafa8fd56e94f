//! Reading runs and their files.

use std::collections::HashMap;

use super::{Counts, FILES, File, Outcome, RUNS, Run, tables};
use crate::asking::{Value, marks};
use crate::error::Error;
use crate::session::Session;

/// An id has so many characters.
const ID: usize = 12;

/// So many values are asked for at once.
const AT_ONCE: usize = 200;

/// The files that were loaded into a table and have one of these samples or names.
///
/// # Errors
/// The database cannot be asked.
pub fn known_files(
    target: &mut dyn Session,
    table_key: &str,
    samples: &[String],
    names: &[String],
) -> Result<Vec<File>, Error> {
    let mut found: HashMap<(String, u64), File> = HashMap::new();
    for (column, wanted) in [("sample", samples), ("file_name", names)] {
        for some in wanted.chunks(AT_ONCE) {
            let condition = format!(
                "table_key = ? AND outcome IN ('committed', 'in progress') AND {column} IN ({})",
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

/// The files that were exported from a table and have one of these names.
///
/// # Errors
/// The database cannot be asked.
pub fn exported_files(
    target: &mut dyn Session,
    export_key: &str,
    names: &[String],
) -> Result<Vec<File>, Error> {
    let mut found = Vec::new();
    for some in names.chunks(AT_ONCE) {
        let condition = format!(
            "table_key = ? AND outcome = 'exported' AND file_name IN ({})",
            marks(some.len())
        );
        let mut values = vec![Value::from(export_key)];
        values.extend(some.iter().map(|one| Value::from(one.as_str())));
        found.extend(files_where(target, &condition, &values)?);
    }
    Ok(found)
}

/// The run that loaded a content into the tables that a key stands for, if one did.
///
/// # Errors
/// The database cannot be asked.
pub fn run_of_content(
    target: &mut dyn Session,
    table_key: &str,
    content: &str,
) -> Result<Option<Run>, Error> {
    let files = super::named(target, FILES)?;
    let sql = format!("SELECT run FROM {files} WHERE once_key = ?");
    let key = super::write::once_key(table_key, content);
    let found = target.query(&sql, &[Value::from(key)], "reading the ledger")?;
    let Some(run) = found.first().and_then(|row| row[0].as_text()) else {
        return Ok(None);
    };
    let wanted = Wanted {
        run: Some(run.to_string()),
        ..Wanted::default()
    };
    Ok(runs(target, &wanted)?.pop())
}

/// The files of a run, in their order.
///
/// # Errors
/// The database cannot be asked.
pub fn files_of(target: &mut dyn Session, run: &str) -> Result<Vec<File>, Error> {
    files_where(target, "run = ?", &[Value::from(run)])
}

const FILE_COLUMNS: &str = "run, number, path, file_name, table_name, table_key, stored_bytes, \
                            sample, content, outcome, committed_to, total_read, loaded, rejected, \
                            skipped, repaired, rolled_back, once_key";

fn files_where(
    target: &mut dyn Session,
    condition: &str,
    values: &[Value],
) -> Result<Vec<File>, Error> {
    let files = super::named(target, FILES)?;
    let sql = format!("SELECT {FILE_COLUMNS} FROM {files} WHERE {condition} ORDER BY run, number");
    let rows = target.query(&sql, values, "reading the ledger")?;
    rows.iter().map(|row| file(row)).collect()
}

fn text(value: &Value) -> String {
    value.as_text().unwrap_or_default().to_string()
}

fn maybe(value: &Value) -> Option<String> {
    value.as_text().map(str::to_string)
}

fn counts(values: &[Value]) -> Result<Counts, Error> {
    Ok(Counts {
        read: count(&values[0])?,
        loaded: count(&values[1])?,
        rejected: count(&values[2])?,
        left_out: count(&values[3])?,
        repaired: count(&values[4])?,
        not_kept: count(&values[5])?,
    })
}

/// What is not understood is not taken for something else: a file might be loaded twice.
fn strange(what: &str, value: &Value) -> Error {
    Error::new(format!(
        "the ledger has the {what} {value:?}, which this version of barrow does not know"
    ))
    .advice("was it written by a newer version? use that one")
}

fn count(value: &Value) -> Result<u64, Error> {
    value.as_count().ok_or_else(|| strange("count", value))
}

fn outcome(value: &Value) -> Result<Outcome, Error> {
    let word = value.as_text().unwrap_or_default();
    Outcome::of(word).ok_or_else(|| strange("outcome", value))
}

fn file(row: &[Value]) -> Result<File, Error> {
    Ok(File {
        run: text(&row[0]),
        number: count(&row[1])?,
        path: text(&row[2]),
        name: text(&row[3]),
        table: text(&row[4]),
        table_key: text(&row[5]),
        bytes: count(&row[6])?,
        sample: maybe(&row[7]),
        content: maybe(&row[8]),
        outcome: outcome(&row[9])?,
        committed_to: count(&row[10])?,
        counts: counts(&row[11..17])?,
        once: row[17] != Value::Null,
    })
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
    /// Only runs that are going, into the tables that this stands for.
    pub going_into: Option<String>,
    /// At most so many.
    pub limit: Option<u64>,
}

/// The runs that mended the rejects of a run, the oldest first.
///
/// # Errors
/// The database cannot be asked.
pub fn mends_of(target: &mut dyn Session, of: &str) -> Result<Vec<Run>, Error> {
    let columns = RUN_COLUMNS.map(|column| tables::shown(target.dialect(), column));
    let runs = super::named(target, RUNS)?;
    let sql = format!(
        "SELECT {} FROM {runs} WHERE mend_of = ? ORDER BY started_at, run",
        columns.join(", ")
    );
    let rows = target.query(&sql, &[Value::from(of)], "reading the ledger")?;
    rows.iter().map(|row| run(row)).collect()
}

/// Runs, the newest first.
///
/// # Errors
/// The database cannot be asked.
pub fn runs(target: &mut dyn Session, wanted: &Wanted) -> Result<Vec<Run>, Error> {
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
        // A run may have several tables, with commas between.
        conditions.push(tables::is_among(dialect, "table_name"));
        values.push(Value::from(format!(", {table}, ")));
    }
    if let Some(since) = &wanted.since {
        conditions.push(format!(
            "started_at >= {}",
            tables::mark(dialect, "started_at")
        ));
        values.push(Value::from(since.as_str()));
    }
    if let Some(table_key) = &wanted.going_into {
        conditions.push("outcome = 'in progress' AND table_key = ?".into());
        values.push(Value::from(table_key.as_str()));
    }
    if wanted.failed {
        conditions.push("outcome NOT IN ('committed', 'exported')".into());
    }
    let columns = RUN_COLUMNS.map(|column| tables::shown(dialect, column));
    let limit = wanted
        .limit
        .map_or(String::new(), |n| format!(" LIMIT {n}"));
    let runs = super::named(target, RUNS)?;
    let sql = format!(
        "SELECT {} FROM {runs} WHERE {} ORDER BY started_at DESC, run{limit}",
        columns.join(", "),
        conditions.join(" AND ")
    );
    let rows = target.query(&sql, &values, "reading the ledger")?;
    rows.iter().map(|row| run(row)).collect()
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
    "skipped",
    "repaired",
    "rolled_back",
    "mended",
    "given_up",
    "still_open",
    "rejects_folder",
    "reasons",
    "mend_of",
    "state",
    "version",
];

fn run(row: &[Value]) -> Result<Run, Error> {
    Ok(Run {
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
        outcome: outcome(&row[10])?,
        message: maybe(&row[11]),
        files: count(&row[12])?,
        counts: counts(&row[13..19])?,
        mended: count(&row[19])?,
        given_up: count(&row[20])?,
        still_open: count(&row[21])?,
        rejects_folder: maybe(&row[22]),
        reasons: maybe(&row[23]),
        mend_of: maybe(&row[24]),
        state: maybe(&row[25]),
        version: text(&row[26]),
    })
}
