//! The ledger's tables, in each kind of SQL.

use crate::dialect::Dialect;
use crate::ledger::{FILES, RUNS};

/// What a column holds.
#[derive(Clone, Copy)]
enum Holds {
    /// At most so many characters.
    Short(u32),
    /// Any text.
    Long,
    /// A number.
    Count,
    /// A moment in UTC, to the millisecond.
    Moment,
    /// Bytes.
    Bytes,
}

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

impl Holds {
    fn declared(self, dialect: Dialect) -> String {
        match (self, dialect) {
            (Holds::Short(_) | Holds::Long | Holds::Moment, Dialect::Sqlite) => "TEXT".into(),
            (Holds::Count, Dialect::Sqlite) => "INTEGER".into(),
            (Holds::Bytes, Dialect::Sqlite) => "BLOB".into(),
            (Holds::Short(n), _) => format!("varchar({n})"),
            (Holds::Long, Dialect::Postgres) => "text".into(),
            (Holds::Long, _) => "longtext".into(),
            (Holds::Count, _) => "bigint".into(),
            (Holds::Moment, Dialect::Postgres) => "timestamp(3)".into(),
            (Holds::Moment, _) => "datetime(3)".into(),
            (Holds::Bytes, Dialect::Postgres) => "bytea".into(),
            (Holds::Bytes, _) => "longblob".into(),
        }
    }
}

/// How a value for a column is marked: moments come as text.
pub fn mark(dialect: Dialect, column: &str) -> &'static str {
    match dialect {
        Dialect::Postgres if MOMENTS.contains(&column) => "CAST(CAST(? AS text) AS timestamp)",
        _ => "?",
    }
}

/// The condition that a value, between commas, is among those of a column, which have commas
/// between them.
pub fn is_among(dialect: Dialect, column: &str) -> String {
    match dialect {
        Dialect::Postgres => format!("STRPOS(', ' || {column} || ', ', CAST(? AS text)) > 0"),
        Dialect::MariaDb => format!("LOCATE(?, CONCAT(', ', {column}, ', ')) > 0"),
        Dialect::Sqlite => format!("INSTR(', ' || {column} || ', ', ?) > 0"),
    }
}

/// How a column is asked for: moments go as text.
pub fn shown(dialect: Dialect, column: &str) -> String {
    match dialect {
        Dialect::Postgres if MOMENTS.contains(&column) => {
            format!("to_char({column}, 'YYYY-MM-DD HH24:MI:SS.MS')")
        }
        Dialect::MariaDb if MOMENTS.contains(&column) => {
            format!("DATE_FORMAT({column}, '%Y-%m-%d %H:%i:%s.%f')")
        }
        _ => column.to_string(),
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
    if dialect == Dialect::MariaDb {
        more.extend(by.map(|(name, columns)| format!("KEY {name} ({columns})")));
    }
    let mut statements = vec![
        table(dialect, RUNS, &runs, &["PRIMARY KEY (run)".into()]),
        table(dialect, FILES, &files, &more),
    ];
    if dialect != Dialect::MariaDb {
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
        format!("{name} {}{required}", holds.declared(dialect))
    };
    let lines: Vec<String> = columns
        .iter()
        .map(column)
        .chain(more.iter().cloned())
        .collect();
    // Names of files and columns differ by capitals, and have any letters.
    let ending = match dialect {
        Dialect::MariaDb => " ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
        _ => "",
    };
    format!(
        "CREATE TABLE IF NOT EXISTS {name} ({}){ending}",
        lines.join(", ")
    )
}
