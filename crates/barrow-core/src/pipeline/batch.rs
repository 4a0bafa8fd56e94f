//! What a worker makes of a block: typed rows, and rejects.

use std::ops::{Deref, DerefMut};

use crate::columns::Fault;
use crate::escape::visible_short;
use crate::pipeline::reasons::LONGEST_SHOWN;
use crate::plan::RecordTypePlan;
use crate::reason::{Code, Reason, Reject};
use crate::records::block::{Block, LeftOut};
use crate::records::file_format::FileFormat;
use crate::records::mark::State;
use crate::repair::Change;
use crate::repair::Repairs;
use crate::values::{Cell, shown};

/// A block with what was read from it. Batches are used again and again, so
/// their room stays.
#[derive(Debug, Default)]
pub struct Batch {
    /// The block, with its bytes.
    pub block: Block,
    /// The typed rows of each kind of record.
    pub parts: Vec<Rows>,
    /// The records that are not rows, in their order.
    pub rejects: Vec<Reject>,
    /// Records of which no kind is known, as places in the block's marks.
    pub unknown: Vec<u32>,
    /// For each total of the spec, what these records add to it; none where that
    /// is beyond 128 bits.
    pub totals: Vec<Option<i128>>,
    /// Totals of a file that differ from what it states, on its last block.
    pub differences: Vec<Difference>,
    /// What was changed because the spec asked for it.
    pub repairs: Repairs,
    /// What the bytes say against the file's encoding, if anything.
    pub hint: Option<String>,
}

/// A batch, and what the workers made of its rows for the sink.
#[derive(Debug, Default)]
pub struct Encoded<X> {
    /// The batch.
    pub batch: Batch,
    /// What was made of it.
    pub encoded: X,
}

impl<X> Deref for Encoded<X> {
    type Target = Batch;

    fn deref(&self) -> &Batch {
        &self.batch
    }
}

impl<X> DerefMut for Encoded<X> {
    fn deref_mut(&mut self) -> &mut Batch {
        &mut self.batch
    }
}

/// Typed rows, column by column.
#[derive(Debug, Default)]
pub struct Rows {
    /// All cells of the first loaded column, then of the second, and so on.
    pub cells: Vec<Cell>,
    /// How many cells each column has.
    pub height: usize,
    /// For each row, its record in the block's marks.
    pub marks: Vec<u32>,
    /// The rows that load, in order. Others had a fault.
    pub good: Vec<u32>,
    /// Bytes of cells that differ from what the file says.
    pub store: Vec<u8>,
    /// What could not be read, until the rows are parted.
    pub(super) faults: Vec<Fault>,
    /// What was changed, until it is counted.
    pub(super) changes: Vec<Change>,
    /// What is wrong with rows beside single values.
    pub(super) findings: Vec<(u32, Reason)>,
    /// Records of this kind that are not rows, as places in the block's marks.
    pub(super) misshapen: Vec<u32>,
    /// The rows that had a fault, in order.
    pub(super) bad: Vec<u32>,
}

impl Rows {
    /// The cell of a loaded column in a row.
    #[inline]
    pub fn cell(&self, column: usize, row: usize) -> Cell {
        self.cells[column * self.height + row]
    }

    /// Makes room for another block's rows. Cells stay: every one that counts is
    /// written anew.
    pub fn clear(&mut self) {
        self.height = 0;
        self.marks.clear();
        self.good.clear();
        self.store.clear();
        self.faults.clear();
        self.changes.clear();
        self.findings.clear();
        self.misshapen.clear();
        self.bad.clear();
    }
}

impl Batch {
    /// Makes room for another block with so many kinds of record.
    pub(super) fn clear(&mut self, record_types: usize) {
        self.parts.resize_with(record_types, Rows::default);
        self.parts.iter_mut().for_each(Rows::clear);
        self.rejects.clear();
        self.unknown.clear();
        self.repairs.clear();
        self.totals.clear();
        self.differences.clear();
        self.hint = None;
    }

    /// How many rows load, of all kinds.
    pub fn good(&self) -> usize {
        self.parts.iter().map(|rows| rows.good.len()).sum()
    }

    /// The file that the batch is from.
    pub fn file(&self) -> Option<&FileFormat> {
        self.block.file.as_deref()
    }

    /// Forgets what comes before the place from which the file's records are taken.
    pub(super) fn pass_over(&mut self) {
        let Some(from) = self.file().map(|file| file.from) else {
            return;
        };
        if from <= self.block.offset {
            return;
        }
        let block = &self.block;
        for rows in &mut self.parts {
            let marks = &rows.marks;
            let start = |row: &u32| block.marks[marks[*row as usize] as usize].start;
            rows.good
                .retain(|row| block.place(start(row) as usize) >= from);
        }
        self.rejects.retain(|reject| reject.offset >= from);
        if self.block.end() <= from {
            self.repairs.clear();
            self.block.left_out = LeftOut::default();
        }
    }

    /// A reject of the record at `mark` of the block.
    pub fn reject(block: &Block, mark: usize, reasons: Vec<Reason>) -> Reject {
        let at = &block.marks[mark];
        Reject {
            record: block.record_number(mark),
            line: block.first_line + u64::from(at.line),
            offset: block.place(at.start as usize),
            records: match at.state {
                State::TooLongRest => 0,
                _ => at.records(),
            },
            reasons,
            raw: block.raw(at.raw_range()).to_vec(),
        }
    }

    /// The value of a kind's loaded column in a row, as people read it; none for null.
    pub fn shown(
        &self,
        kind: &RecordTypePlan,
        part: usize,
        column: &str,
        row: usize,
    ) -> Option<String> {
        let mut loaded = kind.loaded().enumerate();
        let (place, plan) = loaded.find(|(_, c)| c.name.eq_ignore_ascii_case(column))?;
        let rows = &self.parts[part];
        let cell = rows.cell(place, row);
        let text = shown(cell, plan.ty, &self.block.bytes, &rows.store)?;
        Some(visible_short(text.as_bytes(), LONGEST_SHOWN))
    }

    /// A reject of a typed row that the table would not take. `value` is what the
    /// database says of this row alone, or the value that it has no room for.
    pub fn refuse(
        &self,
        part: usize,
        row: usize,
        code: Code,
        column: Option<String>,
        words: String,
        value: Option<String>,
    ) -> Reject {
        let mark = self.parts[part].marks[row] as usize;
        let reason = Reason {
            code,
            column: column.map(Into::into),
            field: None,
            offset: self.block.place(self.block.marks[mark].start as usize),
            value,
            says: words.into(),
            expected: "a row that the table takes".into(),
        };
        Batch::reject(&self.block, mark, vec![reason])
    }
}

/// A total that differs from what the file states.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// The file as people named it.
    pub file: String,
    /// What was counted: `records`, or a column's name.
    pub of: String,
    /// Where it is stated: `trailer, line 1`.
    pub place: String,
    /// What the file states.
    pub stated: String,
    /// What was found in it.
    pub found: String,
}
