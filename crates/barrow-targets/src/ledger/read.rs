//! Reading runs and their files.

use super::columns::{Column, FILE_COLUMNS, RUN_COLUMNS, row};
use super::{FILES, File, RUNS, Run, tables};
use crate::dialect::{Dialect, Holds};
use crate::error::Error;
use crate::session::Session;
use crate::sql::{Value, marks};

/// An id has so many characters.
const ID: usize = 12;

/// How many values one query asks for.
const AT_ONCE: usize = 1000;

/// What nobody asks of a file to tell whether it is known: of ten thousand files it was three
/// tenths of what the answer took.
const NOT_TOLD: [&str; 7] = [
    "table_name",
    "table_key",
    "records",
    "filtered",
    "rolled_back",
    "repaired",
    "other_lines",
];

/// The files that were loaded into a table and have one of these samples or names, each once,
/// the oldest first. Of their counts they have those of the loaded and the rejected records;
/// [`files_of`] has all.
///
/// # Errors
/// The database cannot be asked.
pub fn known_files(
    target: &mut dyn Session,
    table_key: &str,
    samples: &[String],
    names: &[String],
) -> Result<Vec<File>, Error> {
    let mut found = Vec::new();
    for (column, wanted) in [("sample", samples), ("file_name", names)] {
        for some in wanted.chunks(AT_ONCE) {
            let condition = format!(
                "table_key = ? AND outcome IN ('committed', 'in progress') AND {column} IN ({})",
                marks(some.len())
            );
            let mut values = vec![Value::from(table_key)];
            values.extend(some.iter().map(|one| Value::from(one.as_str())));
            found.extend(files_where(target, is_told, &condition, &values)?);
        }
    }
    found.sort_by(|a: &File, b: &File| (&a.run, a.number).cmp(&(&b.run, b.number)));
    found.dedup_by(|a, b| a.run == b.run && a.number == b.number);
    Ok(found)
}

/// The files that were exported from a table and have one of these names, as [`known_files`].
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
        found.extend(files_where(target, is_told, &condition, &values)?);
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
    let key = super::once_key(table_key, content);
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
    files_where(
        target,
        |_| true,
        "run = ? ORDER BY number",
        &[Value::from(run)],
    )
}

fn is_told(column: &Column<File>) -> bool {
    !NOT_TOLD.contains(&column.name)
}

fn files_where(
    target: &mut dyn Session,
    is_asked: fn(&Column<File>) -> bool,
    condition: &str,
    values: &[Value],
) -> Result<Vec<File>, Error> {
    let files = super::named(target, FILES)?;
    let asked = FILE_COLUMNS.iter().filter(|column| is_asked(column));
    let asked: Vec<&'static Column<File>> = asked.collect();
    let columns = shown(target.dialect(), asked.iter().copied());
    let sql = format!("SELECT {columns} FROM {files} WHERE {condition}");
    let rows = target.query(&sql, values, "reading the ledger")?;
    rows.iter()
        .map(|values| row(asked.iter().copied(), values))
        .collect()
}

/// The columns of a table as they are asked for.
fn shown<R: 'static>(
    dialect: Dialect,
    columns: impl IntoIterator<Item = &'static Column<R>>,
) -> String {
    let shown = |column: &Column<R>| match column.holds {
        Holds::Moment => dialect.moment_text(column.name),
        _ => column.name.to_string(),
    };
    let all: Vec<String> = columns.into_iter().map(shown).collect();
    all.join(", ")
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
    /// Only runs into these tables that are committed and have something left to be done.
    pub owing_in: Option<String>,
    /// At most so many.
    pub limit: Option<u64>,
}

/// The runs that mended the rejects of a run, the oldest first.
///
/// # Errors
/// The database cannot be asked.
pub fn mends_of(target: &mut dyn Session, of: &str) -> Result<Vec<Run>, Error> {
    let columns = shown(target.dialect(), &RUN_COLUMNS);
    let runs = super::named(target, RUNS)?;
    let sql = format!("SELECT {columns} FROM {runs} WHERE mend_of = ? ORDER BY started_at, run");
    let rows = target.query(&sql, &[Value::from(of)], "reading the ledger")?;
    rows.iter()
        .map(|values| row(&RUN_COLUMNS, values))
        .collect()
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
    if let Some(table_key) = &wanted.owing_in {
        conditions.push("outcome = 'committed' AND state IS NOT NULL AND table_key = ?".into());
        values.push(Value::from(table_key.as_str()));
    }
    if wanted.failed {
        conditions.push("outcome NOT IN ('committed', 'exported')".into());
    }
    let columns = shown(dialect, &RUN_COLUMNS);
    let limit = wanted
        .limit
        .map_or(String::new(), |n| format!(" LIMIT {n}"));
    let runs = super::named(target, RUNS)?;
    let sql = format!(
        "SELECT {columns} FROM {runs} WHERE {} ORDER BY started_at DESC, run{limit}",
        conditions.join(" AND ")
    );
    let rows = target.query(&sql, &values, "reading the ledger")?;
    rows.iter()
        .map(|values| row(&RUN_COLUMNS, values))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_told_are_columns_of_the_files() {
        let told = FILE_COLUMNS.iter().filter(|column| is_told(column));
        assert_eq!(told.count(), FILE_COLUMNS.len() - NOT_TOLD.len());
    }
}
