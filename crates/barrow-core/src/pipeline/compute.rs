//! Computed columns: templates filled in, and read like any other value.

use std::collections::HashSet;

use crate::pipeline::batch::Rows;
use crate::pipeline::parent_values::{Carried, Lack};
use crate::pipeline::reasons::LONGEST_SHOWN;
use crate::pipeline::run_context::RunContext;
use crate::plan::{ColumnPlan, Part, RecordTypePlan, Template};
use crate::reason::Code;
use crate::records::block::Block;
use crate::records::file_format::FileFormat;
use crate::records::span::Span;

use crate::columns::Fault;
use crate::repair::Change;
use crate::values::{Cell, Piece, shown};

/// What templates are filled in from.
pub struct Source<'s> {
    /// What is known of the run.
    pub context: &'s RunContext,
    /// The file.
    pub file: &'s FileFormat,
    /// The block.
    pub block: &'s Block,
    /// Values of records of other kinds.
    pub carried: &'s Carried,
    /// The kind of the rows.
    pub kind: &'s RecordTypePlan,
    /// The longest value, in bytes: as long as a record may be.
    pub longest: usize,
}

/// A template filled in.
enum Filled {
    /// Text.
    Text(String),
    /// Null, since a value in it is.
    Null,
    /// Longer than a record may be; its start.
    TooLong(String),
    /// Nothing to say: a value in it was at fault, which is told already.
    Faulty,
    /// A value that should have been carried is not there.
    Lacks(Lack),
}

impl Source<'_> {
    /// Fills in every computed column of `rows`, in the order of the spec. Calls
    /// `lacks` for a row that has nothing to carry a value from.
    pub fn compute(&self, rows: &mut Rows, mut lacks: impl FnMut(u32, usize, Lack)) {
        let computed = |place: &usize| self.kind.columns[*place].value.is_some();
        let mut places: Vec<usize> = self.kind.read.iter().copied().filter(computed).collect();
        places.sort_unstable();
        for place in places {
            self.column(place, rows, &mut lacks);
        }
    }

    fn column(&self, place: usize, rows: &mut Rows, lacks: &mut impl FnMut(u32, usize, Lack)) {
        let column = &self.kind.columns[place];
        let (Some(template), Some(slot)) = (&column.value, self.kind.slot(place)) else {
            return;
        };
        let faults: HashSet<(u32, u32)> = rows.faults.iter().map(|f| (f.row, f.column)).collect();
        let mut same = None;
        for row in 0..rows.height as u32 {
            let at = slot * rows.height + row as usize;
            if let Some(cell) = same {
                rows.cells[at] = cell;
                continue;
            }
            match self.filled(template, column, row, rows, &faults) {
                Filled::Faulty => rows.cells[at] = Cell::Null,
                Filled::Lacks(lack) => {
                    rows.cells[at] = Cell::Null;
                    lacks(row, place, lack);
                }
                Filled::Null => self.read(column, slot, row, None, rows),
                Filled::TooLong(text) => fault(slot, row, Code::TooLong, &text, rows),
                Filled::Text(text) => {
                    let changes = rows.changes.len();
                    let before = rows.faults.len();
                    self.read(column, slot, row, Some(text), rows);
                    let plain = changes == rows.changes.len() && before == rows.faults.len();
                    if plain && is_the_same_everywhere(template) {
                        same = Some(rows.cells[at]);
                    }
                }
            }
        }
    }

    fn read(
        &self,
        column: &ColumnPlan,
        slot: usize,
        row: u32,
        text: Option<String>,
        rows: &mut Rows,
    ) {
        let Some(reader) = &column.reader else { return };
        let number = slot as u32;
        let mut cell = Cell::Null;
        let changes = &mut rows.changes;
        let note = |what| {
            changes.push(Change {
                row,
                column: Some(number),
                what,
            });
        };
        let read = match &text {
            Some(text) => reader.read_text(text.as_bytes(), &mut rows.store, &mut cell, note),
            None => reader.read_null(&mut rows.store, &mut cell, note),
        };
        if let Err(code) = read {
            match text {
                Some(text) => fault(slot, row, code, &text, rows),
                None => rows.faults.push(Fault {
                    row,
                    column: number,
                    code,
                    span: Span::MISSING,
                    made: None,
                }),
            }
            cell = Cell::Null;
        }
        rows.cells[slot * rows.height + row as usize] = cell;
    }

    fn filled(
        &self,
        template: &Template,
        column: &ColumnPlan,
        row: u32,
        rows: &Rows,
        faults: &HashSet<(u32, u32)>,
    ) -> Filled {
        let index = rows.marks[row as usize];
        let mark = &self.block.marks[index as usize];
        let mut text = String::new();
        for part in &template.parts {
            if text.len() > self.longest {
                break;
            }
            match part {
                Part::Text(literal) => text.push_str(literal),
                Part::File => text.push_str(&self.file.file_name),
                Part::Line => text += &(self.block.first_line + u64::from(mark.line)).to_string(),
                Part::Record => text += &self.block.record_number(index as usize).to_string(),
                Part::Run => text.push_str(&self.context.run),
                Part::Now => text += &self.context.now(column.ty),
                Part::Column(place) => {
                    let Some(slot) = self.kind.slot(*place) else {
                        return Filled::Null;
                    };
                    if faults.contains(&(row, slot as u32)) {
                        return Filled::Faulty;
                    }
                    let cell = rows.cell(slot, row as usize);
                    let ty = self.kind.columns[*place].ty;
                    match shown(cell, ty, &self.block.bytes, &rows.store) {
                        Some(value) => text += &value,
                        None => return Filled::Null,
                    }
                }
                Part::Carried { kind, column } => match self.carried.value(*kind, *column, index) {
                    Ok(Some(value)) => text += value,
                    Ok(None) => return Filled::Null,
                    Err(lack) => return Filled::Lacks(lack),
                },
            }
        }
        match text.len() > self.longest {
            true => Filled::TooLong(text.chars().take(LONGEST_SHOWN + 1).collect()),
            false => Filled::Text(text),
        }
    }
}

/// Notes what is wrong with a computed value.
fn fault(slot: usize, row: u32, code: Code, text: &str, rows: &mut Rows) {
    let at = rows.store.len();
    rows.store.extend_from_slice(text.as_bytes());
    rows.faults.push(Fault {
        row,
        column: slot as u32,
        code,
        span: Span::MISSING,
        made: Some(Piece::in_store(at, text.len())),
    });
    rows.cells[slot * rows.height + row as usize] = Cell::Null;
}

/// Whether a template says the same of every record of a file.
fn is_the_same_everywhere(template: &Template) -> bool {
    let same = |part: &Part| matches!(part, Part::Text(_) | Part::File | Part::Run | Part::Now);
    template.parts.iter().all(same)
}
