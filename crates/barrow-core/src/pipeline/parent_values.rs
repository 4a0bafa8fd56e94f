//! Values that records carry from the last record of another kind, such as an
//! order's number in each of its lines.

use std::collections::HashMap;

use crate::pipeline::batch::Rows;
use crate::plan::{Part, Plan, RecordTypePlan};
use crate::records::block::Block;

use crate::values::shown;

/// Why there is nothing to carry a value from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lack {
    /// No record of the kind comes before.
    None {
        /// The kind.
        kind: usize,
    },
    /// The last one, on this line, did not load.
    Bad {
        /// The kind.
        kind: usize,
        /// Its line, 1-based.
        line: u64,
    },
    /// A record of no known kind, on this line, stands between: it may have been
    /// the one.
    Unknown {
        /// The kind.
        kind: usize,
        /// Its line, 1-based.
        line: u64,
    },
}

/// What the last record of a kind left.
#[derive(Debug, Clone, Default)]
enum Last {
    /// There was none.
    #[default]
    None,
    /// Its values, by column.
    Values(HashMap<usize, Option<String>>),
    /// It did not load.
    Bad(u64),
    /// A record of no known kind came after it.
    Unknown(u64),
}

/// For each kind, what its last records left, in the order of the file.
#[derive(Debug, Default)]
pub struct Carried {
    /// For each kind, the columns that others take from it.
    wanted: Vec<Vec<usize>>,
    /// What the blocks before left.
    before: Vec<Last>,
    /// What records of this block left: the place in its marks, and what it is.
    here: Vec<Vec<(u32, Last)>>,
    file: Option<usize>,
}

impl Carried {
    /// For the kinds of a plan.
    pub fn new(plan: &Plan) -> Carried {
        let record_types = plan.record_types.len();
        let mut wanted = vec![Vec::new(); record_types];
        for column in plan.record_types.iter().flat_map(|kind| &kind.columns) {
            for part in column.value.iter().flat_map(|value| &value.parts) {
                if let Part::Carried { kind, column } = part
                    && !wanted[*kind].contains(column)
                {
                    wanted[*kind].push(*column);
                }
            }
        }
        Carried {
            wanted,
            before: vec![Last::None; record_types],
            here: vec![Vec::new(); record_types],
            file: None,
        }
    }

    /// Begins a block: nothing is carried from one file to the next.
    pub fn begin(&mut self, block: &Block, unknown: &[u32]) {
        for (here, before) in self.here.iter_mut().zip(&mut self.before) {
            if let Some((_, last)) = here.drain(..).next_back() {
                *before = last;
            }
        }
        let file = block.file.as_ref().map(|file| file.index);
        if self.file != file {
            self.before.fill(Last::None);
            self.file = file;
        }
        for here in &mut self.here {
            here.extend(
                unknown
                    .iter()
                    .map(|mark| (*mark, Last::Unknown(line(block, *mark)))),
            );
        }
    }

    /// Takes up the records of a kind, once it is known which are bad.
    pub fn take_up(&mut self, number: usize, kind: &RecordTypePlan, block: &Block, rows: &Rows) {
        let wanted = &self.wanted[number];
        if wanted.is_empty() {
            return;
        }
        let here = &mut self.here[number];
        here.extend(
            rows.misshapen
                .iter()
                .map(|mark| (*mark, Last::Bad(line(block, *mark)))),
        );
        for (row, mark) in rows.marks.iter().enumerate() {
            let last = if rows.bad.binary_search(&(row as u32)).is_ok() {
                Last::Bad(line(block, *mark))
            } else {
                let value = |column: &usize| {
                    let cell = rows.cell(kind.slot(*column)?, row);
                    shown(cell, kind.columns[*column].ty, &block.bytes, &rows.store)
                };
                Last::Values(
                    wanted
                        .iter()
                        .map(|column| (*column, value(column)))
                        .collect(),
                )
            };
            here.push((*mark, last));
        }
        here.sort_by_key(|(mark, _)| *mark);
    }

    /// A column of the last record of a kind before the one at `mark`.
    ///
    /// # Errors
    /// There is none to take it from.
    pub fn value(&self, kind: usize, column: usize, mark: u32) -> Result<Option<&str>, Lack> {
        let here = &self.here[kind];
        let after = here.partition_point(|(other, _)| *other < mark);
        let last = match after.checked_sub(1) {
            Some(place) => &here[place].1,
            None => &self.before[kind],
        };
        match last {
            Last::None => Err(Lack::None { kind }),
            Last::Bad(line) => Err(Lack::Bad { kind, line: *line }),
            Last::Unknown(line) => Err(Lack::Unknown { kind, line: *line }),
            Last::Values(values) => Ok(values.get(&column).and_then(|value| value.as_deref())),
        }
    }
}

fn line(block: &Block, mark: u32) -> u64 {
    block.first_line + u64::from(block.marks[mark as usize].line)
}
