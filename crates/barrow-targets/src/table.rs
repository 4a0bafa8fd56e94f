//! A table as the database describes it.

pub use barrow_core::spec::KnownColumn as TableColumn;

/// A table of the target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    /// Its columns, in order.
    pub columns: Vec<TableColumn>,
    /// Whether it has triggers that may refuse or pass over a row.
    pub triggers: bool,
    /// Foreign keys of the table to itself: each its columns, and those that they name.
    pub own_parents: Vec<(Vec<String>, Vec<String>)>,
}

impl Table {
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
