//! A table as the database describes it.

use barrow_core::spec::Type;

/// A table of the target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    /// Its columns, in order.
    pub columns: Vec<TableColumn>,
    /// Whether it has triggers that may refuse or pass over a row.
    pub triggers: bool,
}

/// A column of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableColumn {
    /// Its name.
    pub name: String,
    /// Its type in the database's own words.
    pub declared: String,
    /// Its type in the spec's words, where there is one.
    pub ty: Option<Type>,
    /// Whether a row must bring a value for it: not null, and nothing fills it.
    pub required: bool,
    /// Whether the database computes it, so that no row may bring a value.
    pub generated: bool,
}

impl Table {
    /// The column of this name. Names are matched as SQL does, without regard to case.
    pub fn column(&self, name: &str) -> Option<&TableColumn> {
        self.columns
            .iter()
            .find(|c| c.name.eq_ignore_ascii_case(name))
    }
}
