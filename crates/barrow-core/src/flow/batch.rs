//! What a worker makes of a block: typed rows, and rejects.

use std::any::Any;

use crate::records::block::Block;
use crate::records::file::FileReading;
use crate::rejects::{Code, Reason, Reject};
use crate::tally::Repairs;
use crate::values::Cell;

/// A block with what was read from it. Batches are used again and again, so
/// their room stays.
#[derive(Debug)]
pub struct Batch {
    /// The block, with its bytes.
    pub block: Block,
    /// The typed rows.
    pub rows: Rows,
    /// The records that are not rows, in their order.
    pub rejects: Vec<Reject>,
    /// What was changed because the spec asked for it.
    pub repairs: Repairs,
    /// What the bytes say against the file's encoding, if anything.
    pub hint: Option<String>,
    /// The rows in a target's own form, if it has one.
    pub encoded: Encoded,
}

/// Rows in a target's own form, which only that target knows.
pub type Encoded = Box<dyn Any + Send + Sync>;

impl Default for Batch {
    fn default() -> Batch {
        Batch {
            block: Block::default(),
            rows: Rows::default(),
            rejects: Vec::new(),
            repairs: Repairs::default(),
            hint: None,
            encoded: Box::new(()),
        }
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
    }
}

impl Batch {
    /// The file that the batch is from.
    pub fn file(&self) -> Option<&FileReading> {
        self.block.file.as_deref()
    }

    /// A reject of the record at `mark` of the block.
    pub fn reject(block: &Block, mark: usize, reasons: Vec<Reason>) -> Reject {
        let at = &block.marks[mark];
        Reject {
            record: block.record_number(mark),
            line: block.first_line + u64::from(at.line),
            offset: block.place(at.start as usize),
            reasons,
            raw: block.raw(at.raw_range()).to_vec(),
        }
    }

    /// A reject of a typed row that the table would not take.
    pub fn refuse(&self, row: usize, code: Code, column: Option<String>, words: String) -> Reject {
        let mark = self.rows.marks[row] as usize;
        let reason = Reason {
            code,
            column,
            field: None,
            offset: self.block.place(self.block.marks[mark].start as usize),
            value: None,
            says: words,
            expected: "a row that the table takes".into(),
        };
        Batch::reject(&self.block, mark, vec![reason])
    }
}
