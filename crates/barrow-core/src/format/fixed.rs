//! Fields of a set width.

use crate::words::Measure;

/// A fixed layout, for all record types.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FixedFormat {
    /// What widths count.
    pub measure: Measure,
    /// How wide records without an end are.
    pub width: usize,
}

impl FixedFormat {
    /// Whether widths count bytes of the file.
    pub fn counts_bytes(self) -> bool {
        self.measure == Measure::Bytes
    }
}

/// Where the fields of one record type stand in a fixed layout.
#[derive(Debug)]
pub struct FieldSlices {
    /// For each field, its first character or byte, 0-based, and its width.
    pub slices: Vec<(usize, usize)>,
    /// For each field, whether it is text.
    pub text: Vec<bool>,
    /// How wide a whole record is.
    pub width: usize,
}
