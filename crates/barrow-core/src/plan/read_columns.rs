//! Which columns are read: those that are loaded, and those that others need.

use std::collections::HashSet;

use super::{Part, Place, Plan, RecordTypePlan};
use crate::words::PreambleKey;

impl Plan {
    /// Reads no more of the files than somebody wants who asks for the columns of one record
    /// type: of the others only what its values are taken from. Conditions still hold, with
    /// the columns that they name; totals that a file states are not compared, and a header may
    /// lack what is not read.
    pub fn narrow(&mut self, record_type: usize, wanted: impl Fn(&str) -> bool) {
        self.totals.clear();
        let Some(asked) = self.record_types.get_mut(record_type) else {
            return;
        };
        for column in &mut asked.columns {
            column.load &= wanted(&column.name);
        }
        asked.read = read_columns(asked);
        // Where the header is looked for, all of its names tell it.
        if self.records.preamble != PreambleKey::Auto {
            forget_names(asked);
        }
        let parents = self.parents(record_type);
        for (number, other) in self.record_types.iter_mut().enumerate() {
            if number == record_type || parents.contains(&number) {
                continue;
            }
            other.columns.iter_mut().for_each(|c| c.load = false);
            other.checks.clear();
            other.keep_if = None;
            other.read.clear();
        }
    }

    /// The record types that values of one are carried from, and those that theirs are.
    fn parents(&self, record_type: usize) -> HashSet<usize> {
        let mut found = HashSet::new();
        let mut next = vec![record_type];
        while let Some(number) = next.pop() {
            let columns = self.record_types[number].columns.iter();
            // Every column counts: the parents of a record that is asked for must be good.
            let parts = columns
                .filter_map(|c| c.value.as_ref())
                .flat_map(|v| &v.parts);
            for part in parts {
                if let Part::Carried { kind, .. } = part
                    && found.insert(*kind)
                {
                    next.push(*kind);
                }
            }
        }
        found
    }
}

/// Does not look for the columns that are not read among a header's names.
fn forget_names(plan: &mut RecordTypePlan) {
    for (place, column) in plan.columns.iter_mut().enumerate() {
        if matches!(column.place, Place::Named(_)) && !plan.read.contains(&place) {
            column.place = Place::Computed;
        }
    }
}

/// The columns of a record type that are read, as places: first those that are loaded, then
/// those that conditions and templates ask for.
pub fn read_columns(plan: &RecordTypePlan) -> Vec<usize> {
    let mut asked: HashSet<usize> = HashSet::new();
    let conditions = plan.checks.iter().map(|check| &check.condition);
    for condition in conditions.chain(&plan.keep_if) {
        asked.extend(&condition.columns);
    }
    let wanted =
        |place: &usize, asked: &HashSet<usize>| plan.columns[*place].load || asked.contains(place);
    // A template may ask for a column before it, and that for another.
    for (place, column) in plan.columns.iter().enumerate().rev() {
        if let (true, Some(value)) = (wanted(&place, &asked), &column.value) {
            asked.extend(value.parts.iter().filter_map(|part| match part {
                Part::Column(place) => Some(*place),
                _ => None,
            }));
        }
    }
    let all = 0..plan.columns.len();
    let loaded = all.clone().filter(|place| plan.columns[*place].load);
    let others = all.filter(|place| !plan.columns[*place].load && asked.contains(place));
    loaded.chain(others).collect()
}

/// The columns of other record types that values are carried from: record type and column.
pub fn carried(plan: &RecordTypePlan) -> Vec<(usize, usize)> {
    let values = plan
        .columns
        .iter()
        .filter_map(|column| column.value.as_ref());
    let parts = values.flat_map(|value| &value.parts);
    let carried = parts.filter_map(|part| match part {
        Part::Carried { kind, column } => Some((*kind, *column)),
        _ => None,
    });
    carried.collect()
}

/// Adds to a record type's read columns one that others or totals ask for, and what its own
/// template asks for.
pub fn also_read(plan: &mut RecordTypePlan, place: usize) {
    if plan.read.contains(&place) {
        return;
    }
    plan.read.push(place);
    let value = plan.columns[place].value.clone();
    for part in value.iter().flat_map(|value| &value.parts) {
        // A template names columns before its own, so this comes to an end.
        if let Part::Column(other) = part {
            also_read(plan, *other);
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::spec::read_plan;

    #[test]
    fn only_what_is_asked_for_is_read_and_what_conditions_need() {
        let text = "[records]\nkeep_if = \"stall > 2\"\n[columns]\nid = \"bigint\"\n\
            stall = \"smallint\"\nprice = \"decimal(8,2)\"\nnote = \"text\"\n";
        let mut plan = read_plan(text).unwrap();
        plan.narrow(0, |name| name == "price");
        let kind = &plan.record_types[0];
        let names: Vec<&str> = kind
            .read
            .iter()
            .map(|p| kind.columns[*p].name.as_str())
            .collect();
        assert_eq!(names, ["price", "stall"]);
        assert_eq!(kind.loaded().count(), 1);
    }
}
