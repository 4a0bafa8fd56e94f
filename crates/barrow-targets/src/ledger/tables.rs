//! The ledger's tables, in each kind of SQL.

use crate::dialect::{Dialect, Holds};
use crate::ledger::{FILES, RUNS};

/// The columns that hold a moment.
const MOMENTS: [&str; 2] = ["started_at", "ended_at"];

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

/// How a value for a column is marked.
pub fn mark(dialect: Dialect, column: &str) -> &'static str {
    match MOMENTS.contains(&column) {
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

/// How a column is asked for.
pub fn shown(dialect: Dialect, column: &str) -> String {
    match MOMENTS.contains(&column) {
        true => dialect.moment_text(column),
        false => column.to_string(),
    }
}

/// What makes the ledger.
pub fn statements(dialect: Dialect) -> Vec<String> {
    use Holds::{Count, Long, Moment, Short};
    let runs = [
        ("run", Short(32), true),
        ("spec", Long, true),
        ("spec_hash", Short(32), true),
        ("table_name", Long, true),
        ("table_key", Short(32), true),
        ("load_mode", Short(16), true),
        ("who", Long, true),
        ("host", Long, true),
        ("started_at", Moment, true),
        ("ended_at", Moment, true),
        ("outcome", Short(16), true),
        ("message", Long, false),
        ("files", Count, true),
        ("total_read", Count, true),
        ("loaded", Count, true),
        ("rejected", Count, true),
        ("skipped", Count, true),
        ("repaired", Count, true),
        ("rolled_back", Count, true),
        ("mended", Count, true),
        ("given_up", Count, true),
        ("still_open", Count, true),
        ("rejects_folder", Long, false),
        ("reasons", Long, false),
        ("mend_of", Short(32), false),
        ("state", Long, false),
        ("version", Short(32), true),
    ];
    let files = [
        ("run", Short(32), true),
        ("number", Count, true),
        ("path", Long, true),
        ("file_name", Short(255), true),
        ("table_name", Long, true),
        ("table_key", Short(32), true),
        ("stored_bytes", Count, true),
        ("sample", Short(32), false),
        ("content", Short(32), false),
        ("once_key", Short(32), false),
        ("outcome", Short(16), true),
        ("committed_to", Count, true),
        ("total_read", Count, true),
        ("loaded", Count, true),
        ("rejected", Count, true),
        ("skipped", Count, true),
        ("repaired", Count, true),
        ("rolled_back", Count, true),
    ];
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
        table(dialect, RUNS, &runs, &["PRIMARY KEY (run)".into()]),
        table(dialect, FILES, &files, &more),
    ];
    if dialect.has_create_index_if_missing() {
        let index =
            |(name, columns)| format!("CREATE INDEX IF NOT EXISTS {name} ON {FILES} ({columns})");
        statements.extend(by.map(index));
    }
    statements
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
