//! How a record is laid out: what sets its fields apart, and how it ends.

mod delimited;
mod ending;
mod fixed;
mod keys;

pub use delimited::{DelimitedFormat, Escape, NO_MARKS};
pub use ending::RecordEnd;
pub use fixed::{FieldSlices, FixedFormat};
pub use keys::{KeyField, KeyNode, KeyPath, KeyTree};

/// The longest delimiter, quote or record end that a spec may have, in bytes.
pub const LONGEST_MARK: usize = 64;

/// A layout: with the marks as text in a plan, as bytes in the reading of a file.
///
/// A new layout is a variant here, and its answers in `records::framing` (where records
/// end), `records::layout` (what a record's fields are) and `export::record` (how one is
/// written).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordFormat {
    /// Fields set apart by a delimiter.
    Delimited(DelimitedFormat),
    /// Fields of a set width.
    Fixed(FixedFormat),
    /// Fields that each record names: JSON objects.
    Json,
}

impl RecordFormat {
    /// What sets fields apart, if a delimiter does.
    pub fn delimited(&self) -> Option<&DelimitedFormat> {
        match self {
            RecordFormat::Delimited(delimited) => Some(delimited),
            RecordFormat::Fixed(_) | RecordFormat::Json => None,
        }
    }

    /// Whether each record names its fields.
    pub fn names_fields(&self) -> bool {
        *self == RecordFormat::Json
    }

    /// The widths' measure, if fields have a set width.
    pub fn fixed(&self) -> Option<&FixedFormat> {
        match self {
            RecordFormat::Fixed(fixed) => Some(fixed),
            RecordFormat::Delimited(_) | RecordFormat::Json => None,
        }
    }
}
