//! The ledger's tables, in each kind of SQL.

use super::columns::{Column, FILE_COLUMNS, RUN_COLUMNS};
use super::{FILES, RUNS, Run};
use crate::dialect::{Dialect, Holds};

/// The columns of the table of rejects.
pub const REJECT_COLUMNS: [&str; 11] = [
    "run",
    "file",
    "record",
    "line",
    "byte_offset",
    "column_name",
    "code",
    "value",
    "says",
    "expected",
    "raw",
];

/// How a value for a column of the runs or files is marked.
pub fn mark(dialect: Dialect, column: &str) -> &'static str {
    let holds_moment = |c: &Column<Run>| c.name == column && c.holds == Holds::Moment;
    match RUN_COLUMNS.iter().any(holds_moment) {
        true => dialect.moment_mark(),
        false => "?",
    }
}

/// The condition that a value, between commas, is among those of a column, which have commas
/// between them.
pub fn is_among(dialect: Dialect, column: &str) -> String {
    let between_commas = dialect.joined(&["', '", column, "', '"]);
    format!("{} > 0", dialect.place_in(&between_commas))
}

/// What makes the ledger.
pub fn statements(dialect: Dialect) -> Vec<String> {
    let key = "CONSTRAINT barrow_files_once_key UNIQUE (once_key)";
    let by = [
        ("barrow_files_by_sample", "table_key, sample"),
        ("barrow_files_by_name", "table_key, file_name"),
    ];
    let mut more = vec!["PRIMARY KEY (run, number)".to_string(), key.to_string()];
    if !dialect.has_create_index_if_missing() {
        more.extend(by.map(|(name, columns)| format!("KEY {name} ({columns})")));
    }
    let mut statements = vec![
        table(
            dialect,
            RUNS,
            &declared(&RUN_COLUMNS),
            &["PRIMARY KEY (run)".into()],
        ),
        table(dialect, FILES, &declared(&FILE_COLUMNS), &more),
    ];
    if dialect.has_create_index_if_missing() {
        let index =
            |(name, columns)| format!("CREATE INDEX IF NOT EXISTS {name} ON {FILES} ({columns})");
        statements.extend(by.map(index));
    }
    statements
}

fn declared<R>(columns: &[Column<R>]) -> Vec<(&str, Holds, bool)> {
    let declared = |column: &Column<R>| (column.name, column.holds, column.required);
    columns.iter().map(declared).collect()
}

/// What makes a table of rejects.
pub fn rejects(dialect: Dialect, name: &str) -> String {
    use Holds::{Bytes, Count, Long, Short};
    let holds = [
        Short(32),
        Long,
        Count,
        Count,
        Count,
        Long,
        Short(64),
        Long,
        Long,
        Long,
        Bytes,
    ];
    let quoted = REJECT_COLUMNS.map(|column| dialect.quoted(column));
    let columns: Vec<(&str, Holds, bool)> = quoted
        .iter()
        .zip(holds)
        .map(|(column, holds)| (column.as_str(), holds, false))
        .collect();
    table(dialect, &dialect.table(name), &columns, &[])
}

fn table(dialect: Dialect, name: &str, columns: &[(&str, Holds, bool)], more: &[String]) -> String {
    let column = |(name, holds, required): &(&str, Holds, bool)| {
        let required = if *required { " NOT NULL" } else { "" };
        format!("{name} {}{required}", dialect.ledger_type(*holds))
    };
    let lines: Vec<String> = columns
        .iter()
        .map(column)
        .chain(more.iter().cloned())
        .collect();
    let ending = dialect.ledger_table_options();
    format!(
        "CREATE TABLE IF NOT EXISTS {name} ({}){ending}",
        lines.join(", ")
    )
}
