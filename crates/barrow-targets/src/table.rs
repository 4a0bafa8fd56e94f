//! A table as the database describes it.

pub use barrow_core::spec::KnownColumn as TableColumn;

/// A table of the target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    /// Its columns, in order.
    pub columns: Vec<TableColumn>,
    /// Whether it has triggers that may refuse or pass over a row.
    pub triggers: bool,
}

impl Table {
    /// The column of this name. Names are matched as SQL does, without regard to case.
    pub fn column(&self, name: &str) -> Option<&TableColumn> {
        self.columns
            .iter()
            .find(|c| c.name.eq_ignore_ascii_case(name))
    }
}
