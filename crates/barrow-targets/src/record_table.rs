//! Kinds of rows, and the tables that they go to.

use barrow_core::plan::Reference;
use barrow_core::types::Type;

/// A kind of rows, and its table. Several kinds may go to one table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordTable {
    /// Which of a batch's parts it is.
    pub number: usize,
    /// The table's name.
    pub table: String,
    /// The columns of the rows, in their order.
    pub columns: Vec<Column>,
    /// The columns that identify a row.
    pub key: Vec<String>,
    /// The column that says which run loaded a row, and nothing of the file: a merge does not
    /// compare it.
    pub run_column: Option<String>,
    /// Columns whose values stand in keys of other tables.
    pub references: Vec<Reference>,
}

/// A column of the rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// The table's column.
    pub name: String,
    /// Its type in the spec.
    pub ty: Type,
    /// Whether the spec forbids null.
    pub required: bool,
    /// Whether a decimal that the database's numbers cannot hold makes the column text.
    pub inexact_as_text: bool,
    /// All values that the spec allows, in the standard notation; empty for any.
    pub one_of: Vec<String>,
}
