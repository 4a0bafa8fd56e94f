//! What every type's reader has in common.

use crate::reason::Code;
use crate::values::cell::Cell;

/// Where a value stands, for readers that keep it in place or store a changed one.
pub struct Place<'a> {
    /// The value's first byte in the block (or in the store, where `stored`).
    pub at: usize,
    /// Whether the value stands in the store and not in the block.
    pub stored: bool,
    /// Takes values that differ from what the file says.
    pub store: &'a mut Vec<u8>,
}

#[cfg(test)]
impl Place<'_> {
    /// The start of a valid block.
    pub fn test(store: &mut Vec<u8>) -> Place<'_> {
        Place {
            at: 0,
            stored: false,
            store,
        }
    }
}

/// Reads one type. The value is UTF-8, not null, and has been trimmed.
pub trait ValueParser {
    /// Writes the typed value to `cell`. It is written in place, since a cell
    /// that is handed back inside a result is copied in pieces that the processor
    /// must wait for: typing the bench file took 1.1 times as long.
    ///
    /// # Errors
    /// The code of what is wrong with it; the cell is then as it was.
    fn read(&self, value: &[u8], place: Place<'_>, cell: &mut Cell) -> Result<(), Code>;

    /// Writes the value of the type that is nearest to one that was refused with
    /// `code`: rounded, cut, or set to a bound.
    ///
    /// # Errors
    /// There is none.
    fn nearest(&self, _: &[u8], code: Code, _: Place<'_>, _: &mut Cell) -> Result<(), Code> {
        Err(code)
    }

    /// The same as [`ValueParser::read`], handed back.
    ///
    /// # Errors
    /// As [`ValueParser::read`].
    fn cell(&self, value: &[u8], place: Place<'_>) -> Result<Cell, Code> {
        let mut cell = Cell::Null;
        self.read(value, place, &mut cell)?;
        Ok(cell)
    }
}
