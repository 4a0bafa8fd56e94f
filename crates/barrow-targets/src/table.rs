//! A table as the database describes it.

pub use barrow_core::spec::KnownColumn as TableColumn;

use barrow_core::escape::escape_for_display;

use crate::dialect::Dialect;
use crate::error::Error;
use crate::record_table::{Column, RecordTable};

/// A foreign key of a table to itself: its columns, and those that they name.
pub type OwnParents = (Vec<String>, Vec<String>);

/// A table of the target.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Table {
    /// Its columns, in order.
    pub columns: Vec<TableColumn>,
    /// The sets of columns of which no two rows have the same values. A column that is an
    /// expression has no name.
    pub unique: Vec<Vec<String>>,
    /// Whether it has triggers that may refuse or pass over a row.
    pub triggers: bool,
    /// Foreign keys of the table to itself: each its columns, and those that they name.
    pub own_parents: Vec<OwnParents>,
    /// Columns whose times are written as earlier versions wrote them: with zeros at the end of
    /// a fraction, or a Z. SQL compares the two forms wrongly, so that they are never mixed.
    pub older_times: Vec<String>,
}

/// Whether a column has decimals as text, as SQLite has those beyond its numbers.
pub fn is_text_decimal(column: &TableColumn) -> bool {
    column
        .declared
        .to_ascii_uppercase()
        .contains("DECIMAL_TEXT")
}

/// Whether two names mean one table, as far as names tell.
pub fn same_table(one: &str, other: &str) -> bool {
    let bare = |name: &str| name.rsplit('.').next().unwrap_or(name).to_lowercase();
    let has_schema = |name: &str| name.contains('.');
    match has_schema(one) && has_schema(other) {
        true => one.eq_ignore_ascii_case(other),
        false => bare(one) == bare(other),
    }
}

/// Says that a table is not there, and would not be made.
pub fn missing(name: &str) -> Error {
    Error::spec(format!(
        "there is no table {}",
        escape_for_display(name.as_bytes())
    ))
    .advice("say [target] create = true to have it made from the spec, or see barrow ddl")
}

/// Whether a table that was emptied is empty: a trigger, a rule or a policy may keep rows.
///
/// # Errors
/// It has rows still.
pub fn is_empty(name: &str, rows: u64) -> Result<(), Error> {
    match rows {
        0 => Ok(()),
        rows => Err(kept_by_the_database(name, rows)),
    }
}

/// Rows that a DELETE should have taken and did not.
pub fn kept_by_the_database(name: &str, rows: u64) -> Error {
    Error::new(format!(
        "the table {} still has {rows} of the rows that were deleted: a trigger, a rule or a \
         policy keeps them",
        escape_for_display(name.as_bytes())
    ))
    .advice("let the database delete them, or load by mode = \"append\" or \"merge\"")
}

impl Table {
    /// The table that a load would make for a part, as far as its columns go.
    pub fn as_made(part: &RecordTable, dialect: Dialect) -> Table {
        let is_key = |name: &str| part.key.iter().any(|key| key.eq_ignore_ascii_case(name));
        let column = |column: &Column| {
            let declared = dialect.column_type(column);
            let is_row_number =
                part.key.len() == 1 && is_key(&column.name) && dialect.numbers_key(&declared);
            TableColumn {
                name: column.name.clone(),
                ty: Some(column.ty),
                required: column.required,
                generated: false,
                numbered: is_row_number,
                not_null: !is_row_number && (column.required || is_key(&column.name)),
                declared,
            }
        };
        Table {
            columns: part.columns.iter().map(column).collect(),
            unique: vec![part.key.clone()],
            ..Table::default()
        }
    }

    /// The column of this name: the one that is written so, else one that differs in case
    /// alone.
    pub fn column(&self, name: &str) -> Option<&TableColumn> {
        self.position(name).map(|at| &self.columns[at])
    }

    /// The place of the column of this name, 0-based.
    pub fn position(&self, name: &str) -> Option<usize> {
        let exact = self.columns.iter().position(|c| c.name == name);
        exact.or_else(|| {
            let alike = |c: &TableColumn| c.name.eq_ignore_ascii_case(name);
            self.columns.iter().position(alike)
        })
    }
}
