//! What must hold for a record that is written: what the spec asks of one that is read.

use super::Line;
use crate::conditions::{Condition, Row};
use crate::export::refusal::{Refusal, refusal};
use crate::plan::{Place, RecordTypePlan};
use crate::reason::Code;
use crate::types::Type;
use crate::values::Cell;

/// The conditions that can be told by the columns that are written.
pub struct Conditions<'p> {
    keep_if: Option<&'p Condition>,
    checks: Vec<&'p Condition>,
    /// For each column of the kind its type, and where it stands among the written ones.
    columns: Vec<(Type, Option<usize>)>,
}

impl<'p> Conditions<'p> {
    /// Those of a kind of record. One about a column that is not written is left to the
    /// reader, since nobody knows its value here.
    pub fn of(kind: &'p RecordTypePlan) -> Conditions<'p> {
        let mut written = 0;
        let columns: Vec<(Type, Option<usize>)> = kind
            .columns
            .iter()
            .map(|column| {
                let is_written = column.load && column.place != Place::Computed;
                let at = is_written.then_some(written);
                written += usize::from(is_written);
                (column.ty, at)
            })
            .collect();
        let can_tell = |condition: &&Condition| {
            let known = |place: &usize| columns[*place].1.is_some();
            condition.columns.iter().all(known)
        };
        let checks = kind.checks.iter().map(|check| &check.condition);
        Conditions {
            keep_if: kind.keep_if.as_ref().filter(can_tell),
            checks: checks.filter(can_tell).collect(),
            columns,
        }
    }

    /// Why a record would not be loaded again, if it would not.
    pub fn unmet(&self, line: &Line<'_>) -> Option<Refusal> {
        let has_none = self.keep_if.is_none() && self.checks.is_empty();
        // A misfit's cell is null, and not its value.
        if has_none || !line.misfits.is_empty() {
            return None;
        }
        let cell = |place: usize| {
            let (ty, at) = self.columns[place];
            (ty, at.map_or(Cell::Null, |at| line.cells[at]))
        };
        let row = Row {
            cell: &cell,
            block: line.text,
            store: line.store,
        };
        let unmet = |condition: &Condition, says: &str| {
            refusal(Code::CheckFailed, format!("{says} {}", condition.text), "")
        };
        if let Some(condition) = self.keep_if
            && condition.holds(&row) != Ok(Some(true))
        {
            return Some(unmet(condition, "keep_if would leave it out:"));
        }
        // One that null leaves open holds, as when it is read.
        let fails =
            |condition: &&&Condition| !matches!(condition.holds(&row), Ok(Some(true) | None));
        let first = self.checks.iter().find(fails)?;
        Some(unmet(first, "it does not hold that"))
    }
}
