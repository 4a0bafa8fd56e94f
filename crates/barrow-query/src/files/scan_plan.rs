//! How one table of a query is read: decided while the query is prepared, and carried to the
//! cursor as text.

use serde::{Deserialize, Serialize};

use super::constraint::Operator;

/// A condition whose value the cursor gets.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Wanted {
    /// The column, 0-based; the extras come after the table's own.
    pub column: usize,
    /// How it is compared.
    pub operator: Operator,
}

/// How one table of a query is read.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ScanPlan {
    /// Its number among all tables of the query.
    pub number: u64,
    /// A bit for each column that is used; the last stands for all from there on.
    pub used: u64,
    /// The conditions, in the order of their values.
    pub wanted: Vec<Wanted>,
}

impl ScanPlan {
    /// Whether the query uses a column.
    pub fn uses(&self, column: usize) -> bool {
        self.used >> column.min(63) & 1 == 1
    }

    /// As SQLite carries it.
    pub fn text(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// As it was before.
    pub fn of_text(text: Option<&str>) -> Option<ScanPlan> {
        serde_json::from_str(text?).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_is_read_as_it_was_written() {
        let wanted = vec![Wanted {
            column: 3,
            operator: Operator::AtLeast,
        }];
        let plan = ScanPlan {
            number: 2,
            used: 1 << 63 | 1,
            wanted,
        };
        let read = ScanPlan::of_text(Some(&plan.text())).unwrap();
        assert_eq!(read.wanted[0].operator, Operator::AtLeast);
        assert!(read.uses(0) && !read.uses(1) && read.uses(63) && read.uses(99));
    }
}
