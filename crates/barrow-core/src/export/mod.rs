//! The way out: typed rows become the records of the format that a spec describes.
//!
//! Nothing is written that would not be read back the same by the same spec. A value for
//! which that cannot be told at a glance is read again by its column's own reader; where
//! that gives another value, it is a fault, or a repair that the spec asked for.

mod column;
mod column_mapping;
mod compress;
mod encode;
mod fixed;
mod lines;
mod marks;
mod moment;
mod number;
mod record;
mod refusal;
mod row_typer;

pub use column_mapping::ColumnMapping;
pub use compress::Compressor;
pub use lines::{Lines, StatedTotals};
pub use record::{RecordWriter, Unfit, Written};
pub use refusal::Refusal;
pub use row_typer::{Misfit, RawValue, RowBatch, RowTyper};
