//! Records as they are written.

use super::super::refusal::Refusal;
use crate::repair::Repairs;

/// A row that cannot be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unfit {
    /// The row, among those that were to be written.
    pub row: u64,
    /// The column, where it is about one.
    pub column: Option<String>,
    /// Why.
    pub why: Refusal,
}

/// Records as they were written.
#[derive(Debug, Default)]
pub struct Written {
    /// Their bytes.
    pub bytes: Vec<u8>,
    /// Where each ends.
    pub ends: Vec<u32>,
    /// The rows that could not be written, in order.
    pub unfit: Vec<Unfit>,
    /// What the policies changed.
    pub repairs: Repairs,
    /// Characters that were replaced by the stand-in.
    pub replaced: u64,
    /// For each record, the values of the columns that are summed, times ten to the power
    /// of their scales.
    pub summed: Vec<i128>,
    /// For each record, the value of the column that parts it from others, if one does.
    pub keys: Vec<String>,
}

impl Written {
    /// Clears it for other records, and keeps its memory.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.ends.clear();
        self.unfit.clear();
        self.repairs.clear();
        self.replaced = 0;
        self.summed.clear();
        self.keys.clear();
    }
}
