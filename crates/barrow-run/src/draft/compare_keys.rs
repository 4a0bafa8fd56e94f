//! What records that name their fields have and a spec does not: keys, and ways into objects.

use barrow_core::draft::{Chosen, Draft};
use barrow_core::format::{KeyPath, KeyTree};
use barrow_core::plan::{ColumnPlan, Place};

/// A column of the files that the spec lacks.
#[derive(Clone)]
pub struct NewColumn {
    /// What a draft makes of it.
    pub chosen: Chosen,
    /// Whether records may lack it.
    pub optional: bool,
}

/// The way to each column that was drafted, in their order.
pub(super) fn paths(drafted: &Draft) -> Vec<KeyPath> {
    let keys = drafted.shape.parts.iter().flat_map(|part| &part.keys);
    keys.map(|key| KeyPath::parse(&key.from)).collect()
}

/// The ways to a column of the spec.
pub(super) fn paths_of<'k>(column: &ColumnPlan, keys: &'k KeyTree) -> &'k [KeyPath] {
    match column.place {
        Place::Key(field) => keys.fields.get(field).map_or(&[], |field| &field.paths),
        _ => &[],
    }
}

/// Whether one of two ways is the other, or goes on within it: then both are of one value.
fn meet(a: &KeyPath, b: &KeyPath) -> bool {
    a.steps.iter().zip(&b.steps).all(|(a, b)| a == b)
}

/// The columns of the spec that no record has, and none may lack.
pub(super) fn missing(columns: &[ColumnPlan], keys: &KeyTree, drafted: &Draft) -> Vec<String> {
    let found = paths(drafted);
    let is_missing = |column: &&ColumnPlan| {
        let Place::Key(field) = column.place else {
            return false;
        };
        let optional = keys.fields.get(field).is_some_and(|field| field.optional);
        let is_there = |path: &KeyPath| found.iter().any(|found| meet(found, path));
        !optional && !paths_of(column, keys).iter().any(is_there)
    };
    let missing = columns.iter().filter(is_missing);
    missing.map(|column| column.name.clone()).collect()
}

/// What records have and no column of the spec names.
pub(super) fn new(columns: &[ColumnPlan], keys: &KeyTree, drafted: &Draft) -> Vec<NewColumn> {
    let is_known = |path: &KeyPath| {
        let mut paths = columns.iter().flat_map(|column| paths_of(column, keys));
        paths.any(|known| meet(known, path))
    };
    let keys = drafted.shape.parts.iter().flat_map(|part| &part.keys);
    let columns = drafted.columns.iter().zip(keys);
    let new = columns.filter(|(_, key)| !is_known(&KeyPath::parse(&key.from)));
    new.map(|(chosen, key)| NewColumn {
        chosen: Chosen {
            from: (key.from != chosen.name).then(|| key.from.clone()),
            ..chosen.clone()
        },
        optional: key.missing > 0,
    })
    .collect()
}
