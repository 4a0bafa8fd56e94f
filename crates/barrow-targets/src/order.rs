//! Rows whose parent is in the same table.
//!
//! A parent comes before its children. A database that looks for parents at a statement's
//! end would take a child whose parent comes later in the same statement, and not one whose
//! parent comes in the next: whether a row loads would depend on its neighbours. So no row is
//! sent together with an earlier one that names it.

use std::collections::HashMap;

use barrow_core::pipeline::Batch;
use barrow_core::types::Type;
use barrow_core::values::shown;

use crate::encoded::EncodedBatch;
use crate::record_table::RecordTable;
use crate::table::Table;

/// The columns of a part that refer to rows of the same table, and those that they refer to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Order {
    /// For each foreign key the places of its columns, and of those that it names.
    keys: Vec<(Vec<usize>, Vec<usize>)>,
    types: Vec<Type>,
}

impl Order {
    /// For a part that goes to a table; none where no row names another of it.
    pub fn of(part: &RecordTable, table: &Table) -> Option<Order> {
        let place = |name: &String| {
            let named = |column: &crate::record_table::Column| {
                table
                    .column(&column.name)
                    .is_some_and(|found| found.name == *name)
            };
            part.columns.iter().position(named)
        };
        let places = |names: &[String]| names.iter().map(place).collect::<Option<Vec<_>>>();
        let own = table.own_parents.iter();
        // A key of which a column is not loaded is null, or names what was there before.
        let keys: Vec<_> = own
            .filter_map(|(from, to)| Some((places(from)?, places(to)?)))
            .collect();
        (!keys.is_empty()).then(|| Order {
            keys,
            types: part.columns.iter().map(|column| column.ty).collect(),
        })
    }

    /// Whether there are none of the rows of batches that name a later one, as places among
    /// all good rows of the part: each starts a piece of its own.
    pub fn cuts(&self, batches: &[EncodedBatch], part: usize) -> Vec<usize> {
        let mut cuts = Vec::new();
        for (from, to) in &self.keys {
            // For each parent that was named, the last row that did so.
            let mut named: HashMap<Vec<String>, usize> = HashMap::new();
            let mut place = 0;
            for batch in batches {
                for row in &batch.parts[part].good {
                    let own = self.values(batch, part, *row as usize, to);
                    if let Some(child) = own.as_ref().and_then(|own| named.get(own)) {
                        let is_cut = cuts.iter().any(|cut| child < cut && *cut <= place);
                        if !is_cut {
                            cuts.push(place);
                        }
                    }
                    let parent = self.values(batch, part, *row as usize, from);
                    if let Some(parent) = parent.filter(|parent| Some(parent) != own.as_ref()) {
                        named.insert(parent, place);
                    }
                    place += 1;
                }
            }
            cuts.sort_unstable();
        }
        cuts.dedup();
        cuts
    }

    /// The values of some columns in a row; none where one is null, which names nothing.
    fn values(
        &self,
        batch: &Batch,
        part: usize,
        row: usize,
        columns: &[usize],
    ) -> Option<Vec<String>> {
        let rows = &batch.parts[part];
        let value = |column: &usize| {
            let cell = rows.cell(*column, row);
            shown(cell, self.types[*column], &batch.block.bytes, &rows.store)
        };
        columns.iter().map(value).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use barrow_core::pipeline::Rows;
    use barrow_core::values::Cell;

    fn batch(rows: &[(i64, i64)]) -> Batch {
        let mut batch = Batch::default();
        let ids = rows.iter().map(|(id, _)| Cell::Int(*id));
        let parents = rows.iter().map(|(_, parent)| match parent {
            0 => Cell::Null,
            n => Cell::Int(*n),
        });
        let mut found = Rows::default();
        found.cells = ids.chain(parents).collect();
        found.height = rows.len();
        found.good = (0..rows.len() as u32).collect();
        batch.parts.push(found);
        batch
    }

    #[test]
    fn a_row_starts_a_piece_if_an_earlier_one_of_the_piece_names_it() {
        let order = Order {
            keys: vec![(vec![1], vec![0])],
            types: vec![Type::Integer; 2],
        };
        let cuts = |batches: &[&[(i64, i64)]]| {
            let encoded = |rows: &&[(i64, i64)]| EncodedBatch {
                batch: batch(rows),
                encoded: Vec::new(),
            };
            let batches: Vec<EncodedBatch> = batches.iter().map(encoded).collect();
            order.cuts(&batches, 0)
        };
        assert_eq!(cuts(&[&[(1, 0), (2, 1), (3, 1)]]), [0; 0]);
        assert_eq!(cuts(&[&[(1, 0), (3, 4), (4, 1)]]), [2]);
        // One cut may do for several, also in a later batch.
        assert_eq!(cuts(&[&[(1, 9), (2, 8), (8, 0)], &[(9, 0), (7, 7)]]), [2]);
        assert_eq!(cuts(&[&[(1, 2), (2, 3), (3, 0)]]), [1, 2]);
    }
}
