//! What every type's reader has in common.

use super::cell::Cell;
use crate::rejects::Code;

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
pub trait Kind {
    /// The typed value.
    ///
    /// # Errors
    /// The code of what is wrong with it.
    fn read(&self, value: &[u8], place: Place<'_>) -> Result<Cell, Code>;
}
