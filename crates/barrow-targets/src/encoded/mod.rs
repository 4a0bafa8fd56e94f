//! A batch's rows in the form in which a database takes them. The workers make it, so that
//! the thread that talks to the database only sends.

pub mod lines;
pub mod rows;

use barrow_core::pipeline::Encoded;
use barrow_core::values::Piece;

use self::lines::Lines;
use crate::error::Error;

/// A batch with its rows encoded, for each of its parts.
pub type EncodedBatch = Encoded<Vec<EncodedPart>>;

/// Puts the rows of a batch into a database's form.
pub type Encoder = Box<dyn Fn(&mut EncodedBatch) + Send + Sync>;

/// The rows of one part.
#[derive(Debug, Default)]
pub enum EncodedPart {
    /// They are not loaded.
    #[default]
    Nothing,
    /// Bytes in a server's wire form, row after row.
    Lines(Lines),
    /// Values that are bound to a statement, row after row.
    Slots(Vec<Slot>),
}

/// A value to bind; text is a place in the batch.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Slot {
    /// Null.
    Null,
    /// An integer.
    Int(i64),
    /// A floating point number.
    Float(f64),
    /// Text.
    Text(Piece),
    /// Bytes.
    Bytes(Piece),
    /// The column would not keep the value as it is.
    Lossy,
    /// Null, in place of which the database would put a number of its own.
    Numbered,
}

/// Takes what a part had encoded before, so that its memory is used again.
pub fn spare(batch: &mut EncodedBatch, part: usize) -> EncodedPart {
    let parts = batch.batch.parts.len();
    batch.encoded.resize_with(parts, EncodedPart::default);
    std::mem::take(&mut batch.encoded[part])
}

/// A bug: an encoder of another database was used.
pub fn not_encoded() -> Error {
    Error::new("rows came that were not encoded for this database; please report this")
}
