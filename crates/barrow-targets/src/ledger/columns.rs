//! The columns of the ledger's tables, each once: what it holds, how a run or file is written
//! to it, and how it is read from it.

use super::{File, Outcome, Run};
use crate::dialect::Holds;
use crate::error::Error;
use crate::sql::Value;

/// A column of a table whose rows are `R`.
pub struct Column<R: 'static> {
    /// Its name.
    pub name: &'static str,
    /// What it holds.
    pub holds: Holds,
    /// Whether it is never null.
    pub required: bool,
    /// The value of a row.
    pub write: fn(&R) -> Value,
    /// Takes the value of a row.
    pub read: fn(&mut R, &Value) -> Result<(), Error>,
}

/// A column of text, of text or null, or of a count, by the field that has it.
macro_rules! column {
    ($name:literal, $holds:expr, text $($field:ident).+) => {
        Column {
            name: $name,
            holds: $holds,
            required: true,
            write: |row| Value::from(row.$($field).+.as_str()),
            read: |row, value| {
                row.$($field).+ = value.as_text().unwrap_or_default().to_string();
                Ok(())
            },
        }
    };
    ($name:literal, $holds:expr, maybe $($field:ident).+) => {
        Column {
            name: $name,
            holds: $holds,
            required: false,
            write: |row| Value::maybe(row.$($field).+.as_deref()),
            read: |row, value| {
                row.$($field).+ = value.as_text().map(str::to_string);
                Ok(())
            },
        }
    };
    ($name:literal, count $($field:ident).+) => {
        Column {
            name: $name,
            holds: Count,
            required: true,
            write: |row| Value::count(row.$($field).+),
            read: |row, value| {
                row.$($field).+ = count(value)?;
                Ok(())
            },
        }
    };
    ($name:literal, outcome $field:ident) => {
        Column {
            name: $name,
            holds: Short(16),
            required: true,
            write: |row| Value::from(row.$field.word()),
            read: |row, value| {
                row.$field = outcome(value)?;
                Ok(())
            },
        }
    };
}

use Holds::{Count, Long, Moment, Short};

/// The columns of the runs. The first is the key.
pub static RUN_COLUMNS: [Column<Run>; 29] = [
    column!("run", Short(32), text run),
    column!("spec", Long, text spec),
    column!("spec_hash", Short(32), text spec_hash),
    column!("table_name", Long, text table),
    column!("table_key", Short(32), text table_key),
    column!("load_mode", Short(16), text mode),
    column!("who", Long, text who),
    column!("host", Long, text host),
    column!("started_at", Moment, text started_at),
    column!("ended_at", Moment, text ended_at),
    column!("outcome", outcome outcome),
    column!("message", Long, maybe message),
    column!("files", count files),
    column!("records", count counts.records),
    column!("loaded", count counts.loaded),
    column!("rejected", count counts.rejected),
    column!("filtered", count counts.filtered),
    column!("rolled_back", count counts.rolled_back),
    column!("repaired", count counts.repaired),
    column!("other_lines", count counts.other_lines),
    column!("mended", count mended),
    column!("given_up", count given_up),
    column!("still_open", count still_open),
    column!("rejects_folder", Long, maybe rejects_folder),
    column!("reasons", Long, maybe reasons),
    column!("mend_of", Short(32), maybe mend_of),
    column!("state", Long, maybe state),
    column!("undo_by", Long, maybe undo_by),
    column!("version", Short(32), text version),
];

/// The columns of the files. The first two are the key.
pub static FILE_COLUMNS: [Column<File>; 20] = [
    column!("run", Short(32), text run),
    column!("number", count number),
    column!("path", Long, text path),
    column!("file_name", Short(255), text name),
    column!("table_name", Long, text table),
    column!("table_key", Short(32), text table_key),
    column!("stored_bytes", count bytes),
    column!("sample", Short(32), maybe sample),
    column!("version", Short(32), maybe version),
    column!("content", Short(32), maybe content),
    Column {
        name: "once_key",
        holds: Short(32),
        required: false,
        write: |file| Value::maybe(file.once_key()),
        read: |file, value| {
            file.once = *value != Value::Null;
            Ok(())
        },
    },
    column!("outcome", outcome outcome),
    column!("committed_to", count committed_to),
    column!("records", count counts.records),
    column!("loaded", count counts.loaded),
    column!("rejected", count counts.rejected),
    column!("filtered", count counts.filtered),
    column!("rolled_back", count counts.rolled_back),
    column!("repaired", count counts.repaired),
    column!("other_lines", count counts.other_lines),
];

/// A row, from the values of its columns.
pub fn row<R: Default + 'static>(
    columns: impl IntoIterator<Item = &'static Column<R>>,
    values: &[Value],
) -> Result<R, Error> {
    let mut row = R::default();
    for (column, value) in columns.into_iter().zip(values) {
        (column.read)(&mut row, value)?;
    }
    Ok(row)
}

/// An unknown word is an error and not a default: else a file might be loaded twice.
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

#[cfg(test)]
mod tests {
    use super::super::Counts;
    use super::*;

    #[test]
    fn a_row_is_read_as_it_was_written() {
        let counts = Counts {
            records: 15,
            loaded: 4,
            rejected: 5,
            filtered: 3,
            rolled_back: 3,
            repaired: 8,
            other_lines: 2,
        };
        let run = Run {
            run: "r".into(),
            table: "t".into(),
            mode: "merge".into(),
            outcome: Outcome::Failed,
            message: Some("no".into()),
            counts,
            mended: 1,
            still_open: 6,
            state: Some("s".into()),
            version: "9".into(),
            ..Run::default()
        };
        let values: Vec<Value> = RUN_COLUMNS.iter().map(|c| (c.write)(&run)).collect();
        assert_eq!(row(&RUN_COLUMNS, &values).unwrap(), run);
        let file = File {
            run: "r".into(),
            number: 2,
            name: "a.csv".into(),
            version: Some("v".into()),
            content: Some("c".into()),
            outcome: Outcome::Kept,
            committed_to: 7,
            counts,
            once: true,
            ..File::default()
        };
        let values: Vec<Value> = FILE_COLUMNS.iter().map(|c| (c.write)(&file)).collect();
        assert_eq!(row(&FILE_COLUMNS, &values).unwrap(), file);
    }

    #[test]
    fn what_is_not_understood_is_an_error() {
        let mut values: Vec<Value> = RUN_COLUMNS
            .iter()
            .map(|c| (c.write)(&Run::default()))
            .collect();
        values[10] = Value::from("blessed");
        assert!(row(&RUN_COLUMNS, &values).is_err());
    }

    #[test]
    fn every_column_has_a_name_of_its_own() {
        let names = |names: Vec<&str>| {
            let mut once = names.clone();
            once.sort_unstable();
            once.dedup();
            assert_eq!(once.len(), names.len());
        };
        names(RUN_COLUMNS.iter().map(|c| c.name).collect());
        names(FILE_COLUMNS.iter().map(|c| c.name).collect());
    }
}
