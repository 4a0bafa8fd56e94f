//! What a column is read from, and what comes of it.

use crate::format::RecordFormat;
use crate::reason::Code;
use crate::records::span::Span;
use crate::repair::Change;
use crate::source::Charset;
use crate::source::transcode::TextMap;
use crate::values::cell::{Cell, Piece};

/// The fields of a block's records, row by row.
pub struct Fields<'b> {
    /// The block's bytes.
    pub bytes: &'b [u8],
    /// All fields of the first record, then of the second, and so on.
    pub spans: &'b [Span],
    /// How many fields each record has.
    pub per_record: usize,
    /// Whether all of the block's bytes are UTF-8 as they stand.
    pub clean: bool,
    /// The file's encoding.
    pub charset: &'b Charset,
    /// Where the block's bytes were, if they were decoded before splitting.
    pub map: Option<&'b TextMap>,
    /// How escapes are taken out of text.
    pub format: &'b RecordFormat,
}

/// A value that could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fault {
    /// The row in the block's typed rows, 0-based.
    pub row: u32,
    /// The column among those that are read, 0-based.
    pub column: u32,
    /// What is wrong.
    pub code: Code,
    /// The field; a missing one for a value that is computed.
    pub span: Span,
    /// The text of a value that is computed.
    pub made: Option<Piece>,
}

/// Where a column's results go.
pub struct Results<'o> {
    /// The column among those that are read, 0-based.
    pub column: u32,
    /// One for each record.
    pub cells: &'o mut [Cell],
    /// Values that differ from what the file says.
    pub store: &'o mut Vec<u8>,
    /// What cannot be read; its cell is null.
    pub faults: &'o mut Vec<Fault>,
    /// What was changed.
    pub changes: &'o mut Vec<Change>,
}
